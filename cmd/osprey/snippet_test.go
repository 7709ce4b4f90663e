package main_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestSnippets runs what is written in each language, with and without a key: the answer is that of osprey ask.
func TestSnippets(t *testing.T) {
	demotest.Setenv(t)
	url := start(t)
	dir := t.TempDir()
	odd := filepath.Join(dir, "odd.graphql")
	if err := os.WriteFile(odd, []byte("# a `mark`, \"\"\"three\"\"\", ${HOME} $HOME and 'one' \\ ⚓\nquery A($name: String, $lengths: [Float!]) {\n  fleet(name: $name, filter: {lengthM: {in: $lengths}}) { name }\n  operators(filter: {name: {is: \"it's \\\"so\\\"\"}}) { name }\n}\nquery B { quays { name } }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	board := filepath.Join(demotest.Root(), boardFile)
	for _, args := range [][]string{
		{"{ quays { name } me { name } }"},
		{"-f", board, "--var", "limit=3"},
		{"-f", odd, "--operation", "A", "--var", "name=it's `\"${x}\" \\ END", "--var", "lengths=[1.5, 2]"},
		{"-f", odd, "--operation", "B"},
	} {
		for _, key := range []string{"", "osprey_brandal_demo-brandal-of-skerrow"} {
			t.Setenv("OSPREY_KEY", key)
			want, errs, code := osprey(t, append([]string{"ask", "--url", url, "--as", "json"}, args...)...)
			if code != 0 {
				t.Fatal(errs)
			}
			for language, run := range map[string][]string{"curl": {"sh", "a.sh"}, "python": {"python3", "a.py"}, "javascript": {"node", "a.mjs"}, "go": {"go", "run", "a.go"}} {
				if language == "go" && key == "" && len(args) < 4 {
					continue // which is the slowest, and much the same
				}
				text, errs, code := osprey(t, append([]string{"snippet", "--in", language, "--url", url}, args...)...)
				if code != 0 {
					t.Fatal(errs)
				}
				if strings.Contains(text, "brandal") {
					t.Errorf("the call in %s has the key in it", language)
				}
				file := filepath.Join(dir, run[len(run)-1])
				if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
					t.Fatal(err)
				}
				cmd := exec.Command(run[0], run[1:]...)
				cmd.Dir = dir
				var out, said bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &said
				if err := cmd.Run(); err != nil {
					t.Errorf("%s: %v %s\n%s", language, err, said.String(), text)
					continue
				}
				var got, right any
				if json.Unmarshal(out.Bytes(), &got) != nil || json.Unmarshal([]byte(want), &right) != nil || !reflect.DeepEqual(got, right) {
					t.Errorf("the call in %s is answered\n%s\nand not\n%s\n%s", language, out.String(), want, text)
				}
			}
		}
	}
	if _, errs, code := osprey(t, "snippet", "--in", "cobol", "{ me { name } }"); code != 2 || !strings.Contains(errs, `calls are written in curl, python, javascript, go, and not in "cobol"`) {
		t.Errorf("in another language: %d %s", code, errs)
	}
}
