package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"osprey/demo/demotest"
	"osprey/records"
)

// TestSamples has operations fail in every way, and looks at what is kept of it: usual store requests, the last errors, and
// in none of the tables a value that a caller sent.
func TestSamples(t *testing.T) {
	var came atomic.Int64
	things := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		came.Add(1)
		if strings.Contains(r.URL.RawQuery, "7") {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		w.Write([]byte(`[{"id": "1", "part": "2"}, {"id": "2", "part": "planted in a record"}]`))
	}))
	defer things.Close()
	at := demotest.Database(t)
	config := func(more string) string {
		return fmt.Sprintf("records: { url: %q%s }\nsources: { s: { kind: rest, url: %q, retries: 0, sets: { things: { key: id, fields: { id: text, part: text? }, reads: [{ get: \"/things{?id*}\", many: id }, { get: /things }] } } } }\n", at, more, things.URL)
	}
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": config(""),
		"schema/a.graphql": `type Query { things(limit: Int): [Thing!] @read thing(id: ID!): Thing @read } type Thing @stored(in: "s", as: "things", key: "id") { id: ID! part: Thing @related(here: "part", there: "id") }`})
	k := keepIn(t, dir)
	post := func(query string, variables object) {
		t.Helper()
		body, _ := json.Marshal(object{"query": query, "variables": variables})
		req, _ := http.NewRequest(http.MethodPost, k.url+"/graphql", strings.NewReader(string(body)))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Osprey-Client", "board")
		req.Header.Set("X-Request-Id", "asked-1")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
	}
	for range 8 {
		post(`query Two { things { id part { id } } }`, nil)
		post(`query One($id: ID!) { thing(id: $id) { id } }`, object{"id": "7 planted-value"})
	}
	post(`query One($id: ID!) { thing(id: $id) { id } }`, object{"id": object{"planted": "planted-value"}})
	post(`{ thing(id: "planted-literal", x: "planted-literal") { id } }`, nil)
	post(`{ things(limit: "planted-literal") { id } }`, nil)
	post(`query ($n: Int) { things(limit: $n) { id } }`, object{"n": "planted-value"})
	post(`{ thing(id: "planted`, nil)
	ids := map[string]string{}
	until(t, func() bool {
		var all struct {
			Operations []struct {
				ID, Name string
				Asked    int
			}
		}
		_, text := k.call(http.MethodGet, "/api/v1/traffic", nil, false)
		if err := json.Unmarshal([]byte(text), &all); err != nil {
			t.Fatal(err)
		}
		asked := 0
		for _, o := range all.Operations {
			ids[o.Name], asked = o.ID, asked+o.Asked
		}
		return asked == 21
	})
	one := func(id string) (o records.One) {
		t.Helper()
		_, text := k.call(http.MethodGet, "/api/v1/traffic/"+id, nil, false)
		if err := json.Unmarshal([]byte(text), &o); err != nil {
			t.Fatal(err, text)
		}
		return o
	}
	two := one(ids["Two"])
	if m := two.Made; len(m) != 2 || m[0].Source != "s" || m[0].Asked != 8 || m[0].Requests != 1 || m[0].Records != 2 || m[1].Wave != 2 || m[1].Keys != 2 || m[1].Bytes == 0 || m[1].Millis <= 0 || m[1].At < m[0].Millis || m[1].Most < m[1].Millis {
		t.Errorf("two usually asks %+v", m)
	}
	if len(two.Samples) != 0 || len(two.Hours) == 0 || two.Hours[len(two.Hours)-1].Requests == 0 {
		t.Errorf("of two it is known that %+v", two)
	}
	failed := one(ids["One"])
	sum := 0.0
	for _, m := range append(two.Made, failed.Made...) {
		sum += m.Requests * float64(m.Asked)
	}
	if n := came.Load(); float64(n) != sum || n != 24 { // twice 8, and 8 that failed
		t.Errorf("%v requests are told, and %d came", sum, n)
	}
	codes := map[string]int{}
	for _, s := range failed.Samples {
		if codes[s.Code]++; s.Client != "board" || s.Request != "asked-1" || s.Message == "" {
			t.Errorf("a sample is %+v", s)
		}
	}
	if codes["VARIABLES"] != 1 || len(failed.Samples) != 6 || failed.Made[0].Failed != 8 {
		t.Errorf("of those that failed there are %v, of %+v", codes, failed.Made)
	}
	if s := failed.Samples[slices.IndexFunc(failed.Samples, func(s records.Sample) bool { return s.Code == "VARIABLES" })]; !strings.HasSuffix(s.Message, "…") {
		t.Errorf("of variables it is said that %s", s.Message)
	}
	if rest := one("-"); len(rest.Samples) == 0 {
		t.Errorf("of requests that could not be read it is known that %+v", rest)
	}
	conn, err := pgx.Connect(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	for _, table := range []string{"operations", "traffic", "errors", "made", "samples"} {
		var dump string
		if err := conn.QueryRow(t.Context(), "SELECT coalesce(string_agg(t::text, ' '), '') FROM osprey."+table+" t").Scan(&dump); err != nil || dump == "" || strings.Contains(dump, "planted") {
			t.Errorf("%s has %.2000s: %v", table, dump, err)
		}
	}
	// Who wants no samples has none.
	k.service.End()
	if err := os.WriteFile(filepath.Join(dir, "osprey.yaml"), []byte(config(", samples: false")), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(t.Context(), "DELETE FROM osprey.samples"); err != nil {
		t.Fatal(err)
	}
	k = k.again()
	post(`query One($id: ID!) { thing(id: $id) { id } }`, object{"id": "7"})
	until(t, func() bool { return one(ids["One"]).Made[0].Failed == 9 })
	if s := one(ids["One"]).Samples; len(s) != 0 {
		t.Errorf("though none are wanted, there are %+v", s)
	}
}
