package compare_test

import (
	"strings"
	"testing"

	"osprey/core/compare"
	"osprey/core/language"
	"osprey/core/schema"
)

func build(t *testing.T, text string) *schema.Schema {
	t.Helper()
	s, problems := schema.Build(schema.Text{Name: "s", Body: text})
	if problems.Failed() {
		t.Fatal(text, problems)
	}
	return s
}

const before = `type Query { craft(imo: ID!, deep: Boolean = false, kinds: [Kind!]): Craft crafts(filter: Filter): [Craft!] any: Any }
type Mutation { add(craft: CraftAdd!): Craft }
interface Craft { imo: ID! name: String! }
type Ferry implements Craft { imo: ID! name: String! cars: Int }
type Tug implements Craft { imo: ID! name: String! }
type Notice { title: String! }
union Any = Ferry | Notice
enum Kind { FERRY TUG }
input Filter { name: String kind: Kind }
input CraftAdd { imo: ID! name: String! kind: Kind = TUG }
directive @urgent(level: Int = 1) on QUERY
type Where @stored(in: "a") { id: ID }
directive @stored(in: String) on OBJECT
directive @for(roles: [String!], when: String) repeatable on OBJECT | INTERFACE | FIELD_DEFINITION | ARGUMENT_DEFINITION | ENUM_VALUE`

// TestSchemas changes a schema in one place each, and holds what is told of it.
func TestSchemas(t *testing.T) {
	for _, test := range []struct{ from, to, want string }{
		{"", "", ""},
		{"cars: Int }", "}", "breaking Ferry.cars is gone"},
		{"cars: Int }", `cars: Int @for(roles: ["clerk", "pilot"]) }`, `risky Ferry.cars is for "clerk", "pilot" now, and was for everybody`},
		{"type Notice {", `type Notice @for(roles: ["clerk"]) @for(roles: ["pilot"], when: "record.title == caller.id") {`, `risky Notice is for "clerk", or "pilot" and those of whom it is true that record.title == caller.id now, and was for everybody`},
		{"enum Kind { FERRY", `enum Kind { FERRY @for(roles: [])`, "risky Kind.FERRY is for nobody now, and was for everybody"},
		{"cars: Int }", "cars: Int deck: Int }", "safe Ferry.deck is new"},
		{"cars: Int }", "cars: Int! }", "safe Ferry.cars is Int! now, and was Int"},
		{"cars: Int }", "cars: Float }", "breaking Ferry.cars is Float now, and was Int"},
		{"cars: Int }", "cars(deck: Int): Int }", "safe Ferry.cars(deck:) is new"},
		{"cars: Int }", "cars(deck: Int!): Int }", "breaking Ferry.cars(deck:) is new, and must be given"},
		{"cars: Int }", `cars: Int @deprecated(reason: "ask for decks") }`, "safe Ferry.cars is deprecated"},
		{"title: String!", "title: String", "breaking Notice.title is String now, and was String!"},
		{"crafts(filter: Filter): [Craft!]", "crafts(filter: Filter): [Craft]", "breaking Query.crafts is [Craft] now, and was [Craft!]"},
		{"crafts(filter: Filter): [Craft!]", "crafts(filter: Filter): [Ferry!]!", "safe Query.crafts is [Ferry!]! now, and was [Craft!]"},
		{"imo: ID!, deep", "imo: ID, deep", "safe Query.craft(imo:) takes ID now, and took ID!"},
		{"imo: ID!, deep", "deep", "breaking Query.craft(imo:) is gone"},
		{"deep: Boolean = false", "deep: Boolean = true", "risky Query.craft(deep:) is true where it is left out, and was false"},
		{"deep: Boolean = false", "deep: Boolean!", "breaking Query.craft(deep:) takes Boolean! now, and took Boolean; risky Query.craft(deep:) is nothing where it is left out, and was false"},
		{"kinds: [Kind!]", "kinds: [Kind]", "safe Query.craft(kinds:) takes [Kind] now, and took [Kind!]"},
		{"kinds: [Kind!]", "kinds: Kind", "breaking Query.craft(kinds:) takes Kind now, and took [Kind!]"},
		{"name: String kind: Kind }", "name: [String] kind: Kind }", "safe Filter.name takes [String] now, and took String"},
		{"name: String kind: Kind }", "kind: Kind }", "breaking Filter.name is gone"},
		{"name: String kind: Kind }", "name: String kind: Kind flag: ID! }", "breaking Filter.flag is new, and must be given"},
		{"kind: Kind = TUG", "kind: Kind! = TUG", "breaking CraftAdd.kind takes Kind! now, and took Kind"},
		{"FERRY TUG }", "FERRY }", "breaking CraftAdd.kind is"},
		{"enum Kind { FERRY TUG }", "enum Kind { FERRY TUG TANKER }", "risky Kind.TANKER is new, and can be answered"},
		{"Any = Ferry | Notice", "Any = Ferry", "breaking Any has Notice no more"},
		{"Any = Ferry | Notice", "Any = Ferry | Notice | Tug", "risky Any can be Tug now"},
		{"type Tug implements Craft", "type Tug", "breaking Tug implements Craft no more"},
		{"type Notice {", "type Pilot implements Craft { imo: ID! name: String! } type Notice {", "safe Pilot is new"},
		{"type Notice {", "interface Named { title: String! } type Notice implements Named {", "safe Named is new; safe Notice implements Named"},
		{"input Filter {", "input Filter @oneOf {", "breaking Filter takes just one of its fields now"},
		{"type Mutation { add(craft: CraftAdd!): Craft }", "", "breaking Mutation is gone; breaking mutation can be asked no more"},
		{"type Notice { title: String! }", "interface Notice { title: String! } type Own implements Notice { title: String! }", "breaking Notice is an interface now, and was an object"},
		{"(level: Int = 1)", "", "breaking @urgent(level:) is gone"},
		{"directive @urgent(level: Int = 1) on QUERY", "", "breaking @urgent is gone"},
	} {
		after := strings.Replace(before, test.from, test.to, 1)
		if test.from == "FERRY TUG }" { // with a default that is none any more, no schema is sound
			after = strings.Replace(after, "kind: Kind = TUG", "kind: Kind = FERRY", 1)
		}
		if strings.HasPrefix(test.to, "interface Notice") {
			after = strings.Replace(after, "Any = Ferry | Notice", "Any = Ferry | Own", 1)
		}
		var told []string
		for _, d := range compare.Schemas(build(t, before), build(t, after)) {
			told = append(told, d.Class.String()+" "+d.String())
		}
		got := strings.Join(told, "; ")
		switch {
		case test.from == "FERRY TUG }":
			if !strings.Contains(got, "breaking Kind.TUG is gone") {
				t.Errorf("%s is told as %s", test.to, got)
			}
		case strings.HasPrefix(test.to, "interface Notice"):
			if !strings.Contains(got, test.want) {
				t.Errorf("%s is told as %s", test.to, got)
			}
		case got != test.want:
			t.Errorf("%q for %q is told as\n%s\nwant\n%s", test.to, test.from, got, test.want)
		}
	}
}

// TestUsed holds which differences concern which operations.
func TestUsed(t *testing.T) {
	s := build(t, before)
	for _, test := range []struct {
		operation, coordinate, what string
		want                        bool
	}{
		{`{ craft(imo: 1) { name } }`, "Craft.name", "is gone", true},
		{`{ craft(imo: 1) { name } }`, "Ferry.cars", "is gone", false},
		{`{ craft(imo: 1) { ... on Ferry { cars } } }`, "Ferry.cars", "is gone", true},
		{`{ craft(imo: 1) { ...f } } fragment f on Ferry { cars }`, "Ferry.cars", "is gone", true},
		{`{ craft(imo: 1) { name } }`, "Query.craft(imo:)", "is gone", true},
		{`{ craft(imo: 1) { name } }`, "Query.craft(deep:)", "is gone", false},
		{`{ craft(imo: 1) { name } }`, "Query.craft(flag:)", "is new, and must be given", true},
		{`{ crafts { name } }`, "Query.craft(flag:)", "is new, and must be given", false},
		{`{ crafts(filter: {kind: TUG}) { name } }`, "Filter.kind", "is gone", true},
		{`{ crafts(filter: {kind: TUG}) { name } }`, "Filter.name", "is gone", false},
		{`{ crafts(filter: {kind: TUG}) { name } }`, "Kind.TUG", "is gone", true},
		{`{ crafts(filter: {kind: TUG}) { name } }`, "Kind.FERRY", "is gone", false},
		{`query ($f: Filter) { crafts(filter: $f) { name } }`, "Filter.name", "is gone", true},
		{`query ($f: Filter) { crafts(filter: $f) { name } }`, "Kind.FERRY", "is gone", true},
		{`query A { crafts(filter: {name: "a"}) { name } } query B($f: Filter) { crafts(filter: $f) { name } }`, "Kind.FERRY", "is gone", true},
		{`{ any { ... on Notice { title } } }`, "Any", "can be Tug now", true},
		{`{ craft(imo: 1) { name } }`, "mutation", "can be asked no more", false},
	} {
		doc, problems := language.Parse(language.NewSource("", test.operation))
		if problems.Failed() {
			t.Fatal(problems)
		}
		used := compare.NewUsed(s)
		used.Add(doc)
		if got := used.Concerns(compare.Difference{Coordinate: test.coordinate, What: test.what}); got != test.want {
			t.Errorf("%s: that %s %s concerns it: %t", test.operation, test.coordinate, test.what, got)
		}
	}
}
