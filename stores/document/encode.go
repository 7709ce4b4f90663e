package document

import (
	"bytes"
	"encoding/json"
	"math"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// This file writes values as a collection has them: where the sample tells the type of a
// field, in that, and otherwise in that of its kind.

// typeOf returns the names of the types that a field has; "" if nothing tells.
func (r *write) typeOf(path string) string {
	if f := r.set.Field(path); f != nil {
		return strings.TrimPrefix(f.Type, "array of ")
	}
	return ""
}

// value returns a value of a column as it is stored. One that cannot be stored as it is, is
// an error.
func (r *write) value(path string, c *store.Column, row int) (any, error) {
	if c.Null[row] {
		return nil, nil
	}
	switch c.Kind {
	case store.List:
		list := bson.A{}
		for i, end := c.Items(row); i < end; i++ {
			v, err := r.value(path, c.Elem, i)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		return list, nil
	case store.Record:
		doc := bson.D{}
		for i, name := range c.Rows.Names {
			inner := &c.Rows.Columns[i]
			if inner.Null[row] {
				continue
			}
			v, err := r.value(path+"."+name, inner, row)
			if err != nil {
				return nil, err
			}
			doc = putAt(doc, name, v)
		}
		return doc, nil
	}
	v, rule := r.leaf(r.typeOf(path), c, row)
	if v == nil {
		return nil, r.breaks(&store.Broken{Rule: rule, Set: r.Set, Fields: []string{path}, Most: milliseconds}, nil)
	}
	return v, nil
}

// putAt puts a value at a path of names with dots into a document.
func putAt(doc bson.D, path string, v any) bson.D {
	name, rest, more := strings.Cut(path, ".")
	if !more {
		return append(doc, bson.E{Key: name, Value: v})
	}
	for i := range doc {
		if inner, ok := doc[i].Value.(bson.D); ok && doc[i].Key == name {
			doc[i].Value = putAt(inner, rest, v)
			return doc
		}
	}
	return append(doc, bson.E{Key: name, Value: putAt(nil, rest, v)})
}

// leaf returns a single value in the type that a field has, or nil and the rule that it
// would break.
func (r *write) leaf(typ string, c *store.Column, row int) (any, store.Rule) {
	only := func(t bson.Type) bool { return typ == t.String() }
	switch c.Kind {
	case store.Bool:
		return c.Ints[row] != 0, 0
	case store.Int:
		return whole(typ, c.Ints[row])
	case store.Float:
		return c.Floats[row], 0
	case store.Decimal:
		text := string(c.At(row))
		if only(bson.TypeString) {
			return text, 0
		}
		d, err := bson.ParseDecimal128(text)
		if n, inexact := strconv.ParseFloat(text, 64); inexact == nil && only(bson.TypeDouble) {
			return n, 0
		}
		if err != nil {
			return nil, store.OutOfRange
		}
		return d, 0
	case store.Time:
		switch {
		case only(bson.TypeString):
			return store.FormatTime(c.Ints[row]), 0
		case c.Ints[row]%1000 != 0:
			return nil, store.TooFine
		}
		return bson.DateTime(c.Ints[row] / 1000), 0
	case store.Date:
		if only(bson.TypeString) {
			return store.FormatDate(c.Ints[row]), 0
		}
		return bson.DateTime(c.Ints[row] * 24 * 3600 * 1000), 0
	case store.Binary:
		return bson.Binary{Data: bytes.Clone(c.At(row))}, 0
	case store.JSON:
		v, err := bsonOf(c.At(row))
		if err != nil {
			return nil, store.OutOfRange
		}
		return v, 0
	}
	return r.text(typ, c, row)
}

// whole returns a whole number as a field has them.
func whole(typ string, n int64) (any, store.Rule) {
	switch {
	case typ == bson.TypeString.String():
		return strconv.FormatInt(n, 10), 0
	case typ == bson.TypeDouble.String():
		if int64(float64(n)) != n {
			return nil, store.OutOfRange
		}
		return float64(n), 0
	case strings.Contains(typ, bson.TypeInt64.String()) || n > math.MaxInt32 || n < math.MinInt32:
		return n, 0
	}
	return int32(n), 0
}

// text returns a text as a field has it: an object id, a UUID, a number, or itself.
func (r *write) text(typ string, c *store.Column, row int) (any, store.Rule) {
	text := string(c.Text(row))
	given, id := store.Column{Kind: store.UUID}, store.Column{Kind: store.Binary}
	if (c.Kind == store.UUID && typ != bson.TypeString.String() || typ == uuidType) && given.AppendAs(c, row) && id.AppendAs(&given, 0) {
		kinds := r.source.asked(id.At(0))
		return kinds[len(kinds)-1], 0
	}
	if strings.Contains(typ, bson.TypeObjectID.String()) {
		if id, err := bson.ObjectIDFromHex(text); err == nil {
			return id, 0
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	switch {
	case typ == "" || strings.Contains(typ, bson.TypeString.String()) || typ == "null":
		return text, 0
	case err == nil && (typ == bson.TypeInt32.String() || typ == bson.TypeInt64.String()):
		return whole(typ, n)
	case typ == bson.TypeObjectID.String() || typ == uuidType || typ == bson.TypeInt32.String() || typ == bson.TypeInt64.String():
		return nil, store.OutOfRange
	}
	return text, 0
}

// bsonOf returns JSON as BSON, its names in their order. A number that a double cannot hold
// is an exact one.
func bsonOf(text []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return nextValue(d)
}

func nextValue(d *json.Decoder) (any, error) {
	token, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch token := token.(type) {
	case json.Delim:
		if token == '{' {
			doc := bson.D{}
			for d.More() {
				name, err := d.Token()
				if err != nil {
					return nil, err
				}
				v, err := nextValue(d)
				if err != nil {
					return nil, err
				}
				doc = append(doc, bson.E{Key: name.(string), Value: v})
			}
			_, err := d.Token()
			return doc, err
		}
		list := bson.A{}
		for d.More() {
			v, err := nextValue(d)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err := d.Token()
		return list, err
	case json.Number:
		if n, err := token.Int64(); err == nil {
			v, _ := whole("", n)
			return v, nil
		}
		n, err := token.Float64()
		if text := strconv.FormatFloat(n, 'g', -1, 64); err == nil && sameNumber(text, string(token)) {
			return n, nil
		}
		return bson.ParseDecimal128(string(token))
	}
	return token, nil
}

// sameNumber reports whether two texts are the same number.
func sameNumber(a, b string) bool {
	x, y := store.Column{Kind: store.Decimal}, store.Column{Kind: store.Decimal}
	one, other := store.Column{Kind: store.Text}, store.Column{Kind: store.Text}
	one.AppendText(a)
	other.AppendText(b)
	if !x.AppendAs(&one, 0) || !y.AppendAs(&other, 0) {
		return false
	}
	first, _ := store.AppendKey(nil, &x, 0)
	second, _ := store.AppendKey(nil, &y, 0)
	return bytes.Equal(first, second)
}
