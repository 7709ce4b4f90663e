package rest_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/rest"
)

// A stock is a service that keeps things by their ids, in every way that Osprey can write:
// with conditions by If-Match, whole, in part, and by counting.
type stock struct {
	*httptest.Server
	mu     sync.Mutex
	things map[int]map[string]any
	asked  []string
}

func newStock(t *testing.T) *stock {
	s := &stock{things: map[int]map[string]any{}}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(v)
	}
	list := func(w http.ResponseWriter, _ *http.Request) {
		things := []any{}
		for _, id := range slices.Sorted(maps.Keys(s.things)) {
			things = append(things, s.things[id])
		}
		answer(w, 200, things)
	}
	one := func(do func(w http.ResponseWriter, r *http.Request, id int, given map[string]any)) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			id, _ := strconv.Atoi(r.PathValue("id"))
			given := map[string]any{}
			json.NewDecoder(r.Body).Decode(&given)
			if r.Method != http.MethodPut && s.things[id] == nil {
				answer(w, 404, nil)
				return
			}
			if tag := r.Header.Get("If-Match"); tag != "" && tag != fmt.Sprintf(`"%v"`, s.things[id]["n"]) {
				answer(w, 412, nil)
				return
			}
			do(w, r, id, given)
		}
	}
	patch := func(thing, given map[string]any) {
		for name, v := range given {
			if thing[name] = v; v == nil {
				delete(thing, name)
			}
		}
	}
	mux.HandleFunc("GET /things", list)
	mux.HandleFunc("GET /parts", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, []any{}) })
	mux.HandleFunc("GET /things/{id}", one(func(w http.ResponseWriter, _ *http.Request, id int, _ map[string]any) { answer(w, 200, s.things[id]) }))
	mux.HandleFunc("POST /things", func(w http.ResponseWriter, r *http.Request) {
		given := map[string]any{}
		json.NewDecoder(r.Body).Decode(&given)
		id := int(given["id"].(float64))
		if s.things[id] != nil {
			answer(w, 409, nil)
			return
		}
		s.things[id] = map[string]any{}
		patch(s.things[id], given)
		answer(w, 201, s.things[id])
	})
	mux.HandleFunc("PUT /things/{id}", one(func(w http.ResponseWriter, _ *http.Request, id int, given map[string]any) {
		if s.things[id] == nil {
			s.things[id] = map[string]any{"id": id}
		}
		patch(s.things[id], given)
		w.WriteHeader(204)
	}))
	mux.HandleFunc("PATCH /things/{id}", one(func(w http.ResponseWriter, _ *http.Request, id int, given map[string]any) {
		patch(s.things[id], given)
		answer(w, 200, s.things[id])
	}))
	mux.HandleFunc("POST /things/{id}/count", one(func(w http.ResponseWriter, _ *http.Request, id int, given map[string]any) {
		n, _ := s.things[id]["n"].(float64)
		s.things[id]["n"] = n + given["n"].(float64)
		w.WriteHeader(204)
	}))
	mux.HandleFunc("DELETE /things/{id}", one(func(w http.ResponseWriter, _ *http.Request, id int, _ map[string]any) {
		delete(s.things, id)
		w.WriteHeader(204)
	}))
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.asked = append(s.asked, strings.TrimSpace(r.Method+" "+r.URL.RequestURI()+" "+r.Header.Get("If-Match")))
		mux.ServeHTTP(w, r)
	}))
	t.Cleanup(s.Close)
	return s
}

// engine returns an engine on the service.
func (s *stock) engine(t *testing.T) *conform.Engine {
	t.Helper()
	source, err := rest.Open(rest.Config{URL: s.URL, Sets: []rest.Set{
		{Name: "things", Key: []string{"id"},
			Fields: []rest.Field{{Name: "id", Kind: store.Int}, {Name: "code", Kind: store.Text}, {Name: "name", Kind: store.Text, Nullable: true}, {Name: "n", Kind: store.Int, Nullable: true}},
			Reads:  []rest.ReadForm{{Get: "/things"}, {Get: "/things/{id}"}},
			Writes: rest.Writes{Add: &rest.WriteForm{Post: "/things"}, Replace: &rest.WriteForm{Put: "/things/{id}"}, Change: &rest.WriteForm{Patch: "/things/{id}", Match: "n"},
				Adjust: &rest.WriteForm{Post: "/things/{id}/count"}, Remove: &rest.WriteForm{Delete: "/things/{id}"}}},
		{Name: "parts", Key: []string{"id"}, Fields: []rest.Field{{Name: "id", Kind: store.Int}, {Name: "size", Kind: store.Int}, {Name: "thing", Kind: store.Int}}, Reads: []rest.ReadForm{{Get: "/parts{?thing}", Many: "thing"}}},
	}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { source.Close() })
	types := conform.LooseTypes
	types = strings.Replace(types, " parts: [NewPart!] }", " }", 1) // which the service does not add
	return conform.NewEngine(t, types, map[string]store.Source{"db": source})
}

// TestRandomWrites holds random operations that write and read to a model, and looks into the
// service after each.
func TestRandomWrites(t *testing.T) {
	for seed := range uint64(4) {
		s := newStock(t)
		conform.Written{Replaces: true, Loose: true, State: func() []string {
			s.mu.Lock()
			defer s.mu.Unlock()
			var list []string
			for _, id := range slices.Sorted(maps.Keys(s.things)) {
				x := s.things[id]
				name, _ := json.Marshal(x["name"])
				n, _ := json.Marshal(x["n"])
				list = append(list, fmt.Sprintf(`{"id":"%d","code":"%s","name":%s,"n":%s}`, id, x["code"], name, n))
			}
			return list
		}}.Writes(t, s.engine(t), seed, 150)
	}
}

// TestAtOnce changes one record from many at once: those that count all count, and of those that
// expect what is there, each loses nothing that another one wrote.
func TestAtOnce(t *testing.T) {
	s := newStock(t)
	e := s.engine(t)
	if o := e.Ask(t, `mutation { add(thing: {id: 1, code: "a", n: 0}) { id } put(thing: {id: 2, code: "b", n: 0}) { n } }`, nil); len(o.Errors) > 0 {
		t.Fatal(o.Errors)
	}
	done := make(chan string)
	for range 8 {
		go func() {
			for range 10 {
				if o := e.Ask(t, `mutation { count(id: 1, by: 1) { id } }`, nil); len(o.Errors) > 0 {
					done <- o.Errors[0]
					return
				}
				for { // the value is read, and one more is written if it is still there
					var got struct{ Things []struct{ N int } }
					o := e.Ask(t, `{ things(filter: {id: {is: 2}}) { n } }`, nil)
					if err := json.Unmarshal([]byte(o.Data), &got); err != nil || len(got.Things) != 1 {
						done <- fmt.Sprint(o.Data, o.Errors)
						return
					}
					n := got.Things[0].N
					if o = e.Ask(t, fmt.Sprintf(`mutation { swap(id: 2, was: %d, n: %d) { n } }`, n, n+1), nil); len(o.Errors) == 0 {
						break
					}
					if want := fmt.Sprintf("[swap] CONFLICT Mutation.swap(was:) %d is not what is stored any more: another change came first, and nothing of this one is done", n); o.Errors[0] != want {
						done <- o.Errors[0]
						return
					}
				}
			}
			done <- ""
		}()
	}
	for range 8 {
		if failed := <-done; failed != "" {
			t.Error(failed)
		}
	}
	if s.things[1]["n"] != 80.0 || s.things[2]["n"] != 80.0 {
		t.Errorf("80 times counted is %v, and 80 times written %v", s.things[1]["n"], s.things[2]["n"])
	}
}

// TestWays holds what check tells of ways that a service has not.
func TestWays(t *testing.T) {
	s := newStock(t)
	open := func(w rest.Writes) (*rest.Source, error) {
		return rest.Open(rest.Config{URL: s.URL, Sets: []rest.Set{{Name: "things", Key: []string{"id"}, Writes: w,
			Fields: []rest.Field{{Name: "id", Kind: store.Int}, {Name: "name", Kind: store.Text}, {Name: "n", Kind: store.Int}}, Reads: []rest.ReadForm{{Get: "/things"}}}}})
	}
	if _, err := open(rest.Writes{Change: &rest.WriteForm{Patch: "/things/{id}", Match: "m"}}); err == nil || !strings.Contains(err.Error(), `match of change of things names "m", which is none of the fields`) {
		t.Errorf("a match of nothing gives %v", err)
	}
	source, err := open(rest.Writes{Change: &rest.WriteForm{Patch: "/things/{id}{?n}"}, Adjust: &rest.WriteForm{Post: "/things/{id}/count"}})
	if err != nil {
		t.Fatal(err)
	}
	defer source.Close()
	id, name, n := store.Given{Field: "id", Kind: store.Int}, store.Given{Field: "name", Kind: store.Text}, store.Given{Field: "n", Kind: store.Int}
	counted := n
	counted.How = store.Adjusted
	for want, w := range map[string]*store.Write{
		"": {Action: store.Change, Columns: []store.Given{name}, Keys: []store.Given{id}, Expect: []store.Given{n}},
		"nothing says how a record of things is added or changed\n→ say how by replace under writes: in osprey.yaml": {Action: store.Add, Columns: []store.Given{id, name}, Replaces: []string{"id"}},
		"nothing says how the service is told which name is expected":                                                {Action: store.Change, Columns: []store.Given{n}, Keys: []store.Given{id}, Expect: []store.Given{name}},
		"its address has n once, which is both given and expected":                                                   {Action: store.Change, Columns: []store.Given{n}, Keys: []store.Given{id}, Expect: []store.Given{n}},
		"a service that counts is given nothing else, and name is":                                                   {Action: store.Change, Columns: []store.Given{counted, name}, Keys: []store.Given{id}},
		"nothing says how a record of things is removed\n→ say how by remove under writes: in osprey.yaml":           {Action: store.Remove, Keys: []store.Given{id}},
	} {
		w.Set = "things"
		if err := source.Capabilities().Write.Takes(nil, w); (err == nil) != (want == "") || err != nil && !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", w, err, want)
		}
	}
}
