package main

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"osprey/docs"
)

// starter is the project that "osprey new" makes.
//
//go:embed all:starter
var starter embed.FS

// newCommand returns "osprey new": a project on sample files.
func newCommand() *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "make a project that runs at once on sample files, no store needed",
		ArgsUsage: "DIR",
		Description: "Writes a configuration, types, an operation, sample data and a README into a new folder. The\n" +
			"files are record sets, so the project answers with nothing else installed; put your\n" +
			"own stores in their place whenever you like. With --from, the project is on a database\n" +
			"that is there, or on a service that an OpenAPI document or its own answers describe, with types derived of it.\n\n" +
			"Example:\n   osprey new port\n   osprey ask --project port -f port/operations/InPort.graphql --calls\n" +
			"   osprey new --from \"$REGISTRY_URL\" registry",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "address of a database: postgres://…, mysql://…, sqlite:path, mongodb://…; or an OpenAPI document, a file or its address; or the address of records of a JSON:API service"},
			&cli.StringFlag{Name: "url", Usage: "where the service of an OpenAPI document is, if that does not say so"},
		},
		OnUsageError: usageError,
		Action:       runNew,
	}
}

func runNew(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return wrongUse("say which folder to make: osprey new DIR")
	}
	dir := c.Args().First()
	switch entries, err := os.ReadDir(dir); {
	case err == nil && len(entries) > 0:
		return wrongUse("%s is not empty; nothing was written", dir)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return wrongUse("a project cannot be made there: %s", inWords(err))
	}
	if c.IsSet("from") {
		return newFrom(ctx, c, dir, c.String("from"))
	}
	files, err := fs.Sub(starter, "starter")
	if err != nil {
		return err
	}
	if err := os.CopyFS(dir, files); err != nil {
		return fmt.Errorf("the project cannot be written: %s", inWords(err))
	}
	if err := os.WriteFile(filepath.Join(dir, "osprey.schema.json"), []byte(docs.Schema), 0o644); err != nil {
		return fmt.Errorf("the project cannot be written: %s", inWords(err))
	}
	operation := filepath.Join(dir, "operations", "InPort.graphql")
	fmt.Fprintf(c.Root().Writer, "%s is a project on sample files: osprey.yaml, schema/, operations/, data/ and a README.md.\n\n"+
		"Ask it, with nothing else running:\n   osprey ask --project %s -f %s --calls\n\n"+
		"Serve it, with its console:\n   osprey start %s\n", dir, dir, operation, dir)
	return nil
}
