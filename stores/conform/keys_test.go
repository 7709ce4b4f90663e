package conform_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/conform"
	"osprey/stores/document"
	"osprey/stores/relational"
	"osprey/stores/rest"
)

// TestOnlyKeysThatAreReferredTo counts the keys that arrive at the document server:
// from some limit on the table of craft is sent whole, and only those that a call
// refers to may be asked about.
func TestOnlyKeysThatAreReferredTo(t *testing.T) {
	registry, inspections, wire := openHarbour(t)
	e := conform.NewEngine(t, `
type Query { calls(filter: CallFilter, limit: Int): [Call!]! @read }
type Call @stored(in: "registry", as: "port_calls", key: "id") { id: ID! craft: Craft @related(here: "craft_imo") }
type Craft @stored(in: "registry", as: "craft", key: "imo") {
  imo: ID!
  name: String
  inspections(limit: Int): [Inspection!]! @related(here: "imo", there: "craft.imo")
  shout: String @computed(expr: "record.name + '!'")
}
type Inspection @stored(in: "inspections", as: "inspections", key: "_id") { id: ID! @at(path: "_id") outcome: String }
`, map[string]store.Source{"registry": registry, "inspections": inspections})
	list := regexp.MustCompile(`"craft\.imo": ?\{"\$in": ?\[(.*?)\]`)
	for _, limit := range []int{1, 99, 100, 101, 128, 1000} {
		wire.Texts()
		o := e.Ask(t, fmt.Sprintf(`{ calls(filter: {id: {is: 7}}, limit: %d) { id craft { name shout inspections(limit: 2) { outcome } } } }`, limit), nil)
		if len(o.Errors) > 0 || strings.Count(o.Data, `"craft":{`) != 1 {
			t.Fatalf("limit %d: %s %v", limit, o.Data, o.Errors)
		}
		keys := 0
		for _, text := range wire.Texts() {
			for _, in := range list.FindAllStringSubmatch(text, -1) {
				keys += 1 + strings.Count(in[1], ",")
			}
		}
		// A key is asked for in each form that the collection may have it in.
		if keys == 0 || keys > 2 {
			t.Errorf("limit %d: %d keys arrive for one craft\n%s", limit, keys, o.Plan)
		}
	}
}

// TestPickedKeys counts the keys that go on from records that an expression picks, also
// over records that are part of the same statement, and where the expression itself
// waits for the other store.
func TestPickedKeys(t *testing.T) {
	registry, inspections, wire := openHarbour(t)
	e := conform.NewEngine(t, `
type Query { quays: [Quay!]! @read }
type Quay @stored(in: "registry", as: "quays", key: "code") {
  code: ID!
  calls: [Call!]! @related(there: "quay_code")
  repairs: [Call!] @computed(expr: "record.calls.filter(c, c.purpose == 'repair' && c.id == string(int(c.id) / 50 * 50))")
  troubled: [Call!] @computed(expr: "record.calls.filter(c, c.id == string(int(c.id) / 50 * 50) && c.craft.inspections.size() > 0)")
}
type Call @stored(in: "registry", as: "port_calls", key: "id") { id: ID! purpose: String craft: Craft @related(here: "craft_imo") }
type Craft @stored(in: "registry", as: "craft", key: "imo") { imo: ID! name: String inspections: [Inspection!]! @related(here: "imo", there: "craft.imo") calls(limit: Int): [Call!]! @related(there: "craft_imo") }
type Inspection @stored(in: "inspections", as: "inspections", key: "_id") { id: ID! @at(path: "_id") outcome: String }
`, map[string]store.Source{"registry": registry, "inspections": inspections})
	list := regexp.MustCompile(`"craft\.imo": ?\{"\$in": ?\[(.*?)\]`)
	craft := regexp.MustCompile(`"imo":"(\d+)"`)
	for _, test := range []struct {
		op    string
		waves int
	}{
		{`{ quays { repairs { craft { imo inspections { outcome } } } } }`, 2},
		{`{ quays { repairs { craft { imo calls(limit: 1) { craft { inspections { outcome } } } } } } }`, 2},
		{`{ quays { troubled { craft { imo inspections { id outcome } } } } }`, 3},
	} {
		wire.Texts()
		o := e.Ask(t, test.op, nil)
		if len(o.Errors) > 0 || o.Plan.Waves != test.waves {
			t.Fatalf("%s: %.300s %v\n%s", test.op, o.Data, o.Errors, o.Plan)
		}
		shown := map[string]bool{}
		for _, m := range craft.FindAllStringSubmatch(o.Data, -1) {
			shown[m[1]] = true
		}
		keys := 0
		for _, text := range wire.Texts() { // the last find is that of what was picked
			for _, in := range list.FindAllStringSubmatch(text, -1) {
				keys = 1 + strings.Count(in[1], ",")
			}
		}
		// A key is asked for in each form that the collection may have it in.
		if len(shown) < 3 || keys != len(shown) && keys != 2*len(shown) {
			t.Errorf("%s shows %d craft, and %d keys arrive\n%s", test.op, len(shown), keys, o.Plan)
		}
	}
}

// TestListsOfKeys follows lists of keys in the order of the list, with what is twice
// and what is null in it, between services of every kind.
func TestListsOfKeys(t *testing.T) {
	var mu sync.Mutex
	var asked []string
	people := map[string]string{"4": "Oda", "7": "Per", "9": "Kari"}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = append(asked, r.URL.String())
		mu.Unlock()
		list := []any{}
		switch r.URL.Path {
		case "/people":
			for _, id := range r.URL.Query()["id"] {
				if people[id] != "" {
					list = append(list, map[string]any{"id": json.Number(id), "name": people[id]})
				}
			}
		case "/boards":
			list = append(list, map[string]any{"id": 1, "members": []any{7, nil, 12, 4, 7}}, map[string]any{"id": 2, "members": nil}, map[string]any{"id": 3, "members": []any{}}, map[string]any{"id": 4, "members": 9})
		}
		json.NewEncoder(w).Encode(list)
	}))
	defer service.Close()
	sets := []rest.Set{
		{Name: "people", Key: []string{"id"}, Fields: []rest.Field{{Name: "id", Kind: store.Int}, {Name: "name", Kind: store.Text}}, Reads: []rest.ReadForm{{Get: "/people{?id*}", Many: "id"}}},
		{Name: "boards", Key: []string{"id"}, Fields: []rest.Field{{Name: "id", Kind: store.Int}}, Reads: []rest.ReadForm{{Get: "/boards"}, {Get: "/boards{?members*}", Many: "members"}}},
	}
	source, err := rest.Open(rest.Config{URL: service.URL, Sets: sets})
	if err != nil {
		t.Fatal(err)
	}
	e := conform.NewEngine(t, `
type Query { boards: [Board!]! @read  people(id: [ID!]): [Person!]! @read }
type Board @stored(in: "s", as: "boards", key: "id") {
  id: ID!
  members(sort: [PersonSort!], limit: Int, offset: Int): [Person!]! @related(here: "members", there: "id")
  count: Int! @total(of: "members")
}
type Person @stored(in: "s", as: "people", key: "id") { id: ID! name: String boards: [Board!]! @related(here: "id", there: "members") }
`, map[string]store.Source{"s": source})
	for _, test := range []struct{ op, want string }{
		{`{ boards { members { name } count } }`, `{"boards":[{"members":[{"name":"Per"},{"name":"Oda"},{"name":"Per"}],"count":3},{"members":[],"count":0},{"members":[],"count":0},{"members":[{"name":"Kari"}],"count":1}]}`},
		{`{ boards { members(sort: [{name: DESC}], limit: 2, offset: 1) { id } } }`, `{"boards":[{"members":[{"id":"7"},{"id":"4"}]},{"members":[]},{"members":[]},{"members":[]}]}`},
		{`{ people(id: [4, 7, 9]) { name boards { id } } }`, `{"people":[{"name":"Oda","boards":[{"id":"1"}]},{"name":"Per","boards":[{"id":"1"}]},{"name":"Kari","boards":[{"id":"4"}]}]}`},
	} {
		asked = nil
		o := e.Ask(t, test.op, nil)
		if o.Data != test.want || len(o.Errors) > 0 {
			t.Errorf("%s\ngives %s %v\nwant  %s", test.op, o.Data, o.Errors, test.want)
		}
		if len(asked) != 2 {
			t.Errorf("%s asks %q", test.op, asked)
		}
	}
}

// TestStartsWhenReady asks a slow service beside a chain of two quick ones: the
// second of the chain is asked while the slow one has not answered.
func TestStartsWhenReady(t *testing.T) {
	second := make(chan struct{})
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/slow":
			select {
			case <-second:
			case <-time.After(4 * time.Second):
				t.Error("the second of the chain waits for a service that it needs nothing of")
			}
		case "/second":
			close(second)
		}
		w.Write([]byte(`[{"id": 1, "next": 1}]`))
	}))
	defer service.Close()
	var sets []rest.Set
	for _, name := range []string{"slow", "first", "second"} {
		sets = append(sets, rest.Set{Name: name, Key: []string{"id"}, Fields: []rest.Field{{Name: "id", Kind: store.Int}, {Name: "next", Kind: store.Int}}, Reads: []rest.ReadForm{{Get: "/" + name}, {Get: "/" + name + "{?id}", Many: "id"}}})
	}
	source, err := rest.Open(rest.Config{URL: service.URL, Sets: sets})
	if err != nil {
		t.Fatal(err)
	}
	e := conform.NewEngine(t, `
type Query { slow: [Slow!] @read  first: [First!] @read }
type Slow @stored(in: "s", as: "slow", key: "id") { id: ID! }
type First @stored(in: "s", as: "first", key: "id") { id: ID! next: Second @related(here: "next") }
type Second @stored(in: "s", as: "second", key: "id") { id: ID! }
`, map[string]store.Source{"s": source})
	o := e.Ask(t, `{ slow { id } first { next { id } } }`, nil)
	if o.Data != `{"slow":[{"id":"1"}],"first":[{"next":{"id":"1"}}]}` || len(o.Errors) > 0 || len(o.Requests) != 3 || o.Requests[2].Wave != 2 {
		t.Errorf("%s %v %+v", o.Data, o.Errors, o.Requests)
	}
}

// openHarbour opens the harbour's database and its documents, and listens to what the
// document server is asked.
func openHarbour(t *testing.T) (registry, inspections store.Source, wire *demotest.Wire) {
	t.Helper()
	wire = demotest.NewWire(t)
	database, err := relational.Open(relational.Config{URL: demotest.Harbour().RegistryURL, Pool: 2})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { database.Close() })
	documents, err := document.Open(document.Config{URL: wire.URL})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { documents.Close() })
	return database, documents, wire
}
