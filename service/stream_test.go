package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
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
					// A store's answer may be out of time a moment before ctx is.
					if end, _ := ctx.Deadline(); time.Until(end) > 100*time.Millisecond && no.Faults[0].Code != project.CodeReplaced {
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

// TestTheirOwn tells callers of whom something goes on to a store what is theirs, though they ask the same; and nothing to one
// whom a rule of the field does not let.
func TestTheirOwn(t *testing.T) {
	var version atomic.Int64
	things := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `[{"id": "1", "version": %d, "of": %q}]`, version.Load(), r.Header.Get("X-Port"))
	}))
	defer things.Close()
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml": "sources:\n  s:\n    kind: rest\n    url: " + things.URL + "\n    forward: [X-Port]\n    sets:\n      things: { key: id, fields: { id: text, version: int, of: text? }, reads: [{ get: \"/things{?id*}\", many: id }, { get: /things }] }\n",
		"schema/a.graphql": `type Query { things: [Thing!] @read }
type Subscription { things: Thing! @watch(every: "1s") mine(id: ID): Thing @watch(every: "1s") @for(when: "args.id == caller.id") ours: Thing @watch(every: "1s") @for(when: "caller.id != null") }
type Thing @stored(in: "s", as: "things", key: "id") { id: ID! version: Int of: String }`,
	})
	p, findings, err := project.Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings.JSON(dir))
	}
	defer p.Close()
	begin := func(query string, port string, who *store.Identity) (*project.Stream, *project.Answer) {
		r, release := p.Hold()
		defer release()
		return r.Subscribe(context.Background(), &project.Request{Query: query, Caller: &store.Caller{Headers: http.Header{"X-Port": {port}}, Who: who}}, "")
	}
	streams := map[string]*project.Stream{}
	for _, port := range []string{"Skerrow", "Nord", "Skerrow "} {
		s, no := begin("subscription { things { version of } }", strings.TrimSpace(port), nil)
		if no != nil {
			t.Fatal(no.Faults)
		}
		defer s.Close()
		streams[port] = s
	}
	version.Add(1)
	for port, s := range streams {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		m, end, err := s.Next(ctx)
		cancel()
		if want := fmt.Sprintf(`{"data":{"things":{"version":1,"of":%q}}}`, strings.TrimSpace(port)); string(m.Data) != want || end != nil || err != nil {
			t.Errorf("%s is told %s %v %v", port, m.Data, end, err)
		}
	}
	for query, who := range map[string]*store.Identity{"subscription { mine(id: \"1\") { id } }": {ID: "2"}, "subscription { ours { id } }": nil} {
		if _, no := begin(query, "", who); no == nil || no.Faults[0].Code != project.CodeDenied {
			t.Errorf("%s is answered %v", query, no)
		}
	}
	s, no := begin("subscription { mine(id: \"1\") { version } }", "", &store.Identity{ID: "1"})
	if no != nil {
		t.Fatal(no.Faults)
	}
	defer s.Close()
	version.Add(1)
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if m, end, err := s.Next(ctx); string(m.Data) != `{"data":{"mine":{"version":2}}}` {
		t.Errorf("told is %s %v %v", m.Data, end, err)
	}
}

// TestLastLeaves has the last listener leave at the moment when another comes: that one hears.
func TestLastLeaves(t *testing.T) {
	demotest.Setenv(t)
	demotest.KeepRegistry(t)
	p, findings, err := project.Open(context.Background(), filepath.Join(demotest.Root(), "demo/harbour"), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings)
	}
	defer p.Close()
	db, err := pgx.Connect(context.Background(), demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	begin := func() *project.Stream {
		r, release := p.Hold()
		defer release()
		s, no := r.Subscribe(context.Background(), &project.Request{Query: "subscription { movements { id } }", Caller: &store.Caller{ID: "x"}}, "")
		if no != nil {
			t.Error(no.Faults)
			return nil
		}
		return s
	}
	last := begin()
	for n := range 60 {
		leaving := last
		var wait sync.WaitGroup
		wait.Go(func() {
			time.Sleep(time.Duration(rand.IntN(3000)) * time.Microsecond)
			leaving.Close()
		})
		time.Sleep(time.Duration(rand.IntN(3000)) * time.Microsecond)
		last = begin()
		wait.Wait()
		if last == nil {
			return
		}
		if _, err := db.Exec(context.Background(), "UPDATE port_calls SET cargo_t = coalesce(cargo_t, 0) + 1 WHERE id = 300"); err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		_, end, err := last.Next(ctx)
		cancel()
		if end != nil || err != nil {
			t.Fatalf("who came at %d is told nothing: %v %v", n, end, err)
		}
	}
	last.Close()
}
