package binding_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language/languagetest"
	"osprey/core/schema"
	"osprey/core/store"
)

func folds(source string) bool { return source == "registry" }

// TestFilterFindings holds what is checked of filters, sort keys, pages and
// totals that a schema writes itself.
func TestFilterFindings(t *testing.T) {
	const craft = ` type Craft @stored(in: "registry", as: "craft", key: "imo") { imo: ID! name: String! lengthM: Float! builtOn: Date fittings: F craftType: T calls: [Call!]! @related(there: "craft_imo") operator: Op @related(here: "operator_id") inspections: [Ins!]! @related(here: "imo", there: "craft.imo") }
	  type Call @stored(in: "registry", as: "port_calls", key: "id") { id: ID! purpose: String! } type Op @stored(in: "registry", as: "operators", key: "id") { name: String! }
	  type Ins @stored(in: "inspections", as: "inspections", key: "_id") { outcome: String findings: [Fi!] } type Fi { code: String } type F { cranes: Int tags: [String!] parts: [Part!] } type Part { name: String } enum T { CARGO TANKER FERRY TUG }`
	const read = `type Query { craft(filter: In): [Craft!]! @read } `
	const paged = `type Query { craft(first: Int, after: String): Page! @read } type Edge { node: Craft! cursor: String! } `
	var remedies languagetest.Remedies
	for _, test := range []struct{ text, want string }{
		{read + `input In { name: Ops all: [In!] any: [In!] not: In } input Ops { is: String in: [String!] contains: String missing: Boolean }` + craft, ``},
		{read + `input In { nam: Ops } input Ops { is: String }` + craft, `error filter In.nam: the predicate In.nam is no field of Craft; did you mean "name"?`},
		{read + `input In { x: Ops @at(path: "length_m") } input Ops { above: Float }` + craft, ``},
		{read + `input In { x: Ops @at(path: "lenght_m") } input Ops { above: Float }` + craft, `the field tested by In.x is "lenght_m", which the table craft in registry does not have`},
		{read + `input In { name: String }` + craft, `the predicate In.name is not an input object of comparisons`},
		{read + `input In { name: Ops } input Ops { equals: String }` + craft, `error filter Ops.equals: Ops.equals is no comparison`},
		{read + `input In { name: Ops } input Ops { in: String }` + craft, `the comparison Ops.in cannot be of the type String`},
		{read + `input In { name: Ops } input Ops { missing: Int }` + craft, `the comparison Ops.missing cannot be of the type Int`},
		{read + `input In { name: Ops } input Ops { above: Int }` + craft, `In.name is of the type Int, and craft.name is text; String fits`},
		{read + `input In { lengthM: Ops } input Ops { contains: Float }` + craft, `the predicate In.lengthM has "contains", and craft.length_m is float and not text`},
		{read + `input In { craftType: Ops } input Ops { above: T }` + craft, `has "above", and the values of craft.craft_type have no order`},
		{read + `input In { calls: Calls } input Calls { with: Call } input Call { purpose: Ops } input Ops { is: String }` + strings.ReplaceAll(craft, "Call", "PortCall"), ``},
		{read + `input In { calls: Calls } input Calls { some: In }` + craft, `and Calls.some is not with, without or only`},
		{read + `input In { inspections: Ins2 } input Ins2 { with: X } input X { outcome: Ops } input Ops { is: String }` + craft, `error not-supported In.inspections: the predicate In.inspections is about Craft.inspections, which is not in the same relational source`},
		{read + `input In { fittings: X } input X { parts: PartRelated }` + craft, `X.parts is about F.parts, which is a list inside a column of JSON`},
		{`type Query { craft(filter: [In!]): [Craft!]! @read } input In { name: Ops } input Ops { is: String }` + craft, `must be an input object that names fields to compare`},
		{`type Query { craft(sort: [S!]): [Craft!]! @read } input S @oneOf { fittings: Direction }` + craft, `the sort key S.fittings is no field of Craft`},
		{`type Query { craft(sort: [S!]): [Craft!]! @read } input S @oneOf { name: D } enum D { ASC DESC UP }` + craft, `does not say ascending or descending`},
		{`type Query { craft(sort: [S!]): [Craft!]! @read } input S @oneOf { operator: O } input O @oneOf { name: Direction }` + craft, ``},
		{`type Query { craft(sort: [S!]): [Craft!]! @read } input S @oneOf { calls: O } input O @oneOf { id: Direction }` + craft, `leads to Craft.calls, which is not one nested record or one related record`},
		{paged + `type Page { edges: [Edge!]! pageInfo: PageInfo! totalCount: Int! }` + craft, ``},
		{paged + `type Page { edges: [Edge!]! total: Int }` + craft, `error page Page.total: Page.total is no part of a connection`},
		{paged + `type Page { edges: [Edge!]! totalCount: String }` + craft, `Page.totalCount cannot be of the type String`},
		{paged + `type Page { edges: [Edge!]! pageInfo: I } type I { more: Boolean }` + craft, `I.more is no part of a connection`},
		{paged + `type Page { edges: [Edge!]! longest: Float @total(max: "lengthM") }` + craft, ``},
		{`type Query { craft: [Page!]! @read } type Edge { node: Craft! weight: Int } type Page { edges: [Edge!]! }` + craft, `Query.craft is a list of Page, and a connection is a list already`},
		{`type Query { craft: Page! @read } type Edge { node: Craft! weight: Int } type Page { edges: [Edge!]! }` + craft, `Edge.weight is no part of an edge`},
		{`type Query { e: Page! @read } type Edge { node: E! } type Page { edges: [Edge!]! } type E @stored(in: "tides", as: "events") { at: DateTime! }`, `Query.e is read in pages, and nothing tells the records of events apart`},
		{`type Query { craft: [Craft!]! @read n: Int! @total(of: "craft") }` + craft, ``},
		{`type Query { craft: [Craft!]! @read n: Int! @total(of: "crafts") }` + craft, `error total Query.n: Query.n is the total of "crafts", which is no list`},
		{`type Query { craft: [Craft!]! @read n: Float @total(of: "craft", max: "lenghtM") }` + craft, `is the total of "lenghtM", which is no field of Craft`},
		{`type Query { craft: [Craft!]! @read n: Float @total(of: "craft", max: "lengthM", min: "lengthM") }` + craft, `Query.n names several totals`},
		{`type Query { craft: [Craft!]! @read n: String @total(of: "craft", sum: "name") }` + craft, `Query.n is the sum of craft.name, which is text and has none`},
		{`type Query { craft: [Craft!]! @read n: Date @total(of: "craft", max: "lengthM") }` + craft, `Query.n is of the type Date, and the total is float; Float fits`},
		{`type Query { craft: [Craft!]! @read n: Float! @total(of: "craft", max: "lengthM") }` + craft, `Query.n is required, and the total of no values is null`},
		{`type Query { craft: [Craft!]! @read n: [Int] @total(of: "craft") }` + craft, `Query.n is one value and cannot be of the type [Int]`},
		{`type Query { craft(first: Int): [Craft!]! @read }` + craft, `nothing uses the argument "first" of Query.craft`},
		{`type Query { i: [Ins!]! @read } type Ins @stored(in: "inspections", as: "inspections", key: "_id") { outcome: String findings(filter: F, limit: Int, first: Int): [Fi!] } type Fi { code: String } input F { code: Ops } input Ops { is: String }`, `nothing uses the argument "first" of Ins.findings`},
	} {
		s, problems := binding.Build([]schema.Text{{Body: test.text}}, folds)
		if !problems.Failed() {
			_, more := binding.Bind(s, sources())
			problems = append(problems, more...)
		}
		got := describe(s, problems)
		named(t, problems)
		if test.want == "" && strings.Contains(got, "error") || !strings.Contains(got, test.want) {
			t.Errorf("%s\nreports %s\nwant %s", test.text, got, test.want)
		}
		remedies.Try(t, test.text, problems, offsetIn(s, test.text), problemsOf)
	}
	remedies.Applied(t, "name it", "leave the argument out", "declare the argument as")
}

// TestWarningsOfTypes checks what is said of values that cannot be answered as
// they are stored.
func TestWarningsOfTypes(t *testing.T) {
	all := sources()
	craft := all["registry"].Catalogue.Sets["craft"]
	craft.Field("imo").Wide = true
	craft.Field("name").AsText, craft.Field("name").Type = true, "inet"
	s, problems := binding.Build([]schema.Text{{Body: `type Query { c: [C!] @read } type C @stored(in: "registry", as: "craft") { imo: Int! big: Int64! @at(path: "imo") name: String! lengthM: Int! }`}}, nil)
	_, more := binding.Bind(s, all)
	got := describe(s, append(problems, more...))
	for _, want := range []string{
		"warning type-fits C.imo: C.imo is of the type Int, and craft.imo is int; a value beyond 32 bits is an error where it is read → make it Int64",
		"warning type-fits C.name: C.name is craft.name, whose type inet Osprey does not know; it is read as text",
		"warning type-fits C.lengthM: C.lengthM is of the type Int, and craft.length_m is float; a value with a fraction is an error",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("Bind reports %s\nwant %s", got, want)
		}
	}
	if strings.Contains(got, "C.big") || strings.Contains(got, "error type") {
		t.Errorf("Bind reports %s", got)
	}
}

// TestSupplied holds the types that are supplied for those that a schema refers
// to: for a relational source, with related records of its own; and with nested ones,
// if they are not lists in a column.
func TestSupplied(t *testing.T) {
	const text = `
	type Query { craft(filter: CraftFilter, sort: [CraftSort!], first: Int, after: String): CraftConnection! @read inspections(filter: InspectionFilter, sort: [InspectionSort!]): [Inspection!]! @read }
	type Craft @stored(in: "registry", as: "craft", key: "imo") { imo: ID! name: String! kind: Kind! tags: [String!] doc: JSON fittings: Fittings operator: Operator @related(here: "operator_id") calls: CallConnection! @related(there: "craft_imo") inspections: [Inspection!]! @related(here: "imo", there: "craft.imo") n: Int! @total(of: "calls") }
	type Call @stored(in: "registry", as: "port_calls", key: "id") { arrivedAt: DateTime! }
	type Operator @stored(in: "registry", as: "operators", key: "id") { name: String! }
	type Fittings { cranes: Int }
	type Inspection @stored(in: "inspections", as: "inspections", key: "_id") { outcome: String inspector: Inspector findings: [Finding!]! craft: Craft @related(here: "craft.imo", there: "imo") }
	type Inspector { name: String! } type Finding { code: String! } enum Kind { TUG }`
	s, problems := binding.Build([]schema.Text{{Body: text}}, folds)
	if problems.Failed() {
		t.Fatal(problems)
	}
	for name, want := range map[string]string{
		"CraftFilter":      "all any not imo name kind fittings operator calls",
		"CraftSort":        "imo name kind fittings operator",
		"OperatorSort":     "name",
		"CallRelated":      "with without only",
		"InspectionFilter": "all any not outcome inspector findings",
		"InspectionSort":   "outcome inspector",
		"FindingRelated":   "with without only",
		"FindingFilter":    "all any not code",
		"InspectorFilter":  "all any not name",
		"IDFilter":         "is isNot in notIn missing",
		"KindFilter":       "is isNot in notIn missing",
		"DateTimeFilter":   "is isNot in notIn above atLeast below atMost missing",
		"StringFilter":     "is isNot in notIn above atLeast below atMost contains startsWith endsWith missing",
	} {
		input, ok := s.Type(name).(*schema.InputObject)
		if !ok {
			t.Errorf("%s is not supplied", name)
			continue
		}
		if got := strings.Join(schema.InputNames(input.Fields), " "); got != want {
			t.Errorf("%s has %s, want %s", name, got, want)
		}
	}
	for name, want := range map[string]string{"CraftConnection": "edges pageInfo totalCount", "CallEdge": "cursor node", "PageInfo": "hasNextPage hasPreviousPage startCursor endCursor"} {
		if s.Type(name) == nil || strings.Join(schema.FieldNames(s.Type(name)), " ") != want {
			t.Errorf("%s is %v", name, s.Type(name))
		}
	}
	// One's own type of such a name is left alone, and a name that no type stands
	// behind is an error.
	s, problems = binding.Build([]schema.Text{{Body: `type Query { a(filter: AFilter, b: BFilter): [A] } type A { x: Int } input AFilter { y: Int }`}}, nil)
	if len(problems) != 1 || !strings.Contains(problems[0].Msg, `the type BFilter is not defined`) || len(s.Type("AFilter").(*schema.InputObject).Fields) != 1 {
		t.Errorf("Build reports %v", problems)
	}
}

// TestBoundFilter looks at what a filter is bound to.
func TestBoundFilter(t *testing.T) {
	s := harbour(t)
	bound, problems := binding.Bind(s, sources())
	if problems.Failed() {
		t.Fatal(problems)
	}
	fleet := bound.Root(s.Query.Field("fleet"))
	var filter *binding.Filter
	for _, a := range fleet.Args {
		if a.Role == binding.FilterBy {
			filter = a.Filter
		}
	}
	calls := filter.Tests["calls"]
	if calls.How != binding.Among || calls.Link.Set != "port_calls" || calls.Link.There[0] != "craft_imo" || calls.Filter.Tests["purpose"].Enum.Stored["LOADING"] != "load" {
		t.Errorf("calls is bound to %+v", calls)
	}
	if not := filter.Tests["not"]; not.How != binding.TestNot || not.Filter != filter {
		t.Errorf("not is bound to %+v", not)
	}
	if built := filter.Tests["builtOn"]; built.Path != "built_on" || built.Kind != store.Date || built.Day {
		t.Errorf("builtOn is bound to %+v", built)
	}
}
