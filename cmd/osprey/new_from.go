package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	neturl "net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/core/words"
	"osprey/docs"
	"osprey/project"
	"osprey/stores/rest/answers"
	"osprey/stores/rest/openapi"
)

// This file makes a project on a database that is there.

// schemes are the kinds of databases by how their addresses begin.
var schemes = map[string]string{"postgres": "postgres", "postgresql": "postgres", "mysql": "mysql", "mariadb": "mysql", "sqlite": "sqlite", "mongodb": "mongodb", "mongodb+srv": "mongodb"}

// A database is one that a project is made on, or a service.
type database struct {
	kind, name, url string
	variable        string // that has the address, which is not written down since it has a password; "" if it is
	service         *openapi.Service
	jsonAPI         bool // the service was found out by its answers
}

// databaseAt returns the database of an address.
func databaseAt(ctx context.Context, address, url string) (*database, error) {
	scheme, rest, _ := strings.Cut(address, ":")
	if ext := filepath.Ext(address); scheme == "http" || scheme == "https" || ext == ".json" || ext == ".yaml" || ext == ".yml" {
		return serviceAt(ctx, address, url)
	}
	d := &database{kind: schemes[scheme], url: address}
	if d.kind == "" {
		return nil, wrongUse("%q is no address of a database (postgres://, mysql://, sqlite: or mongodb://), nor an OpenAPI document (a file, or http://), nor that of resources of JSON:API (http://)", address)
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
	} else if u, err := neturl.Parse(address); err != nil {
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

// serviceAt returns the service that an OpenAPI document describes, which is a file, or at an
// address. url says where the service is, if the document does not.
func serviceAt(ctx context.Context, from, url string) (*database, error) {
	text, err := os.ReadFile(from)
	base := ""
	if strings.HasPrefix(from, "http://") || strings.HasPrefix(from, "https://") {
		text, err = fetched(ctx, from)
		if u, bad := neturl.Parse(from); bad == nil {
			base = u.Scheme + "://" + u.Host
		}
	}
	if err != nil {
		return nil, wrongUse("the document cannot be read: %s", inWords(err))
	}
	if answers.Is(text) {
		return answering(ctx, from)
	}
	service, err := openapi.Read(ctx, text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	d := &database{kind: "rest", service: service, name: words.Camel(words.Of(service.Title)), url: cmp.Or(url, service.URL, base)}
	switch {
	case d.url == "":
		return nil, wrongUse("%s does not say where the service is: give its address with --url", from)
	case len(service.Sets) == 0:
		return nil, fmt.Errorf("%s has no path that answers with records", from)
	case d.name == "" || d.name[0] >= '0' && d.name[0] <= '9':
		d.name = "service" + d.name
	}
	return d, nil
}

// answering returns the service of JSON:API whose answer is at an address.
func answering(ctx context.Context, address string) (*database, error) {
	if !strings.HasPrefix(address, "http") {
		return nil, wrongUse("%s is an answer of a service: give the address at which it answers so", address)
	}
	found, err := answers.Read(address, func(address string) ([]byte, error) { return fetched(ctx, address) })
	if err != nil {
		return nil, fmt.Errorf("%s: %w", address, err)
	}
	name := words.Camel(words.Of(found.Sets[0].Name)) + "Service"
	return &database{kind: "rest", name: name, url: found.URL, jsonAPI: true, service: &openapi.Service{Sets: found.Sets, Left: found.Left}}, nil
}

// fetched returns what is at an address.
func fetched(ctx context.Context, address string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, fmt.Errorf("%q is no address", address)
	}
	req.Header.Set("Accept", "application/vnd.api+json, application/json;q=0.9, */*;q=0.8")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%s does not answer", address)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers %s", address, res.Status)
	}
	return io.ReadAll(io.LimitReader(res.Body, 16<<20))
}

// config writes osprey.yaml.
func (d *database) config(naming string) string {
	if d.service != nil {
		headers := map[string]string{}
		if d.service.Header != "" {
			headers[d.service.Header] = d.service.Scheme + "${" + d.token() + ":-}"
		}
		return "# yaml-language-server: $schema=osprey.schema.json\nwatch: true\n" + project.ServiceConfig(&project.ServiceEntry{Name: d.name, URL: d.url, JSONAPI: d.jsonAPI, Headers: headers, Sets: d.service.Sets, Schemas: d.schemas()})
	}
	address := fmt.Sprintf("%q", d.url)
	if d.variable != "" {
		address = "${" + d.variable + "}"
	}
	return fmt.Sprintf("# yaml-language-server: $schema=osprey.schema.json\nwatch: true\nsources:\n  %s:\n    kind: %s\n    url: %s\n    naming: %s\n", d.name, d.kind, address, naming)
}

// schemaFile is the file of the JSON Schema of what a service's records have in them.
func (d *database) schemaFile() string { return d.name + ".schema.json" }

// schemas are the parts of that file, by set.field.
func (d *database) schemas() map[string]string {
	list := map[string]string{}
	for _, name := range d.service.Lists {
		list[name] = d.schemaFile() + "#/$defs/" + strings.NewReplacer("~", "~0", "/", "~1", "%", "%25").Replace(name)
	}
	return list
}

// token is the variable of the environment that has what a service wants to know of who asks.
func (d *database) token() string { return words.Constant(words.Of(d.name)) + "_TOKEN" }

// newFrom makes a project on the database of an address. If its types cannot be derived, nothing
// is left.
func newFrom(ctx context.Context, c *cli.Command, dir, address string) (err error) {
	d, err := databaseAt(ctx, address, c.String("url"))
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
		for _, name := range []string{"osprey.yaml", "osprey.schema.json", d.schemaFile(), "schema", "operations"} {
			os.RemoveAll(filepath.Join(dir, name))
		}
		if errors.Is(before, fs.ErrNotExist) {
			os.Remove(dir)
		}
	}()
	var best *project.Derivation
	naming := ""
	namings := []string{"snake", "exact"}
	if d.service != nil {
		namings = namings[1:]
	}
	if d.service != nil && d.service.Schema != nil {
		if err := made(d.schemaFile(), string(d.service.Schema)); err != nil {
			return err
		}
	}
	for _, n := range namings { // by which fewer names have to be said
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
	if d.service != nil {
		best.Left = append(d.service.Left, best.Left...)
	}
	for _, left := range best.Left {
		fmt.Fprintf(c.Root().ErrWriter, "left out %s\n", left)
	}
	tellDerived(c.Root().Writer, best)
	if d.variable != "" {
		fmt.Fprintf(c.Root().Writer, "\nThe address has a password, and is not written down: set %s to it.\n", d.variable)
	}
	if d.service != nil && d.service.Header != "" {
		fmt.Fprintf(c.Root().Writer, "\nThe service asks who calls: set %s to what it gave you.\n", d.token())
	}
	if best.Example != "" {
		if err := made("operations/First.graphql", best.Example); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "\nAsk it, with nothing else running:\n   osprey ask --project %s -f %s --calls\n", dir, filepath.Join(dir, "operations", "First.graphql"))
	}
	fmt.Fprintf(c.Root().Writer, "\nServe it, with its console:\n   osprey start %s\n\nWhat it holds anew, comes by: osprey derive --project %s %s\n", dir, dir, d.name)
	return nil
}
