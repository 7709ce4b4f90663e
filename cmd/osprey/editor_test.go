package main_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey/demo/demotest"
)

// TestNeovim works on the harbour in an editor that knows nothing of Osprey but the protocol.
func TestNeovim(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(demotest.Root(), "demo/harbour"))); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "nvim", "--headless", "-u", "NONE", "-n", "-c", "luafile testdata/editor.lua")
	cmd.Env = append(os.Environ(), "PROJECT="+dir, "OSPREY="+program, "XDG_STATE_HOME="+t.TempDir(), "XDG_CACHE_HOME="+t.TempDir())
	for name, value := range demotest.Harbour().Environ() {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		t.Fatalf("%v\n%s\n%s", err, out.String(), errs.String())
	}
	seen := map[string]json.RawMessage{}
	for lines := bufio.NewScanner(&out); lines.Scan(); {
		var step struct {
			Step  string
			Value json.RawMessage
		}
		if err := json.Unmarshal(lines.Bytes(), &step); err != nil {
			t.Fatalf("%v: %s", err, lines.Text())
		}
		seen[step.Step] = step.Value
	}
	if seen["error"] != nil {
		t.Fatalf("%s\n%s", seen["error"], errs.String())
	}
	for _, test := range []struct{ step, want string }{
		{"hover", "registry · port_calls.departed_at, timestamp with time zone"},
		{"column", "foreign key to craft.imo"},
		{"problems", `"line":7`},
		{"problems", `did you mean \"berth_number\"?`},
		{"actions", `write berthNumber for berthNumbr`},
		{"actions", `@at(path: \"berth_number\")`},
		{"mended", `berthNumber: Int`},
		{"completion", `"quay_code"`},
		{"definition", "doubleHull: Boolean"},
		{"plan", "4 store requests in 2 waves"},
		{"renamed", `length: Float! @at(path: \"length_m\")`},
		{"behind", "interface Logged"},
		{"formatted", "interface Named {"},
		{"end", "true"},
	} {
		if !strings.Contains(string(seen[test.step]), test.want) {
			t.Errorf("%s shows %s, want %s", test.step, seen[test.step], test.want)
		}
	}
	if asked, _ := os.ReadFile(filepath.Join(dir, "operations", "Craft.graphql")); !strings.Contains(string(asked), "length ") && !strings.Contains(string(asked), "length\n") {
		t.Errorf("the operation still asks for the old name:\n%s", asked)
	}
	// What was saved is sound, and asks the stores for what it did.
	check := exec.Command(program, "check", dir)
	check.Env = cmd.Env
	if out, err := check.CombinedOutput(); err != nil {
		t.Errorf("after that, the project is not sound: %v\n%s", err, out)
	}
	if strings.Contains(errs.String(), "rror") {
		t.Errorf("the editor complains: %s", errs.String())
	}
}

// TestEditorUse tells of wrong use, and of an editor that breaks off.
func TestEditorUse(t *testing.T) {
	if _, errs, code := osprey(t, "editor", "demo/harbour"); code != 2 || !strings.Contains(errs, "takes no arguments") {
		t.Errorf("an argument ends with %d: %s", code, errs)
	}
	for _, test := range []struct{ in, want string }{
		{"", "broke off"},
		{"Content-Length: 4\r\n\r\n{{{{", "broke off"},
		{"hello\n", "broke off"},
	} {
		cmd := exec.Command(program, "editor")
		cmd.Stdin = strings.NewReader(test.in)
		var errs bytes.Buffer
		cmd.Stderr = &errs
		err := cmd.Run()
		if code := cmd.ProcessState.ExitCode(); err == nil || code != 1 || !strings.Contains(errs.String(), test.want) {
			t.Errorf("after %q it ends with %d: %s", test.in, code, errs.String())
		}
	}
}
