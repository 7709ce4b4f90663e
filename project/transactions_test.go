package project

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestTransactions holds that with transactions: operation, all root fields of a mutation are
// one transaction, or none is, and that a project which says something else is refused.
func TestTransactions(t *testing.T) {
	for _, test := range []struct{ yaml, op, want, file string }{
		{"", `mutation { a: lay(name: "A") { name } b: lay(name: "A") { name } }`, `{"a":{"name":"A"},"b":null}`, `"A"`},
		{"transactions: field\n", `mutation @transaction { a: lay(name: "A") { name } b: lay(name: "A") { name } }`, `{"a":null,"b":null}`, ``},
		{"transactions: operation\n", `mutation { a: lay(name: "A") { name } b: lay(name: "A") { name } }`, `{"a":null,"b":null}`, ``},
		{"transactions: operation\n", `mutation { a: lay(name: "A") { name } b: lay(name: "B") { name } }`, `{"a":{"name":"A"},"b":{"name":"B"}}`, `"B"`},
		{"transactions: operation\n", `mutation { look(name: "0") { name } }`, `{"look":{"name":"0"}}`, ``}, // one alone need not write
		{"transactions: operation\n", `mutation { a: lay(name: "A") { name } look(name: "0") { name } }`, `look does not write, so that it cannot be a part of one transaction`, ``},
	} {
		dir := demotest.Folder(t, map[string]string{
			"osprey.yaml":      test.yaml + "sources: { port: { kind: files, folder: data } }\n",
			"data/buoys.jsonl": `{"name": "0"}` + "\n",
			"schema/a.graphql": `type Query { buoys: [Buoy!] @read } type Mutation { lay(name: ID!): Buoy @add look(name: ID!): Buoy @read } type Buoy @stored(in: "port", as: "buoys", key: "name") { name: ID! }`,
		})
		p, findings, err := Open(context.Background(), dir, nil)
		if err != nil {
			t.Fatal(findings, err)
		}
		a := p.Revision().Ask(context.Background(), &Request{Query: test.op})
		text := string(a.AppendJSON(nil, false))
		file, err := os.ReadFile(filepath.Join(dir, "data", "buoys.jsonl"))
		if err != nil || !strings.Contains(text, test.want) || strings.Contains(string(file), `"A"`) != (test.file != "") || !strings.Contains(string(file), test.file) {
			t.Errorf("%s%s\ngives %s\nwant  %s\nand the file is %s %v", test.yaml, test.op, text, test.want, file, err)
		}
		p.Close()
	}
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "transactions: all\n", "schema/a.graphql": `type Query { a: Int @computed(expr: "1") }`})
	if _, findings, err := Open(context.Background(), dir, nil); err == nil || len(findings) != 1 || findings[0].Msg != `transactions is "all"; there are field, operation` {
		t.Error(findings, err)
	}
}
