package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"text/tabwriter"

	"osprey/core/binding"
	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/validate"
	"osprey/project"
)

// engine measures what Osprey does without any store: nothing here waits.
func (b *bench) engine(ctx context.Context) error {
	fmt.Println("\nThe engine alone, over records in memory")
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	defer w.Flush()
	fields := newMemoryBoard(1000)
	row := func(what string, each float64, unit string, f func(b *testing.B)) {
		var times []float64
		var r testing.BenchmarkResult
		for range b.rounds {
			r = testing.Benchmark(f)
			times = append(times, float64(r.NsPerOp())/each)
		}
		slices.Sort(times)
		ns := times[len(times)/2]
		time := fmt.Sprintf("%.0f ns", ns)
		if ns >= 10_000 {
			time = fmt.Sprintf("%.1f µs", ns/1e3)
		}
		fmt.Fprintf(w, "  %s\t%s\t%.4f allocations %s\n", what, time, float64(r.AllocsPerOp())/each, unit)
	}
	row("run a plan of 1,000 calls and their craft", fields.fields, "a field", fields.run)
	row("the same by hand, structs and an append writer", fields.fields, "a field", fields.append)
	row("the same by hand, structs and encoding/json", fields.fields, "a field", fields.marshal)

	for name, value := range b.harbour.Environ() {
		os.Setenv(name, value)
	}
	p, _, err := project.Open(ctx, projectDir, nil)
	if err != nil {
		return err
	}
	defer p.Close()
	text, err := os.ReadFile(filepath.Join(projectDir, "operations", "Board.graphql"))
	if err != nil {
		return err
	}
	board := string(text)
	doc, _ := language.Parse(language.NewSource("", board))
	op := doc.Definitions[0].(*language.Operation)
	vars := map[string]schema.Value{"limit": int64(25)}
	revision := p.Revision()
	row("plan the arrivals board, seen before", 1, "an operation", func(t *testing.B) {
		t.ReportAllocs()
		for t.Loop() {
			if _, _, faults := revision.Plan(&project.Request{Query: board}); faults != nil {
				t.Fatal(faults)
			}
		}
	})
	row("plan it, new", 1, "an operation", func(t *testing.B) {
		t.ReportAllocs()
		for t.Loop() {
			plan.Build(revision.Bound, doc, op, vars, nil)
		}
	})
	long := longOperation()
	kilobytes := float64(len(long)) / 1000
	parsed, _ := language.Parse(language.NewSource("", long))
	row("parse", kilobytes, "a kilobyte", func(t *testing.B) {
		t.ReportAllocs()
		for t.Loop() {
			if _, problems := language.Parse(language.NewSource("", long)); problems.Failed() {
				t.Fatal(problems)
			}
		}
	})
	row("validate", kilobytes, "a kilobyte", func(t *testing.B) {
		t.ReportAllocs()
		for t.Loop() {
			if problems := validate.Document(revision.Schema, parsed); problems.Failed() {
				t.Fatal(problems)
			}
		}
	})
	types, sources := largeSchema(2000)
	row("check a schema of 2,000 types", 1, "", func(t *testing.B) {
		t.ReportAllocs()
		for t.Loop() {
			s, problems := schema.Build(binding.Directives, types)
			if problems.Failed() {
				t.Fatal(problems[0])
			}
			if _, problems := binding.Bind(s, sources); problems.Failed() {
				t.Fatal(problems[0])
			}
		}
	})
	row("swap the revision of the harbour", 1, "", func(t *testing.B) {
		t.ReportAllocs()
		for t.Loop() {
			if _, err := p.Load(); err != nil {
				t.Fatal(err)
			}
		}
	})
	return nil
}

// longOperation writes the harbour's board many times over, in fragments.
func longOperation() string {
	var text strings.Builder
	text.WriteString("query Long($limit: Int = 5) {\n")
	for i := range 40 {
		fmt.Fprintf(&text, "  board%d: portCalls(limit: $limit, sort: [{arrivedAt: DESC}]) { ...Call%d }\n", i, i)
	}
	text.WriteString("}\n")
	for i := range 40 {
		fmt.Fprintf(&text, `fragment Call%d on PortCall {
  id arrivedAt purpose
  craft { __typename imo name operator { name country } ... on Tanker { doubleHull } ... on Ferry { passengers } inspections(limit: 3, outcome: PASSED) { heldOn outcome findings { code severity } } }
  berth { name quay { name } }
  pilots { name licence }
}
`, i)
	}
	return text.String()
}

// largeSchema writes a schema of n types that refer to one another, and the
// sources that it is stored in.
func largeSchema(n int) (schema.Text, map[string]*binding.Source) {
	catalogue := &store.Catalogue{Sets: map[string]*store.Set{}}
	var text strings.Builder
	text.WriteString("type Query { log0(id: ID!): Log0 @read }\n")
	for i := range n {
		fmt.Fprintf(&text, "\"Log book %d.\"\ntype Log%d @stored(in: \"registry\", as: \"log%d\", key: \"id\") { id: ID! name: String! depth: Float at: DateTime next: Log%d @related(here: \"next_id\") before: [Log%d!]! @related(there: \"next_id\", sort: \"name\") }\n", i, i, i, (i+1)%n, (i+n-1)%n)
		catalogue.Sets["log"+strconv.Itoa(i)] = &store.Set{Name: "log" + strconv.Itoa(i), What: "table", Keys: [][]string{{"id"}}, Index: [][]string{{"id"}, {"next_id"}}, Fields: []store.Field{
			{Name: "id", Type: "integer", Kind: store.Int}, {Name: "name", Type: "text", Kind: store.Text}, {Name: "depth", Type: "double precision", Kind: store.Float, Nullable: true},
			{Name: "at", Type: "timestamp with time zone", Kind: store.Time, Nullable: true}, {Name: "next_id", Type: "integer", Kind: store.Int, Nullable: true},
		}}
	}
	capabilities := store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey}
	return schema.Text{Name: "log.graphql", Body: text.String()}, map[string]*binding.Source{"registry": {Name: "registry", Naming: binding.Snake, Capabilities: capabilities, Catalogue: catalogue}}
}

// A memoryBoard is calls and craft in memory, as a store's answer and as
// structs.
type memoryBoard struct {
	plan   *plan.Plan
	calls  []memoryCall
	fields float64 // of the answer
}

type memoryCall struct {
	ID        int64        `json:"id,string"`
	ArrivedAt string       `json:"arrivedAt"`
	Purpose   string       `json:"purpose"`
	Craft     *memoryCraft `json:"craft"`
}

type memoryCraft struct {
	IMO     int64   `json:"imo,string"`
	Name    string  `json:"name"`
	LengthM float64 `json:"lengthM"`
	Ice     bool    `json:"ice"`
}

const memorySchema = `
type Query { calls: [Call!]! @read }
type Call @stored(in: "memory", as: "calls", key: "id") { id: ID! arrivedAt: DateTime! purpose: String! craft: Craft! @related(here: "craft_imo") }
type Craft @stored(in: "memory", as: "craft", key: "imo") { imo: ID! name: String! lengthM: Float! ice: Boolean! }
`

// newMemoryBoard makes n calls of n craft.
func newMemoryBoard(n int) *memoryBoard {
	b := &memoryBoard{fields: float64(n * 8)}
	s, problems := schema.Build(binding.Directives, schema.Text{Body: memorySchema})
	if problems.Failed() {
		panic(problems)
	}
	capabilities := store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey}
	bound, problems := binding.Bind(s, map[string]*binding.Source{"memory": {Name: "memory", Naming: binding.Snake, Capabilities: capabilities}})
	if problems.Failed() {
		panic(problems)
	}
	doc, _ := language.Parse(language.NewSource("", `{ calls { id arrivedAt purpose craft { imo name lengthM ice } } }`))
	answer := &store.Answer{Requests: 1}
	b.plan = plan.Build(bound, doc, doc.Definitions[0].(*language.Operation), nil, func(_ string, reads []*store.Read) (store.Request, error) {
		for _, read := range reads {
			answer.Tables = append(answer.Tables, store.NewTable(read.Columns))
		}
		answer.Tables[1].Child = []int32{}
		return fixedAnswer{answer}, nil
	})
	calls, craft := answer.Tables[0], answer.Tables[1]
	for i := range n {
		at := int64(1_772_000_000_000_000 + i*1_000_000)
		call := memoryCall{int64(i), store.FormatTime(at), "unload", &memoryCraft{int64(9100000 + i), "Northern Lantern", float64(300+i%2400) / 10, i%3 == 0}}
		b.calls = append(b.calls, call)
		calls.Columns[0].AppendText(strconv.Itoa(i))
		calls.Columns[1].AppendInt(at)
		calls.Columns[2].AppendText(call.Purpose)
		craft.Columns[0].AppendText(strconv.FormatInt(call.Craft.IMO, 10))
		craft.Columns[1].AppendText(call.Craft.Name)
		craft.Columns[2].AppendFloat(call.Craft.LengthM)
		craft.Columns[3].AppendInt(map[bool]int64{true: 1}[call.Craft.Ice])
		craft.Child = append(craft.Child, int32(i))
	}
	calls.Len, craft.Len = n, n
	return b
}

// A fixedAnswer is a store request that has its answer already.
type fixedAnswer struct{ answer *store.Answer }

func (f fixedAnswer) Describe() store.Description { return store.Description{Asks: "calls with craft"} }

func (f fixedAnswer) Run(context.Context, *store.Caller, []store.Input) (*store.Answer, error) {
	return f.answer, nil
}

func (b *memoryBoard) run(t *testing.B) {
	t.ReportAllocs()
	for t.Loop() {
		r := execute.Run(context.Background(), b.plan, nil, execute.Options{})
		if len(r.Errors) > 0 || len(r.Data) < 100 {
			t.Fatalf("%.200s", r.Data)
		}
		r.Free()
	}
}

func (b *memoryBoard) marshal(t *testing.B) {
	t.ReportAllocs()
	for t.Loop() {
		if _, err := json.Marshal(map[string]any{"calls": b.calls}); err != nil {
			t.Fatal(err)
		}
	}
}

func (b *memoryBoard) append(t *testing.B) {
	t.ReportAllocs()
	var buf []byte
	for t.Loop() {
		buf = append(buf[:0], `{"calls":[`...)
		for i := range b.calls {
			c := &b.calls[i]
			if i > 0 {
				buf = append(buf, ',')
			}
			buf = append(buf, `{"id":"`...)
			buf = strconv.AppendInt(buf, c.ID, 10)
			buf = append(buf, `","arrivedAt":"`...)
			buf = append(buf, c.ArrivedAt...)
			buf = append(buf, `","purpose":`...)
			buf = strconv.AppendQuote(buf, c.Purpose)
			buf = append(buf, `,"craft":{"imo":"`...)
			buf = strconv.AppendInt(buf, c.Craft.IMO, 10)
			buf = append(buf, `","name":`...)
			buf = strconv.AppendQuote(buf, c.Craft.Name)
			buf = append(buf, `,"lengthM":`...)
			buf = strconv.AppendFloat(buf, c.Craft.LengthM, 'f', -1, 64)
			buf = append(buf, `,"ice":`...)
			buf = strconv.AppendBool(buf, c.Craft.Ice)
			buf = append(buf, "}}"...)
		}
		buf = append(buf, "]}"...)
	}
}
