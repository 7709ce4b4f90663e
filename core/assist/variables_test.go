package assist_test

import (
	"fmt"
	"strings"
	"testing"

	"osprey/core/assist"
	"osprey/core/schema"
)

const asked = `
query One($imo: ID!, $side: Side = PORT, $n: Int) { craft(imo: $imo, side: $side) { name } }
query Two($sort: [Sort!], $filter: Filter, $many: [[Int!]!], $names: [String!]!) { fleet(sort: $sort, filter: $filter) { name } }
`

func variables(t *testing.T, name string) *assist.Variables {
	t.Helper()
	s, problems := schema.Build(schema.Text{Body: port})
	if problems.Failed() {
		t.Fatal(problems)
	}
	v := assist.VariablesOf(s, asked, name)
	if v == nil {
		t.Fatalf("there is no %s", name)
	}
	return v
}

// TestVariableProblems holds what is wrong with variables, and where: "|" stands in front of each place.
func TestVariableProblems(t *testing.T) {
	for _, test := range []struct{ name, text, want string }{
		{"", `{"imo": "1"}`, ""},
		{"One", `{"imo": 5, "side": null, "n": 7, "sort": 1}`, ""}, // an ID may be a number, and sort is of Two
		{"One", ``, "imo: the variable $imo of the type ID! is missing"},
		{"One", `|{"side": |"PROT"}`, "side: the enum Side has no value PROT; did you mean \"PORT\"?; imo: the variable $imo of the type ID! is missing"},
		{"One", `{"imo": |null, |"nn": {"a": [1]}, "n": |"7"}`, "imo: null is given where ID! is expected; nn: the operation has no variable $nn; n: expected a whole number, found \"7\""},
		{"One", `|[1]`, "the variables are an array, and not an object"},
		{"One", `{"imo": "1"|`, "imo: the variables are no JSON: it ends early"},
		{"One", `{"imo": "1"|, }`, "the variables are no JSON"},
		{"One", `{"imo": "1"} |x`, "the variables are no JSON"},
		{"One", `{"imo": "1", |"imo": "2"}`, "the variables are no JSON: a name stands twice in one object"},
		{"Two", `{"names": "é", "sort": {"name": "PORT"}, "many": [[1, 2], [3]], "filter": {"side": "PORT", "names": ["a"], "inner": {"inner": null}}}`, ""},
		{"Two", `{"names": ["é", |null, |3], "sort": [|{}, |{"name": "PORT", "length": |"X"}, {|"name": null}]}`,
			"null is given where String! is expected; expected a string, found 3; exactly one field of Sort must be given, found 0; exactly one field of Sort must be given, found 2; the enum Side has no value X; cannot be null"},
		{"Two", `{"names": [], "many": [[1, |"x"], [|null]], "filter": {|"sid": 1, "inner": {"side": |1}}}`, "expected a whole number, found \"x\"; null is given; has no field \"sid\"; expected a value of the enum Side"},
		{"Two", `{"names": [], "filter": |7}`, "filter: expected an input object Filter, found 7"},
	} {
		var places, said []string
		text := strings.ReplaceAll(test.text, "|", "")
		problems := variables(t, test.name).Problems(text)
		marked := text
		for i := len(problems) - 1; i >= 0; i-- {
			p := problems[i]
			places = append(places, fmt.Sprint(p.At))
			said = append([]string{strings.TrimPrefix(p.Variable+": "+p.Msg, ": ")}, said...)
		}
		got := strings.Join(said, "; ")
		for _, want := range strings.Split(test.want, "; ") {
			if !strings.Contains(got, want) {
				t.Errorf("of %s it is said that %s, want %s", text, got, want)
			}
		}
		if test.want == "" && got != "" || len(marked) > 0 && test.want != "" && !strings.Contains(test.text, "|") {
			t.Errorf("of %s it is said that %s at %v", text, got, places)
		}
		for at, rest := 0, test.text; ; {
			i := strings.IndexByte(rest, '|')
			if i < 0 {
				break
			}
			at, rest = at+i, rest[i+1:]
			if !strings.Contains(" "+strings.Join(places, " ")+" ", fmt.Sprintf(" %d ", at)) {
				t.Errorf("of %s nothing is said at %d: %s, at %v", text, at, got, places)
			}
		}
	}
	if v := assist.VariablesOf(nil, "query {", ""); v != nil {
		t.Error("a text that cannot be read has variables")
	}
	s, _ := schema.Build(schema.Text{Body: port})
	if v := assist.VariablesOf(s, asked, "Three"); v != nil {
		t.Error("an operation that is not there has variables")
	}
	if n := len(assist.VariablesOf(s, asked, "Two").Problems(`{"names": [` + strings.Repeat("3,", 40_000) + `3]}`)); n > 100 {
		t.Errorf("%d problems are told", n)
	}
}

// TestVariableCompletions holds what can be written at a place, which is "|".
func TestVariableCompletions(t *testing.T) {
	for _, test := range []struct {
		name, text string
		from       int
		want       string
	}{
		{"One", `{|`, 1, `"imo": , "side": , "n": `},
		{"One", `{"si|`, 1, `"imo": , "side": , "n": `},
		{"One", `{"imo": "1", |}`, 13, `"side": , "n": `},
		{"One", `{"side": |`, 9, `"PORT", "STARBOARD", null`},
		{"One", `{"side": "ST|"}`, 9, `"PORT", "STARBOARD", null`},
		{"One", `{"imo": |`, 8, ``},
		{"One", `{"imo"|`, 1, `"imo": , "side": , "n": `},
		{"One", `{"imo" |`, 7, ``},
		{"One", `|`, 0, ``},
		{"One", `{} |`, 3, ``},
		{"Two", `{"sort": |`, 9, `[], {}, null`},
		{"Two", `{"sort": [|`, 10, `{}`},
		{"Two", `{"sort": [{"name": "PORT"}, {|`, 29, `"name": , "length": `},
		{"Two", `{"sort": {"name": |`, 18, `"PORT", "STARBOARD", null`},
		{"Two", `{"filter": {"side": "PORT", "inner": {"inner": {"side": n|`, 56, `"PORT", "STARBOARD", null`},
		{"Two", `{"filter": {"nothing": {|`, 24, ``},
		{"Two", `{"filter": {"a \" {": 1, "side": |`, 33, `"PORT", "STARBOARD", null`},
		{"Two", `{"many": [|`, 10, `[]`},
	} {
		offset := strings.IndexByte(test.text, '|')
		list, from := variables(t, test.name).Complete(strings.Replace(test.text, "|", "", 1), offset)
		var labels []string
		for _, c := range list {
			labels = append(labels, c.Label)
		}
		if got := strings.Join(labels, ", "); got != test.want || test.want != "" && from != test.from {
			t.Errorf("at %s there are %s from %d, want %s from %d", test.text, got, from, test.want, test.from)
		}
	}
}
