package service_test

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"osprey/access"
	"osprey/demo/demotest"
)

// TestLookAs answers those who run the service as others would be, and refuses to do so for all others.
func TestLookAs(t *testing.T) {
	boss, clerk := access.Make(), access.Make()
	k := keep(t, fmt.Sprintf("access:\n  admin: [boss]\n  keys:\n    %s: { name: Ada, hash: %q, roles: [boss] }\n    %s: { name: Bea, hash: %q, roles: [clerk] }\n", boss.ID, boss.Hash, clerk.ID, clerk.Hash))
	ask := func(key access.Made, path, body, as string) (int, string) {
		t.Helper()
		method := http.MethodGet
		if body != "" {
			method = http.MethodPost
		}
		req, _ := http.NewRequest(method, k.url+path, strings.NewReader(body))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+key.String())
		if as != "" {
			req.Header.Set("Osprey-As", as)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(text)
	}
	for _, path := range []string{"/graphql", "/api/v1/types", "/schema.graphql"} {
		body := ""
		if path == "/graphql" {
			body = `{"query": "{ answer }"}`
		}
		if status, text := ask(clerk, path, body, "boss"); status != http.StatusForbidden || !strings.Contains(text, "those who run the service") {
			t.Errorf("a clerk who looks as another is answered by %s with %d %.200s", path, status, text)
		}
		if status, text := ask(boss, path, body, "clerk, screen"); status != http.StatusOK || !strings.Contains(text, "answer") {
			t.Errorf("who runs the service is answered by %s with %d %.200s", path, status, text)
		}
	}
	// What they may do with the service stays theirs.
	if status, text := ask(boss, "/api/v1/revisions", "", "clerk"); status != http.StatusOK {
		t.Errorf("revisions are answered with %d %.200s", status, text)
	}
	// Nothing is changed in the name of others, and no connection is opened in it.
	demotest.Setenv(t)
	base := serveHarbour(t)
	req, _ := http.NewRequest(http.MethodPost, base+"/graphql", strings.NewReader(`{"query": "mutation { license(pilot: {name: \"Wren\", licence: \"SK-901\"}) { name } }"}`))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Osprey-As", "clerk")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if text, _ := io.ReadAll(res.Body); res.StatusCode != http.StatusForbidden || !strings.Contains(string(text), "changes nothing") {
		t.Errorf("a mutation is answered with %d %.200s", res.StatusCode, text)
	}
}
