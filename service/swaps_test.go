package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/core/tables"
	"osprey/demo/demotest"
	"osprey/project"
)

// TestThousandSwaps serves a thousand revisions while records are added and asked for all the time: each record is told to each who
// listens, none twice by one stream, no stream goes on with a revision that is not served, and no query fails.
func TestThousandSwaps(t *testing.T) {
	const swaps, listeners = 1000, 6
	ctx := context.Background()
	url := demotest.Database(t)
	db, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	statements := []string{"CREATE TABLE boats (id bigint PRIMARY KEY)"}
	for _, step := range tables.Watching([]tables.WatchedSet{{Table: "boats", Key: []string{"id"}}}, false).Steps {
		statements = append(statements, step.Up...)
	}
	for _, s := range statements {
		if _, err := db.Exec(ctx, s); err != nil {
			t.Fatal(err)
		}
	}
	text := func(n int) string {
		return fmt.Sprintf(`type Query { boats%d: [Boat!] @read boat(id: ID!): Boat @read }
type Subscription { added: Boat! @watch(on: ["ADDED"]) }
type Boat @stored(in: "db", as: "boats", key: "id") { id: ID! }`, n%2)
	}
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("sources:\n  db: { kind: postgres, url: %q, naming: snake }\n", url), "schema/a.graphql": text(0)})
	p, findings, err := project.Open(ctx, dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings)
	}
	defer p.Close()
	listening, stop := context.WithCancel(ctx)
	var wait sync.WaitGroup
	heard := make([]map[string]bool, listeners)
	streams := make([]int, listeners)
	var mu sync.Mutex // guards heard
	for n := range listeners {
		heard[n] = map[string]bool{}
		wait.Go(func() {
			last := ""
			for listening.Err() == nil {
				r, release := p.Hold()
				s, no := r.Subscribe(listening, &project.Request{Query: "subscription { added { id } }"}, last)
				release()
				if no != nil {
					if no.Faults[0].Code == project.CodeLost {
						t.Error(no.Faults)
						return
					}
					continue
				}
				if last == "" {
					last = s.At()
				}
				streams[n]++
				here := map[string]bool{}
				for {
					m, end, err := s.Next(listening)
					if err != nil {
						break
					}
					if end != nil {
						if end.Code != project.CodeReplaced {
							t.Error(end)
						}
						break
					}
					var told struct {
						Data struct{ Added struct{ ID string } }
					}
					if err := json.Unmarshal(m.Data, &told); err != nil || told.Data.Added.ID == "" {
						t.Errorf("told is %s", m.Data)
					}
					id := told.Data.Added.ID
					if here[id] {
						t.Errorf("%s is told twice by one stream", id)
					}
					here[id] = true
					mu.Lock()
					heard[n][id] = true
					mu.Unlock()
					if m.At != "" {
						last = m.At
					}
				}
				if at := s.At(); at != "" {
					last = at
				}
				s.Close()
			}
		})
	}
	wait.Go(func() { // others ask
		for listening.Err() == nil {
			r, release := p.Hold()
			a := r.Ask(listening, &project.Request{Query: "{ boat(id: 1) { id } }"})
			if len(a.Faults) > 0 && listening.Err() == nil {
				t.Error(a.Faults)
			}
			a.Free()
			release()
			time.Sleep(time.Millisecond)
		}
	})
	begun := func() bool {
		mu.Lock()
		defer mu.Unlock()
		for n := range listeners {
			if !heard[n]["1"] {
				return false
			}
		}
		return true
	}
	add := func(id int) {
		t.Helper()
		if _, err := db.Exec(ctx, "INSERT INTO boats VALUES ($1)", id); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(300 * time.Millisecond)
	add(1)
	for until := time.Now().Add(10 * time.Second); !begun(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatal("they do not begin to listen")
		}
	}
	first := p.Revision().Serial()
	for n := 1; n <= swaps; n++ {
		demotest.Write(t, dir, map[string]string{"schema/a.graphql": text(n)})
		if _, err := p.Load(); err != nil {
			t.Fatal(err)
		}
		add(n + 1)
	}
	if now := p.Revision().Serial(); now < first+swaps {
		t.Errorf("%d revisions were served", now-first)
	}
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		mu.Lock()
		least := swaps + 1
		for n := range listeners {
			least = min(least, len(heard[n]))
		}
		mu.Unlock()
		if least == swaps+1 {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("one has heard of %d of %d", least, swaps+1)
		}
	}
	stop()
	wait.Wait()
	t.Logf("%d revisions, %v streams", swaps, streams)
}
