package relational_test

import (
	"database/sql"
	"fmt"
	"strings"
	"sync"
	"testing"

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
			grown := 0
			for range 100 {
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
