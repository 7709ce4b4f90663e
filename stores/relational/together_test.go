package relational_test

import (
	"strings"
	"testing"
)

// TestTogether writes with several root fields in one transaction: each sees what those before
// it wrote, and if one fails, none is done.
func TestTogether(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			e, db := engineOf(t, kind, pilotTypes, pilotTables(kind))
			for _, test := range []struct{ op, data, errors string }{
				{`mutation @transaction { a: enlist(pilot: {licence: "A", name: "Ada"}) { name } b: enlist(pilot: {licence: "B", name: "Bo"}) { name papers { number } } all: moveAll(filter: {name: {in: ["Ada", "Bo"]}}, change: {harbour: "N"}) { name harbour } __typename }`,
					`{"a":{"name":"Ada"},"b":{"name":"Bo","papers":[]},"all":[{"name":"Ada","harbour":"N"},{"name":"Bo","harbour":"N"}],"__typename":"Mutation"}`, ``},
				{`mutation @transaction { issue(harbour: "N", number: 1, holder: "Ada") { number } a: rename(licence: "A", name: "Ann") { name } b: enlist(pilot: {licence: "B"}) { name } c: rename(licence: "B", name: "Ben") { name } }`,
					`{"issue":null,"a":null,"b":null,"c":null}`, `[issue] UNDONE issue is undone: it is one transaction with b, which failed [a] UNDONE a is undone: it is one transaction with b, which failed [b] CONSTRAINT Pilot.licence "B" is taken: another record has it [c] UNDONE c is undone: it is one transaction with b, which failed`},
				{`mutation @transaction { none: enlistAll(pilots: []) other: enlistAll(pilots: []) }`, `{"none":0,"other":0}`, ``},
				{`mutation { a: rename(licence: "A", name: "Ann") { name } b: enlist(pilot: {licence: "B"}) { name } }`, `{"a":{"name":"Ann"},"b":null}`, `[b] CONSTRAINT Pilot.licence "B" is taken: another record has it`},
			} {
				o := e.Ask(t, test.op, nil)
				if errors := strings.Join(o.Errors, " "); o.Data != test.data || errors != test.errors {
					t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, o.Errors, test.data, test.errors)
				}
			}
			holds(t, db, "SELECT count(*) FROM papers", "0")
			holds(t, db, "SELECT name FROM pilots WHERE licence = 'A'", "Ann")
		})
	}
}
