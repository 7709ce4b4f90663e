package service_test

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

// serveMore serves the harbour with further types.
func serveMore(t *testing.T, types string) string {
	t.Helper()
	demotest.Setenv(t)
	dir := harbourWith(t, func(config string) string { return config })
	if err := os.WriteFile(filepath.Join(dir, "schema/more.graphql"), []byte(types), 0o644); err != nil {
		t.Fatal(err)
	}
	return serve(t, dir)
}

// TestKindsOfOperations sends each kind of operation by each method.
func TestKindsOfOperations(t *testing.T) {
	base := serveMore(t, `
extend type Mutation { look(code: ID!): TideStation @read lookAgain(code: ID!): TideStation @read }
`)
	for _, test := range []struct {
		method, query string
		status        int
		want          string
	}{
		{"GET", `{ station(code: "SKE") { code } }`, 200, `{"data":{"station":{"code":"SKE"}}}`},
		{"GET", `mutation { look(code: "SKE") { code } }`, 405, "a mutation cannot be sent with GET"},
		{"POST", `mutation { look(code: "SKE") { code } b: lookAgain(code: "NOR") { code } }`, 200, `{"data":{"look":{"code":"SKE"},"b":{"code":"NOR"}}}`},
		{"POST", `subscription { arrivals { id } }`, 400, "a subscription is answered as a stream"},
		{"POST", `subscription { arrivals { nothing } }`, 400, `PortCall has no field \"nothing\"`},
		{"POST", `subscription { arrivals { id } other: arrivals { id } }`, 400, "a subscription asks for one field"},
	} {
		path := base + "/graphql"
		body := ""
		if test.method == http.MethodGet {
			path += "?query=" + url.QueryEscape(test.query)
		} else {
			body = `{"query": "` + strings.ReplaceAll(test.query, `"`, `\"`) + `"}`
		}
		req, err := http.NewRequest(test.method, path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Accept", "application/graphql-response+json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		got, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != test.status || !strings.Contains(string(got), test.want) {
			t.Errorf("%s %s answers %d %s, want %d %s", test.method, test.query, res.StatusCode, got, test.status, test.want)
		}
		if test.status == http.StatusMethodNotAllowed && res.Header.Get("Allow") != "POST" {
			t.Errorf("405 allows %q", res.Header.Get("Allow"))
		}
	}
	demotest.Harbour().Tides.Requests()
	ask(t, base, `mutation { a: look(code: "SKE") { code events { at } } b: look(code: "NOR") { code } }`, nil)
	seen := demotest.Harbour().Tides.Requests()
	if len(seen) != 3 || !strings.Contains(seen[2], "NOR") || strings.Contains(seen[0]+seen[1], "NOR") {
		t.Errorf("the root fields of a mutation do not wait for one another: %q", seen)
	}
}

// TestCallerHangsUp gives a mutation up while its transaction waits behind the write: it
// is undone.
func TestCallerHangsUp(t *testing.T) {
	demotest.Setenv(t)
	demotest.KeepRegistry(t)
	base := serve(t, patientHarbour(t))
	db, err := sql.Open("pgx", demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	lock, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	defer lock.Rollback()
	if _, err := lock.Exec("LOCK TABLE operators"); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, base+"/graphql", strings.NewReader(`{"query": "mutation { arrive(call: {craft: 9100112, arrivedAt: \"1991-01-01T00:00:00Z\", purpose: REPAIR}) { craft { operator { name } } } }"}`))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	gone := make(chan error)
	go func() {
		res, err := http.DefaultClient.Do(req)
		if err == nil {
			res.Body.Close()
		}
		gone <- err
	}()
	count := func(query string) (n int) {
		if err := db.QueryRow(query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	for count("SELECT count(*) FROM pg_locks WHERE NOT granted") == 0 { // the reading behind the write waits
		time.Sleep(5 * time.Millisecond)
	}
	cancel()
	if err := <-gone; err == nil {
		t.Error("the caller that hung up has an answer")
	}
	for count("SELECT count(*) FROM pg_locks WHERE NOT granted") > 0 {
		time.Sleep(5 * time.Millisecond)
	}
	if err := lock.Rollback(); err != nil {
		t.Fatal(err)
	}
	ask(t, base, `mutation { arrive(call: {craft: 9100112, arrivedAt: "1991-01-02T00:00:00Z", purpose: REPAIR}) { id } }`, nil)
	if n := count("SELECT count(*) FROM port_calls WHERE arrived_at < '1991-01-03'"); n != 1 {
		t.Errorf("%d calls of two are written, want the second", n)
	}
}

// TestLogOfWrites holds that a rule that a caller breaks is no failure of the service, and
// a database that is not there is one.
func TestLogOfWrites(t *testing.T) {
	demotest.Setenv(t)
	demotest.KeepRegistry(t)
	proxy := demotest.NewProxy(t, strings.TrimPrefix(regexp.MustCompile(`@[^/]*`).FindString(demotest.Harbour().RegistryURL), "@"))
	t.Setenv("REGISTRY_URL", regexp.MustCompile(`@[^/]*`).ReplaceAllString(demotest.Harbour().RegistryURL, "@"+proxy.Address))
	var log syncBuffer
	p, _, err := project.Open(t.Context(), filepath.Join(demotest.Root(), "demo/harbour"), slog.New(slog.NewTextHandler(&log, nil)))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	server := httptest.NewServer(service.New(service.Config{Project: p, Log: slog.New(slog.DiscardHandler)}))
	defer server.Close()
	license := func() string {
		res, err := http.Post(server.URL+"/graphql", "application/json", strings.NewReader(`{"query": "mutation { license(pilot: {name: \"Wren Halloway\", licence: \"SK-901\"}) { id } }"}`))
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return string(body)
	}
	if got := license(); !strings.Contains(got, `"id":`) {
		t.Error(got)
	}
	if got := license(); !strings.Contains(got, "CONSTRAINT") || strings.Contains(log.String(), "a store request failed") {
		t.Errorf("%s is answered, and logged\n%s", got, log.String())
	}
	proxy.Be(demotest.Dead)
	if got := license(); !strings.Contains(got, "STORE_DOWN") || !strings.Contains(log.String(), `asks="add pilots"`) {
		t.Errorf("%s is answered, and logged\n%s", got, log.String())
	}
	proxy.Be(demotest.NoFault)
}

// TestConditionsAndVariables runs one text with different variables.
func TestConditionsAndVariables(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	const text = `query ($yes: Boolean! = true, $limit: Int, $purpose: Purpose, $sort: [PortCallSort!]) {
		portCalls(limit: $limit, purpose: $purpose, sort: $sort) { id purpose @include(if: $yes) } }`
	for _, test := range []struct {
		variables map[string]any
		rows      int
		first     string
	}{
		{nil, 25, `map[id:1 purpose:`},
		{map[string]any{"limit": 2}, 2, `map[id:1 purpose:`},
		{map[string]any{"limit": nil}, 4000, `map[id:1 purpose:`},
		{map[string]any{"yes": false, "limit": 1}, 1, `map[id:1]`},
		{map[string]any{"limit": 1, "sort": []any{map[string]any{"id": "DESC"}}}, 1, `map[id:4000 purpose:`},
		{map[string]any{"limit": 1, "sort": map[string]any{"id": "DESC"}}, 1, `map[id:4000 purpose:`},
		{map[string]any{"limit": 3, "purpose": "REPAIR"}, 3, `purpose:REPAIR]`},
		{map[string]any{"limit": 3, "purpose": nil}, 3, `map[id:1 purpose:`},
		{map[string]any{"limit": 3, "unknown": 1}, 3, `map[id:1 purpose:`},
	} {
		a := ask(t, base, text, test.variables)
		if len(a.Errors) > 0 {
			t.Errorf("%v: %+v", test.variables, a.Errors)
			continue
		}
		rows := a.Data["portCalls"].([]any)
		if first := strings.TrimSpace(strings.ReplaceAll(fmt.Sprint(rows[0]), "\n", " ")); len(rows) != test.rows || !strings.Contains(first, test.first) {
			t.Errorf("%v gives %d rows, the first %s; want %d, %s", test.variables, len(rows), first, test.rows, test.first)
		}
	}
	for _, bad := range []map[string]any{{"yes": nil}, {"limit": "2"}, {"limit": 2.5}, {"limit": 1 << 40}, {"purpose": "NOPE"}, {"purpose": 1}, {"sort": map[string]any{}}, {"sort": map[string]any{"id": "ASC", "arrivedAt": "ASC"}}, {"sort": map[string]any{"id": nil}}, {"sort": []any{nil}}} {
		if a := ask(t, base, text, bad); len(a.Errors) != 1 || a.Errors[0].Extensions.Code != "VARIABLES" || a.Data != nil {
			t.Errorf("%v answers %+v", bad, a.Errors)
		}
	}
}
