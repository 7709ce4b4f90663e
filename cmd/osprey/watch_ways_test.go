package main_test

import (
	"context"
	"fmt"
	"net/http"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"osprey/demo/demotest"
)

// eachWay runs a test with databases that tell their changes by triggers, and by logical replication.
func eachWay(t *testing.T, run func(t *testing.T, way, url string)) {
	t.Run("triggers", func(t *testing.T) { run(t, "triggers", demotest.Database(t)) })
	t.Run("replication", func(t *testing.T) { run(t, "replication", demotest.NewCluster(t, "wal_level=logical").URL) })
}

// TestWatchWays chooses by what a database tells its changes, says why, and takes it back as a whole.
func TestWatchWays(t *testing.T) {
	cluster := demotest.NewCluster(t, "wal_level=logical")
	dir, db := harbourAt(t, cluster.URL, "")
	file := func(user string) { // osprey.yaml of another user
		demotest.Write(t, dir, map[string]string{"osprey.yaml": fmt.Sprintf("sources:\n  db: { kind: postgres, url: %q, naming: snake }\n", strings.Replace(cluster.URL, "harbour:", user+":", 1))})
	}
	run := func(want int, says string, args ...string) {
		t.Helper()
		if out, errs, code := osprey(t, args...); code != want || !strings.Contains(out+errs, says) {
			t.Errorf("%v exits with %d: %s%s", args, code, out, errs)
		}
	}
	count := func(of string) (n int) {
		t.Helper()
		if err := db.QueryRow("SELECT count(*) FROM " + of).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	address, _, _ := served(t, dir)
	e := subscribed(t, "http://"+address, "subscription { added { name } }")
	run(0, "told: ADDED of boats in db, at once, whoever makes the change, by logical replication", "explain", "--url", "http://"+address, "subscription { added { name } }")
	if n := count("pg_replication_slots"); n != 2 {
		t.Errorf("there are %d slots", n)
	}
	run(0, "Subscription.added is told: ADDED of boats in db, at once, whoever makes the change, by logical replication\n", "check", dir)
	run(0, "already, by replication", "tables", "watch", "--project", dir, "db", "Boat")
	run(1, "tells changes by replication already; osprey tables undo db takes that back", "tables", "watch", "--project", dir, "--by", "triggers", "db", "Hand")
	run(0, "the changes of hands", "tables", "watch", "--project", dir, "db", "Hand")
	run(0, "run: 00002", "tables", "apply", "--project", dir, "db")
	run(0, "undone: 00002", "tables", "undo", "--project", dir, "db")
	run(0, "undone: 00001", "tables", "undo", "--project", dir, "db")
	if count("pg_publication")+count("pg_replication_slots WHERE NOT temporary")+count("pg_class WHERE relreplident = 'f'") != 0 {
		t.Error("it is not taken back")
	}
	if _, err := db.Exec("INSERT INTO boats (name) VALUES ('Auk')"); err != nil {
		t.Fatal(err)
	}
	if got := e.next(); !strings.Contains(got, `"code":"LOST"`) {
		t.Errorf("what is told no more is told by %s", got)
	}
	waitUntil(t, "nothing is held back", func() bool { return count("pg_replication_slots") == 0 })

	run(2, `--by is replication or triggers, found "trigger"`, "tables", "watch", "--project", dir, "--by", "trigger", "db", "Boat")
	run(0, "CREATE PUBLICATION", "tables", "watch", "--project", dir, "--print", "db", "Boat")
	run(0, "CREATE TRIGGER", "tables", "watch", "--project", dir, "--print", "--by", "triggers", "db", "Boat")
	if _, err := db.Exec("CREATE ROLE clerk LOGIN PASSWORD 'harbour'; GRANT SELECT ON ALL TABLES IN SCHEMA public TO clerk"); err != nil {
		t.Fatal(err)
	}
	file("clerk")
	run(0, "The database tells by triggers: replication needs a user with the right to it: ALTER ROLE clerk REPLICATION", "tables", "watch", "--project", dir, "db", "Boat")
	run(1, "cannot tell changes by replication: replication needs a user", "tables", "watch", "--project", dir, "--by", "replication", "db", "Boat")
	// It was published by somebody else, and this user may not hear of it.
	if _, err := db.Exec("CREATE PUBLICATION osprey_events FOR ALL TABLES"); err != nil {
		t.Fatal(err)
	}
	address, _, said := served(t, dir)
	if got := refusedStream(t, "http://"+address, "subscription { added { name } }"); !strings.Contains(got, `"code":"STORE_`) || strings.Contains(got, "WAL") || strings.Contains(got, "SQL") {
		t.Errorf("it is refused with %s", got)
	}
	waitUntil(t, "the operator is told", func() bool {
		return strings.Contains(said.String(), "a source does not begin to tell its changes") && strings.Contains(said.String(), "SQLSTATE 42501")
	})
}

// TestWatchedLater starts a service while its store is away: who wants to be told of changes is told that, and neither that
// what has happened since is lost, nor of what this service writes alone. When the store is there, all is told.
func TestWatchedLater(t *testing.T) { eachWay(t, watchedLaterBy) }

func watchedLaterBy(t *testing.T, _, address string) {
	dir, db, proxy := harbourBehind(t, address, ", timeout: 1s")
	const query = "subscription { moved { what id } }"
	insert := func(id int) {
		t.Helper()
		if _, err := db.Exec("INSERT INTO boats (id, name) VALUES ($1, 'Auk')", id); err != nil {
			t.Fatal(err)
		}
	}
	at, process, _ := served(t, dir)
	first := subscribed(t, "http://"+at, query)
	insert(1)
	if got := first.next(); got != `{"data":{"moved":{"what":"ADDED","id":"1"}}}` {
		t.Fatal(got)
	}
	last := <-first.ids
	first.cancel()
	process.Signal(syscall.SIGTERM)
	insert(2)

	proxy.Be(demotest.Hanging)
	second := freeAddress(t)
	cmd := exec.Command(program, "start", dir, "--listen", second)
	said := &saidText{}
	cmd.Stderr = said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		cmd.Process.Kill()
		cmd.Wait()
		if t.Failed() {
			t.Log(said)
		}
	}()
	said.waitFor(t, "osprey: serving")
	for _, headers := range [][]string{nil, {"Last-Event-ID", last}} {
		if got := refusedStream(t, "http://"+second, query, headers...); !strings.Contains(got, `"code":"STORE_DOWN"`) {
			t.Errorf("while the store is away it is answered with %s", got)
		}
	}
	if got := refusedStream(t, "http://"+second, "subscription { added { name } }"); !strings.Contains(got, "the source db is not ready since the service started") {
		t.Errorf("while the store is away it is answered with %s", got)
	}
	if out, errs, code := osprey(t, "explain", "--url", "http://"+second, "subscription { moved { what id changed before { name } now { name } } }"); code != 0 || !strings.Contains(out, "if the source is there") {
		t.Errorf("explain exits with %d: %s%s", code, out, errs)
	}
	proxy.Be(demotest.NoFault)
	waitReady(t, second) // which asks every 50 ms
	if n := strings.Count(said.String(), "a store is not ready"); n != 1 {
		t.Errorf("that the store is not ready is told %d times", n)
	}
	third := subscribed(t, "http://"+second, query, "Last-Event-ID", last)
	if got := third.next(); got != `{"data":{"moved":{"what":"ADDED","id":"2"}}}` {
		t.Errorf("told is %s", got)
	}
}

// TestLeavesBeforeItBegins subscribes while the database is silent, and hangs up before it answers: when it does, nobody
// listens to it for those who have gone.
func TestLeavesBeforeItBegins(t *testing.T) { eachWay(t, leavesBeforeItBegins) }

func leavesBeforeItBegins(t *testing.T, _, address string) {
	dir, db, proxy := harbourBehind(t, address, "")
	at, _, _ := served(t, dir)
	listening := func() (n int) {
		t.Helper()
		if err := db.QueryRow("SELECT count(*) FROM pg_stat_activity WHERE application_name = 'osprey, listening' AND datname = current_database()").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	proxy.Be(demotest.Hanging)
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	req, _ := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+at+"/graphql", strings.NewReader(`{"query": "subscription { moved { id } }"}`))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "text/event-stream")
	if res, err := http.DefaultClient.Do(req); err == nil {
		t.Fatalf("it begins with %d", res.StatusCode)
	}
	proxy.Be(demotest.NoFault)
	time.Sleep(2 * time.Second)
	if n := listening(); n != 0 {
		t.Errorf("%d connections listen for nobody", n)
	}
	// Who comes now is told.
	e := subscribed(t, "http://"+at, "subscription { moved { id } }")
	if n := listening(); n != 1 {
		t.Errorf("%d connections listen", n)
	}
	if _, err := db.Exec("INSERT INTO boats (id, name) VALUES (7, 'Auk')"); err != nil {
		t.Fatal(err)
	}
	if got := e.next(); got != `{"data":{"moved":{"id":"7"}}}` {
		t.Errorf("told is %s", got)
	}
}
