package relational_test

import (
	"database/sql"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// writtenTypes are quays, berths and port calls that are written to: by arguments, by one
// input object, and by a list of them.
const writtenTypes = `type Query { quays: [Quay!]! @read calls: [PortCall!]! @read(sort: "id") }
type Mutation {
  build(code: ID!, name: String): Quay @add
  buildAll(quays: [QuayAdd!]!): [Quay!] @add
  berth(berth: BerthAdd!): Berth @add
  arrive(call: PortCallAdd!): PortCall @add
  arriveAll(calls: [PortCallAdd!]!): [PortCall!]! @add
  mustArrive(call: PortCallAdd!): PortCall! @add
  correct(id: ID!, change: PortCallChange!): PortCall @change
  mustCorrect(id: ID!, plain: String): PortCall! @change
  move(id: ID!, berthNumber: Int): PortCall @change
  rename(code: ID!, name: String! = "Nameless"): Quay @change
  strike(id: ID!): PortCall @remove
  raze(code: ID!): Quay @remove
}
type Quay @stored(in: "db", as: "quays", key: "code") { code: ID! name: String! calls: [PortCall!]! @related(here: "code", there: "quay", sort: "id") visits: Int! @total(of: "calls") }
type Berth @stored(in: "db", as: "berths", key: ["quay", "number"]) { quay: Quay! @related(here: "quay", there: "code") number: Int! }
type PortCall @stored(in: "db", as: "calls", key: "id") {
  id: ID!
  quay: Quay @related(here: "quay", there: "code")
  berthNumber: Int @at(path: "berth")
  noted: DateTime!
  plain: String
  twice: Int
}`

// written opens the constrained tables of a database behind the types that write to them.
func written(t *testing.T, kind string) (*conform.Engine, *sql.DB) {
	t.Helper()
	var tables strings.Builder
	for _, statement := range constrained[kind] {
		tables.WriteString(strings.ReplaceAll(statement, "\n", " ") + "\n")
	}
	e, db := engineOf(t, kind, writtenTypes, strings.TrimSpace(tables.String()))
	run(t, db, `INSERT INTO quays VALUES ('N', 'Nord'), ('S', 'Süd')
INSERT INTO berths VALUES ('N', 1), ('N', 2), ('S', 1)`)
	return e, db
}

// TestMutations adds, changes and removes through a schema, in every database: each
// answer is as wanted, with any selection, and what the tables hold then is read by the
// driver.
func TestMutations(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			e, db := written(t, kind)
			for _, test := range []struct{ op, data, errors string }{
				{`mutation { build(code: "O", name: "Ost ⚓ 'x'") { code name visits calls { id } } }`, `{"build":{"code":"O","name":"Ost ⚓ 'x'","visits":0,"calls":[]}}`, ``},
				{`mutation { buildAll(quays: [{code: "A", name: "Alt"}, {code: "B", name: "Bau"}]) { name } }`, `{"buildAll":[{"name":"Alt"},{"name":"Bau"}]}`, ``},
				{`mutation { buildAll(quays: []) { name } }`, `{"buildAll":[]}`, ``},
				{`mutation { berth(berth: {quay: "O", number: 7}) { number quay { name } } }`, `{"berth":{"number":7,"quay":{"name":"Ost ⚓ 'x'"}}}`, ``},
				{`mutation { arrive(call: {quay: "N", berthNumber: 2, noted: "2026-03-01T08:30:00Z", plain: "a"}) { id twice noted quay { name visits calls { id } } } }`, `{"arrive":{"id":"1","twice":4,"noted":"2026-03-01T08:30:00Z","quay":{"name":"Nord","visits":1,"calls":[{"id":"1"}]}}}`, ``},
				{`mutation { arriveAll(calls: [{}, {quay: "S", noted: "2026-03-02T00:00:00Z"}, {plain: null, berthNumber: 9}]) { id quay { code } berthNumber } }`, `{"arriveAll":[{"id":"2","quay":null,"berthNumber":null},{"id":"3","quay":{"code":"S"},"berthNumber":null},{"id":"4","quay":null,"berthNumber":9}]}`, ``},
				{`mutation { arriveAll(calls: [{}, {}]) { id plain } }`, `{"arriveAll":[{"id":"5","plain":null},{"id":"6","plain":null}]}`, ``},
				// Absent leaves alone, and null clears.
				{`mutation { correct(id: 1, change: {plain: "b"}) { berthNumber plain quay { code } } }`, `{"correct":{"berthNumber":2,"plain":"b","quay":{"code":"N"}}}`, ``},
				{`mutation { correct(id: 1, change: {quay: null, plain: null}) { berthNumber plain quay { code } } }`, `{"correct":{"berthNumber":2,"plain":null,"quay":null}}`, ``},
				{`mutation { correct(id: 1, change: {}) { id plain } }`, `{"correct":{"id":"1","plain":null}}`, ``},
				{`mutation { correct(id: 99, change: {plain: "x"}) { id } }`, `{"correct":null}`, ``},
				{`mutation { move(id: 1) { berthNumber } }`, `{"move":{"berthNumber":2}}`, ``},
				{`mutation { move(id: 1, berthNumber: null) { berthNumber twice } }`, `{"move":{"berthNumber":null,"twice":null}}`, ``},
				{`mutation { rename(code: "B") { name } }`, `{"rename":{"name":"Nameless"}}`, ``},
				// In their order, each as a whole; what is removed is answered as it was.
				{`mutation { one: arrive(call: {quay: "B", plain: "z"}) { id } raze(code: "A") { name visits } two: correct(id: 7, change: {plain: "y"}) { plain } strike(id: 7) { plain quay { name visits } } again: strike(id: 7) { id } raze2: raze(code: "B") { code } }`,
					`{"one":{"id":"7"},"raze":{"name":"Alt","visits":0},"two":{"plain":"y"},"strike":{"plain":"y","quay":{"name":"Nameless","visits":1}},"again":null,"raze2":{"code":"B"}}`, ``},
				// What breaks a rule is told in the schema's words, and the others are done.
				{`mutation { build(code: "N", name: "Neu") { code } next: build(code: "W", name: "West") { code } }`, `{"build":null,"next":{"code":"W"}}`, `[build] CONSTRAINT Quay.code "N" is taken: another record has it`},
				{`mutation { build(code: "X", name: "Nord") { code } }`, `{"build":null}`, `[build] CONSTRAINT Quay.name "Nord" is taken: another record has it`},
				{`mutation { build(code: "X") { code } }`, `{"build":null}`, `[build] CONSTRAINT Quay.name is required`},
				{`mutation { buildAll(quays: [{code: "Y", name: "Yard"}, {code: "Z", name: "Nord"}]) { code } }`, `{"buildAll":null}`, `[buildAll] CONSTRAINT Quay.name is taken: another record has it`},
				{`mutation { mustArrive(call: {plain: "q"}) { id } after: mustArrive(call: {plain: "q"}) { id } never: arrive(call: {plain: "never"}) { id } }`, `null`, `[after] CONSTRAINT PortCall.plain "q" is taken: another record has it`},
				{`mutation { mustCorrect(id: 99, plain: "w") { id } never: arrive(call: {plain: "never"}) { id } }`, `null`, `[mustCorrect] NOT_FOUND Mutation.mustCorrect is required, and there is no value for it`},
			} {
				o := e.Ask(t, test.op, nil)
				if errors := strings.Join(o.Errors, " "); o.Data != test.data || errors != test.errors {
					t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, o.Errors, test.data, test.errors)
				}
			}
			o := e.Ask(t, `mutation { arriveAll(calls: [`+strings.Repeat("{}, ", 1001)+`]) { id } }`, nil)
			if want := `[arriveAll] BAD_VALUE the argument "calls" has more than 1000 records, which is the most that one field may write: found 1001`; !strings.HasPrefix(strings.Join(o.Errors, " "), want) {
				t.Errorf("a list of 1001 gives %v", o.Errors)
			}
			for query, want := range map[string]string{
				"SELECT count(*) FROM quays":                         "4", // N, S, O, W
				"SELECT count(*) FROM berths":                        "4",
				"SELECT count(*) FROM calls WHERE plain = 'never'":   "0",
				"SELECT count(*) FROM calls WHERE plain = 'q'":       "1",
				"SELECT count(*) FROM quays WHERE code IN ('Y','Z')": "0",
				"SELECT name FROM quays WHERE code = 'O'":            "Ost ⚓ 'x'",
			} {
				var is string
				if err := db.QueryRow(query).Scan(&is); err != nil || is != want {
					t.Errorf("%s is %q %v, want %q", query, is, err, want)
				}
			}
		})
	}
}

// TestForeignKeysAreTold writes what foreign keys refuse, where the database says which.
func TestForeignKeysAreTold(t *testing.T) {
	for _, kind := range []string{relational.Postgres, relational.MySQL} {
		t.Run(kind, func(t *testing.T) {
			e, _ := written(t, kind)
			for _, test := range []struct{ op, errors string }{
				{`mutation { berth(berth: {quay: "Q", number: 1}) { number } }`, `[berth] CONSTRAINT Berth.quay "Q" leads to no record`},
				{`mutation { arrive(call: {quay: "N", berthNumber: 9}) { id } }`, `[arrive] CONSTRAINT PortCall.quay "N" and PortCall.berthNumber 9 lead to no record together`},
				{`mutation { raze(code: "N") { code } }`, `[raze] CONSTRAINT the record is still referred to, by Berth.quay`},
				{`mutation { build(code: "FAR TOO LONG", name: "x") { code } }`, `[build] CONSTRAINT Quay.code holds at most 4 characters`},
				{`mutation { move(id: 1, berthNumber: 1) { id } }`, ``},
			} {
				o := e.Ask(t, test.op, nil)
				if errors := strings.Join(o.Errors, " "); errors != test.errors || strings.Contains(o.Data, "code") {
					t.Errorf("%s\ngives %s %v\nwant  %s", test.op, o.Data, o.Errors, test.errors)
				}
			}
		})
	}
}

// TestWritesAreOneTransaction counts at PostgreSQL what a write and the reading of its
// answer are: the write, one statement for all that is selected in the same database, and
// one transaction.
func TestWritesAreOneTransaction(t *testing.T) {
	e, db := written(t, relational.Postgres)
	count := demotest.Statements(t)
	transactions := func() (n int) {
		if err := db.QueryRow("SELECT count(DISTINCT xmin::text) FROM calls").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	var calls []string
	for i := range 100 {
		calls = append(calls, fmt.Sprintf(`{plain: "call %d", quay: "N", noted: "2026-03-01T%02d:%02d:00Z"}`, i, i/60, i%60))
	}
	before := count()
	o := e.Ask(t, `mutation { arriveAll(calls: [`+strings.Join(calls, ", ")+`]) { id quay { name calls { plain } } } }`, nil)
	after := count()
	if len(o.Errors) > 0 || strings.Count(o.Data, `"id":`) != 100 || after-before != 4 || transactions() != 1 {
		t.Errorf("a list of 100 and its answer are %d statements and %d transactions, %v", after-before, transactions(), o.Errors)
	}
}

// TestTwoWritersAtOnce lets eight change the same records in opposite orders: each change
// is done as a whole, and all are done.
func TestTwoWritersAtOnce(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			e, db := written(t, kind)
			e.Ask(t, `mutation { arriveAll(calls: [{plain: "a"}, {plain: "b"}]) { id } }`, nil)
			var wait sync.WaitGroup
			for writer := range 8 {
				wait.Go(func() {
					for i := range 10 {
						o := e.Ask(t, fmt.Sprintf(`mutation { move(id: %d, berthNumber: %d) { id berthNumber } arrive(call: {plain: "%d of %d"}) { id } }`, 1+i%2, writer, i, writer), nil)
						if len(o.Errors) > 0 || !strings.Contains(o.Data, fmt.Sprintf(`"berthNumber":%d`, writer)) {
							t.Errorf("a writer gets %s %v", o.Data, o.Errors)
						}
					}
				})
			}
			wait.Wait()
			var n int
			if err := db.QueryRow("SELECT count(*) FROM calls").Scan(&n); err != nil || n != 82 {
				t.Errorf("there are %d calls %v, want 82", n, err)
			}
		})
	}
}

// TestConflict lets a change wait for another one in a database that then refuses it: it
// is begun again, as a whole. One that always meets another one is an error of its own.
func TestConflict(t *testing.T) {
	db, url := emptyDatabase(t, relational.Postgres)
	run(t, db, `CREATE TABLE calls (id int PRIMARY KEY, plain text, ballast int)
INSERT INTO calls VALUES (1, 'a', 0)
CREATE SEQUENCE attempts
CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN IF NEW.plain = ''never'' THEN PERFORM nextval(''attempts''); RAISE serialization_failure; END IF; RETURN NEW; END'
CREATE TRIGGER refuse BEFORE UPDATE ON calls FOR EACH ROW EXECUTE FUNCTION refuse()`)
	e := conform.NewEngine(t, `type Query { calls: [PortCall!]! @read }
type Mutation { correct(id: ID!, plain: String): PortCall @change }
type PortCall @stored(in: "db", as: "calls", key: "id") { id: ID! plain: String ballast: Int }`,
		map[string]store.Source{"db": openAt(t, relational.Postgres, url+"&default_transaction_isolation=serializable")})
	other, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	defer other.Rollback()
	if _, err := other.Exec("UPDATE calls SET ballast = 7 WHERE id = 1"); err != nil {
		t.Fatal(err)
	}
	done := make(chan conform.Outcome)
	go func() { done <- e.Ask(t, `mutation { correct(id: 1, plain: "b") { plain ballast } }`, nil) }()
	for waiting := 0; waiting == 0; time.Sleep(5 * time.Millisecond) {
		if err := db.QueryRow("SELECT count(*) FROM pg_locks WHERE NOT granted").Scan(&waiting); err != nil {
			t.Fatal(err)
		}
	}
	if err := other.Commit(); err != nil {
		t.Fatal(err)
	}
	if o := <-done; o.Data != `{"correct":{"plain":"b","ballast":7}}` || len(o.Errors) > 0 {
		t.Errorf("behind another change, one gives %s %v", o.Data, o.Errors)
	}
	o := e.Ask(t, `mutation { correct(id: 1, plain: "never") { plain } }`, nil)
	var attempts int
	if err := db.QueryRow("SELECT last_value FROM attempts").Scan(&attempts); err != nil {
		t.Fatal(err)
	}
	want := "[correct] CONFLICT Mutation.correct met another change of the same records several times, and nothing of it is done"
	if errors := strings.Join(o.Errors, " "); errors != want || attempts != 4 {
		t.Errorf("what always meets another one is tried %d times, and gives %s\nwant %s", attempts, errors, want)
	}
}

// TestRuleAtTheEnd breaks a rule that PostgreSQL looks at when the transaction ends.
func TestRuleAtTheEnd(t *testing.T) {
	e, db := engineOf(t, relational.Postgres, `type Query { calls: [PortCall!]! @read }
type Mutation { arrive(id: ID!, after: ID): PortCall @add }
type PortCall @stored(in: "db", as: "calls", key: "id") { id: ID! after: PortCall @related(here: "after", there: "id") }`,
		"CREATE TABLE calls (id int PRIMARY KEY, after int REFERENCES calls DEFERRABLE INITIALLY DEFERRED)")
	if o := e.Ask(t, `mutation { arrive(id: 1, after: 2) { id } }`, nil); strings.Join(o.Errors, " ") != `[arrive] CONSTRAINT PortCall.after 2 leads to no record` {
		t.Errorf("it gives %s %v", o.Data, o.Errors)
	}
	if o := e.Ask(t, `mutation { arrive(id: 1, after: 1) { id after { after { id } } } }`, nil); o.Data != `{"arrive":{"id":"1","after":{"after":{"id":"1"}}}}` {
		t.Errorf("it gives %s %v", o.Data, o.Errors)
	}
	var n int
	if err := db.QueryRow("SELECT count(*) FROM calls").Scan(&n); err != nil || n != 1 {
		t.Errorf("there are %d calls, %v", n, err)
	}
}

// TestWritesOfTypes writes records of several types in one set: what is added is of the
// field's type, and what is of another one is not found.
func TestWritesOfTypes(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			e, db := engineOf(t, kind, `type Query { fleet: [Craft!]! @read(sort: "imo") }
type Mutation {
  launch(imo: ID!, name: String!, sponsor: String): Tug @add
  register(craft: FerryAdd!): Ferry @add
  rename(imo: ID!, name: String!): Tug @change
  call(imo: ID!, name: String!): Craft @change
  scrap(imo: ID!): Ferry @remove
}
interface Craft @stored(in: "db", as: "craft", key: "imo") @kind(by: "kind") { imo: ID! name: String! sponsor: String }
type Tug implements Craft @kind(is: "tug") { imo: ID! name: String! sponsor: String pull: Decimal }
type Ferry implements Craft @kind(is: "ferry") { imo: ID! name: String! sponsor: String cars: Int }`,
				"CREATE TABLE craft (imo int PRIMARY KEY, kind varchar(10) NOT NULL, name varchar(40) NOT NULL, sponsor varchar(40), pull decimal(6, 1), cars int)")
			op := `mutation { launch(imo: 1, name: "Bristle") { imo name pull } register(craft: {imo: 2, name: "Merle", cars: 40}) { cars name } }`
			if o := e.Ask(t, op, nil); o.Data != `{"launch":{"imo":"1","name":"Bristle","pull":null},"register":{"cars":40,"name":"Merle"}}` || len(o.Errors) > 0 {
				t.Errorf("it gives %s %v", o.Data, o.Errors)
			}
			op = `mutation { rename(imo: 2, name: "Wrong") { name } scrap(imo: 1) { name } right: rename(imo: 1, name: "Burr") { name } call(imo: 2, name: "Ouzel") { __typename name } scrapped: scrap(imo: 2) { name cars } }`
			if o := e.Ask(t, op, nil); o.Data != `{"rename":null,"scrap":null,"right":{"name":"Burr"},"call":{"__typename":"Ferry","name":"Ouzel"},"scrapped":{"name":"Ouzel","cars":40}}` || len(o.Errors) > 0 {
				t.Errorf("it gives %s %v", o.Data, o.Errors)
			}
			var left string
			if err := db.QueryRow("SELECT name FROM craft WHERE kind = 'tug'").Scan(&left); err != nil || left != "Burr" {
				t.Errorf("left is %q, %v", left, err)
			}
		})
	}
}

// TestNothingIsRounded writes what a column could only hold in part, also in a MariaDB that
// would cut it: it is refused, and what it holds exactly is written.
func TestNothingIsRounded(t *testing.T) {
	for kind, tables := range map[string]string{
		relational.Postgres: "CREATE TABLE dues (id int PRIMARY KEY, amount numeric(6, 2), paid timestamptz(0), any_amount numeric, note varchar(4))",
		relational.MySQL:    "SET GLOBAL sql_mode = ''\nCREATE TABLE dues (id int PRIMARY KEY, amount decimal(6, 2), paid datetime, any_amount decimal(30, 10), note varchar(4))",
	} {
		t.Run(kind, func(t *testing.T) {
			e, db := engineOf(t, kind, `type Query { dues: [Due!] @read }
type Mutation { owe(id: ID!, amount: Decimal, paid: DateTime, anyAmount: Decimal, note: String): Due @add }
type Due @stored(in: "db", as: "dues", key: "id") { id: ID! amount: Decimal paid: DateTime anyAmount: Decimal @at(path: "any_amount") note: String }`, tables)
			for n, test := range []struct{ given, want, errors string }{
				{`amount: "1.25", paid: "2026-03-01T08:30:00Z", anyAmount: "0.0001"`, `{"owe":{"amount":"1.25","paid":"2026-03-01T08:30:00Z"}}`, ``},
				{`amount: "1.2500"`, `{"owe":{"amount":"1.25","paid":null}}`, ``},
				{`amount: "12e2"`, `{"owe":{"amount":"1200.00","paid":null}}`, ``},
				{`amount: "1.255"`, `{"owe":null}`, `[owe] CONSTRAINT Due.amount holds at most 2 digits behind the point`},
				{`amount: "1e-3"`, `{"owe":null}`, `[owe] CONSTRAINT Due.amount holds at most 2 digits behind the point`},
				{`paid: "2026-03-01T08:30:00.5Z"`, `{"owe":null}`, `[owe] CONSTRAINT Due.paid holds at most 0 digits behind the point`},
				{`amount: "10000"`, `{"owe":null}`, `[owe] CONSTRAINT Due.amount 10000 does not fit into its field`},
				{`note: "a\u0000b"`, `{"owe":null}`, `[owe] CONSTRAINT Due.note cannot hold the character U+0000`},
				{`note: "⚓⚓⚓⚓⚓"`, `{"owe":null}`, `[owe] CONSTRAINT Due.note holds at most 4 characters`},
				{`note: "⚓⚓⚓⚓"`, `{"owe":{"amount":null,"paid":null}}`, ``},
			} {
				o := e.Ask(t, fmt.Sprintf(`mutation { owe(id: %d, %s) { amount paid } }`, n, test.given), nil)
				if kind == relational.Postgres && strings.Contains(test.errors, "does not fit") { // which does not say in which
					test.errors = `[owe] CONSTRAINT a number or moment of Due does not fit into its field`
				}
				if errors := strings.Join(o.Errors, " "); o.Data != test.want || errors != test.errors {
					t.Errorf("%s\ngives %s %v\nwant  %s %s", test.given, o.Data, o.Errors, test.want, test.errors)
				}
			}
			var n int
			if err := db.QueryRow("SELECT count(*) FROM dues").Scan(&n); err != nil || n != 4 {
				t.Errorf("there are %d dues, %v", n, err)
			}
		})
	}
}

// TestDatabaseDiesInTheMiddle ends PostgreSQL's process of a transaction between the write
// and the reading behind it, and while the transaction ends: nothing is written, the
// second is told as what nobody knows, and the next one works.
func TestDatabaseDiesInTheMiddle(t *testing.T) {
	e, db := engineOf(t, relational.Postgres, `type Query { calls: [PortCall!]! @read }
type Mutation { arrive(id: ID!, doomed: Boolean): PortCall @add }
type PortCall @stored(in: "db", as: "calls", key: "id") { id: ID! doomed: Boolean end: End @related(here: "id", there: "id") }
type End @stored(in: "db", as: "ends", key: "id") { id: ID! now: Boolean }`,
		"CREATE TABLE calls (id int PRIMARY KEY, doomed bool)\nCREATE VIEW ends AS SELECT id, pg_terminate_backend(pg_backend_pid()) AS now FROM calls WHERE id = 1\n"+
			"CREATE FUNCTION die() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN PERFORM pg_terminate_backend(pg_backend_pid()); RETURN NEW; END'\n"+
			"CREATE CONSTRAINT TRIGGER die AFTER INSERT ON calls DEFERRABLE INITIALLY DEFERRED FOR EACH ROW WHEN (NEW.doomed) EXECUTE FUNCTION die()")
	for _, test := range []struct{ op, data, errors string }{
		{`mutation { arrive(id: 1) { id end { now } } }`, `{"arrive":null}`, `[arrive] STORE_DOWN the source db `},
		{`mutation { arrive(id: 2, doomed: true) { id } }`, `{"arrive":null}`, `[arrive] STORE_DOWN the source db broke off at the end of the change, and nobody knows whether it is made: read the records before it is sent again`},
		{`mutation { arrive(id: 3) { id end { now } } }`, `{"arrive":{"id":"3","end":null}}`, ``},
	} {
		o := e.Ask(t, test.op, nil)
		if errors := strings.Join(o.Errors, " "); o.Data != test.data || !strings.HasPrefix(errors, test.errors) || test.errors == "" && errors != "" {
			t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, o.Errors, test.data, test.errors)
		}
	}
	var n int
	if err := db.QueryRow("SELECT count(*) FROM calls").Scan(&n); err != nil || n != 1 {
		t.Errorf("there are %d calls, %v", n, err)
	}
}

const countedTypes = `type Query { calls: [PortCall!]! @read }
type Mutation {
  load(id: ID!, tonnes: Decimal!, lifts: Int): PortCall @change(adjust: ["tonnes", "lifts"])
  count(id: ID!, version: Int!, to: Int! @at(path: "version")): PortCall @change(expect: "version")
  moor(id: ID!, from: String @at(path: "berth"), berth: String, version: Int): PortCall @change(expect: ["from", "version"])
  strike(id: ID!, version: Int!): PortCall @remove(expect: "version")
}
type PortCall @stored(in: "db", as: "calls", key: "id") { id: ID! version: Int! tonnes: Decimal lifts: Int berth: String }`

const countedTables = `CREATE TABLE calls (id int PRIMARY KEY, version int NOT NULL, tonnes decimal(12, 1), lifts int, berth varchar(10))
INSERT INTO calls VALUES (1, 0, NULL, 0, 'N1'), (2, 0, 1.5, 2147483647, NULL)`

// TestExpected changes and removes what is as it is expected to be, and nothing else.
func TestExpected(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			e, db := engineOf(t, kind, countedTypes, countedTables)
			for _, test := range []struct{ op, data, errors string }{
				{`mutation { moor(id: 1, from: "N1", berth: "N2", version: 0) { berth } }`, `{"moor":{"berth":"N2"}}`, ``},
				{`mutation { moor(id: 1, from: "N1", berth: "N3", version: 0) { berth } }`, `{"moor":null}`, `[moor] CONFLICT Mutation.moor(from:) "N1" and PortCall.version 0 are not what is stored any more: another change came first, and nothing of this one is done`},
				{`mutation { moor(id: 2, from: null, berth: "S1") { berth } }`, `{"moor":{"berth":"S1"}}`, ``},
				{`mutation { moor(id: 2, from: null, berth: "S2") { berth } }`, `{"moor":null}`, `[moor] CONFLICT Mutation.moor(from:) null is not what is stored any more`},
				{`mutation { moor(id: 2, berth: null) { berth } }`, `{"moor":{"berth":null}}`, ``},
				{`mutation { moor(id: 9, from: "N1", berth: "N3") { berth } }`, `{"moor":null}`, ``},
				{`mutation { load(id: 1, tonnes: "2.5") { tonnes lifts } again: load(id: 1, tonnes: "-0.5", lifts: 3) { tonnes lifts } }`, `{"load":{"tonnes":"2.5","lifts":0},"again":{"tonnes":"2.0","lifts":3}}`, ``},
				{`mutation { load(id: 1, tonnes: "0.25") { tonnes } }`, `{"load":null}`, `[load] CONSTRAINT PortCall.tonnes holds at most 1 digit`},
				{`mutation { strike(id: 1, version: 4) { id } }`, `{"strike":null}`, `[strike] CONFLICT PortCall.version 4 is not what is stored any more: another change came first, and nothing of this one is done`},
				{`mutation { strike(id: 9, version: 4) { id } }`, `{"strike":null}`, ``},
				{`mutation { count(id: 1, version: 0, to: 4) { version } strike(id: 1, version: 4) { id berth } }`, `{"count":{"version":4},"strike":{"id":"1","berth":"N2"}}`, ``},
			} {
				o := e.Ask(t, test.op, nil)
				data := o.Data
				if kind == relational.SQLite { // whose decimals are numbers
					data = strings.ReplaceAll(data, `"2"`, `"2.0"`)
					if strings.Contains(test.errors, "1 digit") {
						continue // which holds what it is given
					}
				}
				if errors := strings.Join(o.Errors, " "); data != test.data || !strings.HasPrefix(errors, test.errors) || test.errors == "" && errors != "" {
					t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, data, o.Errors, test.data, test.errors)
				}
			}
			if kind != relational.SQLite {
				if o := e.Ask(t, `mutation { load(id: 2, tonnes: 1, lifts: 1) { lifts } }`, nil); !strings.Contains(strings.Join(o.Errors, " "), "CONSTRAINT") {
					t.Errorf("more than a column holds is answered with %s %v", o.Data, o.Errors)
				}
			}
			var left int
			if err := db.QueryRow("SELECT count(*) FROM calls").Scan(&left); err != nil || left != 1 {
				t.Errorf("%d calls are left, %v", left, err)
			}
		})
	}
}

// TestTwoHundredWriters lets two hundred count at the same record at once, half of them in
// the store and half by what they expect, coming again until it is so: nothing is lost.
func TestTwoHundredWriters(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			e, db := engineOf(t, kind, countedTypes, countedTables)
			var wait sync.WaitGroup
			for range 100 {
				wait.Go(func() {
					if o := again(t, e, `mutation { load(id: 1, tonnes: "0.5", lifts: 1) { id } }`); len(o.Errors) > 0 {
						t.Errorf("a load gives %v", o.Errors)
					}
				})
				wait.Go(func() {
					for version := 0; ; {
						o := again(t, e, fmt.Sprintf(`mutation { count(id: 1, version: %d, to: %d) { version } }`, version, version+1))
						if len(o.Errors) == 0 {
							return
						}
						if !strings.Contains(o.Errors[0], "another change came first") {
							t.Errorf("a count gives %v", o.Errors)
							return
						}
						now := e.Ask(t, `{ calls { version } }`, nil)
						if _, err := fmt.Sscanf(now.Data, `{"calls":[{"version":%d}`, &version); err != nil {
							t.Error(now.Data, err)
							return
						}
					}
				})
			}
			wait.Wait()
			var version, lifts int
			var tonnes float64
			if err := db.QueryRow("SELECT version, lifts, tonnes FROM calls WHERE id = 1").Scan(&version, &lifts, &tonnes); err != nil || version != 100 || lifts != 100 || tonnes != 50 {
				t.Errorf("version %d, %d lifts and %v tonnes are stored, want 100, 100 and 50; %v", version, lifts, tonnes, err)
			}
		})
	}
}

// again asks until the database has time for the request.
func again(t *testing.T, e *conform.Engine, op string) conform.Outcome {
	for {
		o := e.Ask(t, op, nil)
		if len(o.Errors) == 0 || !strings.Contains(o.Errors[0], "CONFLICT Mutation.") && !strings.Contains(o.Errors[0], "STORE_") {
			return o
		}
	}
}

// TestRulesOfSQLite breaks the rules of which SQLite tells no name and no field.
func TestRulesOfSQLite(t *testing.T) {
	e, _ := engineOf(t, relational.SQLite, `type Query { quays: [Quay!]! @read }
type Mutation { build(code: ID!, depth: Int): Quay @add berth(id: ID!, quay: ID): Berth @add raze(code: ID!): Quay @remove }
type Quay @stored(in: "db", as: "quays", key: "code") { code: ID! depth: Int }
type Berth @stored(in: "db", as: "berths", key: "id") { id: ID! quay: Quay @related(here: "quay", there: "code") }`,
		"CREATE TABLE quays (code text PRIMARY KEY, depth int CHECK (depth BETWEEN 1 AND (40)))\nCREATE TABLE berths (id int PRIMARY KEY, quay text REFERENCES quays)")
	for _, test := range []struct{ op, want string }{
		{`mutation { build(code: "N", depth: 41) { code } }`, `[build] CONSTRAINT the record breaks the rule "depth BETWEEN 1 AND (40)" of Quay`},
		{`mutation { build(code: "N", depth: 40) { code } berth(id: 1, quay: "M") { id } }`, `[berth] CONSTRAINT a foreign key of Berth leads to no record`},
		{`mutation { berth(id: 1, quay: "N") { id } raze(code: "N") { code } }`, `[raze] CONSTRAINT the record is still referred to`},
	} {
		if o := e.Ask(t, test.op, nil); strings.Join(o.Errors, " ") != test.want {
			t.Errorf("%s\ngives %v\nwant  %s", test.op, o.Errors, test.want)
		}
	}
}

// TestListsOfEveryKind adds a list of records that have a value of every kind, with texts
// that an array writes otherwise, and reads them back.
func TestListsOfEveryKind(t *testing.T) {
	types := map[string]string{
		relational.Postgres: "CREATE TABLE calls (id int PRIMARY KEY, note text, tags text[], numbers int[], papers jsonb, at timestamptz, day date, clock time, uid uuid, raw bytea, dues numeric, length float8, here boolean)",
		relational.MySQL:    "CREATE TABLE calls (id int PRIMARY KEY, note varchar(80), papers json, at datetime(6), day date, clock time(6), uid uuid, raw blob, dues decimal(20, 4), length double, here boolean)",
		relational.SQLite:   "CREATE TABLE calls (id int PRIMARY KEY, note text, papers json, at datetime, day date, clock time, uid text, raw blob, dues decimal, length real, here boolean)",
	}
	for kind, tables := range types {
		t.Run(kind, func(t *testing.T) {
			lists, given, want := "", "", ""
			if kind == relational.Postgres {
				lists = " tags: [String] numbers: [Int!]"
				given, want = `, tags: ["a,b", null, "\"q\"", "{}", "\\", "NULL", ""], numbers: []`, `,"tags":["a,b",null,"\"q\"","{}","\\","NULL",""],"numbers":[]`
			}
			e, _ := engineOf(t, kind, `type Query { calls: [PortCall!]! @read(sort: "id") }
type Mutation { arriveAll(calls: [PortCallAdd!]!): [PortCall!] @add }
type PortCall @stored(in: "db", as: "calls", key: "id") { id: ID! note: String papers: JSON at: DateTime day: Date clock: Time uid: UUID raw: String dues: Decimal length: Float here: Boolean`+lists+` }`, tables)
			one := func(id int) string {
				return fmt.Sprintf(`{id: %d, note: "{NULL, \"'⚓\\\\\"", papers: {a: [1, null, "x\"y"]}, at: "2026-03-01T08:30:00.123456Z", day: "0001-02-03", clock: "23:59:59", uid: "0b5f8a7e-3c1d-4e2f-8a9b-0c1d2e3f4a5b", raw: "AAEC", dues: "1234.0625", length: 0.1, here: true%s}`, id, given)
			}
			null := func(id int) string {
				return fmt.Sprintf(`{id: %d, note: null, papers: null, at: null, day: null, clock: null, uid: null, raw: null, dues: null, length: null, here: null%s}`, id, strings.ReplaceAll(strings.ReplaceAll(given, `numbers: []`, `numbers: null`), `["a,b", null, "\"q\"", "{}", "\\", "NULL", ""]`, "null"))
			}
			record := `{"note":"{NULL, \"'⚓\\\\\"","papers":{"a":[1,null,"x\"y"]},"at":"2026-03-01T08:30:00.123456Z","day":"0001-02-03","clock":"23:59:59","uid":"0b5f8a7e-3c1d-4e2f-8a9b-0c1d2e3f4a5b","raw":"AAEC","dues":"1234.0625","length":0.1,"here":true` + want + `}`
			fields := "note papers at day clock uid raw dues length here"
			if want != "" {
				fields += " tags numbers"
			}
			o := e.Ask(t, `mutation { arriveAll(calls: [`+one(1)+`, `+null(2)+`, `+one(3)+`]) { `+fields+` } }`, nil)
			if len(o.Errors) > 0 || strings.Count(strings.NewReplacer(`": `, `":`, `1, null, `, `1,null,`).Replace(o.Data), record) != 2 || strings.Count(o.Data, "null") < 10 {
				t.Errorf("they come back as\n%s %v\nwant twice\n%s", o.Data, o.Errors, record)
			}
		})
	}
}

// TestTableChangesUnderWrites changes a column's type between two writes, so that what is
// prepared no longer holds: the second is written all the same.
func TestTableChangesUnderWrites(t *testing.T) {
	e, db := engineOf(t, relational.Postgres, `type Query { calls: [PortCall!]! @read }
type Mutation { arrive(id: ID!, note: String): PortCall @add }
type PortCall @stored(in: "db", as: "calls", key: "id") { id: ID! note: String }`, "CREATE TABLE calls (id int PRIMARY KEY, note text)")
	for i, change := range []string{"", "ALTER TABLE calls ALTER id TYPE bigint", "DEALLOCATE ALL", "ALTER TABLE calls ADD extra text"} {
		if change != "" {
			run(t, db, change)
		}
		for n := range 3 {
			o := e.Ask(t, fmt.Sprintf(`mutation { arrive(id: %d, note: "n") { id note } }`, 10*i+n), nil)
			if len(o.Errors) > 0 || o.Data != fmt.Sprintf(`{"arrive":{"id":"%d","note":"n"}}`, 10*i+n) {
				t.Errorf("behind %q a write gives %s %v", change, o.Data, o.Errors)
			}
		}
	}
}

// TestRemovalsAreReadFirst removes what other records go with: what the answer has of these
// is as it was, also where the same wave asks the database for what another store led to.
func TestRemovalsAreReadFirst(t *testing.T) {
	db, url := emptyDatabase(t, relational.Postgres)
	run(t, db, `CREATE TABLE quays (code text PRIMARY KEY, papers jsonb)
CREATE TABLE deeds (id int PRIMARY KEY, quay text REFERENCES quays ON DELETE CASCADE)
CREATE TABLE boats (id int PRIMARY KEY, station int)
INSERT INTO quays VALUES ('N', '{"deed": 5}')
INSERT INTO deeds VALUES (5, 'N')
INSERT INTO boats VALUES (1, 7)`)
	away, awayURL := emptyDatabase(t, relational.SQLite)
	run(t, away, `CREATE TABLE stations (id int PRIMARY KEY, quay text)
INSERT INTO stations VALUES (7, 'N')`)
	e := conform.NewEngine(t, `type Query { quays: [Quay!]! @read }
type Mutation { raze(code: ID!): Quay @remove }
type Quay @stored(in: "db", as: "quays", key: "code") { code: ID! papers: Papers stations: [Station!]! @related(here: "code", there: "quay") }
type Papers { deed: Deed @related(here: "deed", there: "id") }
type Deed @stored(in: "db", as: "deeds", key: "id") { id: ID! }
type Station @stored(in: "away", as: "stations", key: "id") { id: ID! boats: [Boat!]! @related(here: "id", there: "station") }
type Boat @stored(in: "db", as: "boats", key: "id") { id: ID! }`,
		map[string]store.Source{"db": openAt(t, relational.Postgres, url), "away": openAt(t, relational.SQLite, awayURL)})
	o := e.Ask(t, `mutation { raze(code: "N") { papers { deed { id } } stations { boats { id } } } }`, nil)
	if want := `{"raze":{"papers":{"deed":{"id":"5"}},"stations":[{"boats":[{"id":"1"}]}]}}`; o.Data != want || len(o.Errors) > 0 {
		t.Errorf("it gives %s %v\nwant     %s\n%s", o.Data, o.Errors, want, o.Plan)
	}
}
