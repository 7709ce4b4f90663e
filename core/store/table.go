package store

import "fmt"

// A Table is the answer to one read: its columns in the order the read names
// them.
type Table struct {
	Len     int // number of rows
	Columns []Column
	// Order has the rows in the order that was asked for. A row can be in it
	// several times, where rows above share it. If it is empty, the rows are in
	// their order, each once.
	Order []int32
	// Parent holds, for nested records and for a folded read of any number of
	// rows, the row of the table above that each row of that order belongs to;
	// for nested records in ascending order. It is nil for other reads.
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
// And of nested records, where the first row has two and the third one:
//
//	[{code}{code}]  –  [{code}]    Null  f t f    Rows.Len 3    Rows.Parent  0 0 2
type Column struct {
	Kind   Kind
	Null   []bool    // one for each row
	Gaps   bool      // some row has no value
	Ints   []int64   // see the kinds
	Floats []float64 // of Float
	Bytes  []byte    // the values of all rows behind each other
	Ends   []uint32  // where each row's part of Bytes or Elem ends
	Elem   *Column   // of List: the items of all rows
	Rows   *Table    // of Record and Records
	Bad    map[int]string
}

// shape prepares an empty column for what is wanted.
func (c *Column) shape(w *Wanted) {
	*c = Column{Kind: w.Kind}
	switch w.Kind {
	case List:
		c.Elem = &Column{}
		c.Elem.shape(w.Elem)
	case Record, Records:
		c.Rows = NewTable(w.Fields)
		c.Rows.Parent = []int32{}
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

// BeginRecord starts a nested record of the row that is under way; its values
// are then added to the columns of Rows. EndRecords ends the row.
func (c *Column) BeginRecord() {
	c.Rows.Parent = append(c.Rows.Parent, int32(len(c.Null)))
	c.Rows.Len++
}

// EndRecords ends a row of nested records.
func (c *Column) EndRecords() { c.Null = append(c.Null, false) }

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
func (c *Column) Items(row int) (start, end int) {
	if row > 0 {
		start = int(c.Ends[row-1])
	}
	return start, int(c.Ends[row])
}

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
