package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"osprey/access"
	"osprey/demo/demotest"
)

// priced serves things of a stand-in for callers with keys; hold, if it is not nil, is waited for by the
// stand-in before each answer.
func priced(t *testing.T, config string, hold chan struct{}) (base string, asked *atomic.Int64, keys map[string]string) {
	t.Helper()
	asked = &atomic.Int64{}
	things := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		if hold != nil {
			<-hold
		}
		io.WriteString(w, `[{"id": "1", "part": "2"}, {"id": "2", "part": "1"}]`)
	}))
	t.Cleanup(things.Close)
	keys = map[string]string{}
	var listed strings.Builder
	for _, name := range []string{"clerk", "screen", "greedy"} {
		made := access.Make()
		keys[name] = made.String()
		fmt.Fprintf(&listed, "    %s: { name: %s, roles: [%s], hash: %q }\n", made.ID, name, name, made.Hash)
	}
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml": "sources:\n  s:\n    kind: rest\n    url: " + things.URL + "\n    timeout: 20s\n    sets:\n      things:\n        key: id\n        fields: { id: text, part: text? }\n        reads:\n          - get: /things{?id*}\n            many: id\n          - get: /things\n" +
			config + "access:\n  roles:\n    clerk: { cost: 100, depth: 4, aliases: 2 }\n    screen: { rate: 50 }\n  keys:\n" + listed.String(),
		"schema/a.graphql": `type Query { things: [Thing!] @read thing(id: ID!): Thing @read } type Thing @stored(in: "s", as: "things", key: "id") { id: ID! part: Thing @related(here: "part", there: "id") }`,
	})
	return serve(t, dir), asked, keys
}

// with sends an operation with a key.
func with(t *testing.T, base, key, query string) (status int, text string, header http.Header) {
	t.Helper()
	body, _ := json.Marshal(object{"query": query})
	req, _ := http.NewRequest(http.MethodPost, base+"/graphql", bytes.NewReader(body))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+key)
	req.Header.Set("Osprey-Calls", "on")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Error(err)
		return 0, "", nil
	}
	defer res.Body.Close()
	answer, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(answer), res.Header
}

// TestCosts has operations refused by what they would cost, before any store is asked, as the role of the caller
// says.
func TestCosts(t *testing.T) {
	base, asked, keys := priced(t, "", nil)
	for _, test := range []struct{ who, query, want string }{
		{"clerk", "{ thing(id: 1) { id } }", `"cost":11}`},
		{"clerk", "{ things { id } }", "the operation costs 1010, and the limit is 100"},
		{"greedy", "{ things { id } }", `"cost":1010}`},
		{"clerk", "{ thing(id: 1) { part { part { id } } } }", `"data":{"thing":`},
		{"clerk", "{ thing(id: 1) { part { part { part { id } } } } }", "the operation is nested 5 deep, and the limit is 4"},
		{"greedy", "{ thing(id: 1) { part { part { part { id } } } } }", `"data":{"thing":`},
		{"clerk", "{ a: thing(id: 1) { id } b: thing(id: 2) { id } c: thing(id: 2) { id } }", "the operation asks for one field 3 times in one place, and the limit is 2"},
		{"clerk", "{ thing(id: 1) { a: id b: id ... on Thing { c: id } } }", "the operation asks for one field 3 times in one place, and the limit is 2"},
	} {
		before := asked.Load()
		_, got, _ := with(t, base, keys[test.who], test.query)
		if refused := strings.Contains(got, `"code":"LIMIT"`); !strings.Contains(got, test.want) || refused && asked.Load() != before || refused == strings.Contains(got, `"data"`) {
			t.Errorf("%s asks %s, and is answered %s after %d store requests", test.who, test.query, got, asked.Load()-before)
		}
	}
}

// TestRates has a caller wait who has asked for as much as its role may cost a second, and nobody else.
func TestRates(t *testing.T) {
	base, asked, keys := priced(t, "", nil)
	ran, refused := 0, 0
	for range 60 { // of 11 each; 500 are saved
		before := asked.Load()
		switch status, text, header := with(t, base, keys["screen"], "{ thing(id: 1) { id } }"); status {
		case 200:
			ran++
		case 429:
			refused++
			if seconds, err := strconv.Atoi(header.Get("Retry-After")); err != nil || seconds < 1 || seconds > 10 || !strings.Contains(text, `"code":"TOO_MANY_REQUESTS"`) || asked.Load() != before {
				t.Fatalf("after %q, with %d store requests: %s", header.Get("Retry-After"), asked.Load()-before, text)
			}
		default:
			t.Fatal(status, text)
		}
	}
	if ran < 45 || refused == 0 {
		t.Errorf("%d ran, and %d were refused", ran, refused)
	}
	if status, text, _ := with(t, base, keys["clerk"], "{ thing(id: 1) { id } }"); status != 200 {
		t.Errorf("another caller is answered %d %s", status, text)
	}
}

// TestShedding has a service with two places, which one caller would fill for ever: another comes soon, and what is
// more than can wait is refused at once.
func TestShedding(t *testing.T) {
	hold := make(chan struct{})
	base, asked, keys := priced(t, "limits: { concurrent: 2 }\n", hold)
	var answered, shed atomic.Int64
	var all sync.WaitGroup
	for range 20 {
		all.Add(1)
		go func() {
			defer all.Done()
			switch status, text, header := with(t, base, keys["greedy"], "{ thing(id: 1) { id } }"); {
			case status == 200:
				answered.Add(1)
			case status == 503 && header.Get("Retry-After") == "1" && strings.Contains(text, `"code":"OVERLOADED"`):
				shed.Add(1)
			default:
				t.Errorf("the greedy caller is answered %d: %s", status, text)
			}
		}()
	}
	for deadline := time.Now().Add(10 * time.Second); (asked.Load() < 2 || shed.Load() < 10) && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	quiet := make(chan int64, 1)
	go func() {
		if status, text, _ := with(t, base, keys["clerk"], "{ thing(id: 2) { id } }"); status != 200 {
			t.Errorf("the quiet caller is answered %d: %s", status, text)
		}
		quiet <- answered.Load()
	}()
	// It waits, behind eight others, when it has made another one go.
	for deadline := time.Now().Add(10 * time.Second); shed.Load() < 11 && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	if n := asked.Load(); n != 2 {
		t.Errorf("%d operations ask at once, where two may", n)
	}
	released, before := 0, int64(-1)
	for before < 0 {
		select {
		case before = <-quiet:
		case hold <- struct{}{}:
			released++
		}
	}
	close(hold)
	all.Wait()
	// It is served behind the two that ran, and makes another one go that waits, since nothing else of it does.
	if before > 4 || released > 7 || shed.Load() != 11 || answered.Load() != 9 {
		t.Errorf("the quiet caller waited for %d others, %d were released; %d were answered, and %d refused", before, released, answered.Load(), shed.Load())
	}
}
