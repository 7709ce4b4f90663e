package store

import (
	"encoding/base64"
	"encoding/hex"
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
//	1.5     "1.5" 0                the decimal 1.50, too
//	"a\x00" "a" 1 1 0
func AppendKey(buf []byte, c *Column, row int) ([]byte, bool) {
	if c.Null[row] {
		return buf, false
	}
	if !c.Kind.inBytes() || c.Kind == Decimal {
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

// appendNumberKey appends a number, or a value of a kind that is one.
func (c *Column) appendNumberKey(buf []byte, row int) []byte {
	switch {
	case c.Kind.inInts():
		return strconv.AppendInt(buf, c.Ints[row], 10)
	case c.Kind == Decimal:
		return appendPlain(buf, string(c.At(row)))
	}
	f := c.Floats[row]
	if f == math.Trunc(f) && math.Abs(f) < 1<<63 {
		return strconv.AppendInt(buf, int64(f), 10)
	}
	return strconv.AppendFloat(buf, f, 'f', -1, 64)
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
	switch from.Kind {
	case Text:
		return c.appendAsText(string(from.At(row)))
	case Decimal:
		return c.appendAsNumber(string(from.At(row)))
	case UUID:
		return c.appendAsUUID(from.At(row))
	case Binary:
		return c.appendAsBinary(from.At(row))
	case Float:
		f := from.Floats[row]
		switch {
		case c.Kind == Text:
			c.AppendText(strconv.FormatFloat(f, 'g', -1, 64))
		case math.IsNaN(f) || math.IsInf(f, 0):
			return false
		default:
			return c.appendAsNumber(strconv.FormatFloat(f, 'f', -1, 64))
		}
		return true
	}
	if !from.Kind.inInts() {
		return false
	}
	n := from.Ints[row]
	switch {
	case from.Kind == Int:
		return c.appendAsNumber(strconv.FormatInt(n, 10))
	case c.Kind != Text:
		return false
	case from.Kind == Time:
		c.AppendText(FormatTime(n))
	case from.Kind == Date:
		c.AppendText(FormatDate(n))
	case from.Kind == Clock:
		c.AppendBytes(AppendClock(nil, n))
	default:
		c.AppendText(strconv.FormatBool(n != 0))
	}
	return true
}

// appendAsText adds a text as a value of the column's kind.
func (c *Column) appendAsText(text string) bool {
	switch c.Kind {
	case Int, Float, Decimal:
		return isNumber(text) && c.appendAsNumber(text)
	case UUID:
		if text = strings.ToLower(text); !isUUID(text) {
			return false
		}
		c.AppendText(text)
	case Binary:
		data, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return false
		}
		c.AppendBytes(data)
	case Bool, Time, Date, Clock:
		v, ok := ParseMoment(c.Kind, text)
		if !ok {
			return false
		}
		c.AppendInt(v)
	case JSON:
		c.AppendText(text)
	default:
		return false
	}
	return true
}

// appendAsNumber adds a number, written as JSON has it.
func (c *Column) appendAsNumber(text string) bool {
	switch c.Kind {
	case Int:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			if n, err = strconv.ParseInt(string(appendPlain(nil, text)), 10, 64); err != nil {
				return false
			}
		}
		c.AppendInt(n)
	case Float:
		f, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return false
		}
		c.AppendFloat(f)
	case Text:
		c.AppendBytes(appendPlain(nil, text))
	case Decimal:
		c.AppendText(text)
	default:
		return false
	}
	return true
}

// appendAsUUID adds a UUID.
func (c *Column) appendAsUUID(text []byte) bool {
	switch c.Kind {
	case Text:
		c.AppendBytes(text)
	case Binary:
		data, err := hex.DecodeString(strings.ReplaceAll(string(text), "-", ""))
		if err != nil {
			return false
		}
		c.AppendBytes(data)
	default:
		return false
	}
	return true
}

// appendAsBinary adds bytes: as base64 in a text, which is how they are answered.
func (c *Column) appendAsBinary(data []byte) bool {
	switch {
	case c.Kind == Text:
		c.AppendText(base64.StdEncoding.EncodeToString(data))
	case c.Kind == UUID && len(data) == 16:
		c.AppendText(FormatUUID(data))
	default:
		return false
	}
	return true
}

// FormatUUID writes 16 bytes as a UUID: RFC 9562, section 4.
func FormatUUID(data []byte) string {
	text := hex.EncodeToString(data)
	return text[:8] + "-" + text[8:12] + "-" + text[12:16] + "-" + text[16:20] + "-" + text[20:]
}

// Meet reports whether values of two kinds can be equal as keys: what
// [Column.AppendAs] makes of the one has the canonical form of the other.
func Meet(a, b Kind) bool {
	switch {
	case a == Unknown || b == Unknown:
		return true
	case a == JSON || b == JSON || a >= List || b >= List:
		return false // a JSON value has many forms
	case a == b || a == Text || b == Text:
		return true
	}
	return Numeric(a) && Numeric(b) || a == UUID && b == Binary || a == Binary && b == UUID
}

// appendPlain appends a number as JSON writes it, in its one plain form: without
// an exponent, and without zeros that say nothing.
//
//	"1.50"  1.5      "-0.0"  0      "1e3"  1000      "12E-1"  1.2
//
// A number of more digits than any key has stays as it is.
func appendPlain(buf []byte, text string) []byte {
	digits, negative := strings.CutPrefix(text, "-")
	exponent := 0
	if i := strings.IndexAny(digits, "eE"); i >= 0 {
		n, err := strconv.Atoi(digits[i+1:])
		if err != nil || n < -maxDecimal || n > maxDecimal {
			return append(buf, text...)
		}
		digits, exponent = digits[:i], n
	}
	whole, fraction, _ := strings.Cut(digits, ".")
	point := len(whole) + exponent
	digits = whole + fraction
	switch {
	case point < 0:
		digits, point = strings.Repeat("0", -point)+digits, 0
	case point > len(digits):
		digits += strings.Repeat("0", point-len(digits))
	}
	whole, fraction = strings.TrimLeft(digits[:point], "0"), strings.TrimRight(digits[point:], "0")
	if whole == "" {
		whole = "0"
	}
	if negative && (whole != "0" || fraction != "") {
		buf = append(buf, '-')
	}
	buf = append(buf, whole...)
	if fraction != "" {
		buf = append(append(buf, '.'), fraction...)
	}
	return buf
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
