package relational

import (
	"encoding/binary"
	"encoding/hex"
	"math"
	"slices"

	"osprey/core/store"
)

// This file writes parameters in PostgreSQL's binary form: values as the
// types' receive functions want them, and arrays of one dimension (the comment
// at array_recv of its sources). Values are appended to one buffer from the
// columns of an input, without a value of Go for each.

// arguments is the parameters of one run. It is used again by later ones.
type arguments struct {
	values [][]byte
	ends   []int // of each value in buf; below 0 for NULL
	buf    []byte
}

// of fills in the values of params.
func (a *arguments) of(params []param, in []store.Input) [][]byte {
	if a.buf == nil {
		a.buf = make([]byte, 0, 64) // a part of nothing would be NULL, and an empty text is not
	}
	a.buf, a.ends = a.buf[:0], a.ends[:0]
	for _, p := range params {
		given := true
		switch p.what {
		case keyParam:
			a.array(&in[p.read].Keys[p.n], p.field)
		case whereParam:
			if c := &in[p.read].Where[p.n]; p.many {
				a.array(c, p.field)
			} else {
				given = a.single(c, p.field)
			}
		case limitParam:
			a.buf = binary.BigEndian.AppendUint64(a.buf, uint64(in[p.read].Limit))
		case offsetParam:
			a.buf = binary.BigEndian.AppendUint64(a.buf, uint64(in[p.read].Offset))
		}
		if given {
			a.ends = append(a.ends, len(a.buf))
		} else {
			a.ends = append(a.ends, -1)
		}
	}
	a.values = a.values[:0]
	start := 0
	for _, end := range a.ends {
		if end < 0 {
			a.values = append(a.values, nil)
			continue
		}
		a.values = append(a.values, a.buf[start:end:end])
		start = end
	}
	return a.values
}

// single appends the first value that the database can take; false if there is
// none, and nothing stored equals it.
func (a *arguments) single(c *store.Column, f *store.Field) bool {
	for row := range c.Len() {
		if takes(c, row, f) {
			a.value(c, row)
			return true
		}
	}
	return false
}

// array appends all values that the database can take. The others equal
// nothing stored.
func (a *arguments) array(c *store.Column, f *store.Field) {
	start := len(a.buf)
	a.uint32(0) // dimensions
	a.uint32(0) // no NULL
	a.uint32(elemOID(c.Kind, f))
	a.uint32(0) // length
	a.uint32(1) // of the first index
	n := 0
	for row := range c.Len() {
		if !takes(c, row, f) {
			continue
		}
		n++
		a.uint32(0)
		from := len(a.buf)
		a.value(c, row)
		binary.BigEndian.PutUint32(a.buf[from-4:], uint32(len(a.buf)-from))
	}
	if n == 0 {
		a.buf = a.buf[:start+12] // an array without dimensions has no bounds
		return
	}
	binary.BigEndian.PutUint32(a.buf[start:], 1)
	binary.BigEndian.PutUint32(a.buf[start+12:], uint32(n))
}

func (a *arguments) uint32(n uint32) { a.buf = binary.BigEndian.AppendUint32(a.buf, n) }

// takes reports whether the database can take a value at all: no text of it
// holds a NUL, and an enum takes its labels only.
func takes(c *store.Column, row int, f *store.Field) bool {
	if c.Null[row] {
		return false
	}
	switch c.Kind {
	case store.Bool, store.Int, store.Float, store.Time, store.Date, store.Clock:
		return true
	}
	if c.Kind == store.Binary {
		return true
	}
	v := c.At(row)
	return !slices.Contains(v, 0) && (f == nil || len(f.Values) == 0 || slices.Contains(f.Values, string(v)))
}

// value appends a value in the type that singleCast gives its parameter.
func (a *arguments) value(c *store.Column, row int) {
	switch c.Kind {
	case store.Int:
		a.buf = binary.BigEndian.AppendUint64(a.buf, uint64(c.Ints[row]))
	case store.Float:
		a.buf = binary.BigEndian.AppendUint64(a.buf, math.Float64bits(c.Floats[row]))
	case store.Bool:
		a.buf = append(a.buf, byte(c.Ints[row]))
	case store.Time:
		a.buf = binary.BigEndian.AppendUint64(a.buf, uint64(c.Ints[row]-microsTo2000))
	case store.Date:
		a.uint32(uint32(c.Ints[row] - daysTo2000))
	case store.Clock:
		a.buf = store.AppendClock(a.buf, c.Ints[row])
	case store.Binary:
		a.buf = hex.AppendEncode(append(a.buf, `\x`...), c.At(row))
	default:
		a.buf = append(a.buf, c.At(row)...)
	}
}

// The types of array elements, by their numbers in pg_type.
const (
	oidBool, oidInt8, oidText, oidFloat8        = 16, 20, 25, 701
	oidDate, oidTimestamp, oidTimestampWithZone = 1082, 1114, 1184
)

func elemOID(kind store.Kind, f *store.Field) uint32 {
	switch kind {
	case store.Int:
		return oidInt8
	case store.Float:
		return oidFloat8
	case store.Bool:
		return oidBool
	case store.Date:
		return oidDate
	case store.Time:
		if momentType(f) == "timestamp without time zone" {
			return oidTimestamp
		}
		return oidTimestampWithZone
	}
	return oidText
}
