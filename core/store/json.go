package store

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// This file fills columns from decoded JSON: the answers of remote services
// and JSON columns of tables; and from values of Go.

// AppendJSON adds a value as w wants it: one decoded from JSON (best with
// json.Decoder.UseNumber, so that no digit is lost), or any that package
// encoding/json can write, such as an int, a struct or a time.Time. A value that
// does not fit is bad at its place only.
func (c *Column) AppendJSON(w *Wanted, v any) {
	if v == nil {
		c.AppendNull()
		return
	}
	switch w.Kind {
	case Record:
		object, ok := objectOf(v)
		if !ok {
			c.appendOther(w, v, "an object")
			return
		}
		c.AppendRecord()
		for i := range w.Fields {
			c.Rows.Columns[i].AppendJSON(&w.Fields[i], JSONPath(object, w.Fields[i].Path))
		}
	case List:
		list, ok := v.([]any)
		if !ok {
			if v, list, ok = listOf(v); !ok && !w.OneOrMany {
				c.appendOther(w, v, "a list")
				return
			}
			if !ok {
				list = []any{v}
			}
		}
		for _, item := range list {
			c.Elem.AppendJSON(w.Elem, item)
		}
		c.EndList()
	default:
		c.appendLeaf(v)
	}
}

// appendOther adds a value that is not of the form that is wanted: null where the
// value is a Go pointer to nothing.
func (c *Column) appendOther(w *Wanted, v any, form string) {
	if v, ok := plain(v); ok && v == nil {
		c.AppendNull()
		return
	}
	c.AppendBad("expected " + form + ", found " + jsonWord(v))
}

// objectOf returns a value as an object of decoded JSON, if it is one.
func objectOf(v any) (map[string]any, bool) {
	if object, ok := v.(map[string]any); ok || isPlain(v) {
		return object, ok
	}
	v, _ = plain(v)
	object, ok := v.(map[string]any)
	return object, ok
}

// listOf returns a value in decoded form, and its items if it is a list.
func listOf(v any) (any, []any, bool) {
	if list, ok := v.([]any); ok || isPlain(v) {
		return v, list, ok
	}
	if decoded, ok := plain(v); ok {
		v = decoded
	}
	list, ok := v.([]any)
	return v, list, ok
}

// isPlain reports whether a value has the form of decoded JSON.
func isPlain(v any) bool {
	switch v.(type) {
	case nil, bool, string, json.Number, []any, map[string]any:
		return true
	}
	return false
}

// plain returns a value of Go as it looks when it was written as JSON and decoded;
// false if it cannot be written, such as a channel or NaN.
func plain(v any) (any, bool) {
	text, err := json.Marshal(v)
	if err != nil {
		return v, false
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var decoded any
	return decoded, d.Decode(&decoded) == nil
}

// JSONPath follows a path of names with dots into decoded JSON, or into a value of
// Go. It returns nil where the path ends early.
func JSONPath(v any, path string) any {
	for path != "" {
		object, ok := objectOf(v)
		if !ok {
			return nil
		}
		// A name may itself hold dots; the longest match from here is taken.
		if found, ok := object[path]; ok {
			return found
		}
		name, rest := cutName(path)
		v, path = object[name], rest
	}
	return v
}

// JSON returns a value of the column as decoded JSON: numbers with all of their digits, nested
// records by their Names, and what JSON has no form for as text.
func (c *Column) JSON(row int) any {
	if c.Null[row] {
		return nil
	}
	switch c.Kind {
	case Bool:
		return c.Ints[row] != 0
	case Int, Float, Decimal:
		return json.Number(c.Text(row))
	case JSON:
		d := json.NewDecoder(bytes.NewReader(c.At(row)))
		d.UseNumber()
		var v any
		_ = d.Decode(&v) // which was written here
		return v
	case List:
		list := []any{}
		for i, end := c.Items(row); i < end; i++ {
			list = append(list, c.Elem.JSON(i))
		}
		return list
	case Record:
		object := map[string]any{}
		for i, name := range c.Rows.Names {
			if v := c.Rows.Columns[i].JSON(row); v != nil {
				PutPath(object, name, v)
			}
		}
		return object
	}
	return string(c.Text(row))
}

// PutPath puts a value at a path of names with dots into an object.
func PutPath(object map[string]any, path string, v any) {
	name, rest := cutName(path)
	if rest == "" {
		object[name] = v
		return
	}
	inner, ok := object[name].(map[string]any)
	if !ok {
		inner = map[string]any{}
		object[name] = inner
	}
	PutPath(inner, rest, v)
}

func cutName(path string) (name, rest string) {
	for i := 0; i < len(path); i++ {
		if path[i] == '.' {
			return path[:i], path[i+1:]
		}
	}
	return path, ""
}

// appendLeaf adds a single value, converted to the column's kind.
func (c *Column) appendLeaf(v any) {
	if !isPlain(v) {
		c.appendGo(v)
		return
	}
	if c.Kind == JSON {
		text, err := json.Marshal(v)
		if err != nil {
			c.AppendBad("the value cannot be written as JSON")
			return
		}
		c.AppendBytes(text)
		return
	}
	switch v := v.(type) {
	case string:
		c.appendString(v)
		return
	case json.Number:
		c.appendNumber(v)
		return
	case bool:
		switch c.Kind {
		case Bool:
			c.AppendInt(b2i(v))
			return
		case Text:
			c.AppendText(strconv.FormatBool(v))
			return
		}
	}
	c.AppendBad(fmt.Sprintf("expected %s, found %s", kindPhrase(c.Kind), jsonWord(v)))
}

// appendGo adds a single value of Go. What takes most of the time of a source, the
// plain numbers, is not written as JSON first.
func (c *Column) appendGo(v any) {
	switch v := v.(type) {
	case int:
		c.appendWhole(int64(v), v)
	case int64:
		c.appendWhole(v, v)
	case int32:
		c.appendWhole(int64(v), v)
	case float64:
		if c.Kind == Float {
			c.AppendFloat(v)
			return
		}
		c.appendPlain(v)
	case time.Time:
		c.appendMoment(v)
	case []byte:
		if c.Kind == Binary || c.Kind == Text && utf8.Valid(v) || c.Kind == JSON && json.Valid(v) {
			c.AppendBytes(v)
			return
		}
		c.appendPlain(v)
	default:
		c.appendPlain(v)
	}
}

// appendWhole adds a whole number; v is the same.
func (c *Column) appendWhole(n int64, v any) {
	if c.Kind == Int {
		c.AppendInt(n)
		return
	}
	c.appendPlain(v)
}

// appendPlain adds a value of Go by the JSON that it is written as.
func (c *Column) appendPlain(v any) {
	decoded, ok := plain(v)
	switch {
	case !ok:
		c.AppendBad(fmt.Sprintf("expected %s, found a value that cannot be written as JSON", kindPhrase(c.Kind)))
	case decoded == nil:
		c.AppendNull()
	default:
		c.appendLeaf(decoded)
	}
}

// appendMoment adds a moment, or the day or the time of day that it is in UTC.
func (c *Column) appendMoment(t time.Time) {
	t = t.UTC()
	micros := t.UnixMicro()
	switch {
	case c.Kind == Time && TimeFits(micros):
		c.AppendInt(micros)
	case c.Kind == Date && TimeFits(micros):
		c.AppendInt(DateOf(t))
	case c.Kind == Clock:
		c.AppendInt(micros - DateOf(t)*microsecondsOfDay)
	case TimeFits(micros):
		c.appendLeaf(FormatTime(micros))
	default:
		c.AppendBad("the moment is beyond the years 0 to 9999")
	}
}

func b2i(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

func (c *Column) appendString(s string) {
	switch {
	case c.Kind == Decimal && !isNumber(s):
	case c.Kind == UUID && !isUUID(strings.ToLower(s)):
	case c.Kind.inBytes():
		c.AppendText(s)
		return
	case c.Kind == Float:
		if f, err := strconv.ParseFloat(s, 64); err == nil {
			c.AppendFloat(f)
			return
		}
	case c.Kind.inInts():
		if n, ok := ParseMoment(c.Kind, s); ok {
			c.AppendInt(n)
			return
		}
	}
	c.AppendBad(fmt.Sprintf("expected %s, found text", kindPhrase(c.Kind)))
}

// isNumber reports whether a text is a number as JSON writes it: RFC 8259, section
// 6. It is on the path of every key that is a text here and a number there.
func isNumber(s string) bool {
	s = strings.TrimPrefix(s, "-")
	whole := digits(s)
	if whole == 0 || whole > 1 && s[0] == '0' {
		return false
	}
	if s = s[whole:]; s != "" && s[0] == '.' {
		n := digits(s[1:])
		if n == 0 {
			return false
		}
		s = s[1+n:]
	}
	if s == "" || s[0] != 'e' && s[0] != 'E' {
		return s == ""
	}
	if s = s[1:]; s != "" && (s[0] == '+' || s[0] == '-') {
		s = s[1:]
	}
	return s != "" && digits(s) == len(s)
}

// digits returns how many digits a text begins with.
func digits(s string) int {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return i
		}
	}
	return len(s)
}

func (c *Column) appendNumber(n json.Number) {
	switch c.Kind {
	case Int:
		if i, err := strconv.ParseInt(string(n), 10, 64); err == nil {
			c.AppendInt(i)
			return
		}
		if f, err := n.Float64(); err == nil && f == math.Trunc(f) && math.Abs(f) < 1<<53 {
			c.AppendInt(int64(f))
			return
		}
	case Float:
		if f, err := n.Float64(); err == nil {
			c.AppendFloat(f)
		} else {
			c.AppendBad(shortNumber(n) + " is beyond the numbers of 64 bits")
		}
		return
	case Text, Decimal:
		if c.Kind == Text || isNumber(string(n)) { // what computes makes infinities, too
			c.AppendText(string(n))
			return
		}
	}
	c.AppendBad(fmt.Sprintf("expected %s, found %s", kindPhrase(c.Kind), shortNumber(n)))
}

// shortNumber writes a number for a message: its digits can be as many as an
// answer may hold.
func shortNumber(n json.Number) string {
	if len(n) > 40 {
		return string(n[:40]) + "…"
	}
	return string(n)
}

// kindPhrase names a kind in a sentence for callers.
func kindPhrase(k Kind) string {
	switch k {
	case Bool:
		return "true or false"
	case Int:
		return "a whole number"
	case Float, Decimal:
		return "a number"
	case Time:
		return "a moment"
	case Date:
		return "a day"
	case Clock:
		return "a time of day"
	case UUID:
		return "a UUID"
	}
	return "text"
}

func jsonWord(v any) string {
	switch v.(type) {
	case map[string]any:
		return "an object"
	case []any:
		return "a list"
	case string:
		return "text"
	case bool:
		return "true or false"
	case nil:
		return "null"
	case json.Number:
		return "a number"
	}
	if decoded, ok := plain(v); ok {
		return jsonWord(decoded)
	}
	return "a value that cannot be written as JSON"
}

// A JSONSubject is a value of decoded JSON, or of Go as [Column.AppendJSON] takes
// it, to which predicates can be put.
type JSONSubject struct{ Value any }

// Append adds the value at the path of what is wanted.
func (s JSONSubject) Append(c *Column, w *Wanted) { c.AppendJSON(w, JSONPath(s.Value, w.Path)) }

// Nested returns the objects of a list at a path.
func (s JSONSubject) Nested(path string) []Subject {
	_, items, _ := listOf(JSONPath(s.Value, path))
	var list []Subject
	for _, item := range items {
		if object, ok := objectOf(item); ok {
			list = append(list, JSONSubject{object})
		}
	}
	return list
}
