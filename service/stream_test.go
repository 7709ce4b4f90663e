package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/project"
)

// TestManyCallersListen has many come and go, while records change and another revision is served.
func TestManyCallersListen(t *testing.T) {
	demotest.Setenv(t)
	demotest.KeepRegistry(t)
	p, findings, err := project.Open(context.Background(), filepath.Join(demotest.Root(), "demo/harbour"), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings)
	}
	db, err := pgx.Connect(context.Background(), demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	ctx, stop := context.WithTimeout(context.Background(), 3*time.Second)
	defer stop()
	var wait sync.WaitGroup
	var mu sync.Mutex
	heard, ended := 0, 0
	questions := []string{"subscription { movements { what now { id } } }", "subscription { movements(quay: \"Q1\") { id before { berth } now { craft { name } } } }",
		"subscription { arrivals { id } }", "{ portCall(id: 200) { cargoT craft { name } } }"}
	for n := range 16 {
		wait.Go(func() {
			last := ""
			for ctx.Err() == nil {
				r, release := p.Hold()
				q := &project.Request{Query: questions[n%len(questions)], Caller: &store.Caller{ID: fmt.Sprint(n)}}
				var s *project.Stream
				var no *project.Answer
				if strings.HasPrefix(q.Query, "{") {
					s, no = r.Follow(ctx, q)
				} else {
					s, no = r.Subscribe(ctx, q, last)
				}
				release()
				if no != nil {
					if ctx.Err() == nil && no.Faults[0].Code != project.CodeReplaced {
						t.Error(no.Faults)
					}
					continue
				}
				until, done := context.WithTimeout(ctx, time.Duration(rand.IntN(200))*time.Millisecond)
				for {
					m, end, err := s.Next(until)
					if err != nil {
						break
					}
					mu.Lock()
					if end != nil {
						ended++
					} else if heard++; m.At != "" {
						last = m.At
					}
					mu.Unlock()
					if end != nil {
						break
					}
				}
				done()
				s.Close()
				s.Close()
				_ = s.At()
			}
		})
	}
	for n := 0; ctx.Err() == nil; n++ {
		if _, err := db.Exec(context.Background(), "UPDATE port_calls SET cargo_t = coalesce(cargo_t, 0) + 1 WHERE id IN (200, 201, 202)"); err != nil {
			t.Fatal(err)
		}
		if n%40 == 39 {
			if _, err := p.Load(); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(5 * time.Millisecond)
	}
	wait.Wait()
	p.Close()
	if heard < 100 || ended == 0 {
		t.Errorf("%d were told, and %d ended", heard, ended)
	}
}
