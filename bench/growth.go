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
	requests int // statements that the database counted for one answer
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
	rows := &curve{title: "Rows", x: "port calls in the answer", logarithm: true, y: "ms"}
	nesting := &curve{title: "Nesting", x: "levels, each of 50 records", y: "ms"}
	fields := &curve{title: "Fields", x: "fields of each of 200 records", y: "ms"}
	clients := &curve{title: "Clients", x: "clients at once, each asking for 20 port calls", y: "answers per second"}
	var places []*place
	for _, n := range []int{1, 10, 100, 1000, 3000, 10000} {
		places = append(places,
			&place{curve: rows, server: harbour, x: n, clients: 1, request: arrivals(n)},
			&place{curve: rows, server: usual, x: n, clients: 1, request: get(fmt.Sprintf("/arrivals?limit=%d", n))})
	}
	for levels := 1; levels <= 8; levels++ {
		places = append(places, &place{curve: nesting, server: harbour, x: levels, clients: 1, request: ospreyRequest(nested(levels))(50)})
	}
	for _, n := range []int{1, 10, 25, 50, 75, 100} {
		text := "query ($limit: Int!) { gauges(limit: $limit) {"
		for i := range n {
			text += fmt.Sprintf(" r%d", i+1)
		}
		places = append(places, &place{curve: fields, server: gauges, x: n, clients: 1, request: ospreyRequest(text + " } }")(200)})
	}
	for _, n := range []int{1, 2, 4, 8, 16, 32, 64} {
		places = append(places,
			&place{curve: clients, server: harbour, x: n, clients: n, request: arrivals(20)},
			&place{curve: clients, server: usual, x: n, clients: n, request: get("/arrivals?limit=20")})
	}
	for _, p := range places {
		if p.requests, err = b.count(ctx, func() error {
			_, err := once(ctx, p.server, p.request)
			return err
		}); err != nil {
			return err
		}
	}
	for range b.rounds {
		for _, p := range places {
			result, err := b.load(p.server, p.request, p.clients, b.time/2)
			if err != nil {
				return err
			}
			p.samples = append(p.samples, result)
		}
	}
	for _, p := range places {
		y := float64(duration(p.samples, 0.5)) / float64(time.Millisecond)
		if p.curve == clients {
			y = median(p.samples, (*sample).throughput)
		}
		size := 0
		for _, s := range p.samples {
			size = max(size, s.bytes) // a sample may have had no time for an answer
		}
		p.curve.put(p.server.title, point{float64(p.x), y, size, p.requests})
	}
	curves := []*curve{rows, nesting, fields, clients}
	for _, c := range curves {
		c.print()
	}
	if b.plots != "" {
		return plotCurves(curves, filepath.Join(b.plots, "growth.png"))
	}
	return nil
}

// A place is where a curve is measured.
type place struct {
	curve    *curve
	server   *server
	x        int
	clients  int
	request  []byte
	requests int // statements that the database counted for one answer
	samples  []*sample
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
	err = conn.QueryRow(ctx, `SELECT COALESCE(sum(calls), 0)::int FROM pg_stat_statements WHERE dbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND query NOT ILIKE '%pg_stat_statements%'`).Scan(&n)
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
		row("statements for an answer", func(p point) string { return fmt.Sprint(p.requests) })
		row("bytes of an answer", func(p point) string { return fmt.Sprint(p.answer) })
	}
	w.Flush()
}
