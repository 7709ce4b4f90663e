package relational_test

import (
	"database/sql"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// TestMerged merges tables whose texts the database puts in another order than
// by their bytes, and whose numbers are of different sizes, page by page.
func TestMerged(t *testing.T) {
	const types = `
type Query {
  list(limit: Int): [Item!]! @read(sort: "name")
  pages(first: Int, after: String, sort: [ItemSort!]): ItemConnection! @read
}
interface Item { name: String n: Int64 side: String at: DateTime }
type A implements Item @stored(in: "s", as: "a", key: "id") { name: String n: Int64 side: String at: DateTime }
type B implements Item @stored(in: "s", as: "b", key: "id") { name: String n: Int64 side: String at: DateTime }
`
	columns := map[string]string{
		relational.Postgres: `text COLLATE "und-x-icu"`, relational.MySQL: "varchar(20) COLLATE utf8mb4_general_ci", relational.SQLite: "text COLLATE NOCASE",
	}
	names := regexp.MustCompile(`"name":("[^"]*"|null)`)
	for kind, text := range columns {
		t.Run(kind, func(t *testing.T) {
			s, _ := sourceOf(t, kind, func(db *sql.DB) {
				// The database sorts a type of its own by the order of its values.
				side, at := "text", "timestamp"
				statements := []string{}
				switch kind {
				case relational.Postgres:
					side, at = "side", "timestamptz"
					statements = append(statements, "CREATE TYPE side AS ENUM ('star', 'port', 'mid')")
				case relational.MySQL:
					side, at = "enum('star', 'port', 'mid')", "datetime(6)"
				}
				for _, statement := range append(statements,
					"CREATE TABLE a (id int PRIMARY KEY, name "+text+" NOT NULL, n smallint NOT NULL, side "+side+" NOT NULL, at "+at+" NOT NULL)",
					"CREATE TABLE b (id int PRIMARY KEY, name "+text+", n bigint, side "+side+", at "+at+")",
					"INSERT INTO a VALUES (1, 'a', 5, 'star', '2026-03-01 08:00:00'), (2, 'B', 2, 'mid', '2026-03-02 08:00:00'), (3, 'Z', 9, 'port', '2026-03-01 08:00:00')",
					"INSERT INTO b VALUES (1, 'A', 5000000000, 'port', '2026-03-01 08:00:00'), (2, 'b', 5, 'mid', '2025-03-01 08:00:00.5'), (3, 'á', NULL, NULL, NULL), (4, NULL, -5000000000, 'star', '2026-03-01 08:00:01')",
				) {
					if _, err := db.Exec(statement); err != nil {
						t.Fatal(err)
					}
				}
			})
			e := conform.NewEngine(t, types, map[string]store.Source{"s": s})
			for limit, want := range []string{"", "null", `null "A"`, `null "A" "B"`, `null "A" "B" "Z"`, `null "A" "B" "Z" "a"`, `null "A" "B" "Z" "a" "b"`, `null "A" "B" "Z" "a" "b" "á"`} {
				if got := found(names, e.Ask(t, fmt.Sprintf("{ list(limit: %d) { name } }", limit), nil)); got != want {
					t.Errorf("the first %d are %s, want %s", limit, got, want)
				}
			}
			for _, walk := range []struct{ sort, want string }{
				{"{name: ASC}", `null "A" "B" "Z" "a" "b" "á"`}, {"{name: DESC}", `"á" "b" "a" "Z" "B" "A" null`},
				{"{n: ASC}", `"á" null "B" "a" "b" "Z" "A"`}, {"{n: DESC}", `"A" "Z" "a" "b" "B" null "á"`}, {"{n: ASC_NULLS_LAST}", `null "B" "a" "b" "Z" "A" "á"`},
				{"{side: ASC}", `"á" "B" "b" "Z" "A" "a" null`}, {"{side: DESC_NULLS_FIRST}, {name: ASC}", `"á" null "a" "A" "Z" "B" "b"`},
				{"{at: DESC}, {side: ASC}", `"B" null "Z" "A" "a" "b" "á"`},
			} {
				var got []string
				after := ""
				for range 9 {
					o := e.Ask(t, fmt.Sprintf(`{ pages(first: 1, sort: [%s]%s) { pageInfo { endCursor } edges { node { name } } } }`, walk.sort, after), nil)
					if len(o.Errors) > 0 {
						t.Fatalf("%s: %v", walk.sort, o.Errors)
					}
					item := found(names, o)
					if item == "" {
						break
					}
					got = append(got, item)
					after = `, after: ` + regexp.MustCompile(`"endCursor":("[^"]*")`).FindStringSubmatch(o.Data)[1]
				}
				if strings.Join(got, " ") != walk.want {
					t.Errorf("by %s one by one: %s, want %s", walk.sort, strings.Join(got, " "), walk.want)
				}
			}
		})
	}
}

func found(form *regexp.Regexp, o conform.Outcome) string {
	var list []string
	for _, m := range form.FindAllStringSubmatch(o.Data, -1) {
		list = append(list, m[1])
	}
	return strings.Join(list, " ")
}
