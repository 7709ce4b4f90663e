package relational_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

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
