package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"osprey/core/language"
	"osprey/core/store"
	"osprey/project"
)

// operationFlags are those of commands that take an operation.
func operationFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "file", Aliases: []string{"f"}, Usage: "file that holds the operation; - is standard input"},
		&cli.StringFlag{Name: "operation", Usage: "name of the operation to run, if there are several"},
		&cli.StringSliceFlag{Name: "var", Usage: "a variable, as name=value; may be given several times"},
		&cli.StringFlag{Name: "project", Usage: "project folder to use in this process, instead of a running service"},
		&cli.StringSliceFlag{Name: "role", Usage: "with --project, a role of the caller, by which rules are told; may be given several times"},
	}, serviceFlags("url")...)
}

// An operation is what such a command was given.
type operation struct {
	project.Request
	name string // of the text, for messages
}

// readOperation reads the operation and its variables from the command line.
func readOperation(c *cli.Command) (*operation, error) {
	q := &operation{name: "operation"}
	q.OperationName = c.String("operation")
	file := c.String("file")
	switch {
	case file != "" && c.Args().Len() > 0:
		return nil, wrongUse("give the operation as an argument or with -f, not both")
	case file == "-":
		text, err := io.ReadAll(os.Stdin)
		if err != nil {
			return nil, err
		}
		q.Query, q.name = string(text), "standard input"
	case file != "":
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, wrongUse("the operation cannot be read from %s", inWords(err))
		}
		q.Query, q.name = string(text), file
	case c.Args().Len() == 1:
		q.Query = c.Args().First()
	case c.Args().Len() > 1:
		return nil, wrongUse("expected one operation, found %d arguments; quote it as one: '{ quays { name } }'", c.Args().Len())
	default:
		return nil, wrongUse("give an operation, such as '{ quays { name } }', or a file with -f")
	}
	if roles := c.StringSlice("role"); len(roles) > 0 {
		if c.String("project") == "" {
			return nil, wrongUse("--role is for --project; a running service knows its callers by --key")
		}
		q.Caller = &store.Caller{Who: &store.Identity{ID: "local", Name: "local", Roles: roles}}
	}
	return q, q.readVariables(c.StringSlice("var"))
}

// readVariables reads name=value. The declared type of a variable decides
// whether its value is text as it stands or JSON.
func (q *operation) readVariables(list []string) error {
	declared := map[string]*language.TypeRef{}
	doc, _ := language.Parse(language.NewSource(q.name, q.Query))
	for _, d := range doc.Definitions {
		if op, ok := d.(*language.Operation); ok {
			for _, v := range op.Variables {
				declared[v.Name.Text] = v.Type
			}
		}
	}
	var names []string
	for name := range declared {
		names = append(names, name)
	}
	for _, item := range list {
		name, text, ok := strings.Cut(item, "=")
		if !ok {
			return wrongUse("--var is name=value, found %q", item)
		}
		t := declared[name]
		if t == nil {
			return wrongUse("the operation declares no variable $%s%s", name, language.DidYouMean(name, names))
		}
		value, err := variableValue(t, text)
		if err != nil {
			return wrongUse("the variable $%s of the type %s does not fit: %v", name, t, err)
		}
		if q.Variables == nil {
			q.Variables = map[string]any{}
		}
		q.Variables[name] = value
	}
	return nil
}

func variableValue(t *language.TypeRef, text string) (any, error) {
	if text == "null" && !t.NonNull {
		return nil, nil
	}
	plain := t.Elem == nil
	switch t.Name {
	case "Int", "Float", "Boolean", "JSON":
		plain = false
	}
	trimmed := strings.TrimSpace(text)
	if plain && !strings.HasPrefix(trimmed, "{") {
		return text, nil
	}
	d := json.NewDecoder(bytes.NewReader([]byte(text)))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil || d.More() {
		if t.Elem != nil && !strings.HasPrefix(trimmed, "[") {
			return variableValue(t.Elem, text) // one value is a list of one
		}
		return nil, fmt.Errorf("%q is not JSON", text)
	}
	return v, nil
}
