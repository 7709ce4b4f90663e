package main

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/demo"
)

// demoCommand returns "osprey demo": stores, stand-ins, data and service.
func demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "start the harbour: stores, stand-ins, data and service in one go",
		Description: "Starts a private PostgreSQL cluster, a document server and stand-ins of three\n" +
			"remote services on loopback, fills them with a made-up harbour, and serves demo/harbour. The\n" +
			"data is kept for the next start. A store whose address is given by the environment\n" +
			"(REGISTRY_URL, INSPECTIONS_URL, TIDES_URL, NOTICES_URL, FEES_URL, RECORDS_URL) is used as it is, and filled if it is empty;\n" +
			"a broker whose address is given by NATS_URL carries what services tell each other.\n\n" +
			"Example:\n   osprey demo\n   osprey demo --port 8420 --fresh",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "port", Value: 7420, Usage: "port of the service; the stores' ports move with it"},
			&cli.StringFlag{Name: "state", Usage: "folder that keeps the data (default: one for this checkout and port in /var/lib/osprey-demo for root, in ~/.local/state/osprey-demo for others)"},
			&cli.StringFlag{Name: "project", Value: "demo/harbour", Usage: "project folder to serve"},
			&cli.BoolFlag{Name: "files", Usage: "serve the project's files, and not the revision that was published last, until another is published"},
			&cli.BoolFlag{Name: "fresh", Usage: "throw the kept data away and make it again"},
			&cli.BoolFlag{Name: "live", Usage: "craft come in and leave, every few seconds, past the service"},
			&cli.IntFlag{Name: "scale", Value: 1, Usage: "size of the data: 1 has 4,000 port calls, 25 has 100,000"},
		},
		OnUsageError: usageError,
		Action:       runDemo,
	}
}

func runDemo(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return wrongUse("the demo takes no arguments, found %q; another project is named with --project", c.Args().First())
	}
	port := int(c.Int("port"))
	if port < 1024 || port > 65000 {
		return wrongUse("--port is a number from 1024 to 65000, found %d", port)
	}
	if scale := c.Int("scale"); scale < 1 || scale > 100 {
		return wrongUse("--scale is a number from 1 to 100, found %d", scale)
	}
	dir := c.String("project")
	if _, err := os.Stat(filepath.Join(dir, "osprey.yaml")); err != nil {
		return wrongUse("%s is no project: run the demo where the sources are, or say --project", dir)
	}
	state := c.String("state")
	if state == "" {
		var err error
		if state, err = defaultState(dir, port); err != nil {
			return unreachable(err)
		}
	}
	listen := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	if l, err := net.Listen("tcp", listen); err != nil {
		return unreachable(fmt.Errorf("%s is taken, perhaps by another demo: stop it, or move this one with --port (make demo PORT=8420)", listen))
	} else {
		l.Close()
	}
	out := c.Root().ErrWriter
	h, err := demo.Start(ctx, demo.Options{
		State: state, Fresh: c.Bool("fresh"), Scale: int(c.Int("scale")),
		Registry: port + 12, Inspections: port - 3, Tides: port + 21, Notices: port + 22, Fees: port + 23,
		Progress: func(what string) { fmt.Fprintf(out, "  … %s\n", what) },
	})
	if err != nil {
		return unreachable(err)
	}
	defer func() {
		h.Stop()
		fmt.Fprintln(out, "osprey: everything is stopped; the data is kept in "+state)
	}()
	if c.Bool("live") {
		living, end := context.WithCancel(ctx)
		var wait sync.WaitGroup
		defer wait.Wait()
		defer end()
		wait.Go(func() {
			h.Live(living, 3*time.Second, func(err error) { fmt.Fprintf(out, "osprey: no craft comes or leaves: %v\n", err) })
		})
	}
	for name, value := range h.Environ() {
		os.Setenv(name, value)
	}
	return serve(ctx, c, dir, listen, true, func(address string) {
		url := ""
		if port != 7420 {
			url = " --url " + address
		}
		fmt.Fprintf(out, "  registry     %s\n  inspections  %s\n  tides        %s\n  notices      %s\n  fees         %s\n  records      %s\n\n",
			h.RegistryURL, h.InspectionsURL, h.TidesURL, h.NoticesURL, h.FeesURL, h.RecordsURL)
		fmt.Fprint(out, "Keys, for --key or OSPREY_KEY; who sends none sees everything:\n")
		for _, k := range demo.Keys {
			fmt.Fprintf(out, "  %-38s  %s\n", k.Key, k.Who)
		}
		fmt.Fprintf(out, "\n"+
			"Try:  bin/osprey ask%s -f demo/harbour/operations/Board.graphql --calls\n"+
			"      bin/osprey ask%s -f demo/harbour/operations/Arrivals.graphql\nStop with Ctrl-C.\n", url, url)
	})
}

// defaultState names a folder for this checkout and port. It is not in the
// checkout, whose folders the database's user may not be able to enter.
func defaultState(dir string, port int) (string, error) {
	absolute, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256([]byte(absolute))
	return demo.StateDir(filepath.Join("osprey-demo", fmt.Sprintf("%x-%d", sum[:4], port)))
}
