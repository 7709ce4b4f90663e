package binding_test

import (
	"fmt"
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/schema"
	"osprey/core/store"
)

// BenchmarkResolve binds 2,000 types, each with a filter, sort keys, pages and two relationships.
func BenchmarkResolve(b *testing.B) {
	const types = 2000
	var text strings.Builder
	sets := map[string]*store.Set{}
	text.WriteString("type Query {\n")
	for i := range types {
		fmt.Fprintf(&text, "  t%d(filter: T%[1]dFilter, sort: [T%[1]dSort!], first: Int, after: String): T%[1]dConnection @read\n", i)
	}
	text.WriteString("}\n")
	for i := range types {
		fmt.Fprintf(&text, "type T%d @stored(in: \"db\", as: \"t%[1]d\", key: \"id\") {\n  id: ID!\n  name: String\n  size: Int\n  at: DateTime\n  next: T%d @related(here: \"next_id\")\n  before: [T%d!] @related(there: \"next_id\")\n}\n", i, (i+1)%types, (i+types-1)%types)
		sets[fmt.Sprint("t", i)] = &store.Set{Name: fmt.Sprint("t", i), Keys: [][]string{{"id"}}, Index: [][]string{{"id"}, {"next_id"}}, Fields: []store.Field{
			{Name: "id", Kind: store.Int}, {Name: "name", Kind: store.Text, Nullable: true}, {Name: "size", Kind: store.Int, Nullable: true}, {Name: "at", Kind: store.Time, Nullable: true}, {Name: "next_id", Kind: store.Int, Nullable: true}}}
	}
	source := &binding.Source{Name: "db", Kind: "postgres", Naming: binding.Exact, Catalogue: &store.Catalogue{Sets: sets}, Capabilities: store.Capabilities{Fold: true, Group: store.BySource, Page: store.PagePerKey, Aggregate: true, Link: true}}
	texts := []schema.Text{{Name: "types", Body: text.String()}}
	for b.Loop() {
		_, bound, problems := binding.Resolve(texts, map[string]*binding.Source{"db": source})
		if bound == nil || problems.Failed() {
			b.Fatal(problems[0].Msg)
		}
	}
}
