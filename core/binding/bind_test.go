package binding_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/language/languagetest"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
)

func sources() map[string]*binding.Source {
	sampled := storetest.Catalogue(storetest.InspectionsCatalogue)
	for _, set := range sampled.Sets {
		set.Sampled, set.What = true, "collection"
	}
	tides := storetest.Catalogue(storetest.TidesCatalogue)
	for _, set := range tides.Sets {
		set.What = "resource"
	}
	notices := storetest.Catalogue(storetest.NoticesCatalogue)
	for _, set := range notices.Sets {
		set.What = "resource"
	}
	return map[string]*binding.Source{
		"fees":    {Name: "fees", Kind: "functions", Naming: binding.Exact, Capabilities: store.Capabilities{CanCall: storetest.AnyFunction}},
		"notices": {Name: "notices", Kind: "rest", Naming: binding.Exact, Catalogue: notices},
		"registry": {Name: "registry", Kind: "postgres", Naming: binding.Snake, Catalogue: storetest.Catalogue(storetest.RegistryCatalogue), Tells: map[string][]string{"port_calls": {"id"}, "dues": {"id"}},
			Capabilities: store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey, Write: storetest.Writable()}},
		"inspections": {Name: "inspections", Kind: "mongodb", Naming: binding.Camel, Catalogue: sampled, Capabilities: store.Capabilities{Write: storetest.Documents()}},
		"tides":       {Name: "tides", Kind: "rest", Naming: binding.Exact, Catalogue: tides, Capabilities: store.Capabilities{CanRead: oneAtATime, Write: storetest.Documents()}},
	}
}

// oneAtATime takes many stations, and one contact.
func oneAtATime(set string, keys, where []string) (bool, error) {
	return set != "contacts", nil
}

func TestHarbourBinds(t *testing.T) {
	s := harbour(t)
	_, problems := binding.Bind(s, sources())
	var got []string
	for _, p := range problems {
		got = append(got, p.Severity.String()+" "+p.Rule+" "+p.Coordinate)
	}
	if want := "warning one-key TideStation.contact\nwarning apart Arrival.manifest"; strings.Join(got, "\n") != want {
		t.Errorf("Bind reports\n%s\nwant %s", problems, want)
	}
}

// TestFindings holds what is checked before anything is served: each case is a
// schema and the finding it must bring.
func TestFindings(t *testing.T) {
	const call = ` type PortCall @stored(in: "registry", as: "port_calls", key: "id") { id: ID! }`
	const craft = ` type Craft @stored(in: "registry", as: "craft", key: "imo") { imo: ID! name: String! }`
	var remedies languagetest.Remedies
	for _, test := range []struct{ text, want string }{
		{`type Query { a: A @read } type A @stored(in: "regstry") { b: Int }`,
			`1:34 error source A: A is stored in "regstry", which is no source; did you mean "registry"?`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "crafts") { b: Int }`,
			`error source A: the record set of A is "crafts", which the source registry does not have; did you mean "craft"?`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { nam: String }`,
			`1:76 error column A.nam: the column of A.nam is "nam", which the table craft in registry does not have; did you mean "name"?`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { x: String @at(path: "lenght_m") }`,
			`error column A.x: the column of A.x is "lenght_m", which the table craft in registry does not have; did you mean "length_m"?`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft", key: "number") { name: String }`,
			`error column A: the key of A is "number"`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { name: Int }`,
			`error type-fits A.name: A.name is of the type Int, and craft.name is text; String fits`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { builtOn: Int }`, `Date fits`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { name: [String!] }`,
			`error type-fits A.name: A.name is a list, and craft.name holds one value`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { draughtDm: Int! }`,
			`error nullable A.draughtDm: A.draughtDm is required, and craft.draught_dm in registry may be NULL`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { craftType: T! } enum T { CARGO TANKER FERRY TUGS }`,
			`error column T.TUGS: the value T.TUGS is stored as "TUGS", which craft.craft_type in registry never is`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { craftType: T! } enum T { CARGO TANKER FERRY }`,
			`warning column T: the enum T has no value for "tug", which craft.craft_type in registry has`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { craftType: T! } enum T { CARGO TANKER FERRY TUG X @at(path: "tug") }`,
			`are both stored as "tug"`},
		{`type Query { craft: Craft @read }` + craft,
			`error unique Query.craft: Query.craft promises one Craft, and its arguments do not name a unique key of craft`},
		{`type Query { craft(name: String!): Craft @read }` + craft, `error unique Query.craft`},
		{`type Query { craft(imo: ID): Craft @read }` + craft, `error unique Query.craft`},
		{`type Query { a: [Craft!] @read(x: 1) }` + craft, `@read has no argument "x"`},
		{`type Query { crafts(imos: [ID!]): [Craft!] @read }` + craft,
			`error argument Query.crafts(imos:): nothing uses the argument "imos" of Query.crafts: it is no field of Craft; did you mean "imo"?`},
		{`type Query { crafts(limit: String): [Craft!] @read }` + craft, `nothing uses the argument "limit"`},
		{`type Query { crafts(where: In): [Craft!] @read } input In { a: Int }` + craft, `nothing uses the argument "where"`},
		{`type Query { crafts(sort: [In!]): [Craft!] @read } input In { name: D } enum D { ASC DESC }` + craft, `must be a list of a one-of input object`},
		{`type Query { crafts(sort: [In!]): [Craft!] @read } input In @oneOf { nme: D } enum D { ASC DESC }` + craft, `the sort key In.nme is no field of Craft`},
		{`type Query { crafts(sort: [In!]): [Craft!] @read } input In @oneOf { name: Int }` + craft, `which does not say ascending or descending`},
		{`type Query { crafts: [Craft!] }` + craft, `error unbound Query.crafts: nothing says where Query.crafts comes from`},
		{`type Query { crafts: [Other!] @read } type Other { a: Int }`, `nothing says where its records are`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "port_calls") { craft: Craft }` + craft,
			`error unbound A.craft: nothing says which Craft belong to A.craft`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "port_calls") { craft: Craft @related }` + craft, ``},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "port_calls") { craft: Craft @related(here: "craft_nr") }` + craft,
			`error column A.craft: what A.craft relates here is "craft_nr", which the table port_calls in registry does not have`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "port_calls") { craft: Craft @related(here: ["craft_imo", "id"]) }` + craft,
			`error relationship A.craft: A.craft relates 2 fields here (port_calls.craft_imo, port_calls.id) to 1 fields there (craft.imo)`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft", key: "imo") { call: PortCall @related(here: "imo", there: "craft_imo") }` + call,
			`error unique A.call: A.call promises one PortCall, and craft_imo of port_calls is not unique`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "port_calls") { berth: Berth! @related(here: ["quay_code", "berth_number"]) } type Berth @stored(in: "registry", as: "berths") { name: String! }`,
			`error nullable A.berth: A.berth is required, and port_calls.quay_code, which it follows, may be NULL`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "pilots", key: "id") { x: [PortCall!]! @related(here: "name", there: "cargo_t") }` + call,
			`warning index A.x: A.x is looked up in port_calls by cargo_t, with which no index begins`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "port_calls", key: "id") { p: [P!]! @related(through: {set: "pilotag", here: "call_id", there: "pilot_id"}) } type P @stored(in: "registry", as: "pilots") { name: String! }`,
			`the join table of A.p is "pilotag", which the source registry does not have; did you mean "pilotage" or "pilots"?`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "port_calls", key: "id") { p: P @related(through: {set: "pilotage", here: "call_id", there: "pilot_id"}) } type P @stored(in: "registry", as: "pilots") { name: String! }`,
			`A.p goes through pairs, so there can be several P`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft", key: "imo") { i: [I!]! @related(through: {set: "x", here: "a", there: "b"}) } type I @stored(in: "inspections", as: "inspections") { outcome: String }`,
			`follows pairs only inside one relational source`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft", key: "imo") { c: [PortCall!]! @related(there: "craft_imo", sort: "arived desc") }` + call,
			`A.c is sorted by "arived"`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft", key: "imo") { c: [PortCall!]! @related(there: "craft_imo", sort: "id down") }` + call,
			`A.c is sorted by "id down", which is not a field with asc or desc`},
		{`type Query { a: [I!] @read } interface I @stored(in: "registry", as: "craft") { name: String! } type A implements I { name: String! }`,
			`error kind I: I is stored in one record set, and nothing says which record is of which type (A)`},
		{`type Query { a: [I!] @read } interface I @stored(in: "registry", as: "craft") @kind(by: "craft_type") { name: String! } type A implements I @kind(is: "tanke") { name: String! }`,
			`A is told by the value "tanke", which craft.craft_type never has; did you mean "tanker"?`},
		{`type Query { a: [I!] @read } interface I @stored(in: "registry", as: "craft") @kind(by: "craft_type") { name: String! } type A implements I @kind(is: "tug") { name: String! }`,
			`I has no type for the records of craft whose craft_type is "cargo"; they will be errors where they are read`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { name(upper: Boolean): String! }`,
			`nothing uses the argument "upper" of A.name`},
		{`type Query { a: [A!] @read } type A @stored(in: "inspections", as: "inspections") { heldAt: Date }`,
			`warning column A.heldAt: the column of A.heldAt is "heldAt", which none of the sampled records of inspections in inspections has`},
		{`type Query { a: [A!] @read } type A @stored(in: "registry", as: "craft") { name: B } type B { x: Int }`,
			`craft.name is text, which has no fields`},
		{`type Query { a: [A!] @read } type Mutation { b: Int } type A @stored(in: "registry", as: "craft") { name: String }`,
			`error unbound Mutation.b: nothing says where Mutation.b comes from`},
		{`type Query { a: [A!] @read } union A = B type B { x: Int }`, `Query.a is of the type B, and nothing says where its records are → add @stored to B, or leave it out of A`},
	} {
		s, problems := schema.Build(binding.Directives, schema.Text{Body: test.text})
		if !problems.Failed() {
			_, more := binding.Bind(s, sources())
			problems = append(problems, more...)
		}
		got := describe(s, problems)
		named(t, problems)
		if !strings.Contains(got, test.want) || test.want == "" && got != "" {
			t.Errorf("%s\nreports\n%swant\n%s", test.text, got, test.want)
		}
		remedies.Try(t, test.text, problems, offsetIn(s, test.text), problemsOf)
	}
	remedies.Applied(t, "name it", "make it T", "make it a list", "leave the argument out")
}

// problemsOf returns what is wrong with a schema, held against the harbour's stores.
func problemsOf(text string) language.Problems {
	s, problems := binding.Build([]schema.Text{{Body: text}}, nil)
	if !problems.Failed() {
		_, more := binding.Bind(s, sources())
		problems = append(problems, more...)
	}
	return problems
}

// offsetIn finds places in a text of a schema.
func offsetIn(s *schema.Schema, text string) func(language.Pos) int {
	return func(pos language.Pos) int {
		src := s.Source(pos)
		if src == nil || src.Text != text {
			return -1
		}
		return src.Offset(pos)
	}
}

// named fails where a finding does not say by the schema's names what it is about.
func named(t *testing.T, problems language.Problems) {
	t.Helper()
	for _, p := range problems {
		if name, _, _ := strings.Cut(p.Coordinate, "("); p.Rule != "" && !strings.Contains(p.Msg, name) {
			t.Errorf("the finding about %s does not name it: %s", p.Coordinate, p.Msg)
		}
	}
}

func describe(s *schema.Schema, problems language.Problems) string {
	var b strings.Builder
	for _, p := range problems {
		b.WriteString(s.Position(p.Pos).String() + " " + p.Severity.String() + " " + p.Rule + " " + p.Coordinate + ": " + p.Msg + " → " + p.Fix + "\n")
	}
	return b.String()
}

// TestUnknownCatalogue binds a schema whose store has not answered: nothing is
// told that only the catalogue could tell.
func TestUnknownCatalogue(t *testing.T) {
	all := sources()
	for _, s := range all {
		s.Catalogue, s.Capabilities.CanRead = nil, nil
	}
	_, problems := binding.Bind(harbour(t), all)
	if problems.Failed() {
		t.Errorf("Bind reports %q", problems)
	}
}

func TestNaming(t *testing.T) {
	for name, want := range map[string]string{
		"lengthM": "length_m", "imo": "imo", "IMONumber": "imo_number", "heldOn": "held_on", "a1B": "a1_b", "already_snake": "already_snake", "URL": "url",
	} {
		if got := binding.Snake.Apply(name); got != want {
			t.Errorf("Snake.Apply(%q) = %q, want %q", name, got, want)
		}
	}
}

// harbour builds the demo's schema.
func harbour(t *testing.T) *schema.Schema {
	t.Helper()
	s, problems := binding.Build(storetest.HarbourTexts(t, "../.."), func(source string) bool { return source == "registry" })
	if problems.Failed() {
		t.Fatal(problems)
	}
	return s
}
