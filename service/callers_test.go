package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"sync"
	"testing"
	"time"

	"osprey/demo/demotest"
)

// TestManyCallers has many callers ask one revision at once: every operation of the
// demo and others, short and long, refused ones, and callers who hang up in the
// middle. Everybody gets what a single caller gets. It is run with the race
// detector, too.
func TestManyCallers(t *testing.T) {
	demotest.Setenv(t)
	base := serve(t, patientHarbour(t))
	type question struct {
		Query     string         `json:"query"`
		Variables map[string]any `json:"variables,omitempty"`
	}
	questions := []question{
		{Query: `{ quays { name berths { name calls(limit: 3) { id craft { name operator { name } } } } } }`},
		{Query: `{ portCalls(limit: 2000) { id arrivedAt purpose cargoT craft { imo name } berth { name quay { name } } pilots { name } } }`},
		{Query: `query ($i: ID!) { craft(imo: $i) { name fittings { cranes thrusters { place } } logbook(first: 2) { totalCount edges { cursor node { id } } } } }`, Variables: map[string]any{"i": "9100007"}},
		{Query: `{ __schema { types { name fields { name type { name } } } } }`},
		{Query: `{ quays { nothing } }`},
		{Query: `{ quays { name `},
		{Query: `query ($i: ID!) { craft(imo: $i) { name } }`},
		{Query: `{ portCalls(limit: -1) { id } port }`},
	}
	files, err := filepath.Glob(filepath.Join(demotest.Root(), "demo/harbour/operations/*.graphql"))
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		questions = append(questions, question{Query: string(text)})
	}
	send := func(ctx context.Context, q question) (string, error) {
		body, err := json.Marshal(q)
		if err != nil {
			return "", err
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, base+"/graphql", bytes.NewReader(body))
		if err != nil {
			return "", err
		}
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return "", err
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		return string(text), err
	}
	want := make([]string, len(questions))
	for i, q := range questions {
		if want[i], err = send(t.Context(), q); err != nil {
			t.Fatal(err)
		}
	}
	var wait sync.WaitGroup
	for caller := range 16 {
		wait.Go(func() {
			r := rand.New(rand.NewPCG(uint64(caller), 7))
			for range 25 {
				i := r.IntN(len(questions))
				ctx, cancel := context.WithCancel(context.Background())
				if r.IntN(5) == 0 { // who hangs up
					time.AfterFunc(time.Duration(r.IntN(8))*time.Millisecond, cancel)
					send(ctx, questions[i])
					continue
				}
				got, err := send(ctx, questions[i])
				cancel()
				if err != nil || got != want[i] {
					t.Errorf("%.100s\nanswers %.300s %v\nwant    %.300s", questions[i].Query, got, err, want[i])
					return
				}
			}
		})
	}
	wait.Wait()
	// A run that somebody gave up is not used by another.
	for i, q := range questions {
		if got, err := send(t.Context(), q); err != nil || got != want[i] {
			t.Errorf("afterwards, %.100s\nanswers %.300s %v", q.Query, got, err)
		}
	}
}

// patientHarbour writes the harbour's project with time limits that no load of the
// machine reaches.
func patientHarbour(t *testing.T) string {
	return harbourWith(t, func(config string) string {
		config = regexp.MustCompile(`(?m)^(  +)timeout: \d+s`).ReplaceAllString(config, "${1}timeout: 5m")
		return regexp.MustCompile(`(?m)^    naming: .*`).ReplaceAllString(config, "$0\n    timeout: 5m")
	})
}
