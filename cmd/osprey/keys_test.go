package main_test

import (
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestKeys makes keys by the command line, for the file and for a running service, asks with them, and
// revokes them.
func TestKeys(t *testing.T) {
	out, errs, code := osprey(t, "keys", "make", "office \"Ann's\"", "--role", "admin", "--role", "clerk", "--for", "24h")
	_, entry, _ := strings.Cut(errs, "write into osprey.yaml:\n\n")
	if code != 0 || !strings.HasPrefix(out, "osprey_") || !strings.HasPrefix(entry, "access:\n  keys:\n") || strings.Contains(errs, strings.TrimSpace(out)) {
		t.Fatalf("it exits with %d:\n%s\n%s", code, out, errs)
	}
	office := strings.TrimSpace(out)
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      fmt.Sprintf("records: { url: %q }\n%s  admin: [admin]\n", demotest.Database(t), entry),
		"schema/a.graphql": "type Query { me: String @computed(expr: \"caller.name + ' ' + caller.roles.join('+')\") }",
	})
	at, _, said := served(t, dir)
	url := "http://" + at
	if _, errs, code := osprey(t, "ask", "{ me }", "--url", url); code != 1 || !strings.Contains(errs, "this service answers callers that it knows [UNKNOWN_CALLER]") {
		t.Errorf("without a key it exits with %d: %s", code, errs)
	}
	out, errs, code = osprey(t, "ask", "{ me }", "--url", url, "--key", office)
	if code != 0 || !strings.Contains(out, `office \"Ann's\" admin+clerk`) {
		t.Errorf("it exits with %d: %s %s", code, out, errs)
	}
	os.Setenv("OSPREY_KEY", office)
	defer os.Unsetenv("OSPREY_KEY")
	for _, args := range [][]string{{"keys", "list", "--url", url}, {"revisions", "--url", url}, {"traffic", "--url", url}, {"explain", "{ me }", "--url", url}, {"publish", dir, "--to", url}, {"diff", url, url}} {
		if out, errs, code := osprey(t, args...); code != 0 {
			t.Errorf("%v exits with %d: %s %s", args, code, out, errs)
		}
	}
	out, errs, code = osprey(t, "keys", "add", "board", "--role", "screen", "--to", url)
	board := strings.TrimSpace(out)
	if code != 0 || !regexp.MustCompile(`^osprey_\w+_\w{40,}$`).MatchString(board) || !strings.Contains(errs, "is not shown again") {
		t.Fatalf("it exits with %d: %s %s", code, out, errs)
	}
	if out, _, code := osprey(t, "ask", "{ me }", "--url", url, "--key", board); code != 0 || !strings.Contains(out, "board screen") {
		t.Errorf("the new key is answered with %d: %s", code, out)
	}
	out, _, _ = osprey(t, "keys", "list", "--url", url)
	id := strings.Split(board, "_")[1]
	if !strings.Contains(out, id+"  board  screen") || strings.Contains(out, board) || !strings.Contains(out, "holds") {
		t.Errorf("the list is:\n%s", out)
	}
	var list struct {
		Keys []struct{ ID, By string }
	}
	out, _, _ = osprey(t, "keys", "list", "--url", url, "--format", "json")
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list.Keys) != 1 || list.Keys[0].By != `office "Ann's"` {
		t.Errorf("the list is %s: %v", out, err)
	}
	if _, errs, code := osprey(t, "keys", "add", "more", "--to", url, "--key", board); code != 1 || !strings.Contains(errs, "those who run the service") {
		t.Errorf("the board makes a key: %d, %s", code, errs)
	}
	if out, errs, code := osprey(t, "keys", "revoke", id, "--to", url); code != 0 || !strings.Contains(out, "holds no more") {
		t.Errorf("it exits with %d: %s %s", code, out, errs)
	}
	if _, errs, code := osprey(t, "ask", "{ me }", "--url", url, "--key", board); code != 1 || !strings.Contains(errs, "the key is not known") {
		t.Errorf("a revoked key is answered with %d: %s", code, errs)
	}
	if out, _, _ := osprey(t, "keys", "list", "--url", url); !strings.Contains(out, `revoked by office "Ann's"`) {
		t.Errorf("the list is:\n%s", out)
	}
	for _, test := range []struct {
		args []string
		want string
	}{
		{[]string{"keys", "add", "--to", url}, "say for which client program"},
		{[]string{"keys", "make", "x", "--for", "-1h"}, "--for is a length of time"},
		{[]string{"keys", "revoke", "--to", url}, "say which key"},
		{[]string{"keys", "list", "--url", url, "--format", "x"}, "it is text or json"},
	} {
		if _, errs, code := osprey(t, test.args...); code != 2 || !strings.Contains(errs, test.want) {
			t.Errorf("%v exits with %d: %s", test.args, code, errs)
		}
	}
	for _, secret := range []string{office, board} {
		if strings.Contains(said.String(), secret[20:]) {
			t.Errorf("the log tells a secret: %s", said)
		}
	}
}
