package main_test

import (
	"encoding/json"
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestNew makes a project, which is tidy and sound, and answers its operation
// without any store.
func TestNew(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "port")
	out, errs, code := osprey(t, "new", dir)
	if code != 0 || errs != "" || !strings.Contains(out, "osprey ask --project "+dir) {
		t.Fatalf("new: %d %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "check", dir); code != 0 || !strings.Contains(out, "no problems found") {
		t.Errorf("check: %d %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "tidy", "--check", dir); code != 0 {
		t.Errorf("tidy: %d %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "explain", "--project", dir, "-f", filepath.Join(dir, "operations", "InPort.graphql")); code != 0 || !strings.HasPrefix(out, "1 store request in 1 wave\n") {
		t.Errorf("the first operation that is seen is not one request: %d %s%s", code, out, errs)
	}
	out, errs, code = osprey(t, "ask", "--project", dir, "-f", filepath.Join(dir, "operations", "InPort.graphql"), "--var", "limit=2")
	var answer struct {
		Data struct {
			PortCalls []struct {
				Berth string
				Craft struct {
					Name      string
					CallCount int
					Operator  struct{ Name string }
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(out), &answer); err != nil || code != 0 {
		t.Fatalf("ask: %d %v %s%s", code, err, out, errs)
	}
	calls := answer.Data.PortCalls
	if len(calls) != 2 || calls[0].Craft.Name != "Second Wind" || calls[1].Craft.CallCount != 2 || calls[1].Craft.Operator.Name != "Corvik Ferries" {
		t.Errorf("ask answers %s", out)
	}
	followReadme(t, dir) // which changes the files
	for name, args := range map[string][]string{"a folder that is not empty": {"new", dir}, "no folder": {"new"}, "two folders": {"new", "a", "b"}} {
		if _, errs, code := osprey(t, args...); code != 2 || errs == "" {
			t.Errorf("%s: %d %s", name, code, errs)
		}
	}
	// A file that is wrong is told with its line, and its record set is missing.
	if err := os.WriteFile(filepath.Join(dir, "data", "operators.json"), []byte("[\n{]"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, errs, code := osprey(t, "check", dir); code != 3 || !strings.Contains(out+errs, "operators.json, line 2") {
		t.Errorf("check of a wrong file: %d %s%s", code, out, errs)
	}
}

// followReadme runs the commands of a project's README, but for the one that serves,
// and holds that it names all that is there.
func followReadme(t *testing.T, dir string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, "README.md"))
	if err != nil {
		t.Fatal(err)
	}
	ran := 0
	for _, line := range strings.Split(string(text), "\n") {
		words := strings.Fields(line)
		if len(words) < 2 || words[0] != "osprey" || words[1] == "start" {
			continue
		}
		ran++
		if out, errs, code := ospreyIn(t, dir, words[1:]...); code != 0 {
			t.Errorf("%s: %d %s%s", line, code, out, errs)
		}
	}
	if ran != 3 {
		t.Errorf("the README has %d commands beside start", ran)
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, entry := range entries {
		if name := entry.Name(); name != "README.md" && name != ".gitignore" && !strings.Contains(string(text), "`"+name) {
			t.Errorf("the README does not name %s", name)
		}
	}
}

// TestVersion tells what the program was built from, and completes commands in shells.
func TestVersion(t *testing.T) {
	for _, flag := range []string{"--version", "-v"} {
		if out, errs, code := osprey(t, flag); code != 0 || errs != "" || !regexp.MustCompile(`^osprey \S.*, go1\.\d+\S* \w+/\w+\n$`).MatchString(out) {
			t.Errorf("%s: %d %q %s", flag, code, out, errs)
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish", "pwsh"} {
		if out, errs, code := osprey(t, "completion", shell); code != 0 || errs != "" || len(out) < 100 {
			t.Errorf("completion %s: %d %s", shell, code, errs)
		}
	}
	if out, _, _ := osprey(t, "--generate-shell-completion"); !strings.Contains(out, "explain:show the store requests") {
		t.Errorf("commands are completed as %q", out)
	}
}

// TestExplainDrawing checks that the drawing is a document with every request
// and every line between them.
func TestExplainDrawing(t *testing.T) {
	demotest.Setenv(t)
	url := start(t)
	out, errs, code := osprey(t, "explain", "--url", url, "--format", "svg", "-f", "demo/harbour/operations/Board.graphql")
	if code != 0 {
		t.Fatal(errs)
	}
	boxes, lines, text := 0, 0, ""
	d := xml.NewDecoder(strings.NewReader(out))
	for {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			for _, a := range token.Attr {
				if a.Name.Local == "rx" {
					boxes++
				}
				if a.Name.Local == "stroke-width" {
					lines++
				}
			}
		case xml.CharData:
			text += string(token)
		}
	}
	if boxes != 4 || lines != 3 {
		t.Errorf("%d boxes and %d lines, want 4 and 3", boxes, lines)
	}
	for _, want := range []string{"Board: 4 store requests in 2 waves", "wave 2", "registry", "inspections by craft.imo", "up to 100 keys in a request"} {
		if !strings.Contains(text, want) {
			t.Errorf("the drawing does not say %q", want)
		}
	}
	if _, errs, code := osprey(t, "explain", "--format", "png", "{ quays { code } }"); code != 2 || !strings.Contains(errs, "text, json or svg") {
		t.Errorf("another format: %d %s", code, errs)
	}
}
