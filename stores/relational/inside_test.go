package relational_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// insideTypes are craft whose papers are JSON: fields of craft by themselves, and a
// nested record; and their owners, in both directions.
const insideTypes = `type Query { craft(filter: CraftFilter, sort: [CraftSort!], limit: Int, flag: String, shared: [String!]): [Craft!]! @read(sort: "imo") owners(filter: OwnerFilter, sort: [OwnerSort!]): [Owner!]! @read(sort: "id")
  heaviest: Decimal @total(of: "craft", max: "tonnage") flagged(filter: CraftFilter): Int! @total(of: "craft") }
type Craft @stored(in: "db", as: "craft", key: "imo") {
  imo: Int!
  flag: String @at(path: "papers.reg.flag")
  tonnage: Decimal @at(path: "papers.tonnage")
  shared: String @at(path: "papers.shared")
  papers: Papers
  owner: Owner @related(here: "papers.reg.owner", there: "id")
  sharing: [Owner!]! @related(here: "papers.sharing", there: "id")
  sameFlag: [Craft!]! @related(here: "papers.reg.flag", there: "papers.reg.flag", sort: "imo")
}
type Papers { reg: Registration tonnage: Decimal stamps: [Stamp!] sharing: [Int!] }
type Registration { flag: String since: Date owner: Int note: Note }
type Note { text: String }
type Stamp { at: String }
type Owner @stored(in: "db", as: "owners", key: "id") { id: Int! name: String craft(filter: CraftFilter, sort: [CraftSort!], limit: Int): [Craft!]! @related(here: "id", there: "papers.reg.owner") fleet: Int! @total(of: "craft") }`

// insideIndexes are indexes on values inside JSON as each database has them.
var insideIndexes = map[string]string{
	relational.Postgres: `CREATE INDEX craft_flag ON craft ((papers->'reg'->>'flag'))
CREATE INDEX craft_owner ON craft (((papers#>>'{reg,owner}')::int))`,
	relational.MySQL: `ALTER TABLE craft ADD flag_name varchar(20) AS (JSON_VALUE(papers, '$.reg.flag')), ADD owner_no int AS (JSON_VALUE(papers, '$.reg.owner'))
CREATE INDEX craft_flag ON craft (flag_name)
CREATE INDEX craft_owner ON craft (owner_no)`,
	relational.SQLite: `CREATE INDEX craft_flag ON craft (papers -> 'reg' ->> '$.flag')
CREATE INDEX craft_owner ON craft (json_extract(papers, '$.reg.owner'))`,
}

func insideTables(kind string) string {
	var b strings.Builder
	typ := map[string]string{relational.Postgres: "jsonb", relational.MySQL: "json", relational.SQLite: "JSON"}[kind]
	b.WriteString("CREATE TABLE owners (id int PRIMARY KEY, name varchar(40))\nINSERT INTO owners VALUES (1, 'Aldous'), (2, 'Berit'), (3, 'Cato'), (4, 'Dagny')\n")
	b.WriteString("CREATE TABLE craft (imo int PRIMARY KEY, papers " + typ + ")\nINSERT INTO craft VALUES ")
	for i := range 3000 {
		papers := fmt.Sprintf(`{"reg": {"flag": "F%d", "owner": %d, "since": "20%02d-03-01"}, "tonnage": %d.5, "sharing": [1, %d], "shared": null}`, i%500, 5+i%700, i%90, i, i%9)
		switch i {
		case 0:
			papers = `{"reg": {"flag": "NO", "owner": 1, "since": "2026-02-28", "note": {"text": "paid"}}, "tonnage": "5000.25", "sharing": [3, 2, 3, null], "stamps": [{"at": "Quay"}]}`
		case 1:
			papers = `{"reg": {"flag": "NO", "owner": "1", "since": "0000-02-29"}, "tonnage": 9}`
		case 2:
			papers = `{"reg": {"flag": 5, "owner": 2, "since": "soon"}, "tonnage": "heavy"}`
		case 3:
			papers = `{"reg": null}`
		}
		value := "'" + papers + "'"
		if i == 4 {
			value = "NULL"
		}
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "(%d, %s)", i+1, value)
	}
	return b.String()
}

// TestInside asks for records by values inside JSON: as fields of the record, inside a
// nested record, and over relationships. All databases answer alike.
func TestInside(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			e, _ := engineOf(t, kind, insideTypes, insideTables(kind))
			var count func() int
			if kind == relational.Postgres {
				count = demotest.Statements(t)
			}
			for _, test := range []struct{ op, data, errors string }{
				{`{ craft(flag: "NO") { imo flag tonnage owner { name } } }`, `{"craft":[{"imo":1,"flag":"NO","tonnage":"5000.25","owner":{"name":"Aldous"}},{"imo":2,"flag":"NO","tonnage":"9","owner":{"name":"Aldous"}}]}`, ``},
				{`{ craft(filter: {papers: {reg: {flag: {in: ["5", "F5"]}}}}, limit: 2) { imo flag } }`, `{"craft":[{"imo":3,"flag":"5"},{"imo":6,"flag":"F5"}]}`, ``},
				{`{ craft(filter: {papers: {reg: {note: {text: {startsWith: "pa"}}}}}) { imo papers { reg { note { text } since } stamps { at } } } }`, `{"craft":[{"imo":1,"papers":{"reg":{"note":{"text":"paid"},"since":"2026-02-28"},"stamps":[{"at":"Quay"}]}}]}`, ``},
				{`{ craft(filter: {papers: {reg: {since: {missing: false}}}, imo: {atMost: 5}}) { imo papers { reg { since } } } }`, `{"craft":[{"imo":1,"papers":{"reg":{"since":"2026-02-28"}}},{"imo":2,"papers":{"reg":{"since":"0000-02-29"}}},{"imo":3,"papers":{"reg":{"since":null}}}]}`, `[craft 2 papers reg since]`},
				{`{ craft(filter: {flag: {missing: true}}) { imo } flagged(filter: {not: {flag: {isNot: "NO"}}}) heaviest }`, `{"craft":[{"imo":4},{"imo":5}],"flagged":2,"heaviest":"5000.25"}`, ``},
				{`{ craft(filter: {tonnage: {above: "2998"}}, sort: [{tonnage: DESC}]) { imo tonnage } }`, `{"craft":[{"imo":1,"tonnage":"5000.25"},{"imo":3000,"tonnage":"2999.5"},{"imo":2999,"tonnage":"2998.5"}]}`, ``},
				{`{ craft(filter: {papers: {reg: {since: {above: "2026-02-01", below: "2026-03-02"}}}}, sort: [{papers: {reg: {since: ASC}}}, {imo: DESC}], limit: 2) { imo } }`, `{"craft":[{"imo":1},{"imo":2997}]}`, ``},
				{`{ owners(filter: {craft: {with: {flag: {is: "NO"}}}}) { name fleet craft(sort: [{tonnage: DESC}], limit: 1) { imo } } }`, `{"owners":[{"name":"Aldous","fleet":2,"craft":[{"imo":1}]}]}`, ``},
				{`{ owners { name fleet craft(filter: {flag: {notIn: ["F0"]}}) { imo flag } } }`, `{"owners":[{"name":"Aldous","fleet":2,"craft":[{"imo":1,"flag":"NO"},{"imo":2,"flag":"NO"}]},{"name":"Berit","fleet":1,"craft":[{"imo":3,"flag":"5"}]},{"name":"Cato","fleet":0,"craft":[]},{"name":"Dagny","fleet":0,"craft":[]}]}`, ``},
				{`{ craft(filter: {owner: {with: {name: {is: "Berit"}}}}) { imo } first: craft(sort: [{owner: {name: DESC}}, {imo: ASC}], limit: 3) { imo owner { name } } }`, `{"craft":[{"imo":3}],"first":[{"imo":3,"owner":{"name":"Berit"}},{"imo":1,"owner":{"name":"Aldous"}},{"imo":2,"owner":{"name":"Aldous"}}]}`, ``},
				{`{ craft(filter: {imo: {is: 1}}) { sharing { name } sameFlag { imo } } }`, `{"craft":[{"sharing":[{"name":"Cato"},{"name":"Berit"},{"name":"Cato"}],"sameFlag":[{"imo":1},{"imo":2}]}]}`, ``},
			} {
				before := 0
				if count != nil {
					before = count()
				}
				o := e.Ask(t, test.op, nil)
				if errors := strings.Join(o.Errors, " "); o.Data != test.data || !strings.HasPrefix(errors, test.errors) || test.errors == "" && errors != "" {
					t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, o.Errors, test.data, test.errors)
				}
				if waves := strings.Contains(test.op, "sharing"); count != nil && count()-before != map[bool]int{false: 1, true: 2}[waves] {
					t.Errorf("%s\nis %d statements\n%s", test.op, count()-before, o.Plan)
				}
			}
			for name, want := range map[string]string{"CraftFilter": "all any not imo flag tonnage shared papers owner sameFlag", "PapersFilter": "all any not reg tonnage", "RegistrationSort": "flag since owner note", "PapersSort": "reg tonnage"} {
				if got := strings.Join(schema.InputNames(e.Schema().Type(name).(*schema.InputObject).Fields), " "); got != want {
					t.Errorf("%s has %q, want %q", name, got, want)
				}
			}
		})
	}
}

// parameter is a place for a value in a statement.
var parameter = regexp.MustCompile(`\$\d+|\?`)

// TestInsideIndexes holds that an index on a value inside JSON is found: without one,
// the schema has a finding, and with one, the database uses it.
func TestInsideIndexes(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			db, url := emptyDatabase(t, kind)
			run(t, db, insideTables(kind))
			warned := []string{
				`Craft.sameFlag: no index begins with every`, `Owner.craft: no index begins with every`,
			}
			if got := indexFindings(t, kind, url); len(got) != len(warned) {
				t.Errorf("without indexes: %v", got)
			}
			run(t, db, insideIndexes[kind])
			if kind != relational.SQLite {
				run(t, db, map[string]string{relational.Postgres: "ANALYZE craft", relational.MySQL: "ANALYZE TABLE craft"}[kind])
			}
			if got := indexFindings(t, kind, url); len(got) > 0 {
				t.Errorf("with indexes: %v", got)
			}
			e := conform.NewEngine(t, insideTypes, map[string]store.Source{"db": openAt(t, kind, url)})
			for op, index := range map[string]string{
				`{ craft(flag: "F7") { imo } }`:                                  "craft_flag",
				`{ craft(filter: {flag: {in: ["F7", "F8"]}}) { imo } }`:          "craft_flag",
				`{ owners(filter: {id: {is: 1}}) { craft { imo } } }`:            "craft_owner",
				`{ owners(filter: {id: {is: 1}}) { craft(limit: 2) { imo } } }`:  "craft_owner",
				`{ owners(filter: {craft: {with: {flag: {is: "F7"}}}}) { id } }`: "craft_",
				`{ craft(filter: {imo: {is: 1}}) { sameFlag { imo } } }`:         "craft_flag",
			} {
				o := e.Ask(t, op, nil)
				statements := strings.Split(o.Plan.Fetches[len(o.Plan.Fetches)-1].Request.Describe().Statement, ";\n")
				if plan := explained(t, db, kind, statements[len(statements)-1]); !strings.Contains(plan, index) || len(o.Errors) > 0 {
					t.Errorf("%s does not use %s:\n%s\n%s %v", op, index, statements[len(statements)-1], plan, o.Errors)
				}
			}
		})
	}
}

// indexFindings returns what the schema is told about indexes.
func indexFindings(t *testing.T, kind, url string) (list []string) {
	t.Helper()
	source := openAt(t, kind, url)
	catalogue, err := source.Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	_, _, problems := binding.Resolve([]schema.Text{{Body: insideTypes}}, map[string]*binding.Source{"db": {Name: "db", Naming: binding.Snake, Capabilities: source.Capabilities(), Catalogue: catalogue}})
	for _, p := range problems {
		if p.Rule == "index" {
			list = append(list, p.Coordinate+": "+p.Msg+" "+p.Fix)
		} else {
			t.Errorf("%s %s %s", p.Rule, p.Coordinate, p.Msg)
		}
	}
	return list
}

// explained returns how the database would run a statement.
func explained(t *testing.T, db *sql.DB, kind, statement string) string {
	t.Helper()
	var rows *sql.Rows
	var err error
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	switch kind {
	case relational.Postgres:
		for _, set := range []string{"SET plan_cache_mode = force_generic_plan", "PREPARE asked AS " + statement} {
			if _, err := conn.ExecContext(ctx, set); err != nil {
				t.Fatal(set, err)
			}
		}
		defer conn.ExecContext(ctx, "DEALLOCATE asked")
		var n int
		if err := conn.QueryRowContext(ctx, "SELECT cardinality(parameter_types) FROM pg_prepared_statements WHERE name = 'asked'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		rows, err = conn.QueryContext(ctx, "EXPLAIN EXECUTE asked"+map[bool]string{true: "(" + strings.TrimSuffix(strings.Repeat("NULL, ", n), ", ") + ")"}[n > 0])
	case relational.MySQL:
		rows, err = conn.QueryContext(ctx, "EXPLAIN "+parameter.ReplaceAllString(statement, "7"))
	default:
		rows, err = conn.QueryContext(ctx, "EXPLAIN QUERY PLAN "+parameter.ReplaceAllString(statement, "7"))
	}
	if err != nil {
		t.Fatal(statement, err)
	}
	defer rows.Close()
	columns, _ := rows.Columns()
	var all []string
	for rows.Next() {
		values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range into {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			t.Fatal(err)
		}
		text, _ := json.Marshal(values)
		all = append(all, string(text))
	}
	return strings.Join(all, "\n")
}

// TestTextsOfJSON opens columns of text that hold JSON, as files of SQLite and views of
// MariaDB have them; one whose text is no JSON is an error at its place.
func TestTextsOfJSON(t *testing.T) {
	const types = `type Query { craft(filter: CraftFilter, sort: [CraftSort!]): [Craft!]! @read(sort: "imo") }
type Craft @stored(in: "db", as: "shown", key: "imo") { imo: Int! papers: Papers note: String @at(path: "papers") cranes: Int @at(path: "papers.cranes") tags: [String] @at(path: "tags") }
type Papers { cranes: Int flags: [String!] }`
	const rows = "INSERT INTO craft VALUES (1, '{\"cranes\": 3, \"flags\": [\"NO\"]}', '[\"a\", null]'), (2, 'none yet', 'x'), (3, NULL, '[]'), (4, '{\"cranes\": 1}', '7')\n"
	for kind, tables := range map[string]string{
		relational.SQLite: "CREATE TABLE craft (imo int PRIMARY KEY, papers TEXT, tags TEXT)\n" + rows + "CREATE VIEW shown AS SELECT * FROM craft",
		relational.MySQL:  "CREATE TABLE craft (imo int PRIMARY KEY, papers longtext, tags longtext)\n" + rows + "CREATE VIEW shown AS SELECT * FROM craft",
	} {
		t.Run(kind, func(t *testing.T) {
			e, _ := engineOf(t, kind, types, tables)
			for _, test := range []struct{ op, data, errors string }{
				{`{ craft { imo cranes papers { flags } tags } }`,
					`{"craft":[{"imo":1,"cranes":3,"papers":{"flags":["NO"]},"tags":["a",null]},{"imo":2,"cranes":null,"papers":null,"tags":null},{"imo":3,"cranes":null,"papers":null,"tags":[]},{"imo":4,"cranes":1,"papers":{"flags":null},"tags":null}]}`,
					`[craft 1 cranes] BAD_VALUE Craft.cranes: the stored value is not JSON [craft 1 papers] BAD_VALUE Craft.papers: the stored value is not JSON [craft 1 tags] BAD_VALUE Craft.tags: the stored value is not JSON [craft 3 tags] BAD_VALUE Craft.tags: expected a list, found a number`},
				{`{ craft(filter: {papers: {cranes: {atLeast: 1}}}, sort: [{cranes: ASC}]) { imo note } }`, `{"craft":[{"imo":4,"note":"{\"cranes\": 1}"},{"imo":1,"note":"{\"cranes\": 3, \"flags\": [\"NO\"]}"}]}`, ``},
				{`{ craft(filter: {note: {is: "none yet"}}) { imo } }`, `{"craft":[{"imo":2}]}`, ``},
				{`{ craft(filter: {cranes: {missing: true}}) { imo } }`, `{"craft":[{"imo":2},{"imo":3}]}`, ``},
			} {
				if o := e.Ask(t, test.op, nil); o.Data != test.data || strings.Join(o.Errors, " ") != test.errors {
					t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, strings.Join(o.Errors, " "), test.data, test.errors)
				}
			}
		})
	}
}

// TestInsideEnums compares values inside JSON that are enums, or of a scalar of the
// schema's own; a column of JSON is not compared as a whole.
func TestInsideEnums(t *testing.T) {
	const types = `scalar Flag
enum State { OPEN @at(path: "open") SHUT }
type Query { craft(filter: CraftFilter, flag: Flag @at(path: "papers.flag")): [Craft!]! @read(sort: "imo") }
type Craft @stored(in: "db", as: "craft", key: "imo") { imo: Int! flag: Flag @at(path: "papers.flag") papers: Flag state: State @at(path: "papers.state") states: [State] @at(path: "papers.states") }`
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			typ := map[string]string{relational.Postgres: "jsonb", relational.MySQL: "json", relational.SQLite: "JSON"}[kind]
			e, _ := engineOf(t, kind, types, "CREATE TABLE craft (imo int PRIMARY KEY, papers "+typ+`)
INSERT INTO craft VALUES (1, '{"flag": "NO", "state": "open", "states": ["SHUT", "open"]}'), (2, '{"flag": 5, "state": "SHUT"}')`)
			for op, want := range map[string]string{
				`{ craft { flag state states } }`:                       `{"craft":[{"flag":"NO","state":"OPEN","states":["SHUT","OPEN"]},{"flag":5,"state":"SHUT","states":null}]}`,
				`{ craft(filter: {flag: {is: "NO"}}) { imo } }`:         `{"craft":[{"imo":1}]}`,
				`{ craft(filter: {flag: {is: 5}}) { imo } }`:            `{"craft":[{"imo":2}]}`,
				`{ craft(filter: {flag: {notIn: [5, true]}}) { imo } }`: `{"craft":[{"imo":1}]}`,
				`{ craft(flag: 5) { imo } }`:                            `{"craft":[{"imo":2}]}`,
				`{ craft(filter: {state: {is: OPEN}}) { imo } }`:        `{"craft":[{"imo":1}]}`,
				`{ craft(filter: {state: {isNot: OPEN}}) { imo } }`:     `{"craft":[{"imo":2}]}`,
			} {
				if o := e.Ask(t, op, nil); o.Data != want || len(o.Errors) > 0 {
					t.Errorf("%s\ngives %s %v\nwant  %s", op, o.Data, o.Errors, want)
				}
			}
			if filter := e.Schema().Type("CraftFilter").(*schema.InputObject); filter.Field("papers") != nil {
				t.Error("a column of JSON is compared as a whole")
			}
		})
	}
}
