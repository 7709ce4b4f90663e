// Command osprey serves, checks and asks projects.
//
// Exit codes: 0 fine; 1 the answer is "no" (a check found errors, an operation
// had errors); 2 wrong use; 3 something could not be reached; 130 interrupted.
package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/signal"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/project"
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
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintln(c.Root().Writer, "osprey", c.Root().Version) }
	return &cli.Command{
		Name:  "osprey",
		Usage: "answer nested queries over several stores, asking each once for each step of the way",
		Description: "A project is a folder with osprey.yaml and schema files. Start with the demo:\n\n" +
			"   osprey demo\n   osprey ask -f demo/harbour/operations/Board.graphql --calls",
		Commands:                        []*cli.Command{newCommand(), startCommand(), checkCommand(), askCommand(), explainCommand(), snippetCommand(), tidyCommand(), diffCommand(), publishCommand(), revisionsCommand(), restoreCommand(), trafficCommand(), keysCommand(), deriveCommand(), tablesCommand(), scaffoldCommand(), editorCommand(), demoCommand(), helpCommand()},
		HideHelpCommand:                 true,
		Version:                         version(),
		Suggest:                         true,
		EnableShellCompletion:           true,
		ConfigureShellCompletionCommand: tellCompletion,
		OnUsageError:                    usageError,
		ExitErrHandler:                  func(context.Context, *cli.Command, error) {},
		CommandNotFound:                 notFound,
	}
}

// notFound ends the program at a command that there is not.
func notFound(_ context.Context, c *cli.Command, name string) {
	fmt.Fprintf(c.Root().ErrWriter, "osprey: there is no command %q; %s --help lists them\n", name, c.FullName())
	os.Exit(exitUsage)
}

// built is the release or the commit that "make build" has built the program from.
var built string

// version tells what this program was built from, and by which Go, for which machine.
func version() string {
	if info, ok := debug.ReadBuildInfo(); ok && built == "" && info.Main.Version != "(devel)" {
		built = info.Main.Version
	}
	return fmt.Sprintf("%s, %s %s/%s", cmp.Or(built, "of no known version"), runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

// tellCompletion describes the command that prints a script for a shell.
func tellCompletion(c *cli.Command) {
	c.Hidden = false
	c.CommandNotFound = func(_ context.Context, c *cli.Command, name string) {
		fmt.Fprintf(c.Root().ErrWriter, "osprey: completion is for bash, zsh, fish and pwsh, found %q\n", name)
		os.Exit(exitUsage)
	}
	c.Usage = "print a script that completes commands and options in a shell"
	c.ArgsUsage = "bash|zsh|fish|pwsh"
	c.Description = "Example:\n   source <(osprey completion bash)\n   osprey completion fish > ~/.config/fish/completions/osprey.fish"
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

// usageError tells of an option that there is not, or that has no value that it takes.
// The library's words are those of its own parser.
func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	if name, ok := strings.CutPrefix(err.Error(), "flag provided but not defined: "); ok {
		return wrongUse("there is no option --%s; %s --help lists them", strings.TrimLeft(name, "-"), c.FullName())
	}
	if name, ok := strings.CutPrefix(err.Error(), "flag needs an argument: "); ok {
		return wrongUse("the option --%s needs a value; %s --help tells which", strings.TrimLeft(name, "-"), c.FullName())
	}
	if m := badValue.FindStringSubmatch(err.Error()); m != nil {
		return wrongUse("%q is no value for the option --%s; %s --help tells which it takes", m[1], m[2], c.FullName())
	}
	return &coded{exitUsage, err}
}

// badValue is how the library tells of a value that is none.
var badValue = regexp.MustCompile(`^invalid value "(.*)" for flag -+([\w-]+): `)

// inWords says why a file or an address could not be used, without Go's words for what
// was tried: "open port.graphql: no such file or directory" is about a file.
func inWords(err error) string {
	var file *fs.PathError
	if errors.As(err, &file) {
		return fmt.Sprintf("%s: %v", file.Path, file.Err)
	}
	var name *net.DNSError
	if errors.As(err, &name) {
		return name.Name + ": " + name.Err
	}
	var network *net.OpError
	if errors.As(err, &network) {
		var system *os.SyscallError
		if errors.As(network.Err, &system) {
			return system.Err.Error()
		}
		return network.Err.Error()
	}
	return err.Error()
}

// wrongUse says that a command was given something it cannot use.
func wrongUse(format string, args ...any) error {
	return &coded{exitUsage, fmt.Errorf(format, args...)}
}

// unreachable says that something did not answer.
func unreachable(err error) error { return &coded{exitUnreachable, err} }

// told returns the words for an error that a command ended with.
func told(err error) string {
	if _, whole := err.(*fs.PathError); whole {
		return inWords(err)
	}
	return err.Error()
}

// exitCode tells an error to the user and returns the code for it.
func exitCode(err error) int {
	if err == nil {
		return 0
	}
	if !errors.Is(err, errTold) {
		fmt.Fprintln(os.Stderr, "osprey:", told(err))
	}
	var c *coded
	switch {
	case errors.As(err, &c):
		return c.code
	case errors.Is(err, project.ErrNoProject):
		return exitUsage
	case errors.Is(err, project.ErrUnreachable):
		return exitUnreachable
	}
	return exitNo
}
