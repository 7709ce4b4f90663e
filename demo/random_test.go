package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"osprey/project"
)

// A selection is a field of a made-up operation.
type selection struct {
	alias, name string
	args        arguments
	on          string // the type of the fragment it stands in, or ""
	below       []selection
}

var kindTypes = map[string]string{"cargo": "CargoShip", "tanker": "Tanker", "ferry": "Ferry", "tug": "Tug"}

// invent makes up what to select of a type.
func (o *oracle) invent(r *rand.Rand, typ string, depth int) []selection {
	var list []selection
	names := slices.Sorted(maps.Keys(o.fields[typ]))
	for len(list) == 0 {
		for _, name := range names {
			f := o.fields[typ][name]
			if f.leaf == nil && (depth == 0 || r.IntN(3) > 0) || f.leaf != nil && r.IntN(2) > 0 {
				continue
			}
			list = append(list, o.inventField(r, typ, name, depth, len(list)))
		}
		if depth == 0 && !slices.ContainsFunc(names, func(n string) bool { return o.fields[typ][n].leaf != nil }) {
			return []selection{{name: "__typename"}}
		}
	}
	if typ == "Craft" && r.IntN(2) == 0 {
		list = append(list, selection{name: "__typename"})
		for _, concrete := range []string{"Tanker", "Ferry", "Tug"} {
			for _, name := range slices.Sorted(maps.Keys(o.fields[concrete])) {
				if _, shared := o.fields["Craft"][name]; !shared && (o.fields[concrete][name].leaf != nil || depth > 0) {
					s := o.inventField(r, concrete, name, depth, 100+len(list))
					s.on = concrete
					list = append(list, s)
				}
			}
		}
	}
	return list
}

func (o *oracle) inventField(r *rand.Rand, typ, name string, depth, n int) selection {
	f := o.fields[typ][name]
	s := selection{name: name}
	if r.IntN(5) == 0 {
		s.alias = fmt.Sprintf("a%d", n)
	}
	if f.args != nil {
		s.args = f.args(r)
	}
	if f.leaf == nil {
		s.below = o.invent(r, f.target, depth-1)
	}
	return s
}

func write(b *strings.Builder, list []selection) {
	b.WriteString("{ ")
	for _, s := range list {
		if s.on != "" {
			b.WriteString("... on " + s.on + " { ")
		}
		if s.alias != "" {
			b.WriteString(s.alias + ": ")
		}
		b.WriteString(s.name + s.args.String() + " ")
		if s.below != nil {
			write(b, s.below)
		}
		if s.on != "" {
			b.WriteString("} ")
		}
	}
	b.WriteString("} ")
}

// answer walks the records.
func (o *oracle) answer(typ string, v any, list []selection) map[string]any {
	object := map[string]any{}
	concrete := typ
	if c, ok := v.(*craft); ok && typ != "Inspector" {
		concrete = kindTypes[c.kind]
	}
	for _, s := range list {
		if s.on != "" && s.on != concrete {
			continue
		}
		key := s.name
		if s.alias != "" {
			key = s.alias
		}
		if s.name == "__typename" {
			object[key] = concrete
			continue
		}
		f := o.fields[concrete][s.name]
		switch {
		case f.leaf != nil:
			object[key] = f.leaf(v)
		case f.many:
			items := []any{}
			for _, item := range f.to(v, s.args) {
				items = append(items, o.answer(f.target, item, s.below))
			}
			object[key] = items
		default:
			object[key] = nil
			if found := f.to(v, s.args); len(found) > 0 {
				object[key] = o.answer(f.target, found[0], s.below)
			}
		}
	}
	return object
}

// TestRandomOperations makes operations up, and compares the engine's answers
// with those of walking the records one by one; the store requests with what
// was explained; and the statements with what PostgreSQL counted.
func TestRandomOperations(t *testing.T) {
	for _, name := range Addresses {
		t.Setenv(name, "")
	}
	dir, err := os.MkdirTemp("/var/tmp", "osprey-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	program, err := filepath.Abs("../bin/osprey-documents")
	if err != nil {
		t.Fatal(err)
	}
	h, err := Start(context.Background(), Options{State: dir, Documents: program})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Stop)
	for name, value := range h.Environ() {
		t.Setenv(name, value)
	}
	p, findings, err := project.Open(context.Background(), "harbour", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	t.Cleanup(p.Close)
	counter, err := pgx.Connect(context.Background(), h.RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { counter.Close(context.Background()) })
	if _, err := counter.Exec(context.Background(), `CREATE EXTENSION IF NOT EXISTS pg_stat_statements`); err != nil {
		t.Fatal(err)
	}

	o := newOracle(makePort(1))
	r := rand.New(rand.NewPCG(1, 2))
	for i := range 150 {
		depth := 4
		if i%5 == 4 {
			depth = 2 // of many records
		}
		list := o.invent(r, "Query", depth)
		list = list[:min(len(list), 2)]
		if depth == 2 {
			list = []selection{o.inventField(r, "Query", []string{"portCalls", "fleet"}[r.IntN(2)], depth, 0)}
			list[0].args["limit"] = 50 + r.IntN(2500)
		}
		var b strings.Builder
		write(&b, list)
		q := &project.Request{Query: b.String()}
		explained, faults := p.Revision().Explain(q)
		if faults != nil {
			t.Fatalf("%d: %s\nis refused: %+v", i, q.Query, faults)
		}
		if _, err := counter.Exec(context.Background(), `SELECT pg_stat_statements_reset()`); err != nil {
			t.Fatal(err)
		}
		h.Tides.Requests()
		a := p.Revision().Ask(context.Background(), q)
		if len(a.Faults) > 0 {
			t.Fatalf("%d: %s\nhas errors: %+v", i, q.Query, a.Faults)
		}
		want, err := json.Marshal(o.answer("Query", nil, list))
		if err != nil {
			t.Fatal(err)
		}
		t.Logf("%d requests, %d bytes: %.150s", explained.Requests, len(a.Data), q.Query)
		if got := canonical(t, a.Data); !bytes.Equal(got, canonical(t, want)) {
			t.Fatalf("%d: %s\nanswers %s\nwant    %s\n%s", i, q.Query, clip(got), clip(canonical(t, want)), a.Plan)
		}
		total, statements, tides := 0, 0, 0
		for _, c := range a.Requests {
			total += c.RoundTrips
			switch c.Source {
			case "registry":
				statements += c.RoundTrips
			case "tides":
				tides += c.RoundTrips
			}
		}
		if total > explained.Requests {
			t.Errorf("%d: %s\nmade %d requests, explained %d", i, q.Query, total, explained.Requests)
		}
		if got := len(h.Tides.Requests()); got != tides {
			t.Errorf("%d: %s\nthe tide office got %d requests, told %d", i, q.Query, got, tides)
		}
		var counted int
		if err := counter.QueryRow(context.Background(), `SELECT COALESCE(sum(calls), 0)::int FROM pg_stat_statements WHERE dbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND query NOT ILIKE '%pg_stat_statements%'`).Scan(&counted); err != nil {
			t.Fatal(err)
		}
		if counted != statements {
			t.Errorf("%d: %s\nPostgreSQL ran %d statements, told %d", i, q.Query, counted, statements)
		}
	}
}

// canonical writes JSON with its keys in order.
func canonical(t *testing.T, text []byte) []byte {
	t.Helper()
	var v any
	if err := json.Unmarshal(text, &v); err != nil {
		t.Fatal(err)
	}
	out, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func clip(text []byte) []byte { return text[:min(len(text), 4000)] }
