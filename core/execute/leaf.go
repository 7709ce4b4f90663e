package execute

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"time"
	"unicode/utf8"

	"osprey/core/binding"
	"osprey/core/plan"
	"osprey/core/store"
)

// leaf writes the value of a scalar or enum, or a list of them, from a column;
// false if it is null or does not fit the field's type, which is then told:
// result coercion, sections 3.5 and 3.9. The path has the field's name already
// if inPath is set; it is left out while nothing is wrong.
func (w *writer) leaf(f *plan.Field, null *plan.Nullness, c *store.Column, row int, inPath bool) bool {
	why, bad := "", false
	switch {
	case c.Null[row]:
		if why, bad = c.Bad[row]; !bad && !null.NonNull {
			return false
		}
	case c.Kind == store.List:
		return w.leaves(f, null, c, row, inPath)
	default:
		if why = w.value(f, c, row); why == "" {
			return true
		}
	}
	if !inPath {
		w.path = append(w.path, step{name: f.Name})
		defer func() { w.path = w.path[:len(w.path)-1] }()
	}
	if why == "" {
		w.missing(f)
	} else {
		w.fail(f, nil, BadResult, "", f.At+": "+why)
	}
	return false
}

// leaves writes a list of scalars or enums.
func (w *writer) leaves(f *plan.Field, null *plan.Nullness, c *store.Column, row int, inPath bool) bool {
	outside := len(w.path)
	defer func() { w.path = w.path[:outside] }()
	if !inPath {
		w.path = append(w.path, step{name: f.Name})
	}
	w.path = append(w.path, step{})
	last := len(w.path) - 1
	start, end := c.Items(row)
	w.buf = append(w.buf, '[')
	for i := start; i < end; i++ {
		if i > start {
			w.buf = append(w.buf, ',')
		}
		w.path[last].index = i - start
		mark := len(w.buf)
		if !w.leaf(f, null.Item, c.Elem, i, true) {
			if null.Item.NonNull {
				return false
			}
			w.buf = append(w.buf[:mark], "null"...)
		}
	}
	w.buf = append(w.buf, ']')
	return true
}

// value appends one value through the field's codec, or says why it cannot.
func (w *writer) value(f *plan.Field, c *store.Column, row int) (why string) {
	switch f.Codec {
	case binding.Quoted:
		w.buf = appendQuoted(w.buf, c.At(row))
	case binding.Number:
		w.buf = strconv.AppendInt(w.buf, c.Ints[row], 10)
	case binding.Number32:
		n := c.Ints[row]
		if n < math.MinInt32 || n > math.MaxInt32 {
			return fmt.Sprintf(msgBeyondBitsInt, n)
		}
		w.buf = strconv.AppendInt(w.buf, n, 10)
	case binding.Fraction:
		return w.float(c.Floats[row])
	case binding.Truth:
		w.buf = strconv.AppendBool(w.buf, c.Ints[row] != 0)
	case binding.QuotedInt:
		w.buf = append(w.buf, '"')
		w.buf = strconv.AppendInt(w.buf, c.Ints[row], 10)
		w.buf = append(w.buf, '"')
	case binding.NumberAsFloat:
		w.buf = strconv.AppendInt(w.buf, c.Ints[row], 10)
	case binding.FloatAsNumber:
		n := c.Floats[row]
		if n != math.Trunc(n) || n < math.MinInt32 || n > math.MaxInt32 {
			return fmt.Sprintf(msgNotWholeNumberBits, n)
		}
		w.buf = strconv.AppendInt(w.buf, int64(n), 10)
	case binding.DecimalAsIs:
		if !json.Valid(c.At(row)) {
			return fmt.Sprintf(msgNotNumber, c.At(row))
		}
		w.buf = append(w.buf, c.At(row)...)
	case binding.MomentText:
		w.buf = append(store.AppendTime(append(w.buf, '"'), c.Ints[row]), '"')
	case binding.DateText:
		w.buf = append(store.AppendDate(append(w.buf, '"'), c.Ints[row]), '"')
	case binding.DayOfMoment:
		w.buf = append(store.AppendDate(append(w.buf, '"'), store.DateOf(time.UnixMicro(c.Ints[row]))), '"')
	case binding.ClockText:
		w.buf = append(store.AppendClock(append(w.buf, '"'), c.Ints[row]), '"')
	case binding.RawJSON:
		w.buf = append(w.buf, c.At(row)...)
	case binding.EnumName:
		name, ok := f.Names[string(c.At(row))]
		if !ok {
			return fmt.Sprintf(msgStoredValueNoValue, c.At(row))
		}
		w.buf = append(append(append(w.buf, '"'), name...), '"')
	case binding.Base64:
		w.buf = append(base64.StdEncoding.AppendEncode(append(w.buf, '"'), c.At(row)), '"')
	default:
		panic(fmt.Sprintf("execute: unknown codec %d", f.Codec))
	}
	return ""
}

func (w *writer) float(v float64) string {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return fmt.Sprintf(msgNotNumberJsonCan, v)
	}
	w.buf = AppendFloat(w.buf, v)
	return ""
}

// AppendFloat appends a number as JSON, as short as it can be read back.
func AppendFloat(buf []byte, v float64) []byte {
	format := byte('f')
	if a := math.Abs(v); a != 0 && (a < 1e-6 || a >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(buf, v, format, -1, 64)
}

const hexDigits = "0123456789abcdef"

// appendQuoted appends text as a JSON string. Bytes that are not UTF-8 become
// the replacement character.
func appendQuoted(buf, text []byte) []byte {
	buf = append(buf, '"')
	start := 0
	for i := 0; i < len(text); {
		c := text[i]
		if c >= ' ' && c != '"' && c != '\\' && c < utf8.RuneSelf {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRune(text[i:])
			if r == utf8.RuneError && size == 1 {
				buf = append(append(buf, text[start:i]...), "\uFFFD"...)
				start = i + 1
			}
			i += size
			continue
		}
		buf = append(buf, text[start:i]...)
		switch c {
		case '"', '\\':
			buf = append(buf, '\\', c)
		case '\n':
			buf = append(buf, '\\', 'n')
		case '\r':
			buf = append(buf, '\\', 'r')
		case '\t':
			buf = append(buf, '\\', 't')
		default:
			buf = append(buf, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
		i++
		start = i
	}
	return append(append(buf, text[start:]...), '"')
}
