package relational

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"osprey/core/store"
)

// This file has the SQL of SQLite.

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
