package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
	"osprey/publishing"
	"osprey/records"
)

// trafficCommand returns "osprey traffic", which tells what is asked of a running service.
func trafficCommand() *cli.Command {
	return &cli.Command{
		Name:  "traffic",
		Usage: "tell what is asked of a running service, and what nobody asks",
		Description: "Tells the operations that were asked, by their normal form and name: how often, how many of them\n" +
			"had errors, how long the answers took in milliseconds (half of them, 95 and 99 of a hundred took\n" +
			"at most so long), and how many store requests and records one took on average. With --unused, it tells\n" +
			"what of the schema nobody asked, and so could be removed.\n\n" +
			"Example:\n   osprey traffic --order slow\n   osprey traffic --of Board\n   osprey traffic --unused --within 720h",
		Flags: append(serviceFlags("url"), []cli.Flag{
			&cli.DurationFlag{Name: "within", Value: 24 * time.Hour, Usage: "how far back from now, by whole hours"},
			&cli.StringFlag{Name: "order", Value: "asked", Usage: "what comes first: asked, slow, requests (store requests) or failed"},
			&cli.StringFlag{Name: "client", Usage: "only what this client asked"},
			&cli.StringFlag{Name: "of", Usage: "one operation, by its name or the beginning of its id: what it usually asks of the stores, and its last errors; - stands for those that are not told apart"},
			&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many operations are told"},
			&cli.BoolFlag{Name: "unused", Usage: "tell what of the schema nobody asked"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"},
		}...),
		OnUsageError: usageError,
		Action:       runTraffic,
	}
}

// An asked is an operation as a service tells it.
type asked struct {
	records.Operation
	P50 float64 `json:"p50"`
	P95 float64 `json:"p95"`
	P99 float64 `json:"p99"`
}

// A trafficAnswer is what a service tells of what is asked.
type trafficAnswer struct {
	Within     string           `json:"within"`
	Operations []asked          `json:"operations"`
	Hours      []records.Hour   `json:"hours"`
	State      publishing.State `json:"state"`
}

// orders are what can come first.
var orders = map[string]func(a, b asked) int{
	"asked":    func(a, b asked) int { return cmp.Compare(b.Asked, a.Asked) },
	"slow":     func(a, b asked) int { return cmp.Compare(b.P95, a.P95) },
	"requests": func(a, b asked) int { return cmp.Compare(each(b.Requests, b.Asked), each(a.Requests, a.Asked)) },
	"failed":   func(a, b asked) int { return cmp.Compare(b.Failed, a.Failed) },
}

// each returns how much one of them has.
func each(n, of int64) float64 { return float64(n) / float64(max(of, 1)) }

func runTraffic(ctx context.Context, c *cli.Command) error {
	ctx, format, within := keyed(ctx, c), c.String("format"), c.Duration("within")
	switch {
	case c.Args().Present():
		return wrongUse("it takes no arguments, found %q", c.Args().First())
	case format != "text" && format != "json":
		return wrongUse("--format is %q; it is text or json", format)
	case orders[c.String("order")] == nil:
		return wrongUse("--order is %q; it is asked, slow, requests or failed", c.String("order"))
	case within <= 0:
		return wrongUse("--within is a length of time such as 24h, found %s", within)
	case c.Int("limit") < 1:
		return wrongUse("--limit is a number from 1, found %d", c.Int("limit"))
	case c.Bool("unused"):
		return tellUnused(ctx, c)
	}
	path := "/api/v1/traffic?within=" + within.String()
	if client := c.String("client"); client != "" {
		path += "&client=" + url.QueryEscape(client)
	}
	var t trafficAnswer
	if err := callService(ctx, http.MethodGet, c.String("url"), path, nil, &t); err != nil {
		return err
	}
	if c.String("of") != "" {
		return tellOne(ctx, c, &t)
	}
	all := len(t.Operations)
	slices.SortStableFunc(t.Operations, orders[c.String("order")])
	if c.String("order") == "failed" {
		t.Operations = slices.DeleteFunc(t.Operations, func(a asked) bool { return a.Failed == 0 })
	}
	t.Operations = t.Operations[:min(len(t.Operations), int(c.Int("limit")))]
	w := c.Root().Writer
	if format == "json" {
		return printJSON(w, t)
	}
	printTraffic(w, &t, all)
	return nil
}

// printTraffic writes a line for each operation.
func printTraffic(w io.Writer, t *trafficAnswer, all int) {
	if len(t.Operations) == 0 {
		fmt.Fprintf(w, "nothing within %s\n", spanOf(t.Within))
	} else {
		out := tabwriter.NewWriter(w, 2, 4, 2, ' ', 0)
		fmt.Fprintln(out, "OPERATION\tASKED\tFAILED\tP50 MS\tP95 MS\tP99 MS\tREQUESTS\tRECORDS\tLAST\tBY")
		for _, o := range t.Operations {
			failed := fmt.Sprint(o.Failed)
			if o.Failed > 0 {
				failed += " " + counted(o.Codes, 2)
			}
			fmt.Fprintf(out, "%s\t%d\t%s\t%.1f\t%.1f\t%.1f\t%.1f\t%.0f\t%s\t%s\n", nameOf(o.Name, o.ID), o.Asked, failed, o.P50, o.P95, o.P99,
				each(o.Requests, o.Asked), each(o.Records, o.Asked), hourOf(o.Last), counted(o.Clients, 3))
		}
		out.Flush()
		asked, failed := int64(0), int64(0)
		for _, h := range t.Hours {
			asked, failed = asked+h.Asked, failed+h.Failed
		}
		fmt.Fprintf(w, "\n%s of %s within %s: asked %s, %d of them failed\n", plan.Count(len(t.Operations), "operation"), fmt.Sprint(all), spanOf(t.Within), plan.Count(int(asked), "time"), failed)
	}
	if s := t.State; s.Problem != "" {
		fmt.Fprintf(w, "%s: what was asked last is not among it\n", s.Problem)
	}
	if t.State.Dropped > 0 {
		fmt.Fprintf(w, "%s not counted, since too much was to be written\n", plan.Count(int(t.State.Dropped), "request"))
	}
}

// spanOf writes a length of time without what is zero: 24h, not 24h0m0s.
func spanOf(text string) string { return strings.TrimSuffix(strings.TrimSuffix(text, "0s"), "0m") }

// counted writes the names that have most, with their counts.
func counted(of map[string]int64, most int) string {
	names := slices.SortedFunc(maps.Keys(of), func(a, b string) int {
		return cmp.Or(cmp.Compare(of[b], of[a]), strings.Compare(a, b))
	})
	more := ""
	if len(names) > most {
		names, more = names[:most], " …"
	}
	var parts []string
	for i, name := range clientNames(names) {
		parts = append(parts, fmt.Sprintf("%s %d", name, of[names[i]]))
	}
	return strings.Join(parts, ", ") + more
}

// tellUnused tells what nobody asked.
func tellUnused(ctx context.Context, c *cli.Command) error {
	var answer struct {
		Within string        `json:"within"`
		Since  *time.Time    `json:"since,omitempty"`
		Uses   []records.Use `json:"uses"`
		Unused []string      `json:"unused"`
	}
	if err := callService(ctx, http.MethodGet, c.String("url"), "/api/v1/traffic/uses?within="+c.Duration("within").String(), nil, &answer); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.String("format") == "json" {
		return printJSON(w, answer)
	}
	if answer.Since == nil {
		fmt.Fprintln(w, "nothing was asked yet")
		return nil
	}
	for _, coordinate := range answer.Unused {
		fmt.Fprintln(w, coordinate)
	}
	fmt.Fprintf(w, "\n%s asked by nobody within %s; it is kept since %s what was asked\n", are(len(answer.Unused), "coordinate"), spanOf(answer.Within), hourOf(*answer.Since))
	return nil
}

// are writes how many there are: 1 coordinate is, 2 coordinates are.
func are(n int, what string) string {
	if n == 1 {
		return plan.Count(n, what) + " is"
	}
	return plan.Count(n, what) + " are"
}
