package main

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"sync"
	"time"

	"osprey/project"
)

// inProcess asks a project without HTTP: GET /run?limit=N&clients=C&ms=T runs
// the arrivals board by C callers for T milliseconds and tells how often.
func inProcess(ctx context.Context, dir string) (http.Handler, error) {
	p, _, err := project.Open(ctx, dir, nil)
	if err != nil {
		return nil, err
	}
	text := arrivals()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		number := func(name string) int { n, _ := strconv.Atoi(r.URL.Query().Get(name)); return n }
		limit, clients := number("limit"), number("clients")
		vars := map[string]any{"limit": json.Number(strconv.Itoa(limit))}
		end := time.Now().Add(time.Duration(number("ms")) * time.Millisecond)
		results := make([]sample, clients)
		var failed error
		var wait sync.WaitGroup
		for i := range clients {
			wait.Go(func() {
				for time.Now().Before(end) {
					begin := time.Now()
					a := p.Revision().Ask(r.Context(), &project.Request{Query: text, Variables: vars})
					if len(a.Faults) > 0 {
						failed = errors.New(a.Faults[0].Message)
						return
					}
					a.Free()
					results[i].times = append(results[i].times, time.Since(begin))
				}
			})
		}
		wait.Wait()
		if failed != nil {
			http.Error(w, failed.Error(), http.StatusBadGateway)
			return
		}
		var all sample
		for i := range results {
			all.times = append(all.times, results[i].times...)
		}
		json.NewEncoder(w).Encode(all.times)
	}), nil
}
