package execute_test

import (
	"testing"

	"osprey/core/store/storetest"
)

const berths = `
type Query {
  quays(filter: QuayFilter, sort: [QuaySort!], first: Int, after: String, last: Int, before: String): QuayConnection! @read
  all: [Quay!]! @read
  count(filter: QuayFilter): Int! @total(of: "all")
  longest: Float @total(of: "all", max: "length")
}
type Quay @stored(in: "a", as: "quays", key: "id") {
  id: ID!
  name: String
  must: String!
  length: Float
  berths(filter: BerthFilter, sort: [BerthSort!], limit: Int, offset: Int): [Berth!]
  calls(first: Int = 2, after: String, last: Int): CallConnection @related(here: "id", there: "quay", sort: "n desc")
  callCount(filter: CallFilter): Int! @total(of: "calls")
  sum: Int @total(of: "calls", sum: "n")
}
type Berth { no: Int! depth: Float tags: [String!] }
type Call @stored(in: "b", as: "calls", key: "id") { id: ID! n: Int quay: Quay @related(here: "quay") }
`

func quayStores() map[string]*storetest.Memory {
	return map[string]*storetest.Memory{
		"a": storetest.NewMemory(`quays: id int! name text? must text? length float? berths.no int berths.depth float? berths.tags [text]`, map[string]string{
			"quays": `[{"id": 1, "name": "Mole", "must": "x", "length": 10, "berths": [{"no": 1, "depth": 5}, {"no": 2, "depth": 9, "tags": ["deep"]}, {"no": 3}]},
				{"id": 2, "name": "Pier", "must": null, "length": 30.5, "berths": []}, {"id": 3, "name": null, "must": "y", "berths": null}, {"id": 4, "name": "Jetty", "must": "z", "length": 20, "berths": 7}]`,
		}),
		"b": storetest.NewMemory(`calls: id int! quay int n int?`, map[string]string{
			"calls": `[{"id": 1, "quay": 1, "n": 3}, {"id": 2, "quay": 1, "n": 9}, {"id": 3, "quay": 1}, {"id": 4, "quay": 4, "n": 1}, {"id": 5, "quay": 1, "n": 5}]`,
		}),
	}
}

// TestPagesAndTotals holds pages, totals and lists of nested records that the
// engine makes by itself.
func TestPagesAndTotals(t *testing.T) {
	for _, test := range []struct{ text, want, errs string }{
		{`{ quays(first: 2, sort: [{length: DESC}]) { pageInfo { hasNextPage hasPreviousPage } edges { node { name } } } }`,
			`{"quays":{"pageInfo":{"hasNextPage":true,"hasPreviousPage":false},"edges":[{"node":{"name":"Pier"}},{"node":{"name":"Jetty"}}]}}`, ``},
		{`{ quays(last: 3, sort: [{length: DESC}]) { pageInfo { hasNextPage hasPreviousPage } edges { node { id } } } }`,
			`{"quays":{"pageInfo":{"hasNextPage":false,"hasPreviousPage":true},"edges":[{"node":{"id":"4"}},{"node":{"id":"1"}},{"node":{"id":"3"}}]}}`, ``},
		{`{ quays(first: 0) { totalCount edges { node { id } } pageInfo { startCursor endCursor hasNextPage } } }`,
			`{"quays":{"totalCount":4,"edges":[],"pageInfo":{"startCursor":null,"endCursor":null,"hasNextPage":true}}}`, ``},
		{`{ all { id callCount sum calls { totalCount edges { node { n } } } } }`,
			`{"all":[{"id":"1","callCount":4,"sum":17,"calls":{"totalCount":4,"edges":[{"node":{"n":9}},{"node":{"n":5}}]}},{"id":"2","callCount":0,"sum":null,"calls":{"totalCount":0,"edges":[]}},` +
				`{"id":"3","callCount":0,"sum":null,"calls":{"totalCount":0,"edges":[]}},{"id":"4","callCount":1,"sum":1,"calls":{"totalCount":1,"edges":[{"node":{"n":1}}]}}]}`, ``},
		{`{ count a: count(filter: {name: {missing: true}}) longest }`, `{"count":4,"a":1,"longest":30.5}`, ``},
		{`{ all { berths(filter: {depth: {above: 4}}, sort: [{depth: DESC}]) { no tags } } }`,
			`{"all":[{"berths":[{"no":2,"tags":["deep"]},{"no":1,"tags":null}]},{"berths":[]},{"berths":null},{"berths":null}]}`,
			`BAD_VALUE [all 3 berths]: Quay.berths: expected a list, found a number`},
		{`{ all { id berths(sort: [{depth: ASC_NULLS_LAST}], offset: 1, limit: 1) { no } } }`,
			`{"all":[{"id":"1","berths":[{"no":2}]},{"id":"2","berths":[]},{"id":"3","berths":null},{"id":"4","berths":null}]}`, `BAD_VALUE [all 3 berths]: Quay.berths: expected a list, found a number`},
		{`{ all { id berths(filter: {not: {depth: {missing: true}}}, limit: -1) { no } } }`,
			`{"all":[{"id":"1","berths":null},{"id":"2","berths":null},{"id":"3","berths":null},{"id":"4","berths":null}]}`,
			"BAD_VALUE [all 0 berths]: the argument \"limit\" must be 0 or more, found -1\nBAD_VALUE [all 1 berths]: the argument \"limit\" must be 0 or more, found -1\nBAD_VALUE [all 3 berths]: Quay.berths: expected a list, found a number"},
		// What is required and missing takes the whole page with it, since nothing
		// below it may be null.
		{`{ quays(first: 3) { edges { node { id must } } } all { id } }`, `null`, `NOT_FOUND [quays edges 1 node must]: Quay.must is required, and there is no value for it`},
		{`{ all { calls(first: 1, last: 1) { edges { cursor } } } }`, `{"all":[{"calls":null},{"calls":null},{"calls":null},{"calls":null}]}`,
			"BAD_VALUE [all 0 calls]: the argument \"first\" cannot be given together with last\nBAD_VALUE [all 1 calls]: the argument \"first\" cannot be given together with last\nBAD_VALUE [all 2 calls]: the argument \"first\" cannot be given together with last\nBAD_VALUE [all 3 calls]: the argument \"first\" cannot be given together with last"},
		{`{ all { calls(after: "nonsense") { totalCount edges { cursor } } } }`, `{"all":[{"calls":null},{"calls":null},{"calls":null},{"calls":null}]}`,
			"BAD_VALUE [all 0 calls]: the argument \"after\" is no cursor of this list in this order\nBAD_VALUE [all 1 calls]: the argument \"after\" is no cursor of this list in this order\nBAD_VALUE [all 2 calls]: the argument \"after\" is no cursor of this list in this order\nBAD_VALUE [all 3 calls]: the argument \"after\" is no cursor of this list in this order"},
		{`{ quays { __typename edges { __typename node { __typename } } pageInfo { __typename } } }`,
			`{"quays":{"__typename":"QuayConnection","edges":[{"__typename":"QuayEdge","node":{"__typename":"Quay"}},{"__typename":"QuayEdge","node":{"__typename":"Quay"}},{"__typename":"QuayEdge","node":{"__typename":"Quay"}},{"__typename":"QuayEdge","node":{"__typename":"Quay"}}],"pageInfo":{"__typename":"PageInfo"}}}`, ``},
	} {
		e := newEngineOf(t, berths, quayStores())
		got, errs := e.ask(t, test.text)
		if got != test.want || errs != test.errs {
			t.Errorf("%s\nanswers %s\n%s\nwant    %s\n%s", test.text, got, errs, test.want, test.errs)
		}
	}
}

// TestTotalsShareReads checks that totals and the list that they are of are one
// request where the engine makes them.
func TestTotalsShareReads(t *testing.T) {
	stores := quayStores()
	e := newEngineOf(t, berths, stores)
	e.ask(t, `{ count longest all { id callCount sum calls { totalCount edges { node { id } } } } }`)
	if asked := stores["a"].Asked(); len(asked) != 1 {
		t.Errorf("the quays are asked for by %q", asked)
	}
	if asked := stores["b"].Asked(); len(asked) != 1 {
		t.Errorf("the calls are asked for by %q", asked)
	}
}
