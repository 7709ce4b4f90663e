package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey/demo"
	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

func TestMain(m *testing.M) { demotest.Main(m) }

// serve serves a project over the harbour's stores.
func serve(t *testing.T, dir string) string {
	t.Helper()
	p, findings, err := project.Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	t.Cleanup(p.Close)
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	go p.Follow(ctx)
	s := httptest.NewServer(service.New(service.Config{Project: p, Log: slog.New(slog.DiscardHandler), MaxBody: 1 << 20}))
	t.Cleanup(s.Close)
	return s.URL
}

func serveHarbour(t *testing.T) string {
	t.Helper()
	return serve(t, filepath.Join(demotest.Root(), "demo/harbour"))
}

// harbourWith writes the harbour's project with another configuration.
func harbourWith(t *testing.T, change func(config string) string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(demotest.Root(), "demo/harbour"))); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "osprey.yaml")
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(change(string(text))), 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

// An answer is a response as a client decodes it.
type answer struct {
	Data   map[string]any `json:"data"`
	Errors []struct {
		Message    string           `json:"message"`
		Path       []any            `json:"path"`
		Locations  []map[string]int `json:"locations"`
		Extensions struct {
			Code   string `json:"code"`
			Source string `json:"source"`
		} `json:"extensions"`
	} `json:"errors"`
	Extensions struct {
		Calls []struct {
			Wave     int    `json:"wave"`
			Source   string `json:"source"`
			Requests int    `json:"requests"`
			Keys     int    `json:"keys"`
			Records  int    `json:"records"`
		} `json:"calls"`
	} `json:"extensions"`
}

func ask(t *testing.T, base, query string, variables map[string]any) *answer {
	t.Helper()
	body, err := json.Marshal(map[string]any{"query": query, "variables": variables})
	if err != nil {
		t.Fatal(err)
	}
	req, err := http.NewRequest(http.MethodPost, base+"/graphql", bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Osprey-Calls", "on")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var a answer
	if err := json.NewDecoder(res.Body).Decode(&a); err != nil {
		t.Fatal(err)
	}
	return &a
}

// board is the operation that stands for the whole.
func board(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(demotest.Root(), "demo/harbour/operations/Board.graphql"))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestBoardAsksEachStoreOnce counts at the stores: whatever the limit, the
// registry runs one statement, the document server one find, and the tide
// office gets one request for each resource.
func TestBoardAsksEachStoreOnce(t *testing.T) {
	demotest.Setenv(t)
	wire := demotest.NewWire(t)
	t.Setenv("INSPECTIONS_URL", wire.URL)
	base := serveHarbour(t)
	for _, limit := range []int{5, 50, 500} {
		statements := demotest.Statements(t)
		wire.Reads()
		demotest.Harbour().Tides.Requests()
		a := ask(t, base, board(t), map[string]any{"limit": limit})
		if len(a.Errors) > 0 {
			t.Fatalf("limit %d: %v", limit, a.Errors)
		}
		if got := len(a.Data["portCalls"].([]any)); got != limit {
			t.Errorf("limit %d: %d port calls", limit, got)
		}
		if n := statements(); n != 1 {
			t.Errorf("limit %d: the registry ran %d statements, want 1", limit, n)
		}
		if reads := wire.Reads(); len(reads) != 1 || reads[0] != "find" {
			t.Errorf("limit %d: the document server got %q, want one find", limit, reads)
		}
		requests := demotest.Harbour().Tides.Requests()
		if len(requests) != 2 || strings.HasPrefix(requests[0], "/stations") == strings.HasPrefix(requests[1], "/stations") {
			t.Errorf("limit %d: the tide office got %q, want stations and events", limit, requests)
		}
		if n := len(a.Extensions.Calls); n != 4 {
			t.Errorf("limit %d: the answer tells %d calls, want 4", limit, n)
		}
	}
}

// TestNotices counts at the harbour master's service: related resources come
// along, page by page, with the wanted fields only, and as many requests as the
// answer tells.
func TestNotices(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	h := demotest.Harbour()
	h.Notices.Requests()
	a := ask(t, base, `{ quays { code notices(limit: 2, filter: {validUntil: {missing: false}}) { title author { name } replaces { title author { post } } } } }`, nil)
	if len(a.Errors) > 0 {
		t.Fatal(a.Errors)
	}
	requests := h.Notices.Requests()
	if len(requests) != 3 { // 30 notices, 10 on a page
		t.Errorf("the service got %q", requests)
	}
	for _, r := range requests {
		if u, err := url.Parse(r); err != nil || u.Query().Get("include") != "author,replaces,replaces.author" ||
			u.Query().Get("fields[notices]") != "author,issuedAt,quay,replaces,title,validUntil" || u.Query().Get("fields[officers]") != "name,post" {
			t.Errorf("the service got %s", r)
		}
	}
	told := 0
	for _, c := range a.Extensions.Calls {
		if c.Source == "notices" {
			told += c.Requests
		}
	}
	if told != len(requests) {
		t.Errorf("the answer tells %d requests, the service got %d", told, len(requests))
	}
	quays := a.Data["quays"].([]any)
	first := quays[0].(map[string]any)["notices"].([]any)[0].(map[string]any)
	if first["title"] != "Dredging at Q1" || first["author"].(map[string]any)["name"] == "" || len(first["replaces"].([]any)) != 1 {
		t.Errorf("the first quay's first notice is %v", first)
	}
}

// TestExplainAgrees checks that what is explained beforehand is what is asked.
func TestExplainAgrees(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	for _, query := range []string{
		board(t),
		`{ quays { name berths { number calls(limit: 2) { id pilots { name } incidents { kind } manifest { lines { goods } } } } } }`,
		`{ fleet(limit: 600) { name operator { name } ... on Tug { tow { name inspections { heldOn } } } } }`,
		`{ inspections(limit: 30) { craft { name calls(limit: 1) { berth { quay { station { name } } } } } } }`,
	} {
		body, _ := json.Marshal(map[string]any{"query": query})
		res, err := http.Post(base+"/api/v1/plans", "application/json", bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		var e struct {
			Requests int   `json:"requests"`
			Waves    []any `json:"waves"`
		}
		err = json.NewDecoder(res.Body).Decode(&e)
		res.Body.Close()
		if err != nil {
			t.Fatal(err)
		}
		a := ask(t, base, query, nil)
		requests, waves := 0, 0
		for _, c := range a.Extensions.Calls {
			requests += c.Requests
			waves = max(waves, c.Wave)
		}
		if len(a.Errors) > 0 || requests != e.Requests || waves != len(e.Waves) {
			t.Errorf("%s\nasked %d requests in %d waves, explained %d in %d; %v", query, requests, waves, e.Requests, len(e.Waves), a.Errors)
		}
	}
}

// TestAnswersAgreeWithTheStores compares nested answers with what plain queries
// of the registry say.
func TestAnswersAgreeWithTheStores(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	a := ask(t, base, `{ portCalls(limit: 40, sort: [{arrivedAt: DESC}]) { id arrivedAt purpose cargoT
		craft { name imo operator { name } calls(limit: 2, offset: 1) { id } } berth { name number quay { name } } pilots { name } pilotage { role } } }`, nil)
	got, err := json.Marshal(a.Data)
	if err != nil {
		t.Fatal(err)
	}
	want := registryJSON(t, `
		SELECT json_build_object('portCalls', json_agg(x ORDER BY x->>'arrivedAt' DESC)) FROM (
		 SELECT json_build_object('id', p.id::text, 'arrivedAt', to_char(p.arrived_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"'),
		  'purpose', CASE p.purpose WHEN 'load' THEN 'LOADING' WHEN 'unload' THEN 'UNLOADING' WHEN 'bunker' THEN 'BUNKERING' ELSE upper(p.purpose::text) END,
		  'cargoT', p.cargo_t::text,
		  'craft', (SELECT json_build_object('name', c.name, 'imo', c.imo::text, 'operator', json_build_object('name', o.name),
		     'calls', COALESCE((SELECT json_agg(json_build_object('id', y.id::text) ORDER BY y.arrived_at DESC) FROM
		        (SELECT id, arrived_at FROM port_calls WHERE craft_imo = c.imo ORDER BY arrived_at DESC, id LIMIT 2 OFFSET 1) y), '[]'))
		     FROM craft c JOIN operators o ON o.id = c.operator_id WHERE c.imo = p.craft_imo),
		  'berth', (SELECT json_build_object('name', b.name, 'number', b.number, 'quay', json_build_object('name', q.name))
		     FROM berths b JOIN quays q ON q.code = b.quay_code WHERE b.quay_code = p.quay_code AND b.number = p.berth_number),
		  'pilots', COALESCE((SELECT json_agg(json_build_object('name', l.name) ORDER BY l.name, l.id) FROM pilotage g JOIN pilots l ON l.id = g.pilot_id WHERE g.call_id = p.id), '[]'),
		  'pilotage', COALESCE((SELECT json_agg(json_build_object('role', CASE g.role WHEN 'assist' THEN 'ASSISTANT' ELSE upper(g.role::text) END) ORDER BY g.boarded_at, g.id) FROM pilotage g WHERE g.call_id = p.id), '[]')
		 ) AS x FROM port_calls p ORDER BY p.arrived_at DESC, p.id LIMIT 40) s`)
	if !sameJSON(t, got, want) {
		t.Errorf("the answer is\n%.3000s\nthe registry says\n%.3000s", got, want)
	}
}

func sameJSON(t *testing.T, a, b []byte) bool {
	t.Helper()
	var x, y any
	if err := json.Unmarshal(a, &x); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(b, &y); err != nil {
		t.Fatal(err)
	}
	ax, _ := json.Marshal(x)
	by, _ := json.Marshal(y)
	return bytes.Equal(ax, by)
}

// TestOneKeyAtATime checks a resource that takes one key per request: the
// requests are the distinct keys, and a missing one is null.
func TestOneKeyAtATime(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	demotest.Harbour().Tides.Requests()
	a := ask(t, base, `{ stations { code contact { officer phone } again: contact { officer } } }`, nil)
	requests := demotest.Harbour().Tides.Requests()
	if len(a.Errors) > 0 || len(requests) != 9 {
		t.Fatalf("%d requests for 8 stations and their contacts, want 9: %q %v", len(requests), requests, a.Errors)
	}
	null := 0
	for _, s := range a.Data["stations"].([]any) {
		if s.(map[string]any)["contact"] == nil {
			null++
		}
	}
	if null != 2 {
		t.Errorf("%d stations without contact, want 2", null)
	}
}

func TestSecretColumnStaysInTheStore(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	res, err := http.Get(base + "/schema.graphql")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body)
	for _, word := range []string{"billing", "@stored", "registry", "OspreyThrough"} {
		if strings.Contains(string(text), word) {
			t.Errorf("the schema for clients tells %q", word)
		}
	}
	if !strings.Contains(string(text), "interface Craft implements Named {") {
		t.Errorf("the schema for clients is %.300s", text)
	}
	a := ask(t, base, `{ operators(limit: 1) { billingToken } }`, nil)
	if len(a.Errors) != 1 || a.Data != nil {
		t.Errorf("billingToken can be asked for: %v", a)
	}
}

// TestIntrospectionCanBeSwitchedOff serves a project that hides its schema.
func TestIntrospectionCanBeSwitchedOff(t *testing.T) {
	demotest.Setenv(t)
	base := serve(t, harbourWith(t, func(config string) string { return config + "\nintrospection: false\n" }))
	for _, query := range []string{`{ __schema { types { name } } }`, `{ ...F } fragment F on Query { ... { t: __type(name: "Quay") { name } } }`} {
		if a := ask(t, base, query, nil); len(a.Errors) != 1 || a.Errors[0].Extensions.Code != "DENIED" || a.Data != nil {
			t.Errorf("%s answers %+v", query, a)
		}
	}
	if a := ask(t, base, `{ __typename quays { __typename } }`, nil); len(a.Errors) > 0 {
		t.Errorf("__typename is refused: %+v", a.Errors)
	}
}

// tidesThat serves a stand-in that answers as told, and the harbour with it.
func tidesThat(t *testing.T, answer http.HandlerFunc) string {
	t.Helper()
	demotest.Setenv(t)
	fake := httptest.NewServer(answer)
	t.Cleanup(fake.Close)
	t.Setenv("TIDES_URL", fake.URL)
	return serveHarbour(t)
}

// TestBadRemoteAnswers holds what callers are told when a remote service
// misbehaves: the source, the reason, no address and no secret; and the rest
// is answered.
func TestBadRemoteAnswers(t *testing.T) {
	for name, test := range map[string]struct {
		answer func(w http.ResponseWriter, r *http.Request)
		code   string
		msg    string
	}{
		"not JSON":   {func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "<html>maintenance</html>") }, "STORE_ANSWER", "the source tides answered something that is not JSON"},
		"a failure":  {func(w http.ResponseWriter, r *http.Request) { http.Error(w, "oops", http.StatusInternalServerError) }, "STORE_ANSWER", "the source tides answered with the status 500"},
		"no entry":   {func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusUnauthorized) }, "STORE_ANSWER", "the source tides refuses who asks (status 401)"},
		"no records": {func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, `{"results": [1, 2]}`) }, "STORE_ANSWER", "the source tides answered something that is not a list of records"},
		"broken off": {func(w http.ResponseWriter, r *http.Request) { panic(http.ErrAbortHandler) }, "STORE_ANSWER", "the source tides broke off its answer"},
		"slow":       {func(w http.ResponseWriter, r *http.Request) { waitFor(r, 5*time.Second) }, "STORE_TIMEOUT", "the source tides did not answer within its time limit"},
		"wrong values": {func(w http.ResponseWriter, r *http.Request) {
			io.WriteString(w, `{"results": [{"code": "SKE", "name": {"no": "text"}}]}`)
		}, "BAD_VALUE", "TideStation.name: expected text, found an object"},
	} {
		t.Run(name, func(t *testing.T) {
			base := tidesThat(t, test.answer)
			a := ask(t, base, `{ quays { code station { name } } }`, nil)
			if len(a.Errors) == 0 || a.Errors[0].Extensions.Code != test.code || a.Errors[0].Message != test.msg {
				t.Fatalf("errors are %+v, want %s %q", a.Errors, test.code, test.msg)
			}
			if path := fmt.Sprint(a.Errors[0].Path); !strings.HasPrefix(path, "[quays 0 station") {
				t.Errorf("the path is %s", path)
			}
			quays := a.Data["quays"].([]any)
			if len(quays) != 6 || quays[0].(map[string]any)["code"] != "Q1" {
				t.Errorf("what does not come from the tide office is not answered: %v", quays)
			}
		})
	}
}

func waitFor(r *http.Request, d time.Duration) {
	select {
	case <-r.Context().Done():
	case <-time.After(d):
	}
}

// TestHeadersGoOn checks that the token and the request's id reach the service.
func TestHeadersGoOn(t *testing.T) {
	seen := make(chan http.Header, 10)
	base := tidesThat(t, func(w http.ResponseWriter, r *http.Request) {
		seen <- r.Header.Clone()
		io.WriteString(w, `{"results": []}`)
	})
	req, _ := http.NewRequest(http.MethodPost, base+"/graphql", strings.NewReader(`{"query": "{ stations { name } }"}`))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("X-Request-Id", "harbour-1")
	req.Header.Set("Cookie", "session=secret")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	h := <-seen
	if h.Get("Authorization") != "Bearer "+demo.TidesToken || h.Get("X-Request-Id") != "harbour-1" || h.Get("Cookie") != "" {
		t.Errorf("the tide office saw %v", h)
	}
}
