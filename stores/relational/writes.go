package relational

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"osprey/core/store"
)

// This file has how each database is written to, and the rules that it says are broken.

type execer interface {
	ExecContext(ctx context.Context, text string, args ...any) (sql.Result, error)
}

func commitOn(ctx context.Context, conn execer) error {
	_, err := conn.ExecContext(ctx, "COMMIT")
	return err
}

// PostgreSQL. Values are given as texts, which it reads as it reads its own.

func (postgresDialect) pool(s *Source) (*sqlx.DB, error) { return s.db, nil }

func (postgresDialect) begin() string { return "BEGIN" }

func (postgresDialect) commit(ctx context.Context, conn execer) error { return commitOn(ctx, conn) }

func (postgresDialect) put(n int, f *store.Field, _ store.Kind) string {
	return "$" + strconv.Itoa(n) + "::text::" + unbounded(f.Type)
}

// unbounded returns a type as which a value can be of any length: a cast to character is one to
// character(1), which cuts without a word. The column then refuses what is too long.
func unbounded(typ string) string {
	elem := strings.TrimSuffix(typ, "[]")
	switch brackets := typ[len(elem):]; elem {
	case "character":
		return "bpchar" + brackets
	case "bit":
		return "bit varying" + brackets
	}
	return typ
}

func (d postgresDialect) unnested(fields []*store.Field) string { return d.unnestedFrom(0, fields) }

// unnestedFrom writes rows of fields whose parameters come behind n others.
func (postgresDialect) unnestedFrom(n int, fields []*store.Field) string {
	var columns, names, params []string
	for i, f := range fields {
		name := "u" + strconv.Itoa(i)
		names = append(names, name)
		columns = append(columns, name+"::"+unbounded(f.Type))
		params = append(params, "$"+strconv.Itoa(n+i+1)+"::text[]")
	}
	return "SELECT " + strings.Join(columns, ", ") + " FROM unnest(" + strings.Join(params, ", ") + ") AS u(" + strings.Join(names, ", ") + ")"
}

func (d postgresDialect) values(c *store.Column, from, to int) any { return d.array(c, from, to) }

func (postgresDialect) filled() string { return "DEFAULT" }

func (postgresDialect) lock() string { return "\n FOR UPDATE" }

// among needs no more than one parameter for each field of the key.
func (d postgresDialect) among(n int, fields []*store.Field, _ []store.Kind, rows int) (string, bool) {
	var names []string
	for _, f := range fields {
		names = append(names, d.quote(f.Name))
	}
	return "(" + strings.Join(names, ", ") + ") IN (" + d.unnestedFrom(n, fields) + ")", true
}

func (d postgresDialect) replace(fields, columns []string, gives bool) string {
	return onConflict(d, fields, columns, gives)
}

// onConflict is how PostgreSQL and SQLite change the record that is there.
func onConflict(d dialect, fields, columns []string, gives bool) string {
	var list, sets []string
	for _, f := range fields {
		list = append(list, d.quote(f))
	}
	for _, c := range columns {
		sets = append(sets, d.quote(c)+" = excluded."+d.quote(c))
	}
	switch {
	case len(sets) == 0 && !gives:
		return " ON CONFLICT (" + strings.Join(list, ", ") + ") DO NOTHING"
	case len(sets) == 0: // or it is not given back
		sets = []string{list[0] + " = excluded." + list[0]}
	}
	return " ON CONFLICT (" + strings.Join(list, ", ") + ") DO UPDATE SET " + strings.Join(sets, ", ")
}

func (postgresDialect) anyKey() bool { return false }

func (postgresDialect) gives(store.Action) bool { return true }

func (postgresDialect) misfit(c *store.Column, row int, f *store.Field) (store.Rule, bool) {
	return store.OutOfRange, c.Kind == store.Int && !fitsWhole(c.Ints[row], f)
}

func (d postgresDialect) written(c *store.Column, row int, _ *store.Field) any { return d.text(c, row) }

// text writes a value as the database reads it.
func (d postgresDialect) text(c *store.Column, row int) []byte {
	switch c.Kind {
	case store.Bool:
		return strconv.AppendBool(nil, c.Ints[row] != 0)
	case store.Binary:
		return []byte(`\x` + hex.EncodeToString(c.At(row)))
	case store.List:
		start, end := c.Items(row)
		return d.array(c.Elem, start, end)
	}
	return append([]byte{}, c.Text(row)...)
}

// array writes values as an array: section 8.15.2 of its documentation.
func (d postgresDialect) array(c *store.Column, from, to int) []byte {
	b := []byte{'{'}
	for i := from; i < to; i++ {
		if i > from {
			b = append(b, ',')
		}
		if c.Null[i] {
			b = append(b, "NULL"...)
			continue
		}
		b = append(b, '"')
		for _, ch := range d.text(c, i) {
			if ch == '"' || ch == '\\' {
				b = append(b, '\\')
			}
			b = append(b, ch)
		}
		b = append(b, '"')
	}
	return append(b, '}')
}

func runPostgres(ctx context.Context, conn *pgconn.PgConn, text string, args []any, often bool, row func([][]byte) error) (int64, error) {
	values := make([][]byte, len(args))
	for i, v := range args {
		values[i], _ = v.([]byte)
	}
	if !often {
		return rowsOfPostgres(conn.ExecParams(ctx, text, values, nil, nil, binaryForm), row)
	}
	known := statementsOf(conn)
	statement, err := known.statement(ctx, conn, text, func([]pgconn.FieldDescription) error { return nil })
	if err != nil {
		return 0, err
	}
	n, err := rowsOfPostgres(conn.ExecStatement(ctx, statement, values, nil, binaryForm), row)
	if isStale(err) { // the tables have changed: the transaction is begun again
		known.known.Remove(text)
		return n, store.IsConflict(err)
	}
	return n, err
}

func rowsOfPostgres(rows *pgconn.ResultReader, row func([][]byte) error) (int64, error) {
	var err error
	for err == nil && rows.NextRow() {
		err = row(rows.Values())
	}
	tag, closed := rows.Close()
	return tag.RowsAffected(), errors.Join(err, closed)
}

func (postgresDialect) broken(err error, set *store.Set, c *store.Catalogue, a store.Action) *store.Broken {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		return nil
	}
	b := &store.Broken{Set: refused.TableName, Name: refused.ConstraintName}
	if b.Set == "" {
		b.Set = set.Name
	}
	if constraint := constraintNamed(c, b.Set, refused.ConstraintName); constraint != nil {
		b.Fields = constraint.Fields
	}
	switch refused.Code {
	case "23505": // unique_violation
		b.Rule = store.Taken
	case "23503": // foreign_key_violation
		if b.Rule = store.Lost; a == store.Remove || b.Set != set.Name {
			b.Rule = store.Used
		}
	case "23502": // not_null_violation
		b.Rule, b.Fields = store.Required, []string{refused.ColumnName}
	case "22001": // string_data_right_truncation
		b.Rule = store.TooLong
	case "22003", "22008": // numeric_value_out_of_range, datetime_field_overflow
		b.Rule = store.OutOfRange
	case "21000": // cardinality_violation
		b.Rule = store.Twice
	case "23514", "23P01", "44000": // check_violation, exclusion_violation, with_check_option_violation
		b.Rule = store.OtherRule
	default:
		return nil
	}
	return b
}

func (postgresDialect) conflict(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && slices.Contains([]string{"40001", "40P01", "55P03"}, refused.Code)
}

// MariaDB and MySQL.

func (mysqlDialect) pool(s *Source) (*sqlx.DB, error) { return s.db, nil }

func (mysqlDialect) begin() string { return "START TRANSACTION" }

func (mysqlDialect) commit(ctx context.Context, conn execer) error { return commitOn(ctx, conn) }

func (d mysqlDialect) put(_ int, f *store.Field, kind store.Kind) string {
	return d.given("?", f, kind)
}

func (mysqlDialect) unnested([]*store.Field) string { return "" }

func (mysqlDialect) values(*store.Column, int, int) any { return nil }

func (mysqlDialect) filled() string { return "DEFAULT" }

func (mysqlDialect) lock() string { return "\n FOR UPDATE" }

func (d mysqlDialect) among(_ int, fields []*store.Field, kinds []store.Kind, rows int) (string, bool) {
	var names, params []string
	for i, f := range fields {
		names, params = append(names, d.quote(f.Name)), append(params, d.put(0, f, kinds[i]))
	}
	if len(names) == 1 {
		return names[0] + " IN (" + repeated(params[0], rows) + ")", false
	}
	return "(" + strings.Join(names, ", ") + ") IN (" + repeated("("+strings.Join(params, ", ")+")", rows) + ")", false
}

func repeated(text string, n int) string { return strings.Repeat(text+", ", n-1) + text }

func (d mysqlDialect) replace(fields, columns []string, _ bool) string {
	var sets []string
	for _, c := range columns {
		sets = append(sets, d.quote(c)+" = VALUES("+d.quote(c)+")")
	}
	if len(sets) == 0 {
		sets = []string{d.quote(fields[0]) + " = " + d.quote(fields[0])}
	}
	return " ON DUPLICATE KEY UPDATE " + strings.Join(sets, ", ")
}

func (mysqlDialect) anyKey() bool { return true }

func (mysqlDialect) gives(a store.Action) bool { return a != store.Change }

func (mysqlDialect) misfit(c *store.Column, row int, f *store.Field) (store.Rule, bool) {
	switch {
	case c.Kind == store.Int:
		return store.OutOfRange, !fitsWhole(c.Ints[row], f)
	case c.Kind == store.Time: // which it would cut to 9999
		return store.OutOfRange, time.UnixMicro(c.Ints[row]).UTC().Year() > 9999
	}
	return 0, false
}

func (d mysqlDialect) written(c *store.Column, row int, f *store.Field) any {
	return plainValue(d.value(valueAt(c, row), f))
}

// plainValue is a value as it is written: a number is a text, with all of its digits.
func plainValue(v any) any {
	if n, ok := v.(json.Number); ok {
		return string(n)
	}
	return v
}

var (
	mysqlKey        = regexp.MustCompile(`for key '(?:[^'.]*\.)?([^']*)'`)
	mysqlConstraint = regexp.MustCompile("(?:CONSTRAINT `|Check constraint ')([^`']*)[`']")
	mysqlForeignSet = regexp.MustCompile("\\(`[^`]*`\\.`([^`]*)`, CONSTRAINT")
	mysqlColumn     = regexp.MustCompile(`(?i)(?:column|field) '([^']*)'`)
)

func (mysqlDialect) broken(err error, set *store.Set, c *store.Catalogue, _ store.Action) *store.Broken {
	var refused *mysql.MySQLError
	if !errors.As(err, &refused) {
		return nil
	}
	b := &store.Broken{Set: set.Name}
	named := func(form *regexp.Regexp) {
		if m := form.FindStringSubmatch(refused.Message); m != nil {
			b.Name = m[1]
		}
		if constraint := constraintNamed(c, b.Set, b.Name); constraint != nil {
			b.Fields = constraint.Fields
		}
	}
	column := func() {
		if m := mysqlColumn.FindStringSubmatch(refused.Message); m != nil {
			b.Fields = []string{m[1]}
		}
	}
	switch refused.Number {
	case 1062, 1586: // ER_DUP_ENTRY
		b.Rule = store.Taken
		named(mysqlKey)
	case 1452, 1216: // ER_NO_REFERENCED_ROW
		b.Rule = store.Lost
		named(mysqlConstraint)
	case 1451, 1217: // ER_ROW_IS_REFERENCED
		b.Rule = store.Used
		if m := mysqlForeignSet.FindStringSubmatch(refused.Message); m != nil {
			b.Set = m[1]
		}
		named(mysqlConstraint)
	case 1048, 1364: // ER_BAD_NULL_ERROR, ER_NO_DEFAULT_FOR_FIELD
		b.Rule = store.Required
		column()
	case 1406: // ER_DATA_TOO_LONG
		b.Rule = store.TooLong
		column()
	case 1264, 1265, 1292, 1366, 1690: // out of range, and what cannot be read as the column's type
		b.Rule = store.OutOfRange
		column()
	case 4025, 3819: // ER_CONSTRAINT_FAILED, ER_CHECK_CONSTRAINT_VIOLATED
		named(mysqlConstraint)
	default:
		return nil
	}
	return b
}

func (mysqlDialect) conflict(err error) bool {
	var refused *mysql.MySQLError
	return errors.As(err, &refused) && (refused.Number == 1213 || refused.Number == 1205 || refused.Number == 1020)
}

// SQLite. It is written to on one connection of its own, and one at a time.

func (sqliteDialect) pool(s *Source) (*sqlx.DB, error) {
	s.openWriter.Do(func() {
		s.writer = sqliteAt(sqliteFile(&s.config), url.Values{"_pragma": {"busy_timeout(5000)", "foreign_keys(1)"}, "mode": {"rw"}})
		s.writer.SetMaxOpenConns(1)
	})
	if s.writer == nil {
		return nil, errors.New("the source is closed")
	}
	return s.writer, nil
}

func (sqliteDialect) begin() string { return "BEGIN IMMEDIATE" }

func (sqliteDialect) commit(ctx context.Context, conn execer) error { return commitOn(ctx, conn) }

func (sqliteDialect) put(int, *store.Field, store.Kind) string { return "?" }

func (sqliteDialect) unnested([]*store.Field) string { return "" }

func (sqliteDialect) values(*store.Column, int, int) any { return nil }

func (sqliteDialect) filled() string { return "" }

// lock is nothing: it is written to by one at a time.
func (sqliteDialect) lock() string { return "" }

func (d sqliteDialect) among(_ int, fields []*store.Field, _ []store.Kind, rows int) (string, bool) {
	var names []string
	for _, f := range fields {
		names = append(names, d.quote(f.Name))
	}
	if len(names) == 1 {
		return names[0] + " IN (" + repeated("?", rows) + ")", false
	}
	return "(" + strings.Join(names, ", ") + ") IN (VALUES " + repeated("("+repeated("?", len(names))+")", rows) + ")", false
}

func (d sqliteDialect) replace(fields, columns []string, gives bool) string {
	return onConflict(d, fields, columns, gives)
}

func (sqliteDialect) anyKey() bool { return false }

func (sqliteDialect) gives(store.Action) bool { return true }

// misfit looks whether a moment can be written in the one form that its column has.
func (sqliteDialect) misfit(c *store.Column, row int, f *store.Field) (store.Rule, bool) {
	if c.Kind != store.Time || f.Form == "" {
		return 0, false
	}
	t := time.UnixMicro(c.Ints[row]).UTC()
	same, err := time.Parse(f.Form, t.Format(f.Form))
	return store.OutOfRange, err != nil || !same.Equal(t)
}

func (sqliteDialect) written(c *store.Column, row int, f *store.Field) any {
	v := valueAt(c, row)
	if t, ok := v.(time.Time); ok {
		if f.Form == "" {
			return store.FormatTime(c.Ints[row])
		}
		return t.Format(f.Form)
	}
	return plainValue(v)
}

var (
	sqliteFields = regexp.MustCompile(`(?:UNIQUE|NOT NULL) constraint failed: ([^(]*)`)
	sqliteCheck  = regexp.MustCompile(`CHECK constraint failed: (.*?)(?: \(\d+\))?$`)
)

func (sqliteDialect) broken(err error, set *store.Set, _ *store.Catalogue, a store.Action) *store.Broken {
	var refused *sqlite.Error
	if !errors.As(err, &refused) || refused.Code()&0xff != sqlite3.SQLITE_CONSTRAINT {
		return nil
	}
	b := &store.Broken{Set: set.Name}
	if m := sqliteFields.FindStringSubmatch(refused.Error()); m != nil {
		for _, name := range strings.Split(strings.TrimSpace(m[1]), ", ") {
			b.Fields = append(b.Fields, strings.TrimPrefix(name, set.Name+"."))
		}
	}
	switch refused.Code() {
	case sqlite3.SQLITE_CONSTRAINT_UNIQUE, sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY, sqlite3.SQLITE_CONSTRAINT_ROWID:
		b.Rule = store.Taken
	case sqlite3.SQLITE_CONSTRAINT_FOREIGNKEY:
		if b.Rule = store.Lost; a == store.Remove {
			b.Rule = store.Used
		}
	case sqlite3.SQLITE_CONSTRAINT_NOTNULL:
		b.Rule = store.Required
	case sqlite3.SQLITE_CONSTRAINT_CHECK:
		if m := sqliteCheck.FindStringSubmatch(refused.Error()); m != nil {
			b.Name = strings.TrimSpace(m[1])
		}
	}
	return b
}

func (sqliteDialect) conflict(error) bool { return false }
