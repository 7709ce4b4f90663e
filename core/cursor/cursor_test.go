package cursor_test

import (
	"math"
	"strings"
	"testing"

	"osprey/core/cursor"
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
		want := &cursor.Wanted{List: "things, sorted by a"}
		var columns []*store.Column
		for i := range table.Columns {
			columns = append(columns, &table.Columns[i])
			want.Kinds = append(want.Kinds, table.Columns[i].Kind)
		}
		written := strings.Trim(string(cursor.Append(nil, want.List, -1, columns, 0)), `"`)
		into := make([]store.Column, 4)
		if !cursor.Read(written, want, into) {
			t.Fatalf("the cursor %s cannot be read", written)
		}
		if string(into[0].At(0)) != text || into[1].Ints[0] != n || math.Float64bits(into[2].Floats[0]) != math.Float64bits(fraction) || into[3].Null[0] != missing {
			t.Errorf("the cursor %s is read as %+v", written, into)
		}
		if other := (&cursor.Wanted{List: "things, sorted by b", Kinds: want.Kinds}); cursor.Read(written, other, into) {
			t.Error("a cursor of another list is read")
		}
		for i := range written { // one letter more or less is no cursor
			if changed := written[:i] + written[i+1:]; cursor.Read(changed, want, into) {
				t.Errorf("%s is read, and the cursor is %s", changed, written)
			}
		}
		cursor.Read(claimed, want, into)
		fewer := &cursor.Wanted{List: want.List, Kinds: want.Kinds[:2]}
		if cursor.Read(written, fewer, into[:2]) {
			t.Error("a cursor with more values is read")
		}
		fewer.Some = true
		if !cursor.Read(written, fewer, into[:2]) || string(into[0].At(0)) != text {
			t.Error("the first values of a cursor are not read")
		}
		merged := strings.Trim(string(cursor.Append(nil, want.List, 3, columns, 0)), `"`)
		if cursor.Part(merged) != 3 {
			t.Errorf("the cursor %s of a merged list is of the part %d", merged, cursor.Part(merged))
		}
		if of := (&cursor.Wanted{List: want.List, Kinds: want.Kinds, Merged: true}); !cursor.Read(merged, of, into) || into[1].Ints[0] != n {
			t.Errorf("the cursor %s of a merged list cannot be read", merged)
		}
	})
}
