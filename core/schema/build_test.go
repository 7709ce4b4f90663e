package schema

import (
	"fmt"
	"strings"
	"testing"

	"osprey/core/language"
	"osprey/core/language/languagetest"
)

// build builds a schema of one text and returns its problems, a line each, as
// "line:column rule: message".
func build(t *testing.T, text string) (*Schema, []string) {
	t.Helper()
	s, problems := Build(Text{Name: "", Body: text})
	var lines []string
	for _, p := range problems {
		lines = append(lines, s.Position(p.Pos).String()+" "+p.Rule+": "+p.Msg)
	}
	return s, lines
}

const port = `
type Query { craft(imo: ID!): Craft quays: [Quay!]! }
interface Named { name: String! }
interface Craft implements Named { name: String! lengthM: Float! }
type Tanker implements Craft & Named { name: String! lengthM: Float! doubleHull: Boolean }
type Tug implements Named & Craft { name: String! lengthM: Float! tow: Craft }
type Quay implements Named { name: String! berths(min: Int = 1): [Berth!]! }
type Berth { number: Int! quay: Quay! }
union Thing = Tanker | Berth
enum Side { PORT STARBOARD }
input Filter { side: Side = PORT lengthM: Float names: [String!] }
`

func TestBuildSound(t *testing.T) {
	s, problems := build(t, port)
	if len(problems) > 0 {
		t.Fatalf("Build reports %q", problems)
	}
	craft := s.Type("Craft")
	if got := len(s.Possible(craft)); got != 2 {
		t.Errorf("Craft has %d possible types, want 2", got)
	}
	if !s.Overlap(craft, s.Type("Thing")) || s.Overlap(s.Type("Quay"), s.Type("Thing")) {
		t.Errorf("Overlap(Craft, Thing) and not Overlap(Quay, Thing) expected")
	}
}

// TestBuildAnyOrder builds the same schema of texts in two orders.
func TestBuildAnyOrder(t *testing.T) {
	parts := strings.SplitAfter(strings.TrimSpace(port), "\n")
	var texts []Text
	for i := range parts {
		texts = append(texts, Text{Name: "later", Body: parts[len(parts)-1-i]})
	}
	s, problems := Build(append(texts, Text{Body: "extend type Berth { lengthM: Float } extend union Thing = Tug extend enum Side { BOTH }"})...)
	if problems.Failed() {
		t.Fatalf("Build reports %q", problems)
	}
	for _, want := range []string{"lengthM: Float\n", "union Thing = Tanker | Berth | Tug", "BOTH"} {
		if !strings.Contains(s.Print(), want) {
			t.Errorf("the schema lacks %q:\n%s", want, s.Print())
		}
	}
}

func TestBuildFaults(t *testing.T) {
	const query = "type Query { a: Int }\n"
	var remedies languagetest.Remedies
	for _, test := range []struct{ text, want string }{
		{`type A { a: Int }`, `Root Operation Types: the schema has no type Query`},
		{query + `type A { b: Strng }`, `2:13 Known Type Names: the type Strng is not defined; did you mean "String"?`},
		{query + `type A { b: Int } type A { c: Int }`, `2:24 Unique Type Names: the type A is defined already`},
		{query + `type A { b: Int b: Int }`, `2:17 Unique Member Names: A has a field "b" already`},
		{query + `type A { b(x: Int x: Int): Int }`, `2:19 Unique Member Names: A.b(x:) is declared already`},
		{query + `enum E { A A }`, `Unique Member Names: the enum E has a value A already`},
		{query + `input I { a: Int a: Int }`, `Unique Member Names: I.a is declared already`},
		{query + `extend type B { c: Int }`, `2:13 Possible Type Extensions: the type B is extended and not defined`},
		{query + `type A { b: Int } extend union A = Query`, `A is an object type and cannot be extended as a union`},
		{query + `type __A { b: Int }`, `the name of the type __A begins with two underscores`},
		{query + `type A { __b: Int }`, `the name of the field A.__b begins with two underscores`},
		{query + `type A`, `Type Validation: A has no fields`},
		{query + `union U`, `the union U has no types`},
		{query + `enum E`, `the enum E has no values`},
		{query + `input I`, `the input object I has no fields`},
		{query + `union U = Int`, `the union U can hold object types only; Int is a scalar`},
		{query + `union U = Query | Query`, `the union U holds Query already`},
		{query + `input I { a: Int } type A { b: I }`, `the field A.b cannot have the type I`},
		{query + `type A { b(x: Query): Int }`, `the argument A.b(x:) cannot have the type Query`},
		{query + `interface I { a: Int! b(x: Int): Int } type A implements I { a: Int }`, `A.a has the type Int; the interface I promises Int!`},
		{query + `interface I { a: Int! b(x: Int): Int } type A implements I { a: Int! }`, `A implements I and lacks its field "b"`},
		{query + `interface I { b(x: Int): Int } type A implements I { b: Int }`, `A.b lacks the argument "x"`},
		{query + `interface I { b(x: Int): Int } type A implements I { b(x: Int!): Int }`, `A.b(x:) has the type Int!; the interface I promises Int`},
		{query + `interface I { b: Int } type A implements I { b(x: Int!): Int }`, `the argument A.b(x:) is required, and the interface I does not have it`},
		{query + `interface I { a: Int } interface J implements I { a: Int } type A implements J { a: Int }`, `so it must say that it implements I too`},
		{query + `interface I implements I { a: Int }`, `the interface I cannot implement itself`},
		{query + `interface I implements J { a: Int } interface J implements I { a: Int }`, `implement each other`},
		{query + `type A implements Query { a: Int }`, `A cannot implement Query, which is an object type`},
		{query + `input I { a: I! }`, `the input object I requires itself`},
		{query + `input I { a: J! } input J { b: I! }`, `requires itself, so it can never be given`},
		{query + `input I @oneOf { a: Int! }`, `cannot be required: exactly one field is given`},
		{query + `input I @oneOf { a: Int = 1 }`, `cannot have a default: exactly one field is given`},
		{query + `input I { a: J = {} } input J { b: I = {} }`, `Input Object Type Validation: the default of I.a needs itself, so it never ends: I.a → J.b → I.a`},
		{query + `type A { b(x: Int = $v): Int }`, `syntax: a variable cannot stand here; expected a constant value`},
		{query + `type A @deprecated(reason: $v) { b: Int }`, `syntax: a variable cannot stand here`},
		{query + `input I { a: Int = "x" }`, `the default of I.a does not fit its type: expected a whole number, found "x"`},
		{query + `type A { b(x: Int! @deprecated): Int }`, `the argument A.b(x:) is required and cannot be deprecated`},
		{query + `type A { b: Int @nope }`, `Directives Are Defined: A.b: the directive @nope is not defined`},
		{query + `type A @deprecated { b: Int }`, `@deprecated cannot stand on OBJECT`},
		{query + `type A { b: Int @deprecated @deprecated }`, `@deprecated stands here twice`},
		{query + `type A { b: Int @deprecated(why: "x") }`, `@deprecated has no argument "why"`},
		{query + `scalar S @specifiedBy`, `@specifiedBy needs the argument "url" of the type String!`},
		{query + `directive @d(x: Int @d) on ARGUMENT_DEFINITION`, `the directive @d cannot be used in its own definition`},
		{query + `directive @d on FELD`, `syntax: a directive cannot stand on "FELD"; did you mean "FIELD"?`},
		{query + `schema { query: Query } schema { query: Query }`, `the schema is defined already`},
		{query + `schema { query: Int }`, `the root type for query must be an object type; Int is a scalar`},
		{query + `schema { query: Query mutation: Query }`, `cannot be the root type for both`},
		{query + `query { a }`, `a schema holds definitions of types`},
		{query + `type A { b: }`, `2:13 syntax: expected a type, found "}"`},
	} {
		_, problems := build(t, test.text)
		if len(problems) == 0 || !strings.Contains(strings.Join(problems, "\n"), test.want) {
			t.Errorf("Build(%q) reports %q, want %q", test.text, problems, test.want)
		}
		s, found := Build(Text{Body: test.text})
		remedies.Try(t, test.text, found, offsetIn(s, test.text), func(text string) language.Problems {
			_, problems := Build(Text{Body: text})
			return problems
		})
	}
	remedies.Applied(t, "name it", "make it optional", "extend", "extend the schema", "add an interface", "add a field", "add a root type", "add braces")
}

// offsetIn finds places in a text of a schema.
func offsetIn(s *Schema, text string) func(language.Pos) int {
	return func(pos language.Pos) int {
		src := s.Source(pos)
		if src == nil || src.Text != text {
			return 0
		}
		return src.Offset(pos)
	}
}

// TestDocuments checks the annotated schemas of testdata.
func TestDocuments(t *testing.T) {
	languagetest.Check(t, "testdata/harbour.graphql", func(text string) (language.Problems, func(language.Pos) language.Position) {
		s, problems := Build(Text{Body: text})
		return problems, s.Position
	})
}

// TestUnknownTypeIsToldOnce checks that one wrong name is one problem.
func TestUnknownTypeIsToldOnce(t *testing.T) {
	_, problems := build(t, `type Query { a: Crafft b: [Crafft!] } interface I { x: Crafft } type A implements I { x: Crafft }`)
	if len(problems) != 1 {
		t.Errorf("Build reports %q, want one problem", problems)
	}
}

// TestAllowed has schemas that look wrong and are not.
func TestAllowed(t *testing.T) {
	for _, text := range []string{
		`type Query { a: Int @d } directive @d on | FIELD_DEFINITION directive @e(x: [[Int!]] = [[1], 2]) repeatable on QUERY`,
		`type Query { a: Int } directive @skip(if: Boolean!) on FIELD | FRAGMENT_SPREAD | INLINE_FRAGMENT directive @deprecated(reason: String! = "No longer supported") on FIELD_DEFINITION | ARGUMENT_DEFINITION | INPUT_FIELD_DEFINITION | ENUM_VALUE`,
		`schema { query: Q } type Q { a: Int } type Mutation { a: Int }`,
		`type Query { a: Int } input I { a: I b: [I!]! = [] c: J = {d: {a: null, c: null}} } input J { d: I }`,
		`type Query { query: Int type: Int on: Int } enum E { type input }`,
		`type Query { a: I } interface I { a: Int } interface J implements I { a: Int! } type A implements I & J { a: Int! b(x: Int! = 1): Int }`,
		`type Query { a: U } union U = A type A { a: [[Int!]!]! }`,
	} {
		if _, problems := build(t, text); len(problems) > 0 {
			t.Errorf("Build(%q) reports %q", text, problems)
		}
	}
}

func TestStandardScalarsAreSuppliedOnUse(t *testing.T) {
	s, problems := build(t, `type Query { at: DateTime }`)
	if len(problems) > 0 {
		t.Fatalf("Build reports %q", problems)
	}
	if !strings.Contains(s.Print(), `scalar DateTime @specifiedBy(url: "https://www.rfc-editor.org/rfc/rfc3339")`) {
		t.Errorf("DateTime is not printed:\n%s", s.Print())
	}
	if s.Type("Decimal") != nil {
		t.Errorf("Decimal is supplied and nobody uses it")
	}
}

// TestPrintParsesBack checks that a printed schema builds and prints the same.
func TestPrintParsesBack(t *testing.T) {
	const text = port + `
"""
Several
  lines
"""
type Extra { "one" a("arg" x: [Int!] = [1, 2] @deprecated(reason: "old")): Int @deprecated b: Url }
scalar Url @specifiedBy(url: "https://example.org")
input One @oneOf { a: Int b: String }
extend schema { subscription: Feed }
type Feed { a: Int }
`
	first, problems := build(t, text)
	if len(problems) > 0 {
		t.Fatalf("Build reports %q", problems)
	}
	again, problems := build(t, first.Print())
	if len(problems) > 0 {
		t.Fatalf("the printed schema reports %q:\n%s", problems, first.Print())
	}
	if again.Print() != first.Print() {
		t.Errorf("printed twice:\n%s\n%s", first.Print(), again.Print())
	}
}

// TestUnusedScalarsAreNotShown checks what introspection lists.
func TestUnusedScalarsAreNotShown(t *testing.T) {
	s, _ := build(t, `type Query { a(x: Int): String }`)
	shown := strings.Join(s.TypeNames(func(t Named) bool { return !strings.HasPrefix(t.String(), "__") }), " ")
	if shown != "Boolean Int Query String" || s.Type("Float") == nil || s.Visible("Float") != nil {
		t.Errorf("the types are %s", shown)
	}
}

func TestHiddenDefinitionsStayHidden(t *testing.T) {
	s, problems := Build(Text{Body: `directive @secret on FIELD_DEFINITION`, Hidden: true}, Text{Body: `type Query { a: Int @secret }`})
	if problems.Failed() {
		t.Fatalf("Build reports %q", problems)
	}
	for _, d := range s.DirectiveList() {
		if d.Name == "secret" {
			t.Errorf("@secret is shown to clients")
		}
	}
	if strings.Contains(s.Print(), "secret") {
		t.Errorf("@secret is printed:\n%s", s.Print())
	}
}

// TestGuesses says what a name may mean where few mean nothing, and not where nothing fits at all:
// to compare thousands of names with thousands takes minutes.
func TestGuesses(t *testing.T) {
	for _, test := range []struct {
		unknown int
		guessed bool
	}{{1, true}, {50, true}, {51, false}, {20_000, false}} {
		var text strings.Builder
		text.WriteString("type Craft { name: String }\ntype Query { craft: Craft\n")
		for i := range test.unknown {
			fmt.Fprintf(&text, "  f%d: Craf%s\n", i, strings.Repeat("t", i+2))
			if i > 60 {
				break
			}
		}
		for i := 62; i < test.unknown; i++ {
			fmt.Fprintf(&text, "  f%d: Missing%d\n", i, i)
		}
		text.WriteString("}\n")
		_, problems := Build(Text{Body: text.String()})
		if got := strings.Contains(problems.Error(), `the type Craftt is not defined; did you mean "Craft"?`); got != test.guessed {
			t.Errorf("of %d names, it is guessed what is meant: %t", test.unknown, got)
		}
		if !strings.Contains(problems.Error(), "the type Craftt is not defined") || !test.guessed && problems[0].Fix != "define it, or correct the name" {
			t.Errorf("of %d names, the first problem is %+v", test.unknown, problems[0])
		}
	}
}
