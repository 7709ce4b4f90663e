package execute_test

import (
	"context"
	"encoding/json"
	"testing"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/store"
	"osprey/core/validate"
)

// FuzzRun runs anything that is valid: the answer is JSON, and it has no data
// only if there are errors.
func FuzzRun(f *testing.F) {
	for _, text := range []string{
		`{ craft(imo: 1) { imo name length flags owner { id name } must { id } notes(limit: 1) { id craft { name } } radio { sign channels { number } } } }`,
		`{ fleet(name: ["Amber"], limit: 2, offset: 1, sort: [{length: DESC}, {name: ASC}]) { ...A } } fragment A on Craft { a: imo __typename }`,
		`{ strict { must list deep } loose { must } anything { __typename id ... on Rock { weight } ... on Buoy { light } } }`,
		`query ($l: Int = 3, $s: [CraftSort!], $b: Boolean = true) { fleet(limit: $l, sort: $s) { imo @include(if: $b) } __schema { types { name } } }`,
	} {
		f.Add(text)
	}
	e := newEngine(f, stores())
	f.Fuzz(func(t *testing.T, text string) {
		doc, problems := language.Parse(language.NewSource("", text))
		if len(problems) > 0 || validate.Document(e.bound.Schema, doc).Failed() {
			return
		}
		for _, d := range doc.Definitions {
			op, ok := d.(*language.Operation)
			if !ok || op.Kind != language.Query {
				continue
			}
			p := plan.Build(e.bound, doc, op, nil, func(source string, reads []*store.Read) (store.Request, error) {
				return e.stores[source].Prepare(nil, reads)
			})
			r := execute.Run(context.Background(), p, nil, execute.Options{})
			if !json.Valid(r.Data) {
				t.Errorf("%s\nanswers %s", text, r.Data)
			}
			if string(r.Data) == "null" && len(r.Errors) == 0 {
				t.Errorf("%s\nhas no data and no errors", text)
			}
		}
	})
}
