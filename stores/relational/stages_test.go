package relational_test

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// kinds are the kinds of databases, each of which answers as the others do.
var kinds = []string{relational.Postgres, relational.MySQL, relational.SQLite}

// run runs statements, each on a line.
func run(t *testing.T, db *sql.DB, statements string) {
	t.Helper()
	for _, statement := range strings.Split(strings.TrimSpace(statements), "\n") {
		if _, err := db.Exec(statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
}

// engineOf returns an engine over a database of a kind, called "db".
func engineOf(t *testing.T, kind, types, statements string) (*conform.Engine, *sql.DB) {
	t.Helper()
	db, url := emptyDatabase(t, kind)
	run(t, db, statements)
	return conform.NewEngine(t, types, map[string]store.Source{"db": openAt(t, kind, url)}), db
}

// TestNineLevels asks for lists in lists, nine deep, with bounds and without, of every
// kind of database, and counts at the one that tells.
func TestNineLevels(t *testing.T) {
	const types = `type Query { all: [Box!]! @read(sort: "id") }
type Box @stored(in: "db", as: "boxes", key: "id") { id: Int! up: Int name: String inside(limit: Int, offset: Int): [Box!]! @related(here: "id", there: "up", sort: "id") around: Box @related(here: "up", there: "id") count: Int! @total(of: "inside") }`
	statements := "CREATE TABLE boxes (id int PRIMARY KEY, up int, name varchar(20))\nCREATE INDEX boxes_up ON boxes (up)\n"
	var rows []string
	for id := range 700 {
		up := "NULL"
		if id > 1 {
			up = fmt.Sprint(id / 2)
		}
		rows = append(rows, fmt.Sprintf("(%d, %s, 'box %d')", id, up, id%7))
	}
	statements += "INSERT INTO boxes VALUES " + strings.Join(rows, ", ")
	nested := func(depth int, bound string) string {
		text := "id name count around { name }"
		for range depth {
			text = "id name inside" + bound + " { " + text + " }"
		}
		return "{ all { " + text + " } }"
	}
	answers := map[string]string{}
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			e, db := engineOf(t, kind, types, statements)
			selects := func() (n int) {
				var name string
				if err := db.QueryRow("SHOW GLOBAL STATUS LIKE 'Com_select'").Scan(&name, &n); err != nil && kind == relational.MySQL {
					t.Fatal(err)
				}
				return n
			}
			for _, bound := range []string{"", "(limit: 1)", "(limit: 2, offset: 1)"} {
				for depth := 1; depth <= 9; depth++ {
					op := nested(depth, bound)
					before := selects()
					o := e.Ask(t, op, nil)
					if len(o.Errors) > 0 {
						t.Fatalf("%s\n%v", op, o.Errors)
					}
					if want := answers[op]; want == "" {
						answers[op] = o.Data
					} else if o.Data != want {
						t.Fatalf("%s\ngives %.600s\nwant  %.600s", op, o.Data, want)
					}
					if counted, told := selects()-before, o.Requests[0].RoundTrips; kind == relational.MySQL && (counted != told || told > o.Plan.Requests()) {
						t.Errorf("%s\nis %d statements, the runtime tells %d, and the plan %d", op, counted, told, o.Plan.Requests())
					}
				}
			}
		})
	}
}

// TestOneState reads lists in a database that is being written: what is above, and
// what is below, are of one state.
func TestOneState(t *testing.T) {
	const types = `type Query { carts: [Cart!]! @read }
type Cart @stored(in: "db", as: "carts", key: "id") { id: Int! goods: Int! items: [Item!]! @related(here: "id", there: "cart") }
type Item @stored(in: "db", as: "items", key: "id") { id: Int! }`
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			statements := "CREATE TABLE carts (id int PRIMARY KEY, goods int NOT NULL)\nCREATE TABLE items (id int PRIMARY KEY, cart int NOT NULL)\nINSERT INTO carts VALUES (1, 0)"
			if kind == relational.SQLite {
				statements = "PRAGMA journal_mode=WAL\n" + statements
			}
			e, writer := engineOf(t, kind, types, statements)
			done := make(chan bool)
			var wait sync.WaitGroup
			wait.Go(func() {
				for id := 1; ; id++ {
					select {
					case <-done:
						return
					default:
					}
					tx, err := writer.Begin()
					if err != nil {
						t.Error(err)
						return
					}
					for _, statement := range []string{fmt.Sprintf("INSERT INTO items VALUES (%d, 1)", id), "UPDATE carts SET goods = goods + 1 WHERE id = 1"} {
						if _, err := tx.Exec(statement); err != nil {
							t.Errorf("%s: %v", statement, err)
							return
						}
					}
					if err := tx.Commit(); err != nil {
						t.Error(err)
						return
					}
				}
			})
			// However the two are scheduled: it is read on until enough was written meanwhile.
			grown, until := 0, time.Now().Add(time.Minute)
			for reads := 0; reads < 100 || grown < 5 && time.Now().Before(until); reads++ {
				o := e.Ask(t, "{ carts { goods items { id } } }", nil)
				var goods int
				if _, err := fmt.Sscanf(o.Data, `{"carts":[{"goods":%d`, &goods); err != nil || len(o.Errors) > 0 {
					t.Errorf("gives %.200s %v", o.Data, o.Errors)
					break
				}
				if items := strings.Count(o.Data, `"id"`); items != goods {
					t.Errorf("there are %d items, and %d are said", items, goods)
				}
				grown = max(grown, goods)
			}
			close(done)
			wait.Wait()
			if grown < 5 {
				t.Errorf("%d items were written meanwhile, too few to hold anything", grown)
			}
		})
	}
}

// TestPairsOnce reads records that are linked several times by a join table whose pairs
// have keys of their own: each is given, bounded and counted once.
func TestPairsOnce(t *testing.T) {
	const types = `type Query { calls(limit: Int): [Call!]! @read(sort: "id") pilots: [Pilot!]! @read(sort: "id") }
type Call @stored(in: "db", as: "calls", key: "id") { id: Int! pilots(limit: Int, offset: Int): [Pilot!]! @related(through: {set: "pilotage", here: "call_id", there: "pilot_id"}, sort: "name desc") count: Int! @total(of: "pilots") }
type Pilot @stored(in: "db", as: "pilots", key: "id") { id: Int! name: String calls: [Call!]! @related(through: {set: "pilotage", here: "pilot_id", there: "call_id"}, sort: "id") }`
	statements := "CREATE TABLE calls (id int PRIMARY KEY)\nCREATE TABLE pilots (id int PRIMARY KEY, name varchar(20))\nCREATE TABLE pilotage (id int PRIMARY KEY, call_id int, pilot_id int)\n"
	n := 0
	for call := range 200 {
		statements += fmt.Sprintf("INSERT INTO calls VALUES (%d)\n", call)
		for _, pilot := range []int{call % 3, 3, call % 3, call % 2} {
			statements += fmt.Sprintf("INSERT INTO pilotage VALUES (%d, %d, %d)\n", n, call, pilot)
			n++
		}
	}
	statements += "INSERT INTO pilotage VALUES (9998, NULL, 3)\nINSERT INTO pilotage VALUES (9999, 5, NULL)\nINSERT INTO pilots VALUES (0, 'Ada'), (1, 'Bo'), (2, 'Cy'), (3, 'Di')"
	names := []string{"Ada", "Bo", "Cy", "Di"}
	var want []string
	for call := range 200 {
		pilots := []int{3, call % 3, call % 2}
		slices.Sort(pilots)
		pilots = slices.Compact(pilots)
		slices.Reverse(pilots)
		var list []string
		for _, p := range pilots {
			list = append(list, fmt.Sprintf(`{"name":%q}`, names[p]))
		}
		second := ""
		if len(list) > 1 {
			second = list[1]
		}
		want = append(want, fmt.Sprintf(`{"pilots":[%s],"second":[%s],"count":%d}`, strings.Join(list, ","), second, len(list)))
	}
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			db, url := emptyDatabase(t, kind)
			run(t, db, statements)
			if kind == relational.Postgres {
				run(t, db, "ANALYZE") // so that small tables are known to be small
			}
			e := conform.NewEngine(t, types, map[string]store.Source{"db": openAt(t, kind, url)})
			for _, limit := range []int{1, 5, 200} {
				o := e.Ask(t, fmt.Sprintf("{ calls(limit: %d) { pilots { name } second: pilots(limit: 1, offset: 1) { name } count } }", limit), nil)
				if data := `{"calls":[` + strings.Join(want[:limit], ",") + "]}"; o.Data != data || len(o.Errors) > 0 {
					t.Errorf("%d calls give %.500s %v\nwant %.500s", limit, o.Data, o.Errors, data)
				}
				o = e.Ask(t, fmt.Sprintf("{ calls(limit: %d) { pilots { name } } }", limit), nil)
				if got := strings.Count(o.Data, "name"); got != strings.Count(strings.Join(want[:limit], ""), "name")-strings.Count(strings.Join(want[:limit], ""), `"second":[{`) {
					t.Errorf("%d calls give %d pilots: %.500s", limit, got, o.Data)
				}
			}
			o := e.Ask(t, "{ pilots { calls { id } } }", nil)
			if got := strings.Count(o.Data, `"id"`); got != strings.Count(strings.Join(want, ""), "name")-strings.Count(strings.Join(want, ""), `"second":[{`) {
				t.Errorf("the pilots have %d calls", got)
			}
		})
	}
}

// TestViewsInOrder reads a view piece by piece: it has no key to the database, and the
// one that its type names keeps its pieces apart.
func TestViewsInOrder(t *testing.T) {
	const types = `type Query { tall(limit: Int, offset: Int, sort: [TallSort!]): [Tall!]! @read pages(first: Int, after: String, sort: [TallSort!]): TallConnection! @read }
type Tall @stored(in: "db", as: "tall", key: "id") { id: Int! size: Int twice: Int up: [Tall!]! @related(here: "size", there: "size") }`
	statements := "CREATE TABLE masts (id int, size int)\n"
	for n := range 60 {
		statements += fmt.Sprintf("INSERT INTO masts VALUES (%d, %d)\n", n*7%60, n%3)
	}
	statements += "CREATE VIEW tall AS SELECT id, size, size * 2 AS twice FROM masts"
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			e, _ := engineOf(t, kind, types, statements)
			var got, want []string
			for size := range 3 {
				for id := range 60 {
					if id*43%60%3 == size { // 43 is the inverse of 7
						want = append(want, fmt.Sprintf(`{"id":%d,"twice":%d}`, id, 2*size))
					}
				}
			}
			for offset := 0; offset < 60; offset += 7 {
				o := e.Ask(t, fmt.Sprintf("{ tall(limit: 7, offset: %d, sort: [{twice: ASC}]) { id twice } }", offset), nil)
				list := strings.TrimSuffix(strings.TrimPrefix(o.Data, `{"tall":[`), "]}")
				got = append(got, strings.SplitAfter(strings.ReplaceAll(list, "},{", "},\n{"), ",\n")...)
			}
			for i := range got {
				got[i] = strings.TrimSuffix(got[i], ",\n")
			}
			if !slices.Equal(got, want) {
				t.Errorf("it is\n%v\nwant\n%v", got, want)
			}
		})
	}
}

// TestManyStageKeys asks by more keys than go into a statement, and by one less and more.
func TestManyStageKeys(t *testing.T) {
	statements := "CREATE TABLE a (id int PRIMARY KEY)\nCREATE TABLE b (id int PRIMARY KEY, a int)\nCREATE INDEX b_a ON b (a)\n"
	var as, bs []string
	for id := range 41_000 {
		as, bs = append(as, fmt.Sprintf("(%d)", id)), append(bs, fmt.Sprintf("(%d, %d)", id, id/2*2))
	}
	statements += "INSERT INTO a VALUES " + strings.Join(as, ",") + "\nINSERT INTO b VALUES " + strings.Join(bs, ",")
	for _, kind := range []string{relational.MySQL, relational.SQLite} {
		t.Run(kind, func(t *testing.T) {
			db, url := emptyDatabase(t, kind)
			run(t, db, statements)
			source := openAt(t, kind, url)
			catalogue, err := source.Catalogue(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			id := []store.Wanted{{Path: "id", Kind: store.Int}}
			request, err := source.Prepare(catalogue, []*store.Read{{Set: "a", Parent: -1, Limit: true, Sort: []store.Order{{Path: "id"}}, Columns: id},
				{Set: "b", Parent: 0, Here: []string{"id"}, There: []string{"a"}, Columns: id},
				{Set: "b", Parent: 0, Here: []string{"id"}, There: []string{"a"}, Limit: true, Sort: []store.Order{{Path: "id", Desc: true}}, Columns: id}})
			if err != nil {
				t.Fatal(err)
			}
			for limit, want := range map[int64]int{1: 3, 19_999: 3, 20_000: 3, 20_001: 5, 40_001: 7} {
				answer, err := request.Run(context.Background(), nil, []store.Input{{Limit: limit}, {}, {Limit: 1}})
				if err != nil {
					t.Fatal(err)
				}
				hosts := (limit + 1) / 2 // every second has two
				if all, few := answer.Tables[1], answer.Tables[2]; answer.Requests != want || int64(len(all.Parent)) != 2*hosts || int64(len(few.Parent)) != hosts ||
					all.Columns[0].Ints[all.At(len(all.Parent)-1)] != 2*hosts-1 || few.Columns[0].Ints[few.At(int(hosts)-1)] != 2*hosts-1 {
					t.Errorf("%d keys are %d statements, %d and %d rows, want %d statements", limit, answer.Requests, len(all.Parent), len(few.Parent), want)
				}
				answer.Release()
			}
		})
	}
}

// TestKeptStatements runs more statements than a connection keeps, in turn and again, and
// changes the table between.
func TestKeptStatements(t *testing.T) {
	db, url := emptyDatabase(t, relational.SQLite)
	run(t, db, "CREATE TABLE a (id int PRIMARY KEY, name text)\nINSERT INTO a VALUES (1, 'x'), (2, 'y')")
	source, err := relational.Open(relational.Config{Kind: relational.SQLite, URL: url, Pool: 1})
	if err != nil {
		t.Fatal(err)
	}
	defer source.Close()
	catalogue, err := source.Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for round := range 2 {
		for n := range 300 {
			read := &store.Read{Set: "a", Parent: -1, Columns: []store.Wanted{{Path: "id", Kind: store.Int}, {Path: "name", Kind: store.Text}}, Values: 1}
			for range n {
				read.Where = append(read.Where, store.Predicate{Op: store.AtLeast, Path: "id", Kind: store.Int})
			}
			request, err := source.Prepare(catalogue, []*store.Read{read})
			if err != nil {
				t.Fatal(err)
			}
			answer, err := request.Run(context.Background(), nil, []store.Input{{Where: []store.Column{ints(1)}}})
			if err != nil || answer.Tables[0].Len != 2 || string(answer.Tables[0].Columns[1].At(1)) != "y" {
				t.Fatalf("round %d, statement %d: %+v %v", round, n, answer, err)
			}
		}
		run(t, db, "ALTER TABLE a RENAME TO b\nCREATE TABLE a (name text, more int, id int PRIMARY KEY)\nINSERT INTO a SELECT name, 7, id FROM b\nDROP TABLE b")
	}
}

// TestQuestionMarks reads lists whose tables and columns have a question mark in their
// names, which stands for a parameter to the drivers.
func TestQuestionMarks(t *testing.T) {
	const types = `type Query { quays: [Quay!]! @read(sort: "code") }
type Quay @stored(in: "db", as: "quays?", key: "code") { code: Int! isOpen: Int @at(path: "open?") berths(limit: Int): [Berth!]! @related(here: "code", there: "at?") }
type Berth @stored(in: "db", as: "berths", key: "id") { id: Int! }`
	for _, kind := range []string{relational.MySQL, relational.SQLite} {
		t.Run(kind, func(t *testing.T) {
			db, url := emptyDatabase(t, kind)
			run(t, db, "CREATE TABLE `quays?` (code int PRIMARY KEY, `open?` int)\nCREATE TABLE berths (id int PRIMARY KEY, `at?` int)\nINSERT INTO `quays?` VALUES (1, 0), (2, 1)\nINSERT INTO berths VALUES (7, 1), (8, 2), (9, 2)")
			source, err := relational.Open(relational.Config{Kind: kind, URL: url, Pool: 1})
			if err != nil {
				t.Fatal(err)
			}
			defer source.Close()
			e := conform.NewEngine(t, types, map[string]store.Source{"db": source})
			for open := range 5 { // a transaction that had not ended would see the old state
				run(t, db, fmt.Sprintf("UPDATE `quays?` SET `open?` = %d WHERE code = 1", open))
				o := e.Ask(t, "{ quays { isOpen } }", nil)
				if want := fmt.Sprintf(`{"quays":[{"isOpen":%d},{"isOpen":1}]}`, open); o.Data != want {
					t.Errorf("gives %s %v, want %s", o.Data, o.Errors, want)
				}
				o = e.Ask(t, "{ quays { isOpen berths(limit: 5) { id } } }", nil)
				if want := fmt.Sprintf(`{"quays":[{"isOpen":%d,"berths":[{"id":7}]},{"isOpen":1,"berths":[{"id":8},{"id":9}]}]}`, open); o.Data != want {
					t.Errorf("gives %s %v, want %s", o.Data, o.Errors, want)
				}
			}
		})
	}
}

// TestFormsOfMoments reads files whose moments are written in one way at the beginning,
// and in another at the end: none of them is an error.
func TestFormsOfMoments(t *testing.T) {
	const types = `type Query { last: [Call!]! @read(sort: "at desc") }
type Call @stored(in: "db", as: "calls", key: "id") { id: Int! at: DateTime }`
	for name, table := range map[string]string{"with row numbers": "", "without": " WITHOUT ROWID"} {
		t.Run(name, func(t *testing.T) {
			var rows []string
			for id := range 1500 {
				rows = append(rows, fmt.Sprintf("(%d, '2026-01-%02d 10:00:00')", id, 1+id%28))
			}
			statements := "CREATE TABLE calls (id int PRIMARY KEY, at datetime)" + table + "\nINSERT INTO calls VALUES " + strings.Join(rows, ", ")
			if table == "" {
				statements += "\nINSERT INTO calls VALUES (1500, '2026-02-01T10:00:00Z')"
			}
			e, _ := engineOf(t, relational.SQLite, types, statements)
			o := e.Ask(t, "{ last { at } }", nil)
			if first := `{"last":[{"at":"2026-0`; len(o.Errors) > 0 || !strings.HasPrefix(o.Data, first) || table == "" && !strings.HasPrefix(o.Data, first+`2-01T10:00:00Z"}`) {
				t.Errorf("gives %.100s %v", o.Data, o.Errors)
			}
		})
	}
}
