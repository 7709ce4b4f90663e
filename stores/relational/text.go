package relational

import (
	"context"
	"database/sql/driver"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"time"

	"osprey/core/store"
)

// This file runs statements and reads values in the form of text, for databases whose
// drivers have no better.

// A template is a statement with places for parameters, in the order of the
// text.
type template struct {
	parts  []string // one more than params
	params []int    // positions in the form's params
}

// parameters stand in a statement between these marks until it is run.
const (
	markBegin = "\x01"
	markEnd   = "\x02"
)

func mark(n int) string { return markBegin + strconv.Itoa(n-1) + markEnd }

func newTemplate(text string) *template {
	t := &template{}
	for {
		before, rest, more := strings.Cut(text, markBegin)
		t.parts = append(t.parts, before)
		if !more {
			return t
		}
		number, after, _ := strings.Cut(rest, markEnd)
		n, err := strconv.Atoi(number)
		if err != nil {
			panic("relational: a parameter without a number: " + number)
		}
		t.params = append(t.params, n)
		text = after
	}
}

// runText runs the statement of a stage.
func (s *Source) runText(ctx context.Context, on *transaction, st *stage, in []store.Input, c *collector, last bool) error {
	t := st.text
	var text strings.Builder
	var args []any
	for i, part := range t.parts {
		text.WriteString(part)
		if i == len(t.params) {
			break
		}
		p := &st.params[t.params[i]]
		if s.dialect.windowed.inline() && p.many {
			args = inlined(&text, args, p, in, s.dialect.windowed)
			continue
		}
		args = give(&text, args, argument(p, in, s.dialect.windowed), p.field, s.dialect.windowed)
	}
	named := make([]driver.NamedValue, len(args))
	for i, v := range args {
		named[i] = driver.NamedValue{Ordinal: i + 1, Value: v}
	}
	rows, err := on.query(ctx, text.String(), named, last)
	if err != nil {
		return err
	}
	err = collect(ctx, rows, c.row)
	if isCut(err) {
		on.cut() // closing the rows would wait for the rest
	}
	if closed := rows.Close(); err == nil {
		err = closed
	}
	return err
}

// collect hands the values of rows on as text.
func collect(ctx context.Context, rows driver.Rows, row func([][]byte) error) error {
	given := make([]driver.Value, len(rows.Columns()))
	values := make([][]byte, len(given))
	buf := make([]byte, 0, 64)
	for n := 1; ; n++ {
		switch err := rows.Next(given); {
		case err == io.EOF:
			return nil
		case err != nil:
			return err
		case n%256 == 0 && ctx.Err() != nil: // which not every driver looks at
			return ctx.Err()
		}
		buf = buf[:0]
		for i, v := range given {
			switch v := v.(type) {
			case nil:
				values[i] = nil
			case []byte:
				if values[i] = v; v == nil {
					values[i] = []byte{} // of nothing, and not NULL
				}
			default:
				start := len(buf)
				buf = appendGiven(buf, v)
				values[i] = buf[start:len(buf):len(buf)]
			}
		}
		if err := row(values); err != nil {
			return err
		}
	}
}

// appendGiven appends a value of a driver as text.
func appendGiven(buf []byte, v driver.Value) []byte {
	switch v := v.(type) {
	case int64:
		return strconv.AppendInt(buf, v, 10)
	case uint64:
		return strconv.AppendUint(buf, v, 10)
	case float64:
		return strconv.AppendFloat(buf, v, 'g', -1, 64)
	case float32:
		return strconv.AppendFloat(buf, float64(v), 'g', -1, 32)
	case bool:
		return strconv.AppendBool(buf, v)
	case string:
		return append(buf, v...)
	case time.Time:
		return v.UTC().AppendFormat(buf, momentForm)
	}
	return buf
}

// give writes a value that is a parameter, or a number with all of its digits where a
// parameter would be a text, which is compared as a double.
func give(text *strings.Builder, args []any, v any, f *store.Field, d windowDialect) []any {
	v = d.value(v, f)
	form := "?"
	switch given := v.(type) {
	case json.Number:
		if d.inline() {
			text.WriteString(plainNumber(string(given)))
			return args
		}
		v = string(given)
	case string:
		form = d.text(given, f)
	}
	text.WriteString(form)
	for range strings.Count(form, "?") {
		args = append(args, v)
	}
	return args
}

// plainNumber writes a number as SQL has exact ones, if it has few enough digits for
// one, or else as a double, which equals no exact one that is stored.
func plainNumber(number string) string {
	n, ok := new(big.Rat).SetString(number)
	if !ok {
		return "NULL"
	}
	whole := strings.TrimPrefix(n.FloatString(0), "-")
	if digits, exact := n.FloatPrec(); exact && digits <= 30 && len(whole)+digits <= 65 {
		return n.FloatString(digits)
	}
	f, _ := n.Float64()
	return strconv.FormatFloat(f, 'e', -1, 64)
}

// momentForm is how moments are given, and mostly come.
const momentForm = "2006-01-02 15:04:05.999999"

// argument returns the value of a parameter.
func argument(p *param, in []store.Input, d windowDialect) any {
	switch p.what {
	case limitParam:
		return in[p.read].Limit
	case offsetParam:
		return in[p.read].Offset
	case keysParam:
		return asJSON(in[p.read].Keys, p.fields, d)
	case listParam:
		return bothForms(&in[p.read].Keys[p.n])
	}
	c := valuesOf(p, in)
	if p.many {
		return asJSON([]store.Column{*c}, []keyField{{field: p.field}}, d)
	}
	for row := range c.Len() {
		if !c.Null[row] {
			return valueAt(c, row)
		}
	}
	return nil
}

func valuesOf(p *param, in []store.Input) *store.Column {
	if p.what == keyParam {
		return &in[p.read].Keys[p.n]
	}
	return &in[p.read].Where[p.n]
}

// valueAt returns a value as a driver takes it.
func valueAt(c *store.Column, row int) any {
	switch c.Kind {
	case store.Int, store.Bool:
		return c.Ints[row]
	case store.Float:
		return c.Floats[row]
	case store.Time:
		return time.UnixMicro(c.Ints[row]).UTC()
	case store.Decimal:
		return json.Number(c.At(row))
	case store.Date:
		return store.FormatDate(c.Ints[row])
	case store.Clock:
		return string(store.AppendClock(nil, c.Ints[row]))
	case store.Binary:
		return append([]byte{}, c.At(row)...) // not nil, which would be NULL
	}
	return string(c.At(row))
}

// bothForms returns keys as a JSON array, those that are numbers as numbers and as
// texts: an array of either kind may hold them.
func bothForms(keys *store.Column) string {
	list := []any{}
	for row := range keys.Len() {
		if keys.Null[row] {
			continue
		}
		text := string(keys.Text(row))
		list = append(list, text)
		if n := json.Number(text); json.Valid([]byte(text)) {
			if _, err := n.Float64(); err == nil {
				list = append(list, n)
			}
		}
	}
	text, _ := json.Marshal(list)
	return string(text)
}

// asJSON returns values as a JSON array; combinations as arrays in it.
func asJSON(columns []store.Column, fields []keyField, d windowDialect) string {
	list := []any{}
	for row := range columns[0].Len() {
		var one []any
		for i := range columns {
			if columns[i].Null[row] {
				one = nil
				break
			}
			v := d.value(valueAt(&columns[i], row), fields[i].field)
			switch value := v.(type) {
			case json.Number:
				v = string(value)
			case []byte:
				v = hex.EncodeToString(value)
			}
			if f, ok := v.(float64); ok && (math.IsNaN(f) || math.IsInf(f, 0)) {
				one = nil
				break
			}
			one = append(one, v)
		}
		switch {
		case one == nil:
		case len(columns) == 1:
			list = append(list, one[0])
		default:
			list = append(list, one)
		}
	}
	text, err := json.Marshal(list)
	if err != nil {
		return "[]"
	}
	return string(text)
}

// inlined writes a parameter for each of many values.
func inlined(text *strings.Builder, args []any, p *param, in []store.Input, d windowDialect) []any {
	columns := in[p.read].Keys
	if p.what != keysParam {
		columns = []store.Column{*valuesOf(p, in)}
	}
	fields := p.fields
	if len(columns) == 1 {
		fields = []keyField{{field: p.field, kind: p.kind}}
	}
	none := true
	for row := range columns[0].Len() {
		if columns[0].Null[row] {
			continue
		}
		if !none {
			text.WriteString(", ")
		}
		none = false
		if len(columns) > 1 {
			text.WriteByte('(')
		}
		for i := range columns {
			if i > 0 {
				text.WriteString(", ")
			}
			f := fields[i]
			before, after, _ := strings.Cut(d.given("?", f.field, f.kind), "?")
			text.WriteString(before)
			args = give(text, args, valueAt(&columns[i], row), f.field, d)
			text.WriteString(after)
		}
		if len(columns) > 1 {
			text.WriteByte(')')
		}
	}
	if none { // a list must hold something, and nothing equals NULL
		null := "NULL"
		if p.what == keysParam {
			null = "(NULL" + strings.Repeat(", NULL", len(columns)-1) + ")"
		}
		text.WriteString(null)
	}
	return args
}

// textDecoder returns how the values of a column are read from text. What does
// not fit is bad at its place only, since not every database holds its columns
// to their types.
func textDecoder(f *store.Field, w *store.Wanted) decoder {
	kind := w.Kind
	if w.Aggregate == store.NoAggregate && f != nil {
		kind = kindAs(f, w.Kind)
	}
	if kind == store.JSON {
		return func(c *store.Column, v []byte) error {
			if !json.Valid(v) {
				c.AppendBad("the stored value is not JSON")
				return nil
			}
			return appendStoredJSON(c, w, v)
		}
	}
	return func(c *store.Column, v []byte) error {
		if why := appendText(c, kind, v); why != "" {
			c.AppendBad(why)
		}
		return nil
	}
}

// appendText appends a value from text, or says why it cannot be.
func appendText(c *store.Column, kind store.Kind, v []byte) string {
	text := string(v)
	switch kind {
	case store.Int:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return fmt.Sprintf("the stored value %s is no whole number of 64 bits", short(text))
		}
		c.AppendInt(n)
	case store.Float:
		n, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return fmt.Sprintf("the stored value %s is no number", short(text))
		}
		c.AppendFloat(n)
	case store.Bool:
		b, err := strconv.ParseBool(text)
		if err != nil {
			return fmt.Sprintf("the stored value %s is neither true nor false", short(text))
		}
		n := int64(0)
		if b {
			n = 1
		}
		c.AppendInt(n)
	case store.Time, store.Date, store.Clock:
		n, ok := parseMoment(kind, text)
		if !ok {
			return fmt.Sprintf("the stored value %s is no %s", short(text), kind)
		}
		c.AppendInt(n)
	case store.Decimal:
		if _, err := strconv.ParseFloat(text, 64); err != nil {
			return fmt.Sprintf("the stored value %s is no number", short(text))
		}
		c.AppendBytes(v)
	case store.UUID:
		if lower := strings.ToLower(text); !uuidForm.MatchString(lower) || text != lower && text != strings.ToUpper(text) {
			return fmt.Sprintf("the stored value %s is no UUID in small letters or in capitals", short(text))
		}
		c.AppendText(strings.ToLower(text))
	default:
		c.AppendBytes(v)
	}
	return ""
}

var uuidForm = regexp.MustCompile("^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$")

func short(text string) string {
	if len(text) > 40 {
		text = text[:40] + "…"
	}
	return strconv.Quote(text)
}

// moments are the forms in which databases write moments.
var moments = []string{"2006-01-02 15:04:05.999999999", time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04", "2006-01-02"}

func parseMoment(kind store.Kind, text string) (int64, bool) {
	switch {
	case kind == store.Date && len(text) > 10:
		text = text[:10]
	case kind == store.Clock && len(text) > 19:
		text = text[11:] // a driver that makes moments of times of day
	}
	if n, ok := store.ParseMoment(kind, text); ok || kind != store.Time {
		if !ok && kind == store.Clock {
			return store.ParseMoment(kind, text+":00") // 08:30
		}
		return n, ok
	}
	for _, form := range moments {
		if t, err := time.Parse(form, text); err == nil {
			return t.UnixMicro(), true
		}
	}
	return 0, false
}
