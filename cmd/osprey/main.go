// Command osprey serves, checks and asks projects.
//
// Exit codes: 0 fine; 1 the answer is "no" (a check found errors, an operation
// had errors); 2 wrong use; 3 something could not be reached; 130 interrupted.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"
)

// The exit codes beyond 0.
const (
	exitNo          = 1
	exitUsage       = 2
	exitUnreachable = 3
	exitInterrupted = 130
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	done := make(chan error, 1)
	go func() { done <- command().Run(ctx, os.Args) }()
	var err error
	select {
	case err = <-done:
	case <-ctx.Done():
		stop() // a second signal ends the program at once
		err = ended(done)
	}
	os.Exit(exitCode(err))
}

// ended waits for a command that was told to stop. What serves takes its time, and
// what computes may not look whether it should stop.
func ended(done <-chan error) error {
	if len(os.Args) > 1 && slices.Contains([]string{"start", "demo"}, os.Args[1]) {
		return <-done
	}
	select {
	case err := <-done:
		return err
	case <-time.After(time.Second):
		return &coded{exitInterrupted, errors.New("interrupted")}
	}
}

// command is the whole command line.
func command() *cli.Command {
	cli.VersionPrinter = nil
	return &cli.Command{
		Name:  "osprey",
		Usage: "answer nested queries over several stores, asking each store once",
		Description: "A project is a folder with osprey.yaml and schema files. Start with the demo:\n\n" +
			"   osprey demo\n   osprey ask -f demo/harbour/operations/Board.graphql --calls",
		Commands:              []*cli.Command{newCommand(), startCommand(), checkCommand(), askCommand(), explainCommand(), tidyCommand(), demoCommand()},
		HideVersion:           true,
		Suggest:               true,
		EnableShellCompletion: true,
		OnUsageError:          usageError,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		CommandNotFound: func(_ context.Context, c *cli.Command, name string) {
			fmt.Fprintf(c.Root().ErrWriter, "osprey: there is no command %q; osprey --help lists them\n", name)
			os.Exit(exitUsage)
		},
	}
}

// A coded error ends the program with a code of its own.
type coded struct {
	code int
	err  error
}

func (c *coded) Error() string { return c.err.Error() }
func (c *coded) Unwrap() error { return c.err }

// errTold is the error of a command that has said itself what is wrong.
var errTold = errors.New("")

func usageError(_ context.Context, _ *cli.Command, err error, _ bool) error {
	return &coded{exitUsage, err}
}

// wrongUse says that a command was given something it cannot use.
func wrongUse(format string, args ...any) error {
	return &coded{exitUsage, fmt.Errorf(format, args...)}
}

// unreachable says that something did not answer.
func unreachable(err error) error { return &coded{exitUnreachable, err} }

// exitCode tells an error to the user and returns the code for it.
func exitCode(err error) int {
	if err == nil {
		return 0
	}
	if !errors.Is(err, errTold) {
		fmt.Fprintln(os.Stderr, "osprey:", err)
	}
	var c *coded
	if errors.As(err, &c) {
		return c.code
	}
	return exitNo
}
