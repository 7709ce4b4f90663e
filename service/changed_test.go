package service_test

import (
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/demo/demotest"
	"osprey/project"
)

// TestTableChanges changes a table while it is served: a column that is gone, or of
// another type, is told as what it is; what still fits is answered; and when the
// schema fits again, it is served without a restart.
func TestTableChanges(t *testing.T) {
	conn, err := pgx.Connect(t.Context(), demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	change := func(statement string) {
		t.Helper()
		if _, err := conn.Exec(context.Background(), statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	change(`DROP SCHEMA IF EXISTS changing CASCADE; CREATE SCHEMA changing;
		CREATE TABLE changing.buoys (id int PRIMARY KEY, name text NOT NULL, laid bigint NOT NULL); INSERT INTO changing.buoys VALUES (1, 'Kelp', 1735689600000000)`)
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      "sources:\n  sea: { kind: postgres, url: \"" + demotest.Harbour().RegistryURL + "?search_path=changing\" }\n",
		"schema/a.graphql": "type Query { buoys: [Buoy!] @read }\ntype Buoy @stored(in: \"sea\", as: \"buoys\", key: \"id\") { id: ID! name: String laid: Int64 }",
	})
	var log syncBuffer
	p, findings, err := project.Open(context.Background(), dir, slog.New(slog.NewTextHandler(&log, nil)))
	if err != nil {
		t.Fatal(err, findings)
	}
	defer p.Close()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go p.Follow(ctx)
	ask := func(query string) string {
		a := p.Revision().Ask(context.Background(), &project.Request{Query: query})
		defer a.Free()
		return string(a.AppendJSON(nil, false))
	}
	until := func(query, want string) {
		t.Helper()
		deadline := time.Now().Add(10 * time.Second)
		for {
			got := ask(query)
			if got == want {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s answers %s, want %s; the log says %s", query, got, want, log.String())
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	until(`{ buoys { name laid } }`, `{"data":{"buoys":[{"name":"Kelp","laid":"1735689600000000"}]}}`)
	// Eight bytes are a number, and a moment: nobody may take one for the other.
	change(`ALTER TABLE changing.buoys ALTER laid TYPE timestamptz USING to_timestamp(laid / 1000000)`)
	if got := ask(`{ buoys { name laid } }`); !strings.Contains(got, `"code":"STORE_CHANGED","source":"sea"`) || !strings.Contains(got, "the source sea no longer holds what the schema is bound to; it is looked at again") {
		t.Errorf("after a type has changed, it answers %s", got)
	}
	until(`{ buoys { name } }`, `{"data":{"buoys":[{"name":"Kelp"}]}}`)
	for range 100 {
		if strings.Contains(log.String(), "does not fit it any more") {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if !strings.Contains(log.String(), "Buoy.laid is of the type Int64") || !strings.Contains(log.String(), "a.graphql:2:") {
		t.Errorf("the log says %s", log.String())
	}
	change(`ALTER TABLE changing.buoys ALTER laid TYPE int USING 7`)
	until(`{ buoys { laid } }`, `{"data":{"buoys":[{"laid":"7"}]}}`)
	// A column that is gone, and comes again.
	change(`ALTER TABLE changing.buoys RENAME name TO label`)
	if got := ask(`{ buoys { name } }`); !strings.Contains(got, "STORE_CHANGED") || strings.Contains(got, "label") {
		t.Errorf("after a column is gone, it answers %s", got)
	}
	until(`{ buoys { laid } }`, `{"data":{"buoys":[{"laid":"7"}]}}`)
	change(`ALTER TABLE changing.buoys RENAME label TO name`)
	until(`{ buoys { name } }`, `{"data":{"buoys":[{"name":"Kelp"}]}}`)
}
