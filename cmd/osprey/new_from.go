package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"osprey/core/words"
	"osprey/docs"
	"osprey/project"
)

// This file makes a project on a database that is there.

// schemes are the kinds of databases by how their addresses begin.
var schemes = map[string]string{"postgres": "postgres", "postgresql": "postgres", "mysql": "mysql", "mariadb": "mysql", "sqlite": "sqlite", "mongodb": "mongodb", "mongodb+srv": "mongodb"}

// A database is one that a project is made on.
type database struct {
	kind, name, url string
	variable        string // that has the address, which is not written down since it has a password; "" if it is
}

// databaseAt returns the database of an address.
func databaseAt(address string) (*database, error) {
	scheme, rest, _ := strings.Cut(address, ":")
	d := &database{kind: schemes[scheme], url: address}
	if d.kind == "" {
		return nil, wrongUse("%q is no address of a database: it begins with postgres://, mysql://, sqlite: or mongodb://", address)
	}
	name := rest
	if d.kind == "sqlite" {
		path, err := filepath.Abs(strings.TrimPrefix(rest, "//"))
		if err != nil {
			return nil, err
		}
		if _, err := os.Stat(path); err != nil {
			return nil, wrongUse("there is no database: %s", inWords(err))
		}
		d.url, name = "sqlite:"+path, strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	} else if u, err := url.Parse(address); err != nil {
		return nil, wrongUse("the address cannot be read: it is of the form %s://user:password@host:port/database", scheme)
	} else {
		name = strings.Trim(u.Path, "/")
		if _, has := u.User.Password(); has {
			d.variable = "_URL"
		}
	}
	if d.name = words.Camel(words.Of(name)); d.name == "" || d.name[0] >= '0' && d.name[0] <= '9' {
		d.name = "store" + d.name
	}
	if d.variable != "" {
		d.variable = words.Constant(words.Of(d.name)) + d.variable
	}
	return d, nil
}

// config writes osprey.yaml.
func (d *database) config(naming string) string {
	address := fmt.Sprintf("%q", d.url)
	if d.variable != "" {
		address = "${" + d.variable + "}"
	}
	return fmt.Sprintf("# yaml-language-server: $schema=osprey.schema.json\nsources:\n  %s:\n    kind: %s\n    url: %s\n    naming: %s\n", d.name, d.kind, address, naming)
}

// newFrom makes a project on the database of an address. If its types cannot be derived, nothing
// is left.
func newFrom(ctx context.Context, c *cli.Command, dir, address string) (err error) {
	d, err := databaseAt(address)
	if err != nil {
		return err
	}
	if d.variable != "" {
		os.Setenv(d.variable, d.url)
	}
	_, before := os.Stat(dir)
	made := func(name, text string) error {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return fmt.Errorf("the project cannot be written: %s", inWords(err))
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return fmt.Errorf("the project cannot be written: %s", inWords(err))
		}
		return nil
	}
	defer func() {
		if err == nil {
			return
		}
		for _, name := range []string{"osprey.yaml", "osprey.schema.json", "schema", "operations"} {
			os.RemoveAll(filepath.Join(dir, name))
		}
		if errors.Is(before, fs.ErrNotExist) {
			os.Remove(dir)
		}
	}()
	var best *project.Derivation
	naming := ""
	for _, n := range []string{"snake", "exact"} { // by which fewer names have to be said
		if err := made("osprey.yaml", d.config(n)); err != nil {
			return err
		}
		own, err := project.Derive(ctx, dir, slog.New(slog.DiscardHandler), d.name, nil, nil, waiting(c))
		if err != nil {
			return err
		}
		if best == nil || strings.Count(own.Text, "@at(") < strings.Count(best.Text, "@at(") {
			best, naming = own, n
		}
	}
	if len(best.Types) == 0 {
		return fmt.Errorf("%s holds nothing that could be a type", d.name)
	}
	if err := made("osprey.yaml", d.config(naming)); err != nil {
		return err
	}
	if err := made("osprey.schema.json", docs.Schema); err != nil {
		return err
	}
	if err := best.Write(); err != nil {
		return fmt.Errorf("the project cannot be written: %s", inWords(err))
	}
	for _, left := range best.Left {
		fmt.Fprintf(c.Root().ErrWriter, "left out %s\n", left)
	}
	tellDerived(c.Root().Writer, best)
	if d.variable != "" {
		fmt.Fprintf(c.Root().Writer, "\nThe address has a password, and is not written down: set %s to it.\n", d.variable)
	}
	if best.Example != "" {
		if err := made("operations/First.graphql", best.Example); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "\nAsk it, with nothing else running:\n   osprey ask --project %s -f %s --calls\n", dir, filepath.Join(dir, "operations", "First.graphql"))
	}
	fmt.Fprintf(c.Root().Writer, "\nServe it, with its console:\n   osprey start %s\n\nWhat the database holds anew, comes by: osprey derive --project %s %s\n", dir, dir, d.name)
	return nil
}
