package relational

import (
	"context"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"osprey/core/store"
)

// This file has what is SQLite's own.

// openSQLite makes a pool for a file: sqlite:path/to/file.db, with two slashes
// before an absolute path or none.
func openSQLite(c *Config) (*sqlx.DB, error) {
	path := sqliteFile(c)
	if path == "" {
		return nil, errors.New("the address is not of the form sqlite:path/to/file.db")
	}
	options := url.Values{"_pragma": {"busy_timeout(5000)", "query_only(1)"}, "mode": {"ro"}}
	db, err := sqlx.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+options.Encode())
	if err != nil {
		return nil, errors.New("the address cannot be used")
	}
	return db, nil
}

// sqliteDatabase is SQLite.
var sqliteDatabase = &database{
	dialect:  sqliteDialect{},
	windowed: sqliteDialect{},

	open:      openSQLite,
	ready:     missingFile,
	catalogue: sqliteCatalogue,
	fail:      failSQLite,
}

type sqliteDialect struct{}

func (sqliteDialect) inline() bool { return false }

func (sqliteDialect) weigh(here, there *store.Field) func(string) string { return nil }

func (sqliteDialect) quote(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func (sqliteDialect) intType() string { return "int" }

func (sqliteDialect) typeOf(t store.Aggregate, f *store.Field) string { return plainType(t, f) }

func (sqliteDialect) null(string) string { return "NULL" }

func (sqliteDialect) sent(expr string, _ *out) string { return expr }

func (sqliteDialect) aggregate(t store.Aggregate, expr string) string {
	return t.String() + "(" + expr + ")"
}

func (d sqliteDialect) param(n int, p *param) string {
	if p.field != nil && !p.many {
		return d.comparable(mark(n), &store.Field{Kind: p.kind})
	}
	return mark(n)
}

func (sqliteDialect) anyOf(own, values string) string {
	return own + " IN (SELECT value FROM json_each(" + values + "))"
}

func (sqliteDialect) anyOfKeys(own []string, values string) string {
	parts := make([]string, len(own))
	for k := range own {
		parts[k] = "json_extract(value, '$[" + strconv.Itoa(k) + "]')"
	}
	return "(" + strings.Join(own, ", ") + ") IN (SELECT " + strings.Join(parts, ", ") + " FROM json_each(" + values + "))"
}

func (d sqliteDialect) holds(own string, _ *store.Field, keys param, add func(param) string) string {
	return "EXISTS (SELECT 1 FROM json_each(CASE WHEN json_valid(" + own + ") THEN " + own + " ELSE '[]' END) e WHERE " + d.anyOf("CAST(e.value AS TEXT)", add(keys)) + ")"
}

// comparable writes moments in one form: the file may have any of several.
func (sqliteDialect) bytes(own string) string { return own + " COLLATE BINARY" }
func (sqliteDialect) comparable(own string, f *store.Field) string {
	if f != nil && f.Kind == store.Time {
		return "strftime('%Y-%m-%d %H:%M:%f', " + own + ")"
	}
	return own
}

func (sqliteDialect) same() string { return " IS " }

func (sqliteDialect) within(op store.Op, own string, value func() string) string {
	switch op {
	case store.Contains:
		return "instr(" + own + ", " + value() + ") > 0"
	case store.StartsWith:
		return "substr(" + own + ", 1, length(" + value() + ")) = " + value() + " COLLATE BINARY"
	}
	return "(length(" + value() + ") = 0 OR substr(" + own + ", -length(" + value() + ")) = " + value() + " COLLATE BINARY)"
}

func (sqliteDialect) order(expr string, o store.Order, nullable bool) string {
	return postgresDialect{}.order(expr, o, nullable)
}

func (sqliteDialect) readInt(v []byte) (int64, error) { return strconv.ParseInt(string(v), 10, 64) }

func (sqliteDialect) decoder(f *store.Field, w *store.Wanted) decoder { return textDecoder(f, w) }

// sqliteCatalogue reads the file's own tables.
func sqliteCatalogue(ctx context.Context, db *sqlx.DB) (*store.Catalogue, error) {
	var columns []struct {
		Set, What, Name, Type string
		NotNull               bool `db:"not_null"`
		Key                   int
		Hidden                int
	}
	if err := db.SelectContext(ctx, &columns, `
SELECT m.name AS "set", m.type AS what, c.name, c.type, c."notnull" AS not_null, c.pk AS key, c.hidden
  FROM sqlite_master m, pragma_table_xinfo(m.name) c
 WHERE m.type IN ('table', 'view') AND m.name NOT LIKE 'sqlite\_%' ESCAPE '\' AND c.hidden <> 1
 ORDER BY m.name, c.cid`); err != nil {
		return nil, err
	}
	b := newCatalogue()
	keys := map[string]map[int]string{}
	for _, c := range columns {
		f := store.Field{Name: c.Name, Type: strings.ToLower(c.Type), Kind: sqliteKind(c.Type), Computed: c.Hidden > 1,
			Nullable: !c.NotNull && c.Key == 0 && c.What == "table"}
		b.field(c.Set, c.What, 0, f)
		if c.Key > 0 {
			if keys[c.Set] == nil {
				keys[c.Set] = map[int]string{}
			}
			keys[c.Set][c.Key] = c.Name
		}
	}
	for set, fields := range keys {
		for n := 1; n <= len(fields); n++ {
			b.index(set, " primary", true, fields[n])
		}
	}
	var indexes []struct {
		Set, Name, Field string
		Unique           bool `db:"is_unique"`
	}
	if err := db.SelectContext(ctx, &indexes, `
SELECT m.name AS "set", i.name, i."unique" AND NOT i.partial AS is_unique, f.name AS field
  FROM sqlite_master m, pragma_index_list(m.name) i, pragma_index_info(i.name) f
 WHERE m.type = 'table' AND i.origin <> 'pk' AND NOT EXISTS (SELECT 1 FROM pragma_index_info(i.name) WHERE name IS NULL)
 ORDER BY m.name, i.seq, f.seqno`); err != nil {
		return nil, err
	}
	for _, i := range indexes {
		b.index(i.Set, i.Name, i.Unique, i.Field)
	}
	return b.finish(), nil
}

// sqliteKind returns the kind of a declared type: by its name where it is one
// of SQL's, and by the rules of affinity (section 3.1 of "Datatypes In SQLite").
func sqliteKind(declared string) store.Kind {
	name, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(declared)), "(")
	switch name = strings.TrimSpace(name); name {
	case "BOOLEAN", "BOOL":
		return store.Bool
	case "DATE":
		return store.Date
	case "DATETIME", "TIMESTAMP", "TIMESTAMPTZ":
		return store.Time
	case "TIME":
		return store.Clock
	case "DECIMAL", "NUMERIC":
		return store.Decimal
	case "UUID":
		return store.UUID
	case "JSON", "JSONB":
		return store.JSON
	}
	switch {
	case strings.Contains(name, "INT"):
		return store.Int
	case strings.Contains(name, "CHAR"), strings.Contains(name, "CLOB"), strings.Contains(name, "TEXT"):
		return store.Text
	case strings.Contains(name, "BLOB"):
		return store.Binary
	case strings.Contains(name, "REAL"), strings.Contains(name, "FLOA"), strings.Contains(name, "DOUB"):
		return store.Float
	case name == "":
		return store.Unknown
	}
	return store.Decimal
}

// failSQLite turns an error of the driver into one of the port, or returns nil
// if it is none of SQLite's.
func failSQLite(err error) *store.Error {
	var refused *sqlite.Error
	if !errors.As(err, &refused) {
		return nil
	}
	switch refused.Code() & 0xff { // the rest says it in more detail
	case sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM, sqlite3.SQLITE_IOERR:
		return &store.Error{Code: store.Down, Msg: "has no file to read", Err: err}
	case sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CORRUPT:
		return &store.Error{Code: store.Down, Msg: "has a file that is no database", Err: err}
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return &store.Error{Code: store.Timeout, Msg: "is being written, and did not become free in time", Err: err}
	case sqlite3.SQLITE_ERROR:
		if text := refused.Error(); strings.Contains(text, "no such column") || strings.Contains(text, "no such table") {
			return store.HasChanged(err)
		}
	case sqlite3.SQLITE_INTERRUPT:
		return nil // by us; the context says why
	}
	return &store.Error{Code: store.BadAnswer, Msg: "refused the request", Err: err}
}

// sqliteFile returns the file of a source, or "" if its address names none.
func sqliteFile(c *Config) string {
	path, ok := strings.CutPrefix(c.URL, "sqlite:")
	if path = strings.TrimPrefix(path, "//"); !ok || path == "" {
		return ""
	}
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(c.Dir, path)
}

// missingFile says that the file of a SQLite source is not there.
func missingFile(c *Config) error {
	if _, err := os.Stat(sqliteFile(c)); err != nil {
		return &store.Error{Code: store.Down, Msg: "has no file to read", Err: err}
	}
	return nil
}
