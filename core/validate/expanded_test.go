package validate

import (
	"testing"

	"osprey/core/language"
	"osprey/core/schema"
)

// TestExceeds counts fields: of each type that they are asked of, and wherever a
// fragment is spread.
func TestExceeds(t *testing.T) {
	s, problems := schema.Build(schema.Text{Name: "schema.graphql", Body: `
		type Query { craft: Craft port: String }
		interface Craft { name: String calls: [Call] }
		type Tug implements Craft { name: String calls: [Call] }
		type Ferry implements Craft { name: String calls: [Call] cars: Int }
		type Tanker implements Craft { name: String calls: [Call] }
		type Barge implements Craft { name: String calls: [Call] }
		type Call { craft: Craft of: Either }
		union Either = Tug | Ferry`})
	if problems.Failed() {
		t.Fatal(problems)
	}
	for text, fields := range map[string]int{
		"{ port }": 1,
		"{ craft { calls { craft { calls { craft { name } } } } } }":                                           105,
		"{ craft { ... on Ferry { name cars } } }":                                                             3,
		"{ craft { ... on Craft { name } ... { __typename } } }":                                               9,
		"{ craft { calls { of { ... on Craft { name } ... on Ferry { name } } } } }":                           1 + 4*(2+3),
		"{ a: craft { ...F } b: craft { ...F } } fragment F on Craft { name ...G } fragment G on Tug { name }": 2 * (1 + 5),
		"{ __schema { types { name fields { name } } } }":                                                      5,
	} {
		doc, problems := language.Parse(language.NewSource("", text))
		if len(problems) == 0 {
			problems = Document(s, doc)
		}
		if len(problems) > 0 {
			t.Errorf("%s: %v", text, problems)
			continue
		}
		op := doc.Definitions[0].(*language.Operation)
		if Exceeds(s, doc, op, fields) || !Exceeds(s, doc, op, fields-1) {
			t.Errorf("%s does not ask for %d fields", text, fields)
		}
	}
}
