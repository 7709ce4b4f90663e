package main_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"osprey/core/tables"
	"osprey/project"
)

var lawSeeds = flag.Int("laws", 6, "how many random schemas tables and types are held to laws by, in each database")

// randomTypes makes up types with relationships in all directions, and in circles.
func randomTypes(r *rand.Rand) string {
	var b, back strings.Builder
	b.WriteString("type Query {\n  one: [T0!] @read\n}\n")
	n := 2 + r.IntN(5)
	scalars := []string{"String", "Int", "Int64", "Float", "Boolean", "Decimal", "DateTime", "Date", "JSON", "E"}
	for i := range n {
		fmt.Fprintf(&b, "\n\"Type no. %d; it's made up.\"\ntype T%d @stored(in: \"db\", as: \"t_%d\", key: \"id\") {\n  id: ID!\n", i, i, i)
		for f := range r.IntN(6) {
			typ := scalars[r.IntN(len(scalars))]
			if r.IntN(2) == 0 {
				typ += "!"
			}
			fmt.Fprintf(&b, "  f%dX: %s\n", f, typ)
		}
		for f := range r.IntN(3) {
			must := ""
			if other := r.IntN(n); other < i && r.IntN(2) == 0 { // in a circle, nobody could be first
				must = "!"
			}
			to := r.IntN(max(1, i+1))
			fmt.Fprintf(&b, "  to%d: T%d%s @related(here: \"to%d_id\")\n", f, to, must, f)
			if r.IntN(3) == 0 { // and the other side
				fmt.Fprintf(&back, "\nextend type T%d {\n  back%dX%d: [T%d!]! @related(there: \"to%d_id\")\n}\n", to, i, f, i, f)
			}
		}
		if other := r.IntN(n); r.IntN(2) == 0 {
			fmt.Fprintf(&b, "  pairs: [T%d!]! @related(through: {set: \"pairs_%d\", here: [\"one_id\"], there: [\"other_id\"]})\n", other, i)
		}
		if other := r.IntN(n); r.IntN(3) == 0 {
			fmt.Fprintf(&b, "  many: [T%d!]! @related(there: \"of_%d\")\n", other, i)
		}
		if other := r.IntN(n); r.IntN(3) == 0 {
			fmt.Fprintf(&b, "  single: T%d @related(here: \"id\", there: \"only_%d\")\n", other, i)
		}
		b.WriteString("}\n")
	}
	b.WriteString("\nenum E {\n  A @at(path: \"a b\")\n  B\n}\n")
	return b.String() + back.String()
}

// TestTablesLaws holds random types to what must be so of all: when the tables are made of them,
// there is nothing left to make; of what is derived of these tables, neither; and what is undone
// leaves nothing.
func TestTablesLaws(t *testing.T) {
	eachDatabase(t, func(t *testing.T, db *empty) {
		for seed := range *lawSeeds {
			types := randomTypes(rand.New(rand.NewPCG(uint64(seed), 17)))
			dir := db.project("snake", "")
			schema := filepath.Join(dir, "schema/types.graphql")
			if err := os.MkdirAll(filepath.Dir(schema), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(schema, []byte(types), 0o644); err != nil {
				t.Fatal(err)
			}
			open := func(when string) *project.Tables {
				t.Helper()
				own, err := project.OpenTables(context.Background(), dir, "db", tables.Choices{}, nil)
				if err != nil {
					t.Fatalf("seed %d, %s: %v\n%s", seed, when, err, types)
				}
				return own
			}
			nothing := func(when string) {
				t.Helper()
				own := open(when)
				if len(own.Plan.Steps) > 0 || len(own.Plan.Left) > 0 {
					t.Fatalf("seed %d, %s, there is left %s %v\nof\n%s", seed, when, own.Plan.File(), own.Plan.Left, types)
				}
			}
			first := open("at first")
			if _, err := first.Write("all"); err != nil {
				t.Fatal(err)
			}
			if _, err := first.Apply(context.Background()); err != nil {
				t.Fatalf("seed %d: %v\n%s", seed, err, first.Plan.File())
			}
			nothing("behind it")
			if out, errs, code := osprey(t, "check", dir); code != 0 {
				t.Fatalf("seed %d: check says %s%s\n%s", seed, out, errs, types)
			}
			if err := os.Remove(schema); err != nil {
				t.Fatal(err)
			}
			text, _, _ := derived(t, dir)
			own := open("derived")
			if len(own.Plan.Steps) > 0 || len(own.Plan.Left) > 0 {
				t.Fatalf("seed %d, of what is derived, there is left %s %v\nof\n%s\nwhich came of\n%s", seed, own.Plan.File(), own.Plan.Left, text, types)
			}
			if _, err := own.Undo(context.Background()); err != nil {
				t.Fatalf("seed %d: it cannot be undone: %v", seed, err)
			}
			if left := open("undone").Plan; len(left.Left) > 0 || len(left.Steps) == 0 {
				t.Fatalf("seed %d: undone, there is %v", seed, left.Left)
			}
		}
	})
}
