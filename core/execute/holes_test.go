package execute_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"osprey/core/execute"
	"osprey/core/execute/executetest"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/store"
	"osprey/core/store/storetest"
	"osprey/core/validate"
)

// This file builds whole projects at random, over data with holes: values that
// are missing, enum values that the schema does not know, references that lead
// nowhere, records of no known type. Whatever is asked of them, the answer is
// JSON of the shape that was asked for.

// TestSharedTextAfterCut holds that what was written of a shared record is
// forgotten when null cuts the answer back.
func TestSharedTextAfterCut(t *testing.T) {
	const types = `
type Query { shelves: [Shelf!]! @read }
type Shelf @stored(in: "a", as: "shelves", key: "id") { id: ID! notes: [Note!] @related(here: "id", there: "shelf_id") }
type Note @stored(in: "a", as: "notes", key: "id") { author: Author @related(here: "author_id") grade: Grade! }
type Author @stored(in: "b", as: "authors", key: "id") { id: ID! name: String! post: String! }
enum Grade { GOOD @at(path: "good") POOR @at(path: "poor") }
`
	e := newEngineOf(t, types, map[string]*storetest.Memory{
		"a": storetest.NewMemory("shelves: id int!\nnotes: id int! shelf_id int author_id int grade text", map[string]string{
			"shelves": `[{"id": 1}, {"id": 2}, {"id": 3}]`,
			"notes": `[{"id": 1, "shelf_id": 1, "author_id": 1, "grade": "good"}, {"id": 2, "shelf_id": 1, "author_id": 2, "grade": "odd"},
				{"id": 3, "shelf_id": 2, "author_id": 2, "grade": "good"}, {"id": 4, "shelf_id": 2, "author_id": 1, "grade": "poor"},
				{"id": 5, "shelf_id": 3, "author_id": 1, "grade": "good"}]`,
		}),
		"b": storetest.NewMemory("authors: id int! name text post text", map[string]string{
			"authors": `[{"id": 1, "name": "Oda", "post": "harbour master"}, {"id": 2, "name": "Pim", "post": "clerk"}]`,
		}),
	})
	data, errs := e.ask(t, `{ shelves { id notes { author { name post } grade } } }`)
	const want = `{"shelves":[{"id":"1","notes":null},` +
		`{"id":"2","notes":[{"author":{"name":"Pim","post":"clerk"},"grade":"GOOD"},{"author":{"name":"Oda","post":"harbour master"},"grade":"POOR"}]},` +
		`{"id":"3","notes":[{"author":{"name":"Oda","post":"harbour master"},"grade":"GOOD"}]}]}`
	if data != want || !strings.Contains(errs, `BAD_VALUE [shelves 0 notes 1 grade]`) {
		t.Errorf("answers %s\n%s\nwant    %s", data, errs, want)
	}
}

// holes makes projects, records and operations at random.
type holes struct {
	r     *rand.Rand
	types int
	loose bool // nothing is required, so that answers can be sent in parts
	// field has the fields of each type as an operation can ask for them: the
	// name, and the type below it, or -1 for a leaf; -2 for a nested record, -3
	// for any of the types, -4 for a page of the type "of".
	field [][]holeField
	roots []holeField
}

type holeField struct {
	name string
	to   int
	of   int
}

const (
	leaf   = -1
	nested = -2
	either = -3
	paged  = -4
)

// required puts "!" behind a type, more or less often.
func (h *holes) required(t string) string {
	if !h.loose && h.r.IntN(3) > 0 {
		return t + "!"
	}
	return t
}

// schema writes the types.
func (h *holes) schema() string {
	var s, query strings.Builder
	s.WriteString("enum Grade { GOOD @at(path: \"good\") POOR @at(path: \"poor\") }\n")
	fmt.Fprintf(&s, "type Nested { sign: %s list: %s deep: %s }\ntype Deep { n: %s grade: %s }\n",
		h.required("String"), h.required("["+h.required("Int")+"]"), h.required("["+h.required("Deep")+"]"), h.required("Int"), h.required("Grade"))
	var members []string
	query.WriteString("type Query {\n")
	root := func(name, typ, rest string, to, of int) {
		fmt.Fprintf(&query, "  %s: %s %s\n", name, h.required(typ), rest)
		h.roots = append(h.roots, holeField{strings.SplitN(name, "(", 2)[0], to, of})
	}
	for i := range h.types {
		fmt.Fprintf(&s, "type T%d @stored(in: %q, as: \"t%d\", key: \"id\") {\n  id: ID!\n", i, []string{"a", "b", "c"}[i%3], i)
		members = append(members, fmt.Sprintf("T%d", i))
		fields := []holeField{{"id", leaf, 0}}
		add := func(name, typ, rest string, to, of int) {
			fmt.Fprintf(&s, "  %s: %s %s\n", name, h.required(typ), rest)
			fields = append(fields, holeField{name, to, of})
		}
		add("s", "String", "", leaf, 0)
		add("grade", "Grade", "", leaf, 0)
		add("list", "["+h.required("Int")+"]", "", leaf, 0)
		add("nest", "Nested", "", nested, 0)
		add("half", "Float", `@computed(expr: "record.n / 2.0")`, leaf, 0)
		fmt.Fprintf(&s, "  n: Float\n")
		to := h.r.IntN(h.types)
		add("ref", fmt.Sprintf("T%d", to), `@related(here: "ref_id")`, to, 0)
		from := h.r.IntN(h.types)
		add("back", "["+h.required(fmt.Sprintf("T%d", from))+"]", `@related(here: "id", there: "ref_id")`, from, 0)
		add("pages", fmt.Sprintf("T%dConnection", from), `@related(here: "id", there: "ref_id")`, paged, from)
		add("any", "Any", `@related(here: "ref_id", there: "id") @kind(by: "kind")`, either, 0)
		s.WriteString("}\n")
		h.field = append(h.field, fields)
		root(fmt.Sprintf("all%d", i), fmt.Sprintf("[%s]", h.required(fmt.Sprintf("T%d", i))), "@read", i, 0)
	}
	root("some", "["+h.required("Any")+"]", "@read", either, 0)
	root("one(id: ID!)", "T0", "@read", 0, 0)
	fmt.Fprintf(&s, "union Any = %s\n", strings.Join(members, " | "))
	return s.String() + query.String() + "}\n"
}

// value returns a JSON value, or null at times.
func (h *holes) value(text string) string {
	if h.r.IntN(14) == 0 {
		return "null"
	}
	return text
}

func (h *holes) grade() string {
	return h.value([]string{`"good"`, `"poor"`, `"good"`, `"poor"`, `"good"`, `"poor"`, `"odd"`}[h.r.IntN(7)])
}

// stores makes the records.
func (h *holes) stores() map[string]*storetest.Memory {
	catalogues, records := map[string]string{}, map[string]map[string]string{"a": {}, "b": {}, "c": {}}
	for i := range h.types {
		source := []string{"a", "b", "c"}[i%3]
		catalogues[source] += fmt.Sprintf("t%d: id int! s text n float grade text list [int] nest json ref_id int kind text\n", i)
		var list []string
		for id := range h.r.IntN(30) {
			list = append(list, fmt.Sprintf(`{"id": %d, "s": %s, "n": %s, "grade": %s, "list": %s, "ref_id": %s, "kind": %s, "nest": %s}`,
				id, h.value(fmt.Sprintf(`"\"quoted\" %d"`, id)), h.value("1.5"), h.grade(), h.value("[1, "+h.value("2")+"]"),
				h.value(fmt.Sprint(h.r.IntN(12))), h.value(fmt.Sprintf(`"t%d"`, h.r.IntN(h.types+1))), h.nested()))
		}
		records[source][fmt.Sprintf("t%d", i)] = "[" + strings.Join(list, ",") + "]"
	}
	all := map[string]*storetest.Memory{}
	for source, text := range catalogues {
		all[source] = storetest.NewMemory(text, records[source])
		if h.r.IntN(8) == 0 {
			all[source].Fail = func(string) error { return &store.Error{Code: store.Down, Msg: "cannot be reached"} }
		}
	}
	return all
}

func (h *holes) nested() string {
	var deep []string
	for range h.r.IntN(3) {
		deep = append(deep, h.value(fmt.Sprintf(`{"n": %s, "grade": %s}`, h.value("7"), h.grade())))
	}
	return h.value(fmt.Sprintf(`{"sign": %s, "list": [%s], "deep": %s}`, h.value(`"SK"`), h.value("3"), h.value("["+strings.Join(deep, ",")+"]")))
}

// operation writes what is asked.
func (h *holes) operation() string {
	var b strings.Builder
	b.WriteString("{")
	for i := range 1 + h.r.IntN(3) {
		root := h.roots[h.r.IntN(len(h.roots))]
		fmt.Fprintf(&b, " r%d: %s", i, root.name)
		if root.name == "one" {
			fmt.Fprintf(&b, "(id: %d)", h.r.IntN(30))
		}
		b.WriteString(h.below(root, 3))
	}
	return b.String() + " }"
}

func (h *holes) below(f holeField, depth int) string {
	switch f.to {
	case leaf:
		return ""
	case nested:
		return " { sign list deep { n grade } }"
	case either:
		text := " { __typename"
		for _, t := range h.r.Perm(h.types)[:1+h.r.IntN(2)] {
			text += fmt.Sprintf(" ... on T%d { t%d: id ", t, t) + h.fields(t, depth-1, fmt.Sprintf("t%d", t)) + " }"
		}
		return text + " }"
	case paged:
		return " { totalCount edges { cursor node {" + h.fields(f.of, depth-1, "") + " } } pageInfo { hasNextPage } }"
	}
	return " {" + h.fields(f.to, depth-1, "") + " }"
}

// fields writes some fields of a type; prefix keeps those of several types
// apart.
func (h *holes) fields(t, depth int, prefix string) string {
	text := ""
	for i := range 1 + h.r.IntN(4) {
		f := h.field[t][h.r.IntN(len(h.field[t]))]
		if depth <= 0 && f.to != nested {
			f = h.field[t][h.r.IntN(4)]
		}
		text += fmt.Sprintf(" %sf%d: %s%s", prefix, i, f.name, h.below(f, depth))
	}
	return text
}

// TestHoles asks random projects, and FuzzHoles those that a fuzzer thinks of.
func TestHoles(t *testing.T) {
	cut, parts := 0, 0
	for seed := range uint64(120) {
		c, p := askHoles(t, seed)
		cut, parts = cut+c, parts+p
		if t.Failed() {
			return
		}
	}
	if cut < 1000 || parts < 300 {
		t.Errorf("only %d nulls were cut back to, and %d parts sent", cut, parts)
	}
}

func FuzzHoles(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { askHoles(t, seed) })
}

// askHoles builds a project and asks it. It returns how many errors were told,
// and how many parts sent.
func askHoles(t *testing.T, seed uint64) (told, parts int) {
	r := rand.New(rand.NewPCG(seed, 3))
	h := &holes{r: r, types: 3 + r.IntN(3), loose: r.IntN(3) == 0}
	types := h.schema()
	e := newEngineOf(t, types, h.stores())
	for range 12 {
		text := h.operation()
		doc, problems := language.Parse(language.NewSource("", text))
		if len(problems) == 0 {
			problems = validate.Document(e.bound.Schema, doc)
		}
		if len(problems) > 0 {
			t.Fatalf("%s\nreports %q\n%s", text, problems, types)
		}
		op := doc.Definitions[0].(*language.Operation)
		p := plan.Build(e.bound, doc, op, nil, func(source string, reads []*store.Read) (store.Request, error) {
			return e.stores[source].Prepare(nil, reads)
		})
		whole := execute.Run(context.Background(), p, nil, execute.Options{})
		data := string(whole.Data)
		var paths [][]any
		for _, x := range whole.Errors {
			paths = append(paths, x.Path)
			told += 1 + x.More
		}
		if err := executetest.Fits(e.bound.Schema, doc, op, nil, []byte(data), paths); err != nil {
			t.Errorf("seed %d: %s\n%v\n%s\n%v\n%s", seed, text, err, data, paths, types)
			return
		}
		whole.Free()
		var sent []byte
		again := execute.Run(context.Background(), p, nil, execute.Options{Part: 1 + r.IntN(300), Send: func(part []byte) error {
			parts++
			sent = append(sent, part...)
			return nil
		}})
		if sent = append(sent, again.Whole...); string(sent) != data || again.Broken || !json.Valid(sent) {
			t.Errorf("seed %d: %s\nis sent as\n%s\nwant\n%s", seed, text, sent, data)
			return
		}
		again.Free()
	}
	return told, parts
}
