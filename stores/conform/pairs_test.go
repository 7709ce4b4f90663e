package conform_test

import (
	"database/sql"
	"path/filepath"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// TestCompositePairs follows pairs whose ends have keys of different lengths, both ways
// and on three databases: in one statement, or in one for each list.
func TestCompositePairs(t *testing.T) {
	mariaURL, mariaDSN := demotest.MariaDB(t)
	file := filepath.Join(t.TempDir(), "pairs.db")
	registry := demotest.Harbour().RegistryURL
	for kind, at := range map[string][2]string{
		relational.Postgres: {"pgx", registry + "?search_path=pairs"},
		relational.MySQL:    {"mysql", mariaDSN},
		relational.SQLite:   {"sqlite", file},
	} {
		t.Run(kind, func(t *testing.T) {
			db, err := sql.Open(at[0], at[1])
			if err != nil {
				t.Fatal(err)
			}
			defer db.Close()
			statements := []string{
				"CREATE TABLE berths (quay varchar(9), number int, name varchar(9), PRIMARY KEY (quay, number))", "CREATE TABLE pilots (id int PRIMARY KEY, name varchar(9))",
				"CREATE TABLE regulars (pilot int, berth_quay varchar(9), berth_number int)",
				"INSERT INTO berths VALUES ('A', 1, 'A1'), ('A', 2, 'A2'), ('B', 1, 'B1')", "INSERT INTO pilots VALUES (7, 'Oda'), (8, 'Per')",
				"INSERT INTO regulars VALUES (7, 'A', 1), (7, 'B', 1), (8, 'A', 1), (8, 'A', 9), (9, 'A', 2)",
			}
			switch kind {
			case relational.Postgres:
				statements = append([]string{"DROP SCHEMA IF EXISTS pairs CASCADE", "CREATE SCHEMA pairs"}, statements...)
			case relational.MySQL:
				statements = append([]string{"DROP DATABASE harbour", "CREATE DATABASE harbour", "USE harbour"}, statements...)
				db.SetMaxOpenConns(1)
			}
			for _, s := range statements {
				if _, err := db.Exec(s); err != nil {
					t.Fatalf("%s: %v", s, err)
				}
			}
			url := map[string]string{relational.Postgres: at[1], relational.MySQL: mariaURL, relational.SQLite: "sqlite:" + file}[kind]
			source, err := relational.Open(relational.Config{Kind: kind, URL: url, Pool: 2})
			if err != nil {
				t.Fatal(err)
			}
			defer source.Close()
			e := conform.NewEngine(t, `
type Query { berths(sort: [BerthSort!]): [Berth!]! @read  pilots(sort: [PilotSort!], filter: PilotFilter): [Pilot!]! @read }
type Berth @stored(in: "s", as: "berths", key: ["quay", "number"]) { quay: String number: Int name: String
  regulars(limit: Int): [Pilot!]! @related(through: {set: "regulars", here: ["berth_quay", "berth_number"], there: "pilot"}, sort: "id") count: Int! @total(of: "regulars") }
type Pilot @stored(in: "s", as: "pilots", key: "id") { id: Int name: String
  berths: [Berth!]! @related(through: {set: "regulars", here: "pilot", there: ["berth_quay", "berth_number"]}, sort: ["quay desc", "number"]) }
`, map[string]store.Source{"s": source})
			for op, want := range map[string]string{
				`{ berths(sort: [{name: ASC}]) { name regulars { name berths { name } } count } }`: `{"berths":[{"name":"A1","regulars":[{"name":"Oda","berths":[{"name":"B1"},{"name":"A1"}]},{"name":"Per","berths":[{"name":"A1"}]}],"count":2},{"name":"A2","regulars":[],"count":0},{"name":"B1","regulars":[{"name":"Oda","berths":[{"name":"B1"},{"name":"A1"}]}],"count":1}]}`,
				`{ pilots(sort: [{id: DESC}]) { id berths { name regulars(limit: 1) { id } } } }`:  `{"pilots":[{"id":8,"berths":[{"name":"A1","regulars":[{"id":7}]}]},{"id":7,"berths":[{"name":"B1","regulars":[{"id":7}]},{"name":"A1","regulars":[{"id":7}]}]}]}`,
				`{ pilots(filter: {berths: {with: {name: {is: "B1"}}}}) { id } }`:                  `{"pilots":[{"id":7}]}`,
			} {
				if o := e.Ask(t, op, nil); o.Data != want || len(o.Errors) > 0 || len(o.Requests) != 1 || o.Requests[0].RoundTrips != o.Plan.Requests() || kind == relational.Postgres && o.Plan.Requests() != 1 {
					t.Errorf("%s\ngives %s %s\nwant  %s\n%+v", op, o.Data, strings.Join(o.Errors, "\n"), want, o.Requests)
				}
			}
		})
	}
}
