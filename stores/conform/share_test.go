package conform_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/conform"
	"osprey/stores/document"
	"osprey/stores/rest"
)

// TestSharedReads counts, at a service and on the wire of the document server, what
// fields of one wave ask that another asks, too.
func TestSharedReads(t *testing.T) {
	var mu sync.Mutex
	var asked []string
	things := []map[string]any{{"id": 1, "kind": "a", "n": 3, "next": 2}, {"id": 2, "kind": "b", "n": 1, "next": 9}, {"id": 3, "kind": "a", "n": 2, "next": 9}}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = append(asked, r.URL.String())
		mu.Unlock()
		list := []any{}
		for _, thing := range things {
			id, _ := json.Marshal(thing["id"])
			next, _ := json.Marshal(thing["next"])
			if leads := r.URL.Query()["next"]; leads != nil && !slices.Contains(leads, string(next)) {
				continue
			}
			if kind := r.URL.Query().Get("kind"); kind != "" && kind != thing["kind"] || r.URL.Path != "/things" && r.URL.Path != "/things/"+string(id) {
				continue
			}
			list = append(list, thing)
		}
		if len(list) == 0 && r.URL.Path != "/things" {
			http.NotFound(w, r)
			return
		}
		json.NewEncoder(w).Encode(list)
	}))
	defer service.Close()
	remote, err := rest.Open(rest.Config{URL: service.URL, Sets: []rest.Set{{Name: "things", Key: []string{"id"},
		Fields: []rest.Field{{Name: "id", Kind: store.Int}, {Name: "kind", Kind: store.Text}, {Name: "n", Kind: store.Int}, {Name: "next", Kind: store.Int}},
		Reads:  []rest.ReadForm{{Get: "/things{?kind}"}, {Get: "/things/{id}"}, {Get: "/things{?next*,kind}", Many: "next"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	wire := demotest.NewWire(t)
	documents, err := document.Open(document.Config{URL: wire.URL})
	if err != nil {
		t.Fatal(err)
	}
	defer documents.Close()
	e := conform.NewEngine(t, `
type Query {
  things(kind: String, filter: ThingFilter, sort: [ThingSort!], limit: Int): [Thing!]! @read
  thing(id: ID!): Thing @read
  inspections(filter: InspectionFilter, sort: [InspectionSort!], limit: Int): [Inspection!]! @read
  inspection(id: ID!): Inspection @read
}
type Thing @stored(in: "s", as: "things", key: "id") { id: ID! kind: String n: Int next: Thing @related(here: "next")
  prior(filter: ThingFilter): [Thing!]! @related(here: "id", there: "next")
  ranked(filter: ThingFilter): [Thing!]! @related(here: "n", there: "next")
  beside(filter: ThingFilter): [Thing!]! @related(here: "next", there: "next") }
type Inspection @stored(in: "d", as: "inspections", key: "_id") { id: ID! @at(path: "_id") outcome: String inspector: String @at(path: "inspector.name") }
`, map[string]store.Source{"s": remote, "d": documents})
	first := e.Ask(t, `{ inspections(limit: 1, sort: [{id: ASC}]) { id } }`, nil)
	id := strings.Split(first.Data, `"`)[5]
	for _, test := range []struct {
		op         string
		want       string // of the services; "" if it is only counted
		rest, mong int
	}{
		{`{ a: things { id } b: things { n } }`, `{"a":[{"id":"1"},{"id":"2"},{"id":"3"}],"b":[{"n":3},{"n":1},{"n":2}]}`, 1, 0},
		{`{ a: things(filter: {n: {above: 1}}) { id } b: things { n } }`, `{"a":[{"id":"1"},{"id":"3"}],"b":[{"n":3},{"n":1},{"n":2}]}`, 1, 0},
		{`{ a: things { n } b: things(filter: {n: {above: 1}}, sort: [{n: ASC}]) { id } c: things(filter: {n: {below: 3}}, limit: 1) { id } }`,
			`{"a":[{"n":3},{"n":1},{"n":2}],"b":[{"id":"3"},{"id":"1"}],"c":[{"id":"2"}]}`, 1, 0},
		{`{ a: things(kind: "a") { id } b: things(kind: "a", filter: {n: {is: 2}}) { id } }`, `{"a":[{"id":"1"},{"id":"3"}],"b":[{"id":"3"}]}`, 1, 0},
		{`{ a: things(kind: "a") { id } b: things(kind: "b") { id } c: things { n } }`, `{"a":[{"id":"1"},{"id":"3"}],"b":[{"id":"2"}],"c":[{"n":3},{"n":1},{"n":2}]}`, 1, 0},
		{`{ a: things(kind: "a") { id } b: things(kind: "b") { id } }`, `{"a":[{"id":"1"},{"id":"3"}],"b":[{"id":"2"}]}`, 2, 0},
		{`{ a: thing(id: 1) { n } b: thing(id: 1) { kind } c: thing(id: 7) { n } }`, `{"a":{"n":3},"b":{"kind":"a"},"c":null}`, 2, 0},
		// The missing record 9 is asked for by two fields, in one wave and the next.
		{`{ things { next { next { id } } } }`, `{"things":[{"next":{"next":null}},{"next":null},{"next":null}]}`, 3, 0},
		// The service takes no filter here, so those of any keys are one request.
		{`{ things { prior(filter: {n: {is: 3}}) { id } ranked(filter: {n: {above: 1}}) { id } } }`,
			`{"things":[{"prior":[],"ranked":[]},{"prior":[{"id":"1"}],"ranked":[]},{"prior":[],"ranked":[{"id":"1"}]}]}`, 2, 0},
		{`{ things { prior(filter: {n: {is: 3}}) { id } again: prior { n } ranked(filter: {n: {is: 3}}) { id } } }`,
			`{"things":[{"prior":[],"again":[],"ranked":[]},{"prior":[{"id":"1"}],"again":[{"n":3}],"ranked":[]},{"prior":[],"again":[],"ranked":[{"id":"1"}]}]}`, 2, 0},
		// It takes one here: those of any keys are one request, and those without.
		{`{ things { a: prior(filter: {kind: {is: "b"}}) { id } ranked { id } b: prior { n } beside(filter: {kind: {is: "b"}}) { id } } }`,
			`{"things":[{"a":[],"ranked":[],"b":[],"beside":[]},{"a":[],"ranked":[],"b":[{"n":3}],"beside":[{"id":"2"}]},{"a":[],"ranked":[{"id":"1"}],"b":[],"beside":[{"id":"2"}]}]}`, 3, 0},
		{`{ a: inspection(id: "` + id + `") { outcome } b: inspection(id: "` + id + `") { inspector } }`, "", 0, 1},
		{`{ a: inspections(filter: {outcome: {is: "PASSED"}}) { id } b: inspections(filter: {outcome: {is: "DETAINED"}}, sort: [{id: DESC}]) { outcome } c: inspection(id: "` + id + `") { id } }`, "", 0, 1},
		{`{ a: inspections(filter: {outcome: {is: "PASSED"}}) { id } b: inspections { outcome } }`, "", 0, 1},
		{`{ a: inspections(limit: 3) { id } b: inspections(limit: 3) { outcome } }`, "", 0, 1},
		// Two lists with bounds of their own are two finds: nothing says how much is more
		// than both.
		{`{ a: inspections(limit: 3) { id } b: inspections(limit: 4) { outcome } }`, "", 0, 2},
	} {
		asked = nil
		wire.Reads()
		o := e.Ask(t, test.op, nil)
		if len(o.Errors) > 0 || test.want != "" && o.Data != test.want {
			t.Errorf("%s\ngives %s %v\nwant  %s\n%s", test.op, o.Data, o.Errors, test.want, o.Plan)
		}
		if finds := len(wire.Reads()); len(asked) != test.rest || finds != test.mong {
			t.Errorf("%s\nasks the service %q and makes %d finds, want %d and %d\n%s", test.op, asked, finds, test.rest, test.mong, o.Plan)
		}
		told := 0
		for _, c := range o.Requests {
			told += c.RoundTrips
		}
		if told != test.rest+test.mong {
			t.Errorf("%s\ntells %d requests", test.op, told)
		}
	}
}
