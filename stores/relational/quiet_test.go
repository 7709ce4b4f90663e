package relational_test

import (
	"fmt"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

const quietTypes = `type Query { crews: [Crew!]! @read(sort: "id") marks: [Mark!]! @read seals: [Seal!]! @read }
type Mutation {
  hire(crew: CrewAdd!): Crew @add
  hireAll(crews: [CrewAdd!]!): [Crew!] @add
  nameAll(crews: [Named!]!): [Crew!] @add(replaces: "name")
  mark(mark: MarkAdd!): Mark @add
  markAll(marks: [MarkAdd!]!): [Mark!] @add
  seal(text: String): Seal @add(set: "id: uuid()")
  leave(id: ID!): Crew @remove
  leaveAll(filter: CrewFilter!): [Crew!] @remove
}
input Named { name: String! port: String }
type Crew @stored(in: "db", as: "crews", key: "id") { id: ID! name: String! port: String boats: Int! }
type Mark @stored(in: "db", as: "marks", key: "code") { code: ID! text: String since: DateTime }
type Seal @stored(in: "db", as: "seals", key: "id") { id: ID! text: String }`

// TestQuiet writes to a server that does not say what it adds, and that counts on by a step:
// every record is answered with its own key, and no statement asks for one.
func TestQuiet(t *testing.T) {
	pretends = []string{"--version=8.0.40", "--auto-increment-increment=7", "--auto-increment-offset=3"}
	defer func() { pretends = nil }()
	db, url := emptyDatabase(t, relational.MySQL)
	run(t, db, `CREATE TABLE crews (id int AUTO_INCREMENT PRIMARY KEY, name varchar(40) COLLATE utf8mb4_general_ci NOT NULL UNIQUE, port char(9), boats int NOT NULL DEFAULT 2)
CREATE TABLE marks (code char(4) COLLATE utf8mb4_general_ci PRIMARY KEY, text varchar(20), since datetime(6) DEFAULT CURRENT_TIMESTAMP(6))
CREATE TABLE seals (id binary(16) PRIMARY KEY, text varchar(20))
CREATE TABLE odds (id varchar(36) DEFAULT (uuid()) PRIMARY KEY, text varchar(20))
SET GLOBAL log_output = 'TABLE'
SET GLOBAL general_log = ON`)
	s := openAt(t, relational.MySQL, url)
	e := conform.NewEngine(t, quietTypes, map[string]store.Source{"db": s})
	catalogue, err := s.Catalogue(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct{ op, data, errors string }{
		{`mutation { hire(crew: {name: "Ada"}) { id name port boats } }`, `{"hire":{"id":"3","name":"Ada","port":null,"boats":2}}`, ``},
		{`mutation { hireAll(crews: [{name: "Bo"}, {name: "Cy", boats: 3}, {name: "Di"}]) { id name boats } }`, `{"hireAll":[{"id":"10","name":"Bo","boats":2},{"id":"17","name":"Cy","boats":3},{"id":"24","name":"Di","boats":2}]}`, ``},
		{`mutation { hireAll(crews: [{id: 5, name: "E"}, {name: "F"}, {name: "G"}, {id: 6, name: "H"}]) { id name } }`, `{"hireAll":[{"id":"5","name":"E"},{"id":"31","name":"F"},{"id":"38","name":"G"},{"id":"6","name":"H"}]}`, ``},
		{`mutation { nameAll(crews: [{name: "ADA", port: "N"}, {name: "New"}, {name: "Bo "}]) { id name port boats } }`, `{"nameAll":[{"id":"3","name":"Ada","port":"N","boats":2},{"id":"NUM","name":"New","port":null,"boats":2},{"id":"10","name":"Bo","port":null,"boats":2}]}`, ``},
		{`mutation { markAll(marks: [{code: "b "}, {code: "A", text: "x"}]) { code text } }`, `{"markAll":[{"code":"b","text":null},{"code":"A","text":"x"}]}`, ``},
		{`mutation { mark(mark: {code: "B"}) { code } }`, `{"mark":null}`, `[mark] CONSTRAINT Mark.code "B" is taken: another record has it`},
		{`mutation { leave(id: 3) { name port } again: leave(id: 3) { id } leaveAll(filter: {name: {in: ["E", "H", "none"]}}) { id name } }`, `{"leave":{"name":"Ada","port":"N"},"again":null,"leaveAll":[{"id":"5","name":"E"},{"id":"6","name":"H"}]}`, ``},
	} {
		o := e.Ask(t, test.op, nil)
		data := o.Data
		if i := strings.Index(data, `","name":"New"`); i > 0 { // what an upsert counts on is the server's
			data = data[:strings.LastIndex(data[:i], `"`)+1] + "NUM" + data[i:]
		}
		if errors := strings.Join(o.Errors, " "); data != test.data || errors != test.errors {
			t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, o.Errors, test.data, test.errors)
		}
	}
	o := e.Ask(t, `mutation { seal(text: "wax") { id text } }`, nil)
	if stored := e.Ask(t, `{ seals { id text } }`, nil); len(o.Errors) > 0 || strings.Replace(o.Data, `"seal":`, `"seals":[`, 1) != strings.Replace(stored.Data, "]}", "}", 1) {
		t.Errorf("a seal is answered with %s %v, and stored as %s", o.Data, o.Errors, stored.Data)
	}
	// From many at once: each list is answered with its own records.
	done := make(chan string)
	for worker := range 8 {
		go func() {
			for n := range 10 {
				names := fmt.Sprintf(`{name:"%d-%d-0"},{name:"%[1]d-%[2]d-1"},{name:"%[1]d-%[2]d-2"}`, worker, n)
				o := e.Ask(t, `mutation { hireAll(crews: [`+names+`]) { name } }`, nil)
				if want := `{"hireAll":[` + strings.ReplaceAll(names, "name:", `"name":`) + `]}`; o.Data != want || len(o.Errors) > 0 {
					done <- fmt.Sprint(o.Data, o.Errors)
					return
				}
			}
			done <- ""
		}()
	}
	for range 8 {
		if failed := <-done; failed != "" {
			t.Error(failed)
		}
	}
	holds(t, db, "SELECT count(*) FROM crews WHERE name LIKE '%-%-%'", "240")
	holds(t, db, "SELECT count(*) >= 85 FROM mysql.general_log WHERE argument LIKE 'INSERT%'", "1")
	holds(t, db, "SELECT count(*) FROM mysql.general_log WHERE argument LIKE 'INSERT% RETURNING %' OR argument LIKE 'DELETE% RETURNING %'", "0")
	// A key that nobody can know is refused by check.
	for set, want := range map[string]string{"odds": "the server does not say which key it has made of a record of odds", "crews": ""} {
		err := s.Capabilities().Write.Takes(catalogue, &store.Write{Action: store.Add, Set: set, Columns: []store.Given{{Field: "text"}}})
		if (err == nil) != (want == "") || err != nil && !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v", set, err)
		}
	}
}
