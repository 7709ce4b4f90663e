package document

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// value writes a value of a column as tests expect it, or why there is none.
func value(c *store.Column, row int) string {
	if c.Null[row] {
		return "null" + strings.TrimSuffix(": "+c.Bad[row], ": ")
	}
	if c.Kind == store.List {
		var items []string
		start, end := c.Items(row)
		for i := start; i < end; i++ {
			items = append(items, value(c.Elem, i))
		}
		return fmt.Sprint(items)
	}
	if c.Kind == store.Float {
		return fmt.Sprint(c.Floats[row])
	}
	return string(c.Text(row))
}

// TestEdges reads every BSON type at its edges as every kind that could hold it: the
// value, or why there is none.
func TestEdges(t *testing.T) {
	decimal := func(text string) bson.Decimal128 {
		d, err := bson.ParseDecimal128(text)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	uuid := []byte{0x01, 0x96, 0xf2, 0xa1, 0x7c, 0x3e, 0x7b, 0x7e, 0x9d, 0x0c, 0x5a, 0x8b, 0x1c, 0x2d, 0x3e, 0x4f}
	const text = "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"
	for _, test := range []struct {
		value any
		kind  store.Kind
		want  string
	}{
		{int32(math.MinInt32), store.Int, "-2147483648"}, {int64(math.MaxInt64), store.Int, "9223372036854775807"}, {int64(math.MinInt64), store.Text, "-9223372036854775808"}, {int64(math.MaxInt64), store.JSON, "9223372036854775807"},
		{1e308, store.Float, "1e+308"}, {1e308, store.Int, "null: the stored value is a number, which is not int"}, {5e-324, store.Float, "5e-324"}, {1e15, store.Int, "1000000000000000"}, {math.Copysign(0, -1), store.Int, "0"}, {2.5, store.Int, "null: the stored value is a number, which is not int"},
		{math.NaN(), store.Float, "NaN"}, {math.NaN(), store.Int, "null: the stored value is a number, which is not int"}, {math.Inf(1), store.Decimal, "null: the stored value is a number, which is not decimal"}, {math.Inf(-1), store.Text, "-Inf"},
		{math.NaN(), store.JSON, `null: the stored number {"$numberDouble":"NaN"} cannot be written as JSON`}, {bson.A{math.Inf(1)}, store.JSON, `null: the stored number {"$numberDouble":"Infinity"} cannot be written as JSON`},
		{decimal("12.50"), store.Decimal, "12.50"}, {decimal("12.50"), store.Float, "12.5"}, {decimal("12.00"), store.Int, "12"}, {decimal("1E+3"), store.Int, "1000"}, {decimal("12.5"), store.Int, "null: the stored value is a number, which is not int"},
		{decimal("NaN"), store.Decimal, "NaN"}, {decimal("Infinity"), store.Int, "null: the stored value is a number, which is not int"}, {decimal("9.999999999999999999999999999999999E+6144"), store.Decimal, "9.999999999999999999999999999999999E+6144"}, {decimal("1.10"), store.JSON, "1.10"},
		{"", store.Text, ""}, {"", store.Int, "null: the stored value is text, which is not int"}, {" 1", store.Int, "null: the stored value is text, which is not int"}, {"1e3", store.Float, "1000"}, {bson.Symbol("sym"), store.Text, "sym"},
		{true, store.Bool, "true"}, {false, store.Text, "false"}, {true, store.Int, "null: the stored value is true or false, which is not int"},
		{time.Date(2026, 3, 1, 23, 59, 59, 999e6, time.UTC), store.Time, "2026-03-01T23:59:59.999Z"}, {time.Date(2026, 3, 1, 23, 59, 59, 999e6, time.UTC), store.Date, "2026-03-01"},
		{bson.DateTime(math.MaxInt64), store.Time, "null: the stored moment is beyond the years that can be written"}, {bson.DateTime(math.MinInt64), store.Text, "null: the stored moment is beyond the years that can be written"}, {bson.DateTime(253402300799999), store.Time, "9999-12-31T23:59:59.999Z"},
		{bson.Timestamp{T: 1772323200, I: 7}, store.Time, "2026-03-01T00:00:00Z"},
		{bson.Binary{Subtype: 4, Data: uuid}, store.UUID, text}, {bson.Binary{Subtype: 4, Data: uuid}, store.Text, text}, {bson.Binary{Subtype: 4, Data: uuid}, store.JSON, `"` + text + `"`}, {bson.Binary{Subtype: 3, Data: uuid}, store.Text, "AZbyoXw+e36dDFqLHC0+Tw=="},
		{bson.Binary{Data: []byte{0, 255}}, store.Binary, "\x00\xff"}, {bson.Binary{Data: []byte{0, 255}}, store.Text, "AP8="}, {bson.Binary{Data: []byte{0, 255}}, store.UUID, "null: the stored value is binary, which is not uuid"}, {bson.Binary{}, store.Text, ""},
		{bson.MinKey{}, store.Text, "null: the stored value is a value of the type min key, which is not text"}, {bson.MaxKey{}, store.JSON, "null: the stored value is a value of the type max key, which cannot be written as JSON"}, {bson.Regex{Pattern: "a"}, store.Text, "null: the stored value is a value of the type regex, which is not text"},
		{bson.A{}, store.JSON, "[]"}, {bson.A{bson.A{int32(1)}, nil}, store.JSON, "[[1],null]"}, {bson.D{}, store.JSON, "{}"}, {bson.A{}, store.Text, "null: the stored value is a list, which is not text"}, {nil, store.Text, "null"}, {bson.Undefined{}, store.JSON, "null"},
	} {
		doc, err := bson.Marshal(bson.D{{Key: "v", Value: test.value}})
		if err != nil {
			t.Fatal(err)
		}
		table := store.NewTable([]store.Wanted{{Path: "v", Kind: test.kind}})
		uuids("").appendDocument(table, []store.Wanted{{Path: "v", Kind: test.kind}}, doc)
		if got := value(&table.Columns[0], 0); got != test.want {
			t.Errorf("%v as %s is %s, want %s", test.value, test.kind, got, test.want)
		}
	}
}
