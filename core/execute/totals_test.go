package execute

import (
	"math"
	"strconv"
	"testing"

	"osprey/core/store"
)

// TestTotals makes totals of values here, where the store does not.
func TestTotals(t *testing.T) {
	column := func(kind store.Kind, add func(c *store.Column)) *link {
		c := store.Column{Kind: kind}
		add(&c)
		return &link{table: &store.Table{Len: c.Len(), Columns: []store.Column{c}}}
	}
	ints := column(store.Int, func(c *store.Column) {
		for _, n := range []int64{math.MaxInt64, 3, math.MaxInt64} {
			c.AppendInt(n)
		}
		c.AppendNull()
	})
	decimals := column(store.Decimal, func(c *store.Column) {
		for _, n := range []string{"0.1", "0.2", "-12345678901234567890.05"} {
			c.AppendText(n)
		}
	})
	for _, test := range []struct {
		name     string
		link     *link
		of       store.Aggregate
		from, to int32
		want     string
	}{
		{"none", ints, store.Sum, 0, 0, "null"}, {"only missing", ints, store.Max, 3, 4, "null"},
		{"min", ints, store.Min, 0, 4, "3"}, {"max", ints, store.Max, 0, 4, "9223372036854775807"},
		{"sum", ints, store.Sum, 0, 1, "9223372036854775807"}, {"too large a sum", ints, store.Sum, 0, 4, "bad"},
		{"mean", ints, store.Avg, 1, 4, "4611686018427388000"},
		{"exact sum", decimals, store.Sum, 0, 2, `"0.3"`}, {"least", decimals, store.Min, 0, 3, `"-12345678901234567890.05"`}, {"exact sum of large", decimals, store.Sum, 0, 3, `"-12345678901234567889.75"`},
	} {
		c := aggregateOf(test.of, test.link, 0, test.from, test.to)
		got := "null"
		switch {
		case c.Bad[0] != "":
			got = "bad"
		case c.Null[0]:
		case c.Kind == store.Int:
			got = strconv.FormatInt(c.Ints[0], 10)
		case c.Kind == store.Float:
			got = string(AppendFloat(nil, c.Floats[0]))
		default:
			got = `"` + string(c.At(0)) + `"`
		}
		if got != test.want {
			t.Errorf("%s is %s, want %s", test.name, got, test.want)
		}
	}
}
