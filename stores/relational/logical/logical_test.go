package logical_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	_ "github.com/jackc/pgx/v5/stdlib"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/relational/logical"
)

// A world is a database that publishes its tables, and its log.
type world struct {
	t   *testing.T
	db  *sqlx.DB
	log *logical.Log
}

func newWorld(t *testing.T, settings ...string) *world {
	t.Helper()
	cluster := demotest.NewCluster(t, append([]string{"wal_level=logical", "synchronous_commit=on"}, settings...)...)
	db := sqlx.MustOpen("pgx", cluster.URL)
	t.Cleanup(func() { db.Close() })
	db.SetMaxIdleConns(0) // settings of the role hold for new connections
	w := &world{t, db, logical.New(cluster.URL, db, 5*time.Second)}
	t.Cleanup(w.log.Close)
	w.exec("CREATE PUBLICATION osprey_events WITH (publish_via_partition_root = true)")
	return w
}

func (w *world) exec(statement string) {
	w.t.Helper()
	if _, err := w.db.Exec(statement); err != nil {
		w.t.Fatalf("%s: %v", statement, err)
	}
}

// publish makes a table, and has its changes told.
func (w *world) publish(name, columns string) {
	w.t.Helper()
	w.exec(fmt.Sprintf("CREATE TABLE %s %s; ALTER PUBLICATION osprey_events ADD TABLE %[1]s; ALTER TABLE %[1]s REPLICA IDENTITY FULL", name, columns))
}

// slots returns the names of the slots, without what differs.
func (w *world) slots() (names []string) {
	w.t.Helper()
	if err := w.db.Select(&names, "SELECT CASE WHEN temporary THEN 'copy' ELSE 'slot' END FROM pg_replication_slots ORDER BY 1"); err != nil {
		w.t.Fatal(err)
	}
	return names
}

// heard is what one has heard.
type heard struct {
	mu     sync.Mutex
	events []store.Event
	lost   []string
	at     []string
	stop   context.CancelFunc
	done   chan error
}

// hear begins to hear, behind a position.
func (w *world) hear(after string) *heard {
	w.t.Helper()
	h := &heard{done: make(chan error, 1)}
	ctx, stop := context.WithCancel(context.Background())
	h.stop = stop
	began := make(chan struct{})
	var once sync.Once
	go func() {
		h.done <- w.log.Watch(ctx, after, func(b store.Batch) error {
			h.mu.Lock()
			defer h.mu.Unlock()
			h.events, h.lost, h.at = append(h.events, b.Events...), append(h.lost, b.Lost...), append(h.at, b.At)
			once.Do(func() { close(began) })
			return nil
		})
	}()
	w.t.Cleanup(func() { stop() })
	select {
	case <-began:
	case err := <-h.done:
		h.done <- err
	case <-time.After(10 * time.Second):
		w.t.Fatal("it does not begin")
	}
	return h
}

// text writes an event, with its fields in order.
func text(e store.Event) string {
	slices.Sort(e.Fields)
	out, _ := json.Marshal([]any{e.Set, e.What, e.Key, e.Before, e.Fields})
	return string(out)
}

// next waits until so many events and emptied tables were heard, and returns them, as text.
func (h *heard) next(t *testing.T, n int) (list []string) {
	t.Helper()
	for until := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) {
		h.mu.Lock()
		if len(h.events)+len(h.lost) >= n {
			for _, e := range h.events {
				list = append(list, text(e))
			}
			list = append(list, h.lost...)
			h.events, h.lost = nil, nil
			h.mu.Unlock()
			return list
		}
		got := len(h.events)
		h.mu.Unlock()
		if time.Now().After(until) {
			select {
			case err := <-h.done:
				t.Error(err)
			default:
			}
			t.Fatalf("heard of %d, and not of %d", got, n)
		}
	}
}

// TestShapes hears of rows of all shapes, as triggers would note them.
func TestShapes(t *testing.T) {
	w := newWorld(t)
	w.exec("CREATE DOMAIN doc AS jsonb; CREATE TYPE pair AS (a int, b text); ALTER ROLE harbour SET datestyle = 'SQL, DMY'")
	w.publish("kinds", "(id int PRIMARY KEY, twice int GENERATED ALWAYS AS (id * 2) STORED, j json, d doc, p pair, many text[], at timestamp, day date, long interval, n numeric, f float8, bytes bytea, r int4range, big text)")
	w.publish(`"Odd ""name"""`, `("Kéy" text, x int)`)
	w.exec("CREATE TABLE parts (id int, x int) PARTITION BY LIST (x); CREATE TABLE parts_1 PARTITION OF parts FOR VALUES IN (1); CREATE TABLE parts_2 PARTITION OF parts FOR VALUES IN (2); ALTER PUBLICATION osprey_events ADD TABLE parts; ALTER TABLE parts REPLICA IDENTITY FULL; ALTER TABLE parts_1 REPLICA IDENTITY FULL; ALTER TABLE parts_2 REPLICA IDENTITY FULL")
	w.exec("CREATE TABLE narrow (id int PRIMARY KEY, x text); ALTER PUBLICATION osprey_events ADD TABLE narrow") // without what was
	sets, err := w.log.Sets(context.Background())
	if err != nil || len(sets) != 4 || slices.Contains(sets["kinds"], "twice") || !slices.Equal(sets[`Odd "name"`], []string{"Kéy", "x"}) {
		t.Fatal(sets, err)
	}
	h := w.hear("")
	is := func(statement string, want ...string) {
		t.Helper()
		w.exec(statement)
		if got := h.next(t, len(want)); !slices.Equal(got, want) {
			t.Errorf("%.80s is told by\n%s, and not\n%s", statement, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	const row = `{"at":"2026-01-02T10:00:00","big":null,"bytes":"\\x00ff","d":[1.50],"day":"2026-02-01","f":"NaN","id":1,"j":{"a":"x\u0026\"y"},"long":"3 days","many":["a","b,\"c"],"n":12.500,"p":{"a":1,"b":"x y"},"r":"[1,5)"}`
	is(`INSERT INTO kinds VALUES (1, DEFAULT, '{"a": "x&\"y"}', '[1.50]', '(1,"x y")', '{a,"b,\"c"}', '02/01/2026 10:00', '01/02/2026', '3 days', 12.500, 'NaN', '\x00ff', '[1,5)')`,
		`["kinds","ADDED",`+row+`,null,null]`)
	// What is stored apart is not sent again when something else changes.
	w.exec("ALTER TABLE kinds ALTER big SET STORAGE EXTERNAL")
	is(`UPDATE kinds SET big = repeat('apart ', 2000), j = NULL, d = NULL, p = NULL, many = NULL, at = NULL, day = NULL, long = NULL, n = NULL, f = NULL, bytes = NULL, r = NULL RETURNING 1`,
		strings.Replace(`["kinds","CHANGED",{"at":null,"big":BIG,"bytes":null,"d":null,"day":null,"f":null,"id":1,"j":null,"long":null,"many":null,"n":null,"p":null,"r":null},`+row+`,["at","big","bytes","d","day","f","j","long","many","n","p","r"]]`, "BIG", `"`+strings.Repeat("apart ", 2000)+`"`, 1))
	w.exec("UPDATE kinds SET n = 1")
	if got := h.next(t, 1)[0]; !strings.HasSuffix(got, `,["n"]]`) || strings.Count(got, "apart apart") < 2 {
		t.Errorf("what is stored apart is told by %.100s … %s", got, got[len(got)-50:])
	}
	w.exec("UPDATE kinds SET n = n") // nothing
	is(`INSERT INTO "Odd ""name""" VALUES ('ü''"\', 1)`, `["Odd \"name\"","ADDED",{"Kéy":"ü'\"\\","x":1},null,null]`)
	is(`DELETE FROM "Odd ""name"""`, `["Odd \"name\"","REMOVED",{"Kéy":"ü'\"\\","x":1},{"Kéy":"ü'\"\\","x":1},null]`)
	is(`INSERT INTO parts VALUES (1, 1)`, `["parts","ADDED",{"id":1,"x":1},null,null]`)
	is(`UPDATE parts SET id = 2`, `["parts","CHANGED",{"id":2,"x":1},{"id":1,"x":1},["id"]]`)
	is(`INSERT INTO narrow VALUES (1, 'a')`, `["narrow","ADDED",{"id":1,"x":"a"},null,null]`)
	is(`UPDATE narrow SET x = 'b'`, `["narrow","CHANGED",{"id":1,"x":"b"},null,null]`)
	is(`DELETE FROM narrow`, `["narrow","REMOVED",{"id":1},null,null]`)
	is(`TRUNCATE parts`, "parts")
	// A table that is another one when it is read is not known any more; the others are.
	is(`BEGIN; INSERT INTO "Odd ""name""" VALUES ('a', 1); INSERT INTO parts VALUES (3, 2); ALTER TABLE "Odd ""name""" RENAME TO gone; COMMIT`, `["parts","ADDED",{"id":3,"x":2},null,null]`, `Odd "name"`)
	is(`ALTER TABLE parts ADD y text DEFAULT 'new'; INSERT INTO parts VALUES (4, 2)`, `["parts","ADDED",{"id":4,"x":2,"y":"new"},null,null]`)
	is(`ALTER TABLE parts DROP y; INSERT INTO parts VALUES (5, 2)`, `["parts","ADDED",{"id":5,"x":2},null,null]`)
}

// TestOn goes on from every place that was told, also within a transaction, from what is remembered and from the log.
func TestOn(t *testing.T) {
	w := newWorld(t)
	w.publish("boats", "(id int PRIMARY KEY, name text)")
	h := w.hear("")
	w.exec("INSERT INTO boats SELECT n, 'Boat' FROM generate_series(1, 2500) n")
	w.exec("BEGIN; INSERT INTO boats VALUES (9001, 'undone'); ROLLBACK; INSERT INTO boats VALUES (2501, 'last')")
	all := h.next(t, 2501)
	h.mu.Lock()
	places := slices.Clone(h.at)
	h.mu.Unlock()
	if len(places) < 4 {
		t.Fatalf("there are %d places", len(places))
	}
	ids := map[int64]bool{}
	for i, at := range places {
		var b store.Batch
		if err := w.log.Since(context.Background(), at, func(got store.Batch) error { b = got; return nil }); err != nil {
			t.Fatalf("from %s: %v", at, err)
		}
		var list []string
		for _, e := range b.Events {
			list = append(list, text(e))
			ids[e.ID] = true
		}
		if !slices.Equal(list, all[len(all)-len(list):]) || i == 0 && len(list) != len(all) {
			t.Errorf("from place %d there are %d events", i, len(list))
		}
	}
	if len(ids) != len(all) {
		t.Errorf("%d events have %d numbers", len(all), len(ids))
	}
	h.stop()
	<-h.done
	w.exec("INSERT INTO boats VALUES (2502, 'when nobody heard')")
	for i, at := range places {
		again := w.hear(at)
		var b store.Batch
		if err := w.log.Since(context.Background(), at, func(got store.Batch) error { b = got; return nil }); err != nil || len(b.Events) == 0 {
			t.Errorf("from place %d there is nothing: %v", i, err)
		}
		for _, e := range b.Events[:len(b.Events)-1] {
			if !ids[e.ID] {
				t.Fatalf("from place %d an event has another number", i)
			}
		}
		got := again.next(t, len(b.Events))
		if !slices.Equal(got[:len(got)-1], all[len(all)-len(got)+1:]) || !strings.Contains(got[len(got)-1], "when nobody heard") {
			t.Errorf("from place %d there are %d events", i, len(got))
		}
		again.stop()
		<-again.done
	}
	for _, at := range []string{"", "log", "log|1|0/1|0", places[0] + "0|", strings.Replace(places[0], "log|", "log|9", 1), "1790000000|1:1:||0"} {
		if at == "" {
			continue
		}
		if err := <-w.hear(at).done; !errors.Is(err, store.ErrTooOld) {
			t.Errorf("from %q it ends with %v", at, err)
		}
	}
}

// TestSlots moves the slot on while somebody hears, and gives it up when nobody has for a while.
func TestSlots(t *testing.T) {
	w := newWorld(t, "max_replication_slots=4")
	w.publish("boats", "(id int PRIMARY KEY)")
	w.log.Keeps = 300 * time.Millisecond
	from := func() (lsn string) {
		t.Helper()
		if err := w.db.Get(&lsn, "SELECT coalesce(max(confirmed_flush_lsn)::text, '') FROM pg_replication_slots WHERE NOT temporary"); err != nil {
			t.Fatal(err)
		}
		return lsn
	}
	until := func(what string, is func() bool) {
		t.Helper()
		for end := time.Now().Add(40 * time.Second); !is(); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s: there are %v", what, w.slots())
			}
		}
	}
	h, other := w.hear(""), w.hear("")
	if got := w.slots(); !slices.Equal(got, []string{"copy", "copy", "slot"}) {
		t.Fatalf("there are %v", got)
	}
	first := from()
	n := 0
	until("the slot is moved on", func() bool {
		n++
		w.exec(fmt.Sprintf("INSERT INTO boats VALUES (%d)", n))
		time.Sleep(100 * time.Millisecond)
		return from() != first
	})
	h.mu.Lock()
	at := h.at[0]
	h.mu.Unlock()
	h.stop()
	<-h.done
	time.Sleep(2 * w.log.Keeps)
	if got := w.slots(); !slices.Equal(got, []string{"copy", "slot"}) {
		t.Errorf("one hears, and there are %v", got)
	}
	other.stop()
	<-other.done
	until("nobody hears", func() bool { return len(w.slots()) == 0 })
	if err := <-w.hear(at).done; !errors.Is(err, store.ErrTooOld) {
		t.Errorf("what is not held any more ends with %v", err)
	}
	w.exec("DROP PUBLICATION osprey_events")
	if err := <-w.hear("").done; err == nil || err.Error() != "does not tell its changes any more" {
		t.Errorf("what is not told any more ends with %v", err)
	}
}

// TestSeen tells a commit when it can be seen, and not when it is in the log, which it is before: for long where
// another server is to have it, too. Who reads a record that is told must find it.
func TestSeen(t *testing.T) {
	w := newWorld(t)
	w.publish("boats", "(id int PRIMARY KEY)")
	waitFor := func(what string, done func() bool) {
		t.Helper()
		for until := time.Now().Add(10 * time.Second); !done(); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(until) {
				t.Fatalf("not so: %s", what)
			}
		}
	}
	count := func(query string) (n int) {
		t.Helper()
		if err := w.db.Get(&n, query); err != nil {
			t.Fatal(err)
		}
		return n
	}
	h := w.hear("")
	others := func(names string) {
		t.Helper()
		w.exec("ALTER SYSTEM SET synchronous_standby_names = '" + names + "'")
		w.exec("SELECT pg_reload_conf()")
		waitFor("the setting holds", func() bool {
			return count("SELECT count(*) FROM pg_settings WHERE name = 'synchronous_standby_names' AND setting = '"+names+"'") == 1
		})
	}
	others("away")
	ended := make(chan error, 1)
	go func() {
		_, err := w.db.Exec("INSERT INTO boats VALUES (1), (2)")
		ended <- err
	}()
	waitFor("the commit waits for the other server", func() bool {
		return count("SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep'") == 1
	})
	time.Sleep(300 * time.Millisecond)
	h.mu.Lock()
	if len(h.events) > 0 {
		t.Errorf("%d changes are told that nobody can see", len(h.events))
	}
	h.mu.Unlock()
	others("")
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	if got := h.next(t, 2); len(got) != 2 || !strings.Contains(got[0], `{"id":1}`) || !strings.Contains(got[1], `{"id":2}`) {
		t.Errorf("told is %v", got)
	}
}
