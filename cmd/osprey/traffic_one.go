package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
	"osprey/records"
)

// This file tells of one operation: what it usually asks of the stores, and its last errors.

// leastID is how many digits of an operation's id are told, and needed to name it.
const leastID = 8

// tellOne tells of the operation that --of names, among those that were asked.
func tellOne(ctx context.Context, c *cli.Command, t *trafficAnswer) error {
	of := c.String("of")
	var found []asked
	for _, o := range t.Operations {
		if o.Name == of || of == "-" && o.ID == "" || len(of) >= leastID && strings.HasPrefix(o.ID, of) {
			found = append(found, o)
		}
	}
	switch len(found) {
	case 0:
		return fmt.Errorf("no operation %s was asked within %s\n  → osprey traffic lists those that were, each by its name or the beginning of its id", of, spanOf(t.Within))
	case 1:
	default:
		var ids []string
		for _, o := range found {
			ids = append(ids, o.ID[:leastID])
		}
		return fmt.Errorf("%s were asked by the name %s\n  → name one by the beginning of its id: %s", plan.Count(len(found), "operation"), of, strings.Join(ids, ", "))
	}
	id := found[0].ID
	if id == "" {
		id = "-"
	}
	var one records.One
	if err := callService(ctx, http.MethodGet, c.String("url"), "/api/v1/traffic/"+id+"?within="+c.Duration("within").String(), nil, &one); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.String("format") == "json" {
		return printJSON(w, struct {
			asked
			records.One
		}{found[0], one})
	}
	printOne(w, &found[0], &one)
	return nil
}

// printOne writes what is known of an operation.
func printOne(w io.Writer, o *asked, one *records.One) {
	fmt.Fprintf(w, "%s: asked %s, by %s\n", nameOf(o.Name, o.ID), plan.Count(int(o.Asked), "time"), counted(o.Clients, 5))
	if len(one.Made) > 0 {
		fmt.Fprintln(w, "\nwhat it usually asks, on average:")
		out := tabwriter.NewWriter(w, 2, 4, 2, ' ', 0)
		fmt.Fprintln(out, "  WAVE\tSOURCE\tASKS\tIN\tREQUESTS\tKEYS\tRECORDS\tBYTES\tAT MS\tMS\tMOST")
		most := int64(0) // what was asked before requests were kept counts for none
		for _, m := range one.Made {
			most = max(most, m.Asked)
		}
		for _, m := range one.Made {
			fmt.Fprintf(out, "  %d\t%s\t%s\t%.0f%%\t%.1f\t%.1f\t%.1f\t%.0f\t%.1f\t%.1f\t%.1f\n", m.Wave, m.Source, m.Asks, 100*each(m.Asked, most), m.Requests, m.Keys, m.Records, m.Bytes, m.At, m.Millis, m.Most)
		}
		out.Flush()
	}
	if len(one.Samples) == 0 {
		if o.Failed > 0 {
			fmt.Fprintf(w, "\n%d failed: %s; no error of them is kept\n", o.Failed, counted(o.Codes, 5))
		}
		return
	}
	fmt.Fprintf(w, "\n%d failed: %s; the last errors, without values:\n", o.Failed, counted(o.Codes, 5))
	for _, s := range one.Samples {
		fmt.Fprintf(w, "  %s  %s  %s\n    by %s%s\n", s.At.Local().Format("2 January 15:04:05"), s.Code, s.Message, nameOrNone(s.Client), placeOf(&s))
	}
}

func nameOrNone(name string) string {
	if name == "" {
		return "(no name)"
	}
	return name
}

// placeOf says where an error was, and by which id of a request the log is searched.
func placeOf(s *records.Sample) string {
	text := ""
	var path []any
	if err := json.Unmarshal([]byte(s.Path), &path); err == nil && len(path) > 0 {
		var parts []string
		for _, step := range path {
			parts = append(parts, fmt.Sprint(step))
		}
		text = ", at " + strings.Join(parts, ".")
	}
	if s.Request != "" {
		text += ", request " + s.Request
	}
	return text + fmt.Sprintf(", after %s", time.Duration(s.Took*float64(time.Millisecond)).Round(10*time.Microsecond))
}
