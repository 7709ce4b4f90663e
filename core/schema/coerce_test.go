package schema

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"osprey/core/language"
)

const inputs = `
type Query { a(x: Filter): Int }
enum Side { PORT STARBOARD }
input Filter { side: Side = PORT lengthM: Float! names: [String!] inner: Filter rows: [[Int]] }
input Pick @oneOf { a: Int b: String }
`

// typeOf reads a type such as "[Int!]".
func typeOf(t *testing.T, s *Schema, text string) Type {
	t.Helper()
	doc, problems := language.Parse(language.NewSource("", "query ($v: "+text+") { a }"))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	b := &builder{schema: s, unknown: map[string]bool{}, referred: map[string]bool{}}
	return b.typeOf(doc.Definitions[0].(*language.Operation).Variables[0].Type)
}

// TestCoerceJSON holds the coercion of variables: section 6.1.2 and the input
// coercion of each type. want is the value as Go prints it, or an error that
// begins with "!".
func TestCoerceJSON(t *testing.T) {
	s, problems := Build(Text{Body: inputs + "extend type Query { t(a: DateTime b: Date c: Decimal d: Int64 e: UUID f: Duration g: URL h: JSON i: Time): Int }"})
	if problems.Failed() {
		t.Fatal(problems)
	}
	for _, test := range []struct{ typ, value, want string }{
		{"Int", `1`, "1"}, {"Int", `1.0`, "1"}, {"Int", `1e2`, "100"}, {"Int", `1.5`, "!expected a whole number, found 1.5"},
		{"Int", `"1"`, `!expected a whole number, found "1"`}, {"Int", `2147483648`, "!found 2147483648, and Int holds"}, {"Int", `-2147483648`, "-2147483648"},
		{"Int", `99999999999999999999`, "!found 99999999999999999999, and Int holds"}, {"Int", `true`, "!expected a whole number, found true"},
		{"Int", `null`, "<nil>"}, {"Int!", `null`, "!expected a value of the type Int!, found null"},
		{"Float", `1`, "1"}, {"Float", `1.5`, "1.5"}, {"Float", `"1.5"`, "!expected a number"}, {"Float", `1e999`, "!is too large for Float"},
		{"String", `"é"`, "é"}, {"String", `1`, "!expected a string, found 1"},
		{"Boolean", `true`, "true"}, {"Boolean", `"true"`, "!expected true or false"}, {"Boolean", `0`, "!expected true or false"},
		{"ID", `"a"`, "a"}, {"ID", `7`, "7"}, {"ID", `99999999999999999999`, "99999999999999999999"}, {"ID", `1.5`, "!expected an ID"}, {"ID", `true`, "!expected an ID"},
		{"Side", `"PORT"`, "PORT"}, {"Side", `"PRT"`, `!the enum Side has no value PRT; did you mean "PORT"?`}, {"Side", `1`, "!expected a value of the enum Side"},
		{"[Int]", `[1, null, 2]`, "[1 <nil> 2]"}, {"[Int]", `3`, "[3]"}, {"[Int!]", `[1, null]`, "!at [1]: expected a value of the type Int!, found null"},
		{"[[Int]]", `[[1], [2]]`, "[[1] [2]]"}, {"[[Int]]", `[1, 2]`, "[[1] [2]]"}, {"[[Int]]", `1`, "[[1]]"}, {"[Int]", `[1, "b"]`, "!at [1]: expected a whole number"}, {"[Int]", `null`, "<nil>"},
		{"Filter", `{"lengthM": 2}`, "[{side PORT} {lengthM 2}]"}, {"Filter", `{"lengthM": 2, "side": null}`, "[{side <nil>} {lengthM 2}]"},
		{"Filter", `{}`, `!the field "lengthM" of Filter is required`}, {"Filter", `{"lengthM": 1, "lenght": 1}`, `!the input object Filter has no field "lenght"`},
		{"Filter", `{"lengthM": 1, "inner": {"lengthM": "x"}}`, "!at inner.lengthM: expected a number"}, {"Filter", `[]`, "!expected an input object Filter, found a list"},
		{"Pick", `{"a": 1}`, "[{a 1}]"}, {"Pick", `{"a": 1, "b": "x"}`, "!exactly one field of Pick must be given, found 2"}, {"Pick", `{}`, "!found 0"}, {"Pick", `{"a": null}`, `!the field "a" of Pick cannot be null`},
		{"DateTime", `"2026-03-01T08:30:00Z"`, "2026-03-01T08:30:00Z"}, {"DateTime", `"yesterday"`, "!expected a moment"}, {"Date", `"2026-02-30"`, "!expected a day"},
		{"Decimal", `"12.50"`, "12.50"}, {"Decimal", `12.5`, "12.5"}, {"Decimal", `"12,5"`, "!expected an exact number"},
		{"Int64", `"9223372036854775807"`, "9223372036854775807"}, {"Int64", `9223372036854775808`, "!expected a whole number of at most 64 bits"},
		{"UUID", `"0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"`, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"}, {"UUID", `"0196"`, "!expected a UUID"},
		{"Duration", `"PT36H"`, "PT36H"}, {"Duration", `"P"`, "!expected a length of time"}, {"URL", `"https://example.org"`, "https://example.org"}, {"URL", `"harbour"`, "!expected an address"},
		{"JSON", `{"a": [1]}`, "map[a:[1]]"}, {"Time", `"08:30:00"`, "08:30:00"}, {"Time", `"25:00:00"`, "!expected a time of day"},
	} {
		d := json.NewDecoder(strings.NewReader(test.value))
		d.UseNumber()
		var v any
		if err := d.Decode(&v); err != nil {
			t.Fatal(err)
		}
		value, err := CoerceJSON(typeOf(t, s, test.typ), v)
		got := fmt.Sprint(value)
		if err != nil {
			got = "!" + err.Error()
		}
		if got != test.want && (!strings.HasPrefix(test.want, "!") || !strings.Contains(got, test.want[1:]) || err == nil) {
			t.Errorf("CoerceJSON(%s, %s) = %s, want %s", test.typ, test.value, got, test.want)
		}
	}
}

// TestCoerceLiteral holds the coercion of literals with variables inside.
func TestCoerceLiteral(t *testing.T) {
	s, problems := Build(Text{Body: inputs})
	if problems.Failed() {
		t.Fatal(problems)
	}
	vars := map[string]Value{"n": int64(3), "null": nil, "names": []Value{"a"}}
	for _, test := range []struct{ typ, literal, want string }{
		{"Int", "1", "1"}, {"Int", "1.0", "!expected a whole number"}, {"Float", "1", "1"}, {"ID", "7", "7"}, {"ID", `"x"`, "x"}, {"String", "A", "!expected a string, found A"},
		{"Side", "PORT", "PORT"}, {"Side", `"PORT"`, "!expected a value of the enum Side"}, {"[Int]", "1", "[1]"}, {"[Int]", "[1, $n, $none]", "[1 3 <nil>]"},
		{"[Int!]", "[$null]", "!null is given where Int! is expected"}, {"Filter", "{lengthM: 1, names: $names}", "[{side PORT} {lengthM 1} {names [a]}]"},
		{"Filter", "{lengthM: 1, side: $none}", "[{side PORT} {lengthM 1}]"}, {"Filter", "{lengthM: 1, side: $null}", "[{side <nil>} {lengthM 1}]"},
		{"Filter", "{lengthM: $none}", `!the field "lengthM" of Filter is required`},
	} {
		doc, _ := language.Parse(language.NewSource("", "{ a(x: "+test.literal+") }"))
		literal := doc.Definitions[0].(*language.Operation).Selections.List[0].(*language.Field).Arguments[0].Value
		value, _, err := CoerceLiteral(typeOf(t, s, test.typ), literal, vars)
		got := fmt.Sprint(value)
		if err != nil {
			got = "!" + err.Error()
		}
		if got != test.want && (!strings.HasPrefix(test.want, "!") || !strings.Contains(got, test.want[1:]) || err == nil) {
			t.Errorf("CoerceLiteral(%s, %s) = %s, want %s", test.typ, test.literal, got, test.want)
		}
	}
}
