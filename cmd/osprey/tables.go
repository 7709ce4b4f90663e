package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
	"osprey/core/tables"
	"osprey/project"
)

// tablesCommand returns "osprey tables": tables made of types.
func tablesCommand() *cli.Command {
	flags := func() []cli.Flag {
		return []cli.Flag{&cli.StringFlag{Name: "project", Value: ".", Usage: "project folder"}}
	}
	own := func(name, usage, about string, more []cli.Flag, run func(ctx context.Context, c *cli.Command, t *project.Tables) error) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: "SOURCE", Description: about, Flags: append(flags(), more...), OnUsageError: usageError,
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.Args().Len() != 1 {
					return wrongUse("say of which source: osprey tables %s SOURCE", name)
				}
				chosen := tables.Choices{Drop: c.StringSlice("drop"), Rename: map[string]string{}, Require: c.StringSlice("require"), Retype: c.StringSlice("retype")}
				for _, both := range c.StringSlice("rename") {
					old, now, ok := strings.Cut(both, "=")
					if !ok {
						return wrongUse("--rename is %q; write old=new", both)
					}
					chosen.Rename[old] = now
				}
				t, err := project.OpenTables(ctx, c.String("project"), c.Args().First(), chosen, waiting(c))
				if err != nil {
					return faulty(c, err)
				}
				return run(ctx, c, t)
			},
		}
	}
	return &cli.Command{
		Name:  "tables",
		Usage: "make the tables of a relational database of the types",
		Description: "Compares the types with what the database has, and writes what is to be added as a numbered\n" +
			"file of SQL, with both directions, which is yours to read and to change. It only adds, unless\n" +
			"it is said: what could lose data is told, and not done.",
		Commands: []*cli.Command{
			own("plan", "write what is to be done as the next file", "Writes tables/SOURCE/NUMBER_NAME.sql, and shows the tables and how they lead to each other.",
				[]cli.Flag{&cli.StringFlag{Name: "name", Value: "tables", Usage: "what the file is for"}, &cli.BoolFlag{Name: "print", Usage: "print the file, and write nothing"},
					&cli.StringFlag{Name: "format", Value: "text", Usage: "text or svg; of svg, the drawing is printed, and nothing is written"},
					&cli.StringSliceFlag{Name: "drop", Usage: "a table, or table.column, that goes with what is in it"},
					&cli.StringSliceFlag{Name: "rename", Usage: "old=new: a table, or table.column, that is only called otherwise"},
					&cli.StringSliceFlag{Name: "require", Usage: "table.column that is never NULL from now on; fails where it is"},
					&cli.StringSliceFlag{Name: "retype", Usage: "table.column that gets its field's type; fails where a value does not fit"}}, planTables),
			own("apply", "run the files that were not run yet", "Runs each file in a transaction, as far as the database has that for tables, and records it there.", nil, applyTables),
			own("undo", "undo the last file that was run", "Runs the other direction of the last file.", nil, undoTables),
			watchTables(flags()),
			own("status", "tell which files were run, and what is otherwise than the types say", "Runs no file.", nil, tablesStatus),
		},
	}
}

// watchTables returns "osprey tables watch".
func watchTables(flags []cli.Flag) *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "have changes told that are made past Osprey, as the next file", ArgsUsage: "SOURCE TYPE...", OnUsageError: usageError,
		Description: "Writes tables/SOURCE/NUMBER_watch.sql, by which PostgreSQL tells which records change, whoever changes\n" +
			"them: by logical replication, where its wal_level is logical, or else by triggers, with a table where\n" +
			"changes are kept for an hour. What @watch tells relies on it, and live queries; without it, only\n" +
			"changes by the service itself are told.",
		Flags: append(flags, &cli.StringFlag{Name: "by", Usage: "replication or triggers (default: replication, where the database has it)"}, &cli.BoolFlag{Name: "print", Usage: "print the file, and write nothing"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() < 2 {
				return wrongUse("say of which source, and which types: osprey tables watch SOURCE TYPE...")
			}
			source, by := c.Args().First(), c.String("by")
			if by != "" && by != project.ByReplication && by != project.ByTriggers {
				return wrongUse("--by is %s or %s, found %q", project.ByReplication, project.ByTriggers, by)
			}
			t, err := project.OpenWatched(ctx, c.String("project"), source, c.Args().Tail(), by, waiting(c))
			if err != nil {
				return faulty(c, err)
			}
			w := c.Root().Writer
			switch {
			case len(t.Plan.Steps) == 0:
				fmt.Fprintf(w, "the database tells their changes already, by %s\n", t.By)
				return nil
			case c.Bool("print"):
				fmt.Fprint(w, t.Plan.File())
				return nil
			}
			path, err := t.Write("watch")
			if err != nil {
				return fmt.Errorf("the file cannot be written: %s", inWords(err))
			}
			fmt.Fprintf(w, "The database tells by %s: %s.\n%s has %s:\n", t.By, t.Why, path, plan.Count(len(t.Plan.Steps), "step"))
			for _, s := range t.Plan.Steps {
				fmt.Fprintf(w, "  %s\n", s.What)
			}
			fmt.Fprintf(w, "\nRun it:  osprey tables apply --project %s %s\n", c.String("project"), source)
			return nil
		},
	}
}

func planTables(_ context.Context, c *cli.Command, t *project.Tables) error {
	w := c.Root().Writer
	switch format := c.String("format"); format {
	case "text":
	case "svg":
		fmt.Fprint(w, t.SVG)
		return nil
	default:
		return wrongUse("--format is text or svg, found %q", format)
	}
	for _, left := range t.Plan.Left {
		fmt.Fprintln(c.Root().ErrWriter, left)
	}
	if len(t.Plan.Steps) == 0 {
		fmt.Fprintln(w, "the database has all that the types need")
		return nil
	}
	if c.Bool("print") {
		fmt.Fprint(w, t.Plan.File())
		return nil
	}
	path, err := t.Write(c.String("name"))
	if err != nil {
		return fmt.Errorf("the file cannot be written: %s", inWords(err))
	}
	fmt.Fprintf(w, "%s\n%s has %s:\n", t.Drawn, path, plan.Count(len(t.Plan.Steps), "step"))
	for _, s := range t.Plan.Steps {
		fmt.Fprintf(w, "  %s\n", s.What)
	}
	fmt.Fprintf(w, "\nRun it:  osprey tables apply --project %s %s\n", c.String("project"), c.Args().First())
	return nil
}

func applyTables(ctx context.Context, c *cli.Command, t *project.Tables) error {
	run, err := t.Apply(ctx)
	for _, name := range run {
		fmt.Fprintf(c.Root().Writer, "run: %s\n", name)
	}
	if err == nil && len(run) == 0 {
		fmt.Fprintln(c.Root().Writer, "all files were run already")
	}
	return err
}

func undoTables(ctx context.Context, c *cli.Command, t *project.Tables) error {
	name, err := t.Undo(ctx)
	switch {
	case err != nil:
		return err
	case name == "":
		fmt.Fprintln(c.Root().Writer, "no file was run")
	default:
		fmt.Fprintf(c.Root().Writer, "undone: %s\n", name)
	}
	return nil
}

func tablesStatus(ctx context.Context, c *cli.Command, t *project.Tables) error {
	list, err := t.Status(ctx)
	if err != nil {
		return err
	}
	w := c.Root().Writer
	for _, f := range list {
		state := "waits"
		if !f.At.IsZero() {
			state = "run " + f.At.UTC().Format(time.RFC3339)
			if f.Changed {
				state += ", and changed since"
			}
		}
		fmt.Fprintf(w, "%s  %s\n", f.Name, state)
	}
	for _, s := range t.Plan.Steps {
		fmt.Fprintf(w, "the database lacks %s\n", s.What)
	}
	for _, left := range t.Plan.Left {
		fmt.Fprintln(w, left)
	}
	if len(list)+len(t.Plan.Steps)+len(t.Plan.Left) == 0 {
		fmt.Fprintln(w, "no file, and no difference")
	}
	return nil
}
