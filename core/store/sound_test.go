package store

import "testing"

// TestCheck holds that an answer of another shape than its reads is told, whatever of it
// is wrong, and that a right one is not.
func TestCheck(t *testing.T) {
	wanted := []Wanted{{Path: "id", Kind: Int}, {Path: "name", Kind: Text}, {Path: "tags", Kind: List, Elem: &Wanted{Kind: Text}}, {Path: "at", Kind: Record, Fields: []Wanted{{Path: "x", Kind: Float}}}}
	reads := []*Read{{Set: "craft", Columns: wanted, Parent: -1}, {Set: "calls", Columns: wanted[:1], Parent: 0, Single: true}}
	right := func() *Answer {
		craft, calls := NewTable(wanted), NewTable(wanted[:1])
		for i := range 2 {
			craft.Len++
			craft.Columns[0].AppendInt(int64(i))
			craft.Columns[1].AppendText("tug")
			craft.Columns[2].Elem.AppendText("red")
			craft.Columns[2].EndList()
			craft.Columns[3].AppendNull()
		}
		calls.Len, calls.Child = 1, []int32{0, -1}
		calls.Columns[0].AppendInt(7)
		return &Answer{Tables: []*Table{craft, calls}}
	}
	if err := right().Check(reads); err != nil {
		t.Fatal(err)
	}
	for name, spoil := range map[string]func(a *Answer){
		"no tables":               func(a *Answer) { a.Tables = nil },
		"no table":                func(a *Answer) { a.Tables[1] = nil },
		"a column too few":        func(a *Answer) { a.Tables[0].Columns = a.Tables[0].Columns[:3] },
		"more rows than values":   func(a *Answer) { a.Tables[0].Len = 3 },
		"a number too few":        func(a *Answer) { a.Tables[0].Columns[0].Ints = a.Tables[0].Columns[0].Ints[:1] },
		"another kind":            func(a *Answer) { a.Tables[0].Columns[0].Kind = Text },
		"a text beyond its bytes": func(a *Answer) { a.Tables[0].Columns[1].Bytes = nil },
		"an item too few":         func(a *Answer) { a.Tables[0].Columns[2].Elem.Null = nil },
		"no items":                func(a *Answer) { a.Tables[0].Columns[2].Elem = nil },
		"no records":              func(a *Answer) { a.Tables[0].Columns[3].Rows = nil },
		"a record too many":       func(a *Answer) { a.Tables[0].Columns[3].Rows.Len++ },
		"a record without values": func(a *Answer) { a.Tables[0].Columns[3].Rows.Columns[0].Floats = nil },
		"an order of none":        func(a *Answer) { a.Tables[0].Order = []int32{0, 2} },
		"a child that is none":    func(a *Answer) { a.Tables[1].Child[0] = 1 },
		"a child too few":         func(a *Answer) { a.Tables[1].Child = a.Tables[1].Child[:1] },
		"a parent that is none":   func(a *Answer) { a.Tables[1].Child, a.Tables[1].Parent = nil, []int32{2} },
	} {
		a := right()
		spoil(a)
		if err := a.Check(reads); err == nil {
			t.Errorf("%s: nothing is told", name)
		}
	}
}
