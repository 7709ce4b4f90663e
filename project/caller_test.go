package project_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"log/slog"
	"path/filepath"
	"testing"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/project"
)

// TestCaller has expressions look at who asks: in computed fields, and in what is written.
func TestCaller(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml": "sources:\n  db: { kind: sqlite, url: \"sqlite:a.db\", naming: snake }\nidempotency: { source: db, table: done }\n",
		"schema/a.graphql": `type Query {
  me: String @computed(expr: "caller.id == null ? 'nobody' : caller.id + ' ' + caller.name + ' ' + string(caller.roles.size())")
  port: String @computed(expr: "'port' in caller.claims ? string(caller.claims.port.name) : null")
  berths: Int @computed(expr: "'berths' in caller.claims ? int(caller.claims.berths) + 1 : null")
  boats: [Boat!] @read
}
type Mutation { add(name: String!): Boat @add(set: ["addedBy: caller.id == null ? 'nobody' : caller.id"]) }
type Boat @stored(in: "db", as: "boats", key: "id") {
  id: ID!
  name: String!
  addedBy: String!
  mine: Boolean! @computed(expr: "record.addedBy == caller.id")
  seen: Boolean! @computed(expr: "'clerk' in caller.roles")
}
`})
	db, err := sql.Open("sqlite", filepath.Join(dir, "a.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT NOT NULL, added_by TEXT NOT NULL); CREATE TABLE done (id text PRIMARY KEY, fingerprint text NOT NULL, answer text, made_at text NOT NULL DEFAULT (datetime('now')))"); err != nil {
		t.Fatal(err)
	}
	p, findings, err := project.Open(t.Context(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings.JSON(dir))
	}
	defer p.Close()
	ada := &store.Identity{ID: "ada", Name: "Ada", Roles: []string{"clerk", "pilot"}, Claims: map[string]any{"port": map[string]any{"name": "Skerrow"}, "berths": json.Number("3")}}
	bea := &store.Identity{ID: "bea", Name: "Bea"}
	ask := func(who *store.Identity, once, query, want string) {
		t.Helper()
		r, release := p.Hold()
		defer release()
		a := r.Ask(context.Background(), &project.Request{Query: query, Once: once, Caller: &store.Caller{Who: who}})
		defer a.Free()
		if got := string(a.AppendJSON(nil, false)); got != want {
			t.Errorf("%s is answered with %s, and not %s", query, got, want)
		}
	}
	ask(nil, "", "{ me port }", `{"data":{"me":"nobody","port":null}}`)
	ask(ada, "", "{ me port berths }", `{"data":{"me":"ada Ada 2","port":"Skerrow","berths":4}}`)
	ask(bea, "", "{ me port }", `{"data":{"me":"bea Bea 0","port":null}}`)
	ask(ada, "", `mutation { add(name: "Ebb") { name addedBy mine seen } }`, `{"data":{"add":{"name":"Ebb","addedBy":"ada","mine":true,"seen":true}}}`)
	ask(nil, "", `mutation { add(name: "Flow") { name addedBy mine seen } }`, `{"data":{"add":{"name":"Flow","addedBy":"nobody","mine":false,"seen":false}}}`)
	ask(bea, "", "{ boats { name mine } }", `{"data":{"boats":[{"name":"Ebb","mine":false},{"name":"Flow","mine":false}]}}`)
	ask(ada, "", "{ boats { name mine } }", `{"data":{"boats":[{"name":"Ebb","mine":true},{"name":"Flow","mine":false}]}}`)
	// A mutation that is done once is not answered to another with what it was answered to the first.
	ask(ada, "k", `mutation { add(name: "Spring") { addedBy } }`, `{"data":{"add":{"addedBy":"ada"}}}`)
	ask(ada, "k", `mutation { add(name: "Spring") { addedBy } }`, `{"data":{"add":{"addedBy":"ada"}}}`)
	ask(bea, "k", `mutation { add(name: "Spring") { addedBy } }`, `{"errors":[{"message":"another mutation was done under this key","extensions":{"code":"REUSED","fix":"give each mutation a key of its own"}}]}`)
}
