package store

import "fmt"

// A Table is the answer to one read: its columns in the order the read names
// them.
type Table struct {
	Len     int // number of rows
	Columns []Column
	// Names are the fields of the columns, of nested records that are written.
	Names []string
	// Order has the rows in the order that was asked for. A row can be in it
	// several times, where rows above share it. If it is empty, the rows are in
	// their order, each once.
	Order []int32
	// Parent holds, for a folded read of any number of rows, the row of the table
	// above that each row of that order belongs to. It is nil for other reads.
	Parent []int32
	// Child holds, for a folded read of at most one row for each row above
	// ([Read.Single]), that row for each row of the table above, or -1. Rows
	// above can share one.
	Child []int32
	// Failed holds, for an answer of calls, why some rows have no value; nil if
	// all do. Errors are as those of requests.
	Failed map[int]error
}

// NewTable returns an empty table for the wanted columns.
func NewTable(wanted []Wanted) *Table {
	t := &Table{Columns: make([]Column, len(wanted))}
	for i := range wanted {
		t.Columns[i].shape(&wanted[i])
	}
	return t
}

// size returns how many bytes the values take.
func (t *Table) size() int64 {
	if t == nil {
		return 0
	}
	n := int64(0)
	for i := range t.Columns {
		n += t.Columns[i].size()
	}
	return n
}

func (c *Column) size() int64 {
	if c == nil {
		return 0
	}
	return int64(8*len(c.Ints)+8*len(c.Floats)+len(c.Bytes)) + c.Elem.size() + c.Rows.size()
}

// At returns the row at a place in the order that was asked for.
func (t *Table) At(place int) int {
	if len(t.Order) > 0 {
		return int(t.Order[place])
	}
	return place
}

// Reset makes the table empty and keeps its memory for the next rows.
func (t *Table) Reset() {
	t.Len, t.Order, t.Parent, t.Child, t.Failed = 0, t.Order[:0], t.Parent[:0], t.Child[:0], nil
	for i := range t.Columns {
		t.Columns[i].Reset()
	}
}

// Reset makes the column empty and keeps its memory for the next values.
func (c *Column) Reset() {
	c.Null, c.Ints, c.Floats, c.Bytes, c.Ends = c.Null[:0], c.Ints[:0], c.Floats[:0], c.Bytes[:0], c.Ends[:0]
	c.Gaps, c.Bad = false, nil
	if c.Elem != nil {
		c.Elem.Reset()
	}
	if c.Rows != nil {
		c.Rows.Reset()
	}
}

// A Column holds one value for each row of a table. It is filled from front to
// back by the Append methods. Three rows of texts, and three of lists of numbers:
//
//	"LOAD"  –  "REPAIR"     Null  f t f    Bytes  LOADREPAIR    Ends  4 4 10
//	[1 2]   –  []           Null  f t f    Ends   2 2 2         Elem.Ints  1 2
//
// Nested records are a table that has a row for each value, also where there is
// none. Of lists of them, where the first row has two and a null, and the third one:
//
//	[{code}{code}–]  –  [{code}]   Null  f t f    Ends   3 3 4
//	                               Elem.Null  f f t f    Elem.Rows.Len  4
type Column struct {
	Kind   Kind
	Null   []bool    // one for each row
	Gaps   bool      // some row has no value
	Ints   []int64   // see the kinds
	Floats []float64 // of Float
	Bytes  []byte    // the values of all rows behind each other
	Ends   []uint32  // where each row's part of Bytes or Elem ends
	Elem   *Column   // of List: the items of all rows
	Rows   *Table    // of Record: its rows are those of the column
	Bad    map[int]string
}

// shape prepares an empty column for what is wanted.
func (c *Column) shape(w *Wanted) {
	*c = Column{Kind: w.Kind}
	switch w.Kind {
	case List:
		c.Elem = &Column{}
		c.Elem.shape(w.Elem)
	case Record:
		c.Rows = NewTable(w.Fields)
	}
}

// Len returns the number of values.
func (c *Column) Len() int { return len(c.Null) }

// AppendNull adds a row without a value.
func (c *Column) AppendNull() {
	c.Null, c.Gaps = append(c.Null, true), true
	c.pad()
}

// pad keeps the other slices in step with a row that has no value.
func (c *Column) pad() {
	switch {
	case c.Kind.inInts():
		c.Ints = append(c.Ints, 0)
	case c.Kind == Float:
		c.Floats = append(c.Floats, 0)
	case c.Kind.inBytes():
		c.Ends = append(c.Ends, uint32(len(c.Bytes)))
	case c.Kind == List:
		c.Ends = append(c.Ends, uint32(c.Elem.Len()))
	case c.Kind == Record:
		c.Rows.Len++
		for i := range c.Rows.Columns {
			c.Rows.Columns[i].AppendNull()
		}
	}
}

// AppendBad adds a row whose value does not fit the kind; why says so to the
// caller of the operation.
func (c *Column) AppendBad(why string) {
	if c.Bad == nil {
		c.Bad = map[int]string{}
	}
	c.Bad[len(c.Null)] = why
	c.AppendNull()
}

// AppendInt adds a value to a column of Bool, Int, Time, Date or Clock.
func (c *Column) AppendInt(v int64) {
	c.Null = append(c.Null, false)
	c.Ints = append(c.Ints, v)
}

// AppendFloat adds a value to a column of Float.
func (c *Column) AppendFloat(v float64) {
	c.Null = append(c.Null, false)
	c.Floats = append(c.Floats, v)
}

// AppendBytes adds a copy of a value to a column whose values are bytes.
func (c *Column) AppendBytes(v []byte) {
	c.Null = append(c.Null, false)
	c.Bytes = append(c.Bytes, v...)
	c.Ends = append(c.Ends, uint32(len(c.Bytes)))
}

// AppendText is [Column.AppendBytes] for a string.
func (c *Column) AppendText(v string) {
	c.Null = append(c.Null, false)
	c.Bytes = append(c.Bytes, v...)
	c.Ends = append(c.Ends, uint32(len(c.Bytes)))
}

// EndList ends a row of a List column, whose items were added to Elem.
func (c *Column) EndList() {
	c.Null = append(c.Null, false)
	c.Ends = append(c.Ends, uint32(c.Elem.Len()))
}

// AppendRecord adds a row with a nested record, whose values are then added to
// the columns of Rows.
func (c *Column) AppendRecord() {
	c.Null = append(c.Null, false)
	c.Rows.Len++
}

// Innermost returns the column itself, or of lists, of lists of them too, that of
// the items.
func (c *Column) Innermost() *Column {
	for c.Kind == List {
		c = c.Elem
	}
	return c
}

// Range returns which values of [Column.Innermost] are in a row: the row itself
// if the column is no List.
func (c *Column) Range(row int) (start, end int) {
	start, end = row, row+1
	for ; c.Kind == List; c = c.Elem {
		start, end = c.begin(start), c.begin(end)
	}
	return start, end
}

// begin returns where in Elem a row of a List column begins.
func (c *Column) begin(row int) int {
	if row == 0 {
		return 0
	}
	return int(c.Ends[row-1])
}

// At returns row's bytes in a column whose values are bytes.
func (c *Column) At(row int) []byte {
	start := uint32(0)
	if row > 0 {
		start = c.Ends[row-1]
	}
	return c.Bytes[start:c.Ends[row]]
}

// Text returns the value of a row as text, whatever the column's kind is; it
// must not be null.
func (c *Column) Text(row int) []byte {
	if c.Kind.inBytes() {
		return c.At(row)
	}
	text := Column{Kind: Text}
	if !text.AppendAs(c, row) {
		return nil
	}
	return text.At(0)
}

// Items returns the range in Elem of a row of a List column.
func (c *Column) Items(row int) (start, end int) { return c.begin(row), c.begin(row + 1) }

// AppendFrom adds the value of a row of another column of the same kind.
func (c *Column) AppendFrom(from *Column, row int) {
	switch {
	case from.Null[row]:
		if why, bad := from.Bad[row]; bad {
			c.AppendBad(why)
			return
		}
		c.AppendNull()
	case c.Kind.inInts():
		c.AppendInt(from.Ints[row])
	case c.Kind == Float:
		c.AppendFloat(from.Floats[row])
	case c.Kind.inBytes():
		c.AppendBytes(from.At(row))
	default:
		panic(fmt.Sprintf("store: a column of %s cannot be copied by row", c.Kind))
	}
}
