package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"osprey/core/snippet"
)

// snippetCommand returns "osprey snippet", which writes an operation as a call of a program.
func snippetCommand() *cli.Command {
	return &cli.Command{
		Name:      "snippet",
		Usage:     "write an operation as a call in curl, Python, JavaScript or Go",
		ArgsUsage: "[OPERATION]",
		Description: "What is written needs nothing but the language itself. It takes a key from the environment\n" +
			"variable OSPREY_KEY, if there is one.\n\n" +
			"Example:\n   osprey snippet --in python -f demo/harbour/operations/Board.graphql --var limit=5",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "in", Usage: "curl, python, javascript or go", Value: "curl"},
			&cli.StringFlag{Name: "file", Aliases: []string{"f"}, Usage: "file that holds the operation; - is standard input"},
			&cli.StringFlag{Name: "operation", Usage: "name of the operation to run, if there are several"},
			&cli.StringSliceFlag{Name: "var", Usage: "a variable, as name=value; may be given several times"},
			&cli.StringFlag{Name: "url", Usage: "address of the service", Value: "http://" + defaultListen, Sources: cli.EnvVars("OSPREY_URL")},
		},
		DisableSliceFlagSeparator: true, // values of variables have commas of their own
		OnUsageError:              usageError,
		Action: func(_ context.Context, c *cli.Command) error {
			q, err := readOperation(c)
			if err != nil {
				return err
			}
			text, err := snippet.Write(c.String("in"), snippet.Call{URL: strings.TrimSuffix(c.String("url"), "/") + "/graphql", Query: q.Query, Name: q.OperationName, Variables: q.Variables})
			if err != nil {
				return wrongUse("%s", err)
			}
			fmt.Fprint(c.Root().Writer, text)
			return nil
		},
	}
}
