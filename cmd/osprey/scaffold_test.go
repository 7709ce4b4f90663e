package main_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestScaffold makes the fields of types, in a new project and in the harbour: with them, the
// project is sound and tidy, what was there is as it was, and each field that reads answers.
func TestScaffold(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "port")
	if _, errs, code := osprey(t, "new", dir); code != 0 {
		t.Fatal(errs)
	}
	out, errs, code := osprey(t, "scaffold", "--project", dir, "Operator", "Craft", "PortCall")
	if code != 0 || !strings.Contains(out, "has 25 fields:") || !strings.Contains(errs, "left out Query.craft: it is there already") {
		t.Fatalf("scaffold: %d %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "check", dir); code != 0 || !strings.Contains(out, "no problems found") {
		t.Errorf("check: %d %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "tidy", "--check", dir); code != 0 {
		t.Errorf("tidy: %d %s%s", code, out, errs)
	}
	for _, test := range []struct{ op, want string }{
		{`mutation { addOperator(operator: {name: "Dover Lines", country: "Norvik"}) { id fleet { name } } }`, `{"addOperator":{"id":"4","fleet":[]}}`},
		{`mutation { changeOperator(id: 4, change: {country: "Sundria"}) { name country } changeOperators(filter: {name: {is: "none"}}, change: {country: "x"}) }`, `{"changeOperator":{"name":"Dover Lines","country":"Sundria"},"changeOperators":0}`},
		{`{ operator(id: 4) { country } operators(sort: [{id: DESC}], limit: 1) { name } operatorPages(first: 1) { totalCount edges { node { name } } } }`, `{"operator":{"country":"Sundria"},"operators":[{"name":"Dover Lines"}],"operatorPages":{"totalCount":4,"edges":[{"node":{"name":"Ansgar Line"}}]}}`},
		{`mutation { removeOperators(filter: {name: {startsWith: "Dover"}}) again: removeOperator(id: 4) { name } }`, `{"removeOperators":1,"again":null}`},
		{`mutation { arrive(call: {berth: "Oil Jetty", arrivedAt: "2026-03-02T02:15:00Z", purpose: LOADING, craft: 9100012}) { craft { name } } }`, `{"arrive":{"craft":{"name":"Grey Lantern"}}}`},
	} {
		out, errs, code := osprey(t, "ask", "--project", dir, "--as", "json", test.op)
		got := regexp.MustCompile(`\s*\n\s*`).ReplaceAllString(out, "")
		got = strings.ReplaceAll(got, `": `, `":`)
		if want := `{"data":` + test.want + "}"; code != 0 || got != want {
			t.Errorf("%s\ngives %s %s\nwant  %s", test.op, got, errs, want)
		}
	}
	file := filepath.Join(dir, "schema", "scaffold-operator-craft-portcall.graphql")
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for name, args := range map[string][]string{"once more": {"Operator"}, "no type": {}, "an unknown type": {"Operatr"}, "a type that is not stored": {"CraftKind"}, "the same file": {"Operator", "Craft", "PortCall"}} {
		if _, errs, code := osprey(t, append([]string{"scaffold", "--project", dir}, args...)...); code != 2 || errs == "" {
			t.Errorf("%s: %d %s", name, code, errs)
		}
	}
	if after, _ := os.ReadFile(file); string(after) != string(before) {
		t.Error("a file that was there is another one")
	}

	// The harbour's types, of every kind of store, an interface among them.
	demotest.Setenv(t)
	harbour := filepath.Join(t.TempDir(), "harbour")
	if err := os.CopyFS(harbour, os.DirFS("../../demo/harbour")); err != nil {
		t.Fatal(err)
	}
	types := []string{"Berth", "Craft", "CargoShip", "Inspection", "Manifest", "TideStation", "Notice", "Pilotage", "Operator"}
	out, errs, code = osprey(t, append([]string{"scaffold", "--project", harbour}, types...)...)
	if code != 0 || !strings.Contains(out, "Query.berthPages\n") || !strings.Contains(out, "Mutation.addInspection\n") || !strings.Contains(errs, "left out Mutation.addTideStation: Mutation.addTideStation cannot be written to tides: nothing says how a record of stations is added") {
		t.Errorf("the harbour: %d %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "check", harbour); code != 0 {
		t.Errorf("check: %d %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "tidy", "--check", harbour); code != 0 {
		t.Errorf("tidy: %d %s%s", code, out, errs)
	}
}
