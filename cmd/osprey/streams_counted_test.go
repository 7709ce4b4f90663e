package main_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"testing"
	"time"

	"osprey/demo/demotest"
)

// TestStreamsCounted holds what is kept of streams against what was told to them: a stream counts when it begins, and with each answer; what
// stores were asked for an answer counts once, however many it is told to. What they ask is no field that nobody asks.
func TestStreamsCounted(t *testing.T) {
	dir, db := harbourAt(t, demotest.Database(t), fmt.Sprintf("records: { url: %q }\n", demotest.Database(t)))
	if _, err := db.Exec("CREATE EXTENSION IF NOT EXISTS pg_stat_statements"); err != nil {
		t.Fatal(err)
	}
	address, _, _ := served(t, dir)
	base := "http://" + address
	const query = "subscription Moves { moved { what id now { name } } }"
	boards := []*events{
		subscribed(t, base, query, "Osprey-Client", "tower"),
		subscribed(t, base, query, "Osprey-Client", "quay"),
	}
	for id := range 3 {
		if _, err := db.Exec("INSERT INTO boats (id, name) VALUES ($1, 'Auk')", id); err != nil {
			t.Fatal(err)
		}
		for _, b := range boards {
			b.next()
		}
	}
	list := subscribed(t, base, "query Fleet { boats { id } }", "Osprey-Client", "tower", "Osprey-Live", "on")
	list.next()
	refusedStream(t, base, query, "Osprey-Client", "late", "Last-Event-ID", "nonsense")
	get := func(path string, into any) {
		t.Helper()
		res, err := http.Get(base + path)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		if err == nil {
			err = json.Unmarshal(text, into)
		}
		if err != nil {
			t.Fatalf("%s answers %s", path, text)
		}
	}
	type operation struct {
		ID, Name                         string
		Asked, Failed, Requests, Records int64
		Clients, Codes                   map[string]int64
	}
	counted := func(name string) (found operation) {
		var told struct{ Operations []operation }
		get("/api/v1/traffic", &told)
		for _, o := range told.Operations {
			if o.Name == name {
				found = o
			}
		}
		return found
	}
	waitUntil(t, "it is counted", func() bool { return counted("Moves").Asked >= 9 && counted("Fleet").Asked >= 1 })
	moves, fleet := counted("Moves"), counted("Fleet")
	if moves.Asked != 2+6+1 || fmt.Sprint(moves.Clients) != "map[late:1 quay:4 tower:4]" || moves.Failed != 1 || moves.Codes["LOST"] != 1 {
		t.Errorf("counted is %+v", moves)
	}
	// Three events are three runs, each a store request of one record: as many as the database itself has seen of such.
	var seen int64
	if err := db.QueryRow("SELECT coalesce(sum(calls), 0) FROM pg_stat_statements WHERE dbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND query LIKE 'SELECT%\"boats\"%\"id\"%ANY%'").Scan(&seen); err != nil {
		t.Fatal(err)
	}
	if seen != moves.Requests || moves.Requests != 3 || moves.Records != 3 {
		t.Errorf("of the stores, counted is %+v, and seen were %d", moves, seen)
	}
	if fleet.Asked != 1 || fleet.Requests != 1 || fleet.Records != 3 || fleet.Failed != 0 {
		t.Errorf("of a query that is answered again, counted is %+v", fleet)
	}
	var one struct {
		Made []struct {
			Asks           string
			Asked          int64
			Requests, Keys float64
		}
	}
	get("/api/v1/traffic/"+moves.ID, &one)
	if len(one.Made) != 1 || one.Made[0].Asked != 3 || one.Made[0].Requests != 1 || one.Made[0].Keys != 1 {
		t.Errorf("usually asked is %+v", one.Made)
	}
	var uses struct{ Unused []string }
	get("/api/v1/traffic/uses", &uses)
	if slices.Contains(uses.Unused, "Subscription.moved") || slices.Contains(uses.Unused, "Move.what") || !slices.Contains(uses.Unused, "Subscription.added") {
		t.Errorf("nobody asks %s", uses.Unused)
	}
	// What ends them is a failure of each, and is counted once.
	if _, err := db.Exec("TRUNCATE boats"); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "the ends are counted", func() bool { return counted("Moves").Codes["LOST"] == 3 })
	time.Sleep(3 * time.Second) // which is more than the time after which it is written
	if got := counted("Moves"); got.Asked != 11 || got.Failed != 3 {
		t.Errorf("at the end, counted is %+v", got)
	}
}
