package execute

import (
	"math"
	"strconv"
	"strings"
	"testing"

	"osprey/core/plan"
	"osprey/core/store"
)

// FuzzCursor writes cursors of records and reads them back, and reads whatever
// else claims to be one.
func FuzzCursor(f *testing.F) {
	f.Add("Aurora", int64(7), 1.5, true, "")
	f.Add("", int64(math.MinInt64), math.Inf(1), false, "AAAAAAAA")
	f.Add("\x00\xff", int64(-1), math.Copysign(0, -1), false, "sxrNpgH2ugE")
	f.Fuzz(func(t *testing.T, text string, n int64, fraction float64, missing bool, claimed string) {
		table := &store.Table{Len: 1, Columns: []store.Column{{Kind: store.Text}, {Kind: store.Time}, {Kind: store.Float}, {Kind: store.Decimal}}}
		table.Columns[0].AppendText(text)
		table.Columns[1].AppendInt(n)
		table.Columns[2].AppendFloat(fraction)
		if missing {
			table.Columns[3].AppendNull()
		} else {
			table.Columns[3].AppendText("12.50")
		}
		page := &plan.Page{List: "things, sorted by a"}
		arg := &plan.Arg{List: page.List}
		for i := range table.Columns {
			page.Order = append(page.Order, plan.Order{Column: i})
			arg.Kinds = append(arg.Kinds, table.Columns[i].Kind)
		}
		cursor := strings.Trim(string(appendCursor(nil, page, -1, table, 0)), `"`)
		into := make([]store.Column, 4)
		if !readCursor(cursor, arg, into) {
			t.Fatalf("the cursor %s cannot be read", cursor)
		}
		if string(into[0].At(0)) != text || into[1].Ints[0] != n || math.Float64bits(into[2].Floats[0]) != math.Float64bits(fraction) || into[3].Null[0] != missing {
			t.Errorf("the cursor %s is read as %+v", cursor, into)
		}
		if other := (&plan.Arg{List: "things, sorted by b", Kinds: arg.Kinds}); readCursor(cursor, other, into) {
			t.Error("a cursor of another list is read")
		}
		for i := range cursor { // one letter more or less is no cursor
			if changed := cursor[:i] + cursor[i+1:]; readCursor(changed, arg, into) {
				t.Errorf("%s is read, and the cursor is %s", changed, cursor)
			}
		}
		readCursor(claimed, arg, into)
		fewer := &plan.Arg{List: page.List, Kinds: arg.Kinds[:2]}
		if readCursor(cursor, fewer, into[:2]) {
			t.Error("a cursor with more values is read")
		}
	})
}

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
		of       store.Total
		from, to int32
		want     string
	}{
		{"none", ints, store.Sum, 0, 0, "null"}, {"only missing", ints, store.Max, 3, 4, "null"},
		{"min", ints, store.Min, 0, 4, "3"}, {"max", ints, store.Max, 0, 4, "9223372036854775807"},
		{"sum", ints, store.Sum, 0, 1, "9223372036854775807"}, {"too large a sum", ints, store.Sum, 0, 4, "bad"},
		{"mean", ints, store.Avg, 1, 4, "4611686018427388000"},
		{"exact sum", decimals, store.Sum, 0, 2, `"0.3"`}, {"least", decimals, store.Min, 0, 3, `"-12345678901234567890.05"`}, {"exact sum of large", decimals, store.Sum, 0, 3, `"-12345678901234567889.75"`},
	} {
		c := totalOf(test.of, test.link, 0, test.from, test.to)
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
