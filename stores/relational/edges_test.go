package relational_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// An edge is a column type with values at its edges, as SQL writes them; each is stored
// twice, among rows that have none.
type edge struct {
	typ, scalar string
	values      string // between semicolons
	shown       string // what must be shown of the first, if it is given
	bad         int    // how many of the values cannot be shown; the others can
	unsorted    bool   // the scalar, or the type, has no order
	uncompared  bool   // it can be sorted, and not be compared or totalled
	inside      bool   // the values are inside a column of JSON
	spelled     bool   // several of them are equal and written otherwise, which inside JSON are not related
}

// path is where the values are.
func (e edge) path() string {
	if e.inside {
		return "doc.at sea.v"
	}
	return "v"
}

// column defines the column, and value writes what is stored in it of one of the values,
// which may be none.
func (e edge) column() string {
	if e.inside {
		return "doc " + e.typ
	}
	return "v " + e.typ
}

func (e edge) value(kind, v string) string {
	if !e.inside || v == "NULL" {
		return v
	}
	doc := strings.ReplaceAll(`{"at sea": {"v": `+v+`, "w": 1}}`, "'", "''")
	if kind == relational.MySQL {
		doc = strings.ReplaceAll(doc, `\`, `\\`)
	}
	return "'" + doc + "'"
}

// jsonTypes are the types of columns of JSON.
var jsonTypes = map[string][]string{relational.Postgres: {"jsonb", "json"}, relational.MySQL: {"json"}, relational.SQLite: {"JSON"}}

// insideEdges are values inside JSON, by the scalars that they are to be; as JSON writes
// them.
var insideEdges = []edge{
	{scalar: "Int", values: `-2147483648;0;1;2e2;"7";2147483647`, shown: "-2147483648"},
	{scalar: "Int", values: `1;1.5;"x";true;[1];"";3000000000`, bad: 6},
	{scalar: "Int64", values: `-9223372036854775808;0;9007199254740993;9223372036854775807;"12"`},
	{scalar: "Int64", values: `1;9223372036854775808;1e30;1e300`, bad: 3},
	{scalar: "Float", values: `0.1;0;-1.7976931348623157e308;5e-324;1e2;"2.5";16777217`, shown: "0.1"},
	{scalar: "Float", values: `0.1;"x";false;{}`, bad: 3},
	{scalar: "Decimal", values: `-1.50;0;1;1.0;100;1e2;"12.5";12345678901234567890.123456789`, spelled: true},
	{scalar: "Decimal", values: `1;"x";"";true`, bad: 3},
	{scalar: "Boolean", values: `true;false;"true";"F"`, uncompared: true, spelled: true},
	{scalar: "Boolean", values: `true;1;"yes";[]`, bad: 3, uncompared: true},
	{scalar: "String", values: `"";" ";"a";"A";"ä";"z";"日本";"⚓";"10";"9";"it's";"a\"b\\c";5;1.50;true;"\u00e4\u2693";"\ud83d\udea2"`, shown: `""`},
	{scalar: "String", values: `"a";{"x": 1};[1]`, bad: 2},
	{scalar: "ID", values: `"a";5;"5";""`, unsorted: true},
	{scalar: "UUID", values: `"00000000-0000-0000-0000-000000000000";"0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"`, unsorted: true},
	{scalar: "DateTime", values: `"2026-02-28T10:00:00Z";"2026-02-28T10:00:00.001+02:00";"2026-02-28 10:00:00";"2026-02-28";"9999-12-31T23:59:59Z";"0001-01-01T00:00:00Z";"2024-02-29T12:00:00-09:30"`, spelled: true},
	{scalar: "DateTime", values: `"2026-02-28T10:00:00Z";"2026-02-30T10:00:00Z";"nope";5;"2026-02-28T25:00:00Z"`, bad: 4},
	{scalar: "Date", values: `"2026-02-28";"2026-02-28T23:30:00-03:00";"0001-01-01";"9999-12-31";"2000-02-29"`},
	{scalar: "Date", values: `"2026-02-28";"2026-02-29";"1900-02-29";"nope"`, bad: 3},
	{scalar: "Time", values: `"00:00:00";"23:59:59.999";"08:30:00.5";"09:00:00.25000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000"`},
	{scalar: "Time", values: `"00:00:00";"24:00:00";"nope"`, bad: 2},
	{scalar: "JSON", values: `1.50;"a";{"x": [1]};true`, unsorted: true},
}

func edgesOf(kind string) []edge {
	list := slices.Clone(edges[kind])
	for _, typ := range jsonTypes[kind] {
		for _, e := range insideEdges {
			e.typ, e.inside = typ, true
			list = append(list, e)
		}
	}
	return list
}

var edges = map[string][]edge{
	relational.Postgres: {
		{typ: "smallint", scalar: "Int", values: "-32768;-1;0;32767"},
		{typ: "bigint", scalar: "Int64", values: "-9223372036854775808;-1;0;9007199254740993;9223372036854775807"},
		{typ: "oid", scalar: "Int64", values: "0;1;2147483648;4294967295"},
		{typ: "numeric", scalar: "Decimal", values: "-1.50;0;1;1.0;100;0.000000000000000000000000000000000001;123456789012345678901234567890.123456789"},
		{typ: "numeric(65,30)", scalar: "Decimal", values: "-1.5;0;1;99999999999999999999999999999999999.999999999999999999999999999999"},
		{typ: "real", scalar: "Float", values: "0.1;-0.1;0;16777216;3.4e38;1e-45", shown: "0.1"},
		{typ: "double precision", scalar: "Float", values: "0.1;0;-1.7976931348623157e308;5e-324;9007199254740993"},
		{typ: "boolean", scalar: "Boolean", values: "true;false", uncompared: true},
		{typ: "text", scalar: "String", values: "'';' ';'a';'A';'a ';'ä';'z';'日本';'⚓'"},
		{typ: "varchar(20)", scalar: "String", values: "'';'a';'A';'10';'9'"},
		{typ: "character(3)", scalar: "String", values: "'';'a';'ab';'abc'"},
		{typ: "bytea", scalar: "String", values: `'\x';'\x00';'\x0001fe';'\xff'`, unsorted: true},
		{typ: "uuid", scalar: "UUID", values: "'00000000-0000-0000-0000-000000000000';'ffffffff-ffff-ffff-ffff-ffffffffffff';'0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f'", unsorted: true},
		{typ: "date", scalar: "Date", values: "'0001-01-01';'1970-01-01';'2026-02-28';'9999-12-31';'infinity';'-infinity';'294276-01-01'", bad: 3},
		{typ: "timestamp", scalar: "DateTime", values: "'0001-01-01';'1970-01-01 00:00:00.000001';'2026-02-28 23:59:59.999999';'9999-12-31 23:59:59';'infinity';'-infinity'", bad: 2},
		{typ: "timestamptz", scalar: "DateTime", values: "'0001-01-02Z';'1970-01-01 00:00:00.000001+02';'9999-12-30 23:59:59Z';'infinity'", bad: 1},
		{typ: "time", scalar: "Time", values: "'00:00';'00:00:00.000001';'23:59:59.999999';'24:00'", bad: 1},
		{typ: "interval", scalar: "Duration", values: "'1 hour';'0';'36 hours';'3 days';'1 year 2 months';'-1 day';'1.5 seconds'", shown: `"PT1H"`, unsorted: true},
		{typ: "inet", scalar: "String", values: "'10.0.0.1';'10.0.0.0/8';'::1'", shown: `"10.0.0.1"`},
		{typ: "cidr", scalar: "String", values: "'10.0.0.0/8';'192.168.0.0/16'"},
		{typ: "macaddr", scalar: "String", values: "'08:00:2b:01:02:03';'00:00:00:00:00:00'"},
		{typ: "money", scalar: "String", values: "1.5;-2;0"},
		{typ: "bit(3)", scalar: "String", values: "B'000';B'101'"},
		{typ: "bit varying", scalar: "String", values: "B'0';B'101';B''"},
		{typ: "int4range", scalar: "String", values: "'[1,3)';'empty'"},
		{typ: "jsonb", scalar: "JSON", values: `'{"a": 1}';'[]';'null';'1.50'`, unsorted: true},
	},
	relational.MySQL: {
		{typ: "tinyint", scalar: "Int", values: "-128;0;127"},
		{typ: "tinyint(1)", scalar: "Boolean", values: "0;1;2;-1", bad: 2, uncompared: true},
		{typ: "tinyint(1)", scalar: "Int", values: "0;1;2;-1"},
		{typ: "bit(1)", scalar: "Boolean", values: "b'0';b'1'", uncompared: true},
		{typ: "bit(1)", scalar: "Int", values: "b'0';b'1'"},
		{typ: "bit(12)", scalar: "Int", values: "b'0';b'100000000001';b'1'"},
		{typ: "smallint unsigned", scalar: "Int", values: "0;65535"},
		{typ: "bigint", scalar: "Int64", values: "-9223372036854775808;0;9223372036854775807"},
		{typ: "bigint unsigned", scalar: "ID", values: "0;1;9223372036854775808;18446744073709551615", unsorted: true},
		{typ: "bigint unsigned", scalar: "Decimal", values: "0;1;9223372036854775808;18446744073709551615"},
		{typ: "decimal(65,0)", scalar: "Decimal", values: "0;1;99999999999999999999999999999999999999999999999999999999999999999"},
		{typ: "decimal(65,30)", scalar: "Decimal", values: "0;1.5;-1;99999999999999999999999999999999999.999999999999999999999999999999"},
		{typ: "float", scalar: "Float", values: "0.1;16777216;-0.1;0;3.4e38;123456.789", shown: "0.1"},
		{typ: "double", scalar: "Float", values: "0.1;0;-1.7976931348623157e308;9007199254740993"},
		{typ: "date", scalar: "Date", values: "'1000-01-01';'9999-12-31';'2026-02-28';'0000-00-00';'2026-00-00'", bad: 2},
		{typ: "datetime(6)", scalar: "DateTime", values: "'1000-01-01';'9999-12-31 23:59:59.999999';'2026-02-28 00:00:00.000001';'0000-00-00 00:00:00'", bad: 1},
		{typ: "datetime", scalar: "Date", values: "'1000-01-01';'9999-12-31 23:59:59';'2026-02-28'"},
		{typ: "timestamp NULL", scalar: "DateTime", values: "'1970-01-01 00:00:01';'2038-01-19 03:14:07'"},
		{typ: "time(6)", scalar: "Time", values: "'00:00';'23:59:59.999999';'-838:59:59';'838:59:59';'24:00:00'", bad: 3},
		{typ: "year", scalar: "Int", values: "1901;2155;2026;0"},
		{typ: "varchar(20) COLLATE utf8mb4_general_ci", scalar: "String", values: "'';'a';'A';'ä';'b ';'b';'10';'9';'⚓'"},
		{typ: "varchar(20) CHARACTER SET latin1", scalar: "String", values: "'';'a';'ä';'Ä'"},
		{typ: "varchar(20) COLLATE utf8mb4_bin", scalar: "String", values: "'';'a';'A';'ä';'b';'日本'"},
		{typ: "char(5)", scalar: "String", values: "'';'a';'abcde'"},
		{typ: "text", scalar: "String", values: "'';'a';'日本'"},
		{typ: "binary(16)", scalar: "UUID", values: "x'00000000000000000000000000000000';x'0196f2a17c3e7b7e9d0c5a8b1c2d3e4f'", shown: `"00000000-0000-0000-0000-000000000000"`, unsorted: true},
		{typ: "binary(16)", scalar: "String", values: "x'00000000000000000000000000000000';x'0196f2a17c3e7b7e9d0c5a8b1c2d3e4f'", unsorted: true},
		{typ: "varbinary(20)", scalar: "String", values: "x'';x'00';x'ff';x'0001fe'", unsorted: true},
		{typ: "blob", scalar: "String", values: "x'';x'00';x'ff'", unsorted: true},
		{typ: "enum('z','a','m','')", scalar: "String", values: "'z';'a';'m';''"},
		{typ: "set('z','a','m')", scalar: "String", values: "'';'z';'a,m';'z,a,m'"},
		{typ: "uuid", scalar: "UUID", values: "'00000000-0000-0000-0000-000000000000';'0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f'", unsorted: true},
		{typ: "inet6", scalar: "String", values: "'::1';'2001:db8::1'"},
		{typ: "json", scalar: "JSON", values: `'{"a": 1}';'[]';'null';'1.50'`, unsorted: true},
	},
	relational.SQLite: {
		{typ: "INTEGER", scalar: "Int64", values: "-9223372036854775808;0;1;9223372036854775807"},
		{typ: "INTEGER", scalar: "Int", values: "0;1;'nope';1.5", bad: 2},
		{typ: "TEXT", scalar: "String", values: "'';'a';'A';'ä';'日本';'10';'9'"},
		{typ: "VARCHAR(20) COLLATE NOCASE", scalar: "String", values: "'';'a';'A';'b';'10';'9'"},
		{typ: "REAL", scalar: "Float", values: "0.1;0;-1.7976931348623157e308;5e-324;'text';9e999", bad: 2},
		{typ: "DOUBLE", scalar: "Float", values: "0.1;0;1"},
		{typ: "BLOB", scalar: "String", values: "x'';x'00';x'ff';x'0001fe'", unsorted: true},
		{typ: "BOOLEAN", scalar: "Boolean", values: "0;1;'true';'false';'t';2", bad: 1, uncompared: true},
		{typ: "DATE", scalar: "Date", values: "'0001-01-01';'2026-02-28';'9999-12-31';'nope'", bad: 1},
		{typ: "TIMESTAMP", scalar: "DateTime", values: "'2026-02-28 10:00:00';'2026-02-28T10:00:00.001Z';'2026-02-28';'nope'", bad: 1},
		{typ: "TIMESTAMP", scalar: "DateTime", values: "'2026-02-28 10:00:00';'0001-01-01 00:00:00';'9999-12-31 23:59:59'"},
		{typ: "DATETIME", scalar: "DateTime", values: "'2026-02-28T10:00:00Z';'2026-02-28T10:00:01Z'"},
		{typ: "DATETIME", scalar: "DateTime", values: "'2026-02-28T10:00:00.001Z';'2026-02-28T10:00:00.010Z'"},
		{typ: "DATETIME", scalar: "DateTime", values: "'2026-02-28 10:00:00.000001';'2026-02-28 10:00:00.100000'"},
		{typ: "DATETIME", scalar: "Date", values: "'2026-02-28 10:00:00';'2026-03-01 00:00:00'"},
		{typ: "TIME", scalar: "Time", values: "'00:00:00';'23:59:59';'08:30';'nope'", bad: 1},
		{typ: "DECIMAL(30,10)", scalar: "Decimal", values: "0;1.5;-1;1000000;1e20;0.1"},
		{typ: "NUMERIC", scalar: "Decimal", values: "0;1e15;1e21;1e-7;123456789012345678"},
		{typ: "UUID", scalar: "UUID", values: "'00000000-0000-0000-0000-000000000000';'0196F2A1-7C3E-7B7E-9D0C-5A8B1C2D3E4F';'nope'", bad: 1, unsorted: true},
		{typ: "JSON", scalar: "JSON", values: `'{"a": 1}';'[]';'null';'1.50';'nope'`, bad: 1, unsorted: true},
		{typ: "", scalar: "String", values: "1;'1';'a';1.5;'';x'00'"},
		{typ: "", scalar: "ID", values: "1;'2';'a'", unsorted: true},
		{typ: "ANY", scalar: "String", values: "1;'2';'a';1.5"},
		{typ: "", scalar: "Int", values: "1;2;-3"},
		{typ: "", scalar: "Decimal", values: "1;1.5;2"},
		{typ: "", scalar: "Float", values: "1.5;2;0.25"},
	},
}

// TestEdges reads, filters, sorts, pages, relates and totals columns of every type at
// the edges of its values. What is shown is what is asked with; what cannot be shown is
// an error at its place, and no page is wrong or missing for it.
func TestEdges(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			var statements strings.Builder
			var schemas []string
			var allRoots, types, together strings.Builder
			all := edgesOf(kind)
			for i, e := range all {
				fmt.Fprintf(&statements, "CREATE TABLE e%d (id int PRIMARY KEY, %s)\n", i, e.column())
				id := 0
				for _, none := range []string{"NULL", "null"} {
					for _, v := range strings.Split(e.values+";"+none, ";") {
						fmt.Fprintf(&statements, "INSERT INTO e%d VALUES (%d, %s)\n", i, id, e.value(kind, v))
						id++
					}
				}
				sort, totals := fmt.Sprintf(", sort: [E%dSort!]", i), fmt.Sprintf(" least%d: %s @total(of: \"e%d\", min: \"v\") most%d: %s @total(of: \"e%d\", max: \"v\")", i, e.scalar, i, i, e.scalar, i)
				if e.unsorted {
					sort = ""
				}
				if e.unsorted || e.uncompared {
					totals = ""
				}
				filter := fmt.Sprintf("(filter: E%dFilter%s)", i, sort)
				if e.scalar == "JSON" {
					filter = ""
				}
				roots := fmt.Sprintf(" e%d%s: [E%d!]! @read(sort: \"id\") p%d%s: E%dConnection! @read%s", i, filter, i, i, strings.Replace(filter, ")", ", first: Int, after: String, last: Int, before: String)", 1), i, totals)
				if e.scalar != "JSON" {
					roots += fmt.Sprintf(" g%d(v: %s, vs: [%s!] @at(path: %q)): [E%d!]! @read(sort: \"id\")", i, e.scalar, e.scalar, e.path(), i)
				}
				same := fmt.Sprintf(" same: [E%d!]! @related(here: %q, there: %q, sort: \"id\")", i, e.path(), e.path())
				if e.scalar == "JSON" {
					same = ""
				}
				own := fmt.Sprintf("type E%d @stored(in: \"db\", as: \"e%d\", key: \"id\") { id: Int! v: %s @at(path: %q)%s }\n", i, i, e.scalar, e.path(), same)
				schemas = append(schemas, "type Query {"+roots+" }\n"+own)
				allRoots.WriteString(roots)
				types.WriteString(own)
				fmt.Fprintf(&together, " e%d { id v }", i)
			}
			db, url := emptyDatabase(t, kind)
			if kind == relational.MySQL {
				db.SetMaxOpenConns(1)
				run(t, db, "SET SESSION sql_mode = 'ALLOW_INVALID_DATES'")
			}
			run(t, db, statements.String())
			for i, e := range all {
				t.Run(fmt.Sprint(i, " ", e.column(), " as ", e.scalar), func(t *testing.T) {
					engine := conform.NewEngine(t, schemas[i], map[string]store.Source{"db": openAt(t, kind, url)})
					edgeChecks{t, engine, i, e}.all()
				})
			}
			whole := conform.NewEngine(t, "type Query {"+allRoots.String()+" }\n"+types.String(), map[string]store.Source{"db": openAt(t, kind, url)})
			sideBySide(t, whole, together.String(), len(all))
		})
	}
}

// sideBySide holds that what a column shows does not depend on what else is asked.
func sideBySide(t *testing.T, e *conform.Engine, fields string, n int) {
	t.Helper()
	var all, own map[string]json.RawMessage
	json.Unmarshal([]byte(e.Ask(t, "{"+fields+" }", nil).Data), &all)
	for i := range n {
		json.Unmarshal([]byte(e.Ask(t, fmt.Sprintf("{ e%d { id v } }", i), nil).Data), &own)
		if name := fmt.Sprint("e", i); string(all[name]) != string(own[name]) || len(own[name]) < 10 {
			t.Errorf("%s is shown as %s, and beside others as %s", name, own[name], all[name])
		}
	}
}

type edgeChecks struct {
	t *testing.T
	*conform.Engine
	n int
	edge
}

// A valued is a row with its value as it is shown: "" where it is an error.
type valued struct {
	ID    int
	Shown string
}

// rows asks for rows with their values.
func (e edgeChecks) rows(field, arguments string) (list []valued) {
	e.t.Helper()
	o := e.Ask(e.t, fmt.Sprintf("{ rows: %s%d%s { id v } }", field, e.n, arguments), nil)
	var data struct {
		Rows []struct {
			ID int
			V  json.RawMessage
		}
	}
	if err := json.Unmarshal([]byte(o.Data), &data); err != nil || data.Rows == nil {
		e.t.Errorf("%s gives %s %v", arguments, o.Data, o.Errors)
		return nil
	}
	for i, row := range data.Rows {
		shown := string(row.V)
		if slices.ContainsFunc(o.Errors, func(err string) bool { return strings.HasPrefix(err, fmt.Sprintf("[rows %d v] ", i)) }) {
			shown = ""
		} else if len(o.Errors) > 0 && strings.HasPrefix(o.Errors[0], "[rows] ") {
			e.t.Errorf("%s gives %v", arguments, o.Errors)
		}
		list = append(list, valued{row.ID, shown})
	}
	return list
}

func (e edgeChecks) all() {
	all := e.rows("e", "")
	values := strings.Split(e.values, ";")
	if len(all) != 2*len(values)+2 {
		e.t.Fatalf("there are %d rows", len(all))
	}
	bad := 0
	for i := range values {
		if all[i].Shown == "" {
			bad++
		}
		if all[i].Shown == "null" && e.scalar != "JSON" {
			e.t.Errorf("%s is shown as null", values[i])
		}
		if all[i].Shown != all[i+len(values)+1].Shown {
			e.t.Errorf("%s is shown as %s and %s", values[i], all[i].Shown, all[i+len(values)+1].Shown)
		}
	}
	if bad != e.bad {
		e.t.Errorf("%d values cannot be shown, want %d: %v", bad, e.bad, all)
	}
	if e.shown != "" && all[0].Shown != e.shown {
		e.t.Errorf("%s is shown as %s, want %s", values[0], all[0].Shown, e.shown)
	}
	if e.scalar == "JSON" {
		return
	}
	for i := range values {
		if all[i].Shown == "" {
			continue
		}
		for _, filter := range []string{"is: " + all[i].Shown, "in: [" + all[i].Shown + "]"} {
			found := e.rows("e", "(filter: {v: {"+filter+"}})")
			if given := e.rows("g", "("+strings.NewReplacer("is:", "v:", "in:", "vs:").Replace(filter)+")"); !slices.Equal(given, found) {
				e.t.Errorf("a filter by %s finds %v, and an argument %v", filter, found, given)
			}
			if !slices.ContainsFunc(found, func(v valued) bool { return v.ID == all[i].ID }) {
				e.t.Errorf("%s finds %v, and not %s itself", filter, found, values[i])
			}
		}
	}
	if !e.spelled {
		e.relations(all)
	}
	if !e.unsorted {
		e.order(all)
	}
	e.walks()
}

// relations holds that a row is related by its value to what a filter by it finds.
func (e edgeChecks) relations(all []valued) {
	o := e.Ask(e.t, fmt.Sprintf("{ rows: e%d { id same { id } } }", e.n), nil)
	var data struct {
		Rows []struct {
			ID   int
			Same []struct{ ID int }
		}
	}
	if err := json.Unmarshal([]byte(o.Data), &data); err != nil || len(data.Rows) != len(all) {
		e.t.Errorf("relations give %s %v", o.Data, o.Errors)
		return
	}
	for i, row := range data.Rows {
		if all[i].Shown == "" {
			continue
		}
		var want, got []int
		if all[i].Shown != "null" {
			for _, v := range e.rows("e", "(filter: {v: {is: "+all[i].Shown+"}})") {
				want = append(want, v.ID)
			}
		}
		for _, s := range row.Same {
			got = append(got, s.ID)
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			e.t.Errorf("%s is related to %v, and equal to %v", all[i].Shown, got, want)
		}
	}
}

// order holds that sorting, comparing and the least and greatest value agree.
func (e edgeChecks) order(all []valued) {
	isNull := func(v valued) bool { return v.Shown == "null" }
	rising := slices.DeleteFunc(e.rows("e", "(sort: [{v: ASC}, {id: ASC}])"), isNull)
	falling := slices.DeleteFunc(e.rows("e", "(sort: [{v: DESC}, {id: DESC}])"), isNull)
	slices.Reverse(falling)
	if !slices.Equal(rising, falling) {
		e.t.Errorf("rising %v\nand falling the other way round %v", rising, falling)
	}
	if e.uncompared {
		return
	}
	shown := slices.DeleteFunc(slices.Clone(rising), func(v valued) bool { return v.Shown == "" })
	for _, v := range shown {
		below, same := e.rows("e", "(filter: {v: {below: "+v.Shown+"}})"), e.rows("e", "(filter: {v: {is: "+v.Shown+"}})")
		above := e.rows("e", "(filter: {v: {above: "+v.Shown+"}})")
		if len(below)+len(same)+len(above) != len(rising) && e.bad == 0 {
			e.t.Errorf("%d are below %s, %d equal and %d above, of %d", len(below), v.Shown, len(same), len(above), len(rising))
		}
		for _, b := range below {
			if at := slices.Index(rising, v); e.bad == 0 && slices.IndexFunc(rising, func(r valued) bool { return r.ID == b.ID }) > at {
				e.t.Errorf("%v is below %v, and sorted behind it", b, v)
			}
		}
	}
	if e.bad > 0 || len(shown) == 0 {
		return
	}
	o := e.Ask(e.t, fmt.Sprintf("{ least%d most%d }", e.n, e.n), nil)
	var data map[string]json.RawMessage
	json.Unmarshal([]byte(o.Data), &data)
	least, most := string(data[fmt.Sprint("least", e.n)]), string(data[fmt.Sprint("most", e.n)])
	equal := func(a, b string) bool {
		return len(o.Errors) == 0 && (a == b || len(e.rows("e", "(filter: {v: {is: "+a+"}})")) > 0 && fmt.Sprint(e.rows("e", "(filter: {v: {is: "+a+"}})")) == fmt.Sprint(e.rows("e", "(filter: {v: {is: "+b+"}})")))
	}
	if !equal(least, shown[0].Shown) || !equal(most, shown[len(shown)-1].Shown) {
		e.t.Errorf("the least is %s and the most %s %v, of %v", least, most, o.Errors, rising)
	}
}

// walks holds that pages in every order and of every size are the whole, once.
func (e edgeChecks) walks() {
	if e.unsorted {
		return
	}
	for _, sort := range []string{"{v: ASC}", "{v: DESC}", "{v: ASC_NULLS_LAST}", "{v: DESC_NULLS_FIRST}"} {
		var whole []int
		for _, v := range e.rows("e", "(sort: ["+sort+"])") {
			whole = append(whole, v.ID)
		}
		for _, backward := range []bool{false, true} {
			for _, size := range []int{1, 2, 7} {
				got, failed := e.walk(sort, size, backward, len(whole)+5)
				if !failed && !slices.Equal(got, whole) {
					e.t.Errorf("by %d, backward %v, sorted %s, it is\n%v\nwant\n%v", size, backward, sort, got, whole)
				}
				if failed && e.bad == 0 {
					e.t.Errorf("by %d, backward %v, sorted %s, a page is an error", size, backward, sort)
				}
			}
		}
	}
}

// walk reads all pages; failed if one is an error.
func (e edgeChecks) walk(sort string, size int, backward bool, most int) (ids []int, failed bool) {
	cursor := ""
	for pages := 0; pages < most; pages++ {
		bounds := fmt.Sprintf("first: %d", size)
		if backward {
			bounds = fmt.Sprintf("last: %d", size)
		}
		if cursor != "" && backward {
			bounds += fmt.Sprintf(", before: %q", cursor)
		} else if cursor != "" {
			bounds += fmt.Sprintf(", after: %q", cursor)
		}
		o := e.Ask(e.t, fmt.Sprintf("{ page: p%d(%s, sort: [%s]) { edges { node { id } } pageInfo { hasNextPage hasPreviousPage startCursor endCursor } } }", e.n, bounds, sort), nil)
		var data struct {
			Page struct {
				Edges    []struct{ Node struct{ ID int } }
				PageInfo struct {
					HasNextPage, HasPreviousPage bool
					StartCursor, EndCursor       string
				}
			}
		}
		if err := json.Unmarshal([]byte(o.Data), &data); err != nil || len(o.Errors) > 0 {
			return ids, true
		}
		var page []int
		for _, edge := range data.Page.Edges {
			page = append(page, edge.Node.ID)
		}
		if backward {
			ids, cursor = append(page, ids...), data.Page.PageInfo.StartCursor
		} else {
			ids, cursor = append(ids, page...), data.Page.PageInfo.EndCursor
		}
		if more := data.Page.PageInfo.HasNextPage && !backward || data.Page.PageInfo.HasPreviousPage && backward; !more {
			return ids, false
		}
	}
	return ids, false
}
