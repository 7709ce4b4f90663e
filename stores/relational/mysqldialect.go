package relational

import (
	"bytes"
	"encoding/hex"
	"strconv"
	"strings"
	"time"

	"osprey/core/store"
)

// This file has the SQL of MySQL and MariaDB.

type mysqlDialect struct{}

// ownValues writes the values that combinations are compared with.
func ownValues(fields []keyField) string {
	var list []string
	for _, f := range fields {
		list = append(list, f.own)
	}
	return strings.Join(list, ", ")
}

func (mysqlDialect) inline() bool { return true }

// Texts of two fields are compared by the collation of the one that is looked for, as
// texts that are given are. What its character set does not have equals nothing there.

func (mysqlDialect) weigh(here, there *store.Field) (weighHere, weighThere func(string) string) {
	if here.Collation == "" || there.Collation == "" || isExact(here.Collation) && isExact(there.Collation) {
		return nil, nil
	}
	weighThere = func(expr string) string {
		if isPadded(there.Collation) {
			return "WEIGHT_STRING(RTRIM(" + expr + "))"
		}
		return "WEIGHT_STRING(CONCAT(" + expr + "))" // of an enum as its text
	}
	return func(expr string) string {
		text, fits := inCollation(expr, here, there)
		if text = weighThere(text); fits != "" {
			text = "IF(" + fits + ", " + text + ", NULL)"
		}
		return text
	}, weighThere
}

// inCollation writes a text of one field in the character set and collation of another,
// and what holds if that has all of its characters; "" if it has all there are.
func inCollation(expr string, own, as *store.Field) (text, fits string) {
	switch {
	case own.Collation == as.Collation:
		return expr, ""
	case charset(own.Collation) == charset(as.Collation):
		return expr + " COLLATE " + as.Collation, ""
	}
	text = "CONVERT(" + expr + " USING " + charset(as.Collation) + ")"
	if charset(as.Collation) != "utf8mb4" {
		fits = "CONVERT(" + text + " USING utf8mb4) COLLATE utf8mb4_bin = CONVERT(" + expr + " USING utf8mb4) COLLATE utf8mb4_bin"
	}
	return text + " COLLATE " + as.Collation, fits
}

func (mysqlDialect) meet(there string, f *store.Field, here string, other *store.Field) string {
	if f == nil || other == nil || f.Collation == "" || other.Collation == "" {
		return there + " = " + here
	}
	text, fits := inCollation(here, other, f)
	if fits != "" {
		return there + " = " + text + " AND " + fits
	}
	return there + " = " + text
}

// charset returns the character set of a collation, with whose name its own begins.
func charset(collation string) string {
	set, _, _ := strings.Cut(collation, "_")
	return set
}

// isPadded reports whether texts are equal to a collation that differ in spaces at
// their end: all but those of a name that says otherwise, and of MySQL's newer ones.
func isPadded(collation string) bool {
	return !strings.Contains(collation, "_nopad_") && !strings.Contains(collation, "_0900_")
}

// isExact reports whether texts are equal to a collation just if they are the same.
func isExact(collation string) bool {
	return strings.HasSuffix(collation, "_bin") && !isPadded(collation)
}

func (mysqlDialect) quote(name string) string {
	return "`" + strings.ReplaceAll(name, "`", "``") + "`"
}

func (mysqlDialect) sent(expr string, o *out) string {
	switch {
	case o.field == nil || o.weigh != nil || o.total == store.Avg || o.total == store.Sum:
		return expr
	case isSingle(o.field):
		return "(" + expr + " + 0e0)" // with all of its digits
	case strings.HasPrefix(o.field.Type, "bit"):
		return "(" + expr + " + 0)"
	}
	return expr
}

func (mysqlDialect) aggregate(t store.Aggregate, expr string, f *store.Field) string {
	switch {
	case t == store.Avg:
		return "avg(" + expr + " + 0e0)" // an average of exact numbers has few digits
	case isEnum(f) && (t == store.Min || t == store.Max):
		return "ELT(" + t.String() + "(" + expr + "), " + labelList(f) + ")"
	}
	return t.String() + "(" + expr + ")"
}

func (d mysqlDialect) param(n int, p *param) string {
	if p.field == nil || p.many {
		return mark(n)
	}
	return d.given(mark(n), p.field, p.kind)
}

func (mysqlDialect) given(value string, f *store.Field, kind store.Kind) string {
	if f != nil && f.Kind == store.Binary && kind == store.UUID {
		return "UNHEX(REPLACE(" + value + ", '-', ''))"
	}
	return value
}

// text writes a text so that it can be compared with a field whose character set may not
// have its characters; then nothing stored equals it. MariaDB converts texts by itself,
// but not those of combinations.
func (mysqlDialect) text(given string, f *store.Field) string {
	if f == nil || f.Collation == "" || charset(f.Collation) == "utf8mb4" {
		return "?"
	}
	wide := strings.HasPrefix(f.Collation, "ucs") || strings.HasPrefix(f.Collation, "utf16") || strings.HasPrefix(f.Collation, "utf32")
	if !wide && !strings.ContainsFunc(given, func(r rune) bool { return r > 127 }) {
		return "?" // the same bytes in all others
	}
	text, fits := inCollation("?", &store.Field{Collation: "utf8mb4_general_ci"}, f)
	return "IF(" + fits + ", " + text + ", NULL)"
}

func (mysqlDialect) value(v any, f *store.Field) any {
	switch n := v.(type) {
	case float64:
		if f != nil && isSingle(f) {
			return float64(float32(n)) // 0.1 in four bytes is not 0.1 in eight
		}
	case time.Time:
		if n.Year() > 9999 { // behind the last day there is
			n = time.Date(9999, 12, 31, 23, 59, 59, 999_999_000, time.UTC)
		}
		return n.Format(momentForm)
	}
	return v
}

func (mysqlDialect) equals(own, value string, _ *store.Field, _ store.Kind) string {
	return own + " = " + value
}

func (mysqlDialect) anyOf(own, values string, _ *store.Field, _ store.Kind) string {
	return own + " IN (" + values + ")"
}

func (mysqlDialect) anyOfKeys(fields []keyField, values string) string {
	return "(" + ownValues(fields) + ") IN (" + values + ")"
}

func (mysqlDialect) holds(own string, _ *store.Field, keys param, add func(param) string) string {
	keys.what, keys.many = listParam, false
	return "JSON_OVERLAPS(" + own + ", " + add(keys) + ")"
}

func (mysqlDialect) bytes(own string) string {
	return "CAST(CONVERT(" + own + " USING utf8mb4) AS BINARY)"
}

// ordered writes an enum as the number of its label, by which it is sorted, and a set as
// its text, by which it is compared.
func (mysqlDialect) ordered(own string, f *store.Field, _ store.Kind) string {
	switch {
	case isEnum(f):
		return "(" + own + " + 0)"
	case f != nil && strings.HasPrefix(f.Type, "set("):
		return "CONCAT(" + own + ")"
	}
	return own
}

func (mysqlDialect) orderedBy(value string, f *store.Field) string {
	if isEnum(f) {
		return "IF(" + value + " IS NULL, NULL, FIELD(" + value + ", " + labelList(f) + "))"
	}
	return value
}

func isEnum(f *store.Field) bool { return f != nil && len(f.Values) > 0 }

// isSingle reports whether a field holds numbers of four bytes.
func isSingle(f *store.Field) bool {
	return f.Kind == store.Float && strings.HasPrefix(f.Type, "float")
}

// labelList writes the labels of an enum.
func labelList(f *store.Field) string {
	var list []string
	for _, label := range f.Values {
		list = append(list, "X'"+hex.EncodeToString([]byte(label))+"'")
	}
	return "CONVERT(" + strings.Join(list, " USING utf8mb4), CONVERT(") + " USING utf8mb4)"
}

func (mysqlDialect) same() string { return " <=> " }

func (mysqlDialect) within(op store.Op, own string, value func() string) string {
	own = "CONVERT(" + own + " USING utf8mb4) COLLATE utf8mb4_bin"
	switch op {
	case store.Contains:
		return "LOCATE(" + value() + ", " + own + ") > 0"
	case store.StartsWith:
		return "LOCATE(" + value() + ", " + own + ") = 1"
	}
	return "CAST(RIGHT(" + own + ", CHAR_LENGTH(" + value() + ")) AS BINARY) = CAST(" + value() + " AS BINARY)"
}

func (mysqlDialect) order(expr string, o store.Order, nullable bool) string {
	text := expr
	if o.Desc {
		text += " DESC"
	}
	if !nullable || o.Nulls == store.NullsLeast { // NULL is the least to it, too
		return text
	}
	if o.Desc {
		return expr + " IS NULL DESC, " + text
	}
	return expr + " IS NULL, " + text
}

func (mysqlDialect) decoder(f *store.Field, w *store.Wanted) decoder {
	switch {
	case f != nil && f.Column != "" && f.Kind == store.Decimal: // which has 30 digits
		plain := textDecoder(f, w)
		return func(c *store.Column, v []byte) error { return plain(c, withoutZeros(v)) }
	case f != nil && f.Kind == store.Binary && w.Kind == store.UUID:
		return func(c *store.Column, v []byte) error {
			c.AppendText(store.FormatUUID(v))
			return nil
		}
	case f != nil && isSingle(f) && w.Aggregate != store.Avg && w.Aggregate != store.Sum:
		return func(c *store.Column, v []byte) error {
			n, err := strconv.ParseFloat(string(v), 64)
			if err == nil { // through text, so that 0.1 in four bytes is 0.1
				n, err = strconv.ParseFloat(strconv.FormatFloat(n, 'g', -1, 32), 64)
			}
			c.AppendFloat(n)
			return err
		}
	}
	return textDecoder(f, w)
}

// withoutZeros cuts the zeros from the end of a fraction.
func withoutZeros(number []byte) []byte {
	if !bytes.ContainsRune(number, '.') {
		return number
	}
	return bytes.TrimSuffix(bytes.TrimRight(number, "0"), []byte("."))
}
