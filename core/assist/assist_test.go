package assist_test

import (
	"strings"
	"testing"

	"osprey/core/assist"
	"osprey/core/language"
	"osprey/core/schema"
)

const port = `
type Query { "One craft." craft(imo: ID!, side: Side): Craft fleet(sort: [Sort!], filter: Filter): [Craft!]! }
interface Craft { name: String! operator: Operator! }
type Tanker implements Craft { name: String! operator: Operator! doubleHull(exact: Boolean): Boolean }
type Tug implements Craft { name: String! operator: Operator! }
"A company." type Operator { name: String! fleet: [Craft!]! }
enum Side { PORT STARBOARD }
input Sort @oneOf { name: Side length: Side }
input Filter { side: Side names: [String!] inner: Filter }
type Mutation { moor(imo: ID!): Craft }
`

// TestFirst makes an operation to begin with, that is sound, of schemas of several shapes.
func TestFirst(t *testing.T) {
	for types, want := range map[string]string{
		port: "query First {\n  fleet {\n    name\n    operator {\n      name\n    }\n  }\n}\n",
		"type Query { a(of: Int!): Int b: Int c: Int }":                                                                    "query First {\n  b\n}\n",
		"type Query { a: A list(limit: Int = 3, of: Int): [A!] } type A { b: B } type B { c: C id: ID } type C { id: ID }": "query First {\n  list(limit: 5) {\n    b {\n      id\n    }\n  }\n}\n",
		"type Query { a: A } type A { a: A b(c: Int!): Int }":                                                              "",
		"type Query { old: Int @deprecated u: [U] } union U = A | B type A { x: Int } type B { y: Int }":                   "query First {\n  u {\n    __typename\n  }\n}\n",
		"type Query { one: Int many: [A!]! } type A { a: Int b: Int c: Int d: Int e: Int f: Int }":                         "query First {\n  many {\n    a\n    b\n    c\n    d\n    e\n  }\n}\n",
	} {
		s, problems := schema.Build(schema.Text{Body: types})
		if problems.Failed() {
			t.Fatal(problems)
		}
		got := assist.First(s)
		if got != want {
			t.Errorf("of %.60s it is\n%s", types, got)
		}
		if found, _ := assist.Problems(t.Context(), s, language.NewSource("", got)); got != "" && len(found) > 0 {
			t.Errorf("of %.60s it is wrong: %v", types, found)
		}
	}
}

func testSchema(t testing.TB) *schema.Schema {
	t.Helper()
	s, problems := schema.Build(schema.Text{Body: port})
	if problems.Failed() {
		t.Fatal(problems)
	}
	return s
}

// TestComplete completes at the place of "|".
func TestComplete(t *testing.T) {
	s := testSchema(t)
	for _, test := range []struct{ text, want string }{
		{`|`, "query mutation subscription fragment"},
		{`{ | }`, "craft fleet __typename __schema __type"},
		{`{ cr|aft }`, "craft fleet __typename __schema __type"},
		{`mutation { | `, "moor __typename"},
		{`{ craft(imo: 1) { | `, "name operator __typename"},
		{`{ craft(imo: 1) { operator { fleet { ... on Tanker { | } } } } }`, "name operator doubleHull __typename"},
		{`{ x: | }`, "craft fleet __typename __schema __type"},
		{`{ craft(|) { name } }`, "imo side"},
		{`{ craft(imo: 1, |) { name } }`, "side"},
		{`{ craft(side: |) { name } }`, "PORT STARBOARD"},
		{`query ($s: Side, $n: [Int!]!) { craft(side: $|) { name } }`, "n s"},
		{`query ($s: Side) { craft(side: |) { name } }`, "PORT STARBOARD $s"},
		{`query ($s: |) { craft { name } }`, "Boolean Filter ID Side Sort String __DirectiveLocation __TypeKind"},
		{`{ fleet(sort: [{|}]) { name } }`, "name length"},
		{`{ fleet(sort: [{name: |}]) { name } }`, "PORT STARBOARD"},
		{`{ fleet(filter: {inner: {|`, "side names inner"},
		{`{ fleet(filter: {side: PORT, |`, "names inner"},
		{`{ fleet { ...| } } fragment A on Craft { name } fragment B on Operator { name }`, "on A"},
		{`{ fleet { ... on | { name } } }`, "Craft Tanker Tug"},
		{`fragment A on |`, "Craft Mutation Operator Query Tanker Tug __Directive __EnumValue __Field __InputValue __Schema __Type"},
		{`fragment A on Tug { |`, "name operator __typename"},
		{`{ craft(imo: 1) @| { name } }`, "include skip"},
		{`{ fleet { ... on Tanker { doubleHull(exact: |) } } }`, "true false"},
		{`{ fleet { name @include(|) } }`, "if"},
		{`{ craft(imo: "a|b") { name } }`, ""},
		{"{ # craft |\n }", ""},
		{`{ nothing { | `, ""},
		{`query A { craft(imo: 1) { name } } query B { | }`, "craft fleet __typename __schema __type"},
	} {
		offset := strings.IndexByte(test.text, '|')
		list, from := assist.Complete(s, strings.Replace(test.text, "|", "", 1), offset)
		var labels []string
		for _, c := range list {
			labels = append(labels, c.Label)
		}
		if got := strings.Join(labels, " "); got != test.want {
			t.Errorf("%s\ncompletes with %q, want %q", test.text, got, test.want)
		}
		if from > offset {
			t.Errorf("%s: the word begins at %d", test.text, from)
		}
	}
}

// TestHover looks at the word behind "|".
func TestHover(t *testing.T) {
	s := testSchema(t)
	for _, test := range []struct{ text, title, text2 string }{
		{`{ |craft(imo: 1) { name } }`, "Query.craft: Craft", "One craft."},
		{`{ craft(imo: 1) { |operator { name } } }`, "Craft.operator: Operator!", ""},
		{`{ craft(|imo: 1) { name } }`, "Query.craft(imo:): ID!", ""},
		{`{ craft(side: |PORT) { name } }`, "Side.PORT", ""},
		{`{ fleet { ... on |Tanker { name } } }`, "Tanker, an object type", ""},
		{`{ fleet { ...|A } } fragment A on Craft { name }`, "fragment A on Craft", ""},
		{`query ($n: [Side!]) { fleet(sort: $|n) { name } }`, "$n: [Side!]", ""},
		{`{ craft @|skip(if: true) { name } }`, "@skip", "Leaves the field or fragment out when the condition is true."},
		{`{ |nothing }`, "", ""},
		{`{ fleet(filter: {|side: PORT}) { name } }`, "Filter.side: Side", ""},
		{`{ alias: |fleet { name } }`, "Query.fleet: [Craft!]!", ""},
	} {
		m := assist.Hover(s, strings.Replace(test.text, "|", "", 1), strings.IndexByte(test.text, '|'))
		if m == nil {
			m = &assist.Meaning{}
		}
		if m.Title != test.title || m.Text != test.text2 {
			t.Errorf("%s\nmeans %q %q, want %q %q", test.text, m.Title, m.Text, test.title, test.text2)
		}
		if strings.HasPrefix(m.Title, "fragment") && m.Defined < 0 || strings.HasPrefix(m.Title, "Query.") && m.Coordinate == "" {
			t.Errorf("%s: it is not said where %s is defined", test.text, m.Title)
		}
	}
}

func TestProblems(t *testing.T) {
	s := testSchema(t)
	for text, want := range map[string]string{`{ craf }`: "did you mean \"craft\"?", `{ craft`: "expected \"}\"", `{ fleet { name } }`: ""} {
		problems, err := assist.Problems(t.Context(), s, language.NewSource("", text))
		if err != nil {
			t.Fatal(err)
		}
		got := problems.Error()
		if !strings.Contains(got, want) || want == "" && got != "" {
			t.Errorf("%s reports %q, want %q", text, got, want)
		}
	}
}

// FuzzComplete completes and hovers anywhere in anything.
func FuzzComplete(f *testing.F) {
	f.Add(`query ($s: Side) { fleet(sort: [{name: $s}], filter: {inner: {names: ["a"]}}) { ...A @skip(if: true) ... on Tug { name } } } fragment A on Craft { name }`, 20)
	f.Add(`{ a(b: [`, 8)
	s := testSchema(f)
	f.Fuzz(func(t *testing.T, text string, offset int) {
		if _, from := assist.Complete(s, text, offset); from < 0 || from > len(text) {
			t.Errorf("%q at %d begins at %d", text, offset, from)
		}
		assist.Hover(s, text, offset)
	})
}
