package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/urfave/cli/v3"

	"osprey/project"
)

// explainCommand returns "osprey explain", which tells what an operation would
// ask the stores.
func explainCommand() *cli.Command {
	return &cli.Command{
		Name:      "explain",
		Usage:     "show the store requests of an operation, without running it",
		ArgsUsage: "[OPERATION]",
		Description: "Shows the store requests, wave by wave. Their number does not depend on the number of\n" +
			"records, except where a store takes one key at a time or answers in pages.\n\n" +
			"Example:\n   osprey explain -f demo/harbour/operations/Board.graphql\n" +
			"   osprey explain --statements '{ quays { berths { number } } }'\n" +
			"   osprey explain --format svg -f demo/harbour/operations/Board.graphql > board.svg",
		Flags: append(operationFlags(),
			&cli.BoolFlag{Name: "statements", Usage: "also print what each store is sent"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text, json, or svg for a drawing"}),
		DisableSliceFlagSeparator: true, // values of variables have commas of their own
		OnUsageError:              usageError,
		Action:                    explain,
	}
}

func explain(ctx context.Context, c *cli.Command) error {
	format := c.String("format")
	if format != "text" && format != "json" && format != "svg" {
		return wrongUse("--format is text, json or svg, found %q", format)
	}
	q, err := readOperation(c)
	if err != nil {
		return err
	}
	var e project.Explanation
	if dir := c.String("project"); dir != "" {
		p, err := openProject(ctx, c, dir)
		if err != nil {
			return err
		}
		defer p.Close()
		found, faults := p.Revision().Explain(&q.Request)
		if faults != nil {
			refused := project.Answer{Refused: true, Faults: faults}
			return printRefusal(c, q, refused.AppendJSON(nil, false))
		}
		e = *found
	} else {
		status, body, err := post(keyed(ctx, c), c.String("url"), "/api/v1/plans", q, http.Header{})
		if err != nil {
			return err
		}
		if status != http.StatusOK {
			return printRefusal(c, q, body)
		}
		if err := json.Unmarshal(body, &e); err != nil {
			return unreachable(fmt.Errorf("what answers at %s is not an Osprey service", c.String("url")))
		}
	}
	if format == "json" {
		out := json.NewEncoder(c.Root().Writer)
		out.SetIndent("", "  ")
		out.SetEscapeHTML(false)
		return out.Encode(e)
	}
	if format == "svg" {
		fmt.Fprint(c.Root().Writer, e.SVG())
		return nil
	}
	fmt.Fprint(c.Root().Writer, e.Text(c.Bool("statements")))
	return nil
}

// printRefusal tells why an operation cannot be planned.
func printRefusal(c *cli.Command, q *operation, body []byte) error {
	var r response
	var problem refusal
	if json.Unmarshal(body, &problem) == nil && problem.Detail != "" { // it is not for this caller
		return &problem
	}
	if err := json.Unmarshal(body, &r); err != nil || len(r.Errors) == 0 {
		return unreachable(fmt.Errorf("what answers at %s is not an Osprey service", c.String("url")))
	}
	printFaults(c.Root().ErrWriter, q, r.Errors)
	return &coded{exitNo, errTold}
}
