package main_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestDiff compares the harbour with itself as a service shows it, and with another one.
func TestDiff(t *testing.T) {
	demotest.Setenv(t)
	url := start(t)
	if out, errs, code := osprey(t, "diff", "demo/harbour", url); code != 0 || out != "no difference\n" {
		t.Errorf("what the service shows differs from what it serves: %d %s%s", code, out, errs)
	}
	other := filepath.Join(t.TempDir(), "harbour")
	if err := os.CopyFS(other, os.DirFS(filepath.Join(demotest.Root(), "demo/harbour"))); err != nil {
		t.Fatal(err)
	}
	change := func(file, from, to string) {
		t.Helper()
		path := filepath.Join(other, "schema", file)
		text, err := os.ReadFile(path)
		if err != nil || !strings.Contains(string(text), from) {
			t.Fatalf("%s has no %q: %v", file, from, err)
		}
		if err := os.WriteFile(path, []byte(strings.Replace(string(text), from, to, 1)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	change("calls.graphql", "  arrivedAt: DateTime!\n", "  arrivedAt: DateTime\n")
	change("calls.graphql", "  REPAIR @at(path: \"repair\")\n", "  REPAIR @at(path: \"repair\")\n  LAY_UP @at(path: \"lay-up\")\n")
	change("writes.graphql", "  \"The inspector was never there.\"\n  dismiss(id: ID!): Inspection @remove\n", "")
	out, errs, code := osprey(t, "diff", "--types-only", "demo/harbour", other)
	for _, want := range []string{"breaking  Mutation.dismiss is gone\n", "breaking  PortCall.arrivedAt is DateTime now, and was DateTime!\n", "risky     Purpose.LAY_UP is new, and can be answered\n", "3 differences: 2 breaking, 1 risky, 0 safe\n"} {
		if code != 1 || !strings.Contains(out, want) {
			t.Errorf("the difference is told with %d, and not %q: %s%s", code, want, out, errs)
		}
	}
	// Of one operation that asks for none of it, nothing is told; of all, what they ask for.
	if out, errs, code := osprey(t, "diff", "--types-only", "--operations", "demo/harbour/operations/Water.graphql", "demo/harbour", other); code != 0 || out != "no difference\n" {
		t.Errorf("of what does not concern it, an operation is told %d %s%s", code, out, errs)
	}
	if out, _, code := osprey(t, "diff", "--types-only", "--operations", "demo/harbour/operations/writes/Dismiss.graphql", "demo/harbour", other); code != 1 || !strings.HasPrefix(out, "breaking  Mutation.dismiss is gone\n\n1 difference:") {
		t.Errorf("of what concerns it, an operation is told %d %s", code, out)
	}
	out, _, _ = osprey(t, "diff", "--types-only", "--format", "json", "demo/harbour", other)
	var got struct {
		Differences []struct{ Class, Coordinate, What string }
	}
	if err := json.Unmarshal([]byte(out), &got); err != nil || len(got.Differences) != 3 || got.Differences[0].Coordinate != "Mutation.dismiss" {
		t.Errorf("as JSON it is %s %v", out, err)
	}
	for _, test := range []struct{ args, want string }{
		{"demo/harbour", "say which schemas"}, {"demo/harbour nowhere", "nowhere cannot be read"}, {"demo/harbour http://127.0.0.1:1", "no service answers at http://127.0.0.1:1"},
		{"--format xml demo/harbour demo/harbour", `--format is "xml"`}, {"demo/harbour " + url + "/graphql", "does not show its schema"},
	} {
		out, errs, code := osprey(t, append([]string{"diff"}, strings.Fields(test.args)...)...)
		if code == 0 || !strings.Contains(errs, test.want) {
			t.Errorf("diff %s exits with %d: %s%s", test.args, code, out, errs)
		}
	}
}
