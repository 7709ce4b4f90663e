package osprey_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// TestSchemaOfConfiguration holds the JSON Schema for editors to take what is sound, and to
// underline what is not.
func TestSchemaOfConfiguration(t *testing.T) {
	text, err := os.ReadFile("docs/osprey.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("osprey.schema.json", document); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("osprey.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	check := func(text string) error {
		var value any
		if err := yaml.Unmarshal([]byte(text), &value); err != nil {
			t.Fatal(err)
		}
		plain, err := json.Marshal(value)
		if err != nil {
			t.Fatal(err)
		}
		decoded, err := jsonschema.UnmarshalJSON(strings.NewReader(string(plain)))
		if err != nil {
			t.Fatal(err)
		}
		return schema.Validate(decoded)
	}
	for _, file := range []string{"demo/harbour/osprey.yaml", "cmd/osprey/starter/osprey.yaml", "testdata/berths/osprey.yaml"} {
		text, err := os.ReadFile(filepath.FromSlash(file))
		if err != nil {
			t.Fatal(err)
		}
		if err := check(string(text)); err != nil {
			t.Errorf("%s: %v", file, err)
		}
	}
	for text, sound := range map[string]bool{
		"listen: 127.0.0.1:1": true,
		"sources: { a: { kind: postgres, url: x, pool: '${POOL:-4}' } }":       true,
		"sources: { a: { kind: '${KIND}' } }":                                  true,
		"limits: { answer: 64MB, body: 1_000, timeout: 1m30s }":                true,
		"sources: { a: { kind: files, pool: 4 } }":                             false,
		"sources: { a: { url: x } }":                                           false,
		"sources: { a: { kind: oracle } }":                                     false,
		"sources: { a: { kind: rest, url: x, sets: { s: { reads: { } } } } }":  false,
		"sources: { a: { kind: rest, url: x, sets: { s: { key: [a, b] } } } }": true,
		"limits: { answer: 1TB }":                                              false,
		"limits: { page: -1 }":                                                 false,
		"limits: { timeout: 5 }":                                               false,
		"statements: all":                                                      false,
		"source: {}":                                                           false,
	} {
		if err := check(text); (err == nil) != sound {
			t.Errorf("%s: %v", text, err)
		}
	}
}
