package project_test

import (
	"context"
	"database/sql"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey/demo/demotest"
	"osprey/project"
)

const (
	describedConfig = `sources:
  db: { kind: sqlite, url: "sqlite:a.db", naming: snake }
types:
  Fittings: schemas/fittings.json
  Paint: schemas/fittings.json#/$defs/paint
  Log: schemas/log.yaml
`
	describedTypes = `type Query { boats: [Boat!]! @read }
type Boat @stored(in: "db", as: "boats", key: "id") {
  id: ID!
  fittings: Fittings
  log: Log
}
`
	fittings = `{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "type": "object",
  "description": "What a boat is fitted with.",
  "required": ["cranes"],
  "properties": {
    "cranes": { "type": "integer", "description": "How many." },
    "hull-paint": { "$ref": "#/$defs/paint" },
    "engines": { "type": "array", "items": { "type": "object", "title": "Engine", "properties": { "kW": { "type": "number" }, "fuel": { "enum": ["diesel", "shore power", null] } } } },
    "spare": { "$ref": "#" },
    "madeOn": { "type": "string", "format": "date" },
    "anything": {}
  },
  "$defs": { "paint": { "type": "object", "properties": { "colour": { "enum": ["red", "navy blue"] }, "coats": { "type": "integer" } } } }
}
`
	logSchema = `type: object
properties:
  entries:
    type: array
    items: { $ref: "entry.yaml" }
`
	entrySchema = `title: Entry
type: object
properties:
  at: { type: string, format: date-time }
  text: { type: string }
`
)

// describedFolder makes a project with two types that JSON Schemas describe.
func describedFolder(t *testing.T) string {
	t.Helper()
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": describedConfig, "schema/a.graphql": describedTypes,
		"schemas/fittings.json": fittings, "schemas/log.yaml": logSchema, "schemas/entry.yaml": entrySchema})
	db, err := sql.Open("sqlite", filepath.Join(dir, "a.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`CREATE TABLE boats (id INTEGER PRIMARY KEY, fittings JSON, log JSON);
		INSERT INTO boats VALUES (1, '{"cranes": 2, "hull-paint": {"colour": "navy blue", "coats": 3}, "engines": [{"kW": 12.5, "fuel": "shore power"}, {"fuel": null}], "spare": {"cranes": 0}, "madeOn": "2026-01-02", "anything": [1]}', '{"entries": [{"at": "2026-01-02T03:04:05Z", "text": "out"}]}');
		INSERT INTO boats VALUES (2, '{"cranes": 1, "hull-paint": {"colour": "mauve", "coats": 1.5}, "engines": {"kW": 1}, "madeOn": "soon"}', NULL);
		INSERT INTO boats VALUES (3, '{}', '[]');
		INSERT INTO boats VALUES (4, '{"cranes": "two"}', '{"entries": [{"at": 5}]}')`); err != nil {
		t.Fatal(err)
	}
	return dir
}

func asked(t *testing.T, p *project.Project, query string) (data string, faults []project.Fault) {
	t.Helper()
	r, release := p.Hold()
	defer release()
	a := r.Ask(context.Background(), &project.Request{Query: query})
	defer a.Free()
	return string(a.Data), a.Faults
}

// TestDescribed answers columns of JSON by types that JSON Schemas describe; what is stored and does
// not fit them is an error at its place.
func TestDescribed(t *testing.T) {
	dir := describedFolder(t)
	p, findings, err := project.Open(t.Context(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings)
	}
	defer p.Close()
	data, faults := asked(t, p, `{ boats { id fittings { cranes hullPaint { colour coats } engines { kW fuel } spare { cranes } madeOn anything } log { entries { at text } } } }`)
	const first = `{"id":"1","fittings":{"cranes":2,"hullPaint":{"colour":"NAVY_BLUE","coats":3},"engines":[{"kW":12.5,"fuel":"SHORE_POWER"},{"kW":null,"fuel":null}],"spare":{"cranes":0},"madeOn":"2026-01-02","anything":[1]},"log":{"entries":[{"at":"2026-01-02T03:04:05Z","text":"out"}]}}`
	if !strings.Contains(data, first) {
		t.Errorf("it answers %s", data)
	}
	at := map[string]bool{}
	for _, f := range faults {
		var path []string
		for _, part := range f.Path {
			switch part := part.(type) {
			case string:
				path = append(path, part)
			case int:
				path = append(path, string(rune('0'+part)))
			}
		}
		at[strings.Join(path, ".")] = true
	}
	for _, want := range []string{"boats.1.fittings.hullPaint.colour", "boats.1.fittings.hullPaint.coats", "boats.1.fittings.engines", "boats.1.fittings.madeOn", "boats.2.fittings.cranes", "boats.2.log", "boats.3.fittings.cranes", "boats.3.log.entries.0.at"} {
		if !at[want] {
			t.Errorf("%s is no error, but %v are", want, at)
		}
	}
	schema := p.Revision().Schema.Print()
	for _, want := range []string{"What a boat is fitted with.", "cranes: Int!", "type Engine", "enum Fuel", "type Entry", "anything: JSON"} {
		if !strings.Contains(schema, want) {
			t.Errorf("the schema lacks %s:\n%s", want, schema)
		}
	}
}

// TestDescribedWrong holds what is told of descriptions that cannot be used: at their places, or at
// those in osprey.yaml.
func TestDescribedWrong(t *testing.T) {
	for name, test := range map[string]struct {
		change map[string]string
		want   []string // "file:line:column: …"
	}{
		"no file":                        {map[string]string{"osprey.yaml": strings.Replace(describedConfig, "log.yaml", "gone.json", 1)}, []string{"osprey.yaml:6:3: the type Log cannot be made: schemas/gone.json: "}},
		"no JSON":                        {map[string]string{"schemas/fittings.json": "{"}, []string{"osprey.yaml:4:3: the type Fittings cannot be made: schemas/fittings.json is no JSON"}},
		"no such part":                   {map[string]string{"osprey.yaml": strings.Replace(describedConfig, "$defs/paint", "$defs/point", 1)}, []string{"osprey.yaml:5:3: the type Paint cannot be made: schemas/fittings.json#/$defs/point"}},
		"no object":                      {map[string]string{"schemas/log.yaml": "type: string"}, []string{"osprey.yaml:6:3: the type Log cannot be made: schemas/log.yaml describes no object with properties"}},
		"elsewhere":                      {map[string]string{"schemas/log.yaml": `{$ref: "https://example.org/log.json"}`}, []string{"https://example.org/log.json is not in the project's folder"}},
		"outside":                        {map[string]string{"osprey.yaml": strings.Replace(describedConfig, "schemas/log.yaml", "../log.yaml", 1)}, []string{"osprey.yaml:6:3: the type Log cannot be made: "}},
		"no schema":                      {map[string]string{"schemas/log.yaml": "type: 7"}, []string{"schemas/log.yaml is no sound JSON Schema"}},
		"no name":                        {map[string]string{"osprey.yaml": strings.Replace(describedConfig, "Log:", "my-log:", 1), "schema/a.graphql": strings.Replace(describedTypes, "log: Log", "", 1)}, []string{`osprey.yaml:6:3: "my-log" is no name of a type`}},
		"defined too":                    {map[string]string{"schema/b.graphql": "type Log { at: String }"}, []string{"osprey.yaml:6:3: the type Log is described by schemas/log.yaml, and defined in schema/, too"}},
		"no such column":                 {map[string]string{"schema/a.graphql": strings.Replace(describedTypes, "fittings: Fittings", "fitted: Fittings", 1)}, []string{"schema/a.graphql:4:3: "}},
		"a name that the language keeps": {map[string]string{"schemas/log.yaml": "properties: { __at: { type: string } }"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			dir := describedFolder(t)
			demotest.Write(t, dir, test.change)
			p, findings, err := project.Open(t.Context(), dir, slog.New(slog.DiscardHandler))
			if err == nil {
				p.Close()
			}
			all := ""
			for _, f := range findings {
				place := f.At.String()
				if from, err := filepath.Rel(dir, f.At.Name); err == nil && f.At.Name != "" {
					place = strings.Replace(place, f.At.Name, from, 1)
				}
				all += place + ": " + f.Msg + "\n"
			}
			if (err == nil) != (len(test.want) == 0) {
				t.Errorf("the error is %v: %s", err, all)
			}
			for _, want := range test.want {
				if !strings.Contains(all, want) {
					t.Errorf("%q is not among\n%s", want, all)
				}
			}
			if strings.Contains(all, "(described)") || strings.Contains(all, "file:///") {
				t.Errorf("it tells of a text that nobody has:\n%s", all)
			}
		})
	}
}

// TestDescribedPlace tells what is wrong with a described field at its place in the JSON Schema.
func TestDescribedPlace(t *testing.T) {
	dir := describedFolder(t)
	demotest.Write(t, dir, map[string]string{"schema/b.graphql": "interface Painted { coats: String }\nextend type Paint implements Painted\n"})
	_, findings, err := project.Open(t.Context(), dir, slog.New(slog.DiscardHandler))
	if err == nil {
		t.Fatal("it is served")
	}
	f := findings.Errors()[0]
	if !strings.HasSuffix(f.At.Name, "schemas/fittings.json") || f.At.Line != 14 || !strings.Contains(f.Line, `"coats"`) || !strings.HasPrefix(f.Line[f.At.Column-1:], `"coats"`) {
		t.Errorf("it is told at %s, %q: %s", f.At, f.Line, f.Msg)
	}
}

// TestDescribedReload saves JSON Schemas while the project is served, which changes the schema; secrets
// are left out, and said to be.
func TestDescribedReload(t *testing.T) {
	dir := describedFolder(t)
	p, _, err := project.Open(t.Context(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	changed := make(chan struct{}, 1)
	if err := project.Watch(t.Context(), dir, func() { changed <- struct{}{} }); err != nil {
		t.Fatal(err)
	}
	saved := func(files map[string]string) project.Findings {
		t.Helper()
		demotest.Write(t, dir, files)
		<-changed
		findings, _ := p.Reload(t.Context())
		return findings
	}
	saved(map[string]string{"schemas/entry.yaml": strings.Replace(entrySchema, "text:", "words:", 1)})
	if schema := p.Revision().Schema.Print(); !strings.Contains(schema, "words: String") || strings.Contains(schema, "text: String") {
		t.Errorf("the schema is %s", schema)
	}
	if findings := saved(map[string]string{"schemas/entry.yaml": "type: 7"}); !findings.Failed() || len(p.Trouble()) == 0 || !strings.Contains(p.Revision().Schema.Print(), "words: String") {
		t.Errorf("a broken one: %v", findings)
	}
	findings := saved(map[string]string{"schemas/entry.yaml": entrySchema + "  apiKey: { type: string }\n"})
	if findings.Failed() || len(p.Trouble()) > 0 {
		t.Fatal(findings)
	}
	if schema := p.Revision().Schema.Print(); strings.Contains(schema, "apiKey") || !strings.Contains(schema, "text: String") {
		t.Errorf("the schema is %s", schema)
	}
	// A file that is named, and comes later, in a folder that comes later.
	config := strings.Replace(describedConfig, "types:\n", "types:\n  Late: late/late.json\n", 1)
	if findings := saved(map[string]string{"osprey.yaml": config}); !findings.Failed() {
		t.Error("a file that is not there is no error")
	}
	saved(map[string]string{"late/late.json": `{"properties": {"late": {"type": "boolean"}}}`})
	for end := time.Now().Add(30 * time.Second); !strings.Contains(p.Revision().Schema.Print(), "late: Boolean"); {
		select { // the folder and the file may be told one after the other
		case <-changed:
			p.Reload(t.Context())
		case <-time.After(time.Until(end)):
			t.Fatalf("it is not served: %v", p.Trouble())
		}
	}
}
