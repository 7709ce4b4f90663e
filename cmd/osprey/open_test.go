package main_test

import (
	"fmt"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestOpenToOthers has a service say who may ask, or be reached from its own machine alone.
func TestOpenToOthers(t *testing.T) {
	project := func(access string) string {
		return demotest.Folder(t, map[string]string{
			"osprey.yaml":      fmt.Sprintf("sources:\n  a: { kind: files, folder: data }\n%s", access),
			"data/boats.json":  `[{"id": 1}]`,
			"schema/a.graphql": `type Query { boats: [Boat!] @read } type Boat @stored(in: "a", as: "boats", key: "id") { id: ID! }`,
		})
	}
	for _, listen := range []string{"0.0.0.0:0", ":0", "[::]:0"} {
		_, errs, code := osprey(t, "start", project(""), "--listen", listen)
		if code == 0 || !strings.Contains(errs, "can be reached from other machines, and nothing says who may ask what") || !strings.Contains(errs, "{ nobody: allowed }") {
			t.Errorf("a service that listens at %s ends with %d: %s", listen, code, errs)
		}
	}
	address, _, said := served(t, project(""))
	if got := answerAt(t, address, "{ boats { id } }"); got != `{"data":{"boats":[{"id":"1"}]}}` {
		t.Errorf("on this machine alone: %s\n%s", got, said)
	}
	said.waitFor(t, "EVERYBODY on this machine may ask everything")
	// With a word of who may ask, it is let to listen: here, where another does so already.
	_, port, _ := strings.Cut(address, ":")
	_, errs, code := osprey(t, "start", project("access: { nobody: allowed }\n"), "--listen", "0.0.0.0:"+port)
	if code == 0 || strings.Contains(errs, "nothing says who may ask") || strings.Contains(errs, "EVERYBODY") {
		t.Errorf("with a word of who may ask, it ends with %d: %s", code, errs)
	}
}

// TestRoleHere has a project of this process asked in a role.
func TestRoleHere(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      "sources:\n  a: { kind: files, folder: data }\n",
		"data/boats.json":  `[{"id": 1, "owner": "local"}, {"id": 2, "owner": "ada"}]`,
		"schema/a.graphql": `type Query { boats: [Boat!] @read } type Boat @stored(in: "a", as: "boats", key: "id") @for(roles: ["clerk"]) @for(when: "record.owner == caller.id") { id: ID! owner: String @for(roles: ["clerk"]) }`,
	})
	for _, test := range []struct {
		roles []string
		query string
		want  string
	}{
		{nil, "{ boats { id } }", `"boats": []`},
		{[]string{"--role", "guest"}, "{ boats { id } }", `"id": "1"`},
		{[]string{"--role", "guest"}, "{ boats { owner } }", `Boat has no field \"owner\"`},
		{[]string{"--role", "guest", "--role", "clerk"}, "{ boats { owner } }", `"owner": "ada"`},
	} {
		out, errs, _ := osprey(t, append([]string{"ask", "--project", dir, "--as", "json", test.query}, test.roles...)...)
		if !strings.Contains(out, test.want) {
			t.Errorf("%s in %v is answered %s%s", test.query, test.roles, out, errs)
		}
	}
	if out, errs, code := osprey(t, "explain", "--project", dir, "--role", "guest", "{ boats { id } }"); code != 0 || !strings.Contains(out, "owner = caller.id") {
		t.Errorf("the plan of a guest: %d %s%s", code, out, errs)
	}
	if _, errs, code := osprey(t, "ask", "--role", "clerk", "{ boats { id } }"); code != 2 || !strings.Contains(errs, "--role is for --project") {
		t.Errorf("a role for a service: %d %s", code, errs)
	}
}
