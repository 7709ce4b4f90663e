package main_test

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"osprey/demo/demotest"
)

// A hearer hears of boats, and connects again where it was, as long as it is wanted.
type hearer struct {
	mu      sync.Mutex
	heard   map[string]int // how often each id was told
	twice   []string       // told twice by one stream
	streams int
	ends    []string // why streams ended, or did not begin
}

// ended notes why a stream has ended, or has not begun.
func (h *hearer) ended(why string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ends = append(h.ends, time.Now().Format("15:04:05.000 ")+why)
}

func (h *hearer) listen(ctx context.Context, base string) {
	last := ""
	for ctx.Err() == nil {
		h.once(ctx, base, &last)
		select {
		case <-ctx.Done():
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (h *hearer) once(ctx context.Context, base string, last *string) {
	body, _ := json.Marshal(map[string]string{"query": `subscription { moved { what id now { name } } }`})
	req, _ := http.NewRequestWithContext(ctx, http.MethodPost, base+"/graphql", strings.NewReader(string(body)))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "text/event-stream")
	if *last != "" {
		req.Header.Set("Last-Event-ID", *last)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		h.ended(err.Error())
		return
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(res.Body)
		h.ended(string(text))
		return
	}
	h.mu.Lock()
	h.streams++
	h.mu.Unlock()
	here := map[string]bool{}
	id := ""
	for s := bufio.NewScanner(res.Body); s.Scan(); {
		switch field, value, _ := strings.Cut(s.Text(), ": "); field {
		case "id":
			id = value
		case "data":
			var told struct {
				Data struct {
					Moved struct{ What, ID string }
				}
			}
			if json.Unmarshal([]byte(value), &told) != nil || told.Data.Moved.ID == "" {
				h.ended(value)
				continue
			}
			h.mu.Lock()
			key := told.Data.Moved.What + " " + told.Data.Moved.ID
			if h.heard[key]++; here[key] {
				h.twice = append(h.twice, key)
			}
			here[key] = true
			h.mu.Unlock()
		case "":
			if id != "" {
				*last = id
			}
			id = ""
		}
	}
}

// TestEachOnce has records added all the time, while connections are cut, the database is away, another revision is
// served, the service is killed, and the database is: each that is committed is told, none that is not, and none twice by
// one stream. It tells by triggers, and by logical replication.
func TestEachOnce(t *testing.T) {
	for way, settings := range map[string][]string{"triggers": {"synchronous_commit=on"}, "replication": {"synchronous_commit=on", "wal_level=logical"}} {
		t.Run(way, func(t *testing.T) { eachOnce(t, demotest.NewCluster(t, settings...)) })
	}
}

func eachOnce(t *testing.T, cluster *demotest.Cluster) {
	dir, db, proxy := harbourBehind(t, cluster.URL, ", timeout: 1s")
	address := freeAddress(t)
	var service *exec.Cmd
	said := &saidText{}
	begin := func() {
		t.Helper()
		service = exec.Command(program, "start", dir, "--listen", address)
		service.Stderr = said
		if err := service.Start(); err != nil {
			t.Fatal(err)
		}
		waitReady(t, address)
	}
	begin()
	defer func() {
		service.Process.Kill()
		service.Wait()
		if t.Failed() {
			t.Logf("the service says\n%s", said)
		}
	}()
	ctx, cancel := context.WithCancel(context.Background())
	var wait sync.WaitGroup
	hearers := []*hearer{{heard: map[string]int{}}, {heard: map[string]int{}}, {heard: map[string]int{}}}
	for _, h := range hearers {
		wait.Go(func() { h.listen(ctx, "http://"+address) })
	}
	waitUntil(t, "all listen", func() bool {
		for _, h := range hearers {
			h.mu.Lock()
			n := h.streams
			h.mu.Unlock()
			if n == 0 {
				return false
			}
		}
		return true
	})
	writing, stop := context.WithCancel(context.Background())
	var writers sync.WaitGroup
	for w := range 3 {
		writers.Go(func() {
			for n := 0; writing.Err() == nil; n++ {
				tx, err := db.Begin()
				if err == nil {
					_, err = tx.Exec("INSERT INTO boats (id, name) VALUES ($1, 'Boat')", 1_000_000*(w+1)+n)
				}
				if err != nil { // the database is away
					time.Sleep(20 * time.Millisecond)
					continue
				}
				time.Sleep(time.Duration(n%7) * time.Millisecond)
				if n%5 == 0 {
					tx.Rollback()
				} else {
					tx.Commit() // whether it was, the database knows
				}
			}
		})
	}
	pause := func() { time.Sleep(700 * time.Millisecond) }
	pause()
	proxy.Be(demotest.Reset)
	pause()
	proxy.Be(demotest.NoFault)
	pause()
	demotest.Write(t, dir, map[string]string{"schema/b.graphql": "extend type Query { more: [Hand!] @read }"})
	service.Process.Signal(syscall.SIGHUP)
	pause()
	for range 3 {
		cluster.Kill()
		pause()
		cluster.Start()
		pause()
	}
	proxy.Be(demotest.Dead)
	pause()
	proxy.Be(demotest.NoFault)
	pause()
	service.Process.Kill()
	service.Wait()
	pause()
	begin()
	pause()
	proxy.Be(demotest.Cut)
	pause()
	proxy.Be(demotest.NoFault)
	pause()
	stop()
	writers.Wait()
	committed := map[string]bool{}
	rows, err := db.Query("SELECT 'ADDED ' || id FROM boats")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var key string
		if err := rows.Scan(&key); err != nil {
			t.Fatal(err)
		}
		committed[key] = true
	}
	heardOf := func(h *hearer) (n int) {
		h.mu.Lock()
		defer h.mu.Unlock()
		for key := range committed {
			n += min(h.heard[key], 1)
		}
		return n
	}
	for i, h := range hearers {
		for until := time.Now().Add(20 * time.Second); heardOf(h) < len(committed) && time.Now().Before(until); {
			time.Sleep(20 * time.Millisecond)
		}
		if n := heardOf(h); n < len(committed) {
			t.Errorf("listener %d has heard of %d of %d boats; its streams ended for\n%s", i, n, len(committed), strings.Join(h.ends, "\n"))
		}
	}
	cancel()
	wait.Wait()
	for i, h := range hearers {
		for key := range h.heard {
			if !committed[key] {
				t.Errorf("listener %d is told of %s, which was undone", i, key)
			}
		}
		if len(h.twice) > 0 {
			t.Errorf("listener %d has heard of %d twice by one stream: %.10v", i, len(h.twice), h.twice)
		}
		t.Logf("listener %d: %d boats by %d streams", i, len(h.heard), h.streams)
	}
	if len(committed) < 200 {
		t.Errorf("only %d boats were added", len(committed))
	}
}
