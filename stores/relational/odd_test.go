package relational_test

import (
	"context"
	"database/sql"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/relational"
)

// oddTables are tables with columns of many types, for the databases that
// postgres' own test does not cover.
var oddTables = map[string]string{
	relational.MySQL: `CREATE TABLE things (id bigint PRIMARY KEY AUTO_INCREMENT, small smallint, big bigint unsigned, real4 float, exact decimal(30,3), flag tinyint(1), word varchar(10) COLLATE utf8mb4_general_ci,
  side enum('port','star''board'), day date, at timestamp(6) NULL, moment datetime(6), clock time(6), uid uuid, doc json, data varbinary(10), ` + "`odd ``name`" + ` text, made int AS (small * 2) STORED);
CREATE TABLE pairs (a int, b varchar(5), n int, PRIMARY KEY (a, b));
CREATE UNIQUE INDEX word_day ON things (word, day);
CREATE VIEW shown AS SELECT id, word FROM things;
SET time_zone = '+00:00';
INSERT INTO things (id, small, big, real4, exact, flag, word, side, day, at, moment, clock, uid, doc, data, ` + "`odd ``name`" + `) VALUES
 (1, -5, 18446744073709551615, 0.5, 12345678901234567890.123, 1, 'wörd', 'star''board', '2026-03-01', '2026-03-01 06:30:00.123456', '2026-03-01 08:30:00', '23:59:59.5', '0196F2A1-7c3e-7b7e-9d0c-5a8b1c2d3e4f', '{"a": [1]}', x'00ff', 'quoted'),
 (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
 (3, 1, 0, -1.25, 0, 0, '', 'port', '1000-01-01', '1970-01-02 00:00:00', '9999-12-31 23:59:59', '100:00:00', NULL, 'null', '', '')`,
	relational.SQLite: `CREATE TABLE things (id integer PRIMARY KEY, small smallint, big bigint, real4 real, exact decimal(30,3), flag boolean, word text, side varchar(10), day date, at timestamp, moment datetime, clock time, uid uuid, doc json, data blob, "odd ""name" text, made int AS (small * 2) STORED);
CREATE TABLE pairs (a int, b text, n int, PRIMARY KEY (a, b));
CREATE UNIQUE INDEX word_day ON things (word, day);
CREATE VIEW shown AS SELECT id, word FROM things;
INSERT INTO things (id, small, big, real4, exact, flag, word, side, day, at, moment, clock, uid, doc, data, "odd ""name") VALUES
 (1, -5, 9223372036854775807, 0.5, 12.5, 1, 'wörd', 'star''board', '2026-03-01', '2026-03-01T08:30:00.123456+02:00', '2026-03-01 08:30', '23:59:59.5', '0196F2A1-7c3e-7b7e-9d0c-5a8b1c2d3e4f', '{"a": [1]}', x'00ff', 'quoted'),
 (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
 (3, 'one', 0, -1.25, 0, 'maybe', '', 'port', 'someday', 1735689600, '9999-12-31 23:59:59', '25:00', NULL, '{', '', '')`,
}

// openOdd opens a source over odd tables.
func openOdd(t *testing.T, kind string) (*relational.Source, *store.Catalogue) {
	t.Helper()
	driver, url, dsn := "sqlite", "", ""
	if kind == relational.MySQL {
		driver = "mysql"
		url, dsn = demotest.MariaDB(t)
		dsn += "?multiStatements=true"
	} else {
		dsn = filepath.Join(t.TempDir(), "odd.db")
		url = "sqlite:" + dsn
	}
	db, err := sql.Open(driver, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(oddTables[kind]); err != nil {
		t.Fatal(err)
	}
	for a := range 3 {
		for _, b := range []string{"x", "y"} {
			if _, err := db.Exec("INSERT INTO pairs VALUES (?, ?, ?)", a, b, 10*a); err != nil {
				t.Fatal(err)
			}
		}
	}
	s, err := relational.Open(relational.Config{Kind: kind, URL: url})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	c, err := s.Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return s, c
}

// TestOddTypes reads every type of MariaDB and SQLite, and finds rows by keys of
// several fields.
func TestOddTypes(t *testing.T) {
	for kind, want := range map[string]struct{ catalogue, values map[string]string }{
		relational.MySQL: {map[string]string{
			"id": "int filled", "small": "int?", "big": "decimal?", "real4": "float?", "exact": "decimal?", "flag": "bool?", "word": "text? loose", "side": "text? port|star'board", "day": "date?",
			"at": "time?", "moment": "time?", "clock": "clock?", "uid": "uuid?", "doc": "json?", "data": "binary?", "odd `name": "text?", "made": "int? generated"},
			map[string]string{
				"small": "-5 null 1", "big": "18446744073709551615 null 0", "real4": "0.5 null -1.25", "exact": "12345678901234567890.123 null 0.000", "flag": "1 null 0", "word": "wörd null ", "side": "star'board null port",
				"day": "2026-03-01 null 1000-01-01", "at": "2026-03-01T06:30:00.123456Z null 1970-01-02T00:00:00Z", "moment": "2026-03-01T08:30:00Z null 9999-12-31T23:59:59Z", "clock": "23:59:59.5 null bad",
				"uid": "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f null null", "doc": `{"a": [1]} null null`, "data": "\x00\xff null ", "odd `name": "quoted null ", "made": "-10 null 2"}},
		relational.SQLite: {map[string]string{
			"id": "int filled", "small": "int?", "big": "int?", "real4": "float?", "exact": "decimal?", "flag": "bool?", "word": "text?", "day": "date?", "at": "time?", "clock": "clock?", "uid": "uuid?", "doc": "json?", "data": "binary?", `odd "name`: "text?", "made": "int? generated"},
			map[string]string{
				"small": "-5 null bad", "big": "9223372036854775807 null 0", "real4": "0.5 null -1.25", "exact": "12.5 null 0", "flag": "1 null bad", "day": "2026-03-01 null bad", "at": "2026-03-01T06:30:00.123456Z null bad",
				"moment": "2026-03-01T08:30:00Z null 9999-12-31T23:59:59Z", "clock": "23:59:59.5 null bad", "doc": `{"a": [1]} null bad`, "data": "\x00\xff null ", "made": "-10 null 0"}},
	} {
		t.Run(kind, func(t *testing.T) {
			s, c := openOdd(t, kind)
			things := c.Sets["things"]
			if things == nil || c.Sets["shown"].What != "view" || strings.Join(c.Sets["pairs"].Keys[0], ",") != "a,b" || !things.Unique([]string{"word", "day"}) || things.Unique([]string{"word"}) {
				t.Fatalf("the catalogue is %+v", c.Sets["pairs"])
			}
			for name, want := range want.catalogue {
				if f := things.Field(name); f == nil || described(f) != want {
					t.Errorf("%s is %q, want %q", name, described(f), want)
				}
			}
			for name, want := range want.values {
				w := store.Wanted{Path: name, Kind: things.Field(name).Kind}
				rows := read(t, s, c, &store.Read{Set: "things", Columns: []store.Wanted{w}, Sort: []store.Order{{Path: "id"}}}, store.Input{})
				if got := plain(rows); got != want {
					t.Errorf("%s holds %q, want %q", name, got, want)
				}
			}
			columns := []store.Wanted{{Path: "a", Kind: store.Int}, {Path: "b", Kind: store.Text}, {Path: "n", Kind: store.Int}}
			keys := store.Input{Keys: []store.Column{ints(2, 0, 7), texts("y", "x", "x")}, Limit: 1}
			for _, bounded := range []bool{false, true} {
				rows := read(t, s, c, &store.Read{Set: "pairs", Columns: columns, Keys: []int{0, 1}, Limit: bounded}, keys)
				slices.Sort(rows) // no order was asked for
				if got := strings.Join(rows, ", "); got != `0 "x" 0, 2 "y" 20` {
					t.Errorf("by two keys, bounded %t: %s", bounded, got)
				}
			}
			if rows := read(t, s, c, &store.Read{Set: "pairs", Columns: columns, Keys: []int{0, 1}}, store.Input{Keys: []store.Column{{Kind: store.Int}, {Kind: store.Text}}}); len(rows) > 0 {
				t.Errorf("no keys find %q", rows)
			}
		})
	}
}

// plain writes single values without quotes, and what is bad as one word.
func plain(rows []string) string {
	var list []string
	for _, row := range rows {
		if text, err := strconv.Unquote(row); err == nil {
			row = text
		} else if row == "-" {
			row = "null"
		} else if strings.HasPrefix(row, "!") {
			row = "bad"
		}
		list = append(list, row)
	}
	return strings.Join(list, " ")
}

func described(f *store.Field) string {
	if f == nil {
		return "missing"
	}
	text := f.Kind.String()
	if f.Nullable {
		text += "?"
	}
	if len(f.Values) > 0 {
		text += " " + strings.Join(f.Values, "|")
	}
	if f.Generated {
		text += " generated"
	}
	if f.Filled {
		text += " filled"
	}
	if f.Loose {
		text += " loose"
	}
	return text
}
