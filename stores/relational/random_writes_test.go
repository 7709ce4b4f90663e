package relational_test

import (
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"strings"
	"testing"

	"osprey/stores/conform"
	"osprey/stores/relational"
)

var writeSeeds = flag.Int("writeseeds", 6, "how many runs of random writes each database is put to")

// TestRandomWrites holds random operations that write and read to a model, and reads the tables
// by the driver after each.
func TestRandomWrites(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			for seed := range uint64(*writeSeeds) {
				t.Run(fmt.Sprint(seed), func(t *testing.T) {
					types := conform.WriteTypes
					if kind == relational.MySQL { // which would change the record that has either key
						types = strings.Replace(types, `  put(thing: PutThing!): Thing @add(replaces: "code")`+"\n", "", 1)
					}
					e, db := engineOf(t, kind, types, `CREATE TABLE things (id int PRIMARY KEY, code varchar(8) NOT NULL UNIQUE, name varchar(20), n int)
CREATE TABLE parts (id int PRIMARY KEY, thing int NOT NULL, size int NOT NULL)
CREATE INDEX parts_thing ON parts (thing)`)
					conform.Written{Whole: true, Replaces: kind != relational.MySQL, State: func() []string { return thingsIn(t, db) }}.Writes(t, e, seed, 120)
				})
			}
		})
	}
}

// thingsIn reads the things of a database.
func thingsIn(t *testing.T, db *sql.DB) []string {
	t.Helper()
	rows, err := db.Query("SELECT id, code, name, n FROM things ORDER BY id")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var list []string
	for rows.Next() {
		var id int
		var code string
		var name sql.NullString
		var n sql.NullInt64
		if err := rows.Scan(&id, &code, &name, &n); err != nil {
			t.Fatal(err)
		}
		nameText, nText := "null", "null"
		if name.Valid {
			text, _ := json.Marshal(name.String)
			nameText = string(text)
		}
		if n.Valid {
			nText = fmt.Sprint(n.Int64)
		}
		list = append(list, fmt.Sprintf(`{"id":"%d","code":"%s","name":%s,"n":%s}`, id, code, nameText, nText))
	}
	return list
}
