package main

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/bench/peers"
)

// arriveAll is what the peers of writes answer.
const arriveAll = `mutation ($calls: [Arrival!]!) { arriveAll(calls: $calls) { id arrivedAt craft { name operator { name } } } }`

// correct is the same of one that is changed.
const correct = `mutation ($id: ID!, $purpose: Purpose!) { correct(id: $id, change: {purpose: $purpose}) { id arrivedAt craft { name operator { name } } } }`

// written returns the arrivals of a request: of craft of the harbour, in a year of which
// it has no calls.
func written(n int) []peers.Arrival {
	calls := make([]peers.Arrival, n)
	for i := range calls {
		calls[i] = peers.Arrival{Craft: 9100007, ArrivedAt: time.Date(1990, 1, 1, 0, i, 0, 0, time.UTC), Purpose: "REPAIR"}
	}
	return calls
}

// writes measures Osprey beside handlers that write by hand: one port call and a hundred,
// each with the answer of what it is then.
func (b *bench) writes(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, b.harbour.RegistryURL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var last int64
	if err := conn.QueryRow(ctx, "SELECT max(id) FROM port_calls").Scan(&last); err != nil {
		return err
	}
	clear := func() error {
		_, err := conn.Exec(ctx, "DELETE FROM port_calls WHERE id > $1", last)
		return err
	}
	defer clear()
	var servers []*server
	defer func() {
		for _, s := range servers {
			s.stop()
		}
	}()
	body := func(v any) []byte {
		text, err := json.Marshal(v)
		if err != nil {
			panic(err) // texts, numbers and moments
		}
		return text
	}
	// What is asked of n port calls; of none, one is changed.
	correction := peers.Correction{ID: last, Purpose: "REPAIR"}
	for i, p := range peers.Writers {
		name := p.Name
		if i == 0 {
			name = baseline
		}
		s, err := b.start(ctx, name, p.Title, p.Name, func(n int) []byte {
			if n == 0 {
				return post("/arrivals?limit=1", body(map[string]any{"correct": correction}))
			}
			return post("/arrivals?limit=1", body(map[string]any{"calls": written(n)}))
		})
		if err != nil {
			return err
		}
		servers = append(servers, s)
	}
	osprey, err := b.start(ctx, "osprey", "Osprey", projectDir, func(n int) []byte {
		if n == 0 {
			return post("/graphql", body(map[string]any{"query": correct, "variables": correction}))
		}
		return post("/graphql", body(map[string]any{"query": arriveAll, "variables": map[string]any{"calls": written(n)}}))
	})
	if err != nil {
		return err
	}
	servers = append(servers, osprey)
	fmt.Println("\nport calls are written down, and answered with their craft and its operator")
	for _, clients := range []int{8, 1} {
		for _, n := range []int{1, 100, 0} {
			if n == 0 {
				fmt.Println("\none port call is changed, and answered as before")
			}
			results, err := b.interleave(servers, n, clients)
			if err != nil {
				return err
			}
			printTable(servers, results, n, clients)
			if err := clear(); err != nil {
				return err
			}
		}
	}
	return nil
}
