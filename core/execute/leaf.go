package execute

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"time"
	"unicode/utf8"

	"osprey/core/plan"
	"osprey/core/scalar"
	"osprey/core/store"
)

// leaf writes the value of a scalar or enum, or a list of them, from a column;
// false if it is null or does not fit the field's type, which is then told:
// result coercion, sections 3.5 and 3.9.
func (r *run) leaf(b []byte, f *plan.Field, c *store.Column, row int) ([]byte, bool) {
	if !c.Null[row] && c.Kind != store.List {
		var why string
		if b, why = appendValue(b, f, c, row); why == "" {
			return b, true
		}
		r.enter(f)
		r.fail(f, nil, codeOf(why), "", f.At+": "+why)
		r.leave()
		return b, false
	}
	// The path is kept only where something may be wrong.
	r.enter(f)
	b, ok := r.item(b, f, &f.Null, c, row)
	r.leave()
	return b, ok
}

// item writes a value that may be a list, or nothing.
func (r *run) item(b []byte, f *plan.Field, null *plan.Nullness, c *store.Column, row int) ([]byte, bool) {
	switch {
	case c.Null[row]:
		if why, bad := c.Bad[row]; bad {
			r.fail(f, nil, codeOf(why), "", f.At+": "+why)
		} else if null.NonNull {
			r.missing(f)
		}
		return b, false
	case c.Kind != store.List:
		b, why := appendValue(b, f, c, row)
		if why != "" {
			r.fail(f, nil, codeOf(why), "", f.At+": "+why)
		}
		return b, why == ""
	}
	outside := len(r.path)
	r.path = append(r.path, step{field: -1})
	start, end := c.Items(row)
	b = append(b, '[')
	for i := start; i < end; i++ {
		if i > start {
			b = append(b, ',')
		}
		r.path[outside].index = int32(i - start)
		mark := r.place(b)
		var ok bool
		if b, ok = r.item(b, f, null.Item, c.Elem, i); !ok {
			if null.Item.NonNull {
				r.path = r.path[:outside]
				return b, false
			}
			b = r.null(b, mark)
		}
	}
	r.path = r.path[:outside]
	return append(b, ']'), true
}

// appendValue appends one value through the field's codec, or says why it
// cannot; then nothing was appended.
func appendValue(b []byte, f *plan.Field, c *store.Column, row int) (_ []byte, why string) {
	if f.Format != nil {
		return appendFormatted(b, f, c, row)
	}
	return appendCoded(b, f, c, row)
}

// appendFormatted appends a value as its scalar writes it.
func appendFormatted(b []byte, f *plan.Field, c *store.Column, row int) (_ []byte, why string) {
	stored, why := appendCoded(nil, f, c, row)
	if why != "" {
		return b, why
	}
	var text string
	if json.Unmarshal(stored, &text) != nil {
		text = string(stored)
	}
	text, err := f.Format(text)
	if err != nil {
		return b, err.Error()
	}
	return appendQuoted(b, []byte(text)), ""
}

// appendCoded appends one value through the field's codec.
func appendCoded(b []byte, f *plan.Field, c *store.Column, row int) (_ []byte, why string) {
	switch f.Codec {
	case scalar.Quoted:
		return appendQuoted(b, c.At(row)), ""
	case scalar.Number, scalar.NumberAsFloat:
		return strconv.AppendInt(b, c.Ints[row], 10), ""
	case scalar.Number32:
		n := c.Ints[row]
		if n < math.MinInt32 || n > math.MaxInt32 {
			return b, fmt.Sprintf(msgBeyondBitsInt, n)
		}
		return strconv.AppendInt(b, n, 10), ""
	case scalar.Fraction:
		v := c.Floats[row]
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return b, fmt.Sprintf(msgNotNumberJsonCan, v)
		}
		return AppendFloat(b, v), ""
	case scalar.Truth:
		return strconv.AppendBool(b, c.Ints[row] != 0), ""
	case scalar.QuotedInt:
		return append(strconv.AppendInt(append(b, '"'), c.Ints[row], 10), '"'), ""
	case scalar.FloatAsNumber:
		n := c.Floats[row]
		if n != math.Trunc(n) || n < math.MinInt32 || n > math.MaxInt32 {
			return b, fmt.Sprintf(msgNotWholeNumberBits, n)
		}
		return strconv.AppendInt(b, int64(n), 10), ""
	case scalar.DecimalAsIs:
		if !json.Valid(c.At(row)) {
			return b, fmt.Sprintf(msgNotNumber, c.At(row))
		}
		return append(b, c.At(row)...), ""
	case scalar.MomentText, scalar.DayOfMoment:
		if !store.TimeFits(c.Ints[row]) {
			return b, msgBeyondYears
		}
		if f.Codec == scalar.DayOfMoment {
			return append(store.AppendDate(append(b, '"'), store.DateOf(time.UnixMicro(c.Ints[row]))), '"'), ""
		}
		return append(store.AppendTime(append(b, '"'), c.Ints[row]), '"'), ""
	case scalar.DateText:
		if !store.DateFits(c.Ints[row]) {
			return b, msgBeyondYears
		}
		return append(store.AppendDate(append(b, '"'), c.Ints[row]), '"'), ""
	case scalar.ClockText:
		return append(store.AppendClock(append(b, '"'), c.Ints[row]), '"'), ""
	case scalar.RawJSON:
		return append(b, c.At(row)...), ""
	case scalar.EnumName:
		name, ok := f.Names[string(c.At(row))]
		if !ok {
			return b, fmt.Sprintf(msgStoredValueNoValue, c.At(row))
		}
		if name == nil {
			return b, msgDeniedValue
		}
		return append(b, name...), ""
	case scalar.Base64:
		return append(base64.StdEncoding.AppendEncode(append(b, '"'), c.At(row)), '"'), ""
	}
	panic(fmt.Sprintf("execute: unknown codec %d", f.Codec))
}

// AppendFloat appends a number as JSON, as short as it can be read back.
func AppendFloat(buf []byte, v float64) []byte {
	a := math.Abs(v)
	// Most stored numbers have few decimals. If v is the number closest to
	// n/1000, that is the shortest way to write it, since below 1e12 no two
	// numbers of so few decimals share a closest float: 50 ns where the general
	// way takes 102.
	if n := math.Round(a * 1000); a < 1e12 && n/1000 == a && n > 0 {
		if v < 0 {
			buf = append(buf, '-')
		}
		whole, rest := uint64(n)/1000, uint64(n)%1000
		buf = strconv.AppendUint(buf, whole, 10)
		if rest == 0 {
			return buf
		}
		buf = append(buf, '.')
		for unit := uint64(100); rest > 0; unit /= 10 {
			buf = append(buf, byte('0'+rest/unit))
			rest %= unit
		}
		return buf
	}
	format := byte('f')
	if a != 0 && (a < 1e-6 || a >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(buf, v, format, -1, 64)
}

const hexDigits = "0123456789abcdef"

// plain has the bytes that stand for themselves in a JSON string.
var plain = func() (table [256]bool) {
	for c := range table {
		table[c] = c >= ' ' && c != '"' && c != '\\' && c < utf8.RuneSelf
	}
	return table
}()

// appendQuoted appends text as a JSON string. Bytes that are not UTF-8 become
// the replacement character.
func appendQuoted(buf, text []byte) []byte {
	buf = append(buf, '"')
	for i, c := range text {
		if !plain[c] {
			return append(appendEscaped(buf, text, i), '"')
		}
	}
	return append(append(buf, text...), '"')
}

// appendEscaped appends a text that holds something to be escaped or checked
// from position i on.
func appendEscaped(buf, text []byte, i int) []byte {
	start := 0
	for i < len(text) {
		c := text[i]
		if plain[c] {
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
	return append(buf, text[start:]...)
}

// codeOf returns the code of the error that says why a value is not written.
func codeOf(why string) string {
	if why == msgDeniedValue {
		return Denied
	}
	return BadResult
}
