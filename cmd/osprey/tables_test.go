package main_test

import (
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// club is types for which no table is there: keys that the database counts on and that callers
// give, references within a table, to two of another one, in a circle, pairs, an enum, JSON.
const club = `type Query {
  people(filter: PersonFilter, sort: [PersonSort!]): [Person!] @read
}

type Mutation {
  join(person: PersonAdd!): Person @add
  write(letter: LetterAdd!): Letter @add
  enter(person: ID! @at(path: "person_id"), group: ID! @at(path: "group_code")): Person
    @pair(field: "groups")
}

"Who is a member."
type Person @stored(in: "db", as: "people", key: "id") {
  id: ID!
  "As it stands on the card."
  fullName: String!
  height: Float
  paid: Boolean!
  balance: Decimal
  born: Date
  seenAt: DateTime
  level: Level!
  extras: JSON
  boss: Person @related(here: "boss_id")
  home: Group @related(here: "home_code")
  sent: [Letter!]! @related(there: "sender_id")
  groups: [Group!]! @related(through: {set: "memberships", here: ["person_id"], there: ["group_code"]})
}

type Letter @stored(in: "db", as: "letters", key: "id") {
  id: ID!
  body: String!
  sender: Person! @related(here: "sender_id")
  receiver: Person @related(here: "receiver_id")
}

type Group @stored(in: "db", as: "groups_of", key: "code") {
  code: ID!
  name: String!
  head: Person @related(here: "head_id")
}

enum Level {
  NEW @at(path: "new")
  OLD_HAND @at(path: "old hand")
}
`

// typed makes a project whose types are written by write, and of which tables runs a command: it
// must end with a code, and say what is wanted.
func typed(t *testing.T, db *empty) (dir string, write func(types string), tables func(code int, want string, args ...string) string) {
	dir = db.project("snake", "")
	schema := filepath.Join(dir, "schema/types.graphql")
	write = func(types string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(schema), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(schema, []byte(types), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	tables = func(code int, want string, args ...string) string {
		t.Helper()
		out, errs, got := osprey(t, append([]string{"tables", args[0], "--project", dir}, append(args[1:], "db")...)...)
		if got != code || !strings.Contains(out+errs, want) {
			t.Fatalf("tables %v exits with %d, and does not say %q: %s%s", args, got, want, out, errs)
		}
		return out + errs
	}
	return dir, write, tables
}

// TestTables makes tables of types on three databases: they pass check, and can be written to at
// once; nothing is left to plan; what is undone is gone; what the types get, the tables get.
func TestTables(t *testing.T) {
	eachDatabase(t, func(t *testing.T, db *empty) {
		dir, write, run := typed(t, db)
		tables := func(want string, args ...string) string {
			t.Helper()
			return run(0, want, args...)
		}
		write(club)
		drawn := picture(t, tables("<svg", "plan", "--format", "svg"))
		told := tables("tables/db/00001_begin.sql has ", "plan", "--name", "Begin")
		if drawn["rect"] != 1+4 || drawn["path"] != 2*7 || drawn["dashed"] != 1 || drawn["new"] != 4 {
			t.Errorf("drawn are %v, want four new tables, one of them a join table, and seven foreign keys", drawn)
		}
		for _, want := range []string{"memberships  (a join table)\n", "→ people (id)", "the table people\n", "Run it:  osprey tables apply"} {
			if !strings.Contains(told, want) {
				t.Errorf("the plan does not say %q:\n%s", want, told)
			}
		}
		tables("00001_begin.sql  waits", "status")
		tables("run: 00001_begin.sql", "apply")
		tables("all files were run already", "apply")
		tables("the database has all that the types need", "plan") // the law
		if drawn := picture(t, tables("<svg", "plan", "--format", "svg")); drawn["path"] != 2*7 || drawn["new"] != 0 {
			t.Errorf("behind it, drawn are %v, want nothing new", drawn)
		}
		if status := tables("00001_begin.sql  run 20", "status"); strings.Contains(status, "lacks") || strings.Contains(status, "may be NULL") {
			t.Errorf("behind it, the status is %s", status)
		}
		if out, errs, code := osprey(t, "check", dir); code != 0 || strings.Contains(out, " error: ") || strings.Contains(out, "[index]") {
			t.Errorf("check exits with %d: %s%s", code, out, errs)
		}
		got := asked(t, dir, `mutation { join(person: {fullName: "Ada", paid: true, level: OLD_HAND, balance: "1.50", born: "1990-01-02", seenAt: "2026-03-01T08:30:00Z", extras: {a: [1]}}) { id } two: join(person: {fullName: "Bo", paid: false, level: NEW, boss: 1}) { boss { fullName balance } } write(letter: {body: "Hi", sender: 2, receiver: 1}) { sender { fullName sent { body receiver { fullName level born seenAt extras paid } } } } }`)
		want := `{"data":{"join":{"id":"1"},"two":{"boss":{"fullName":"Ada","balance":"1.5"}},"write":{"sender":{"fullName":"Bo","sent":[{"body":"Hi","receiver":{"fullName":"Ada","level":"OLD_HAND","born":"1990-01-02","seenAt":"2026-03-01T08:30:00Z","extras":{"a":[1]},"paid":true}}]}}}}`
		if got = regexp.MustCompile(`"1\.50*"`).ReplaceAllString(got, `"1.5"`); got != want {
			t.Errorf("the answer is\n%s\nwant\n%s", got, want)
		}
		// What the types get, the tables get, though records are there.
		write(strings.Replace(strings.Replace(club, "  height: Float\n", "  height: Float\n  shoes: Int!\n", 1), "type Letter ", "type Stamp @stored(in: \"db\", as: \"stamps\", key: \"id\") {\n  id: ID!\n  letter: Letter! @related(here: \"letter_id\")\n}\n\ntype Letter ", 1))
		if told := tables("00002_tables.sql has 2 steps", "plan"); !strings.Contains(told, "people.shoes may be NULL, since records are there already") {
			t.Errorf("told is %s", told)
		}
		tables("run: 00002_tables.sql", "apply")
		tables("the database has all that the types need", "plan")
		// And back.
		tables("undone: 00002_tables.sql", "undo")
		if status := tables("00002_tables.sql  waits", "status"); !strings.Contains(status, "the database lacks the column people.shoes") || !strings.Contains(status, "the database lacks the table stamps") {
			t.Errorf("after it is undone, the status is %s", status)
		}
		// A column and a table are called otherwise, and others go, if that is said.
		if err := os.Remove(filepath.Join(dir, "tables/db/00002_tables.sql")); err != nil {
			t.Fatal(err)
		}
		write(strings.NewReplacer("  height: Float\n", "", "fullName", "wholeName", `as: "letters"`, `as: "mail"`, `{fullName:`, `{wholeName:`).Replace(club))
		told = tables("00002_otherwise.sql has 3 steps", "plan", "--name", "otherwise", "--rename", "people.full_name=people.whole_name", "--rename", "letters=mail", "--drop", "people.height")
		if strings.Contains(told, "is in the database, and no") {
			t.Errorf("what is chosen is told all the same: %s", told)
		}
		tables("run: 00002_otherwise.sql", "apply")
		tables("the database has all that the types need", "plan")
		if got := asked(t, dir, `{ people(sort: [{id: ASC}]) { wholeName sent { body } } }`); got != `{"data":{"people":[{"wholeName":"Ada","sent":[]},{"wholeName":"Bo","sent":[{"body":"Hi"}]}]}}` {
			t.Errorf("behind it, the answer is %s", got)
		}
		for _, wrong := range []string{"--drop people", "--drop people.nothing", "--drop nothing", "--rename people=persons", "--rename people.whole_name=people.name", "--rename people"} {
			if out, errs, code := osprey(t, append([]string{"tables", "plan", "--project", dir, "db"}, strings.Fields(wrong)...)...); code == 0 {
				t.Errorf("%s is taken: %s%s", wrong, out, errs)
			}
		}
		tables("undone: 00002_otherwise.sql", "undo")
		write(club)
		tables("the database has all that the types need", "plan")
		tables("undone: 00001_begin.sql", "undo")
		tables("no file was run", "undo")
		if status := tables("the database lacks the table people", "status"); strings.Contains(status, "is in the database, and no") {
			t.Errorf("after all is undone, the status is %s", status)
		}
	})
}

// picture counts what a drawing of tables has: elements by their names, and tables that are dashed
// or new.
func picture(t *testing.T, svg string) map[string]int {
	t.Helper()
	count := map[string]int{}
	for d := xml.NewDecoder(strings.NewReader(svg)); ; {
		token, err := d.Token()
		if err == io.EOF {
			return count
		}
		if err != nil {
			t.Fatalf("the drawing cannot be read: %v", err)
		}
		start, ok := token.(xml.StartElement)
		if !ok {
			continue
		}
		count[start.Name.Local]++
		for _, a := range start.Attr {
			switch {
			case a.Name.Local == "stroke-dasharray":
				count["dashed"]++
			case start.Name.Local == "rect" && a.Name.Local == "stroke" && a.Value == "#3d7a4a":
				count["new"]++
			}
		}
	}
}

// pool is types with more keys than one, and with what is given where a caller says nothing.
const pool = `type Query {
  swimmer(card: String!): Swimmer @read
}

type Mutation {
  join(card: String!, name: String = "guest", lane: Int! = 4, level: Level! = OLD_HAND, paid: Boolean! = false, note: String! = "it's"): Swimmer @add
  leave(card: String!): Swimmer @remove
  lend(key: LockerNew!): Locker @add(replaces: ["number", "hall"])
}

input LockerNew {
  number: Int!
  hall: String! = "west"
}

type Swimmer @stored(in: "db", as: "swimmers", key: "id") {
  id: ID!
  card: String!
  name: String
  lane: Int!
  level: Level!
  paid: Boolean!
  note: String!
  locker: Locker @related(here: "id", there: "swimmer_id")
}

type Locker @stored(in: "db", as: "lockers", key: "id") {
  id: ID!
  number: Int!
  hall: String!
  swimmer: Swimmer @related(here: "swimmer_id")
}

enum Level {
  NEW @at(path: "new")
  OLD_HAND @at(path: "old hand")
}
`

// TestTablesKeys makes unique keys and defaults of what the root fields say, and changes columns
// that are there only where they are named.
func TestTablesKeys(t *testing.T) {
	eachDatabase(t, func(t *testing.T, db *empty) {
		dir, write, tables := typed(t, db)
		const nothing = "the database has all that the types need"
		write(pool)
		tables(0, "00001_tables.sql has", "plan")
		tables(0, "run: 00001", "apply")
		tables(0, nothing, "plan")
		if out, errs, code := osprey(t, "check", dir); code != 0 || strings.Contains(out, "[unique]") {
			t.Errorf("check exits with %d: %s%s", code, out, errs)
		}
		// The database itself fills what is not given, and refuses what is there already.
		db.run("INSERT INTO swimmers (card) VALUES ('a1')\nINSERT INTO lockers (number, hall, swimmer_id) VALUES (1, 'east', 1)\nINSERT INTO lockers (number) VALUES (1)")
		for _, statement := range []string{"INSERT INTO swimmers (card) VALUES ('a1')", "INSERT INTO lockers (number, hall) VALUES (1, 'east')", "INSERT INTO lockers (number, swimmer_id) VALUES (2, 1)"} {
			if db.try(statement) == nil {
				t.Errorf("taken: %s", statement)
			}
		}
		want := `{"data":{"swimmer":{"name":"guest","lane":4,"level":"OLD_HAND","paid":false,"note":"it's","locker":{"number":1,"hall":"east"}}}}`
		if got := asked(t, dir, `{ swimmer(card: "a1") { name lane level paid note locker { number hall } } }`); got != want {
			t.Errorf("the answer is\n%s\nwant\n%s", got, want)
		}
		// A required column comes with its default where records are there; an enum gets a value.
		more := strings.NewReplacer("  paid: Boolean!\n", "  paid: Boolean!\n  depth: Int!\n", "lane: Int! = 4", "lane: Int! = 4, depth: Int! = 2", "enum Level {", "enum Level {\n  COACH @at(path: \"coach\")").Replace(pool)
		write(more)
		if db.kind == "sqlite" {
			tables(0, "swimmers.level cannot be coach, which this database says of new tables only", "plan")
		} else {
			tables(0, "that swimmers.level can be coach", "plan")
		}
		tables(0, "run: 00002", "apply")
		tables(0, nothing, "plan")
		if db.kind == "sqlite" { // whose check still refuses the value, and which says so
			write(strings.Replace(more, "  COACH @at(path: \"coach\")\n", "", 1))
		}
		if got := asked(t, dir, `{ swimmer(card: "a1") { depth } }`); got != `{"data":{"swimmer":{"depth":2}}}` {
			t.Errorf("the record that was there has %s", got)
		}
		if db.kind == "sqlite" {
			tables(1, "SQLite changes no column that is there", "plan", "--require", "swimmers.name")
			return
		}
		if got := asked(t, dir, `mutation { join(card: "c1", level: COACH, name: null) { level } }`); got != `{"data":{"join":{"level":"COACH"}}}` {
			t.Errorf("of the new value, the answer is %s", got)
		}
		// NULL is forbidden if that is said, and what is NULL gets the default.
		strict := strings.NewReplacer("name: String =", "name: String! =", "  name: String\n", "  name: String!\n").Replace(more)
		write(strict)
		tables(0, "swimmers.name may be NULL, and the type says that it is not; plan with --require swimmers.name", "plan")
		tables(0, "that swimmers.name is never NULL, and what is NULL gets the default", "plan", "--require", "swimmers.name")
		tables(0, "run: 00003", "apply")
		tables(0, nothing, "plan")
		if got := asked(t, dir, `{ swimmer(card: "c1") { name } }`); got != `{"data":{"swimmer":{"name":"guest"}}}` {
			t.Errorf("what was NULL is %s", got)
		}
		tables(0, "undone: 00003", "undo")
		if err := os.Remove(filepath.Join(dir, "tables/db/00003_tables.sql")); err != nil {
			t.Fatal(err)
		}
		// Where nothing can be put into what is NULL, it fails, and nothing is changed.
		if err := db.try("UPDATE swimmers SET name = NULL"); err != nil {
			t.Fatal(err)
		}
		write(strings.Replace(strict, `name: String! = "guest"`, "name: String!", 1))
		tables(0, "that swimmers.name is never NULL", "plan", "--require", "swimmers.name")
		tables(1, "00003_tables.sql failed", "apply")
		tables(0, "swimmers.name may be NULL", "status")
		if err := os.Remove(filepath.Join(dir, "tables/db/00003_tables.sql")); err != nil {
			t.Fatal(err)
		}
		// A column gets another type, with what is in it, as far as that fits.
		retyped := strings.NewReplacer("  lane: Int!\n", "  lane: String!\n", "lane: Int! = 4", `lane: String!`).Replace(more)
		write(strings.NewReplacer("  note: String!\n", "  note: Int!\n", `, note: String! = "it's"`, ", note: Int!").Replace(more))
		tables(0, "swimmers.note is ", "plan") // told, and left
		tables(0, "that swimmers.note is Int", "plan", "--retype", "swimmers.note")
		tables(1, "00003_tables.sql failed", "apply")
		if err := os.Remove(filepath.Join(dir, "tables/db/00003_tables.sql")); err != nil {
			t.Fatal(err)
		}
		write(retyped)
		tables(0, "that swimmers.lane is String", "plan", "--retype", "swimmers.lane")
		tables(0, "run: 00003", "apply")
		if got := asked(t, dir, `{ swimmer(card: "a1") { lane note } }`); got != `{"data":{"swimmer":{"lane":"4","note":"it's"}}}` {
			t.Errorf("after another type, the answer is %s", got)
		}
		tables(0, "undone: 00003", "undo")
		write(more)
		if got := asked(t, dir, `{ swimmer(card: "a1") { lane } }`); got != `{"data":{"swimmer":{"lane":4}}}` {
			t.Errorf("after it is undone, the answer is %s", got)
		}
	})
}

// TestTablesAfterDerive holds that what is derived needs no other tables than those it comes from.
func TestTablesAfterDerive(t *testing.T) {
	eachDatabase(t, func(t *testing.T, db *empty) {
		db.run(shop)
		dir := db.project("snake", "")
		derived(t, dir)
		out, errs, code := osprey(t, "tables", "plan", "--print", "--project", dir, "db")
		if code != 0 || strings.Contains(out, "CREATE TABLE") || strings.Contains(out, "ADD COLUMN") || strings.Contains(out, "FOREIGN KEY") {
			t.Errorf("what is derived needs %d: %s%s", code, out, errs)
		}
	})
}

// TestTablesRefused holds what is refused, and that nothing is half done.
func TestTablesRefused(t *testing.T) {
	db := emptyDatabase(t, "postgres")
	dir := db.project("snake", "")
	path := filepath.Join(dir, "schema/a.graphql")
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct{ types, want string }{
		{`type A @stored(in: "db") { name: String }`, "A has no key: say with @stored(key: …) which fields tell its records apart"},
		{`type A @stored(in: "db") { id: ID! b: B } type B @stored(in: "db") { id: ID! }`, "nothing says how A.b leads to B: write @related"},
	} {
		if err := os.WriteFile(path, []byte("type Query { a: A @read } "+test.types), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, errs, code := osprey(t, "tables", "plan", "--project", dir, "db"); code != 1 || !strings.Contains(errs, test.want) {
			t.Errorf("of %s, plan says %d %s", test.types, code, errs)
		}
	}
	// A file that fails in the middle leaves nothing.
	if err := os.WriteFile(path, []byte(`type Query { a: [A!] @read } type A @stored(in: "db", as: "aa", key: "id") { id: ID! }`), 0o644); err != nil {
		t.Fatal(err)
	}
	osprey(t, "tables", "plan", "--project", dir, "db")
	file := filepath.Join(dir, "tables/db/00001_tables.sql")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(strings.Replace(string(text), "\n-- +goose Down", "\nSELECT nowhere;\n\n-- +goose Down", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, errs, code := osprey(t, "tables", "apply", "--project", dir, "db"); code == 0 || !strings.Contains(errs, "00001_tables.sql failed") {
		t.Errorf("a file that fails is told %d %s%s", code, out, errs)
	}
	if out, _, _ := osprey(t, "tables", "status", "--project", dir, "db"); !strings.Contains(out, "00001_tables.sql  waits") || !strings.Contains(out, "lacks the table aa") {
		t.Errorf("after a failure, the status is %s", out)
	}
	other := demotest.Folder(t, map[string]string{"osprey.yaml": "sources:\n  db: { kind: files, folder: . }\n", "schema/a.graphql": "type Query { a: Int @computed(expr: \"1\") }"})
	for _, test := range []struct{ args, want string }{{"plan db", "tables are made in postgres, mysql and sqlite"}, {"plan", "say of which source"}, {"status no", `declares no source "no"`}} {
		if _, errs, code := osprey(t, append([]string{"tables"}, append(strings.Fields(test.args), "--project", other)...)...); code == 0 || !strings.Contains(errs, test.want) {
			t.Errorf("tables %s says %d %s", test.args, code, errs)
		}
	}
}
