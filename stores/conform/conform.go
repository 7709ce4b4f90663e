// Package conform is the suite that every kind of store passes: the same data,
// the same types and the same operations give the same answers, whatever the
// store does by itself and whatever is left to the engine. What is right is
// told by a store in memory that can do nothing, so that the engine does it
// all.
//
// A source is put to it by [Run], in its own test. It must hold the record sets
// owners and vessels, with the fields of [Fields] and the records of [Data], under
// the same names; [Catalogue] is how it then tells what it holds. Fields that it has
// no kind for are left out by their names.
package conform

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/execute"
	"osprey/core/execute/executetest"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
	"osprey/core/validate"
)

// An Engine answers operations on its sources.
type Engine struct {
	schema  *schema.Schema
	bound   *binding.Bound
	sources map[string]store.Source
}

// New binds the suite's types to a store that holds its data.
func New(t testing.TB, source store.Source, without ...string) *Engine {
	t.Helper()
	return NewEngine(t, schemaWithout(without), map[string]store.Source{"s": source})
}

// Schema is what the engine answers by, with what was supplied.
func (e *Engine) Schema() *schema.Schema { return e.schema }

// NewEngine binds types to sources. The catalogues of those that are down are not
// known, as of a store that has not answered yet.
func NewEngine(t testing.TB, types string, sources map[string]store.Source, down ...string) *Engine {
	t.Helper()
	e := &Engine{sources: sources}
	known := map[string]*binding.Source{}
	for name, source := range sources {
		catalogue, err := source.Catalogue(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		for _, set := range catalogue.Sets {
			set.Sampled = true // so that what the schema requires may be missing
		}
		if slices.Contains(down, name) {
			catalogue = nil
		}
		known[name] = &binding.Source{Name: name, Kind: "test", Naming: binding.Exact, Capabilities: source.Capabilities(), Catalogue: catalogue}
	}
	var problems language.Problems
	e.schema, e.bound, problems = binding.Resolve([]schema.Text{{Name: "suite.graphql", Body: types}}, known)
	if problems.Failed() {
		t.Fatal(slices.DeleteFunc(problems, func(p *language.Problem) bool { return p.Severity != language.Error }))
	}
	return e
}

// Least returns how many requests an operation needs of each source: see [Least].
func (e *Engine) Least(text string) map[string]int {
	doc, _ := language.Parse(language.NewSource("", text))
	return Least(e.bound, doc.Definitions[0].(*language.Operation))
}

// An Outcome is what an operation came to.
type Outcome struct {
	Data     string
	Errors   []string
	Plan     *plan.Plan
	Requests []execute.StoreRequest
}

// Ask answers an operation.
func (e *Engine) Ask(t testing.TB, text string, variables map[string]any) Outcome {
	t.Helper()
	return e.AskAs(t, nil, text, variables)
}

// AskAs answers an operation of a caller; nil stands for nobody.
func (e *Engine) AskAs(t testing.TB, who *store.Identity, text string, variables map[string]any) Outcome {
	t.Helper()
	doc, problems := language.Parse(language.NewSource("", text))
	if !problems.Failed() {
		problems = validate.Document(e.schema, doc)
	}
	if problems.Failed() {
		t.Fatalf("%s\n%v", text, problems)
	}
	op := doc.Definitions[0].(*language.Operation)
	vars := map[string]schema.Value{}
	for _, v := range op.Variables {
		given, ok := variables[v.Name.Text]
		if !ok {
			continue
		}
		var err error
		if vars[v.Name.Text], err = schema.CoerceJSON(validate.VariableType(e.schema, v.Type), numbered(given)); err != nil {
			t.Fatalf("%s\n%v", text, err)
		}
	}
	p := plan.BuildFor(&plan.Viewer{Schema: e.schema, Who: who}, e.bound, doc, op, vars, func(source string, reads []*store.Read) (store.Request, error) {
		catalogue := e.bound.Sources[source].Catalogue
		if catalogue == nil {
			return nil, store.NotReady(nil)
		}
		return e.sources[source].Prepare(catalogue, reads)
	})
	p.MostRecords(nil, 1000) // what is told of a plan is told of any
	for _, f := range p.Fetches {
		for _, read := range f.Reads {
			p.Most(read, vars)
		}
	}
	_ = p.String()
	result := execute.Run(context.Background(), p, vars, execute.Options{Caller: &store.Caller{Who: who}, MaxPage: 1000, MaxWrites: 1000})
	defer result.Free()
	out := Outcome{Data: string(result.Data), Plan: p, Requests: append([]execute.StoreRequest{}, result.Requests...)}
	for _, c := range out.Requests {
		if c.Err != nil {
			t.Logf("%s: %v", c.Asks, c.Err)
		}
	}
	var paths [][]any
	for _, err := range result.Errors {
		paths = append(paths, err.Path)
		out.Errors = append(out.Errors, fmt.Sprintf("%v %s %s", err.Path, err.Code, err.Msg))
	}
	if err := executetest.Fits(e.schema, doc, op, vars, result.Data, paths); err != nil {
		t.Errorf("%s\ngives %s %v\nwhich %v", text, out.Data, out.Errors, err)
	}
	return out
}

// numbered returns a value as JSON decodes it.
func numbered(v any) any {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	d := json.NewDecoder(strings.NewReader(string(text)))
	d.UseNumber()
	var out any
	if err := d.Decode(&out); err != nil {
		panic(err)
	}
	return out
}

// Catalogue is that of a source that holds the records of [Data] as they are.
func Catalogue() *store.Catalogue { return storetest.Catalogue(catalogueText()) }

func catalogueText() string {
	var catalogue strings.Builder
	for _, name := range Sets[:2] {
		fmt.Fprintf(&catalogue, "%s:", name)
		for _, f := range Fields[name] {
			kind := f[1]
			if f[0] == "id" {
				kind += "!"
			}
			fmt.Fprintf(&catalogue, " %s %s", f[0], kind)
		}
		catalogue.WriteString("\n")
	}
	return catalogue.String()
}

// reference is the store in memory that says what is right.
func reference(t testing.TB, without []string) *Engine {
	records := map[string]string{}
	for name, list := range Data() {
		records[name] = JSON(list)
	}
	return New(t, storetest.NewMemory(catalogueText(), records), without...)
}

// Run puts a store to the suite: the operations written here, and random ones;
// without the fields that the store cannot hold.
func Run(t *testing.T, source store.Source, random int, without ...string) {
	e, right := New(t, source, without...), reference(t, without)
	for _, op := range operations {
		if !mentions(op, without) {
			compare(t, e, right, op, nil)
		}
	}
	compareRandom(t, e, right, random, false, without...)
	walk(t, e, right, without)
	refuse(t, e)
}

func mentions(text string, fields []string) bool {
	return slices.ContainsFunc(fields, func(f string) bool { return strings.Contains(text, f) })
}

func schemaWithout(fields []string) string {
	text := Schema
	for _, f := range fields {
		text = regexp.MustCompile(`(?m)^  `+f+`: .*\n`).ReplaceAllString(text, "")
	}
	return text
}

// Related puts two stores that fold to the same random operations that look at
// related records, which the store in memory cannot do.
func Related(t *testing.T, a, b store.Source, random int) {
	compareRandom(t, NewEngine(t, RelatedSchema, map[string]store.Source{"s": a}), NewEngine(t, RelatedSchema, map[string]store.Source{"s": b}), random, true)
}

func compareRandom(t *testing.T, e, right *Engine, random int, related bool, without ...string) {
	t.Helper()
	for seed := range random {
		g := &generator{r: rand.New(rand.NewPCG(uint64(seed), 3)), related: related}
		op := g.operation()
		if mentions(op, without) {
			continue
		}
		compare(t, e, right, op, nil)
		if text, vars := hoisted(op); vars != nil {
			compare(t, e, right, text, vars)
			if got, want := e.Ask(t, text, vars).Data, right.Ask(t, op, nil).Data; hidden(got) != hidden(want) {
				t.Errorf("%s\nwith %v gives %s\nand written out %s", text, vars, got, want)
			}
		}
		if t.Failed() {
			t.Fatalf("that was random operation %d", seed)
		}
	}
}

// compare holds an operation's answer, and the number of its requests, against
// what is right.
func compare(t *testing.T, e, right *Engine, text string, vars map[string]any) {
	t.Helper()
	got, want := e.Ask(t, text, vars), right.Ask(t, text, vars)
	if hidden(got.Data) != hidden(want.Data) || fmt.Sprint(got.Errors) != fmt.Sprint(want.Errors) {
		t.Errorf("%s\ngives  %s %v\nwant   %s %v\nplan %s", text, got.Data, got.Errors, want.Data, want.Errors, got.Plan)
		for _, f := range got.Plan.Fetches {
			if f.Request != nil {
				t.Log(f.Request.Describe().Statement)
			}
		}
	}
	trips := 0
	for _, c := range got.Requests {
		trips += c.RoundTrips
	}
	if trips > got.Plan.Requests() && !got.Plan.Several {
		t.Errorf("%s: %d store requests, and the plan has %d", text, trips, got.Plan.Requests())
	}
}

var cursors = regexp.MustCompile(`([cC]ursor)":"[^"]*"`)

// hidden returns an answer without the texts of cursors, which are the store's
// own: of the key by which it tells records apart.
func hidden(data string) string { return cursors.ReplaceAllString(data, `$1":"…"`) }

// operations are what a store must at least get right.
var operations = []string{
	`{ vessels { id code name length built seen active grade price big owner { id name } } }`,
	`{ vessel(id: 7) { code } none: vessel(id: 4711) { code } }`,
	`{ vessels(id: [3, "5", 90, 91, 3]) { id } one: vessels(grade: SECOND, limit: 4) { id grade } }`,
	`{ owners { name parent { name parent { name parent { name } } } children { name children(limit: 1) { name } } } }`,
	`{ owners { id vessels(limit: 2, sort: [{length: DESC}]) { id length owner { id } } } }`,
	`{ owners { id vessels(offset: 1, limit: 3, sort: [{name: ASC_NULLS_LAST}, {built: DESC}]) { id name built } } }`,
	`{ owners { id size longest mean few: size(filter: {length: {above: 60}}) } }`,
	`{ fleet(first: 1) { totalCount } owners { fleet { __typename totalCount } } }`,
	`{ vesselCount longest first lengths mean none: longest(filter: {code: {is: "?"}}) all: vesselCount(filter: {any: []}) }`,
	`{ owners(limit: 5) { fleet { totalCount edges { node { id } } pageInfo { hasNextPage hasPreviousPage } } back: fleet(last: 2) { edges { node { id } } pageInfo { hasNextPage hasPreviousPage } } } }`,
	`{ vessels(filter: {name: {contains: "%"}}) { id } a: vessels(filter: {name: {contains: "_"}}) { id } b: vessels(filter: {name: {startsWith: "a"}}) { id } c: vessels(filter: {name: {endsWith: " "}}) { id } d: vessels(filter: {name: {contains: "\\"}}) { id } e: vessels(filter: {name: {endsWith: "*c"}}) { id } f: vessels(filter: {name: {contains: ""}}) { id } }`,
	`{ vessels(filter: {big: {is: 9007199254740993}}) { id } a: vessels(filter: {big: {above: "9007199254740992"}}) { id big } }`,
	`{ vessels(filter: {price: {atLeast: "3.05", below: "9.15"}}) { id price } a: vessels(filter: {price: {is: "-1.250"}}) { id price } }`,
	`{ vessels(filter: {built: {in: ["2019-05-03", "2019-05-09"]}}) { id } a: vessels(filter: {seen: {above: "2019-05-10T12:00:00+02:00"}}) { id seen } }`,
	`{ vessels(filter: {not: {any: [{active: {is: true}}, {grade: {in: [FIRST, SECOND]}}]}}) { id active grade } }`,
	`{ vessels(filter: {length: {isNot: 20}, grade: {notIn: [THIRD]}}) { id } }`,
	`{ vessels(filter: {name: {missing: true}}) { id } a: vessels(filter: {name: {is: null}}) { id } b: vessels(filter: {name: {missing: false, is: ""}}) { id } }`,
	`{ vessels(sort: [{grade: DESC_NULLS_FIRST}, {length: ASC}], limit: 40, offset: 3) { id } }`,
	`{ vessels(limit: 0) { id } owners(offset: 11) { id } a: owners(offset: 50) { id } }`,
}

// walk goes through lists page by page, forwards and backwards, and must meet
// every record once, in order.
func walk(t *testing.T, e, right *Engine, without []string) {
	for _, sort := range []string{"", "[{name: ASC}]", "[{length: DESC_NULLS_FIRST}]", "[{seen: DESC}, {price: ASC_NULLS_LAST}]", "[{big: ASC}]", "[{active: DESC}, {built: ASC}]"} {
		if mentions(sort, without) {
			continue
		}
		by := ""
		if sort != "" {
			by = ", sort: " + sort
		}
		whole := right.Ask(t, "{ fleet(first: 1000"+by+") { edges { node { id } } } }", nil).ids(t)
		if len(whole) != len(Data()["vessels"]) {
			t.Fatalf("the whole list has %d records", len(whole))
		}
		for _, direction := range []struct{ first, after, end, more string }{{"first", "after", "endCursor", "hasNextPage"}, {"last", "before", "startCursor", "hasPreviousPage"}} {
			var met []string
			vars := map[string]any{}
			for range 20 {
				out := e.Ask(t, fmt.Sprintf("query ($c: String) { fleet(%s: 13, %s: $c%s) { totalCount edges { node { id } } pageInfo { %s %s } } }", direction.first, direction.after, by, direction.end, direction.more), vars)
				if len(out.Errors) > 0 {
					t.Fatal(out.Errors)
				}
				page := out.page(t)
				if page.TotalCount != len(whole) {
					t.Errorf("totalCount is %d on a page", page.TotalCount)
				}
				ids := out.ids(t)
				if direction.first == "last" {
					met = append(ids, met...)
				} else {
					met = append(met, ids...)
				}
				if more, _ := page.PageInfo[direction.more].(bool); !more {
					break
				}
				vars["c"] = page.PageInfo[direction.end]
			}
			if fmt.Sprint(met) != fmt.Sprint(whole) {
				t.Errorf("%s by pages%s gives %v\nwant %v", direction.first, by, met, whole)
			}
		}
	}
}

type page struct {
	TotalCount int
	PageInfo   map[string]any
	Edges      []struct{ Node struct{ ID string } }
}

func (o Outcome) page(t *testing.T) page {
	t.Helper()
	var data struct{ Fleet page }
	if err := json.Unmarshal([]byte(o.Data), &data); err != nil {
		t.Fatalf("%v: %s %v", err, o.Data, o.Errors)
	}
	return data.Fleet
}

func (o Outcome) ids(t *testing.T) []string {
	t.Helper()
	var ids []string
	for _, e := range o.page(t).Edges {
		ids = append(ids, e.Node.ID)
	}
	return ids
}

// refuse asks what must be refused with a word.
func refuse(t *testing.T, e *Engine) {
	for text, want := range map[string]string{
		`{ vessels(limit: -1) { id } vesselCount }`:                                                              `must be 0 or more`,
		`{ vessels(limit: 1001) { id } vesselCount }`:                                                            `must be at most 1000`,
		`{ fleet(first: 1, after: "AAAAAAAA") { edges { cursor } } }`:                                            `is no cursor of this list`,
		`{ fleet(first: 1, last: 1) { edges { cursor } } }`:                                                      `cannot be given together with last`,
		`{ vessels(filter: {length: {above: null}}) { id } vesselCount }`:                                        `only is and isNot can`,
		`{ vessels(filter: {any: [` + strings.Repeat(`{length: {above: 1}}, `, 600) + `]}) { id } vesselCount }`: `makes more than 500 comparisons`,
		`{ vessels(filter: ` + nested(100) + `) { id } vesselCount }`:                                            `nested more than 32 deep`,
		`{ fleet(first: 1, after: "` + foreign(t, e) + `") { edges { cursor } } }`:                               `is no cursor of this list`,
	} {
		out := e.Ask(t, text, nil)
		if len(out.Errors) == 0 || !strings.Contains(out.Errors[0], want) || !strings.Contains(out.Errors[0], "BAD_VALUE") {
			t.Errorf("%s gives %s %v, want %q", text, out.Data, out.Errors, want)
		}
	}
	// What cannot be stored equals nothing, and is no failure.
	for _, text := range []string{`{ vessels(filter: {code: {is: "a\u0000b"}}) { id } }`, `{ vessels(filter: {name: {contains: "\u0000"}}) { id } }`, `{ vessels(id: ["x", "99999999999999999999"]) { id } }`} {
		if out := e.Ask(t, text, nil); out.Data != `{"vessels":[]}` {
			t.Errorf("%s gives %s %v", text, out.Data, out.Errors)
		}
	}
}

func nested(depth int) string {
	return strings.Repeat("{not: ", depth) + "{length: {above: 1}}" + strings.Repeat("}", depth)
}

// foreign returns a cursor of the list in another order.
func foreign(t *testing.T, e *Engine) string {
	t.Helper()
	cursor, _ := e.Ask(t, `{ fleet(first: 1, sort: [{length: DESC}]) { pageInfo { endCursor } } }`, nil).page(t).PageInfo["endCursor"].(string)
	return cursor
}
