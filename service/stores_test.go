package service_test

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/demo"
	"osprey/demo/demotest"
)

// registryJSON runs a query of one JSON value on the registry.
func registryJSON(t *testing.T, query string) []byte {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	var text string
	if err := conn.QueryRow(ctx, query).Scan(&text); err != nil {
		t.Fatal(err)
	}
	return []byte(text)
}

type readiness struct {
	Ready   bool
	Sources map[string]struct {
		Ready   bool
		Problem string
	}
}

func ready(t *testing.T, base string) (int, readiness) {
	t.Helper()
	res, err := http.Get(base + "/ready")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var r readiness
	if err := json.NewDecoder(res.Body).Decode(&r); err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, r
}

// TestStoreDownAtStart starts the service without its registry: it serves what
// it can, says what is missing, and takes the registry in when it comes up.
func TestStoreDownAtStart(t *testing.T) {
	demotest.Setenv(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	dir, err := os.MkdirTemp("/var/tmp", "osprey-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("REGISTRY_URL", "postgres://harbour:harbour@"+l.Addr().String()+"/harbour")
	base := serveHarbour(t)

	status, r := ready(t, base)
	if status != http.StatusServiceUnavailable || r.Ready || r.Sources["registry"].Problem != "cannot be reached" || !r.Sources["tides"].Ready {
		t.Errorf("/ready answers %d %+v", status, r)
	}
	a := ask(t, base, `{ station(code: "SKE") { name quays { name } } }`, nil)
	if got, _ := json.Marshal(a.Data); string(got) != `{"station":{"name":"Skerrow Bar","quays":null}}` || len(a.Errors) != 1 || a.Errors[0].Extensions.Code != "STORE_DOWN" || a.Errors[0].Extensions.Source != "registry" ||
		!strings.Contains(a.Errors[0].Message, "is not ready since the service started") {
		t.Errorf("answers %+v", a)
	}
	a = ask(t, base, `{ station(code: "SKE") { name } }`, nil)
	if len(a.Errors) > 0 {
		t.Errorf("the tide office's part fails too: %+v", a.Errors)
	}

	cluster, err := demo.StartCluster(context.Background(), filepath.Join(dir, "registry"), port)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cluster.Stop)
	// The store is up and holds nothing yet: it is looked at again until it does.
	time.Sleep(5 * time.Second)
	if status, r := ready(t, base); status == http.StatusOK || r.Sources["registry"].Problem != "is not ready since the service started; it is tried again every few seconds" {
		t.Errorf("/ready of an empty registry answers %d %+v", status, r)
	}
	conn, err := pgx.Connect(context.Background(), cluster.URL)
	if err != nil {
		t.Fatal(err)
	}
	tables, err := os.ReadFile(filepath.Join(demotest.Root(), "demo/tables.sql"))
	if err == nil {
		_, err = conn.Exec(context.Background(), string(tables)+`; INSERT INTO quays VALUES ('Q1', 'Old Quay', 'SKE')`)
	}
	conn.Close(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		if status, _ := ready(t, base); status == http.StatusOK {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("the registry came up and is not taken in")
		}
	}
	a = ask(t, base, `{ station(code: "SKE") { quays { name } } }`, nil)
	if got, _ := json.Marshal(a.Data); string(got) != `{"station":{"quays":[{"name":"Old Quay"}]}}` {
		t.Errorf("answers %s %+v", got, a.Errors)
	}

	// And it dies while serving: only its fields are null, the process lives.
	cluster.Stop()
	a = ask(t, base, `{ station(code: "SKE") { name } quays { name } }`, nil)
	if got, _ := json.Marshal(a.Data); string(got) != `{"quays":null,"station":{"name":"Skerrow Bar"}}` || len(a.Errors) != 1 || a.Errors[0].Extensions.Source != "registry" || a.Errors[0].Extensions.Code != "STORE_DOWN" {
		t.Errorf("answers %+v", a)
	}
	a = ask(t, base, `{ station(code: "SKE") { name } craft(imo: 1) { name } }`, nil)
	if a.Data["craft"] != nil || a.Data["station"] == nil || len(a.Errors) != 1 {
		t.Errorf("answers %+v", a)
	}
	// It comes back: the pool's dead connections are replaced.
	again, err := demo.StartCluster(context.Background(), filepath.Join(dir, "registry"), port)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Stop)
	if a = ask(t, base, `{ quays { name } }`, nil); len(a.Errors) > 0 {
		t.Errorf("after the restart: %+v", a.Errors)
	}
}

// TestDocumentsDown checks a document store that cannot be reached.
func TestDocumentsDown(t *testing.T) {
	demotest.Setenv(t)
	t.Setenv("INSPECTIONS_URL", "mongodb://127.0.0.1:1/harbour?serverSelectionTimeoutMS=300")
	base := serveHarbour(t)
	a := ask(t, base, `{ craft(imo: 9100007) { name inspections { heldOn } } }`, nil)
	if got, _ := json.Marshal(a.Data); string(got) != `{"craft":{"inspections":null,"name":"Iron Fathom"}}` || len(a.Errors) != 1 || a.Errors[0].Extensions.Code != "STORE_DOWN" || a.Errors[0].Extensions.Source != "inspections" {
		t.Errorf("answers %+v", a)
	}
	// The demo's own operations lose what the dead store brings, and no more.
	for _, file := range []string{"Board", "Log"} {
		text, err := os.ReadFile(filepath.Join(demotest.Root(), "demo/harbour/operations", file+".graphql"))
		if err != nil {
			t.Fatal(err)
		}
		a := ask(t, base, string(text), map[string]any{"id": 1})
		if got, _ := json.Marshal(a.Data); len(a.Errors) == 0 || strings.Count(string(got), `"name"`) < 3 || a.Errors[0].Extensions.Source != "inspections" {
			t.Errorf("%s answers %.300s %+v", file, got, a.Errors)
		}
	}
}

// TestRefusedBeforeItRuns counts at the registry that an operation which takes
// more store requests than allowed asks none of them.
func TestRefusedBeforeItRuns(t *testing.T) {
	demotest.Setenv(t)
	base := serve(t, harbourWith(t, func(config string) string {
		return strings.Replace(config, "limits:\n", "limits:\n  storeRequests: 2\n", 1)
	}))
	for _, test := range []struct {
		text       string
		code       string
		statements int
	}{
		{`{ portCalls(limit: 2) { id craft { name } incidents { at } } }`, "", 1},
		{`{ portCalls(limit: 2) { id berth { quay { station { name events { at } } } } incidents { at } } }`, "LIMIT", 0},
	} {
		counted := demotest.Statements(t)
		a := ask(t, base, test.text, nil)
		code := ""
		if len(a.Errors) > 0 {
			code = a.Errors[0].Extensions.Code
		}
		if got := counted(); code != test.code || got != test.statements {
			t.Errorf("%s\nhas the error %q and %d statements, want %q and %d", test.text, code, got, test.code, test.statements)
		}
	}
}
