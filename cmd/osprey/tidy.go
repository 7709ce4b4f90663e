package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
	"osprey/project"
)

// tidyCommand returns "osprey tidy", which formats schema and operation files.
func tidyCommand() *cli.Command {
	return &cli.Command{
		Name:      "tidy",
		Usage:     "format schema and operation files",
		ArgsUsage: "[PATH...]",
		Description: "Formats the .graphql files of the paths in place and names those it changed; comments\n" +
			"stay where they are. It reports a file that is no document, and leaves it alone.\n" +
			"\"-\" formats standard input to standard output.\n\n" +
			"Example:\n   osprey tidy demo/harbour\n   osprey tidy --check --format json demo/harbour",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "check", Usage: "change nothing; report faults of syntax, and files that are not tidy"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json, for what is reported"},
		},
		OnUsageError: usageError,
		Action:       tidy,
	}
}

func tidy(ctx context.Context, c *cli.Command) error {
	format := c.String("format")
	if format != "text" && format != "json" {
		return wrongUse("--format is text or json, found %q", format)
	}
	paths := c.Args().Slice()
	if len(paths) == 0 {
		paths = []string{"."}
	}
	if len(paths) == 1 && paths[0] == "-" {
		return tidyInput(c)
	}
	var findings project.Findings
	files := 0
	for _, path := range paths {
		list, err := project.Documents(path)
		if err != nil {
			return wrongUse("%v", err)
		}
		for _, file := range list {
			if ctx.Err() != nil {
				return &coded{exitInterrupted, errors.New("interrupted; the files named were formatted, and the others left as they were")}
			}
			files++
			found, err := tidyFile(c, file)
			if err != nil {
				return err
			}
			findings = append(findings, found...)
		}
	}
	switch {
	case format == "json":
		if err := printFindingsJSON(c.Root().Writer, findings); err != nil {
			return err
		}
	case c.Bool("check"):
		printFindings(c.Root().Writer, findings)
		if len(findings) == 0 {
			fmt.Fprintf(c.Root().Writer, "%s tidy\n", plan.Count(files, "file"))
		}
	default:
		printFindings(c.Root().ErrWriter, findings)
	}
	if len(findings) > 0 {
		return &coded{exitNo, errTold}
	}
	return nil
}

// tidyFile formats a file in place, or only looks at it. What it returns keeps
// the file from being tidy.
func tidyFile(c *cli.Command, file string) (project.Findings, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, wrongUse("%v", err)
	}
	formatted, findings := project.Tidy(file, string(text))
	if c.Bool("check") || formatted == string(text) {
		return findings, nil
	}
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(file, []byte(formatted), info.Mode().Perm()); err != nil {
		return nil, err
	}
	fmt.Fprintln(c.Root().Writer, file)
	return nil, nil
}

// tidyInput formats standard input.
func tidyInput(c *cli.Command) error {
	text, err := io.ReadAll(os.Stdin)
	if err != nil {
		return err
	}
	formatted, findings := project.Tidy("standard input", string(text))
	if c.Bool("check") || len(findings) > 0 && formatted == string(text) {
		if c.String("format") == "json" {
			if err := printFindingsJSON(c.Root().Writer, findings); err != nil {
				return err
			}
		} else {
			printFindings(c.Root().ErrWriter, findings)
		}
		if len(findings) > 0 {
			return &coded{exitNo, errTold}
		}
		return nil
	}
	fmt.Fprint(c.Root().Writer, formatted)
	return nil
}
