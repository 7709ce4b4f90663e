package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"strings"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
	"osprey/project"
)

// deriveCommand returns "osprey derive": types made of what a source holds.
func deriveCommand() *cli.Command {
	return &cli.Command{
		Name:      "derive",
		Usage:     "write types, with their bindings, of what a source holds",
		ArgsUsage: "SOURCE",
		Description: "Writes schema/derived/SOURCE.graphql: a type for each table or collection, relationships\n" +
			"in both directions, enums, and fields that read one record, a list and pages. It is written\n" +
			"anew each time, and says what has changed; names that were given stay, and no other file is\n" +
			"touched. What looks secret is left out, and said. What is chosen for good stands in\n" +
			"osprey.yaml, under derive: of the source.\n\n" +
			"Example:\n   osprey derive --project demo/harbour --print registry",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "project", Value: ".", Usage: "project folder"},
			&cli.StringSliceFlag{Name: "only", Usage: "a table or collection, the only ones that are meant"},
			&cli.StringSliceFlag{Name: "omit", Usage: "a table or collection, or a column as table.column, to leave out"},
			&cli.BoolFlag{Name: "print", Usage: "print the file, and write nothing"},
		},
		OnUsageError: usageError,
		Action:       runDerive,
	}
}

func runDerive(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return wrongUse("say of which source: osprey derive SOURCE")
	}
	made, err := project.Derive(ctx, c.String("project"), slog.New(slog.DiscardHandler), c.Args().First(), c.StringSlice("only"), c.StringSlice("omit"), waiting(c))
	if err != nil {
		return faulty(c, err)
	}
	for _, left := range made.Left {
		fmt.Fprintf(c.Root().ErrWriter, "left out %s\n", left)
	}
	if c.Bool("print") {
		fmt.Fprint(c.Root().Writer, made.Text)
		return nil
	}
	if len(made.Types) == 0 {
		return fmt.Errorf("the source %s holds nothing of which a type could be made; where the types are there first, osprey tables plan %s makes its tables", c.Args().First(), c.Args().First())
	}
	if err := made.Write(); err != nil {
		return fmt.Errorf("the file cannot be written: %s", inWords(err))
	}
	tellDerived(c.Root().Writer, made)
	if len(made.Broken) > 0 {
		fmt.Fprintln(c.Root().ErrWriter, "\nwhat does not fit it, and stays as it is:")
		printFindings(c.Root().ErrWriter, made.Broken)
		return &coded{exitNo, errTold}
	}
	return nil
}

// tellDerived says what was derived, and what has changed.
func tellDerived(w io.Writer, made *project.Derivation) {
	fmt.Fprintf(w, "%s has %s: %s\n", made.File, plan.Count(len(made.Types), "type"), strings.Join(made.Types, ", "))
	if len(made.Root) > 0 {
		fmt.Fprintf(w, "They are read by %s: %s\n", plan.Count(len(made.Root), "field"), strings.Join(made.Root, ", "))
	}
	for _, change := range made.Changes {
		fmt.Fprintf(w, "  %s\n", change)
	}
}
