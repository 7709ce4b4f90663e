package relational

import (
	"regexp"
	"strings"

	"osprey/core/store"
)

// This file has how PostgreSQL writes values inside JSON. Texts are cast only where they
// can be: what cannot, would end the statement.

func (postgresDialect) typed(f, column *store.Field) {
	f.Type = map[store.Kind]string{store.Text: "text", store.Int: "bigint", store.Float: "double precision", store.Decimal: "numeric", store.Bool: "boolean",
		store.Time: "timestamp with time zone", store.Date: "date", store.Clock: "time without time zone", store.UUID: "uuid", store.JSON: column.Type}[f.Kind]
}

func (postgresDialect) inside(alias string, f *store.Field) string {
	if f.Indexed != "" { // of which every row has one, or none
		return indexedForm(alias, f)
	}
	column := alias + "." + postgresDialect{}.quote(f.Column)
	last := len(f.Inside) - 1
	for _, name := range f.Inside[:last] {
		column += " -> " + literal(name)
	}
	value, text := "("+column+" -> "+literal(f.Inside[last])+")", "("+column+" ->> "+literal(f.Inside[last])+")"
	when := func(pattern, then string) string { return " WHEN " + text + " ~ '" + pattern + "' THEN " + then }
	kind := "jsonb_typeof(" + value + "::jsonb)"
	number := text + "::numeric"
	// To whole microseconds, as it is read; longer ones are no moments to the database.
	cut := "regexp_replace(" + text + ", '([.][0-9]{6})[0-9]+', '\\1')"
	switch f.Kind {
	case store.JSON:
		return value
	case store.Int:
		return "(CASE" + when(wholePattern, "CASE WHEN "+number+" BETWEEN -9223372036854775808 AND 9223372036854775807 THEN "+text+"::int8 END") +
			" WHEN " + kind + " = 'number' AND length(" + text + ") < 400 THEN" +
			" CASE" + when(numberPattern, "CASE WHEN "+number+" % 1 = 0 AND abs("+number+") < 9007199254740992 THEN "+number+"::int8 END") + " END END)"
	case store.Float:
		return "(CASE WHEN length(" + text + ") < 400 THEN CASE" + when(numberPattern,
			"CASE WHEN abs("+number+") < 3e-324 THEN 0 WHEN abs("+number+") <= 1.7976931348623157e308 THEN "+text+"::float8 END") + " END END)"
	case store.Decimal:
		return "(CASE WHEN length(" + text + ") < 1000 THEN CASE" + when(decimalPattern, number) + " END END)"
	case store.Bool:
		return "(CASE WHEN " + kind + " = 'number' THEN NULL WHEN " + text + " IN ('true', 'True', 'TRUE', 't', 'T', '1') THEN true" +
			" WHEN " + text + " IN ('false', 'False', 'FALSE', 'f', 'F', '0') THEN false END)"
	case store.Time:
		return "(CASE" + when("^"+dayPattern+"T"+clockPattern+offsetPattern+"$", cut+"::timestamptz") +
			when("^"+dayPattern+"([T ]"+clockPattern+")?$", cut+"::timestamp AT TIME ZONE 'UTC'") + " END)"
	case store.Date:
		return "(CASE" + when("^"+dayPattern+"$", text+"::date") +
			when("^"+dayPattern+"T"+clockPattern+offsetPattern+"$", "("+cut+"::timestamptz AT TIME ZONE 'UTC')::date") + " END)"
	case store.Clock:
		return "(CASE" + when("^"+clockPattern+"$", cut+"::time") + " END)"
	case store.UUID:
		return "(CASE" + when(uuidPattern, text+"::uuid") + " END)"
	}
	return text
}

func (postgresDialect) equalForm(form, value string, many bool) string {
	if many {
		return form + " = ANY (" + value + ")"
	}
	return form + " = " + value
}

// literal writes a text of SQL.
func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// expressionsQuery lists the first expressions of indexes that begin with one.
const expressionsQuery = `
SELECT c.relname AS set, pg_get_indexdef(i.indexrelid, 1, false) AS definition
  FROM pg_index i
  JOIN pg_class c ON c.oid = i.indrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE n.nspname = ANY (current_schemas(false)) AND i.indisvalid AND i.indkey[0] = 0 AND i.indpred IS NULL`

// The expressions that are known, as the database writes them: a value inside JSON as
// text, or that cast to another type.
var (
	arrowForm = regexp.MustCompile(`^"?([^"]+?)"? ((?:-> '(?:[^']|'')*'::text )*)->> '((?:[^']|'')*)'::text(?:::([a-z ]+))?$`)
	pathForm  = regexp.MustCompile(`^"?([^"]+?)"? #>> '{((?:[^'"\\]|'')*)}'::text\[\](?:::([a-z ]+))?$`)
	oneArrow  = regexp.MustCompile(`-> '((?:[^']|'')*)'::text `)
)

// castKinds has as which kind a cast is compared.
var castKinds = map[string]store.Kind{"": store.Text, "text": store.Text, "integer": store.Int, "bigint": store.Int, "smallint": store.Int,
	"double precision": store.Float, "numeric": store.Decimal, "boolean": store.Bool, "uuid": store.UUID}

// postgresExpression reads the definition of an indexed expression, such as
// ((meta -> 'hull'::text) ->> 'draught'::text)::numeric.
func postgresExpression(definition string, set *store.Set) (store.Expression, bool) {
	plain := strings.NewReplacer("(", "", ")", "").Replace(definition)
	var column, cast string
	var inside []string
	if found := arrowForm.FindStringSubmatch(plain); found != nil {
		column, cast = found[1], found[4]
		for _, arrow := range oneArrow.FindAllStringSubmatch(found[2], -1) {
			inside = append(inside, arrow[1])
		}
		inside = append(inside, found[3])
	} else if found := pathForm.FindStringSubmatch(plain); found != nil {
		column, cast, inside = found[1], found[3], strings.Split(found[2], ",")
	}
	kind, known := castKinds[cast]
	f := set.Field(column)
	if !known || f == nil || f.Opens == nil {
		return store.Expression{}, false
	}
	own := store.RowMark + "." + postgresDialect{}.quote(column)
	text := ""
	if strings.Contains(plain, "#>>") {
		text = "(" + own + " #>> '{" + strings.Join(inside, ",") + "}')"
	} else {
		text = "(" + own + " -> '" + strings.Join(inside, "' -> '") + "')"
		n := strings.LastIndex(text, " -> ")
		text = text[:n] + " ->> " + text[n+4:]
	}
	if cast != "" {
		text += "::" + cast
	}
	name := column + "." + strings.ReplaceAll(strings.Join(inside, "."), "''", "'")
	return store.Expression{Field: name, Kind: kind, Form: text}, true
}
