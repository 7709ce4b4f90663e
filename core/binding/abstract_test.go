package binding_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language/languagetest"
	"osprey/core/schema"
)

// TestAbstractFindings holds what is told of interfaces, unions and computed
// fields that cannot be: each case is a schema and the finding it must bring.
func TestAbstractFindings(t *testing.T) {
	const (
		pilot = ` type Pilot @stored(in: "registry", as: "pilots", key: "id") { id: ID! name: String! licence: String! }`
		quay  = ` type Quay @stored(in: "registry", as: "quays", key: "code") { code: ID! name: String! }`
		call  = ` type PortCall @stored(in: "registry", as: "port_calls", key: "id") { id: ID! arrivedAt: DateTime! `
		craft = `type Query { a: [Craft!] @read } type Craft @stored(in: "registry", as: "craft", key: "imo") { imo: ID! name: String! lengthM: Float! draughtDm: Int builtOn: Date `
		log   = ` union Log = Pilotage | Incident type Pilotage @stored(in: "registry", as: "pilotage", key: "id") { id: ID! boardedAt: DateTime! }
			type Incident @stored(in: "inspections", as: "incidents", key: "_id") { at: DateTime! kind: String! }`
	)
	var remedies languagetest.Remedies
	for _, test := range []struct{ text, want string }{
		{`type Query { a: [Named!] @read(sort: "name") } union Named = Pilot | Quay` + pilot + quay, ``},
		{`type Query { a: [Named!] @read(sort: "licence") } union Named = Pilot | Quay` + pilot + quay, `Query.a is sorted by "licence", which is no field of Quay`},
		{`type Query { a: [Named!] @read(sort: "name") } interface Named { name: String! } type Pilot implements Named @stored(in: "registry", as: "pilots") { name: String! } type Quay implements Named @stored(in: "registry", as: "quays") { name: String! }`, ``},
		{`type Query { a: [Named!] @read(name: 1) } interface Named { name: String! }`, `has no argument "name"`},
		{`type Query { a: [Named!] @read } interface Named { name: String! }`, `Query.a is of the type Named, and nothing says where its records are`},
		{`type Query { a(licence: String): [Named!] @read } union Named = Pilot | Quay` + pilot + quay, `the argument "licence" of Query.a: it is no field of Quay`},
		// Which records are related, of each type.
		{`type Query { a: [PortCall!] @read } ` + call + ` log: [Log!]! @related(here: "id", there: "call_id") }` + log, ``},
		{`type Query { a: [PortCall!] @read } ` + call + ` log: [Log!]! @related(of: "Pilotage", here: "id", there: "call_id") }` + log,
			`error relationship PortCall.log: PortCall.log leads to Incident too, and nothing says which are related → add @related(of: "Incident", …)`},
		{`type Query { a: [PortCall!] @read } ` + call + ` log: [Log!]! @related(there: "call_id") @related(of: "Pilotag", there: "call_id") }` + log,
			`says what of "Pilotag" is related, which is no type that is stored by itself; did you mean "Pilotage"?`},
		{`type Query { a: [PortCall!] @read } ` + call + ` log: [Log!]! @related(there: "call_id") @related(here: "id", there: "callId") }` + log, `says twice what is related to it`},
		{`type Query { a: [PortCall!] @read } ` + call + ` log: [Log!]! @related(of: "Pilotage", there: "call_id", sort: "boardedAt") @related(of: "Incident", here: "id", there: "callId", sort: "at desc") }` + log,
			`the records of PortCall.log cannot be put in one order: those of Pilotage are sorted by boarded_at (time) and those of Incident by at (time) desc`},
		{`type Query { a: [PortCall!] @read } ` + call + ` log: [Log!]! @related(of: "Pilotage", there: "call_id", sort: "boardedAt") @related(of: "Incident", here: "id", there: "callId", sort: "kind") }` + log, `cannot be put in one order`},
		{`type Query { a: [PortCall!] @read } ` + call + ` log: [Log!]! @related(of: "Pilotage", there: "call_id", sort: "boardedAt") @related(of: "Incident", here: "id", there: "callId") }` + log, `those of Incident by nothing`},
		// References.
		{`type Query { a: [PortCall!] @read } ` + call + ` about: About @related(here: "purpose") @kind(by: "purpos") } union About = Pilot | Quay` + pilot + quay,
			`what tells the type of PortCall.about is "purpos", which the table port_calls in registry does not have`},
		{`type Query { a: [PortCall!] @read } ` + call + ` about: [About!] @related(here: "purpose", there: "name") @kind(by: "purpose") } union About = Pilot | Quay` + pilot + quay,
			`PortCall.about is a list, and one value beside it cannot tell the types of its records`},
		{`type Query { a: [PortCall!] @read } ` + call + ` about: About @related(here: "purpose") @kind(by: "purpose") } union About = Pilot | Quay type Pilot @stored(in: "registry", as: "pilots") @kind(is: "quay") { name: String }` + quay,
			`PortCall.about leads both to Pilot and to Quay by the value "quay" of port_calls.purpose`},
		{`type Query { a: [PortCall!] @read } ` + call + ` about: About @related(here: "purpose") @kind(by: "purpose") } union About = Pilot | Quay` + pilot + quay,
			`PortCall.about leads to no type of About for the records of port_calls whose purpose is "load"`},
		// Nested values.
		{`type Query { a: [A!] @read } type A @stored(in: "inspections", as: "inspections") { findings: [F!] } union F = G | H type G { code: String } type H { text: String }`,
			`A.findings is a nested F, and nothing says which value is of which type (G, H)`},
		{`type Query { a: [A!] @read } type A @stored(in: "inspections", as: "inspections") { findings: [F!] } union F @kind(by: "severity") = G | H type G @kind(is: "x") { code: String } type H @kind(is: "x") { text: String }`,
			`both G and H are told by the value "x" of inspections.findings.severity`},
		// Expressions.
		{craft + `x: Float @computed(expr: "record.lengthM * 2.0") }`, ``},
		{craft + `x: Float @computed }`, `@computed does not say how`},
		{craft + `x: Float @computed(expr: "1.0", by: "fees.x") }`, `or says it twice`},
		{craft + `x: Float @computed(expr: "1.0", needs: "name") }`, `Craft.x is an expression, which needs what stands in it`},
		{craft + `x: Float @at(path: "y") @computed(expr: "1.0") }`, `cannot have a place in a store too`},
		{craft + `x: Int @computed(expr: "record.lenghtM") }`, `the expression of Craft.x cannot be used: there is no field lenghtM; did you mean "lengthM"? (at character 7)`},
		{craft + `x: Int @computed(expr: "record.lengthM") }`, `it gives double, and int or null is wanted`},
		{craft + `x: Craft @computed(expr: "record") }`, `an expression gives records of one record set, as one list or one of them`},
		{craft + `x(by: Int): Float @computed(expr: "record.lengthM") }`, `nothing uses the argument "by" of Craft.x`},
		{craft + `x(by: Float! = 2.0): Float @computed(expr: "record.lengthM * args.by") }`, ``},
		{craft + `x: Int @computed(expr: "record.y") y: Int @computed(expr: "record.x") }`, `needs itself: Craft.x → Craft.y → Craft.x`},
		{craft + `x: Int @computed(expr: "record.tow.x") tow: Craft @related(here: "tow_imo") }`, `Craft.x needs itself: Craft.x → Craft.x`},
		{`type Query { a: [Craft!] @read(sort: "x") } ` + strings.TrimPrefix(craft, "type Query { a: [Craft!] @read } ") + `x: Float @computed(expr: "record.lengthM") }`, `is sorted by "x", which is no field of Craft with a column of its own`},
		{`type Query { a(x: Float): [Craft!] @read } ` + strings.TrimPrefix(craft, "type Query { a: [Craft!] @read } ") + `x: Float @computed(expr: "record.lengthM") }`, `nothing uses the argument "x" of Query.a`},
		// Functions.
		{craft + `x: Float @computed(by: "fees.x", needs: "name lengthM") }`, ``},
		{craft + `x: Float @computed(by: "fee.x") }`, `Craft.x is computed by "fee.x", which is no function of a source; did you mean "fees"? → declare its source under sources: in osprey.yaml, of the kind functions, or, if a Go program brings the function, as { kind: program }; declared are fees`},
		{craft + `x: Float @computed(by: "registry.x") }`, `which is no function of a source`},
		{craft + `x: Float @computed(by: "fees") }`, `which is no function of a source`},
		{craft + `x: Float @computed(by: "fees.x", needs: "nme") }`, `what Craft.x needs is no selection of its type: Craft has no field "nme"`},
		{craft + `x: Float @computed(by: "fees.x", needs: "name {") }`, `what Craft.x needs is no selection of its type`},
		{craft + `x: Float @computed(by: "fees.x", needs: "name ...F") }`, `what Craft.x needs is no selection of its type`},
		{craft + `x: Float @computed(by: "fees.x", needs: "name name # and name") }`, ``},
		{craft + `x: Float @computed(by: "fees.x", needs: "a: name ... on Craft { a: imo }") }`, `the name "a" is used for two fields that cannot be one`},
		{craft + `x: Float @computed(by: "fees.x", needs: "name } query { name") }`, `what Craft.x needs is no selection of its type: it is not the fields of one record`},
		{craft + `x: Float @computed(by: "fees.x", needs: "name } fragment F on Craft { name") }`, `it is not the fields of one record`},
		{craft + `x: Float @computed(by: "fees.x", needs: "y(z: $z)") y(z: Int): Int @computed(by: "fees.y") }`, `the variable $z: there are no variables here`},
		{craft + `x: Float @computed(by: "fees.x", needs: "y") y: Float @computed(by: "fees.y", needs: "z") z: Float @computed(expr: "record.x") }`, `needs itself: Craft.x → Craft.y → Craft.z → Craft.x`},
		{craft + `x: Craft @computed(by: "fees.x") }`, `Craft.x is computed by a function, and Craft is stored in a record set → give an object with the key of the record`},
		{`type Query { a: Int @computed(by: "fees.x", needs: "a") }`, `Query.a needs itself`},
		{`type Query { a: Int @computed(expr: "record.x") }`, `there is no field x (at character 7)`},
	} {
		s, problems := binding.Build([]schema.Text{{Body: test.text}}, nil)
		if !problems.Failed() {
			_, more := binding.Bind(s, sources())
			problems = append(problems, more...)
		}
		named(t, problems)
		var lines []string
		for _, p := range problems {
			line := p.Severity.String() + " " + p.Rule + " " + p.Coordinate + ": " + p.Msg
			if p.Fix != "" {
				line += " → " + p.Fix
			}
			lines = append(lines, line)
		}
		got := strings.Join(lines, "\n")
		if test.want == "" && problems.Failed() || !strings.Contains(got, test.want) {
			t.Errorf("%s\nreports\n%s\nwant\n%s", test.text, got, test.want)
		}
		remedies.Try(t, test.text, problems, offsetIn(s, test.text), problemsOf)
	}
	remedies.Applied(t, "name it", "make it T")
}
