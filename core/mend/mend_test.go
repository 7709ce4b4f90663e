package mend_test

import (
	"strings"
	"testing"

	"osprey/core/language"
	"osprey/core/mend"
)

// TestOf does what problems say; what is behind "»" is the place of the problem. That the problem
// is then gone is for the tests of those who tell of it.
func TestOf(t *testing.T) {
	for _, test := range []struct{ text, msg, fix, want string }{
		{`type A { b: »Strng }`, `the type Strng is not defined; did you mean "String"?`, "", `type A { b: String }`},
		{`type A @stored(in: "r") { »lenghtM: Float }`, `A.lenghtM is "lenght_m", which the table a in r does not have; did you mean "length_m"?`, "",
			`type A @stored(in: "r") { lengthM: Float } | type A @stored(in: "r") { lenghtM: Float @at(path: "length_m") }`},
		{`type A { b: Float »@at(path: "lenght_m") }`, `A.b is "lenght_m", which the table a in r does not have; did you mean "length_m"?`, "", `type A { b: Float @at(path: "length_m") }`},
		{"type »A implements I {\n  a: Int\n}\n", `A implements I and lacks its field "b"`, `add "b: Int!" to A`, "type A implements I {\n  a: Int\n  b: Int!\n}\n"},
		{`type »A implements I { a: Int }`, `A implements I and lacks its field "b"`, `add "b: Int!" to A`, `type A implements I { a: Int  b: Int! }`},
		{`type A { »b(x: [Int]): [Int!] }`, ``, `make it Int64, which holds them all`, `type A { b(x: [Int]): Int64 }`},
		{`query ($a: Int, »$b: Int) { x(a: $a) }`, ``, `use it, or leave it out`, `query ($a: Int, ) { x(a: $a) }`},
		{`type Query { a: Int »}`, ``, `leave one of them out`, ``},
	} {
		at := strings.Index(test.text, "»")
		text := strings.Replace(test.text, "»", "", 1)
		var got []string
		for _, c := range mend.Of(text, at, &language.Problem{Msg: test.msg, Fix: test.fix}) {
			got = append(got, c.Apply(text))
		}
		if all := strings.Join(got, " | "); all != test.want {
			t.Errorf("%s\n%s %s\nbecomes %s\nwant    %s", test.text, test.msg, test.fix, all, test.want)
		}
	}
	if mend.Of("", 5, &language.Problem{Fix: "make it Int"}) != nil {
		t.Error("something behind the end of a text is mended")
	}
}
