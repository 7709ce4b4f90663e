package rest_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/rest"
)

// A shelf is a service that keeps buoys, and notes what it is asked.
type shelf struct {
	*httptest.Server
	mu     sync.Mutex
	buoys  map[string]map[string]any
	asked  []string
	broken bool // the connection breaks after a change
}

func newShelf(t *testing.T, jsonAPI bool) *shelf {
	s := &shelf{buoys: map[string]map[string]any{"b1": {"id": "b1", "name": "Outer", "depth": 12.5, "light": map[string]any{"colour": "red"}}}}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		body, _ := io.ReadAll(r.Body)
		s.asked = append(s.asked, strings.TrimSpace(r.Method+" "+r.URL.RequestURI()+" "+string(body)))
		w.Header().Set("Cache-Control", "max-age=3600")
		if jsonAPI {
			s.jsonAPI(w, r, body)
			return
		}
		s.plain(w, r, body)
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *shelf) plain(w http.ResponseWriter, r *http.Request, body []byte) {
	id := strings.TrimPrefix(r.URL.Path, "/buoys/")
	var given struct{ Buoy map[string]any }
	json.Unmarshal(body, &given)
	switch {
	case s.broken && r.Method != http.MethodGet:
		panic(http.ErrAbortHandler)
	case r.Method == http.MethodPost:
		if given.Buoy["name"] == "twice" {
			http.Error(w, `{}`, http.StatusConflict)
			return
		}
		if depth, _ := given.Buoy["depth"].(float64); depth < 0 {
			http.Error(w, `{"title": "wrong", "detail": "a buoy is not in the air"}`, http.StatusUnprocessableEntity)
			return
		}
		id = fmt.Sprintf("b%d", len(s.buoys)+1)
		given.Buoy["id"] = id
		s.buoys[id] = given.Buoy
		w.WriteHeader(http.StatusCreated)
		json.NewEncoder(w).Encode(map[string]any{"made": given.Buoy})
	case s.buoys[id] == nil && id != "/buoys":
		http.Error(w, `{}`, http.StatusNotFound)
	case r.Method == http.MethodPatch:
		for name, v := range given.Buoy {
			s.buoys[id][name] = v
		}
		w.WriteHeader(http.StatusNoContent)
	case r.Method == http.MethodDelete:
		delete(s.buoys, id)
		w.WriteHeader(http.StatusNoContent)
	case id == "/buoys":
		var list []any
		for n := range 20 {
			if b := s.buoys[fmt.Sprintf("b%d", n)]; b != nil {
				list = append(list, b)
			}
		}
		json.NewEncoder(w).Encode(list)
	default:
		json.NewEncoder(w).Encode(s.buoys[id])
	}
}

func (s *shelf) jsonAPI(w http.ResponseWriter, r *http.Request, body []byte) {
	w.Header().Set("Content-Type", "application/vnd.api+json")
	id := strings.TrimPrefix(r.URL.Path, "/buoys/")
	var given struct {
		Data struct {
			ID         string
			Attributes map[string]any
		}
	}
	json.Unmarshal(body, &given)
	resource := func(id string) map[string]any {
		return map[string]any{"type": "buoys", "id": id, "attributes": s.buoys[id]}
	}
	switch {
	case r.Method == http.MethodPost:
		id = "n1"
		s.buoys[id] = given.Data.Attributes
		w.WriteHeader(http.StatusCreated)
		json.NewEncoder(w).Encode(map[string]any{"data": resource(id)})
	case s.buoys[id] == nil:
		http.Error(w, `{"errors": [{"detail": "no such buoy"}]}`, http.StatusNotFound)
	case r.Method == http.MethodPatch:
		for name, v := range given.Data.Attributes {
			s.buoys[id][name] = v
		}
		json.NewEncoder(w).Encode(map[string]any{"data": resource(id)})
	case r.Method == http.MethodDelete:
		delete(s.buoys, id)
		w.WriteHeader(http.StatusNoContent)
	default:
		json.NewEncoder(w).Encode(map[string]any{"data": resource(id)})
	}
}

// since returns what was asked since the last call.
func (s *shelf) since() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	asked := strings.Join(s.asked, "\n")
	s.asked = nil
	return asked
}

const buoyTypes = `type Query { buoys: [Buoy!]! @read }
type Mutation {
  lay(buoy: BuoyAdd!): Buoy @add
  layAll(buoys: [BuoyAdd!]!): [Buoy!] @add
  correct(id: ID!, name: String, light: LightAdd): Buoy @change
  correctAll(filter: BuoyFilter!, name: String): Int @change(of: "Buoy")
  lift(id: ID!): Buoy @remove
}
type Buoy @stored(in: "db", as: "buoys", key: "id") { id: ID! name: String! depth: Float light: Light }
type Light { colour: String }`

func openShelf(t *testing.T, c rest.Config) *conform.Engine {
	t.Helper()
	s, err := rest.Open(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return conform.NewEngine(t, buoyTypes, map[string]store.Source{"db": s})
}

// TestWrites adds, changes and removes records of a service, one request each, and reads them
// after that anew, though the service lets answers be kept.
func TestWrites(t *testing.T) {
	shelf := newShelf(t, false)
	e := openShelf(t, rest.Config{URL: shelf.URL, Sets: []rest.Set{{Name: "buoys", Key: []string{"id"},
		Fields: []rest.Field{{Name: "id", Kind: store.Text}, {Name: "name", Kind: store.Text}, {Name: "depth", Kind: store.Float, Nullable: true}, {Name: "light.colour", Kind: store.Text, Nullable: true}},
		Reads:  []rest.ReadForm{{Get: "/buoys"}, {Get: "/buoys/{id}"}},
		Writes: rest.Writes{Add: &rest.WriteForm{Post: "/buoys", Wrap: "buoy", Pick: "$.made"}, Change: &rest.WriteForm{Patch: "/buoys/{id}", Wrap: "buoy"}, Remove: &rest.WriteForm{Delete: "/buoys/{id}"}},
	}}})
	for _, test := range []struct{ op, data, errors, asked string }{
		{`mutation { lay(buoy: {name: "Inner", depth: 3.5, light: {colour: "green"}}) { id name depth light { colour } } }`, `{"lay":{"id":"b2","name":"Inner","depth":3.5,"light":{"colour":"green"}}}`, ``,
			`POST /buoys {"buoy":{"depth":3.5,"light":{"colour":"green"},"name":"Inner"}}` + "\nGET /buoys/b2"},
		{`mutation { correct(id: "b2", name: "In") { name depth } again: correct(id: "b2", name: "Inn") { name } none: correct(id: "b9", name: "x") { name } clear: correct(id: "b2", light: null) { light { colour } } }`, `{"correct":{"name":"In","depth":3.5},"again":{"name":"Inn"},"none":null,"clear":{"light":null}}`, ``,
			`PATCH /buoys/b2 {"buoy":{"name":"In"}}` + "\nGET /buoys/b2\n" + `PATCH /buoys/b2 {"buoy":{"name":"Inn"}}` + "\nGET /buoys/b2\n" + `PATCH /buoys/b9 {"buoy":{"name":"x"}}` + "\n" + `PATCH /buoys/b2 {"buoy":{"light":null}}` + "\nGET /buoys/b2"},
		{`mutation { lay(buoy: {name: "high", depth: -1}) { id } }`, `{"lay":null}`, `[lay] CONSTRAINT the record breaks the rule "a buoy is not in the air" of Buoy`, `POST /buoys {"buoy":{"depth":-1,"name":"high"}}`},
		{`mutation { layAll(buoys: [{name: "a"}, {name: "twice"}, {name: "c"}]) { id } }`, `{"layAll":null}`, `[layAll] CONSTRAINT Buoy.id is taken: another record has it; the first 1 of the list are written, since this store has no transactions`,
			`POST /buoys {"buoy":{"name":"a"}}` + "\n" + `POST /buoys {"buoy":{"name":"twice"}}`},
		{`mutation { correctAll(filter: {name: {in: ["a", "Outer"]}}, name: "same") }`, `{"correctAll":2}`, ``, "GET /buoys\n" + `PATCH /buoys/b1 {"buoy":{"name":"same"}}` + "\n" + `PATCH /buoys/b3 {"buoy":{"name":"same"}}`},
		{`mutation { lift(id: "b1") { name depth } again: lift(id: "b1") { name } }`, `{"lift":{"name":"same","depth":12.5},"again":null}`, ``, "GET /buoys/b1\nDELETE /buoys/b1\nGET /buoys/b1\nDELETE /buoys/b1"},
		{`{ buoys { id } }`, `{"buoys":[{"id":"b2"},{"id":"b3"}]}`, ``, "GET /buoys"},
	} {
		o := e.Ask(t, test.op, nil)
		if errors, asked := strings.Join(o.Errors, " "), shelf.since(); o.Data != test.data || errors != test.errors || asked != test.asked {
			t.Errorf("%s\ngives %s %v\nwant  %s %s\nasks\n%s\nwant\n%s", test.op, o.Data, o.Errors, test.data, test.errors, asked, test.asked)
		}
	}
	// A change whose answer nobody hears is made once, and told as what it is.
	shelf.broken = true
	o := e.Ask(t, `mutation { correct(id: "b2", name: "x") { name } }`, nil)
	if got := strings.Join(o.Errors, " "); strings.Count(shelf.since(), "PATCH") != 1 || !strings.Contains(got, "STORE_DOWN") || !strings.Contains(got, "nobody knows whether it is made") {
		t.Errorf("a connection that breaks gives %s", got)
	}
}

// TestJSONAPIWrites writes as JSON:API has it.
func TestJSONAPIWrites(t *testing.T) {
	shelf := newShelf(t, true)
	types := strings.Replace(strings.Replace(buoyTypes, "light: Light }", "}", 1), ", light: LightAdd", "", 1)
	s, err := rest.Open(rest.Config{URL: shelf.URL, JSONAPI: true, Sets: []rest.Set{{Name: "buoys",
		Fields: []rest.Field{{Name: "name", Kind: store.Text}, {Name: "depth", Kind: store.Float, Nullable: true}},
		Reads:  []rest.ReadForm{{Get: "/buoys"}, {Get: "/buoys/{id}"}}, Writes: rest.Writes{Add: &rest.WriteForm{}, Change: &rest.WriteForm{}, Remove: &rest.WriteForm{}}}}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	e := conform.NewEngine(t, types[:strings.Index(types, "type Light")], map[string]store.Source{"db": s})
	o := e.Ask(t, `mutation { lay(buoy: {name: "New", depth: 2}) { id name } correct(id: "n1", name: "Newer") { name depth } lift(id: "n1") { name } none: correct(id: "q", name: "x") { name } }`, nil)
	const want = `{"lay":{"id":"n1","name":"New"},"correct":{"name":"Newer","depth":2},"lift":{"name":"Newer"},"none":null}`
	const asked = `POST /buoys {"data":{"attributes":{"depth":2,"name":"New"},"type":"buoys"}}
GET /buoys/n1
PATCH /buoys/n1 {"data":{"attributes":{"name":"Newer"},"id":"n1","type":"buoys"}}
GET /buoys/n1
GET /buoys/n1
DELETE /buoys/n1
PATCH /buoys/q {"data":{"attributes":{"name":"x"},"id":"q","type":"buoys"}}`
	got := shelf.since()
	for _, query := range []string{"?fields%5Bbuoys%5D=name", "?fields%5Bbuoys%5D=depth%2Cname", "?fields%5Bbuoys%5D=depth,name"} {
		got = strings.ReplaceAll(got, query+"\n", "\n")
	}
	if o.Data != want || len(o.Errors) > 0 || got != asked {
		t.Errorf("gives %s %v\nasks\n%s", o.Data, o.Errors, got)
	}
}
