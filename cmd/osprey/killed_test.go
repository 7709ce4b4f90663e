package main_test

import (
	"database/sql"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"

	"osprey/demo/demotest"
)

// TestKilledWhileWriting kills the service, fifty times over, while four callers add lists
// of port calls: each list is there as a whole or not at all, and each that was answered
// is there.
func TestKilledWhileWriting(t *testing.T) {
	demotest.KeepRegistry(t)
	db, err := sql.Open("pgx", demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	const size = 20
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml": fmt.Sprintf("sources:\n  registry: { kind: postgres, url: %q, naming: snake }\n", demotest.Harbour().RegistryURL),
		"schema/calls.graphql": `type Query { portCalls(limit: Int): [PortCall!] @read }
type Mutation { arriveAll(calls: [Arrival!]!): [PortCall!] @add }
type PortCall @stored(in: "registry", as: "port_calls", key: "id") { id: ID! arrivedAt: DateTime! craft: Craft! @related(here: "craft_imo") }
type Craft @stored(in: "registry", as: "craft", key: "imo") { imo: ID! name: String! }
input Arrival { craft: ID! arrivedAt: DateTime! purpose: String! @at(path: "purpose") }`,
	})
	begin := time.Date(1950, 1, 1, 0, 0, 0, 0, time.UTC)
	answered := map[time.Time]bool{}
	batch, midway := 0, 0
	var mu sync.Mutex
	for range 50 {
		address, cmd := startReady(t, dir)
		over := make(chan bool)
		var wait sync.WaitGroup
		for range 4 {
			wait.Go(func() {
				for {
					mu.Lock()
					at := begin.Add(time.Duration(batch) * time.Minute)
					batch++
					mu.Unlock()
					one := fmt.Sprintf(`{craft: 9100007, arrivedAt: \"%s\", purpose: \"load\"}`, at.Format(time.RFC3339))
					res, err := http.Post("http://"+address+"/graphql", "application/json", strings.NewReader(`{"query": "mutation { arriveAll(calls: [`+strings.Repeat(one, size)+`]) { id craft { name } } }"}`))
					if err == nil {
						var body []byte
						if body, err = io.ReadAll(res.Body); err == nil && strings.Count(string(body), `"id":`) == size {
							mu.Lock()
							answered[at] = true
							mu.Unlock()
						}
						res.Body.Close()
					}
					select {
					case <-over:
						return
					default:
						if err != nil {
							return
						}
					}
				}
			})
		}
		time.Sleep(time.Duration(10+rand.IntN(60)) * time.Millisecond)
		cmd.Process.Kill()
		close(over)
		wait.Wait()
		cmd.Wait()
	}
	waitIdle(t, db)
	rows, err := db.Query("SELECT arrived_at, count(*) FROM port_calls WHERE arrived_at < '1980-01-01' GROUP BY arrived_at")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	whole := 0
	for rows.Next() {
		var at time.Time
		var n int
		if err := rows.Scan(&at, &n); err != nil {
			t.Fatal(err)
		}
		if n != size {
			t.Errorf("%d of %d port calls of a list are written", n, size)
		}
		whole++
		if !answered[at.UTC()] {
			midway++
		}
		delete(answered, at.UTC())
	}
	if len(answered) > 0 {
		t.Errorf("%d lists were answered and are not written", len(answered))
	}
	if whole < 50 {
		t.Errorf("only %d lists were written", whole)
	}
	t.Logf("%d of %d lists are written, %d of them without an answer", whole, batch, midway)
}

// startReady starts the service on a project, and waits until it is ready.
func startReady(t *testing.T, dir string) (address string, cmd *exec.Cmd) {
	t.Helper()
	address = freeAddress(t)
	cmd = exec.Command(program, "start", dir, "--listen", address)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	waitReady(t, address)
	return address, cmd
}

func waitReady(t *testing.T, address string) {
	t.Helper()
	waitUntil(t, "the service is ready", func() bool {
		res, err := http.Get("http://" + address + "/ready")
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == http.StatusOK
	})
}

// waitIdle waits until a database has ended what was under way.
func waitIdle(t *testing.T, db *sql.DB) {
	t.Helper()
	waitUntil(t, "the database has ended what was under way", func() bool {
		var n int
		err := db.QueryRow("SELECT count(*) FROM pg_stat_activity WHERE state LIKE 'idle in transaction%' OR state = 'active' AND pid <> pg_backend_pid()").Scan(&n)
		return err == nil && n == 0
	})
}
