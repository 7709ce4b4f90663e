package execute

import (
	"fmt"
	"math/big"
	"strconv"

	"osprey/core/cursor"
	"osprey/core/plan"
	"osprey/core/store"
)

// This file writes connections and totals.

// A pageNow is a connection while it is written.
type pageNow struct {
	page     *plan.Page
	link     *link
	merged   *mergedRows // or nil; then there is no link
	from, to int32       // the rows of the page
	more     bool        // there are records beyond, in its direction
	parent   int         // the row above
}

// place returns where in the list a position of the page is.
func (p *pageNow) place(i int32) int32 {
	if p.page.Backward {
		return p.to - 1 - i
	}
	return p.from + i
}

// connection writes the connection of a parent row. One record more than the page
// holds was asked for, to know whether there is one.
func (r *run) connection(b []byte, f *plan.Field, t *store.Table, row int) ([]byte, bool) {
	p := &pageNow{parent: row}
	var ok bool
	if f.Merge != nil {
		p.page = f.Merge.Page
		p.merged, p.from, p.to, ok = r.mergedRange(f, t, row)
	} else {
		p.page = f.Step.Page
		p.link, p.from, p.to, ok = r.linked(f, row)
	}
	if !ok {
		return b, false
	}
	p.from, p.to, p.more = r.onPage(p.page, p.from, p.to)
	return r.pageFields(b, f.Object.Cases[0].Fields, p, -1)
}

// onPage returns which of a range of rows are on the page, and whether there are
// more. For first: 2 and for last: 2 of the calls 1 to 5, three were asked for, of
// the second from the end:
//
//	first: 2   rows 1 2 3   on the page 1 2   more, so hasNextPage
//	last: 2    rows 5 4 3   on the page 5 4   more, so hasPreviousPage; place turns
//	                                          them round, and they are written 4 5
func (r *run) onPage(p *plan.Page, from, to int32) (_, _ int32, more bool) {
	if p == nil || p.Bound == nil {
		return from, to, false
	}
	most, err := r.bound(p.Bound)
	if err != nil {
		return from, from, false // told where the rows were asked for
	}
	if most -= p.Bound.More; int64(to-from) > most {
		return from, from + int32(most), true
	}
	return from, to, false
}

// pageFields writes an object of a connection; record is the position of an
// edge on the page.
func (r *run) pageFields(b []byte, fields []*plan.Field, p *pageNow, record int32) ([]byte, bool) {
	if len(fields) == 0 {
		return append(b, "{}"...), true
	}
	for _, f := range fields {
		b = append(b, f.Lead...)
		mark := r.place(b)
		ok := true
		r.enter(f)
		switch f.What {
		case plan.Denied:
			ok = false
			r.fail(f, f, Denied, "", fmt.Sprintf(msgDenied, f.At))
		case plan.Constant:
			b = append(b, f.Text...)
		case plan.Edges:
			b, ok = r.edges(b, f, p)
		case plan.Info:
			b, ok = r.pageFields(b, f.Object.Cases[0].Fields, p, -1)
		case plan.Node:
			b, ok = r.node(b, f, p, p.place(record))
		case plan.Cursor:
			b, ok = r.cursorAt(b, f, p, record)
		case plan.Aggregate:
			r.leave()
			b, ok = r.total(b, f, p.parent)
			r.enter(f)
		case plan.HasNext:
			b = strconv.AppendBool(b, p.beyond(!p.page.Backward))
		case plan.HasPrevious:
			b = strconv.AppendBool(b, p.beyond(p.page.Backward))
		case plan.StartCursor:
			b, ok = r.cursorAt(b, f, p, 0)
		case plan.EndCursor:
			b, ok = r.cursorAt(b, f, p, p.to-p.from-1)
		}
		r.leave()
		if !ok || r.place(b) >= r.look {
			if b, ok = r.settle(b, f, mark, ok); !ok {
				return b, false
			}
		}
	}
	return append(b, '}'), true
}

// beyond reports whether there are records beyond the page, in its direction or
// against it: there, where a cursor says where it goes on.
func (p *pageNow) beyond(ahead bool) bool {
	if ahead {
		return p.more
	}
	return p.page.Behind
}

// node writes the record at a place of the list.
func (r *run) node(b []byte, f *plan.Field, p *pageNow, place int32) ([]byte, bool) {
	if p.merged != nil {
		return r.part(b, f, p.merged, place)
	}
	return r.record(b, f, p.link, p.link.at(place))
}

// cursorAt writes the cursor of a position; null if the page is empty. A record that is
// sorted by a value that cannot be read has none: no page could go on there.
func (r *run) cursorAt(b []byte, f *plan.Field, p *pageNow, i int32) ([]byte, bool) {
	if p.from == p.to {
		return b, false
	}
	place := p.place(i)
	if m := p.merged; m != nil {
		at := m.rows[place]
		step := m.merge.Parts[at.part].Step
		return r.appendCursor(b, f, p.page.List, int(at.part), step.Page.Order, r.link(step).table, int(at.row))
	}
	return r.appendCursor(b, f, p.page.List, -1, p.page.Order, p.link.table, p.link.at(place))
}

// appendCursor writes the cursor of a row of a list in some order.
func (r *run) appendCursor(b []byte, f *plan.Field, list string, part int, order []plan.Order, t *store.Table, row int) ([]byte, bool) {
	var room [8]*store.Column
	columns := room[:0]
	for _, o := range order {
		c := &t.Columns[o.Column]
		if why, bad := c.Bad[row]; bad {
			r.fail(f, nil, BadResult, "", fmt.Sprintf(msgNoCursorOf, f.At, why))
			return b, false
		}
		columns = append(columns, c)
	}
	return cursor.Append(b, list, part, columns, row), true
}

func (r *run) edges(b []byte, f *plan.Field, p *pageNow) ([]byte, bool) {
	return r.items(b, f.Null.Item, int(p.to-p.from), func(b []byte, i int) ([]byte, bool) {
		return r.pageFields(b, f.Object.Cases[0].Fields, p, int32(i))
	})
}

// total writes the total of the records of a parent row.
func (r *run) total(b []byte, f *plan.Field, row int) ([]byte, bool) {
	c, at, ok := r.aggregateValue(f, f, row)
	if !ok {
		return b, false
	}
	return r.leaf(b, f, c, at)
}

// aggregateValue returns the total of the records of a parent row, as a value of a
// column; errors are those of the field told.
func (r *run) aggregateValue(f, told *plan.Field, row int) (c *store.Column, at int, ok bool) {
	c = &store.Column{Kind: store.Int}
	if f.Parts != nil {
		sum := int64(0)
		for _, part := range f.Parts {
			count, at, ok := r.aggregateValue(part, told, row)
			if !ok {
				return c, 0, false
			}
			sum += count.Ints[at]
		}
		c.AppendInt(sum)
		return c, 0, true
	}
	r.enter(told)
	l, from, to, ok := r.linked(f, row)
	r.leave()
	if !ok {
		return c, 0, false
	}
	switch {
	case f.Made && from < to:
		c, at = &l.table.Columns[f.Column], l.at(from)
	case f.Of == store.Count && f.Made:
		c.AppendInt(0) // a group without records is no group
	case f.Of == store.Count:
		c.AppendInt(int64(to - from))
	case f.Made:
		c.AppendNull()
	default:
		c = aggregateOf(f.Of, l, f.Column, from, to)
	}
	return c, at, true
}

// aggregateOf makes a total of the values of rows; those without a value do not
// count. It has no value if there are none.
func aggregateOf(of store.Aggregate, l *link, column int, from, to int32) *store.Column {
	values := &l.table.Columns[column]
	best, n := -1, 0
	sum := new(big.Rat)
	for i := from; i < to; i++ {
		row := l.at(i)
		if values.Null[row] {
			continue
		}
		n++
		switch of {
		case store.Sum, store.Avg:
			sum.Add(sum, numberAt(values, row))
		default:
			if best < 0 {
				best = row
			} else if c := store.Compare(values, row, values, best); c < 0 && of == store.Min || c > 0 && of == store.Max {
				best = row
			}
		}
	}
	out := &store.Column{Kind: values.Kind}
	switch {
	case n == 0:
		out.AppendNull()
	case best >= 0:
		out.AppendFrom(values, best)
	case of == store.Avg:
		out.Kind = store.Float
		mean, _ := sum.Quo(sum, new(big.Rat).SetInt64(int64(n))).Float64()
		out.AppendFloat(mean)
	case values.Kind == store.Int && sum.Num().IsInt64():
		out.AppendInt(sum.Num().Int64())
	case values.Kind == store.Int:
		out.AppendBad(msgTotalBeyond)
	case values.Kind == store.Decimal:
		out.AppendText(decimalText(sum))
	default:
		f, _ := sum.Float64()
		out.AppendFloat(f)
	}
	return out
}

// numberAt returns a number exactly.
func numberAt(c *store.Column, row int) *big.Rat {
	n := new(big.Rat)
	switch c.Kind {
	case store.Int:
		return n.SetInt64(c.Ints[row])
	case store.Float:
		if n.SetFloat64(c.Floats[row]) == nil {
			return new(big.Rat) // no number that can be added
		}
		return n
	}
	if text := string(c.At(row)); len(text) < 1000 {
		if n, ok := n.SetString(text); ok {
			return n
		}
	}
	return new(big.Rat)
}

// decimalText writes an exact number with as many digits as it has.
func decimalText(n *big.Rat) string {
	digits, exact := n.FloatPrec()
	if !exact {
		digits = 20
	}
	return n.FloatString(digits)
}
