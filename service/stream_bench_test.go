package service_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

// BenchmarkSubscribers measures how long it takes from a commit to each of many who listen, and what that asks of the
// database, beside a program written by hand that listens, too, and asks for each of them.
func BenchmarkSubscribers(b *testing.B) {
	demotest.Setenv(b)
	dir := b.TempDir()
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(demotest.Root(), "demo/harbour"))); err != nil {
		b.Fatal(err)
	}
	path := filepath.Join(dir, "osprey.yaml")
	text, _ := os.ReadFile(path)
	if err := os.WriteFile(path, []byte(strings.Replace(string(text), "limits:\n", "limits:\n  streams: 100000\n", 1)), 0o644); err != nil {
		b.Fatal(err)
	}
	p, findings, err := project.Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		b.Fatal(err, findings)
	}
	defer p.Close()
	osprey := httptest.NewServer(service.New(service.Config{Project: p, Log: slog.New(slog.DiscardHandler)}))
	defer osprey.Close()
	hand := byHand(b)
	for _, test := range []struct{ subscribers, questions int }{{1, 1}, {100, 1}, {100, 20}, {1000, 1}, {5000, 1}, {5000, 20}} {
		for name, address := range map[string]string{"osprey": osprey.Listener.Addr().String(), "by hand": hand} {
			b.Run(fmt.Sprintf("%d who ask %d questions/%s", test.subscribers, test.questions, name), func(b *testing.B) {
				measure(b, address, test.subscribers, test.questions)
			})
		}
	}
}

// measure has many listen to events, and measures how long it takes until each has heard them.
func measure(b *testing.B, address string, subscribers, questions int) {
	db, err := pgx.Connect(context.Background(), demotest.Harbour().RegistryURL)
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close(context.Background())
	runtime.GC()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	heard := make(chan time.Time, subscribers)
	var wait sync.WaitGroup
	var conns []net.Conn
	for i := range subscribers {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			b.Fatal(err)
		}
		conns = append(conns, conn)
		aliases := ""
		for n := range i % questions {
			aliases += fmt.Sprintf(" a%d: purpose", n)
		}
		body, _ := json.Marshal(map[string]string{"query": "subscription { movements { what now { id craft { name operator { name } }" + aliases + " } } }"})
		req, _ := http.NewRequest(http.MethodPost, "http://"+address+"/graphql", bytes.NewReader(body))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Accept", "text/event-stream")
		if err := req.Write(conn); err != nil {
			b.Fatal(err)
		}
		in := bufio.NewReaderSize(conn, 512)
		for { // until it has begun
			line, err := in.ReadString('\n')
			if err != nil {
				b.Fatal(err)
			}
			if strings.HasPrefix(line, "retry") {
				break
			}
		}
		wait.Go(func() {
			for {
				line, err := in.ReadSlice('\n')
				if err != nil {
					if err == bufio.ErrBufferFull {
						continue
					}
					return
				}
				if strings.HasPrefix(string(line), "data: ") {
					heard <- time.Now()
				}
			}
		})
	}
	defer func() {
		for _, conn := range conns {
			conn.Close()
		}
		wait.Wait()
	}()
	runtime.GC()
	runtime.ReadMemStats(&after)
	statements := demotest.Statements(b)
	var times []time.Duration
	from := statements()
	n := 0
	for b.Loop() {
		time.Sleep(20 * time.Millisecond) // what comes close behind another is told together with what follows
		if _, err := db.Exec(context.Background(), "UPDATE port_calls SET cargo_t = coalesce(cargo_t, 0) + 1 WHERE id = 200"); err != nil {
			b.Fatal(err)
		}
		committed := time.Now()
		for range subscribers {
			select {
			case at := <-heard:
				times = append(times, at.Sub(committed))
			case <-time.After(30 * time.Second):
				b.Fatal("somebody has not heard it")
			}
		}
		n++
	}
	asked := statements() - from - n // without the change itself
	slices.Sort(times)
	b.ReportMetric(float64(times[len(times)/2].Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(times[len(times)*99/100].Microseconds())/1000, "ms-p99")
	b.ReportMetric(float64(asked)/float64(n), "statements/event")
	b.ReportMetric(float64(int64(after.HeapInuse+after.StackInuse)-int64(before.HeapInuse+before.StackInuse))/float64(subscribers)/1024, "KB/stream")
}

// byHand serves what one would write: it hears of events, and asks for each of those who listen.
func byHand(b *testing.B) string {
	pool, err := pgxpool.New(context.Background(), demotest.Harbour().RegistryURL)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(pool.Close)
	conn, err := pgx.Connect(context.Background(), demotest.Harbour().RegistryURL)
	if err != nil {
		b.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	b.Cleanup(cancel)
	if _, err := conn.Exec(ctx, "LISTEN osprey_events"); err != nil {
		b.Fatal(err)
	}
	var mu sync.Mutex
	listeners := map[chan int64]bool{}
	var last int64
	go func() {
		defer conn.Close(context.Background())
		_ = pool.QueryRow(ctx, "SELECT coalesce(max(seq), 0) FROM osprey_events.events").Scan(&last)
		for {
			if _, err := conn.WaitForNotification(ctx); err != nil {
				return
			}
			mu.Lock()
			some := len(listeners) > 0
			mu.Unlock()
			if !some { // the other one is measured
				continue
			}
			rows, err := pool.Query(ctx, "SELECT seq, (key ->> 'id')::bigint FROM osprey_events.events WHERE seq > $1 AND of_set = 'port_calls' ORDER BY seq", last)
			if err != nil {
				return
			}
			for rows.Next() {
				var id int64
				if rows.Scan(&last, &id) != nil {
					return
				}
				mu.Lock()
				for c := range listeners {
					c <- id
				}
				mu.Unlock()
			}
			rows.Close()
		}
	}()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		heard := make(chan int64, 16)
		mu.Lock()
		if len(listeners) == 0 {
			_ = pool.QueryRow(ctx, "SELECT coalesce(max(seq), 0) FROM osprey_events.events").Scan(&last)
		}
		listeners[heard] = true
		mu.Unlock()
		defer func() {
			mu.Lock()
			delete(listeners, heard)
			mu.Unlock()
		}()
		out := http.NewResponseController(w)
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprint(w, "retry: 1000\n\n")
		out.Flush()
		type named struct {
			Name     string `json:"name"`
			Operator *named `json:"operator,omitempty"`
		}
		for {
			select {
			case <-r.Context().Done():
				return
			case id := <-heard:
				var craft, operator string
				if err := pool.QueryRow(r.Context(), "SELECT c.name, o.name FROM port_calls p JOIN craft c ON c.imo = p.craft_imo JOIN operators o ON o.id = c.operator_id WHERE p.id = $1", id).Scan(&craft, &operator); err != nil {
					return
				}
				text, _ := json.Marshal(map[string]any{"data": map[string]any{"movements": map[string]any{"what": "CHANGED", "now": map[string]any{"id": fmt.Sprint(id), "craft": named{craft, &named{Name: operator}}}}}})
				fmt.Fprintf(w, "event: next\ndata: %s\n\n", text)
				out.Flush()
			}
		}
	}))
	b.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

// BenchmarkBurst has ten thousand records change in one statement, of which some hear, who ask the same; beside what one
// would write by hand.
func BenchmarkBurst(b *testing.B) {
	_, p := harbourProject(b)
	server := httptest.NewServer(service.New(service.Config{Project: p, Log: slog.New(slog.DiscardHandler)}))
	defer server.Close()
	hand := byHand(b)
	ctx := context.Background()
	db, err := pgx.Connect(ctx, demotest.Harbour().RegistryURL)
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close(ctx)
	const burst = 10_000
	if _, err := db.Exec(ctx, `INSERT INTO port_calls SELECT r.* FROM generate_series(1, $1 - (SELECT count(*) FROM port_calls)) n, port_calls p,
		jsonb_populate_record(p, jsonb_build_object('id', 1000000 + n)) r WHERE p.id = 200`, burst); err != nil {
		b.Fatal(err)
	}
	defer db.Exec(ctx, "DELETE FROM port_calls WHERE id > 1000000")
	for _, listeners := range []int{1, 10} {
		for name, base := range map[string]string{"osprey": server.URL, "by hand": "http://" + hand} {
			b.Run(fmt.Sprintf("%d who hear/%s", listeners, name), func(b *testing.B) {
				heard := make(chan struct{}, burst*listeners)
				listening, stop := context.WithCancel(ctx)
				defer stop()
				for range listeners {
					hear(b, listening, base, "subscription { movements { what now { id craft { name operator { name } } } } }", heard)
				}
				statements := demotest.Statements(b)
				from, n := statements(), 0
				for b.Loop() {
					if _, err := db.Exec(ctx, "UPDATE port_calls SET cargo_t = coalesce(cargo_t, 0) + 1"); err != nil {
						b.Fatal(err)
					}
					for range burst * listeners {
						select {
						case <-heard:
						case <-time.After(30 * time.Second):
							b.Fatal("somebody has not heard of all")
						}
					}
					n++
				}
				b.ReportMetric(float64(statements()-from-n)/float64(n), "statements/op")
			})
		}
	}
}

// hear tells of each event of a subscription that it hears.
func hear(b *testing.B, ctx context.Context, base, query string, heard chan<- struct{}) {
	b.Helper()
	body, _ := json.Marshal(map[string]string{"query": query})
	req, _ := http.NewRequestWithContext(ctx, http.MethodPost, base+"/graphql", bytes.NewReader(body))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "text/event-stream")
	res, err := http.DefaultClient.Do(req)
	if err != nil || res.StatusCode != http.StatusOK {
		b.Fatal(res, err)
	}
	go func() {
		defer res.Body.Close()
		for s := bufio.NewScanner(res.Body); s.Scan(); {
			if strings.HasPrefix(s.Text(), "data: ") {
				heard <- struct{}{}
			}
		}
	}()
}
