package relational

import (
	"fmt"

	"osprey/core/store"
)

// A collector builds tables of rows. Its memory is used again for other runs
// of its request.
type collector struct {
	request   *request
	arguments arguments
	bounds    []int64
	answer    store.Answer
	// mixed says of a branch that its rows did not come in their order. Its
	// table's Order is then by their numbers, also while rows come.
	mixed []bool
}

func newCollector(r *request) *collector {
	c := &collector{request: r, bounds: make([]int64, len(r.layout.reads)), mixed: make([]bool, len(r.branches))}
	c.answer.Requests = 1
	c.answer.Tables = make([]*store.Table, len(r.layout.reads))
	for i, read := range r.layout.reads {
		t := store.NewTable(read.Columns)
		if r.layout.isJoined(i) {
			t.Child = []int32{}
		} else if read.Parent >= 0 {
			t.Parent = []int32{}
		}
		c.answer.Tables[i] = t
	}
	c.answer.Release = func() { r.runs.Put(c) }
	return c
}

// begin forgets the rows of an earlier attempt.
func (c *collector) begin() {
	for _, t := range c.answer.Tables {
		t.Reset()
	}
	clear(c.mixed)
}

// row takes the values of one row, which it does not keep.
func (c *collector) row(values [][]byte) error {
	branch := int64(0)
	if c.request.layout.several() {
		var err error
		if branch, err = readInt(values[0]); err != nil {
			return err
		}
	}
	plan := &c.request.branches[branch]
	own := c.answer.Tables[plan.read]
	if plan.row >= 0 {
		number, err := readInt(values[plan.row])
		if err != nil {
			return err
		}
		c.place(own, &c.mixed[branch], int32(number-1))
	}
	if plan.above >= 0 {
		above, err := readInt(values[plan.above])
		if err != nil {
			return err
		}
		own.Parent = append(own.Parent, int32(above-1)) // a row of the host's branch; see finish
	}
	for i := range plan.reads {
		p := &plan.reads[i]
		t := c.answer.Tables[p.read]
		if p.presence >= 0 {
			above := c.answer.Tables[c.request.layout.reads[p.read].Parent]
			if len(t.Child) == above.Len {
				continue // there is no row above either
			}
			if values[p.presence] == nil {
				t.Child = append(t.Child, -1)
				continue
			}
			t.Child = append(t.Child, int32(t.Len))
		}
		t.Len++
		for j, slot := range p.slots {
			if v := values[slot]; v == nil {
				t.Columns[j].AppendNull()
			} else if err := p.decode[j](&t.Columns[j], v); err != nil {
				read := c.request.layout.reads[p.read]
				return fmt.Errorf("column %s of %s: %w", read.Columns[j].Path, read.Set, err)
			}
		}
	}
	return nil
}

// place notes which place the table's next row has in the order, once one came
// that is not at its own.
func (c *collector) place(t *store.Table, mixed *bool, place int32) {
	next := int32(t.Len)
	if !*mixed {
		if place == next {
			return
		}
		*mixed = true
		for row := range next {
			t.Order = append(t.Order, row)
		}
	}
	for int32(len(t.Order)) <= place {
		t.Order = append(t.Order, -1)
	}
	t.Order[place] = next
}

// finish makes the parents of branches, which are numbers of rows of the host's
// branch, rows of the reads they hang from.
func (c *collector) finish() error {
	for branch, mixed := range c.mixed {
		if t := c.answer.Tables[c.request.branches[branch].read]; mixed && len(t.Order) != t.Len {
			return fmt.Errorf("%d rows have numbers up to %d", t.Len, len(t.Order))
		}
	}
	for _, b := range c.request.layout.branches {
		if b.host == nil {
			continue
		}
		rows := c.answer.Tables[b.read].Parent
		if c.mixed[b.host.number] {
			order := c.answer.Tables[b.host.read].Order
			for i, number := range rows {
				rows[i] = order[number]
			}
		}
		c.lower(rows, c.request.layout.reads[b.read].Parent)
	}
	return nil
}

// lower turns rows of a branch into rows of a read that is joined to it.
func (c *collector) lower(rows []int32, read int) {
	if !c.request.layout.isJoined(read) {
		return
	}
	c.lower(rows, c.request.layout.reads[read].Parent)
	child := c.answer.Tables[read].Child
	for i, row := range rows {
		rows[i] = child[row]
	}
}
