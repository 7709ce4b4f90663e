package tables

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file writes the statements of each database.

// A Dialect is how a database makes tables.
type Dialect struct{ name string }

// Dialects are those that there are, by the kinds of sources.
var Dialects = map[string]Dialect{"postgres": {"postgres"}, "mysql": {"mysql"}, "sqlite": {"sqlite"}}

var sprintf = fmt.Sprintf

func (d Dialect) quote(name string) string {
	if d.name == "mysql" {
		return "`" + strings.ReplaceAll(name, "`", "``") + "`"
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func (d Dialect) list(columns []string) string {
	var quoted []string
	for _, c := range columns {
		quoted = append(quoted, d.quote(c))
	}
	return strings.Join(quoted, ", ")
}

func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// types are the columns' types for scalars, of each database; short is for texts that are a key or
// indexed, which MySQL wants to have a length.
var types = map[string]struct {
	postgres, mysql, short, sqlite string
	kind                           store.Kind
}{
	"ID":       {"bigint", "bigint", "bigint", "integer", store.Int},
	"String":   {"text", "text", "varchar(255)", "text", store.Text},
	"Int":      {"integer", "int", "int", "integer", store.Int},
	"Int64":    {"bigint", "bigint", "bigint", "integer", store.Int},
	"Float":    {"double precision", "double", "double", "real", store.Float},
	"Boolean":  {"boolean", "tinyint(1)", "tinyint(1)", "boolean", store.Bool},
	"Decimal":  {"numeric", "decimal(38,10)", "decimal(38,10)", "decimal", store.Decimal},
	"DateTime": {"timestamptz", "datetime(6)", "datetime(6)", "datetime", store.Time},
	"Date":     {"date", "date", "date", "date", store.Date},
	"Time":     {"time", "time(6)", "time(6)", "time", store.Clock},
	"UUID":     {"uuid", "uuid", "uuid", "uuid", store.UUID},
	"JSON":     {"jsonb", "json", "json", "json", store.JSON},
}

// name is what a type is called in words.
func (t *Type) name() string {
	if t.Enum != "" {
		return "the enum " + t.Enum
	}
	if t.List {
		return "a list of " + t.Scalar
	}
	return t.Scalar
}

// kind is what a column of a type holds, as the catalogue tells it.
func (d Dialect) kind(t *Type) store.Kind {
	switch {
	case t.List:
		return store.List
	case t.Enum != "":
		return store.Text
	}
	known, ok := types[t.Scalar]
	if !ok {
		return store.Text
	}
	return known.kind
}

// of writes the type of a column.
func (d Dialect) of(t *Type, short bool) string {
	if t.List && d.name != "postgres" {
		return map[string]string{"mysql": "json", "sqlite": "json"}[d.name]
	}
	own := ""
	known, ok := types[t.Scalar]
	switch {
	case t.Enum != "" && d.name == "postgres":
		own = d.quote(t.Enum)
	case t.Enum != "" && d.name == "mysql":
		own = "enum(" + d.literals(t.Values) + ")"
	case t.Enum != "" || !ok && d.name != "mysql":
		own = "text"
	case !ok:
		known = types["String"]
		fallthrough
	case d.name == "mysql":
		if own = known.mysql; short {
			own = known.short
		}
	case d.name == "postgres":
		own = known.postgres
	default:
		own = known.sqlite
	}
	if t.List {
		own += "[]"
	}
	return own
}

func (d Dialect) literals(values []string) string {
	var list []string
	for _, v := range values {
		list = append(list, literal(v))
	}
	return strings.Join(list, ", ")
}

// short reports whether a column is a part of a key or an index.
func short(t *Table, c *Column) bool {
	return slices.Contains(slices.Concat(append([][]string{t.Key}, slices.Concat(t.Indexes, t.Unique)...)...), c.Name)
}

// number is how numbers are written without quotes. Anything else stands in quotes, whatever a
// column is of.
var number = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)

// fallback writes what a column has where nothing is given.
func (d Dialect) fallback(t *Table, c *Column) string {
	value := *c.Default
	switch {
	case c.Type.Enum != "":
	case c.Type.Scalar == "Boolean":
		if d.name != "postgres" {
			return map[string]string{"true": "1", "false": "0"}[value]
		}
		return value
	case slices.Contains([]string{"Int", "Int64", "Float", "Decimal"}, c.Type.Scalar) && number.MatchString(value):
		return value
	case d.name == "mysql" && d.of(&c.Type, short(t, c)) == "text":
		return "(" + literal(value) + ")" // which MySQL takes of a text as an expression only
	}
	return literal(value)
}

// setDefault writes the default of a column that is there; "" if none can be given to it.
func (d Dialect) setDefault(t *Table, c *Column) (up, down string) {
	if d.name == "sqlite" {
		return "", ""
	}
	alter := "ALTER TABLE " + d.quote(t.Name) + " ALTER COLUMN " + d.quote(c.Name)
	return alter + " SET DEFAULT " + d.fallback(t, c), alter + " DROP DEFAULT"
}

// require writes that a column is never NULL; "" if that cannot be said of one that is there. Of
// MySQL, the column is written anew.
func (d Dialect) require(t *Table, c *Column, had *store.Field) (up, down string) {
	alter := "ALTER TABLE " + d.quote(t.Name)
	switch d.name {
	case "postgres":
		alter += " ALTER COLUMN " + d.quote(c.Name)
		return alter + " SET NOT NULL", alter + " DROP NOT NULL"
	case "mysql":
		own := *c
		own.NotNull = true
		return alter + " MODIFY " + d.column(t, &own), alter + " MODIFY " + d.as(t, c, had)
	}
	return "", ""
}

// retype writes that a column gets its field's type, and what is in it with it; "" if that cannot
// be done with one that is there.
func (d Dialect) retype(t *Table, c *Column, had *store.Field) (up, down string) {
	alter, name := "ALTER TABLE "+d.quote(t.Name), d.quote(c.Name)
	of := d.of(&c.Type, short(t, c))
	switch d.name {
	case "postgres":
		alter += " ALTER COLUMN " + name + " TYPE "
		return alter + of + " USING " + name + "::" + of, alter + had.Type + " USING " + name + "::" + had.Type
	case "mysql":
		own := *c
		own.NotNull = !had.Nullable
		return alter + " MODIFY " + d.column(t, &own), alter + " MODIFY " + d.as(t, c, had)
	}
	return "", ""
}

// as writes the definition of a column as the database has it, as far as that is known: for MySQL,
// which takes it as a whole.
func (d Dialect) as(t *Table, c *Column, had *store.Field) string {
	text := d.quote(c.Name) + " " + had.Type
	if !had.Nullable {
		text += " NOT NULL"
	}
	if had.Filled && c.Default != nil {
		text += " DEFAULT " + d.fallback(t, c)
	}
	if had.About != "" {
		text += " COMMENT " + literal(had.About)
	}
	return text
}

// fill writes what a column has by default into the records that have nothing there.
func (d Dialect) fill(t *Table, c *Column) string {
	name := d.quote(c.Name)
	return "UPDATE " + d.quote(t.Name) + " SET " + name + " = " + d.fallback(t, c) + " WHERE " + name + " IS NULL"
}

// values writes that an enum has further values; "" where that cannot be said of one that is there.
// They stay when it is undone, since records may have them.
func (d Dialect) values(t *Table, c *Column, had *store.Field, more []string) []string {
	var list []string
	switch d.name {
	case "postgres":
		for _, v := range more {
			list = append(list, "ALTER TYPE "+d.quote(c.Type.Enum)+" ADD VALUE IF NOT EXISTS "+literal(v))
		}
	case "mysql":
		own := *c
		own.Type.Values = slices.Concat(had.Values, more)
		own.NotNull = !had.Nullable
		list = append(list, "ALTER TABLE "+d.quote(t.Name)+" MODIFY "+d.column(t, &own))
	}
	return list
}

// column writes the definition of a column.
func (d Dialect) column(t *Table, c *Column) string {
	text := d.quote(c.Name) + " " + d.of(&c.Type, short(t, c))
	if c.NotNull {
		text += " NOT NULL"
	}
	if c.Counted {
		text += map[string]string{"postgres": " GENERATED BY DEFAULT AS IDENTITY", "mysql": " AUTO_INCREMENT"}[d.name]
	}
	if c.Default != nil {
		text += " DEFAULT " + d.fallback(t, c)
	}
	if d.name == "sqlite" && c.Type.Enum != "" {
		text += " CHECK (" + d.quote(c.Name) + " IN (" + d.literals(c.Type.Values) + "))"
	}
	if d.name == "mysql" && c.About != "" {
		text += " COMMENT " + literal(c.About)
	}
	return text
}

// create writes a table with its foreign keys.
func (d Dialect) create(t *Table, foreign []Foreign) string {
	var parts []string
	for _, c := range t.Columns {
		parts = append(parts, d.column(t, c))
	}
	if len(t.Key) > 0 {
		parts = append(parts, "PRIMARY KEY ("+d.list(t.Key)+")")
	}
	for _, f := range foreign {
		parts = append(parts, "FOREIGN KEY ("+d.list(f.Columns)+") REFERENCES "+d.quote(f.Table)+" ("+d.list(f.There)+")")
	}
	text := "CREATE TABLE " + d.quote(t.Name) + " (\n  " + strings.Join(parts, ",\n  ") + "\n)"
	if d.name == "mysql" && t.About != "" {
		text += " COMMENT " + literal(t.About)
	}
	return text
}

// foreignInline reports whether a table can lead to one that is not there yet.
func (d Dialect) foreignInline() bool { return d.name == "sqlite" }

func (d Dialect) indexName(table string, columns []string) string {
	return table + "_" + strings.Join(columns, "_") + "_idx"
}

func (d Dialect) index(table string, columns []string) string {
	return "CREATE INDEX " + d.quote(d.indexName(table, columns)) + " ON " + d.quote(table) + " (" + d.list(columns) + ")"
}

func (d Dialect) uniqueName(table string, columns []string) string {
	return table + "_" + strings.Join(columns, "_") + "_key"
}

// unique writes a unique key.
func (d Dialect) unique(table string, columns []string) (up, down string) {
	name := d.quote(d.uniqueName(table, columns))
	down = "DROP INDEX " + name
	if d.name == "mysql" {
		down += " ON " + d.quote(table)
	}
	return "CREATE UNIQUE INDEX " + name + " ON " + d.quote(table) + " (" + d.list(columns) + ")", down
}

func (d Dialect) dropIndex(table string, columns []string) string {
	text := "DROP INDEX " + d.quote(d.indexName(table, columns))
	if d.name == "mysql" {
		text += " ON " + d.quote(table)
	}
	return text
}

// foreign writes a foreign key of a table that is there; "" if none can be added.
func (d Dialect) foreign(table string, f Foreign) (up, down string) {
	if d.name == "sqlite" {
		return "", ""
	}
	name := d.quote(table + "_" + strings.Join(f.Columns, "_") + "_fkey")
	up = "ALTER TABLE " + d.quote(table) + " ADD CONSTRAINT " + name + " FOREIGN KEY (" + d.list(f.Columns) + ") REFERENCES " + d.quote(f.Table) + " (" + d.list(f.There) + ")"
	down = "ALTER TABLE " + d.quote(table) + " DROP " + map[string]string{"postgres": "CONSTRAINT ", "mysql": "FOREIGN KEY "}[d.name] + name
	return up, down
}

// enum writes the type of an enum; "" where columns have their values themselves.
func (d Dialect) enum(t *Type) (up, down string) {
	if d.name != "postgres" {
		return "", ""
	}
	return "CREATE TYPE " + d.quote(t.Enum) + " AS ENUM (" + d.literals(t.Values) + ")", "DROP TYPE " + d.quote(t.Enum)
}

// comments writes the descriptions of a table, where they are statements of their own.
func (d Dialect) comments(t *Table) []string {
	if d.name != "postgres" {
		return nil
	}
	var list []string
	if t.About != "" {
		list = append(list, "COMMENT ON TABLE "+d.quote(t.Name)+" IS "+literal(t.About))
	}
	for _, c := range t.Columns {
		if c.About != "" {
			list = append(list, "COMMENT ON COLUMN "+d.quote(t.Name)+"."+d.quote(c.Name)+" IS "+literal(c.About))
		}
	}
	return list
}

// File writes a plan as a file with both directions, as goose reads it.
func (p *Plan) File() string {
	var b strings.Builder
	write := func(statement string) {
		if strings.Contains(strings.TrimSuffix(statement, ";"), ";") {
			b.WriteString("-- +goose StatementBegin\n" + statement + ";\n-- +goose StatementEnd\n")
			return
		}
		b.WriteString(statement + ";\n")
	}
	b.WriteString("-- +goose Up\n")
	for _, s := range p.Steps {
		b.WriteString("\n-- " + s.What + "\n")
		for _, statement := range s.Up {
			write(statement)
		}
	}
	b.WriteString("\n-- +goose Down\n")
	for _, s := range slices.Backward(p.Steps) {
		b.WriteString("\n-- " + s.What + "\n")
		for _, statement := range s.Down {
			write(statement)
		}
	}
	return b.String()
}
