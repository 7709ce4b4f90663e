package service_test

import (
	"net/http"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestConsoleRoles keeps the console, and all that it calls, to those who may use it.
func TestConsoleRoles(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	for _, call := range []struct{ method, path string }{
		{http.MethodGet, "/api/v1/status"}, {http.MethodPost, "/api/v1/plans"}, {http.MethodGet, "/api/v1/operations"}, {http.MethodGet, "/api/v1/types"}, {http.MethodPost, "/api/v1/tidy"}, {http.MethodPost, "/api/v1/problems"},
		{http.MethodPost, "/api/v1/completions"}, {http.MethodPost, "/api/v1/meaning"}, {http.MethodPost, "/api/v1/snippets"}, {http.MethodGet, "/api/v1/openapi.json"}, {http.MethodGet, "/api/v1/revisions"},
	} {
		body := object{"query": "{ quays { name } }", "at": 3}
		if got := as(t, base, "board", call.method, call.path, body); !strings.Contains(got, "is not for this caller") || !strings.Contains(got, `"status":403`) {
			t.Errorf("a screen is answered %s at %s", got, call.path)
		}
		for _, who := range []string{"clerk", "admin"} {
			if got := as(t, base, who, call.method, call.path, body); strings.Contains(got, "is not for this caller") {
				t.Errorf("%s is answered %s at %s", who, got, call.path)
			}
		}
	}
	if got := as(t, base, "board", http.MethodPost, "/graphql", object{"query": "{ quays { name } }"}); !strings.Contains(got, `"data"`) {
		t.Errorf("a screen asks and is answered %s", got)
	}
	if got := as(t, base, "board", http.MethodGet, "/schema.graphql", nil); !strings.Contains(got, "type Quay") {
		t.Errorf("a screen reads the schema %.200s", got)
	}
	if got := as(t, base, "board", http.MethodGet, "/api/v1/pages", nil); !strings.Contains(got, `"pages"`) {
		t.Errorf("a screen reads the pages %.200s", got)
	}
}
