package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"osprey/demo/demotest"
	"osprey/project"
	"osprey/publishing"
	"osprey/service"
)

// harbourProject opens a copy of the harbour's project, which can be changed.
func harbourProject(b *testing.B) (dir string, p *project.Project) {
	b.Helper()
	for name, value := range demotest.Harbour().Environ() {
		if name != "RECORDS_URL" || os.Getenv(name) == "" {
			b.Setenv(name, value)
		}
	}
	dir = b.TempDir()
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(demotest.Root(), "demo/harbour"))); err != nil {
		b.Fatal(err)
	}
	p, _, err := project.Open(b.Context(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(p.Close)
	return dir, p
}

// BenchmarkLoad makes a revision of the harbour, whose stores have told what they hold.
func BenchmarkLoad(b *testing.B) {
	_, p := harbourProject(b)
	for b.Loop() {
		if _, err := p.Load(); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkSwaps tells how long answers take while nothing changes, and while a file is saved ten
// times a second, so that each tenth of a second there is another revision, with nothing planned yet.
func BenchmarkSwaps(b *testing.B) {
	for _, swapping := range []bool{false, true} {
		b.Run(map[bool]string{false: "still", true: "swapping"}[swapping], func(b *testing.B) {
			dir, p := harbourProject(b)
			const operation = `{ portCalls(limit: 25, sort: [{arrivedAt: DESC}]) { id arrivedAt craft { name imo } berth { number quay { name } } } }`
			end := make(chan struct{})
			var wait sync.WaitGroup
			var swaps atomic.Int64
			if swapping {
				wait.Go(func() {
					timer := time.NewTicker(100 * time.Millisecond)
					defer timer.Stop()
					for {
						select {
						case <-end:
							return
						case <-timer.C:
						}
						text := fmt.Sprintf("type Swapped { number: Int @computed(expr: \"%d\") }\nextend type Query { swapped: Swapped }\n", swaps.Add(1))
						if err := os.WriteFile(filepath.Join(dir, "schema/swapped.graphql"), []byte(text), 0o644); err != nil {
							b.Error(err)
						}
						if _, err := p.Reload(context.Background()); err != nil {
							b.Error(err)
						}
					}
				})
			}
			var mu sync.Mutex
			var times []time.Duration
			b.SetParallelism(2)
			b.RunParallel(func(pb *testing.PB) {
				var own []time.Duration
				for pb.Next() {
					began := time.Now()
					r, release := p.Hold()
					a := r.Ask(context.Background(), &project.Request{Query: operation})
					if len(a.Faults) > 0 {
						b.Error(a.Faults[0].Message)
					}
					a.Free()
					release()
					own = append(own, time.Since(began))
				}
				mu.Lock()
				defer mu.Unlock()
				times = append(times, own...)
			})
			close(end)
			wait.Wait()
			slices.Sort(times)
			at := func(q float64) float64 { return float64(times[int(q*float64(len(times)-1))].Microseconds()) / 1000 }
			b.ReportMetric(at(0.5), "p50-ms")
			b.ReportMetric(at(0.99), "p99-ms")
			b.ReportMetric(float64(swaps.Load()), "swaps")
		})
	}
}

// BenchmarkCounted tells what it costs that requests are counted: the same ones are asked of a service
// that counts and of one that does not, by turns. The least operation asks no store; the other one
// takes a store request.
func BenchmarkCounted(b *testing.B) {
	log := slog.New(slog.DiscardHandler)
	for name, operation := range map[string]string{
		"least":   `{"query":"{ __typename }"}`,
		"request": `{"query":"{ portCalls(limit: 25, sort: [{arrivedAt: DESC}]) { id arrivedAt craft { name imo } berth { number quay { name } } } }"}`,
	} {
		b.Run(name, func(b *testing.B) {
			b.Setenv("RECORDS_URL", demotest.Database(b))
			dir, _ := harbourProject(b)
			p, keeper, _, err := publishing.Open(b.Context(), dir, false, log, &project.Additions{})
			if err != nil {
				b.Fatal(err)
			}
			defer p.Close()
			defer keeper.Start(b.Context(), "bench", func() {})()
			handlers := []http.Handler{service.New(service.Config{Project: p, Log: log}), service.New(service.Config{Project: p, Log: log, Keeper: keeper})}
			var times [2][]time.Duration
			for i := 0; b.Loop(); i++ {
				for turn := range 2 {
					which := (turn + i) % 2
					w, r := httptest.NewRecorder(), httptest.NewRequest(http.MethodPost, "/graphql", strings.NewReader(operation))
					r.Header.Set("Content-Type", "application/json")
					r.Header.Set("User-Agent", "bench/1 (of Osprey)")
					began := time.Now()
					handlers[which].ServeHTTP(w, r)
					times[which] = append(times[which], time.Since(began))
					if w.Code != http.StatusOK {
						b.Fatal(w.Body)
					}
				}
			}
			for i := range times {
				slices.Sort(times[i])
			}
			without, with := times[0][len(times[0])/2], times[1][len(times[1])/2]
			b.ReportMetric(float64(without.Nanoseconds())/1000, "without-µs")
			b.ReportMetric(float64(with.Nanoseconds())/1000, "with-µs")
			b.ReportMetric(100*(float64(with)/float64(without)-1), "cost-%")
		})
	}
}
