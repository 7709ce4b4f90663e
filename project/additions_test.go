package project

import (
	"context"
	"encoding/json"
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

// TestRootNeeds calls functions at the root, and in an object that groups root fields,
// with what they need of it; and tells an argument that is null from one that is not
// given.
func TestRootNeeds(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      "sources:\n  s: { kind: files, folder: data }\n  own: { kind: program }\n",
		"data/quays.json":  `[{"code": "A", "name": "Mole"}, {"code": "B", "name": "Pier"}]`,
		"data/gauges.json": `[{"code": "B"}, {"code": "C"}]`,
		"schema/a.graphql": `
type Query {
  quays: [Quay!]! @read
  gauges: [Gauge!]! @read
  port: Port!
  survey(days: Int, unit: String = null): Survey @computed(by: "own.survey", needs: "quays { code } gauges { code }")
}
type Mutation { measure: Survey @computed(by: "own.survey", needs: "quays { code }") }
type Port { quays: [Quay!]! @read  survey: Survey @computed(by: "own.survey", needs: "quays { name }") }
type Survey { given: String! both: [Both!]! }
type Both { code: ID!  quay: Quay @related(here: "code")  gauge: Gauge @related(here: "code") }
type Quay @stored(in: "s", as: "quays", key: "code") { code: ID! name: String! }
type Gauge @stored(in: "s", as: "gauges", key: "code") { code: ID! }
`})
	var calls int
	survey := functions.Func{Check: func(store.Signature) error { return nil }, Call: func(_ context.Context, inputs [][]byte) (list []functions.Result, err error) {
		calls++
		for _, in := range inputs {
			given, _ := json.Marshal(string(in))
			list = append(list, functions.Result{JSON: []byte(`{"given": ` + string(given) + `, "both": [{"code": "B"}, {"code": "A"}]}`)})
		}
		return list, nil
	}}
	p, findings, err := OpenWith(context.Background(), dir, slog.New(slog.DiscardHandler), &Additions{Functions: map[string]functions.Func{"own.survey": survey}})
	if err != nil {
		t.Fatal(err, findings)
	}
	defer p.Close()
	for _, test := range []struct {
		op, want string
		requests int
	}{
		{`{ survey { given both { quay { name } gauge { code } } } }`,
			`{"survey":{"given":"{\"record\":{\"quays\":[{\"code\":\"A\"},{\"code\":\"B\"}],\"gauges\":[{\"code\":\"B\"},{\"code\":\"C\"}]},\"args\":{\"unit\":null}}","both":[{"quay":{"name":"Pier"},"gauge":{"code":"B"}},{"quay":{"name":"Mole"},"gauge":null}]}}`, 3},
		{`{ survey(days: null, unit: "m") { given } }`, `{"survey":{"given":"{\"record\":{\"quays\":[{\"code\":\"A\"},{\"code\":\"B\"}],\"gauges\":[{\"code\":\"B\"},{\"code\":\"C\"}]},\"args\":{\"days\":null,\"unit\":\"m\"}}"}}`, 2},
		{`{ quays { name } survey(days: 3) { given } }`, `{"quays":[{"name":"Mole"},{"name":"Pier"}],"survey":{"given":"{\"record\":{\"quays\":[{\"code\":\"A\"},{\"code\":\"B\"}],\"gauges\":[{\"code\":\"B\"},{\"code\":\"C\"}]},\"args\":{\"days\":3,\"unit\":null}}"}}`, 2},
		{`{ port { quays { code } survey { given } } }`, `{"port":{"quays":[{"code":"A"},{"code":"B"}],"survey":{"given":"{\"record\":{\"quays\":[{\"name\":\"Mole\"},{\"name\":\"Pier\"}]},\"args\":{}}"}}}`, 2},
		{`mutation { measure { given } again: measure { given } }`, `{"measure":{"given":"{\"record\":{\"quays\":[{\"code\":\"A\"},{\"code\":\"B\"}]},\"args\":{}}"},"again":{"given":"{\"record\":{\"quays\":[{\"code\":\"A\"},{\"code\":\"B\"}]},\"args\":{}}"}}`, 4},
	} {
		calls = 0
		a := p.Revision().Ask(context.Background(), &Request{Query: test.op})
		made := 0
		for _, c := range a.Requests {
			made += c.RoundTrips
		}
		if string(a.Data) != test.want || len(a.Faults) > 0 || made != test.requests || calls == 0 {
			t.Errorf("%s\ngives %s %v\nwant  %s\nin %d requests, want %d", test.op, a.Data, a.Faults, test.want, made, test.requests)
		}
	}
}
