package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/core/compare"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/project"
)

// diffCommand returns "osprey diff": in what two schemas differ.
func diffCommand() *cli.Command {
	return &cli.Command{
		Name:      "diff",
		Usage:     "tell in what two schemas differ, and whom it concerns",
		ArgsUsage: "OLD NEW",
		Description: "Each is a project, a folder of types, one file, or the address of a running service. Every\n" +
			"difference is told by its schema coordinate, and is breaking, risky or safe. The exit code is\n" +
			"1 where something breaks. With --traffic, what nobody asks is left out.\n\n" +
			"Example:\n   osprey diff --types-only demo/harbour/schema demo/harbour/schema\n" +
			"   osprey diff http://127.0.0.1:7420 demo/harbour --traffic http://127.0.0.1:7420",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "operations", Usage: "folder or file of operations: tell only what concerns them"},
			&cli.StringFlag{Name: "traffic", Usage: "address of a running service: tell only what concerns operations that are asked there, and by whom"},
			&cli.DurationFlag{Name: "within", Value: 7 * 24 * time.Hour, Usage: "with --traffic, how far back from now"},
			keyFlag(),
			&cli.BoolFlag{Name: "types-only", Usage: "compare the types of projects without asking their stores"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"},
		},
		OnUsageError: usageError,
		Action:       runDiff,
	}
}

func runDiff(ctx context.Context, c *cli.Command) error {
	ctx, format := keyed(ctx, c), c.String("format")
	switch {
	case c.Args().Len() != 2:
		return wrongUse("say which schemas: osprey diff OLD NEW")
	case format != "text" && format != "json":
		return wrongUse("--format is %q; it is text or json", format)
	}
	var both [2]*schema.Schema
	for i := range both {
		var err error
		if both[i], err = schemaAt(ctx, c, c.Args().Get(i)); err != nil {
			return faulty(c, err)
		}
	}
	list := compare.Schemas(both[0], both[1])
	if path := c.String("operations"); path != "" {
		used, err := project.UsedBy(both[0], path)
		if err != nil {
			return faulty(c, err)
		}
		own := list[:0]
		for _, d := range list {
			if d.Class != compare.Safe && used.Concerns(d) {
				own = append(own, d)
			}
		}
		list = own
	}
	askedBy := map[compare.Difference][]string{}
	if service := c.String("traffic"); service != "" {
		var err error
		if list, askedBy, err = touched(ctx, service, c.Duration("within"), list); err != nil {
			return err
		}
	}
	if format == "json" {
		if err := diffJSON(c.Root().Writer, list, askedBy); err != nil {
			return err
		}
	} else {
		diffText(c.Root().Writer, list, askedBy)
	}
	if len(list) > 0 && list[0].Class == compare.Breaking {
		return &coded{exitNo, errTold}
	}
	return nil
}

// touched returns the differences that concern operations that were asked of a running service, and
// for each, which they are and who asked them.
func touched(ctx context.Context, service string, within time.Duration, list []compare.Difference) ([]compare.Difference, map[compare.Difference][]string, error) {
	var t trafficAnswer
	if err := callService(ctx, http.MethodGet, service, "/api/v1/traffic?within="+within.String()+"&uses=true", nil, &t); err != nil {
		return nil, nil, err
	}
	var concerned []compare.Difference
	askedBy := map[compare.Difference][]string{}
	used := make([]*compare.Used, len(t.Operations))
	for i, o := range t.Operations {
		var uses []string
		if err := json.Unmarshal(o.Uses, &uses); err != nil {
			return nil, nil, unreachable(fmt.Errorf("what answers at %s is not an Osprey service", service))
		}
		used[i] = compare.UsedOf(uses)
	}
	for _, d := range list {
		if d.Class == compare.Safe {
			continue
		}
		for i, o := range t.Operations {
			if used[i].Concerns(d) {
				askedBy[d] = append(askedBy[d], fmt.Sprintf("%s, asked %s by %s", nameOf(o.Name, o.ID), plan.Count(int(o.Asked), "time"), counted(o.Clients, 5)))
			}
		}
		if askedBy[d] != nil {
			concerned = append(concerned, d)
		}
	}
	return concerned, askedBy, nil
}

// faulty tells findings that are an error.
func faulty(c *cli.Command, err error) error {
	var found project.Findings
	if errors.As(err, &found) {
		printFindings(c.Root().ErrWriter, found)
		return &coded{exitNo, errTold}
	}
	return err
}

// schemaAt returns the schema of a project, of types, or of a running service.
func schemaAt(ctx context.Context, c *cli.Command, from string) (*schema.Schema, error) {
	if !strings.HasPrefix(from, "http://") && !strings.HasPrefix(from, "https://") {
		return project.SchemaAt(ctx, from, c.Bool("types-only"), waiting(c))
	}
	address := strings.TrimSuffix(from, "/")
	if !strings.HasSuffix(address, ".graphql") {
		address += "/schema.graphql"
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	_, rest, _ := strings.Cut(address, "://")
	_, path, _ := strings.Cut(rest, "/")
	res, err := send(ctx, http.MethodGet, strings.TrimSuffix(address, "/"+path), "/"+path, nil, nil, 30*time.Second)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil || res.StatusCode != http.StatusOK {
		return nil, &coded{exitUnreachable, fmt.Errorf("%s does not show its schema: %s", address, res.Status)}
	}
	return project.SchemaOf(address, string(text))
}

// diffText writes differences as people read them.
func diffText(w io.Writer, list []compare.Difference, askedBy map[compare.Difference][]string) {
	count := map[compare.Class]int{}
	for _, d := range list {
		count[d.Class]++
		printDifference(w, d.Class.String(), d.Coordinate, d.What)
		for _, who := range askedBy[d] {
			fmt.Fprintf(w, "            %s\n", who)
		}
	}
	if len(list) == 0 {
		fmt.Fprintln(w, "no difference")
		return
	}
	fmt.Fprintf(w, "\n%s: %d breaking, %d risky, %d safe\n", plan.Count(len(list), "difference"), count[compare.Breaking], count[compare.Risky], count[compare.Safe])
}

// printDifference writes a difference on a line.
func printDifference(w io.Writer, class, coordinate, what string) {
	c := coloursFor(w)
	colour := map[string]string{compare.Breaking.String(): c.red, compare.Risky.String(): c.yellow, compare.Safe.String(): c.dim}[class]
	fmt.Fprintf(w, "%s%-8s%s  %s%s%s %s\n", colour, class, c.off, c.bold, coordinate, c.off, what)
}

// diffJSON writes differences for programs.
func diffJSON(w io.Writer, list []compare.Difference, askedBy map[compare.Difference][]string) error {
	type difference struct {
		Class      string `json:"class"`
		Coordinate string `json:"coordinate"`
		What       string `json:"what"`
		// AskedBy are the operations that it concerns, with who asked them.
		AskedBy []string `json:"askedBy,omitempty"`
	}
	out := struct {
		Differences []difference `json:"differences"`
	}{[]difference{}}
	for _, d := range list {
		out.Differences = append(out.Differences, difference{d.Class.String(), d.Coordinate, d.What, askedBy[d]})
	}
	return printJSON(w, out)
}
