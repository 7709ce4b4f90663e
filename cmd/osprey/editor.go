package main

import (
	"context"
	"io"
	"log/slog"
	"os"

	"github.com/urfave/cli/v3"

	"osprey/editor"
)

// editorCommand returns "osprey editor", which an editor starts.
func editorCommand() *cli.Command {
	return &cli.Command{
		Name:  "editor",
		Usage: "serve an editor over standard input and output",
		Description: "Speaks the Language Server Protocol 3.17: problems against what the stores hold now,\n" +
			"completion, what a word means and where it is used, renaming, fixes and formatting, of the\n" +
			"types and operations of the project that a file belongs to. An editor starts it; how is in\n" +
			"osprey help editors. What it logs goes to standard error.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "stdio", Usage: "as without it: standard input and output are all that it speaks over"},
			&cli.BoolFlag{Name: "verbose", Usage: "log each request"},
		},
		OnUsageError: usageError,
		Action:       serveEditor,
	}
}

func serveEditor(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return wrongUse("osprey editor takes no arguments, found %q", c.Args().First())
	}
	level := slog.LevelWarn
	if c.Bool("verbose") {
		level = slog.LevelDebug
	}
	s := &editor.Server{Version: c.Root().Version, Log: slog.New(slog.NewTextHandler(c.Root().ErrWriter, &slog.HandlerOptions{Level: level}))}
	return s.Serve(ctx, struct {
		io.Reader
		io.WriteCloser
	}{os.Stdin, os.Stdout})
}
