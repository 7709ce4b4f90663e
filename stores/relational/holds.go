package relational

import (
	"math/big"
	"slices"
	"strings"
	"unicode/utf8"

	"osprey/core/store"
)

// This file looks whether fields can hold what is given, before the database rounds it or cuts it.

// check refuses what a field cannot hold, before the database cuts it or says so without
// the field's name.
func (r *write) check(rows *store.Rows, row int) error {
	for c := range r.Columns {
		f, column := r.fields[c], &rows.Columns[c]
		switch {
		case rows.IsAbsent(c, row) || column.Null[row]:
			continue
		case column.Kind == store.Text && f.MaxLength > 0 && utf8.RuneCount(column.At(row)) > f.MaxLength:
			return r.refused(&store.Broken{Rule: store.TooLong, Row: row + 1, Set: r.Set, Fields: []string{f.Name}, Most: f.MaxLength}, nil)
		case column.Kind == store.Text && slices.Contains(column.At(row), 0):
			return r.refused(&store.Broken{Rule: store.NotText, Row: row + 1, Set: r.Set, Fields: []string{f.Name}}, nil)
		case column.Kind == store.Text && len(f.Values) > 0 && !slices.Contains(f.Values, string(column.At(row))):
			return r.refused(&store.Broken{Rule: store.OutOfRange, Row: row + 1, Set: r.Set, Fields: []string{f.Name}}, nil)
		}
		if f.Scale != nil && tooFine(column, row, *f.Scale) {
			return r.refused(&store.Broken{Rule: store.TooFine, Row: row + 1, Set: r.Set, Fields: []string{f.Name}, Most: max(0, *f.Scale)}, nil)
		}
		if rule, wrong := r.source.dialect.writing.misfit(column, row, f); wrong {
			return r.refused(&store.Broken{Rule: rule, Row: row + 1, Set: r.Set, Fields: []string{f.Name}}, nil)
		}
	}
	return nil
}

// tooFine reports whether a value has more digits behind the point than a field holds,
// which the database would round away without a word.
func tooFine(c *store.Column, row, scale int) bool {
	switch c.Kind {
	case store.Time, store.Clock: // in microseconds
		unit := int64(1)
		for range 6 - min(scale, 6) {
			unit *= 10
		}
		return c.Ints[row]%unit != 0
	case store.Decimal, store.Int, store.Float:
		n, ok := new(big.Rat).SetString(string(c.Text(row)))
		if !ok {
			return false // infinite
		}
		unit := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(scale, -scale))), nil)
		if scale >= 0 {
			n.Mul(n, new(big.Rat).SetInt(unit))
		} else {
			n.Quo(n, new(big.Rat).SetInt(unit))
		}
		return !n.IsInt()
	}
	return false
}

// fitsWhole reports whether a column of whole numbers, of a database that holds columns
// to their types, can hold one.
func fitsWhole(n int64, f *store.Field) bool {
	bits := 64
	switch strings.TrimSuffix(strings.SplitN(f.Type, "(", 2)[0], " unsigned") {
	case "tinyint":
		bits = 8
	case "smallint":
		bits = 16
	case "mediumint":
		bits = 24
	case "int":
		bits = 32
	case "integer":
		if f.Wide || f.Kind != store.Int {
			return true
		}
		bits = 32
	default:
		return true
	}
	least, most := -(int64(1) << (bits - 1)), int64(1)<<(bits-1)-1
	if strings.HasSuffix(f.Type, "unsigned") {
		least, most = 0, int64(1)<<bits-1
	}
	return n >= least && n <= most
}
