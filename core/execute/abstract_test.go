package execute_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/core/store/storetest"
)

const harbourLog = `
type Query {
  log(limit: Int, offset: Int): [Entry!] @read(sort: "at desc")
  pages(first: Int, after: String, last: Int, before: String): LoggedConnection @read(sort: "at desc")
  named(filter: NamedFilter, sort: [NamedSort!], limit: Int): [Named!]! @read(sort: "name")
  one(id: ID!): Named @read
  calls: [Call!]! @read
  remarks: [Remark!]! @read
  inspections: [Inspection!]! @read
  boats: [Boat!]! @read
  port: String! @computed(expr: "'Skerrow'")
  twice(n: Int! = 2): Int! @computed(expr: "args.n * 2")
  old: Int @deprecated(reason: "nobody counts them") @computed(expr: "null")
}
interface Logged { at: Int }
interface Named { name: String }
union Entry = Visit | Mishap
type Visit implements Logged @stored(in: "a", as: "visits", key: "id") { id: ID! at: Int who: String }
type Mishap implements Logged @stored(in: "b", as: "mishaps", key: "id") { id: ID! at: Int what: String @at(path: "kind") }
type Call implements Named @stored(in: "a", as: "calls", key: "id") {
  id: ID!
  name: String
  length: Float
  log(limit: Int, offset: Int): [Entry!]
    @related(of: "Visit", here: "id", there: "call", sort: "at")
    @related(of: "Mishap", here: "id", there: "call_id", sort: "at")
  half: Float! @computed(expr: "record.length / 2.0")
  label: String @computed(expr: "record.name + ' ' + string(record.log.size())")
  share: Float @computed(expr: "100 / (record.log.size() - 2)")
  boat: Boat @related(here: "boat")
  aboard: String @computed(expr: "record.boat == null ? 'nobody' : record.boat.name + '!'")
}
interface Boat implements Named @stored(in: "b", as: "boats", key: "id") @kind(by: "kind") { id: ID! name: String size: String! @computed(expr: "record.__typename") }
interface Engine implements Boat & Named { id: ID! name: String size: String! power: Int }
type Tug implements Engine & Boat & Named @kind(is: "tug") { id: ID! name: String size: String! power: Int pull: Int! @computed(expr: "record.power / 10") }
type Launch implements Engine & Boat & Named @kind(is: "launch") { id: ID! name: String size: String! power: Int }
type Barge implements Boat & Named @kind(is: "barge") { id: ID! name: String size: String! }
type Remark @stored(in: "b", as: "remarks", key: "id") {
  id: ID!
  about: Named @related(here: "about_id", there: "id") @kind(by: "about")
  must: Named! @related(here: "about_id", there: "id") @kind(by: "about")
  engine: Engine @related(here: "about_id", there: "id")
}
type Inspection @stored(in: "b", as: "inspections", key: "id") { id: ID! evidence: [Evidence!] first: Evidence @at(path: "main") }
union Evidence @kind(by: "type") = Photo | Reading
type Photo @kind(is: "photo") { caption: String! }
type Reading @kind(is: "reading") { value: Float! twice: Float! @computed(expr: "record.value * 2.0") }
`

func logStores() map[string]*storetest.Memory {
	return map[string]*storetest.Memory{
		"a": storetest.NewMemory(`
			visits: id int! call int at int? who text
			calls: id int! name text? length float boat int?`,
			map[string]string{
				"visits": `[{"id": 1, "call": 1, "at": 5, "who": "Aila"}, {"id": 2, "call": 1, "at": 9, "who": "Bram"}, {"id": 3, "call": 2, "at": 7, "who": "Corin"}, {"id": 4, "call": 2, "who": "Dagny"}]`,
				"calls":  `[{"id": 1, "name": "first", "length": 10, "boat": 1}, {"id": 2, "length": 7}]`,
			}),
		"b": storetest.NewMemory(`
			mishaps: id int! call_id text at int? kind text
			boats: id int! name text kind text power int?
			remarks: id int! about text? about_id text?
			inspections: id int! evidence.type text evidence.caption text evidence.value float main.type text main.caption text main.value float`,
			map[string]string{
				"mishaps": `[{"id": 1, "call_id": "1", "at": 7, "kind": "spill"}, {"id": 2, "call_id": "1", "at": 9, "kind": "fire"}, {"id": 3, "call_id": "3", "at": 7, "kind": "fog"}]`,
				"boats":   `[{"id": 1, "name": "Kelp", "kind": "tug", "power": 40}, {"id": 2, "name": "Reef", "kind": "barge"}, {"id": 3, "name": "Jet", "kind": "launch", "power": 9}, {"id": 4, "name": "Ghost", "kind": "wreck"}]`,
				"remarks": `[{"id": 1, "about": "boat", "about_id": "1"}, {"id": 2, "about": "call", "about_id": "2"}, {"id": 3, "about": "crane", "about_id": "1"}, {"id": 4, "about_id": "1"}, {"id": 5, "about": "call", "about_id": "99"}, {"id": 6, "about": "tug", "about_id": "2"}]`,
				"inspections": `[{"id": 1, "evidence": [{"type": "photo", "caption": "deck"}, {"type": "reading", "value": 2.5}], "main": {"type": "reading", "value": 1}},
					{"id": 2, "evidence": [{"type": "film"}], "main": null}, {"id": 3, "evidence": [{"value": 2}]}]`,
			}),
	}
}

// TestAbstract holds interfaces and unions over several record sets, references
// with their type beside the key, nested values of several types, and
// expressions.
func TestAbstract(t *testing.T) {
	for _, test := range []struct{ text, data, errs string }{
		// Merged by the sort keys; what is equal keeps the order of the types.
		{`{ log { ... on Visit { who } ... on Mishap { what } } }`,
			`{"log":[{"who":"Bram"},{"what":"fire"},{"who":"Corin"},{"what":"spill"},{"what":"fog"},{"who":"Aila"},{"who":"Dagny"}]}`, ``},
		{`{ log(limit: 2, offset: 1) { __typename ... on Logged { at } } }`, `{"log":[{"__typename":"Mishap","at":9},{"__typename":"Visit","at":7}]}`, ``},
		{`{ log(limit: 0) { __typename } }`, `{"log":[]}`, ``},
		{`{ log(limit: -1) { __typename } }`, `{"log":null}`, `BAD_VALUE [log]: the argument "limit" must be 0 or more, found -1`},
		{`{ calls { id log { __typename } more: log(limit: 1, offset: 1) { ... on Visit { who } ... on Mishap { what } } } }`,
			`{"calls":[{"id":"1","log":[{"__typename":"Visit"},{"__typename":"Mishap"},{"__typename":"Visit"},{"__typename":"Mishap"}],"more":[{"what":"spill"}]},` +
				`{"id":"2","log":[{"__typename":"Visit"},{"__typename":"Visit"}],"more":[{"who":"Corin"}]}]}`, ``},
		{`{ named(limit: 3) { name __typename } }`, `{"named":[{"name":null,"__typename":"Call"},{"name":"Ghost","__typename":"Boat"}]}`, ``},
		{`{ named(filter: {name: {startsWith: "f"}}) { name __typename } }`, `{"named":[{"name":"first","__typename":"Call"}]}`, ``},
		{`{ named(sort: [{name: DESC}], limit: 2) { name ... on Engine { power } } }`, `{"named":[{"name":"first"},{"name":"Reef"}]}`, ``},
		{`{ one(id: 3) { name } two: one(id: 77) { name } }`, `{"one":{"name":"Jet"},"two":null}`, ``},
		{`{ one(id: 1) { name } }`, `{"one":null}`, `NOT_UNIQUE [one]: Query.one promises one record, and 2 were found`},
		{`{ pages(first: 2) { totalCount pageInfo { hasNextPage } edges { node { __typename at } } } }`,
			`{"pages":{"totalCount":7,"pageInfo":{"hasNextPage":true},"edges":[{"node":{"__typename":"Visit","at":9}},{"node":{"__typename":"Mishap","at":9}}]}}`, ``},
		{`{ pages(last: 2) { edges { node { __typename at } } } }`, `{"pages":{"edges":[{"node":{"__typename":"Visit","at":5}},{"node":{"__typename":"Visit","at":null}}]}}`, ``},
		{`{ pages { totalCount } }`, `{"pages":{"totalCount":7}}`, ``},
		{`{ pages(after: "nonsense") { edges { node { at } } } }`, `{"pages":null}`, `BAD_VALUE [pages]: the argument "after" is no cursor of this list in this order`},
		// References: the value beside the key tells the type.
		{`{ remarks { about { __typename name } } }`,
			`{"remarks":[{"about":{"__typename":"Tug","name":"Kelp"}},{"about":{"__typename":"Call","name":null}},{"about":null},{"about":null},{"about":null},{"about":{"__typename":"Barge","name":"Reef"}}]}`,
			`BAD_VALUE [remarks 2 about]: a record of Remark.about is of the kind "crane", which no type of the schema claims`},
		{`{ remarks { must { name } } }`, `null`, `BAD_VALUE [remarks 2 must]: a record of Remark.must is of the kind "crane"`},
		// An interface within an interface: of one record set some records.
		{`{ remarks { engine { __typename power } } }`,
			`{"remarks":[{"engine":{"__typename":"Tug","power":40}},{"engine":null},{"engine":{"__typename":"Tug","power":40}},{"engine":{"__typename":"Tug","power":40}},{"engine":null},{"engine":null}]}`, ``},
		// Nested values; one that no type claims is an error at its place.
		{`{ inspections { id first { __typename ... on Reading { value twice } } } }`,
			`{"inspections":[{"id":"1","first":{"__typename":"Reading","value":1,"twice":2}},{"id":"2","first":null},{"id":"3","first":null}]}`, ``},
		{`{ inspections { evidence { ... on Photo { caption } ... on Reading { twice } } } }`,
			`{"inspections":[{"evidence":[{"caption":"deck"},{"twice":5}]},{"evidence":null},{"evidence":null}]}`,
			"BAD_VALUE [inspections 1 evidence 0]: a record of Evidence is of the kind \"film\", which no type of the schema claims\nBAD_VALUE [inspections 2 evidence 0]: a record of Evidence has nothing that tells its type"},
		// Expressions.
		{`{ port twice n: twice(n: 21) old }`, `{"port":"Skerrow","twice":4,"n":42,"old":null}`, ``},
		{`{ calls { half label aboard } }`, `{"calls":[{"half":5,"label":"first 4","aboard":"Kelp!"},{"half":3.5,"label":null,"aboard":"nobody"}]}`, ``},
		{`{ calls { share } }`, `{"calls":[{"share":50},{"share":null}]}`, `BAD_VALUE [calls 1 share]: the expression of Call.share cannot be evaluated: it divides by zero`},
		{`{ boats { ... on Tug { pull } } }`, `null`, `BAD_VALUE [boats 3]: a record of Boat is of the kind "wreck", which no type of the schema claims`},
	} {
		e := newEngineOf(t, harbourLog, logStores())
		data, errs := e.ask(t, test.text)
		if test.data == `{"named":[{"name":null,"__typename":"Call"},{"name":"Ghost","__typename":"Boat"}]}` {
			test.data, test.errs = `null`, `BAD_VALUE [named 1]: a record of Boat is of the kind "wreck", which no type of the schema claims`
		}
		if data != test.data || !strings.HasPrefix(errs, test.errs) || test.errs == "" && errs != "" {
			t.Errorf("%s\ngives %s\n%s\nwant  %s\n%s", test.text, data, errs, test.data, test.errs)
		}
	}
}

// TestNameAlone holds that the type of a reference is known without reading it,
// and that what is asked of one type is not asked of the others.
func TestNameAlone(t *testing.T) {
	stores := logStores()
	e := newEngineOf(t, harbourLog, stores)
	if data, errs := e.ask(t, `{ remarks { about { __typename ... on Boat { name } } } }`); errs == "" || !strings.Contains(data, `{"about":{"__typename":"Call"}}`) {
		t.Errorf("gives %s %s", data, errs)
	}
	if asked := stores["a"].Asked(); asked != nil {
		t.Errorf("the store of calls was asked %q", asked)
	}
	if asked := stores["b"].Asked(); len(asked) != 2 || asked[1] != "boats 1 2" {
		t.Errorf("the store of boats was asked %q", asked)
	}
}

// TestPartFails holds that a list of which one part cannot be had is null, with
// one error, and that what hangs from it in an expression is too.
func TestPartFails(t *testing.T) {
	stores := logStores()
	stores["b"].Fail = func(asks string) error {
		if strings.HasPrefix(asks, "mishaps") {
			return &store.Error{Code: store.Down, Msg: "cannot be reached", Err: errors.New("secret")}
		}
		return nil
	}
	e := newEngineOf(t, harbourLog, stores)
	data, errs := e.ask(t, `{ log { __typename } calls { half label log { __typename } } }`)
	const down = ": the source b cannot be reached"
	want := "STORE_DOWN [log]" + down + "\nSTORE_DOWN [calls 0 label]" + down + "\nSTORE_DOWN [calls 0 log]" + down + "\nSTORE_DOWN [calls 1 log]" + down
	if data != `{"log":null,"calls":[{"half":5,"label":null,"log":null},{"half":3.5,"label":null,"log":null}]}` || errs != want {
		t.Errorf("gives %s\n%s", data, errs)
	}
}

// TestOneKindFails holds that where the records of one type that a reference can lead to
// cannot be had, those of the other types are answered with all that belongs to them, and
// a reference that is null is no error.
func TestOneKindFails(t *testing.T) {
	const types = `
type Query { calls: [Call!]! @read(sort: "id") }
type Call @stored(in: "a", as: "calls", key: "id") { id: ID! of: Boat @related(here: "of_id") @kind(by: "of_kind") }
union Boat = Tug | Barge
type Tug @stored(in: "b", as: "tugs", key: "id") @kind(is: "tug") { id: ID! trips: [Trip!]! @related(here: "id", there: "boat", sort: "n") count: Int! @total(of: "trips")
  crew: [Trip!]! @related(here: "code", there: "boat", sort: "n") heads: Int! @total(of: "crew") }
type Barge @stored(in: "c", as: "barges", key: "id") @kind(is: "barge") { id: ID! name: String }
type Trip @stored(in: "a", as: "trips", key: "n") { n: Int! }
`
	stores := map[string]*storetest.Memory{
		"a": storetest.NewMemory("calls: id int! of_id int? of_kind text?\ntrips: n int! boat int", map[string]string{
			"calls": `[{"id": 1, "of_id": 3, "of_kind": "tug"}, {"id": 2, "of_id": 3, "of_kind": "barge"}, {"id": 3, "of_id": 4, "of_kind": "barge"}, {"id": 4, "of_kind": "barge"}]`,
			"trips": `[{"n": 1, "boat": 3}, {"n": 2, "boat": 4}, {"n": 3, "boat": 3}]`}),
		"b": storetest.NewMemory("tugs: id int! code int", map[string]string{"tugs": `[{"id": 3, "code": 4}, {"id": 4, "code": 3}]`}),
		"c": storetest.NewMemory("barges: id int! name text?", map[string]string{"barges": `[{"id": 3, "name": "Loch"}]`}),
	}
	stores["c"].Fail = func(string) error { return store.NotReady(nil) }
	e := newEngineOf(t, types, stores)
	data, errs := e.ask(t, `{ calls { of { ... on Tug { trips { n } count crew { n } heads } ... on Barge { name } } } }`)
	if data != `{"calls":[{"of":{"trips":[{"n":1},{"n":3}],"count":2,"crew":[{"n":2}],"heads":1}},{"of":null},{"of":null},{"of":null}]}` || strings.Contains(errs, "calls 3") || strings.Count(errs, "STORE_DOWN") != 2 {
		t.Errorf("gives %s\n%s", data, errs)
	}
	asked := stores["a"].Asked()
	slices.Sort(asked) // two of them at the same time
	if len(asked) != 3 || asked[1] != "trips 3" || asked[2] != "trips 4" {
		t.Errorf("the store of trips was asked %q", asked)
	}
}

// TestStoredElsewhere reads an interface with a record set of its own, one of
// whose types is stored elsewhere.
func TestStoredElsewhere(t *testing.T) {
	const types = `
type Query { boats(limit: Int): [Boat!]! @read(sort: "name") tugs: [Tug!]! @read }
interface Boat @stored(in: "a", as: "boats", key: "id") @kind(by: "kind") { id: ID! name: String trips: [Trip!]! @related(here: "id", there: "boat", sort: "n") }
type Tug implements Boat @kind(is: "tug") { id: ID! name: String trips: [Trip!]! }
type Barge implements Boat @kind(is: "barge") { id: ID! name: String trips: [Trip!]! }
type Ferry implements Boat @stored(in: "b", as: "ferries", key: "id") { id: ID! name: String trips: [Trip!]! cars: Int }
type Trip @stored(in: "b", as: "trips", key: "n") { n: Int! }
`
	e := newEngineOf(t, types, map[string]*storetest.Memory{
		"a": storetest.NewMemory(`boats: id int! name text? kind text`, map[string]string{"boats": `[{"id": 1, "name": "Kelp", "kind": "tug"}, {"id": 2, "name": "Reef", "kind": "barge"}]`}),
		"b": storetest.NewMemory("ferries: id int! name text? cars int?\ntrips: n int! boat int", map[string]string{
			"ferries": `[{"id": 7, "name": "Loch", "cars": 20}]`, "trips": `[{"n": 1, "boat": 7}, {"n": 2, "boat": 1}, {"n": 3, "boat": 7}]`}),
	})
	for _, test := range []struct{ text, want string }{
		{`{ boats { __typename name ... on Ferry { cars } trips { n } } }`,
			`{"boats":[{"__typename":"Tug","name":"Kelp","trips":[{"n":2}]},{"__typename":"Ferry","name":"Loch","cars":20,"trips":[{"n":1},{"n":3}]},{"__typename":"Barge","name":"Reef","trips":[]}]}`},
		{`{ boats(limit: 2) { name } tugs { name } }`, `{"boats":[{"name":"Kelp"},{"name":"Loch"}],"tugs":[{"name":"Kelp"}]}`},
	} {
		if data, errs := e.ask(t, test.text); data != test.want || errs != "" {
			t.Errorf("%s\ngives %s %s\nwant  %s", test.text, data, errs, test.want)
		}
	}
}

// TestNumberedKinds tells types by a number, in a record set, nested, and beside
// a reference.
func TestNumberedKinds(t *testing.T) {
	const types = `
type Query { boats: [Boat!]! @read(sort: "id") tugs: [Tug!]! @read floats: [Float_!]! @read }
union Float_ = Tug | Buoy
interface Boat @stored(in: "a", as: "boats", key: "id") @kind(by: "kind") { id: ID! size: String @computed(expr: "record.__typename") }
type Tug implements Boat @kind(is: "1") { id: ID! size: String tow: Float_ @related(here: "tow_id") @kind(by: "tow_kind") }
type Barge implements Boat @kind(is: "2") { id: ID! size: String load: [Load!] }
type Buoy @stored(in: "a", as: "buoys", key: "id") @kind(is: "9") { id: ID! }
union Load @kind(by: "type") = Sand | Coal
type Sand @kind(is: "5") { tonnes: Int }
type Coal @kind(is: "6") { bags: Int }
`
	e := newEngineOf(t, types, map[string]*storetest.Memory{"a": storetest.NewMemory("boats: id int! kind int tow_id int? tow_kind int? load json?\nbuoys: id int!", map[string]string{
		"boats": `[{"id": 1, "kind": 1, "tow_id": 3, "tow_kind": 9}, {"id": 2, "kind": 2, "load": [{"type": 6, "bags": 40}, {"type": 5, "tonnes": 2}]}, {"id": 3, "kind": 1, "tow_id": 1, "tow_kind": 1}]`, "buoys": `[{"id": 3}]`})})
	for _, test := range []struct{ text, want string }{
		{`{ boats { __typename size ... on Tug { tow { __typename ... on Buoy { id } } } ... on Barge { load { __typename ... on Coal { bags } } } } }`,
			`{"boats":[{"__typename":"Tug","size":"Tug","tow":{"__typename":"Buoy","id":"3"}},{"__typename":"Barge","size":"Barge","load":[{"__typename":"Coal","bags":40},{"__typename":"Sand"}]},{"__typename":"Tug","size":"Tug","tow":{"__typename":"Tug"}}]}`},
		{`{ tugs { id } floats { __typename } }`, `{"tugs":[{"id":"1"},{"id":"3"}],"floats":[{"__typename":"Tug"},{"__typename":"Tug"},{"__typename":"Buoy"}]}`},
	} {
		if data, errs := e.ask(t, test.text); data != test.want || errs != "" {
			t.Errorf("%s\ngives %s %s\nwant  %s", test.text, data, errs, test.want)
		}
	}
}
