package document

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// appendDocument adds a document as a row.
func appendDocument(t *store.Table, wanted []store.Wanted, doc bson.Raw) {
	t.Len++
	for i := range wanted {
		appendValue(&t.Columns[i], &wanted[i], at(doc, wanted[i].Path))
	}
}

// at follows a path with dots; the zero value stands for what is missing.
func at(doc bson.Raw, path string) bson.RawValue {
	for {
		name, rest, more := strings.Cut(path, ".")
		v := doc.Lookup(name)
		if !more || v.Type != bson.TypeEmbeddedDocument {
			if more {
				return bson.RawValue{}
			}
			return v
		}
		doc, path = v.Document(), rest
	}
}

// appendValue adds a value as w wants it; what does not fit is bad at this row
// only.
func appendValue(c *store.Column, w *store.Wanted, v bson.RawValue) {
	switch v.Type {
	case 0, bson.TypeNull, bson.TypeUndefined:
		c.AppendNull()
		return
	}
	switch w.Kind {
	case store.Record:
		appendRecord(c, w, v)
	case store.List:
		if v.Type != bson.TypeArray {
			c.AppendBad("expected a list, found " + typeOf(v))
			return
		}
		items, _ := v.Array().Values()
		for _, item := range items {
			appendValue(c.Elem, w.Elem, item)
		}
		c.EndList()
	default:
		appendLeaf(c, v)
	}
}

// appendRecord adds a nested document.
func appendRecord(c *store.Column, w *store.Wanted, v bson.RawValue) {
	if v.Type != bson.TypeEmbeddedDocument {
		c.AppendBad("expected a nested record, found " + typeOf(v))
		return
	}
	c.AppendRecord()
	doc := v.Document()
	for i := range w.Fields {
		appendValue(&c.Rows.Columns[i], &w.Fields[i], at(doc, w.Fields[i].Path))
	}
}

// typeOf names the type of a value in a sentence for callers.
func typeOf(v bson.RawValue) string {
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		return "a nested record"
	case bson.TypeArray:
		return "a list"
	}
	return v.Type.String()
}

// appendLeaf adds a single value, converted to the column's kind.
func appendLeaf(c *store.Column, v bson.RawValue) {
	if c.Kind == store.JSON {
		appendJSON(c, v)
		return
	}
	switch v.Type {
	case bson.TypeString:
		if appendText(c, v.StringValue()) {
			return
		}
	case bson.TypeObjectID:
		if c.Kind == store.Text {
			c.AppendText(v.ObjectID().Hex())
			return
		}
	case bson.TypeInt32:
		if appendInt(c, int64(v.Int32())) {
			return
		}
	case bson.TypeInt64:
		if appendInt(c, v.Int64()) {
			return
		}
	case bson.TypeDouble:
		if appendFloat(c, v.Double()) {
			return
		}
	case bson.TypeDecimal128:
		if text := v.Decimal128().String(); appendText(c, text) {
			return
		}
	case bson.TypeBoolean:
		switch c.Kind {
		case store.Bool:
			n := int64(0)
			if v.Boolean() {
				n = 1
			}
			c.AppendInt(n)
			return
		case store.Text:
			c.AppendText(strconv.FormatBool(v.Boolean()))
			return
		}
	case bson.TypeDateTime:
		if appendMoment(c, v.DateTime()) {
			return
		}
	case bson.TypeBinary:
		if c.Kind == store.Binary {
			_, data := v.Binary()
			c.AppendBytes(data)
			return
		}
	}
	c.AppendBad(fmt.Sprintf("the stored value is of the type %s, which is not %s", v.Type, c.Kind))
}

func appendText(c *store.Column, s string) bool {
	switch c.Kind {
	case store.Text, store.UUID, store.Decimal, store.Binary:
		c.AppendText(s)
		return true
	case store.Float:
		f, err := strconv.ParseFloat(s, 64)
		if err == nil {
			c.AppendFloat(f)
		}
		return err == nil
	case store.Int, store.Time, store.Date, store.Clock, store.Bool:
		n, ok := store.ParseMoment(c.Kind, s)
		if ok {
			c.AppendInt(n)
		}
		return ok
	}
	return false
}

func appendInt(c *store.Column, n int64) bool {
	switch c.Kind {
	case store.Int:
		c.AppendInt(n)
	case store.Float:
		c.AppendFloat(float64(n))
	case store.Text, store.Decimal:
		c.AppendText(strconv.FormatInt(n, 10))
	default:
		return false
	}
	return true
}

func appendFloat(c *store.Column, f float64) bool {
	switch c.Kind {
	case store.Float:
		c.AppendFloat(f)
	case store.Int:
		if f != math.Trunc(f) || math.Abs(f) >= 1<<53 {
			return false
		}
		c.AppendInt(int64(f))
	case store.Text, store.Decimal:
		c.AppendText(strconv.FormatFloat(f, 'g', -1, 64))
	default:
		return false
	}
	return true
}

func appendMoment(c *store.Column, millis int64) bool {
	switch c.Kind {
	case store.Time:
		c.AppendInt(millis * 1000)
	case store.Date:
		c.AppendInt(store.DateOf(time.UnixMilli(millis)))
	case store.Text:
		c.AppendText(store.FormatTime(millis * 1000))
	default:
		return false
	}
	return true
}

// appendJSON adds any value as plain JSON: object ids and moments as text.
func appendJSON(c *store.Column, v bson.RawValue) {
	text, err := json.Marshal(plain(v))
	if err != nil {
		c.AppendBad("the stored value cannot be written as JSON")
		return
	}
	c.AppendBytes(text)
}

func plain(v bson.RawValue) any {
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		object := map[string]any{}
		elements, _ := v.Document().Elements()
		for _, e := range elements {
			object[e.Key()] = plain(e.Value())
		}
		return object
	case bson.TypeArray:
		items, _ := v.Array().Values()
		list := make([]any, len(items))
		for i, item := range items {
			list[i] = plain(item)
		}
		return list
	case bson.TypeString:
		return v.StringValue()
	case bson.TypeObjectID:
		return v.ObjectID().Hex()
	case bson.TypeInt32:
		return v.Int32()
	case bson.TypeInt64:
		return v.Int64()
	case bson.TypeDouble:
		return v.Double()
	case bson.TypeBoolean:
		return v.Boolean()
	case bson.TypeDateTime:
		return store.FormatTime(v.DateTime() * 1000)
	case bson.TypeDecimal128:
		return v.Decimal128().String()
	}
	return nil
}
