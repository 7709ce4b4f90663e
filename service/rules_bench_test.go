package service_test

import (
	"context"
	"testing"

	"osprey/core/store"
	"osprey/project"
)

// BenchmarkRules asks for the dues of an operator by a rule, and, beside it, with the same condition written into
// the operation by hand.
func BenchmarkRules(b *testing.B) {
	_, p := harbourProject(b)
	for _, test := range []struct {
		name, query string
		who         *store.Identity
	}{
		{"by the rule", "{ dues(limit: 20, sort: [{id: ASC}]) { id amount } }", &store.Identity{ID: "key:brandal", Roles: []string{"operator"}}},
		{"by hand", `{ dues(limit: 20, sort: [{id: ASC}], filter: {operator: {with: {people: {with: {login: {is: "key:brandal"}}}}}}) { id amount } }`, &store.Identity{ID: "x", Roles: []string{"admin"}}},
		{"without any", "{ dues(limit: 20, sort: [{id: ASC}]) { id amount } }", &store.Identity{ID: "x", Roles: []string{"admin"}}},
	} {
		b.Run(test.name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				r, release := p.Hold()
				a := r.Ask(context.Background(), &project.Request{Query: test.query, Caller: &store.Caller{Who: test.who}})
				if len(a.Faults) > 0 {
					b.Fatal(a.Faults)
				}
				a.Free()
				release()
			}
		})
	}
}
