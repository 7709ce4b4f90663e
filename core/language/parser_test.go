package language

import (
	"strings"
	"testing"
)

// sound are documents without faults; the fuzz targets start from them.
var sound = []string{
	`{ quays { name } }`,
	`query Board($limit: Int = 25, $codes: [ID!]! @note) @note(a: 1) { calls: portCalls(limit: $limit) { id } }`,
	`mutation { remove(id: "a") { id } } subscription S { watch { id } }`,
	`"What came last." query Board { a } "The parts." fragment Parts on Craft { imo }`,
	`query Q("how many" $n: Int) { a(n: $n) }`,
	`{ ...Parts @include(if: true) ... on Tanker { doubleHull } ... @skip(if: false) { name } ... { name } }`,
	`{ a(x: -1, y: 1.5e-3, z: "q", e: NORTH, n: null, t: true, l: [1 2, 3], o: {a: {b: []}}) }`,
	`{ a(s: """
    block
      with "quotes" and \""" inside
  """) }`,
	`{ on: type(fragment: 1) { query mutation: subscription schema null true } }`,
	"\uFEFF{ a, , b }# the end",
	`{ a(s: "\u00e9 \u{1F6A2} \uD83D\uDEA2 \n\t\"") }`,
	`schema @note { query: Q mutation: M } extend schema @note extend schema { subscription: S }`,
	`"""
The port.
"""
type Port implements & Place & Named @note { "how many" berths(min: Int = 1 @note, max: Int): [Berth!]! @note name: String }
extend type Port implements Other extend type Port @note extend type Port { more: Int }`,
	`interface Place implements Named & Node { name: String! } extend interface Place { x: Int }`,
	`union Entry @note = | A | B extend union Entry = C union Empty`,
	`enum Side { PORT STARBOARD @deprecated(reason: "x") } extend enum Side { BOTH }`,
	`input Filter @oneOf { a: Int = 1 b: [Filter!] } extend input Filter { c: Int }`,
	`scalar Tide @specifiedBy(url: "https://example.org") extend scalar Tide @note`,
	`"d" directive @note(a: Int = 1) repeatable on | FIELD | OBJECT directive @x on FIELD`,
	`type Bare type Other { a: Int }`,
}

func TestParseSound(t *testing.T) {
	for _, text := range sound {
		if _, problems := Parse(NewSource("", text)); len(problems) > 0 {
			t.Errorf("Parse(%q) reports %q", text, problems)
		}
	}
}

// TestParseFaults holds the places and the words of syntax errors. Each line
// of want is "line:column message-part".
func TestParseFaults(t *testing.T) {
	for _, test := range []struct{ text, want string }{
		{``, "1:1 the document is empty"},
		{`{`, `1:2 expected "}" after the selected fields, found the end`},
		{`{}`, `1:2 a selection set cannot be empty`},
		{`{ a(`, `1:5 expected an argument's name, found the end`},
		{`{ a() }`, `1:5 leave the parentheses out`},
		{`{ a(x 1) }`, `1:7 expected ":" between an argument and its value, found "1"`},
		{`{ a(x: ) }`, `1:8 expected a value, found ")"`},
		{`{ a: }`, `1:6 expected a field's name after its alias`},
		{`{ a(x: 01) }`, `1:8 cannot begin with an unneeded 0`},
		{`{ a(x: 1.) }`, `1:10 expected a digit after the decimal point`},
		{`{ a(x: 1e) }`, `1:10 expected a digit in the exponent`},
		{`{ a(x: 0xF) }`, `1:9 a number cannot be followed by "x"`},
		{`{ a(x: 1.2.3) }`, `1:11 a number cannot be followed by "."`},
		{`{ a(x: .5) }`, `1:8 a number needs a digit before its decimal point`},
		{`{ a(x: -) }`, `1:8 expected a digit after "-"`},
		{`{ a(x: "open) }`, `1:8 the string is not closed on its line`},
		{`{ a(x: """open) }`, `1:8 the block string is not closed`},
		{`{ a(x: "\q") }`, `1:9 "\q" is not an escape sequence`},
		{`{ a(x: "\uD800") }`, `1:9 "\uD800" is not an escape sequence`},
		{`{ a(x: "\u{110000}") }`, `1:9 is not an escape sequence`},
		{`{ a(x: 'q') }`, `1:8 strings are written in double quotes`},
		{`{ a; b }`, `1:4 nothing is needed between fields`},
		{"{ a\x00 }", `1:4 the character U+0000 has no meaning here`},
		{"{ a\xff }", `1:4 not valid UTF-8 here (byte 0xFF)`},
		{`{ a(x: [1...]) }`, `1:11 expected a digit after the decimal point`},
		{"# \xff\n{ a }", `1:3 not valid UTF-8 here`},
		{`query ($a: Int = $b) { a }`, `1:18 a variable cannot stand here`},
		{`query ($a: Int @d(x: $b)) { a }`, `1:22 a variable cannot stand here`},
		{`directive @d on FELD`, `1:17 a directive cannot stand on "FELD"; did you mean "FIELD"?`},
		{`{ a .. b }`, `1:5 expected "..." for a fragment`},
		{`{ ... }`, `1:7 expected a fragment's name, "on" and a type, or "{" after "..."`},
		{`fragment on on A { a }`, `1:10 a fragment cannot be called "on"`},
		{`fragment F { a }`, `1:12 expected "on" and a type after the fragment's name, found "{"`},
		{`query ($a) { a }`, `1:10 expected ":" between a variable and its type`},
		{`query ($a: Int!!) { a }`, `1:16 one "!" is enough`},
		{`query () { a }`, `1:8 leave the parentheses out`},
		{`"d" { a }`, `1:5 write "query" before "{"`},
		{`"d" extend type A { a: Int }`, `1:5 an extension has no description`},
		{`extend type A`, `1:14 the extension of A adds nothing`},
		{`extend query { a }`, `1:8 "query" cannot be extended`},
		{`qurey { a }`, `1:1 did you mean "query"?`},
		{`type A { a }`, `1:12 expected ":" between a field and its type, found "}"`},
		{`type A { }`, `1:10 leave the braces out`},
		{`enum E { true }`, `1:10 an enum's value cannot be called true`},
		{`schema { read: A }`, `1:10 expected query, mutation or subscription, found "read"`},
		{`directive note on FIELD`, `1:11 expected "@" before the directive's name`},
		{"{\n  ä\n}", "2:3 the character \"ä\" (U+00E4)"},
		{"{ a(x: \"ééé\", y) }", `1:16 expected ":"`}, // columns count characters, not bytes
	} {
		src := NewSource("", test.text)
		_, problems := Parse(src)
		if len(problems) == 0 {
			t.Errorf("Parse(%q) reports nothing, want %q", test.text, test.want)
			continue
		}
		got := src.Position(problems[0].Pos).String() + " " + problems[0].Msg
		place, words, _ := strings.Cut(test.want, " ")
		if !strings.HasPrefix(got, place+" ") || !strings.Contains(got, words) {
			t.Errorf("Parse(%q) reports %q, want %q", test.text, got, test.want)
		}
	}
}

// TestParseSeveralFaults checks that one pass finds the faults of several
// places, each once, and goes on behind them.
func TestParseSeveralFaults(t *testing.T) {
	const text = `query A {
  craft(imo: ) { name }
  quays { name }
  berths( { name }
}

type Port {
  name String
  berths: [Berth!
  quays: Int
}

fragment F on { a }

query B { ok }
`
	src := NewSource("harbour.graphql", text)
	doc, problems := Parse(src)
	var lines []int
	for _, p := range problems {
		lines = append(lines, src.Position(p.Pos).Line)
	}
	want := []int{2, 4, 8, 10, 13}
	if len(lines) != len(want) {
		t.Fatalf("faults on lines %v, want %v: %v", lines, want, problems)
	}
	for i := range want {
		if lines[i] != want[i] {
			t.Errorf("faults on lines %v, want %v", lines, want)
			break
		}
	}
	last, ok := doc.Definitions[len(doc.Definitions)-1].(*Operation)
	if !ok || last.Name.Text != "B" {
		t.Errorf("the operation behind the faults was not read")
	}
}

func TestDeepNesting(t *testing.T) {
	for _, unit := range []string{"{a", "[", "{a:"} {
		text := "{ a(x: " + strings.Repeat(unit, 100_000)
		if unit == "{a" {
			text = strings.Repeat(unit, 100_000)
		}
		_, problems := Parse(NewSource("", text))
		if len(problems) == 0 || !strings.Contains(problems.Error(), "nested more than 400 levels deep") {
			t.Errorf("100,000 times %q reports %.200q", unit, problems)
		}
	}
	if _, problems := Parse(NewSource("", strings.Repeat("{a", 200)+strings.Repeat("}", 200))); len(problems) > 0 {
		t.Errorf("200 levels report %q", problems)
	}
}

func TestStringValues(t *testing.T) {
	for _, test := range []struct{ text, want string }{
		{`""`, ""},
		{`"a\"b\\c\/d\b\f\n\r\t"`, "a\"b\\c/d\b\f\n\r\t"},
		{`"\u00e9\u{e9}\u{0001F6A2}\uD83D\uDEA2"`, "éé🚢🚢"},
		{`""""""`, ""},
		{`"""one"""`, "one"},
		{"\"\"\"\n    one\n      two\n\n    three\n  \"\"\"", "one\n  two\n\nthree"},
		{"\"\"\"  first\n    second\n  third\"\"\"", "  first\n  second\nthird"},
		{"\"\"\"a\r\nb\rc\"\"\"", "a\nb\nc"},
		{`"""a \""" b"""`, `a """ b`},
		{`"""\n"""`, `\n`},
	} {
		doc, problems := Parse(NewSource("", "{ a(x: "+test.text+") }"))
		if len(problems) > 0 {
			t.Errorf("%s reports %q", test.text, problems)
			continue
		}
		got := doc.Definitions[0].(*Operation).Selections.List[0].(*Field).Arguments[0].Value.(*StringValue).Text
		if got != test.want {
			t.Errorf("%s means %q, want %q", test.text, got, test.want)
		}
	}
}

func TestPrintValueParsesBack(t *testing.T) {
	for _, text := range []string{
		`{a: [1, -2.5e3, "q\"\n\t\u0001é🚢", NORTH, null, true, $v], b: {}}`, `[]`, `"a \\ b"`,
	} {
		first := parseValue(t, text)
		again := PrintValue(parseValue(t, PrintValue(first)))
		if got := PrintValue(first); got != again {
			t.Errorf("%s prints as %s, and that as %s", text, got, again)
		}
	}
}

func parseValue(t *testing.T, text string) Value {
	t.Helper()
	doc, problems := Parse(NewSource("", "{ a(x: "+text+") }"))
	if len(problems) > 0 {
		t.Fatalf("%s reports %q", text, problems)
	}
	return doc.Definitions[0].(*Operation).Selections.List[0].(*Field).Arguments[0].Value
}

func TestDescriptionsParseBack(t *testing.T) {
	for _, text := range []string{"one line", "two\nlines", "  indented\n    more", "ends with \"", `has """ inside`, "tab\there", "", "trailing \\", "\n\nblank first", "control \x01"} {
		doc, problems := Parse(NewSource("", QuoteDescription(text, "")+" scalar S"))
		if len(problems) > 0 {
			t.Errorf("QuoteDescription(%q) = %s: %q", text, QuoteDescription(text, ""), problems)
			continue
		}
		if got := doc.Definitions[0].(*TypeDefinition).Description.Text; got != text {
			t.Errorf("QuoteDescription(%q) reads back as %q", text, got)
		}
	}
}

func TestDidYouMean(t *testing.T) {
	names := []string{"craft", "calls", "callSign", "berths"}
	for written, want := range map[string]string{
		"crafts": `; did you mean "craft"?`, "CALLS": `; did you mean "calls"?`, "berth": `; did you mean "berths"?`,
		"carft": `; did you mean "craft"?`, "xyzzy": "", "callsign": `; did you mean "callSign"?`,
	} {
		if got := DidYouMean(written, names); got != want {
			t.Errorf("DidYouMean(%q) = %q, want %q", written, got, want)
		}
	}
}

func TestSourcesTellFilesApart(t *testing.T) {
	var set Sources
	a, b := set.Add("a", "12\r\n3"), set.Add("b", "é\n4")
	for _, test := range []struct {
		pos  Pos
		want string
	}{
		{a.Pos(0), "a:1:1"}, {a.Pos(4), "a:2:1"}, {a.Pos(5), "a:2:2"}, {b.Pos(0), "b:1:1"}, {b.Pos(2), "b:1:2"}, {b.Pos(3), "b:2:1"}, {NoPos, ""},
	} {
		if got := set.Position(test.pos).String(); got != test.want {
			t.Errorf("Position(%d) = %q, want %q", test.pos, got, test.want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range sound {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		src := NewSource("", text)
		_, problems := Parse(src)
		for _, p := range problems {
			if at := src.Position(p.Pos); at.Line == 0 {
				t.Errorf("Parse(%q) reports %q without a place", text, p.Msg)
			}
		}
	})
}
