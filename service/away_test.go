package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"osprey/core/execute/executetest"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/validate"
	"osprey/demo"
	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

// literal writes a value of a type, with what must be given.
func literal(t schema.Type) string {
	if elem, isList := schema.ListElem(t); isList {
		return "[" + literal(elem) + "]"
	}
	switch named := schema.NamedOf(t).(type) {
	case *schema.Enum:
		return named.Values[0].Name
	case *schema.InputObject:
		var fields []string
		for _, f := range named.Fields {
			if f.Required() {
				fields = append(fields, f.Name+": "+literal(f.Type))
			}
		}
		return "{" + strings.Join(fields, ", ") + "}"
	default:
		if text, ok := map[string]string{"Int": "1", "Float": "1.5", "Boolean": "true", "Date": `"2026-01-01"`, "DateTime": `"2026-01-01T00:00:00Z"`}[named.String()]; ok {
			return text
		}
		return `"1"`
	}
}

// everything selects a field with all that is below it, down to a depth.
func everything(f *schema.Field, name string, depth int) string {
	text := f.Name
	if name != f.Name {
		text = name + ": " + f.Name
	}
	var args []string
	for _, a := range f.Args {
		if a.Required() {
			args = append(args, a.Name+": "+literal(a.Type))
		}
	}
	if args != nil {
		text += "(" + strings.Join(args, ", ") + ")"
	}
	if schema.IsLeaf(schema.NamedOf(f.Type)) {
		return text
	}
	return text + " {" + everythingOf(schema.NamedOf(f.Type), depth) + "}"
}

func everythingOf(t schema.Named, depth int) string {
	list := []string{"__typename"}
	if union, ok := t.(*schema.Union); ok && depth > 0 {
		for _, member := range union.Members {
			list = append(list, "... on "+member.Name+" {"+everythingOf(member, depth-1)+"}")
		}
	}
	for _, f := range schema.FieldsOf(t) {
		if depth > 0 || schema.IsLeaf(schema.NamedOf(f.Type)) {
			list = append(list, everything(f, t.String()+"_"+f.Name, depth-1)) // the same name may be another type elsewhere
		}
	}
	return strings.Join(list, " ")
}

// TestNothingThere asks for all there is, of a service that was started while no store was there: of none it is known
// what it holds. Each answer says so, and each plan is told.
func TestNothingThere(t *testing.T) {
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	host := strings.TrimPrefix(gone.URL, "http://")
	for _, name := range demo.Addresses {
		address := gone.URL
		switch name {
		case "REGISTRY_URL", "RECORDS_URL":
			address = "postgres://harbour:harbour@" + host + "/harbour"
		case "INSPECTIONS_URL":
			address = "mongodb://" + host + "/harbour"
		}
		t.Setenv(name, address)
	}
	written := &bytes.Buffer{}
	log := slog.New(slog.NewTextHandler(written, nil))
	p, _, err := project.Open(t.Context(), filepath.Join(demotest.Root(), "demo/harbour"), log)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	s := httptest.NewServer(service.New(service.Config{Project: p, Log: log}))
	defer s.Close()
	known := p.Revision().Bound.Schema
	post := func(path, operation, accept string) (int, []byte) {
		t.Helper()
		body, _ := json.Marshal(map[string]string{"query": operation})
		req, _ := http.NewRequest(http.MethodPost, s.URL+path, bytes.NewReader(body))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Accept", accept)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, text
	}
	asked, down := 0, 0
	for kind, root := range map[string]*schema.Object{"query": known.Query, "mutation": known.Mutation, "subscription": known.Subscription} {
		for _, f := range root.Fields {
			for depth := range 3 {
				operation := kind + " { " + everything(f, f.Name, depth) + " }"
				doc, problems := language.Parse(language.NewSource("", operation))
				if problems = append(problems, validate.Document(known, doc)...); len(problems) > 0 {
					t.Fatalf("%s: %v", operation, problems)
				}
				if status, text := post("/api/v1/plans", operation, "application/json"); status != http.StatusOK {
					t.Errorf("the plan of %s is %d %s", operation, status, text)
				}
				if kind == "subscription" {
					if status, text := post("/graphql", operation, "text/event-stream"); status != http.StatusServiceUnavailable || !bytes.Contains(text, []byte(`"code":"STORE_DOWN"`)) {
						t.Errorf("%s is answered %d %s", operation, status, text)
					}
					continue
				}
				asked++
				status, text := post("/graphql", operation, "application/json")
				var a struct {
					Data   json.RawMessage
					Errors []struct {
						Path       []any
						Extensions struct{ Code string }
					}
				}
				if err := json.Unmarshal(text, &a); status != http.StatusOK || err != nil {
					t.Errorf("%s is answered %d %s", operation, status, text)
					continue
				}
				var paths [][]any
				for _, e := range a.Errors {
					paths = append(paths, e.Path)
					if e.Extensions.Code == "STORE_DOWN" {
						down++
					} else {
						t.Errorf("%s is answered with %+v", operation, e)
					}
				}
				if err := executetest.Fits(known, doc, doc.Definitions[0].(*language.Operation), nil, a.Data, paths); err != nil {
					t.Errorf("%s: %v\n%s", operation, err, text)
				}
			}
		}
	}
	t.Logf("%d operations have %d errors", asked, down)
	if asked < 50 || down < asked/2 {
		t.Errorf("%d operations have %d errors", asked, down)
	}
	s.Close() // which writes no more then
	if strings.Contains(written.String(), "panic") {
		t.Errorf("the log says\n%.2000s", written)
	}
}
