package execute_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
	"osprey/core/validate"
)

const port = `
type Query {
  craft(imo: ID!): Craft @read
  fleet(name: [String!], limit: Int, offset: Int, sort: [CraftSort!]): [Craft!]! @read
  strict: [Strict!]! @read
  loose: [Strict] @read
  anything: [Thing!] @read
  some(limit: Int): [Thing!] @read
}
type Mutation { first(imo: ID!): Craft @read second(id: ID!): Owner @read }
input CraftSort @oneOf { name: Direction imo: Direction length: Direction }
enum Direction { ASC DESC }
type Craft @stored(in: "a", as: "craft", key: "imo") {
  imo: ID! name: String length: Float flags: [Flag!] owner: Owner @related(here: "owner_id")
  must: Owner! @related(here: "owner_id")
  notes(limit: Int, offset: Int, kind: [String!]): [Note!]! @related(here: "imo", there: "craft", sort: "at desc")
  radio: Radio
}
enum Flag { RED @at(path: "r") BLUE @at(path: "b") }
type Radio { sign: String! channels: [Channel!]! }
type Channel { number: Int! }
type Owner @stored(in: "b", as: "owners", key: "id") { id: ID! name: String! craft: [Craft!]! @related(there: "owner_id", sort: "name") }
type Note @stored(in: "b", as: "notes", key: "id") { id: ID! at: Int kind: String craft: Craft @related(here: "craft", there: "imo") }
type Strict @stored(in: "a", as: "strict", key: "id") { id: ID! must: String! list: [Int!] deep: [[Int!]!] }
interface Thing @stored(in: "a", as: "things", key: "id") @kind(by: "kind") { id: ID! }
type Rock implements Thing @kind(is: "rock") { id: ID! weight: Float notes(limit: Int = 5): [Note!]! @related(here: "id", there: "craft", sort: "at") }
type Buoy implements Thing @kind(is: "buoy") { id: ID! light: String notes(limit: Int = 1): [Note!]! @related(here: "id", there: "craft", sort: "at desc") }
`

// stores makes two stores. Keys are numbers in one and text in the other.
func stores() map[string]*storetest.Memory {
	return map[string]*storetest.Memory{
		"a": storetest.NewMemory(`
			craft: imo int! name text? length float? flags [text] owner_id text? radio json?
			strict: id int! must text? list [int] deep json
			things: id int! kind text weight float? light text?`,
			map[string]string{
				"craft": `[{"imo": 1, "name": "Amber", "length": 10.5, "flags": ["r", "b"], "owner_id": "7", "radio": {"sign": "SK1", "channels": [{"number": 12}, {"number": 16}]}},
					{"imo": 2, "name": "Bright", "length": 1e21, "owner_id": "8", "radio": {"sign": null, "channels": []}},
					{"imo": 3, "name": "Cold \"quoted\" \u0001 é", "flags": ["x"], "owner_id": "7"},
					{"imo": 4, "name": "Distant"}]`,
				"strict": `[{"id": 1, "must": "yes", "list": [1, 2], "deep": [[1], [2, 3]]}, {"id": 2, "must": null, "list": [1, null], "deep": [[1, null]]}]`,
				"things": `[{"id": 1, "kind": "rock", "weight": 2}, {"id": 2, "kind": "buoy", "light": "red"}, {"id": 3, "kind": "wreck"}]`,
			}),
		"b": storetest.NewMemory(`
			owners: id int! name text?
			notes: id int! craft text at int? kind text`,
			map[string]string{
				"owners": `[{"id": 7, "name": "Lundby"}, {"id": 8, "name": null}]`,
				"notes": `[{"id": 1, "craft": "1", "at": 5, "kind": "x"}, {"id": 2, "craft": "1", "at": 9, "kind": "y"}, {"id": 3, "craft": "2", "at": 1, "kind": "x"},
					{"id": 4, "craft": "1", "at": null, "kind": "x"}, {"id": 5, "craft": "1", "at": 7, "kind": "z"}]`,
			}),
	}
}

type engine struct {
	bound   *binding.Bound
	stores  map[string]*storetest.Memory
	options execute.Options
}

func newEngine(t testing.TB, all map[string]*storetest.Memory) *engine {
	t.Helper()
	return newEngineOf(t, port, all)
}

func newEngineOf(t testing.TB, types string, all map[string]*storetest.Memory) *engine {
	t.Helper()
	sources := map[string]*binding.Source{}
	for name, m := range all {
		c, _ := m.Catalogue(context.Background())
		for _, set := range c.Sets {
			set.Sampled = true // so that what is required may be missing
		}
		sources[name] = &binding.Source{Name: name, Naming: binding.Snake, Capabilities: m.Capabilities(), Catalogue: c}
	}
	_, bound, problems := binding.Resolve([]schema.Text{{Body: types}}, sources)
	if problems.Failed() {
		t.Fatal(problems)
	}
	return &engine{bound: bound, stores: all}
}

// ask runs an operation and returns the data, and the errors a line each.
func (e *engine) ask(t *testing.T, text string) (string, string) {
	t.Helper()
	doc, problems := language.Parse(language.NewSource("", text))
	if len(problems) == 0 {
		problems = validate.Document(e.bound.Schema, doc)
	}
	if len(problems) > 0 {
		t.Fatalf("%s\nreports %q", text, problems)
	}
	p := plan.Build(e.bound, doc, doc.Definitions[0].(*language.Operation), nil, func(source string, reads []*store.Read) (store.Request, error) {
		return e.stores[source].Prepare(nil, reads)
	})
	r := execute.Run(context.Background(), p, nil, e.options)
	var errs []string
	for _, x := range r.Errors {
		line := fmt.Sprintf("%s %v: %s", x.Code, x.Path, x.Msg)
		if x.More > 0 {
			line += fmt.Sprintf(" (+%d)", x.More)
		}
		errs = append(errs, line)
	}
	var pretty bytes.Buffer
	if err := json.Compact(&pretty, r.Data); err != nil {
		t.Fatalf("%s\nanswers %s, which is not JSON: %v", text, r.Data, err)
	}
	return pretty.String(), strings.Join(errs, "\n")
}

// TestAnswers holds answers byte for byte, with the errors beside them.
func TestAnswers(t *testing.T) {
	for _, test := range []struct{ text, data, errs string }{
		{`{ craft(imo: 1) { imo name length } }`, `{"craft":{"imo":"1","name":"Amber","length":10.5}}`, ""},
		{`{ craft(imo: "1") { b: name a: imo __typename } __typename }`, `{"craft":{"b":"Amber","a":"1","__typename":"Craft"},"__typename":"Query"}`, ""},
		{`{ craft(imo: 99) { name } other: craft(imo: "abc") { name } }`, `{"craft":null,"other":null}`, ""},
		{`{ craft(imo: 2) { length } }`, `{"craft":{"length":1e+21}}`, ""},
		{`{ craft(imo: 3) { name } }`, `{"craft":{"name":"Cold \"quoted\" \u0001 é"}}`, ""},
		{`{ fleet(limit: 2) { imo } }`, `{"fleet":[{"imo":"1"},{"imo":"2"}]}`, ""},
		{`{ fleet(limit: 0) { imo } }`, `{"fleet":[]}`, ""},
		{`{ fleet(limit: 2, offset: 3) { imo } }`, `{"fleet":[{"imo":"4"}]}`, ""},
		{`{ fleet(offset: 9) { imo } }`, `{"fleet":[]}`, ""},
		{`{ fleet(name: ["Amber", "Distant", "Nobody"]) { imo } }`, `{"fleet":[{"imo":"1"},{"imo":"4"}]}`, ""},
		{`{ fleet(name: []) { imo } }`, `{"fleet":[]}`, ""},
		{`{ fleet(sort: [{length: DESC}, {imo: DESC}]) { imo } }`, `{"fleet":[{"imo":"2"},{"imo":"1"},{"imo":"4"},{"imo":"3"}]}`, ""},
		{`{ fleet(sort: [{length: ASC}]) { imo } }`, `{"fleet":[{"imo":"3"},{"imo":"4"},{"imo":"1"},{"imo":"2"}]}`, ""},
		{`{ fleet(limit: -1) { imo } craft(imo: 1) { name } }`, `null`, `BAD_VALUE [fleet]: the argument "limit" must be 0 or more, found -1`},
		// Keys are equal by value: a number here, text there.
		{`{ fleet { owner { name } } }`, `{"fleet":[{"owner":{"name":"Lundby"}},{"owner":null},{"owner":{"name":"Lundby"}},{"owner":null}]}`,
			`NOT_FOUND [fleet 1 owner name]: Owner.name is required, and there is no value for it`},
		{`{ craft(imo: 1) { notes { id at } } }`, `{"craft":{"notes":[{"id":"2","at":9},{"id":"5","at":7},{"id":"1","at":5},{"id":"4","at":null}]}}`, ""},
		{`{ fleet { notes(limit: 1, offset: 1) { id } } }`, `{"fleet":[{"notes":[{"id":"5"}]},{"notes":[]},{"notes":[]},{"notes":[]}]}`, ""},
		{`{ fleet(limit: 2) { notes(kind: ["x", "z"]) { id craft { name } } } }`,
			`{"fleet":[{"notes":[{"id":"5","craft":{"name":"Amber"}},{"id":"1","craft":{"name":"Amber"}},{"id":"4","craft":{"name":"Amber"}}]},{"notes":[{"id":"3","craft":{"name":"Bright"}}]}]}`, ""},
		// Enums under other spellings; a value that is none is an error at its place, and cuts back to where null may stand.
		{`{ fleet { flags } }`, `{"fleet":[{"flags":["RED","BLUE"]},{"flags":null},{"flags":null},{"flags":null}]}`,
			`BAD_VALUE [fleet 2 flags 0]: Craft.flags: the stored value "x" is no value of the enum`},
		// Nested records.
		{`{ fleet { radio { sign channels { number } } } }`,
			`{"fleet":[{"radio":{"sign":"SK1","channels":[{"number":12},{"number":16}]}},{"radio":null},{"radio":null},{"radio":null}]}`,
			`NOT_FOUND [fleet 1 radio sign]: Radio.sign is required, and there is no value for it`},
		// Null cuts back to the nearest place where it may stand.
		{`{ strict { id must } }`, `null`, `NOT_FOUND [strict 1 must]: Strict.must is required, and there is no value for it`},
		{`{ loose { id must } }`, `{"loose":[{"id":"1","must":"yes"},null]}`, `NOT_FOUND [loose 1 must]: Strict.must is required, and there is no value for it`},
		{`{ loose { list deep } }`, `{"loose":[{"list":[1,2],"deep":[[1],[2,3]]},{"list":null,"deep":null}]}`,
			"NOT_FOUND [loose 1 list 1]: Strict.list is required, and there is no value for it\nNOT_FOUND [loose 1 deep 0 1]: Strict.deep is required, and there is no value for it"},
		{`{ craft(imo: 4) { name must { id } } }`, `{"craft":null}`, `NOT_FOUND [craft must]: Craft.must is required, and there is no value for it`},
		// Kinds: each type its own fields; a kind of no type is an error at its place.
		{`{ anything { __typename id ... on Rock { weight } ... on Buoy { light } } }`, `{"anything":null}`, `BAD_VALUE [anything 2]: a record of Thing is of the kind "wreck", which no type of the schema claims`},
		// The same name in two types, with another default and another order.
		{`{ some(limit: 2) { ... on Buoy { notes { id } } ... on Rock { notes { id } } } }`, `{"some":[{"notes":[{"id":"4"},{"id":"1"},{"id":"5"},{"id":"2"}]},{"notes":[{"id":"3"}]}]}`, ""},
		{`{ craft(imo: 1) { name @skip(if: true) imo @include(if: false) } }`, `{"craft":{}}`, ""},
		{`{ craft(imo: 1) { name ...A ...A } } fragment A on Craft { name imo }`, `{"craft":{"name":"Amber","imo":"1"}}`, ""},
		{`{ craft(imo: 1) { owner { id } owner { name craft { name } } } }`, `{"craft":{"owner":{"id":"7","name":"Lundby","craft":[{"name":"Amber"},{"name":"Cold \"quoted\" \u0001 é"}]}}}`, ""},
		{`{ __type(name: "Flag") { name kind enumValues { name } } none: __type(name: "Nope") { name } }`,
			`{"__type":{"name":"Flag","kind":"ENUM","enumValues":[{"name":"RED"},{"name":"BLUE"}]},"none":null}`, ""},
	} {
		data, errs := newEngine(t, stores()).ask(t, test.text)
		if data != test.data || errs != test.errs {
			t.Errorf("%s\nanswers %s\n        %s\nwant    %s\n        %s", test.text, data, errs, test.data, test.errs)
		}
	}
}

// TestAskedOnce counts at the stores: one request each, equal keys once, and
// no request without keys.
func TestAskedOnce(t *testing.T) {
	for _, test := range []struct{ text, a, b string }{
		{`{ fleet { owner { name } } }`, "craft", "owners 7 8"},
		{`{ craft(imo: 99) { owner { name } } }`, "craft", ""},
		{`{ craft(imo: 4) { owner { name } } }`, "craft", ""},
		{`{ fleet { a: notes(limit: 1) { id } b: notes { id } } }`, "craft", "notes 1 2 3 4"},
		{`{ craft(imo: 1) { owner { craft { name } } notes { id } } }`, "craft|craft 7", "owners 7|notes 1"},
	} {
		e := newEngine(t, stores())
		e.ask(t, test.text)
		a, b := strings.Join(e.stores["a"].Asked(), "|"), e.stores["b"].Asked()
		if a != test.a || !sameSet(b, test.b) {
			t.Errorf("%s\nasks %q and %q, want %q and %q", test.text, a, b, test.a, test.b)
		}
	}
}

// TestMutationIsSerial checks that the root fields of a mutation wait for one
// another, with all that is below them, and those of a query do not.
func TestMutationIsSerial(t *testing.T) {
	for kind, waves := range map[string]int{"mutation": 5, "query": 2} {
		e := newEngine(t, stores())
		text := kind + ` { a: first(imo: 1) { owner { name } } b: second(id: 8) { id craft { name } } c: first(imo: 2) { name } }`
		if kind == "query" {
			text = `{ a: craft(imo: 1) { owner { name } } c: craft(imo: 2) { name } }`
		}
		doc, _ := language.Parse(language.NewSource("", text))
		p := plan.Build(e.bound, doc, doc.Definitions[0].(*language.Operation), nil, nil)
		if p.Waves != waves {
			t.Errorf("a %s has %d waves, want %d:\n%s", kind, p.Waves, waves, p)
		}
	}
	e := newEngine(t, stores())
	data, errs := e.ask(t, `mutation { a: first(imo: 1) { name } b: second(id: 7) { name } c: first(imo: 2) { name } }`)
	if want := `{"a":{"name":"Amber"},"b":{"name":"Lundby"},"c":{"name":"Bright"}}`; data != want || errs != "" {
		t.Errorf("answers %s %s, want %s", data, errs, want)
	}
}

func sameSet(got []string, want string) bool {
	n := 0
	for _, w := range strings.Split(want, "|") {
		if w != "" {
			n++
			found := false
			for _, g := range got {
				found = found || g == w
			}
			if !found {
				return false
			}
		}
	}
	return n == len(got)
}

// TestRequestsDoNotGrow asks lists of several lengths and counts at the store.
func TestRequestsDoNotGrow(t *testing.T) {
	for _, n := range []int{1, 50, 2000} {
		var craft, notes []string
		for i := range n {
			craft = append(craft, fmt.Sprintf(`{"imo": %d, "name": "c", "owner_id": "%d"}`, i, i%10))
			notes = append(notes, fmt.Sprintf(`{"id": %d, "craft": "%d", "at": 1, "kind": "x"}`, i, i))
		}
		all := map[string]*storetest.Memory{
			"a": storetest.NewMemory("craft: imo int! name text? length float? flags [text] owner_id text? radio json?\nstrict: id int! must text? list [int] deep json\nthings: id int! kind text weight float? light text?",
				map[string]string{"craft": "[" + strings.Join(craft, ",") + "]"}),
			"b": storetest.NewMemory("owners: id int! name text?\nnotes: id int! craft text at int? kind text", map[string]string{"notes": "[" + strings.Join(notes, ",") + "]"}),
		}
		e := newEngine(t, all)
		e.ask(t, `{ fleet { name owner { name } notes { id } } }`)
		if a, b := len(all["a"].Asked()), len(all["b"].Asked()); a != 1 || b != 2 {
			t.Errorf("%d craft ask %d and %d requests, want 1 and 2", n, a, b)
		}
	}
}

// TestFailingStore checks that a store that fails costs only its own fields.
func TestFailingStore(t *testing.T) {
	all := stores()
	all["b"].Fail = func(asks string) error {
		if strings.HasPrefix(asks, "owners") {
			return &store.Error{Code: store.Down, Msg: "cannot be reached", Err: fmt.Errorf("secret address")}
		}
		return nil
	}
	data, errs := newEngine(t, all).ask(t, `{ fleet(limit: 2) { name owner { name } notes(limit: 1) { id } } }`)
	wantData := `{"fleet":[{"name":"Amber","owner":null,"notes":[{"id":"2"}]},{"name":"Bright","owner":null,"notes":[{"id":"3"}]}]}`
	wantErrs := "STORE_DOWN [fleet 0 owner]: the source b cannot be reached\nSTORE_DOWN [fleet 1 owner]: the source b cannot be reached"
	if data != wantData || errs != wantErrs {
		t.Errorf("answers %s\n%s\nwant %s\n%s", data, errs, wantData, wantErrs)
	}
}

// TestManyErrorsAreCounted tells each error up to a bound, and counts beyond it.
func TestManyErrorsAreCounted(t *testing.T) {
	var craft []string
	for i := range 500 {
		craft = append(craft, fmt.Sprintf(`{"imo": %d, "owner_id": "7"}`, i))
	}
	all := stores()
	all["a"] = storetest.NewMemory("craft: imo int! name text? length float? flags [text] owner_id text? radio json?\nstrict: id int! must text? list [int] deep json\nthings: id int! kind text weight float? light text?",
		map[string]string{"craft": "[" + strings.Join(craft, ",") + "]"})
	all["b"].Fail = func(string) error { panic("a fault in a store's code") }
	e := newEngine(t, all)
	for _, test := range []struct{ most, told int }{{0, 500}, {1000, 500}, {500, 500}, {499, 499}, {1, 1}} {
		e.options.MaxErrors = test.most
		_, errs := e.ask(t, `{ fleet { owner { name } } }`)
		lines := strings.Split(errs, "\n")
		counted := ""
		if test.told < 500 {
			counted = fmt.Sprintf(" (+%d)", 500-test.told)
		}
		if len(lines) != test.told || !strings.HasSuffix(lines[0], "has the details"+counted) || !strings.HasPrefix(lines[0], "INTERNAL") || strings.Contains(errs, "a fault in") {
			t.Errorf("500 failing fields give %d errors where %d are told: %s", len(lines), test.most, lines[0])
		}
	}
}
