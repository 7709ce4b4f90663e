package main_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestCheckFix takes fields of an interface out of a type that implements it, and lets check write
// them there again.
func TestCheckFix(t *testing.T) {
	demotest.Setenv(t)
	dir := filepath.Join(t.TempDir(), "harbour")
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(demotest.Root(), "demo/harbour"))); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "schema/craft.graphql")
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	head, tug, ok := strings.Cut(string(text), "type Tug ")
	if !ok || !strings.Contains(tug, "  lengthM: Float!\n") {
		t.Fatal("the harbour has no such tug")
	}
	less := head + "type Tug " + strings.Replace(tug, "  lengthM: Float!\n", "", 1)
	if err := os.WriteFile(path, []byte(less), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, _, code := osprey(t, "check", dir); code != 1 || !strings.Contains(out, "lengthM") {
		t.Errorf("without the field, check exits with %d: %s", code, out)
	}
	out, errs, code := osprey(t, "check", "--fix", dir)
	if code != 0 || !strings.Contains(errs, "mended "+path+": it has Tug.lengthM now") {
		t.Errorf("check --fix exits with %d: %s%s", code, out, errs)
	}
	if _, errs, code := osprey(t, "check", "--fix", dir); code != 0 || strings.Contains(errs, "mended") {
		t.Errorf("a second time, check --fix exits with %d: %s", code, errs)
	}
}
