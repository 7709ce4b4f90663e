package main_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestDescribedColumns types a column of JSON by a JSON Schema, on three databases, under a service
// that watches: what does not fit is an error at its place, and a saved schema changes the type.
func TestDescribedColumns(t *testing.T) {
	eachDatabase(t, func(t *testing.T, db *empty) {
		db.run("CREATE TABLE boats (id int PRIMARY KEY, fittings {jsonb|json|json})")
		for _, row := range []string{
			`(1, '{"cranes": 2, "paint": {"colour": "navy blue"}, "parts": [{"kg": 1.5}, {"kg": "light"}]}')`,
			`(2, '{"cranes": "two", "paint": {"colour": "mauve"}, "parts": {"kg": 1}}')`,
			"(3, NULL)",
		} {
			if err := db.try("INSERT INTO boats VALUES " + row); err != nil {
				t.Fatal(err)
			}
		}
		dir := db.project("snake", "")
		config, err := os.ReadFile(filepath.Join(dir, "osprey.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		demotest.Write(t, dir, map[string]string{
			"osprey.yaml":           string(config) + "\ntypes:\n  Fittings: schemas/fittings.json\n",
			"schema/a.graphql":      "type Query {\n  boats: [Boat!] @read\n}\n\ntype Boat @stored(in: \"db\", as: \"boats\", key: \"id\") {\n  id: ID!\n  fittings: Fittings\n}\n",
			"schemas/fittings.json": `{"properties": {"cranes": {"type": "integer"}, "paint": {"properties": {"colour": {"enum": ["red", "navy blue"]}}}, "parts": {"type": "array", "items": {"title": "Part", "properties": {"kg": {"type": "number"}}}}}}`,
		})
		address, _, _ := served(t, dir, "--watch")
		got := answerAt(t, address, "{ boats { id fittings { cranes paint { colour } parts { kg } } } }")
		for _, want := range []string{
			`{"id":"1","fittings":{"cranes":2,"paint":{"colour":"NAVY_BLUE"},"parts":[{"kg":1.5},{"kg":null}]}}`,
			`{"id":"2","fittings":{"cranes":null,"paint":{"colour":null},"parts":null}}`, `{"id":"3","fittings":null}`,
			`"path":["boats",0,"fittings","parts",1,"kg"]`, `"path":["boats",1,"fittings","cranes"]`, `"path":["boats",1,"fittings","paint","colour"]`, `"path":["boats",1,"fittings","parts"]`,
		} {
			if !strings.Contains(got, want) {
				t.Errorf("%s is not in %s", want, got)
			}
		}
		demotest.Write(t, dir, map[string]string{"schemas/fittings.json": `{"properties": {"cranes": {"type": "string"}}}`})
		waitUntil(t, "the saved schema is served", func() bool {
			return strings.Contains(answerAt(t, address, "{ boats { fittings { cranes } } }"), `{"boats":[{"fittings":{"cranes":"2"}},{"fittings":{"cranes":"two"}},{"fittings":null}]}`)
		})
	})
}
