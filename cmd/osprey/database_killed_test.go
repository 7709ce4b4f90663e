package main_test

import (
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"osprey/demo/demotest"
)

// TestDatabaseKilledWhileWriting kills PostgreSQL's process that writes, fifty times over, with
// which all of its processes end and it recovers, while four callers send mutations with a key
// each until they are answered: each is done once, as a whole.
func TestDatabaseKilledWhileWriting(t *testing.T) {
	demotest.KeepRegistry(t)
	db, err := sql.Open("pgx", demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	defer db.Exec("DELETE FROM mutations_done")
	// The demo's server does not wait for the disk, which a harbour's would.
	url := demotest.Harbour().RegistryURL
	url += map[bool]string{true: "&", false: "?"}[strings.Contains(url, "?")] + "synchronous_commit=on"
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml": fmt.Sprintf("sources:\n  registry: { kind: postgres, url: %q, naming: snake }\nidempotency: { source: registry, table: mutations_done }\n", url),
		"schema/calls.graphql": `type Query { portCalls(limit: Int): [PortCall!] @read }
type Mutation { arriveAll(calls: [Arrival!]!): [PortCall!] @add }
type PortCall @stored(in: "registry", as: "port_calls", key: "id") { id: ID! arrivedAt: DateTime! craft: Craft! @related(here: "craft_imo") pilotage: [Pilotage!]! @related(there: "call_id") }
type Pilotage @stored(in: "registry", as: "pilotage", key: "id") { id: ID! pilot: Int! @at(path: "pilot_id") role: String! boardedAt: DateTime! }
type Craft @stored(in: "registry", as: "craft", key: "imo") { imo: ID! name: String! }
input Arrival { craft: ID! arrivedAt: DateTime! purpose: String! @at(path: "purpose") pilotage: [Escort!] }
input Escort { pilot: Int! role: String! boardedAt: DateTime! }`,
	})
	address, cmd := startReady(t, dir)
	defer func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
	}()
	const size = 5
	begin := time.Date(1950, 1, 1, 0, 0, 0, 0, time.UTC)
	var done, sent atomic.Int64
	over := make(chan bool)
	var wait sync.WaitGroup
	for caller := range 4 {
		wait.Go(func() {
			for n := 0; ; n++ {
				at := begin.Add(time.Duration(4*n+caller) * time.Minute).Format(time.RFC3339)
				one := fmt.Sprintf(`{craft: 9100007, arrivedAt: \"%s\", purpose: \"load\", pilotage: [{pilot: 1, role: \"lead\", boardedAt: \"%[1]s\"}]}`, at)
				body := `{"query": "mutation { arriveAll(calls: [` + strings.Repeat(one, size) + `]) { id craft { name } pilotage { id } } }"}`
				for answered := false; !answered; {
					select {
					case <-over:
						if n > 0 {
							return // the last one may be under way
						}
					default:
					}
					req, _ := http.NewRequest(http.MethodPost, "http://"+address+"/graphql", strings.NewReader(body))
					req.Header.Set("Content-Type", "application/json")
					req.Header.Set("Idempotency-Key", fmt.Sprintf("%d-%d", caller, n))
					sent.Add(1)
					res, err := http.DefaultClient.Do(req)
					if err != nil {
						continue
					}
					text, _ := io.ReadAll(res.Body)
					res.Body.Close()
					answered = !strings.Contains(string(text), "errors") && strings.Count(string(text), `"craft"`) == size
					if !answered {
						time.Sleep(5 * time.Millisecond)
					}
				}
				done.Add(1)
			}
		})
	}
	kills := 0
	for kills < 50 {
		before := done.Load()
		waitUntil(t, "something is written", func() bool { return done.Load() > before+2 })
		var pid int
		waitUntil(t, "something is being written", func() bool {
			return db.QueryRow("SELECT pid FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = current_database() AND xact_start IS NOT NULL LIMIT 1").Scan(&pid) == nil
		})
		if syscall.Kill(pid, syscall.SIGKILL) == nil {
			kills++
		}
	}
	close(over)
	wait.Wait()
	waitIdle(t, db)
	var wrong, keys, lists, escorts int64
	for query, into := range map[string]*int64{
		"SELECT count(*) FROM (SELECT 1 FROM port_calls WHERE arrived_at < '1980-01-01' GROUP BY arrived_at HAVING count(*) <> 5) w": &wrong,
		"SELECT count(*) FROM mutations_done WHERE answer IS NOT NULL":                                                               &keys,
		"SELECT count(DISTINCT arrived_at) FROM port_calls WHERE arrived_at < '1980-01-01'":                                          &lists,
		"SELECT count(*) FROM pilotage WHERE boarded_at < '1980-01-01'":                                                              &escorts,
	} {
		if err := db.QueryRow(query).Scan(into); err != nil {
			t.Fatal(err)
		}
	}
	if wrong != 0 || keys != lists || lists < done.Load() || lists > done.Load()+4 || escorts != lists*size {
		t.Errorf("%d mutations were answered; there are %d keys, %d lists, %d of them not whole or twice, and %d of what belongs to them", done.Load(), keys, lists, wrong, escorts)
	}
	t.Logf("%d mutations, sent %d times, over %d kills", done.Load(), sent.Load(), kills)
}
