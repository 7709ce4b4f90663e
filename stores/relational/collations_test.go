package relational_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// collations are collations of several character sets, as legacy databases mix them.
var collations = []string{"utf8mb4_general_ci", "utf8mb4_unicode_ci", "utf8mb4_bin", "utf8mb4_nopad_bin", "latin1_swedish_ci", "latin1_german2_ci", "utf8mb3_general_ci", "ascii_general_ci"}

// TestCollations relates texts of every two collations: as a list, as one record and as
// a filter on related records, which all mean the same. Texts are filtered by what a
// character set does not have, too.
func TestCollations(t *testing.T) {
	var types, roots, statements strings.Builder
	texts := []string{"a", "A", "b ", "b", "z"}
	for i, collation := range collations {
		own := texts
		if !strings.HasPrefix(collation, "ascii") {
			own = append(own[:len(own):len(own)], "ä", "ß", "é")
		}
		if strings.HasPrefix(collation, "utf8") {
			own = append(own, "日本")
		}
		if strings.HasPrefix(collation, "utf8mb4") {
			own = append(own, "🦅")
		}
		fmt.Fprintf(&statements, "CREATE TABLE c%d (id int PRIMARY KEY, code varchar(20) COLLATE %s, INDEX (code))\n", i, collation)
		// No two codes are equal here, so that a code names one record.
		fmt.Fprintf(&statements, "CREATE TABLE u%d (code varchar(20) COLLATE %s PRIMARY KEY, number int)\n", i, collation)
		for n, text := range own {
			fmt.Fprintf(&statements, "INSERT INTO c%d VALUES (%d, '%s')\n", i, n, text)
			fmt.Fprintf(&statements, "INSERT IGNORE INTO u%d VALUES ('%s', %d)\n", i, text, n)
		}
		fmt.Fprintf(&statements, "INSERT INTO c%d VALUES (99, NULL)\n", i)
		fmt.Fprintf(&roots, " c%d(filter: C%dFilter, sort: [C%dSort!]): [C%d!]! @read(sort: \"id\") u%d(code: String): [U%d!] @read", i, i, i, i, i, i)
		fmt.Fprintf(&types, "type C%d @stored(in: \"db\", as: \"c%d\", key: \"id\") { id: Int! code: String", i, i)
		for j := range collations {
			fmt.Fprintf(&types, " some%d(limit: Int): [U%d!]! @related(here: \"code\", there: \"code\") one%d: U%d @related(here: \"code\", there: \"code\") n%d: Int! @total(of: \"some%d\")", j, j, j, j, j, j)
		}
		fmt.Fprintf(&types, " }\ntype U%d @stored(in: \"db\", as: \"u%d\", key: \"code\") { code: String number: Int }\n", i, i)
	}
	e, _ := engineOf(t, relational.MySQL, "type Query {"+roots.String()+" }\n"+types.String(), statements.String())
	for i := range collations {
		for j := range collations {
			o := e.Ask(t, fmt.Sprintf(`{ all: c%[1]d { id code some%[2]d { number } few: some%[2]d(limit: 1) { number } one%[2]d { number } n%[2]d }
				with: c%[1]d(filter: {some%[2]d: {with: {}}}) { id } sorted: c%[1]d(sort: [{one%[2]d: {number: ASC}}]) { id } }`, i, j), nil)
			var data struct {
				All          []map[string]json.RawMessage
				With, Sorted []struct{ ID int }
			}
			if err := json.Unmarshal([]byte(o.Data), &data); err != nil || len(o.Errors) > 0 {
				t.Errorf("%s to %s gives %s %v", collations[i], collations[j], o.Data, o.Errors)
				continue
			}
			var with, found []int
			for _, row := range data.With {
				with = append(with, row.ID)
			}
			for _, row := range data.All {
				var id, n int
				json.Unmarshal(row["id"], &id)
				json.Unmarshal(row[fmt.Sprint("n", j)], &n)
				list, few, one := string(row[fmt.Sprint("some", j)]), string(row["few"]), string(row[fmt.Sprint("one", j)])
				if list != "[]" {
					found = append(found, id)
				}
				if list != "["+strings.Replace(one, "null", "", 1)+"]" || few != list || (n == 0) != (list == "[]") {
					t.Errorf("%s to %s: %s is related to %s as a list, %s of it, %s as one record, %d as a number", collations[i], collations[j], row["code"], list, few, one, n)
				}
				if i == j && string(row["code"]) != "null" && list == "[]" {
					t.Errorf("%s: %s is not related to itself", collations[i], row["code"])
				}
			}
			if fmt.Sprint(with) != fmt.Sprint(found) {
				t.Errorf("%s to %s: %v are related, and a filter finds %v", collations[i], collations[j], found, with)
			}
		}
		for _, text := range []string{"日本", "🦅", "ä", "?", "ß"} {
			o := e.Ask(t, fmt.Sprintf(`query ($t: String!, $l: [String!]!) { is: c%[1]d(filter: {code: {is: $t}}) { code } in: c%[1]d(filter: {code: {in: $l}}) { code } u%[1]d(code: $t) { code }
				above: c%[1]d(filter: {code: {above: $t}}) { code } not: c%[1]d(filter: {code: {isNot: $t}}) { code } part: c%[1]d(filter: {code: {contains: $t}}) { code } }`, i),
				map[string]any{"t": text, "l": []any{text, "a"}})
			if len(o.Errors) > 0 || text == "?" && strings.Contains(o.Data, `"is":[{`) {
				t.Errorf("%s: %s finds %s %v", collations[i], text, o.Data, o.Errors)
			}
		}
	}
}

// TestCompositeKeysOfTypes relates pairs of a number and a text, of every two types, by
// keys that were given and by rows above.
func TestCompositeKeysOfTypes(t *testing.T) {
	numbers := map[string][]string{
		relational.Postgres: {"int", "bigint", "smallint", "numeric", "double precision", "real"},
		relational.MySQL:    {"int", "bigint unsigned", "decimal(30,10)", "double", "float", "tinyint"},
		relational.SQLite:   {"int", "", "decimal(10,2)", "real", "integer"},
	}
	words := map[string][]string{
		relational.Postgres: {`text COLLATE "C"`, "varchar(20)"},
		relational.MySQL:    {"varchar(40)", "varchar(40) COLLATE latin1_nopad_bin", "varchar(40) COLLATE ascii_nopad_bin", "varchar(40) COLLATE utf8mb3_general_ci", "varchar(40) COLLATE ucs2_nopad_bin"},
		relational.SQLite:   {"text", ""},
	}
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			var statements, roots, types strings.Builder
			n := 0
			for _, number := range numbers[kind] {
				for _, text := range words[kind] {
					fmt.Fprintf(&statements, "CREATE TABLE k%d (id int PRIMARY KEY, p %s, q %s)\nINSERT INTO k%d VALUES (1, 1, 'Aurora'), (2, 2, 'tern'), (3, 2, 'Aurora'), (4, NULL, 'tern')\n", n, number, text, n)
					n++
				}
			}
			for i := range n {
				fmt.Fprintf(&roots, " k%d: [K%d!]! @read(sort: \"id\")", i, i)
				fmt.Fprintf(&types, "type K%d @stored(in: \"db\", as: \"k%d\", key: \"id\") { id: Int!", i, i)
				for j := range n {
					fmt.Fprintf(&types, " to%d(limit: Int): [K%d!]! @related(here: [\"p\", \"q\"], there: [\"p\", \"q\"], sort: \"id\")", j, j)
				}
				types.WriteString(" }\n")
			}
			fmt.Fprintf(&statements, "CREATE TABLE given (id int)")
			db, url := emptyDatabase(t, kind)
			run(t, db, statements.String())
			source := openAt(t, kind, url)
			e := conform.NewEngine(t, "type Query {"+roots.String()+" }\n"+types.String(), map[string]store.Source{"db": source})
			for i := range n {
				for j := range n {
					o := e.Ask(t, fmt.Sprintf("{ k%d { id to%d { id } few: to%d(limit: 1) { id } } }", i, j, j), nil)
					want := fmt.Sprintf(`{"k%d":[{"id":1,"to%d":[{"id":1}],"few":[{"id":1}]},{"id":2,"to%d":[{"id":2}],"few":[{"id":2}]},{"id":3,"to%d":[{"id":3}],"few":[{"id":3}]},{"id":4,"to%d":[],"few":[]}]}`, i, j, j, j, j)
					if o.Data != want || len(o.Errors) > 0 {
						t.Errorf("%d to %d gives %s %v", i, j, o.Data, o.Errors)
					}
				}
			}
			catalogue, err := source.Catalogue(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			for i := range n {
				for _, given := range []store.Column{ints(1, 2, 9), texts("1", "2", "9")} {
					set := catalogue.Sets[fmt.Sprint("k", i)]
					request, err := source.Prepare(catalogue, []*store.Read{{Set: set.Name, Parent: -1, Keys: []int{0, 1}, Sort: []store.Order{{Path: "id"}},
						Columns: []store.Wanted{{Path: "p", Kind: set.Field("p").Kind}, {Path: "q", Kind: store.Text}, {Path: "id", Kind: store.Int}}}})
					if err != nil {
						t.Fatal(err)
					}
					key := store.Column{Kind: set.Field("p").Kind}
					for row := range given.Len() {
						key.AppendAs(&given, row)
					}
					answer, err := request.Run(context.Background(), nil, []store.Input{{Keys: []store.Column{key, texts("Aurora", "tern", "Äolus")}}})
					if err != nil || answer.Tables[0].Len != 2 {
						t.Errorf("%s (%s, %s) by keys of %s gives %v rows, %v", set.Name, set.Field("p").Type, set.Field("q").Collation, given.Kind, answer, err)
					}
				}
			}
		})
	}
}
