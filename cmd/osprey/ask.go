package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"osprey/core/language"
)

// askCommand returns "osprey ask", which runs an operation.
func askCommand() *cli.Command {
	return &cli.Command{
		Name:      "ask",
		Usage:     "run an operation on a running service, or on a project in this process",
		ArgsUsage: "[OPERATION]",
		Description: "The answer goes to standard output: as a tree on a terminal, as JSON elsewhere. Errors\n" +
			"of the operation go to standard error, and the exit code is then 1. A subscription is followed\n" +
			"until it is interrupted: each event as a tree, or, as JSON, on a line of its own.\n\n" +
			"Example:\n   osprey ask '{ quays { name berths { number lengthM } } }'\n" +
			"   osprey ask -f demo/harbour/operations/Board.graphql --var limit=5 --calls",
		Flags: append(operationFlags(),
			&cli.StringFlag{Name: "as", Usage: "tree, table or json"},
			&cli.BoolFlag{Name: "calls", Usage: "also show the store requests that were made"},
			&cli.BoolFlag{Name: "live", Usage: "answer a query again, whenever something that it has read has changed"},
			&cli.IntFlag{Name: "count", Usage: "of a subscription, or with --live, how many answers are shown; 0 is no bound"},
			&cli.StringFlag{Name: "once", Usage: "a key, such as a UUID, under which a mutation is done once, however often it is sent"}),
		DisableSliceFlagSeparator: true, // values of variables have commas of their own
		OnUsageError:              usageError,
		Action:                    ask,
	}
}

func ask(ctx context.Context, c *cli.Command) error {
	out := c.Root().Writer
	as := c.String("as")
	if as == "" {
		as = "json"
		if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			as = "tree"
		}
	}
	show := views[as]
	if show == nil {
		return wrongUse("--as is tree, table or json, found %q", as)
	}
	q, err := readOperation(c)
	if err != nil {
		return err
	}
	if follows(c, q) {
		return followAnswers(ctx, c, q, as)
	}
	body, err := askSomewhere(ctx, c, q)
	if err != nil {
		return err
	}
	var r response
	if err := json.Unmarshal(body, &r); err != nil || r.Data == nil && r.Errors == nil {
		return unreachable(fmt.Errorf("what answers at %s is not an Osprey service", c.String("url")))
	}
	if err := show(out, &r, body); err != nil {
		return err
	}
	if c.Bool("calls") && as != "json" {
		printCalls(out, r.Extensions.Calls, r.Extensions.Cost)
	}
	if len(r.Errors) > 0 {
		printFaults(c.Root().ErrWriter, q, r.Errors)
		return &coded{exitNo, errTold}
	}
	return nil
}

// askSomewhere gets the response to an operation from a project in this process
// or from a running service.
func askSomewhere(ctx context.Context, c *cli.Command, q *operation) ([]byte, error) {
	if dir := c.String("project"); dir != "" {
		p, err := openProject(ctx, c, dir)
		if err != nil {
			return nil, err
		}
		defer p.Close()
		q.Once = c.String("once")
		return p.Revision().Ask(ctx, &q.Request).AppendJSON(nil, c.Bool("calls")), nil
	}
	header := http.Header{"Accept": {"application/graphql-response+json"}}
	if c.Bool("calls") {
		header.Set("Osprey-Calls", "on")
	}
	if key := c.String("once"); key != "" {
		header.Set("Idempotency-Key", strconv.Quote(key))
	}
	_, body, err := post(keyed(ctx, c), c.String("url"), "/graphql", q, header)
	return body, err
}

// A response is what a service answers.
type response struct {
	Data       json.RawMessage `json:"data"`
	Errors     []fault         `json:"errors"`
	Extensions struct {
		Calls []call `json:"calls"`
		Cost  int64  `json:"cost"`
	} `json:"extensions"`
}

type fault struct {
	Message    string              `json:"message"`
	Locations  []language.Position `json:"locations"`
	Path       []any               `json:"path"`
	Extensions struct {
		Code string `json:"code"`
		Fix  string `json:"fix"`
		More int    `json:"more"`
	} `json:"extensions"`
}

type call struct {
	Wave     int     `json:"wave"`
	Source   string  `json:"source"`
	Asks     string  `json:"asks"`
	Requests int     `json:"requests"`
	Keys     int     `json:"keys"`
	Calls    int     `json:"calls"`
	Records  int     `json:"records"`
	Millis   float64 `json:"ms"`
	Failed   bool    `json:"failed"`
}

// printFaults writes the errors of an operation with their places in its text.
func printFaults(w io.Writer, q *operation, faults []fault) {
	c := coloursFor(w)
	src := language.NewSource(q.name, q.Query)
	var codes []string
	for _, f := range together(faults) {
		place := ""
		if len(f.Locations) > 0 {
			f.Locations[0].Name = q.name
			place = f.Locations[0].String() + ": "
		}
		fmt.Fprintf(w, "%s%s%s%serror%s: %s %s[%s]%s\n", c.bold, place, c.off, c.red, c.off, f.Message, c.dim, f.Extensions.Code, c.off)
		if len(f.Path) > 0 {
			fmt.Fprintf(w, "  at %s", pathText(f.Path))
			if f.Extensions.More > 0 {
				fmt.Fprintf(w, ", and at %d more places", f.Extensions.More)
			}
			fmt.Fprintln(w)
		} else if len(f.Locations) > 0 {
			printCaret(w, src.Line(f.Locations[0].Line), f.Locations[0])
		}
		if f.Extensions.Fix != "" {
			fmt.Fprintf(w, "  → %s\n", f.Extensions.Fix)
		}
		if code := f.Extensions.Code; code != "" && !slices.Contains(codes, code) {
			codes = append(codes, code)
		}
	}
	for _, code := range codes {
		fmt.Fprintf(w, "%sosprey help %s says more%s\n", c.dim, code, c.off)
	}
}

// together makes one of the errors that differ in nothing but their path: a store
// that is down is told once, with how many places it is missing at.
func together(faults []fault) []fault {
	var list []fault
	known := map[string]int{}
	for _, f := range faults {
		key := fmt.Sprint(f.Message, f.Extensions.Code, f.Locations)
		if at, ok := known[key]; ok && len(f.Path) > 0 {
			list[at].Extensions.More += 1 + f.Extensions.More
			continue
		}
		known[key] = len(list)
		list = append(list, f)
	}
	return list
}

func pathText(path []any) string {
	text := ""
	for _, step := range path {
		switch step := step.(type) {
		case float64:
			text += fmt.Sprintf("[%d]", int(step))
		case string:
			if text != "" {
				text += "."
			}
			text += step
		}
	}
	return text
}
