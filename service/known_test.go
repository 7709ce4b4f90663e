package service_test

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestOnlySaved has a screen run the operations that the project keeps, by name, by text and by hash, and nothing
// else, while who runs the service may ask anything.
func TestOnlySaved(t *testing.T) {
	demotest.Setenv(t)
	base := serve(t, harbourWith(t, func(config string) string {
		return strings.Replace(strings.Replace(config, "  console: [", "  console: [screen, ", 1), "  nobody: allowed\n", "  nobody: allowed\n  operations: saved\n  roles: { admin: { operations: any } }\n", 1)
	}))
	text, err := os.ReadFile(filepath.Join(demotest.Root(), "demo/harbour/operations/Board.graphql"))
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(text)
	hash := hex.EncodeToString(sum[:])
	variables := object{"limit": 1}
	for _, test := range []struct {
		who, path string
		body      object
		want      string
	}{
		{"board", "/graphql", object{"operationName": "Board", "variables": variables}, `{"data":{"portCalls":[`},
		{"board", "/graphql", object{"query": string(text), "variables": variables}, `{"data":{"portCalls":[`},
		{"board", "/graphql", object{"sha256": hash, "variables": variables}, `{"data":{"portCalls":[`},
		{"board", "/graphql", object{"sha256": strings.ToUpper(hash), "variables": variables}, `{"data":{"portCalls":[`},
		{"board", "/graphql", object{"query": string(text) + " ", "variables": variables}, "this caller runs operations that the project keeps, and this is none of them"},
		{"board", "/graphql", object{"query": "{ quays { name } }"}, `"code":"DENIED"`},
		{"board", "/graphql", object{"query": "{ __schema { types { name } } }"}, `"code":"DENIED"`},
		{"board", "/graphql", object{"query": "{ nonsense"}, `"code":"DENIED"`},
		{"board", "/graphql", object{"query": "{ quays { name } }", "sha256": hash}, "the text is not that which has this SHA-256"},
		{"board", "/graphql", object{"sha256": strings.Repeat("0", 64)}, "no operation with this SHA-256 is saved in this project"},
		{"board", "/graphql", object{"operationName": "Boord"}, `did you mean \"Board\"?`},
		{"board", "/api/v1/plans", object{"query": "{ quays { name } }"}, `"code":"DENIED"`},
		{"board", "/api/v1/plans", object{"operationName": "Board"}, `"waves":[`},
		{"admin", "/graphql", object{"query": "{ quays { code } }"}, `{"data":{"quays":[{"code":"Q1"}`},
		{"", "/graphql", object{"query": "{ quays { code } }"}, `{"data":{"quays":[{"code":"Q1"}`},
	} {
		got := as(t, base, test.who, http.MethodPost, test.path, test.body)
		if !strings.Contains(got, test.want) || strings.Contains(got, `"code":"DENIED"`) && strings.Contains(got, `"data"`) {
			t.Errorf("%s sends %.80s to %s, and is answered %.300s", test.who, fmt.Sprint(test.body), test.path, got)
		}
	}
	if got := as(t, base, "board", http.MethodGet, "/api/v1/operations", nil); !strings.Contains(got, hash) {
		t.Errorf("the operations are told without the hash of the board: %.300s", got)
	}
	res, err := http.Get(base + "/graphql?sha256=" + hash + "&variables=%7B%22limit%22:1%7D")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if answer, _ := io.ReadAll(res.Body); !strings.HasPrefix(string(answer), `{"data":{"portCalls":[`) {
		t.Errorf("by GET, it is answered %.300s", answer)
	}
}
