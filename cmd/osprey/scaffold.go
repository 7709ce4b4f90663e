package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
)

// scaffoldCommand returns "osprey scaffold": the fields by which a type is read and written.
func scaffoldCommand() *cli.Command {
	return &cli.Command{
		Name:      "scaffold",
		Usage:     "write the fields by which the records of a type are read and written",
		ArgsUsage: "TYPE...",
		Description: "Writes a new file in the project's schema: fields that read one record, a list and pages,\n" +
			"and that add, change and remove. No file that is there is touched, no field that is there is\n" +
			"written again, and what a store cannot do is left out, and said. The file is yours to change.\n\n" +
			"Example:\n   osprey scaffold --project port Operator",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "project", Value: ".", Usage: "project folder"},
			&cli.BoolFlag{Name: "print", Usage: "print the file, and write nothing"},
		},
		OnUsageError: usageError,
		Action:       runScaffold,
	}
}

func runScaffold(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() == 0 {
		return wrongUse("say of which type: osprey scaffold TYPE")
	}
	p, err := openProject(ctx, c, c.String("project"))
	if err != nil {
		return err
	}
	defer p.Close()
	made, err := p.Scaffold(c.Args().Slice())
	if err != nil {
		return wrongUse("%v", err)
	}
	for _, left := range made.Left {
		fmt.Fprintf(c.Root().ErrWriter, "left out %s\n", left)
	}
	switch {
	case len(made.Made) == 0:
		return wrongUse("there is nothing to write")
	case c.Bool("print"):
		fmt.Fprint(c.Root().Writer, made.Text)
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(made.File), 0o755); err != nil {
		return fmt.Errorf("the file cannot be written: %s", inWords(err))
	}
	if err := os.WriteFile(made.File, []byte(made.Text), 0o644); err != nil {
		return fmt.Errorf("the file cannot be written: %s", inWords(err))
	}
	fmt.Fprintf(c.Root().Writer, "%s has %s:\n", made.File, plan.Count(len(made.Made), "field"))
	for _, name := range made.Made {
		fmt.Fprintf(c.Root().Writer, "  %s\n", name)
	}
	return nil
}
