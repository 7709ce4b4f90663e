package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/jackc/pgx/v5"
)

// A curve is how something grows.
type curve struct {
	title, x  string
	logarithm bool // of both axes
	y         string
	lines     []line
}

type line struct {
	name   string
	points []point
}

type point struct {
	x        float64
	y        float64
	answer   int // bytes
	requests int // statements that the database counted for one answer; 0 if not counted
}

// growth measures how time grows with rows, nesting, fields and clients, and
// counts at the database what one answer asks of it.
func (b *bench) growth(ctx context.Context) error {
	dir, err := b.gauges(ctx)
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	harbour, err := b.start(ctx, "osprey", "Osprey", projectDir, nil)
	if err != nil {
		return err
	}
	defer harbour.stop()
	gauges, err := b.start(ctx, "gauges", "Osprey", dir, nil)
	if err != nil {
		return err
	}
	defer gauges.stop()
	usual, err := b.start(ctx, baseline, "a query per level", baseline, nil)
	if err != nil {
		return err
	}
	defer usual.stop()
	arrivals := savedRequest
	var curves []*curve
	rows := &curve{title: "Rows", x: "port calls in the answer", logarithm: true, y: "ms"}
	for _, n := range []int{1, 10, 100, 1000, 3000, 10000} {
		if err := b.add(ctx, rows, "Osprey", harbour, float64(n), arrivals(n)); err != nil {
			return err
		}
		if err := b.add(ctx, rows, "a query per level", usual, float64(n), get(fmt.Sprintf("/arrivals?limit=%d", n))); err != nil {
			return err
		}
	}
	nesting := &curve{title: "Nesting", x: "levels, each of 50 records", y: "ms"}
	for levels := 1; levels <= 8; levels++ {
		if err := b.add(ctx, nesting, "Osprey", harbour, float64(levels), ospreyRequest(nested(levels))(50)); err != nil {
			return err
		}
	}
	fields := &curve{title: "Fields", x: "fields of each of 200 records", y: "ms"}
	for _, n := range []int{1, 10, 25, 50, 75, 100} {
		text := "query ($limit: Int!) { gauges(limit: $limit) {"
		for i := range n {
			text += fmt.Sprintf(" r%d", i+1)
		}
		if err := b.add(ctx, fields, "Osprey", gauges, float64(n), ospreyRequest(text+" } }")(200)); err != nil {
			return err
		}
	}
	curves = append(curves, rows, nesting, fields)
	clients := &curve{title: "Clients", x: "clients at once, each asking for 20 port calls", y: "answers per second"}
	for _, n := range []int{1, 2, 4, 8, 16, 32, 64} {
		for _, s := range []*server{harbour, usual} {
			request := arrivals(20)
			if s == usual {
				request = get("/arrivals?limit=20")
			}
			var list []*sample
			for range b.rounds {
				result, err := b.load(s, request, n, b.time)
				if err != nil {
					return err
				}
				list = append(list, result)
			}
			clients.put(s.title, point{x: float64(n), y: median(list, (*sample).throughput)})
		}
	}
	curves = append(curves, clients)
	for _, c := range curves {
		c.print()
	}
	if b.plots != "" {
		return plotCurves(curves, filepath.Join(b.plots, "growth.png"))
	}
	return nil
}

// add measures how long one client waits for an answer.
func (b *bench) add(ctx context.Context, c *curve, name string, s *server, x float64, request []byte) error {
	requests, err := b.count(ctx, func() error {
		_, err := once(ctx, s, request)
		return err
	})
	if err != nil {
		return err
	}
	var list []*sample
	for range b.rounds {
		result, err := b.load(s, request, 1, b.time/2)
		if err != nil {
			return err
		}
		list = append(list, result)
	}
	c.put(name, point{x, float64(duration(list, 0.5)) / float64(time.Millisecond), list[0].bytes, requests})
	return nil
}

func (c *curve) put(name string, p point) {
	for i := range c.lines {
		if c.lines[i].name == name {
			c.lines[i].points = append(c.lines[i].points, p)
			return
		}
	}
	c.lines = append(c.lines, line{name, []point{p}})
}

// count returns how many statements the database ran while f did, as its own
// statistics count them.
func (b *bench) count(ctx context.Context, f func() error) (int, error) {
	conn, err := pgx.Connect(ctx, b.harbour.RegistryURL)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	for _, text := range []string{`CREATE EXTENSION IF NOT EXISTS pg_stat_statements`, `SELECT pg_stat_statements_reset()`} {
		if _, err := conn.Exec(ctx, text); err != nil {
			return 0, err
		}
	}
	if err := f(); err != nil {
		return 0, err
	}
	var n int
	err = conn.QueryRow(ctx, `SELECT COALESCE(sum(calls), 0)::int FROM pg_stat_statements WHERE query NOT ILIKE '%pg_stat_statements%'`).Scan(&n)
	return n, err
}

// nested returns an operation of so many levels: calls, their craft, the
// craft's latest call, its craft and so on.
func nested(levels int) string {
	text := "id arrivedAt purpose"
	for level := levels; level > 1; level-- {
		if level%2 == 0 {
			text = "id arrivedAt purpose craft { " + text + " }"
			if level == levels {
				text = "id arrivedAt purpose craft { imo name lengthM }"
			}
		} else {
			text = "imo name lengthM calls(limit: 1) { " + text + " }"
			if level == levels {
				text = "imo name lengthM calls(limit: 1) { id arrivedAt purpose }"
			}
		}
	}
	return "query ($limit: Int!) { portCalls(limit: $limit, sort: [{arrivedAt: DESC}]) { " + text + " } }"
}

// gauges makes a wide table and a project folder on it, which the caller
// removes.
func (b *bench) gauges(ctx context.Context) (dir string, err error) {
	conn, err := pgx.Connect(ctx, b.harbour.RegistryURL)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	var columns, values, fields []string
	for i := range 100 {
		columns = append(columns, fmt.Sprintf("r%d integer NOT NULL", i+1))
		values = append(values, fmt.Sprintf("(n * %d) %% 9973", i+7))
		fields = append(fields, fmt.Sprintf("r%d: Int!", i+1))
	}
	for _, text := range []string{
		`DROP TABLE IF EXISTS gauges`,
		`CREATE TABLE gauges (id integer PRIMARY KEY, ` + strings.Join(columns, ", ") + `)`,
		`INSERT INTO gauges SELECT n, ` + strings.Join(values, ", ") + ` FROM generate_series(1, 200) n`,
		`ANALYZE gauges`,
	} {
		if _, err := conn.Exec(ctx, text); err != nil {
			return "", err
		}
	}
	if dir, err = os.MkdirTemp("", "gauges-"); err != nil {
		return "", err
	}
	for name, text := range map[string]string{
		"osprey.yaml": "sources:\n  registry: { kind: postgres, url: \"${REGISTRY_URL}\", naming: snake }\n",
		"schema/gauges.graphql": "type Query { gauges(limit: Int): [Gauge!]! @read }\n" +
			"\"Readings of a tide gauge.\"\ntype Gauge @stored(in: \"registry\", as: \"gauges\", key: \"id\") { id: ID! " + strings.Join(fields, " ") + " }\n",
	} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return dir, err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return dir, err
		}
	}
	return dir, nil
}

func (c *curve) print() {
	fmt.Printf("\n%s: %s\n", c.title, c.x)
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)
	for _, l := range c.lines {
		row := func(name string, cell func(p point) string) {
			fmt.Fprint(w, name)
			for _, p := range l.points {
				fmt.Fprint(w, "\t", cell(p))
			}
			fmt.Fprintln(w, "\t")
		}
		row("", func(p point) string { return fmt.Sprintf("%.0f", p.x) })
		row(l.name+", "+c.y, func(p point) string { return fmt.Sprintf("%.4g", p.y) })
		if l.points[0].requests > 0 {
			row("statements for an answer", func(p point) string { return fmt.Sprint(p.requests) })
			row("bytes of an answer", func(p point) string { return fmt.Sprint(p.answer) })
		}
	}
	w.Flush()
}
