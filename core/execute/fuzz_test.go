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
	runAny(f, newEngine(f, stores()))
}

// FuzzAbstract is FuzzRun over interfaces, unions and expressions.
func FuzzAbstract(f *testing.F) {
	for _, text := range []string{
		`{ log(limit: 2, offset: 1) { __typename ... on Visit { who } ... on Mishap { what } ... on Logged { at } } pages(first: 2) { totalCount edges { cursor node { at } } pageInfo { endCursor } } }`,
		`{ named(filter: {name: {startsWith: "K"}}, sort: [{name: DESC}]) { name ... on Boat { id size } ... on Call { half label share log { __typename } boat { name } } } one(id: 3) { name } }`,
		`{ remarks { about { __typename ... on Tug { pull } } must { name } engine { power } } inspections { evidence { ... on Photo { caption } ... on Reading { twice } } first { __typename } } }`,
		`{ pages(last: 1, before: "AAAAAAAB") { edges { node { __typename } } } port twice(n: 5) old calls { aboard half } boats { ... on Engine { power } } }`,
		`{ pages(first: 1, after: "lxxirQMBCA") { pageInfo { hasNextPage hasPreviousPage startCursor } } }`,
	} {
		f.Add(text)
	}
	runAny(f, newEngineOf(f, harbourLog, logStores()))
}

func runAny(f *testing.F, e *engine) {
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
