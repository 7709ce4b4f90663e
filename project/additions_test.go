package project

import (
	"context"
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"

	"osprey/core/schema"
	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/files"
	"osprey/stores/functions"
)

// TestAdditions holds what is told of what a program adds and cannot be added.
func TestAdditions(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      "sources:\n  s: { kind: files, folder: data }\n  own: { kind: program }\n",
		"data/a.json":      `[{"x": 1}]`,
		"schema/a.graphql": "type Query { a: [A!]! @read } type A @stored(in: \"s\", as: \"a\") { x: Int }",
	})
	source, err := files.Open(files.Config{Folder: filepath.Join(dir, "data")})
	if err != nil {
		t.Fatal(err)
	}
	label := functions.Func{Check: func(store.Signature) error { return nil }}
	for _, test := range []struct {
		name string
		add  Additions
		want string
	}{
		{"nothing", Additions{}, ""},
		{"a function", Additions{Functions: map[string]functions.Func{"own.label": label, "more.label": label}}, ""},
		{"a source", Additions{Sources: map[string]AddedSource{"mine": {Store: source, Naming: "snake"}}}, ""},
		{"types", Additions{Texts: []schema.Text{{Name: "more", Body: `extend type A { y: String @computed(expr: "string(record.x)") }`}}}, ""},
		{"a function of no source", Additions{Functions: map[string]functions.Func{"label": label}}, `the function "label" has no source; name it as in harbour.label`},
		{"a function of a store", Additions{Functions: map[string]functions.Func{"s.label": label}}, "the source s is in osprey.yaml already, of the kind files"},
		{"a function of an added store", Additions{Sources: map[string]AddedSource{"mine": {Store: source}}, Functions: map[string]functions.Func{"mine.label": label}},
			`the function "mine.label" has the source mine, which has record sets`},
		{"a source that is there", Additions{Sources: map[string]AddedSource{"s": {Store: source}}}, "the source s is in osprey.yaml already, of the kind files"},
		{"a naming rule", Additions{Sources: map[string]AddedSource{"mine": {Store: source, Naming: "kebab"}}}, `the source mine has the naming rule "kebab"`},
		{"types that are there", Additions{Texts: []schema.Text{{Name: "more", Body: `type A { y: String }`}}}, "the project has an error"},
	} {
		t.Run(test.name, func(t *testing.T) {
			p, findings, err := OpenWith(context.Background(), dir, slog.New(slog.NewTextHandler(io.Discard, nil)), &test.add)
			if err == nil {
				p.Close()
			}
			if test.want == "" && err != nil || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
				t.Errorf("gives %v %v, want %q", err, findings, test.want)
			}
		})
	}
}
