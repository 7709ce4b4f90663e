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
	"strconv"
	"strings"
	"time"

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
	name := "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + options.Encode()
	return sqlx.NewDb(sql.OpenDB(keeping{&sqlite.Driver{}, name}), "sqlite"), nil
}

// sqliteDatabase is SQLite.
var sqliteDatabase = &database{
	dialect:     sqliteDialect{},
	windowed:    sqliteDialect{},
	transaction: transactionWords{"BEGIN", "COMMIT", false},
	dead:        func(error) bool { return false },

	open:      openSQLite,
	ready:     missingFile,
	catalogue: sqliteCatalogue,
	fail:      failSQLite,
}

type sqliteDialect struct{}

func (sqliteDialect) inline() bool { return false }

func (sqliteDialect) weigh(here, there *store.Field) (weighHere, weighThere func(string) string) {
	var name string
	switch {
	case here.Kind != store.Text || there.Kind != store.Text:
		return nil, nil
	case strings.EqualFold(there.Collation, "NOCASE"):
		name = "lower" // of the letters that the collation knows, too
	case strings.EqualFold(there.Collation, "RTRIM"):
		name = "rtrim"
	default:
		return nil, nil
	}
	weigh := func(expr string) string { return name + "(" + expr + ")" }
	return weigh, weigh
}

func (sqliteDialect) quote(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func (sqliteDialect) intType() string { return "int" }

func (sqliteDialect) typeOf(t store.Aggregate, f *store.Field) string { return plainType(t, f) }

func (sqliteDialect) null(string) string { return "NULL" }

func (sqliteDialect) sent(expr string, o *out) string {
	if f := o.field; f != nil && o.weigh == nil && (isUntyped(f) && o.kind == store.Text || f.Form != "" && o.kind == store.Time) {
		return "CAST(" + expr + " AS TEXT)"
	}
	return expr
}

func (sqliteDialect) aggregate(t store.Aggregate, expr string, _ *store.Field) string {
	return t.String() + "(" + expr + ")"
}

func (d sqliteDialect) param(n int, p *param) string {
	if p.field == nil || p.many {
		return mark(n)
	}
	return d.given(mark(n), p.field, p.kind)
}

// given writes moments in one form, and numbers to be compared with a column without a
// type as numbers.
func (d sqliteDialect) given(value string, f *store.Field, kind store.Kind) string {
	switch {
	case kind == store.Time && f != nil && f.Form != "":
	case kind == store.Time || kind == store.Clock:
		return inOneForm(value, kind)
	case isUntyped(f) && (kind == store.Decimal || kind == store.Float):
		return "CAST(" + value + " AS NUMERIC)"
	}
	return value
}

func (sqliteDialect) text(string, *store.Field) string { return "?" }

func (sqliteDialect) value(v any, f *store.Field) any {
	t, ok := v.(time.Time)
	switch {
	case !ok:
		return v
	case f == nil || f.Form == "":
		return t.Format(momentForm)
	}
	// Behind what the form has: equal to none of it, and between its neighbours.
	text := t.Format(f.Form)
	if same, err := time.Parse(f.Form, text); err == nil && !same.Equal(t) {
		text += fmt.Sprintf("%06d", t.Nanosecond()/1000)
	}
	return text
}

func (sqliteDialect) meet(there string, _ *store.Field, here string, _ *store.Field) string {
	return there + " = " + here
}

func (d sqliteDialect) equals(own, value string, f *store.Field, kind store.Kind) string {
	if kind == store.UUID { // in either case, so that an index helps
		return own + " IN (" + value + ", upper(" + value + "))"
	}
	return d.ordered(own, f, kind) + " = " + value
}

func (d sqliteDialect) anyOf(own, values string, f *store.Field, kind store.Kind) string {
	value := "value"
	switch kind {
	case store.Binary:
		value = "unhex(value)"
	case store.UUID:
		return own + " IN (SELECT value FROM json_each(" + values + ") UNION ALL SELECT upper(value) FROM json_each(" + values + "))"
	}
	return d.ordered(own, f, kind) + " IN (SELECT " + d.given(value, f, kind) + " FROM json_each(" + values + "))"
}

func (d sqliteDialect) anyOfKeys(fields []keyField, values string) string {
	own, parts := make([]string, len(fields)), make([]string, len(fields))
	for k, f := range fields {
		value := "json_extract(value, '$[" + strconv.Itoa(k) + "]')"
		if f.kind == store.Binary {
			value = "unhex(" + value + ")"
		}
		own[k], parts[k] = d.ordered(f.own, f.field, f.kind), d.given(value, f.field, f.kind)
	}
	return "(" + strings.Join(own, ", ") + ") IN (SELECT " + strings.Join(parts, ", ") + " FROM json_each(" + values + "))"
}

func (d sqliteDialect) holds(own string, _ *store.Field, keys param, add func(param) string) string {
	return "EXISTS (SELECT 1 FROM json_each(CASE WHEN json_valid(" + own + ") THEN " + own + " ELSE '[]' END) e WHERE " + d.anyOf("CAST(e.value AS TEXT)", add(keys), nil, store.Text) + ")"
}

func (sqliteDialect) bytes(own string) string { return own + " COLLATE BINARY" }

// ordered writes moments and booleans in one form, of which the file may have any of
// several, and what is wanted as text of a column without a type as text.
func (sqliteDialect) ordered(own string, f *store.Field, kind store.Kind) string {
	switch {
	case kind == store.Time && f != nil && f.Form != "":
	case kind == store.Time || kind == store.Clock:
		return inOneForm(own, kind)
	case kind == store.Bool:
		return "CASE WHEN lower(" + own + ") IN ('1', 't', 'true') THEN 1 WHEN lower(" + own + ") IN ('0', 'f', 'false') THEN 0 END"
	case kind == store.Text && isUntyped(f):
		return "CAST(" + own + " AS TEXT)"
	}
	return own
}

func (sqliteDialect) orderedBy(value string, _ *store.Field) string { return value }

// inOneForm writes a moment or time of day in one form, to milliseconds.
func inOneForm(value string, kind store.Kind) string {
	if kind == store.Clock {
		return "strftime('%H:%M:%f', " + value + ")"
	}
	return "strftime('%Y-%m-%d %H:%M:%f', " + value + ")"
}

// isUntyped reports whether a column can hold values of any type: it is of none, as an
// expression of a view, or of the type ANY.
func isUntyped(f *store.Field) bool { return f != nil && (f.Type == "" || f.Type == "any") }

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

func (sqliteDialect) decoder(f *store.Field, w *store.Wanted) decoder {
	if f == nil || f.Form == "" || kindAs(f, w.Kind) != store.Time {
		return textDecoder(f, w)
	}
	return func(c *store.Column, v []byte) error {
		if t, err := time.Parse(f.Form, string(v)); err == nil && len(v) == len(f.Form) {
			c.AppendInt(t.UnixMicro())
		} else {
			c.AppendBad(fmt.Sprintf("the stored value %s is no moment as the others are, such as %q", short(string(v)), f.Form))
		}
		return nil
	}
}

// sqliteCatalogue reads the file's own tables.
func sqliteCatalogue(ctx context.Context, db *sqlx.DB) (*store.Catalogue, error) {
	var columns []struct {
		Set, What, Name, Type string
		Definition            string
		NotNull               bool `db:"not_null"`
		Key                   int
		Hidden                int
	}
	if err := db.SelectContext(ctx, &columns, `
SELECT m.name AS "set", m.type AS what, COALESCE(m.sql, '') AS definition, c.name, c.type, c."notnull" AS not_null, c.pk AS key, c.hidden
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
		if f.Kind == store.Text {
			f.Collation = collationOf(c.Definition, c.Name)
			f.Loose = f.Collation != "" && !strings.EqualFold(f.Collation, "BINARY")
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
	return b.finish(), nil
}

// sqliteForms looks at some moments of each column: where they are written in one way,
// they are compared as they are, which an index helps. A moment that is written in
// another way is then an error at its place.
func sqliteForms(ctx context.Context, db *sqlx.DB, c *store.Catalogue) error {
	for _, set := range c.Sets {
		for i := range set.Fields {
			f := &set.Fields[i]
			if f.Kind != store.Time || set.What != "table" {
				continue
			}
			own := sqliteDialect{}.quote(f.Name)
			var forms []struct {
				Size  int
				T, Z  string
				Plain bool
			}
			if err := db.SelectContext(ctx, &forms, `
SELECT DISTINCT length(v) AS size, substr(v, 11, 1) AS t, CASE substr(v, -1) WHEN 'Z' THEN 'Z' ELSE '' END AS z,
       typeof(v) = 'text' AND v GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9][ T][0-9][0-9]:[0-9][0-9]:[0-9][0-9]*'
         AND (length(v) < 20 OR substr(v, 20) = 'Z' OR rtrim(substr(v, 20), 'Z') GLOB '.[0-9]*' AND rtrim(substr(v, 21), 'Z') NOT GLOB '*[^0-9]*') AS plain
  FROM (SELECT `+own+` AS v FROM `+sqliteDialect{}.quote(set.Name)+` WHERE `+own+` IS NOT NULL LIMIT 1000)`); err != nil {
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
