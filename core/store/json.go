package store

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// This file fills columns from decoded JSON: the answers of remote services
// and JSON columns of tables.

// AppendJSON adds a value decoded from JSON (with json.Decoder.UseNumber) as w
// wants it. A value that does not fit is bad at its place only.
func (c *Column) AppendJSON(w *Wanted, v any) {
	if v == nil {
		c.AppendNull()
		return
	}
	switch w.Kind {
	case Record:
		object, ok := v.(map[string]any)
		if !ok {
			c.AppendBad("expected an object, found " + jsonWord(v))
			return
		}
		c.AppendRecord()
		for i := range w.Fields {
			c.Rows.Columns[i].AppendJSON(&w.Fields[i], JSONPath(object, w.Fields[i].Path))
		}
	case List:
		list, ok := v.([]any)
		if !ok {
			if !w.OneOrMany {
				c.AppendBad("expected a list, found " + jsonWord(v))
				return
			}
			list = []any{v}
		}
		for _, item := range list {
			c.Elem.AppendJSON(w.Elem, item)
		}
		c.EndList()
	default:
		c.appendLeaf(v)
	}
}

// JSONPath follows a path of names with dots into decoded JSON. It returns nil
// where the path ends early.
func JSONPath(v any, path string) any {
	for path != "" {
		object, ok := v.(map[string]any)
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
	}
	return "a number"
}

// A JSONSubject is a decoded JSON value to which predicates can be put.
type JSONSubject struct{ Value any }

// Append adds the value at the path of what is wanted.
func (s JSONSubject) Append(c *Column, w *Wanted) { c.AppendJSON(w, JSONPath(s.Value, w.Path)) }

// Nested returns the objects of a list at a path.
func (s JSONSubject) Nested(path string) []Subject {
	items, _ := JSONPath(s.Value, path).([]any)
	var list []Subject
	for _, item := range items {
		if _, ok := item.(map[string]any); ok {
			list = append(list, JSONSubject{item})
		}
	}
	return list
}
