package relational

import (
	"regexp"
	"strings"

	"osprey/core/store"
)

// This file has how SQLite writes values inside JSON. A column may hold what is no JSON,
// at which its operators would end the statement.

func (sqliteDialect) typed(f, _ *store.Field) {
	if f.Kind == store.JSON {
		f.Type = "json"
		return
	}
	f.Type = "" // what is computed is of no type
}

func (sqliteDialect) inside(alias string, f *store.Field) string {
	column := alias + "." + sqliteDialect{}.quote(f.Column)
	last := len(f.Inside) - 1
	whole := column
	for _, name := range f.Inside[:last] {
		column += " -> " + sqlitePath(name)
	}
	value, plain := "("+column+" -> "+sqlitePath(f.Inside[last])+")", "("+column+" ->> "+sqlitePath(f.Inside[last])+")"
	kind := "json_type(" + value + ")"
	valid := func(of string) string { return "(CASE WHEN json_valid(" + whole + ") THEN " + of + " END)" }
	text := valid("CASE " + kind + " WHEN 'text' THEN " + plain + " WHEN 'null' THEN NULL ELSE " + value + " END")
	isNumber := "CASE " + kind + " WHEN 'integer' THEN 1 WHEN 'real' THEN 1 WHEN 'text' THEN CASE WHEN json_valid(" + plain + ") THEN json_type(" + plain + ") IN ('integer', 'real') END END"
	day := "substr(" + text + ", 1, 10)"
	whenDay := "CASE WHEN strftime('%Y-%m-%d', " + day + ") = " + day + " THEN "
	switch f.Kind {
	case store.JSON: // what is none is sent as it is, and is an error at its place
		return "(CASE WHEN json_valid(" + whole + ") THEN " + value + " ELSE " + whole + " END)"
	case store.Int:
		signless := "substr(" + plain + ", 1 + (substr(" + plain + ", 1, 1) IN ('-', '+')))"
		return valid("CASE " + kind + " WHEN 'text' THEN CASE WHEN " + signless + " <> '' AND " + signless + " NOT GLOB '*[^0-9]*' AND length(" + signless + ") < 19 THEN CAST(" + plain + " AS INTEGER) END" +
			" WHEN 'integer' THEN CASE WHEN typeof(" + plain + ") = 'integer' THEN " + plain + " END" +
			" WHEN 'real' THEN CASE WHEN " + plain + " = CAST(" + plain + " AS INTEGER) AND abs(" + plain + ") < 9007199254740992 THEN CAST(" + plain + " AS INTEGER) END END")
	case store.Float:
		return valid("CASE WHEN " + isNumber + " THEN CAST(" + plain + " AS REAL) END")
	case store.Decimal:
		return valid("CASE WHEN " + isNumber + " THEN CAST(" + plain + " AS NUMERIC) END")
	case store.Bool:
		return valid("CASE WHEN " + kind + " IN ('true', 'false', 'text') THEN " + plain + " END")
	case store.Time:
		return "(" + whenDay + text + " END)"
	case store.Date:
		return "(" + whenDay + "CASE WHEN length(" + text + ") = 10 THEN " + text + " ELSE date(" + text + ") END END)"
	case store.Clock:
		return "(CASE WHEN " + text + " GLOB '[0-9][0-9]:[0-9][0-9]:[0-9][0-9]*' AND " + text + " < '24' THEN " + text + " END)"
	case store.UUID:
		return "(CASE WHEN " + text + " LIKE '________-____-____-____-____________' THEN lower(" + text + ") END)"
	}
	return text
}

// sqlitePath writes a name of a path.
func sqlitePath(name string) string { return literal(`$."` + name + `"`) }

// equalForm compares with the number that a value is, too: what is a number in JSON is
// one to the expression.
func (sqliteDialect) equalForm(form, value string, many bool) string {
	if many {
		return form + " IN (SELECT value FROM json_each(" + value + ") UNION ALL SELECT CAST(value AS NUMERIC) FROM json_each(" + value +
			") UNION ALL SELECT CAST(value AS TEXT) FROM json_each(" + value + ") UNION ALL SELECT 1)"
	}
	return form + " IN (" + value + ", CAST(" + value + " AS NUMERIC), CAST(" + value + " AS TEXT), 1)"
}

// sqliteExpressionsQuery lists the indexes that begin with an expression.
const sqliteExpressionsQuery = `
SELECT m.name AS "set", x.sql AS definition
  FROM sqlite_master m, pragma_index_list(m.name) i, pragma_index_info(i.name) f, sqlite_master x
 WHERE m.type = 'table' AND NOT i.partial AND f.seqno = 0 AND f.name IS NULL AND x.type = 'index' AND x.name = i.name`

// The expressions that are known, with what stands behind them in the definition.
var (
	extractForm     = regexp.MustCompile(`(?is)^[^(]*\(\s*(json_extract\s*\(\s*["\x60\[]?(\w+)["\x60\]]?\s*,\s*'\$((?:\."?[^'".]+"?)+)'\s*\))\s*(?:asc|desc)?\s*[,)]`)
	sqliteArrowForm = regexp.MustCompile(`(?is)^[^(]*\(\s*\(?\s*(["\x60\[]?(\w+)["\x60\]]?\s*((?:->\s*'[^']+'\s*)*)->>\s*'([^']+)')\s*\)?\s*(?:asc|desc)?\s*[,)]`)
	sqliteOneArrow  = regexp.MustCompile(`->\s*'([^']+)'`)
)

// sqliteExpression reads the definition of an index on a value inside JSON. What the
// expression gives is of the type that it has in JSON, so it is of several kinds.
func sqliteExpression(definition string, set *store.Set) []store.Expression {
	var form, column string
	var inside []string
	name := func(step string) string { return strings.Trim(strings.TrimPrefix(step, "$."), `"`) }
	if found := extractForm.FindStringSubmatch(definition); found != nil {
		form, column = found[1], found[2]
		for _, step := range strings.Split(found[3], ".")[1:] {
			inside = append(inside, name(step))
		}
	} else if found := sqliteArrowForm.FindStringSubmatch(definition); found != nil {
		form, column = found[1], found[2]
		for _, arrow := range sqliteOneArrow.FindAllStringSubmatch(found[3], -1) {
			inside = append(inside, name(arrow[1]))
		}
		inside = append(inside, name(found[4]))
	}
	f := set.Field(column)
	if form == "" || f == nil || f.Opens == nil {
		return nil
	}
	// The same expression, with the row's name in front of the column.
	before, after, _ := strings.Cut(form, column)
	form = "(" + strings.TrimRight(before, "\"`[") + store.RowMark + "." + sqliteDialect{}.quote(column) + strings.TrimLeft(after, "\"`]") + ")"
	var list []store.Expression
	for _, kind := range []store.Kind{store.Text, store.Int} {
		list = append(list, store.Expression{Field: column + "." + strings.Join(inside, "."), Kind: kind, Form: form})
	}
	return list
}
