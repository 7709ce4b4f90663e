package document

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// appendDocument adds a document as a row.
func (u uuids) appendDocument(t *store.Table, wanted []store.Wanted, doc bson.Raw) {
	t.Len++
	for i := range wanted {
		u.appendValue(&t.Columns[i], &wanted[i], at(doc, wanted[i].Path))
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
func (u uuids) appendValue(c *store.Column, w *store.Wanted, v bson.RawValue) {
	switch v.Type {
	case 0, bson.TypeNull, bson.TypeUndefined:
		c.AppendNull()
		return
	}
	switch w.Kind {
	case store.Record:
		u.appendRecord(c, w, v)
	case store.List:
		items := []bson.RawValue{v}
		if v.Type == bson.TypeArray {
			items, _ = v.Array().Values()
		} else if !w.OneOrMany {
			c.AppendBad("expected a list, found " + typeOf(v))
			return
		}
		for _, item := range items {
			u.appendValue(c.Elem, w.Elem, item)
		}
		c.EndList()
	default:
		u.appendLeaf(c, v)
	}
}

// appendRecord adds a nested document.
func (u uuids) appendRecord(c *store.Column, w *store.Wanted, v bson.RawValue) {
	if v.Type != bson.TypeEmbeddedDocument {
		c.AppendBad("expected a nested record, found " + typeOf(v))
		return
	}
	c.AppendRecord()
	doc := v.Document()
	for i := range w.Fields {
		u.appendValue(&c.Rows.Columns[i], &w.Fields[i], at(doc, w.Fields[i].Path))
	}
}

// typeOf names the type of a value in a sentence for callers.
func typeOf(v bson.RawValue) string {
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		return "a nested record"
	case bson.TypeArray:
		return "a list"
	case bson.TypeString, bson.TypeSymbol:
		return "text"
	case bson.TypeInt32, bson.TypeInt64, bson.TypeDouble, bson.TypeDecimal128:
		return "a number"
	case bson.TypeBoolean:
		return "true or false"
	case bson.TypeDateTime, bson.TypeTimestamp:
		return "a moment"
	case bson.TypeObjectID:
		return "an object id"
	case bson.TypeBinary:
		return "binary"
	}
	return "a value of the type " + v.Type.String()
}

// appendLeaf adds a single value, converted to the column's kind: what the value is
// in one kind of column is added to it as [store.Column.AppendAs] has it.
func (u uuids) appendLeaf(c *store.Column, v bson.RawValue) {
	if c.Kind == store.JSON {
		u.appendJSON(c, v)
		return
	}
	if appendAsIs(c, v) {
		return
	}
	one := store.Column{}
	switch v.Type {
	case bson.TypeString:
		one.Kind = store.Text
		one.AppendText(v.StringValue())
	case bson.TypeSymbol:
		one.Kind = store.Text
		one.AppendText(v.Symbol())
	case bson.TypeObjectID:
		one.Kind = store.Text
		one.AppendText(v.ObjectID().Hex())
	case bson.TypeInt32:
		one.Kind = store.Int
		one.AppendInt(int64(v.Int32()))
	case bson.TypeInt64:
		one.Kind = store.Int
		one.AppendInt(v.Int64())
	case bson.TypeDouble:
		one.Kind = store.Float
		one.AppendFloat(v.Double())
	case bson.TypeDecimal128:
		one.Kind = store.Decimal
		one.AppendText(v.Decimal128().String())
	case bson.TypeBoolean:
		one.Kind = store.Bool
		one.AppendInt(map[bool]int64{true: 1}[v.Boolean()])
	case bson.TypeDateTime, bson.TypeTimestamp:
		micros, ok := momentOf(v)
		if !ok {
			c.AppendBad("the stored moment is beyond the years that can be written")
			return
		}
		one.Kind = store.Time
		one.AppendInt(micros)
		if c.Kind == store.Date {
			c.AppendInt(store.DateOf(time.UnixMicro(micros)))
			return
		}
	case bson.TypeBinary:
		subtype, data := v.Binary()
		one.Kind = store.Binary
		one.AppendBytes(data)
		if id := u.of(subtype, data); id != nil && c.Kind != store.Binary {
			one = store.Column{Kind: store.UUID}
			one.AppendText(store.FormatUUID(id))
		}
	}
	if one.Len() == 0 || !c.AppendAs(&one, 0) {
		c.AppendBad(fmt.Sprintf("the stored value is %s, which is not %s", typeOf(v), c.Kind))
	}
}

// appendAsIs adds a value that is of the column's kind, as most are; false of any other.
func appendAsIs(c *store.Column, v bson.RawValue) bool {
	switch {
	case v.Type == bson.TypeString && c.Kind == store.Text:
		c.AppendText(v.StringValue())
	case v.Type == bson.TypeObjectID && c.Kind == store.Text:
		c.AppendText(v.ObjectID().Hex())
	case v.Type == bson.TypeInt32 && c.Kind == store.Int:
		c.AppendInt(int64(v.Int32()))
	case v.Type == bson.TypeInt64 && c.Kind == store.Int:
		c.AppendInt(v.Int64())
	case v.Type == bson.TypeInt32 && c.Kind == store.Float:
		c.AppendFloat(float64(v.Int32()))
	case v.Type == bson.TypeDouble && c.Kind == store.Float:
		c.AppendFloat(v.Double())
	case v.Type == bson.TypeDateTime && c.Kind == store.Time:
		micros, ok := momentOf(v)
		if !ok {
			return false
		}
		c.AppendInt(micros)
	default:
		return false
	}
	return true
}

// momentOf returns a stored moment in microseconds; false if it is beyond the years
// 0 to 9999, which is all that RFC 3339 can write.
func momentOf(v bson.RawValue) (int64, bool) {
	var millis int64
	if v.Type == bson.TypeTimestamp {
		seconds, _ := v.Timestamp()
		millis = int64(seconds) * 1000
	} else {
		millis = v.DateTime()
	}
	return millis * 1000, millis >= firstMoment && millis <= lastMoment
}

// The first and last moment that RFC 3339 can write, in milliseconds.
var (
	firstMoment = time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
	lastMoment  = time.Date(9999, 12, 31, 23, 59, 59, 999e6, time.UTC).UnixMilli()
)

// appendJSON adds any value as plain JSON: object ids, moments, UUIDs and bytes as
// text.
func (u uuids) appendJSON(c *store.Column, v bson.RawValue) {
	value, err := u.plain(v)
	if err != nil {
		c.AppendBad(err.Error())
		return
	}
	text, err := json.Marshal(value)
	if err != nil {
		c.AppendBad("the stored value cannot be written as JSON")
		return
	}
	c.AppendBytes(text)
}

// plain returns a value as JSON has it; an error if JSON has none such.
func (u uuids) plain(v bson.RawValue) (any, error) {
	switch v.Type {
	case bson.TypeNull, bson.TypeUndefined:
		return nil, nil
	case bson.TypeEmbeddedDocument:
		object := map[string]any{}
		elements, _ := v.Document().Elements()
		for _, e := range elements {
			value, err := u.plain(e.Value())
			if err != nil {
				return nil, err
			}
			object[e.Key()] = value
		}
		return object, nil
	case bson.TypeArray:
		items, _ := v.Array().Values()
		list := make([]any, len(items))
		for i, item := range items {
			var err error
			if list[i], err = u.plain(item); err != nil {
				return nil, err
			}
		}
		return list, nil
	case bson.TypeInt32, bson.TypeInt64, bson.TypeDouble, bson.TypeDecimal128:
		number := store.Column{Kind: store.Decimal}
		if u.appendLeaf(&number, v); !number.Null[0] {
			return json.Number(number.At(0)), nil
		}
		return nil, fmt.Errorf("the stored number %s cannot be written as JSON", v)
	case bson.TypeBoolean:
		return v.Boolean(), nil
	}
	text := store.Column{Kind: store.Text}
	if u.appendLeaf(&text, v); !text.Null[0] {
		return string(text.At(0)), nil
	}
	return nil, fmt.Errorf("the stored value is %s, which cannot be written as JSON", typeOf(v))
}
