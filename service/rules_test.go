package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"osprey/demo"
	"osprey/demo/demotest"
)

// as sends a request with the key of one of the demo, and returns the answer.
func as(t *testing.T, base, who, method, path string, body any) string {
	t.Helper()
	text, _ := json.Marshal(body)
	req, err := http.NewRequest(method, base+path, bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	for _, k := range demo.Keys {
		if k.Name == who {
			req.Header.Set("Authorization", "Bearer "+k.Key)
		}
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	answer, _ := io.ReadAll(res.Body)
	return string(answer)
}

// TestHarbourRules has those who work with the port see what is theirs, for one statement each, and nothing
// of what is not.
func TestHarbourRules(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	asks := func(who, query string) string {
		return as(t, base, who, http.MethodPost, "/graphql", object{"query": query})
	}
	for _, query := range []string{ // with keys that were looked at, and statements that are prepared
		"{ me { name operator { name dues(limit: 2) { amount } owed } } dues(limit: 2) { operator { name } } }",
		`{ operators(filter: {dues: {with: {amount: {above: "0"}}}}) { name people { name } } }`,
	} {
		for _, who := range []string{"brandal", "clerk", "board"} {
			asks(who, query)
			statements := demotest.Statements(t)
			before := statements()
			got := asks(who, query)
			if n := statements() - before; n != 1 {
				t.Errorf("%s asks %s with %d statements", who, query, n)
			}
			brandal, others := strings.Contains(got, "Brandal Line"), strings.Contains(got, "Eskeland")
			if who == "brandal" && !brandal || who == "board" && brandal || others != (who == "clerk") {
				t.Errorf("%s is answered %s with %s", who, query, got)
			}
		}
	}
	// What is not for a caller is nowhere.
	for _, path := range []string{"/schema.graphql", "/api/v1/operations"} {
		if text := as(t, base, "brandal", http.MethodGet, path, nil); strings.Contains(text, "reminder") || strings.Contains(text, "settle(") || !strings.Contains(text, "portCalls") {
			t.Errorf("%s of an operator: %.300s", path, text)
		}
		if text := as(t, base, "clerk", http.MethodGet, "/schema.graphql", nil); !strings.Contains(text, "reminder") || !strings.Contains(text, "settle(") {
			t.Errorf("the clerk's schema: %.300s", text)
		}
	}
	if got := as(t, base, "brandal", http.MethodPost, "/api/v1/completions", object{"query": "{ dues { ", "at": 9}); strings.Contains(got, "reminder") || !strings.Contains(got, "amount") {
		t.Errorf("an operator's completions: %.300s", got)
	}
	if got := as(t, base, "clerk", http.MethodPost, "/api/v1/completions", object{"query": "{ dues { ", "at": 9}); !strings.Contains(got, "reminder") {
		t.Errorf("the clerk's completions: %.300s", got)
	}
	// A plan tells what is asked of the caller's records, and values only by where they come from.
	plan := as(t, base, "brandal", http.MethodPost, "/api/v1/plans", object{"query": "{ dues { id } }"})
	if !strings.Contains(plan, "with operators where with people where login = caller.id") || strings.Contains(plan, "key:brandal") {
		t.Errorf("the plan of an operator: %s", plan)
	}
	if plan := as(t, base, "clerk", http.MethodPost, "/api/v1/plans", object{"query": "{ dues { id } }"}); strings.Contains(plan, "people") {
		t.Errorf("the plan of a clerk: %s", plan)
	}
	if got := asks("brandal", `mutation { settle(id: 1) { id } }`); strings.Contains(got, `"data"`) {
		t.Errorf("an operator settles a due: %s", got)
	}
	if got := asks("", `{ me { name } dues(limit: 1) { reminder } }`); !strings.HasPrefix(got, `{"data":{"me":null,"dues":[{"reminder":`) {
		t.Errorf("who sends no key is answered %s", got)
	}
}
