package relational

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
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
	return sqliteAt(path, url.Values{"_pragma": {"busy_timeout(5000)", "query_only(1)"}, "mode": {"ro"}}), nil
}

func sqliteAt(path string, options url.Values) *sqlx.DB {
	name := "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + options.Encode()
	return sqlx.NewDb(sql.OpenDB(keeping{&sqlite.Driver{}, name}), "sqlite")
}

// sqliteDatabase is SQLite.
var sqliteDatabase = &database{
	dialect:     sqliteDialect{},
	windowed:    sqliteDialect{},
	writing:     sqliteDialect{},
	transaction: transactionWords{"BEGIN", "COMMIT", false},
	dead:        func(error) bool { return false },

	open:      openSQLite,
	ready:     missingFile,
	catalogue: sqliteCatalogue,
	fail:      failSQLite,
}

// sqliteCatalogue reads the file's own tables.
func sqliteCatalogue(ctx context.Context, db *sqlx.DB) (*store.Catalogue, error) {
	var columns []struct {
		Set, What, Name, Type string
		Definition            string
		NotNull               bool `db:"not_null"`
		Filled                bool
		Key                   int
		Hidden                int
	}
	if err := db.SelectContext(ctx, &columns, `
SELECT m.name AS "set", m.type AS what, COALESCE(m.sql, '') AS definition, c.name, c.type, c."notnull" AS not_null, c.dflt_value IS NOT NULL AS filled, c.pk AS key, c.hidden
  FROM sqlite_master m, pragma_table_xinfo(m.name) c
 WHERE m.type IN ('table', 'view') AND m.name NOT LIKE 'sqlite\_%' ESCAPE '\' AND c.hidden <> 1
 ORDER BY m.name, c.cid`); err != nil {
		return nil, err
	}
	b := newCatalogue()
	keys := map[string]map[int]string{}
	for _, c := range columns {
		f := store.Field{Name: c.Name, Type: strings.ToLower(c.Type), Kind: sqliteKind(c.Type), Generated: c.Hidden > 1, Filled: c.Filled,
			Nullable: !c.NotNull && c.Key == 0 && c.What == "table"}
		if f.Kind == store.Text {
			f.Collation = collationOf(c.Definition, c.Name)
			f.Loose = f.Collation != "" && !strings.EqualFold(f.Collation, "BINARY")
			f.Values = allowedOf(c.Definition, c.Name)
		}
		if f.Kind == store.Text { // the type of most that hold JSON
			f.Opens = insideKinds
		}
		if isUntyped(&f) {
			f.Also = anyKinds
		}
		b.field(c.Set, c.What, 0, f)
		if c.Key > 0 {
			if keys[c.Set] == nil {
				keys[c.Set] = map[int]string{}
			}
			keys[c.Set][c.Key] = c.Name
		}
	}
	if err := sqliteForms(ctx, db, b.catalogue); err != nil {
		return nil, err
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
	var foreign []foreignField
	if err := db.SelectContext(ctx, &foreign, sqliteForeign); err != nil {
		return nil, err
	}
	b.foreign(foreign)
	sqliteRowIDs(b.catalogue, keys)
	var expressions []struct{ Set, Definition string }
	if err := db.SelectContext(ctx, &expressions, sqliteExpressionsQuery); err != nil {
		return nil, err
	}
	for _, e := range expressions {
		if set := b.catalogue.Sets[e.Set]; set != nil {
			set.Expressions = append(set.Expressions, sqliteExpression(e.Definition, set)...)
		}
	}
	return b.finish(), nil
}

// sqliteForeign lists the foreign keys, field by field. One that names no fields leads
// to the primary key.
const sqliteForeign = `
SELECT m.name AS "set", m.name || ' ' || f.id AS name, f."from" AS field, f."table" AS other,
       COALESCE(f."to", (SELECT c.name FROM pragma_table_info(f."table") c WHERE c.pk = f.seq + 1), '') AS there
  FROM sqlite_master m, pragma_foreign_key_list(m.name) f
 WHERE m.type = 'table' ORDER BY m.name, f.id, f.seq`

// sqliteRowIDs marks the columns that are the row's own number, which SQLite fills: a
// primary key of the one column INTEGER ("ROWIDs and the INTEGER PRIMARY KEY").
func sqliteRowIDs(c *store.Catalogue, keys map[string]map[int]string) {
	for name, key := range keys {
		if len(key) != 1 {
			continue
		}
		if f := c.Sets[name].Field(key[1]); f != nil && f.Type == "integer" {
			f.Filled = true
		}
	}
}

// sqliteMoments tells in which ways moments are written.
const sqliteMoments = `
SELECT DISTINCT length(v) AS size, substr(v, 11, 1) AS t, CASE substr(v, -1) WHEN 'Z' THEN 'Z' ELSE '' END AS z,
       typeof(v) = 'text' AND v GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9][ T][0-9][0-9]:[0-9][0-9]:[0-9][0-9]*'
         AND (length(v) < 20 OR substr(v, 20) = 'Z' OR rtrim(substr(v, 20), 'Z') GLOB '.[0-9]*' AND rtrim(substr(v, 21), 'Z') NOT GLOB '*[^0-9]*') AS plain
  FROM (%s)`

type momentsForm struct {
	Size  int
	T, Z  string
	Plain bool
}

// sqliteForms looks at some moments of each column, the first and the last ones: where
// they are written in one way, they are compared as they are, which an index helps. A
// moment that is written in another way is then an error at its place.
func sqliteForms(ctx context.Context, db *sqlx.DB, c *store.Catalogue) error {
	for _, set := range c.Sets {
		for i := range set.Fields {
			f := &set.Fields[i]
			if f.Kind != store.Time || set.What != "table" {
				continue
			}
			own := sqliteDialect{}.quote(f.Name)
			some := "SELECT " + own + " AS v FROM " + sqliteDialect{}.quote(set.Name) + " WHERE " + own + " IS NOT NULL"
			var forms []momentsForm
			err := db.SelectContext(ctx, &forms, fmt.Sprintf(sqliteMoments, "SELECT v FROM ("+some+" LIMIT 1000) UNION ALL SELECT v FROM ("+some+" ORDER BY rowid DESC LIMIT 1000)"))
			if err != nil { // a table WITHOUT ROWID
				err = db.SelectContext(ctx, &forms, fmt.Sprintf(sqliteMoments, some+" LIMIT 1000"))
			}
			if err != nil {
				return err
			}
			if len(forms) != 1 || !forms[0].Plain || forms[0].Size > 27 {
				continue
			}
			form := "2006-01-02" + forms[0].T + "15:04:05"
			if digits := forms[0].Size - len(form) - len(forms[0].Z) - 1; digits > 0 && digits <= 6 {
				form += "." + strings.Repeat("0", digits)
			}
			f.Form = form + forms[0].Z
		}
	}
	return nil
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
	case name == "", name == "ANY":
		return store.Text // which any value has
	}
	return store.Decimal
}

// anyKinds are as what a column without a type can be read.
var anyKinds = []store.Kind{store.Int, store.Float, store.Decimal, store.Bool, store.Time, store.Date, store.Clock, store.UUID, store.JSON, store.Binary}

// collationOf returns the collation that the definition of a table gives a column.
func collationOf(definition, column string) string {
	form, err := regexp.Compile("(?is)[(,\\s][\"`\\[]?" + regexp.QuoteMeta(column) + "[\"`\\]]?\\s[^,]*?\\bCOLLATE\\s+[\"']?(\\w+)")
	if err != nil {
		return ""
	}
	if found := form.FindStringSubmatch(definition); found != nil {
		return found[1]
	}
	return ""
}

// checked is a list of texts that a check holds a column to.
const checked = `(?i)\bCHECK\s*\(\s*["\x60\[]?%s["\x60\]]?\s+IN\s*\(((?:\s*'(?:[^']|'')*'\s*,?)+)\)\s*\)`

// allowedOf returns the texts that the definition of a table allows in a column, which is what
// SQLite has for enums; nil if it allows others.
func allowedOf(definition, column string) (values []string) {
	form, err := regexp.Compile(fmt.Sprintf(checked, regexp.QuoteMeta(column)))
	if err != nil {
		return nil
	}
	found := form.FindStringSubmatch(definition)
	if found == nil {
		return nil
	}
	for _, v := range quotedText.FindAllString(found[1], -1) {
		values = append(values, strings.ReplaceAll(v[1:len(v)-1], "''", "'"))
	}
	return values
}

var quotedText = regexp.MustCompile(`'(?:[^']|'')*'`)

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
