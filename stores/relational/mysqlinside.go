package relational

import (
	"encoding/hex"
	"regexp"
	"strings"

	"osprey/core/store"
)

// This file has how MySQL and MariaDB write values inside JSON.

func (mysqlDialect) typed(f, column *store.Field) {
	switch f.Kind {
	case store.Text:
		if f.Type, f.Collation = "longtext", column.Collation; charset(f.Collation) != "utf8mb4" {
			f.Collation = "utf8mb4_bin"
		}
		f.Loose = !isExact(f.Collation)
	case store.Bool:
		f.Type, f.Also = "tinyint(1)", []store.Kind{store.Int}
	default:
		f.Type = map[store.Kind]string{store.Int: "bigint", store.Float: "double", store.Decimal: "decimal", store.Time: "datetime", store.Date: "date",
			store.Clock: "time", store.UUID: "char", store.JSON: "json"}[f.Kind]
	}
}

func (mysqlDialect) inside(alias string, f *store.Field) string {
	column := alias + "." + mysqlDialect{}.quote(f.Column)
	valid := "JSON_VALID(" + column + ")"
	value := "JSON_EXTRACT(IF(" + valid + ", " + column + ", NULL), " + mysqlPath(f.Inside) + ")"
	kind := "JSON_TYPE(" + value + ")"
	if f.Kind == store.JSON { // what is none is sent as it is, and is an error at its place
		return "IF(" + valid + ", " + value + ", " + column + ")"
	}
	plain := "CONVERT(IF(" + kind + " = 'NULL', NULL, JSON_UNQUOTE(" + value + ")) USING utf8mb4) COLLATE "
	if f.Kind == store.Text {
		return "(" + plain + f.Collation + ")"
	}
	text := plain + "utf8mb4_bin"
	when := func(pattern, then string) string { return " WHEN " + text + " REGEXP '" + pattern + "' THEN " + then }
	number := "(" + text + " + 0e0)"
	moment := "TIMESTAMPADD(MINUTE, -(CONCAT(SUBSTR(" + text + ", -6, 1), SUBSTR(" + text + ", -5, 2) * 60 + RIGHT(" + text + ", 2)) + 0), " + mysqlMoment(text) + ")"
	switch f.Kind {
	case store.Int:
		return "(CASE" + when(wholePattern, "IF(CAST("+text+" AS DECIMAL(65,0)) BETWEEN -9223372036854775808 AND 9223372036854775807, CAST("+text+" AS SIGNED), NULL)") +
			" WHEN " + kind + " = 'STRING' THEN NULL" + when(numberPattern, "IF("+number+" = FLOOR("+number+") AND ABS("+number+") < 9007199254740992, CAST("+number+" AS SIGNED), NULL)") + " END)"
	case store.Float:
		return "(CASE" + when(numberPattern, number) + " END)"
	case store.Decimal: // a number beyond those that are exact has no equal
		return "(CASE" + when(decimalPattern, "IF(ABS("+number+") < 1e35, CAST("+text+" AS DECIMAL(65,30)), NULL)") + " END)"
	case store.Bool:
		return "(CASE WHEN " + kind + " NOT IN ('BOOLEAN', 'STRING') THEN NULL WHEN " + text + " IN ('true', 'True', 'TRUE', 't', 'T', '1') THEN 1" +
			" WHEN " + text + " IN ('false', 'False', 'FALSE', 'f', 'F', '0') THEN 0 END)"
	case store.Time:
		return "(CASE" + when("^"+dayPattern+"T"+clockPattern+"Z$", mysqlMoment(text)) + when("^"+dayPattern+"T"+clockPattern+offsetPattern+"$", moment) +
			when("^"+dayPattern+"([T ]"+clockPattern+")?$", mysqlMoment(text)) + " END)"
	case store.Date:
		return "(CASE" + when("^"+dayPattern+"(T"+clockPattern+"Z)?$", "CAST(LEFT("+text+", 10) AS DATE)") +
			when("^"+dayPattern+"T"+clockPattern+offsetPattern+"$", "CAST("+moment+" AS DATE)") + " END)"
	case store.Clock:
		return "(CASE" + when("^"+clockPattern+"$", "CAST(LEFT("+text+", 15) AS TIME(6))") + " END)"
	}
	return "(CASE" + when(uuidPattern, "LOWER("+text+")") + " END)"
}

// exactCollation is that of texts that are equal just if they are the same.
func exactCollation(version string) string {
	if strings.Contains(version, "MariaDB") {
		return "utf8mb4_nopad_bin"
	}
	return "utf8mb4_0900_bin"
}

// mysqlMoment writes the moment that a text begins with, without what it says of an
// offset, to whole microseconds.
func mysqlMoment(text string) string {
	return "CAST(LEFT(REPLACE(REGEXP_REPLACE(" + text + ", '" + offsetPattern + "$', ''), 'T', ' '), 26) AS DATETIME(6))"
}

// mysqlPath writes a path of names. One with signs that a text of SQL may take for its
// own is written by its bytes.
func mysqlPath(inside []string) string {
	path := `$."` + strings.Join(inside, `"."`) + `"`
	if strings.ContainsFunc(path, func(r rune) bool { return r > 126 || r == '\'' || r == '?' }) {
		return "CONVERT(X'" + hex.EncodeToString([]byte(path)) + "' USING utf8mb4)"
	}
	return "'" + path + "'"
}

func (mysqlDialect) equalForm(form, value string, many bool) string {
	if many {
		return form + " IN (" + value + ")"
	}
	return form + " = " + value
}

// generatedForm is how the database writes a generated column that has the value of a
// path of plain names.
var generatedForm = regexp.MustCompile("(?i)^\\(*(?:cast\\()?(?:json_value\\(|json_unquote\\(json_extract\\()`([^`]+)`, *(?:_[a-z0-9]+)?\\\\?'\\$((?:\\.\"?[A-Za-z0-9_ ]+\"?)+)\\\\?'\\)*(?: as [a-z0-9(), ]+\\)*)?$")

// mysqlExpression reads what a generated column is made of, which is what these
// databases have for an index on an expression.
func mysqlExpression(f *store.Field, made string, set *store.Set) (store.Expression, bool) {
	found := generatedForm.FindStringSubmatch(made)
	if found == nil || f.Kind != store.Text && f.Kind != store.Int || f.AsText || strings.HasPrefix(f.Type, "char") { // which others round, or strip of spaces
		return store.Expression{}, false
	}
	if column := set.Field(found[1]); column == nil || column.Opens == nil {
		return store.Expression{}, false
	}
	return store.Expression{Field: found[1] + strings.ReplaceAll(found[2], `"`, ""), Kind: f.Kind, Form: store.RowMark + "." + mysqlDialect{}.quote(f.Name)}, true
}
