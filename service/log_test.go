package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"osprey"
	"osprey/demo"
	"osprey/demo/demotest"
)

func operation(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(demotest.Root(), "demo", "harbour", "operations", name+".graphql"))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// told returns how many requests to each store an answer tells.
func told(a *answer) map[string]int {
	n := map[string]int{}
	for _, c := range a.Extensions.Calls {
		n[c.Source] += c.Requests
	}
	return n
}

// TestLogPage asks the log page: a union over three stores, references of
// several types, nested values of several types, a function and expressions. It
// counts at each store, and holds the answer against what the stores have.
func TestLogPage(t *testing.T) {
	demotest.Setenv(t)
	wire := demotest.NewWire(t)
	t.Setenv("INSPECTIONS_URL", wire.URL)
	base := serveHarbour(t)
	h := demotest.Harbour()
	var ids []string
	if err := json.Unmarshal(registryJSON(t, `SELECT json_agg(id::text) FROM (SELECT id FROM port_calls ORDER BY arrived_at DESC LIMIT 300) c`), &ids); err != nil {
		t.Fatal(err)
	}
	for _, n := range []int{3, 300} {
		statements := demotest.Statements(t)
		wire.Reads()
		h.Notices.Requests()
		h.Fees.Requests()
		a := ask(t, base, operation(t, "Log"), map[string]any{"calls": ids[:n], "days": 3, "limit": 1000})
		if len(a.Errors) > 0 || len(a.Data["portCalls"].([]any)) != n {
			t.Fatalf("%d calls: %v", n, a.Errors)
		}
		tells := told(a)
		// The registry is asked again for what incidents refer to, if any do.
		if got := statements(); got > 2 || got != tells["registry"] {
			t.Errorf("%d calls: the registry ran %d statements, and %d are told", n, got, tells["registry"])
		}
		if reads := wire.Reads(); !slices.Equal(reads, []string{"find", "find"}) {
			t.Errorf("%d calls: the document server got %q, want a find for each collection", n, reads)
		}
		if got := len(h.Notices.Requests()); got == 0 || got != tells["notices"] {
			t.Errorf("%d calls: the notices were asked %d times, and %d are told", n, got, tells["notices"])
		}
		if got := h.Fees.Requests(); len(got) != 1 || got[0] > n {
			t.Errorf("%d calls: the office of dues got %v", n, got)
		}
		checkLog(t, a)
	}
}

// checkLog holds a log page against the registry and the tariff.
func checkLog(t *testing.T, a *answer) {
	t.Helper()
	var want []struct {
		Arrived  string
		LengthFt float64
		LengthM  float64
		Quay     *string
		Hours    *float64
		Pilots   int
	}
	err := json.Unmarshal(registryJSON(t, `SELECT json_agg(x) FROM (SELECT to_char(p.arrived_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') AS arrived,
		c.length_m AS "LengthM", round((c.length_m * 32.8084)::numeric) / 10 AS "LengthFt", p.quay_code AS quay,
		floor(extract(epoch FROM p.departed_at - p.arrived_at) / 60) / 60 AS hours,
		(SELECT count(*) FROM pilotage l WHERE l.call_id = p.id) AS pilots
		FROM port_calls p JOIN craft c ON c.imo = p.craft_imo ORDER BY p.arrived_at DESC LIMIT 300) x`), &want)
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for i, call := range a.Data["portCalls"].([]any) {
		call, want := call.(map[string]any), want[i]
		if call["arrivedAt"] != want.Arrived {
			t.Fatalf("call %d arrived at %v, want %s", i, call["arrivedAt"], want.Arrived)
		}
		if got := call["craft"].(map[string]any)["lengthFt"]; got != want.LengthFt {
			t.Errorf("call %d: %v ft, want %v", i, got, want.LengthFt)
		}
		if got := call["hours"]; (got == nil) != (want.Hours == nil) || got != nil && fmt.Sprintf("%.6f", got) != fmt.Sprintf("%.6f", *want.Hours) {
			t.Errorf("call %d: %v hours, want %v", i, got, want.Hours)
		}
		quay := ""
		if want.Quay != nil {
			quay = *want.Quay
		}
		var dues map[string]any
		text, _ := json.Marshal(demo.Dues(want.LengthM, quay, 3))
		json.Unmarshal(text, &dues)
		if !reflect.DeepEqual(call["fee"], any(dues)) {
			t.Errorf("call %d costs %v, want %v", i, call["fee"], dues)
		}
		before, pilots := "9999", 0
		for _, entry := range call["log"].([]any) {
			entry := entry.(map[string]any)
			if at := entry["at"].(string); at > before {
				t.Errorf("call %d: %s stands behind %s", i, at, before)
			} else {
				before = at
			}
			kind := entry["__typename"].(string)
			kinds[kind]++
			if kind == "Pilotage" {
				pilots++
			}
		}
		if length := len(call["log"].([]any)); length > 6 || length < 6 && pilots != want.Pilots {
			t.Errorf("call %d has %d entries, %d of them pilots', and there are %d", i, length, pilots, want.Pilots)
		}
	}
	if len(kinds) < 2 || len(a.Data["portCalls"].([]any)) > 100 && len(kinds) != 4 {
		t.Errorf("the log has %v", kinds)
	}
}

// TestJournal reads a merged list of three stores page by page, in both
// directions: together the pages are the list.
func TestJournal(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	const since = `{at: {atLeast: "2026-02-20T00:00:00Z"}}`
	read := func(args map[string]any, counted string) (entries []string, info map[string]any, total float64) {
		t.Helper()
		a := ask(t, base, `query($first: Int, $after: String, $last: Int, $before: String) { journal(first: $first, after: $after, last: $last, before: $before, filter: `+since+`) { `+
			counted+` pageInfo { hasNextPage hasPreviousPage startCursor endCursor } edges { cursor node { __typename at } } } }`, args)
		if len(a.Errors) > 0 {
			t.Fatalf("%v: %v", args, a.Errors)
		}
		journal := a.Data["journal"].(map[string]any)
		total, _ = journal["totalCount"].(float64)
		for _, e := range journal["edges"].([]any) {
			node := e.(map[string]any)["node"].(map[string]any)
			entries = append(entries, fmt.Sprint(node["at"], " ", node["__typename"], " ", e.(map[string]any)["cursor"]))
		}
		return entries, journal["pageInfo"].(map[string]any), total
	}
	whole, _, total := read(map[string]any{"first": 10000}, "totalCount")
	if len(whole) != int(total) || len(whole) < 20 || !slices.IsSortedFunc(whole, func(a, b string) int { return strings.Compare(b[:20], a[:20]) }) {
		t.Fatalf("the journal has %d entries, and tells %v", len(whole), total)
	}
	for _, direction := range [][4]string{{"first", "after", "hasNextPage", "endCursor"}, {"last", "before", "hasPreviousPage", "startCursor"}} {
		var got []string
		for cursor := ""; ; {
			args := map[string]any{direction[0]: 25}
			if cursor != "" {
				args[direction[1]] = cursor
			}
			page, info, _ := read(args, "")
			if direction[0] == "first" {
				got = append(got, page...)
			} else {
				got = append(page, got...)
			}
			if info[direction[2]] != true {
				break
			}
			cursor = info[direction[3]].(string)
		}
		if !slices.Equal(got, whole) {
			t.Errorf("%s: page by page there are %d entries, and %d in all", direction[0], len(got), len(whole))
		}
	}
}

// TestSearch finds things of several types by their names, in one request to
// each store.
func TestSearch(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	statements := demotest.Statements(t)
	demotest.Harbour().Tides.Requests()
	a := ask(t, base, `{ search(filter: {name: {contains: "Lund"}}, limit: 100) { __typename name } }`, nil)
	if len(a.Errors) > 0 {
		t.Fatal(a.Errors)
	}
	if n := statements(); n != 1 {
		t.Errorf("the registry ran %d statements", n)
	}
	if requests := demotest.Harbour().Tides.Requests(); len(requests) != 1 {
		t.Errorf("the tide office got %q", requests)
	}
	var want []string
	if err := json.Unmarshal(registryJSON(t, `SELECT json_agg(name) FROM (SELECT name FROM craft UNION ALL SELECT name FROM operators UNION ALL SELECT name FROM pilots UNION ALL SELECT name FROM quays UNION ALL SELECT 'Lund Sound') n WHERE name LIKE '%Lund%'`), &want); err != nil {
		t.Fatal(err)
	}
	slices.Sort(want)
	var got []string
	types := map[string]bool{}
	for _, hit := range a.Data["search"].([]any) {
		got = append(got, hit.(map[string]any)["name"].(string))
		types[hit.(map[string]any)["__typename"].(string)] = true
	}
	if !slices.Equal(got, want) || len(types) < 3 {
		t.Errorf("found %q, want %q", got, want)
	}
}

// TestOneOfFiftyFails holds that one call of a function that fails costs one
// field, and that a store which a function needs is told where it is missing.
func TestOneOfFiftyFails(t *testing.T) {
	demotest.Setenv(t)
	requests := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		requests++
		var calls []struct{ ID int }
		json.NewDecoder(r.Body).Decode(&calls)
		answers := []map[string]any{}
		for i, c := range calls {
			a := map[string]any{"jsonrpc": "2.0", "id": c.ID, "result": map[string]any{"amount": i, "currency": "SKD"}}
			if i == len(calls)/2 {
				a = map[string]any{"jsonrpc": "2.0", "id": c.ID, "error": map[string]any{"code": 1, "message": "the tariff is being revised"}}
			}
			answers = append(answers, a)
		}
		json.NewEncoder(w).Encode(answers)
	}))
	defer server.Close()
	t.Setenv("FEES_URL", server.URL)
	base := serveHarbour(t)
	a := ask(t, base, `{ portCalls(limit: 50, sort: [{arrivedAt: DESC}]) { id fee { amount } } }`, nil)
	calls := a.Data["portCalls"].([]any)
	missing, at := 0, 0
	for i, c := range calls {
		if c.(map[string]any)["fee"] == nil {
			missing, at = missing+1, i
		}
	}
	if requests != 1 || len(calls) != 50 || missing != 1 || len(a.Errors) != 1 {
		t.Fatalf("%d requests, %d calls, %d without a fee, errors %v", requests, len(calls), missing, a.Errors)
	}
	e := a.Errors[0]
	if e.Message != "the source fees failed in quote: it says: the tariff is being revised" || e.Extensions.Code != "FUNCTION" || e.Extensions.Source != "fees" || fmt.Sprint(e.Path) != fmt.Sprintf("[portCalls %d fee]", at) {
		t.Errorf("the error is %+v", e)
	}
}

// TestFunctionsDown asks while the service of functions is down: its fields are
// errors without its address, everything else is answered, and /ready tells it.
func TestFunctionsDown(t *testing.T) {
	demotest.Setenv(t)
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	t.Setenv("FEES_URL", gone.URL)
	base := serveHarbour(t)
	a := ask(t, base, `{ portCalls(limit: 2) { id hours fee { amount } } tariff(lengthM: 3) { amount } port }`, nil)
	calls := a.Data["portCalls"].([]any)
	if len(a.Errors) != 3 || calls[1].(map[string]any)["fee"] != nil || calls[1].(map[string]any)["hours"] == nil || a.Data["port"] != "Skerrow" {
		t.Errorf("answers %v %v", a.Data, a.Errors)
	}
	for _, e := range a.Errors {
		if e.Message != "the source fees cannot be reached" || e.Extensions.Code != "STORE_DOWN" || e.Extensions.Source != "fees" {
			t.Errorf("the error is %+v", e)
		}
	}
	if status, r := ready(t, base); status != http.StatusServiceUnavailable || r.Sources["fees"].Ready || !r.Sources["registry"].Ready {
		t.Errorf("/ready answers %d %v", status, r)
	}
}

// TestNarrowed filters by related records of one type of a record set: those of
// the other types do not count.
func TestNarrowed(t *testing.T) {
	demotest.Setenv(t)
	harbour, err := osprey.Open(t.Context(), filepath.Join(demotest.Root(), "demo/harbour"),
		osprey.WithSchema("narrowed", `extend type Operator { tankers(filter: TankerFilter): [Tanker!]! @related(there: "operator_id", sort: "name") }
			extend type Query { big: [Big!]! @read(sort: "name") } union Big = Tanker | Ferry`))
	if err != nil {
		t.Fatal(err)
	}
	defer harbour.Close()
	a, err := harbour.Ask(t.Context(), osprey.Operation{Text: `{ operators(limit: 100, filter: {tankers: {without: {lengthM: {above: 200}}}}, sort: [{id: ASC}]) { id }
		without: operators(limit: 100, filter: {tankers: {without: {}}}, sort: [{id: ASC}]) { id tankers { name } } big { __typename } }`})
	if err != nil || len(a.Errors) > 0 {
		t.Fatal(err, a.Errors)
	}
	var got struct {
		Operators, Without []struct {
			ID      string
			Tankers []any
		}
		Big []struct {
			Typename string `json:"__typename"`
		}
	}
	if err := json.Unmarshal(a.Data, &got); err != nil {
		t.Fatal(err)
	}
	ids := func(query string) (want []string) {
		t.Helper()
		if err := json.Unmarshal(registryJSON(t, `SELECT COALESCE(json_agg(id::text ORDER BY id), '[]') FROM operators o WHERE NOT EXISTS (SELECT 1 FROM craft c WHERE c.operator_id = o.id AND c.craft_type = 'tanker'`+query+`)`), &want); err != nil {
			t.Fatal(err)
		}
		return want
	}
	var operators, without []string
	for _, o := range got.Operators {
		operators = append(operators, o.ID)
	}
	for _, o := range got.Without {
		if without = append(without, o.ID); len(o.Tankers) > 0 {
			t.Errorf("the operator %s has tankers, and is among those that have none", o.ID)
		}
	}
	if want := ids(" AND c.length_m > 200"); !slices.Equal(operators, want) {
		t.Errorf("without long tankers are %v, want %v", operators, want)
	}
	if want := ids(""); !slices.Equal(without, want) {
		t.Errorf("without tankers are %v, want %v", without, want)
	}
	var big int
	if err := json.Unmarshal(registryJSON(t, `SELECT count(*) FROM craft WHERE craft_type IN ('tanker', 'ferry')`), &big); err != nil || len(got.Big) != big {
		t.Errorf("there are %d tankers and ferries, want %d: %v", len(got.Big), big, err)
	}
}
