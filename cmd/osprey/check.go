package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"osprey/core/language"
	"osprey/core/plan"
	"osprey/project"
)

// checkCommand returns "osprey check", which reports everything that is wrong
// with a project before it is served.
func checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "report what is wrong with a project, without serving it",
		ArgsUsage: "[PATH]",
		Description: "Checks the types, the bindings and the stores' catalogues as a whole, and asks each\n" +
			"store for what no catalogue tells. Errors refuse a project (exit code 1); warnings do not.\n" +
			"A store that does not answer is one warning, and the exit code 3. With --types-only no\n" +
			"store is needed, and PATH may also be a folder of schema files or one of them; a client\n" +
			"team checks its operations so, by the example. With --fix, what can be mended without\n" +
			"changing what it means is mended before: fields of interfaces are written out in the types\n" +
			"that implement them; unused variables and fragments, and quotes around values of enums, go.\n\n" +
			"Example:\n   osprey check demo/harbour\n   osprey check --types-only demo/harbour --operations demo/harbour/operations",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "fix", Usage: "mend what changes no meaning, and check then: fields of interfaces that types lack, unused variables and fragments, quotes around values of enums"},
			&cli.BoolFlag{Name: "types-only", Usage: "check the types alone, without any store"},
			&cli.StringFlag{Name: "operations", Usage: "also check the operations in this folder or file; each file stands for itself"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"},
		},
		OnUsageError: usageError,
		Action:       check,
	}
}

func check(ctx context.Context, c *cli.Command) error {
	dir, err := oneFolder(c)
	if err != nil {
		return err
	}
	format := c.String("format")
	if format != "text" && format != "json" {
		return wrongUse("--format is text or json, found %q", format)
	}
	f, err := findProblems(ctx, c, dir)
	if err != nil {
		return err
	}
	if format == "json" {
		if err := printFindingsJSON(c.Root().Writer, f.findings); err != nil {
			return err
		}
	} else {
		printFindings(c.Root().Writer, f.findings)
		for _, line := range f.told {
			fmt.Fprintln(c.Root().Writer, line)
		}
		fmt.Fprintln(c.Root().Writer, summary(f.findings, f.down))
	}
	switch {
	case f.findings.Failed():
		return &coded{exitNo, errTold}
	case len(f.down) > 0:
		return &coded{exitUnreachable, errTold}
	}
	return nil
}

// oneFolder returns the argument DIR, or the current folder.
func oneFolder(c *cli.Command) (string, error) {
	switch c.Args().Len() {
	case 0:
		return ".", nil
	case 1:
		return c.Args().First(), nil
	}
	return "", wrongUse("expected one folder, found %d arguments", c.Args().Len())
}

// found is what is found of a project.
type found struct {
	findings project.Findings
	down     []string // the sources that did not answer
	told     []string // what fields that watch rely on
}

// findProblems loads the project and lists what is found.
func findProblems(ctx context.Context, c *cli.Command, dir string) (*found, error) {
	if c.Bool("fix") {
		fixed, err := project.Fix(dir, c.String("operations"))
		for _, f := range fixed {
			if len(f.Made) > 0 {
				fmt.Fprintf(c.Root().ErrWriter, "mended %s: it has %s now\n", f.File, strings.Join(f.Made, ", "))
			}
			for _, gone := range f.Gone {
				fmt.Fprintf(c.Root().ErrWriter, "mended %s: %s\n", gone.At, gone.Msg)
			}
		}
		if err != nil {
			return nil, err
		}
	}
	operations := c.String("operations")
	for _, path := range []string{operations, dir} {
		if path == "" || path == dir && !c.Bool("types-only") {
			continue // a folder that is no project is told as that
		}
		if _, err := os.Stat(path); err != nil {
			return nil, wrongUse("%s", inWords(err))
		}
	}
	if c.Bool("types-only") {
		findings, err := project.CheckTypes(dir, operations)
		return &found{findings: findings}, err
	}
	p, findings, err := project.OpenWith(ctx, dir, slog.New(slog.DiscardHandler), &project.Additions{Waiting: waiting(c)})
	if p == nil {
		if errors.As(err, new(project.Findings)) {
			return &found{findings: findings}, nil
		}
		return nil, err
	}
	defer p.Close()
	if operations != "" {
		more, err := p.Revision().CheckOperations(operations)
		if err != nil {
			return nil, err
		}
		findings = append(findings, more...)
	}
	out := &found{told: p.Revision().Told()}
	for name, s := range p.Sources {
		if s.Unknown() != nil && !s.Elsewhere() {
			out.down = append(out.down, name)
		}
	}
	more, unreached := p.Probe(ctx)
	out.findings, out.down = append(findings, more...), append(out.down, unreached...)
	return out, nil
}

func summary(f project.Findings, down []string) string {
	errs, warnings := 0, 0
	for _, p := range f {
		if p.Severity == language.Error {
			errs++
		} else {
			warnings++
		}
	}
	line := "no problems found"
	if errs+warnings > 0 {
		line = "\n" + plan.Count(errs, "error") + ", " + plan.Count(warnings, "warning")
	}
	if len(down) > 0 {
		line += "; " + plan.Count(len(down), "source") + " not checked"
	}
	return line
}
