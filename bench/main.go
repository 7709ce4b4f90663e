// Command bench measures Osprey beside handlers written by hand, on the
// registry of the harbour demo, on one machine and in one run.
//
// It starts a PostgreSQL cluster of its own, and every server in a process of
// its own: the peers of package peers, and Osprey as "osprey start" serves it.
// All have the same number of connections. Rounds are interleaved, so that
// what else the machine does falls on all of them; what is told is the median
// of the rounds. See docs/performance.md.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/demo"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command().Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func command() *cli.Command {
	return &cli.Command{
		Name:  "bench",
		Usage: "measure Osprey beside handlers written by hand",
		Description: "Measures, in this order: the arrivals board of Osprey and of its peers; how it grows;\n" +
			"the engine alone; what Osprey adds to the drivers of other stores; the board and lists in\n" +
			"lists on MariaDB and SQLite; and what is written. It is run from the\n" +
			"folder of the sources: make bench, or make bench-quick for the first part in a minute.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quick", Usage: "the peers only, in about a minute"},
			&cli.StringSliceFlag{Name: "only", Usage: "only this part: peers, growth, engine, legs, databases or writes"},
			&cli.StringSliceFlag{Name: "server", Usage: "only this server of the peers' part; osprey is one"},
			&cli.IntFlag{Name: "rounds", Usage: "rounds of each measurement", Value: 5},
			&cli.DurationFlag{Name: "time", Usage: "time of each measurement of a round", Value: time.Second},
			&cli.IntFlag{Name: "pool", Usage: "connections of every server", Value: 2 * runtime.GOMAXPROCS(0)},
			&cli.IntSliceFlag{Name: "size", Usage: "only answers of so many port calls", Value: []int{1, 20, 200, 2000}},
			&cli.StringFlag{Name: "plots", Usage: "folder that the plots of the growth are written to"},
			&cli.StringFlag{Name: "state", Usage: "folder that keeps the data between runs (default: osprey-bench in /var/lib for root, in ~/.local/state for others)"},
		},
		Commands: []*cli.Command{serveCommand()},
		Action: func(ctx context.Context, c *cli.Command) error {
			b := &bench{
				rounds: c.Int("rounds"), time: c.Duration("time"), pool: c.Int("pool"),
				servers: c.StringSlice("server"), sizes: c.IntSlice("size"), plots: c.String("plots"),
			}
			parts := c.StringSlice("only")
			if c.Bool("quick") {
				parts, b.rounds, b.time = []string{"peers"}, 2, 150*time.Millisecond
			}
			state := c.String("state")
			if state == "" {
				var err error
				if state, err = demo.StateDir("osprey-bench"); err != nil {
					return err
				}
			}
			return b.run(ctx, state, parts)
		},
	}
}

// A bench is one run of the program.
type bench struct {
	rounds  int
	time    time.Duration
	pool    int
	servers []string
	sizes   []int
	plots   string

	harbour *demo.Harbour
}

// scale makes 12,000 port calls: enough for an answer of 10,000.
const scale = 3

// run measures the named parts, or all.
func (b *bench) run(ctx context.Context, state string, only []string) error {
	parts := []struct {
		name   string
		stores bool // needs all the stores of the harbour
		run    func(context.Context) error
	}{
		{"peers", false, b.peers},
		{"growth", false, b.growth},
		{"engine", false, b.engine},
		{"legs", true, b.legs},
		{"databases", false, b.databases},
		{"writes", false, b.writes},
	}
	wanted := func(name string) bool {
		for _, w := range only {
			if w == name {
				return true
			}
		}
		return len(only) == 0
	}
	known := map[string]bool{}
	options := demo.Options{State: state, Scale: scale, RegistryOnly: true}
	for _, p := range parts {
		known[p.name] = true
		if p.stores && wanted(p.name) {
			options.RegistryOnly = false
		}
	}
	for _, name := range only {
		if !known[name] {
			return fmt.Errorf("there is no part %q: there are peers, growth, engine, legs, databases and writes", name)
		}
	}
	var err error
	if b.harbour, err = demo.Start(ctx, options); err != nil {
		return err
	}
	defer b.harbour.Stop()
	fmt.Printf("%s, %d processors, PostgreSQL on the same machine; %d connections for each server, %d rounds of %s\n",
		runtime.Version(), runtime.GOMAXPROCS(0), b.pool, b.rounds, b.time)
	for _, p := range parts {
		if !wanted(p.name) {
			continue
		}
		if err := p.run(ctx); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return nil
}
