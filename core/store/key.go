package store

import (
	"math"
	"strconv"
	"strings"
)

// This file implements keys by value: one canonical form, whatever type each
// store gives them.

// AppendKey appends the canonical form of one value of a key, with a 0 behind it
// that keeps ("a", "bc") and ("ab", "c") apart; a 0 in the value itself is written
// as 1 1, and a 1 as 1 2. It returns false if the value is null, which equals
// nothing.
//
//	4       "4" 0         as the number 4, the text "4" and the decimal 4
//	1.5     "1.5" 0
//	"a\x00" "a" 1 1 0
func AppendKey(buf []byte, c *Column, row int) ([]byte, bool) {
	if c.Null[row] {
		return buf, false
	}
	if !c.Kind.inBytes() {
		return append(c.appendNumberKey(buf, row), 0), true
	}
	for _, b := range c.At(row) {
		if b > 1 {
			buf = append(buf, b)
		} else {
			buf = append(buf, 1, b+1)
		}
	}
	return append(buf, 0), true
}

// appendNumberKey appends a value of a kind that is not in bytes.
func (c *Column) appendNumberKey(buf []byte, row int) []byte {
	if c.Kind.inInts() {
		return strconv.AppendInt(buf, c.Ints[row], 10)
	}
	f := c.Floats[row]
	if f == math.Trunc(f) && math.Abs(f) < 1<<63 {
		return strconv.AppendInt(buf, int64(f), 10)
	}
	return strconv.AppendFloat(buf, f, 'g', -1, 64)
}

// AppendKey appends the canonical form of the values of a row in several
// columns. It returns false if one of them is null.
func (t *Table) AppendKey(buf []byte, columns []int, row int) ([]byte, bool) {
	ok := true
	for _, c := range columns {
		if buf, ok = AppendKey(buf, &t.Columns[c], row); !ok {
			return buf, false
		}
	}
	return buf, true
}

// AppendKeyAs appends the canonical form that the values of a row have in columns
// of some kinds (see [Column.AppendAs]). It returns false if one is null, or has no
// such form. The memory of room is used for the work.
func (t *Table) AppendKeyAs(buf []byte, columns []int, kinds []Kind, row int, room *Column) ([]byte, bool) {
	ok := true
	for i, n := range columns {
		c, at := &t.Columns[n], row
		if c.Kind != kinds[i] {
			room.Reset()
			room.Kind = kinds[i]
			if !room.AppendAs(c, row) {
				return buf, false
			}
			c, at = room, 0
		}
		if buf, ok = AppendKey(buf, c, at); !ok {
			return buf, false
		}
	}
	return buf, true
}

// AppendAs adds a row's value of a column to another column of a kind that can
// hold it: a number written as text for a text column and the other way
// round. It returns false, and adds nothing, if the value has no such form;
// then nothing stored can equal it.
func (c *Column) AppendAs(from *Column, row int) bool {
	if from.Null[row] {
		c.AppendNull()
		return true
	}
	if c.Kind == from.Kind {
		c.AppendFrom(from, row)
		return true
	}
	switch {
	case c.Kind.inBytes() && from.Kind.inBytes():
		if c.Kind != UUID || from.Kind == UUID {
			c.AppendBytes(from.At(row))
			break
		}
		text := strings.ToLower(string(from.At(row)))
		if !isUUID(text) {
			return false
		}
		c.AppendText(text)
	case c.Kind == Int && from.Kind.inBytes():
		n, err := strconv.ParseInt(string(from.At(row)), 10, 64)
		if err != nil {
			return false
		}
		c.AppendInt(n)
	case c.Kind == Int && from.Kind == Float:
		f := from.Floats[row]
		if f != math.Trunc(f) || math.Abs(f) >= 1<<63 {
			return false
		}
		c.AppendInt(int64(f))
	case c.Kind == Float && from.Kind == Int:
		c.AppendFloat(float64(from.Ints[row]))
	case c.Kind == Float && from.Kind.inBytes():
		f, err := strconv.ParseFloat(string(from.At(row)), 64)
		if err != nil {
			return false
		}
		c.AppendFloat(f)
	case (c.Kind == Text || c.Kind == Decimal) && from.Kind == Int:
		c.AppendText(strconv.FormatInt(from.Ints[row], 10))
	case (c.Kind == Text || c.Kind == Decimal) && from.Kind == Float:
		c.AppendText(strconv.FormatFloat(from.Floats[row], 'g', -1, 64))
	case c.Kind == Text && from.Kind == Time:
		c.AppendText(FormatTime(from.Ints[row]))
	case c.Kind == Text && from.Kind == Date:
		c.AppendText(FormatDate(from.Ints[row]))
	case c.Kind.inInts() && from.Kind.inBytes():
		v, ok := ParseMoment(c.Kind, string(from.At(row)))
		if !ok {
			return false
		}
		c.AppendInt(v)
	default:
		return false
	}
	return true
}

// isUUID reports whether text is a UUID in lower case: RFC 9562, section 4.
func isUUID(text string) bool {
	if len(text) != 36 {
		return false
	}
	for i, c := range []byte(text) {
		switch dash := i == 8 || i == 13 || i == 18 || i == 23; {
		case dash != (c == '-'):
			return false
		case !dash && (c < '0' || c > '9') && (c < 'a' || c > 'f'):
			return false
		}
	}
	return true
}
