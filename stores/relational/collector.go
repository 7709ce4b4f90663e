package relational

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"

	"osprey/core/store"
)

// A collector builds tables of rows. Its memory is used again for other runs
// of its request.
type collector struct {
	form      *form
	arguments arguments
	bounds    []int64
	branch    int64 // whose rows come, if they do not say it
	asked     int   // statements
	rows      int   // so far
	most      int   // that are taken
	bytes     int64 // of the values so far
	mostBytes int64 // that are taken
	answer    store.Answer
	// mixed says of a branch that its rows did not come in their order. Its
	// table's Order is then by their numbers, also while rows come.
	mixed   []bool
	lookups []lookup
	links   []link
	keyed   []keyed // by branch
	// What follows is room for work.
	index, once            store.Index
	key                    []byte
	scratch, parents, ends []int32
	columns                []int // from 0
	room                   store.Column
}

// A lookup is the keys of a lookup's rows and of the rows that refer to it.
type lookup struct {
	here, there store.Table
	all         []int // all columns
}

func newCollector(f *form) *collector {
	c := &collector{form: f, bounds: make([]int64, len(f.layout.reads)), mixed: make([]bool, len(f.branches)), lookups: make([]lookup, len(f.lookups)), keyed: make([]keyed, len(f.branches))}
	c.answer.Tables = make([]*store.Table, len(f.layout.reads))
	for i, read := range f.layout.reads {
		t := store.NewTable(read.Columns)
		if f.layout.isOne(i) {
			t.Child = []int32{}
		} else if read.Parent >= 0 {
			t.Parent = []int32{}
		}
		c.answer.Tables[i] = t
	}
	for i := range f.branches {
		k := &c.keyed[i]
		if plan := f.branches[i].key; plan != nil {
			k.own.Kind = plan.kind
			for _, o := range plan.order {
				k.order = append(k.order, store.Column{Kind: o.kind})
			}
		}
		if plan := f.branches[i].under; plan != nil {
			k.above.Kind = plan.kind
		}
	}
	for i, l := range f.lookups {
		for _, kind := range l.kinds {
			c.lookups[i].all = append(c.lookups[i].all, len(c.lookups[i].all))
			c.lookups[i].here.Columns = append(c.lookups[i].here.Columns, store.Column{Kind: kind})
			c.lookups[i].there.Columns = append(c.lookups[i].there.Columns, store.Column{Kind: kind})
		}
	}
	for _, l := range f.links {
		own := link{}
		for side, kinds := range l.kinds {
			for i, kind := range kinds {
				own[side].Columns = append(own[side].Columns, store.Column{Kind: kind})
				if i == len(c.columns) {
					c.columns = append(c.columns, i)
				}
			}
		}
		c.links = append(c.links, own)
	}
	c.answer.Release = func() {
		if c.bytes <= keptBytes {
			f.runs.Put(c)
		}
	}
	return c
}

// begin forgets the rows of an earlier attempt.
func (c *collector) begin() {
	c.rows, c.bytes, c.branch, c.asked = 0, 0, 0, 0
	for _, t := range c.answer.Tables {
		t.Reset()
	}
	clear(c.mixed)
	c.once.Reset()
	for i := range c.keyed {
		c.keyed[i].own.Reset()
		c.keyed[i].above.Reset()
		for j := range c.keyed[i].order {
			c.keyed[i].order[j].Reset()
		}
	}
	for i := range c.lookups {
		c.lookups[i].here.Reset()
		c.lookups[i].there.Reset()
	}
	for i := range c.links {
		for side := range c.links[i] {
			c.links[i][side].Reset()
		}
	}
}

// row takes the values of one row, which it does not keep.
func (c *collector) row(values [][]byte) error {
	if c.rows++; c.rows > c.most {
		return errTooMany
	}
	for _, v := range values {
		c.bytes += int64(len(v))
	}
	if c.bytes > c.mostBytes {
		return errTooLarge
	}
	branch := c.branch
	if c.form.layout.several() {
		var err error
		if branch, err = c.form.layout.dialect.union.readInt(values[0]); err != nil {
			return err
		}
	}
	plan := &c.form.branches[branch]
	own := c.answer.Tables[plan.read]
	if len(plan.once) > 0 && c.repeated(branch, plan, values) {
		return nil
	}
	if plan.row >= 0 {
		number, err := c.form.layout.dialect.union.readInt(values[plan.row])
		if err != nil {
			return err
		}
		c.place(own, &c.mixed[branch], int32(number-1))
	}
	switch {
	case plan.under != nil:
		if err := plan.under.decode(&c.keyed[branch].above, values[plan.above]); err != nil {
			return err
		}
	case plan.above >= 0:
		above, err := c.form.layout.dialect.union.readInt(values[plan.above])
		if err != nil {
			return err
		}
		own.Parent = append(own.Parent, int32(above-1)) // a row of the host's branch; see finish
	}
	if plan.key != nil {
		if err := c.keyed[branch].add(plan.key, values); err != nil {
			return err
		}
	}
	if plan.pairs {
		return c.keys(plan.reads[0].keys, values)
	}
	for i := range plan.reads {
		p := &plan.reads[i]
		t := c.answer.Tables[p.read]
		if p.presence >= 0 {
			above := c.answer.Tables[c.form.layout.reads[p.read].Parent]
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
				read := c.form.layout.reads[p.read]
				return fmt.Errorf("column %s of %s: %w", read.Columns[j].Path, read.Set, err)
			}
		}
		if err := c.keys(p.keys, values); err != nil {
			return err
		}
	}
	return nil
}

// repeated reports whether a row came before for the same row above.
func (c *collector) repeated(branch int64, plan *branchPlan, values [][]byte) bool {
	c.key = binary.AppendVarint(c.key[:0], branch)
	for _, slot := range plan.once {
		c.key = append(binary.AppendUvarint(c.key, uint64(len(values[slot]))), values[slot]...)
	}
	_, isNew := c.once.Add(c.key)
	return !isNew
}

// keys notes the values by which lookups are matched.
func (c *collector) keys(keys []keyPlan, values [][]byte) error {
	for _, k := range keys {
		var t *store.Table
		switch {
		case len(c.links) > 0:
			t = &c.links[k.lookup][k.side]
		case k.side == thereSide:
			t = &c.lookups[k.lookup].there
		default:
			t = &c.lookups[k.lookup].here
		}
		if v := values[k.slot]; v == nil {
			t.Columns[k.n].AppendNull()
		} else if err := k.decode(&t.Columns[k.n], v); err != nil {
			return err
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

// errChanged says that a column is not of the type that the catalogue told.
var errChanged = errors.New("a column has another type than when the catalogue was read")

// check looks at the columns that a statement will have.
func (c *collector) check(columns []pgconn.FieldDescription) error {
	first := 0
	if c.form.layout.several() {
		first = 1
	}
	for i, typ := range c.form.layout.slots {
		if !readable(typ, columns[first+i].DataTypeOID) {
			return errChanged
		}
	}
	return nil
}

// An answer is cut off that has more rows, or more bytes, than the source takes.
var (
	errTooMany  = errors.New("too many rows")
	errTooLarge = errors.New("too many bytes")
)

// keptBytes is the largest answer whose memory is kept for the next.
const keptBytes = 8 << 20

// errGrown says that a small table has grown.
var errGrown = errors.New("a table is no longer small")

// finish makes the parents of branches, which are numbers of rows of the host's
// branch, rows of the reads they hang from, and matches the lookups.
//
// Where the rows of a host did not come in their order, their table keeps them as
// they came, and its Order says which row has which place:
//
//	berths came as   row 0: number 2   row 1: number 1      Order  1 0
//	calls say        above: 1 1 2                           (from 1, as the database counts)
//	as numbers       Parent 0 0 1                           (from 0)
//	as rows          Parent 1 1 0
//
// And where a call's place in the branch is a berth, but it hangs from the berth's
// quay, which is joined to it, lower follows Child: the row of the quay.
func (c *collector) finish() error {
	for branch, mixed := range c.mixed {
		if t := c.answer.Tables[c.form.branches[branch].read]; mixed && len(t.Order) != t.Len {
			return fmt.Errorf("%d rows have numbers up to %d", t.Len, len(t.Order))
		}
	}
	for i, b := range c.form.layout.branches {
		if b.key == "" {
			continue
		}
		c.keyed[i].arrange(c.form.branches[i].key, c.answer.Tables[b.read])
		if b.common {
			if err := c.findParents(i); err != nil {
				return err
			}
		}
	}
	if !c.form.layout.dialect.lateral() {
		for n := range c.links {
			c.hang(n)
		}
		return nil
	}
	for _, b := range c.form.layout.branches {
		t := c.answer.Tables[b.read]
		if b.lookup && int64(t.Len) >= c.form.layout.grownLookup() {
			return errGrown
		}
		if b.host == nil {
			continue
		}
		if c.mixed[b.number] { // parents by place, and not by row
			c.scratch = append(c.scratch[:0], t.Parent...)
			for place, row := range t.Order {
				t.Parent[place] = c.scratch[row]
			}
		}
		if c.mixed[b.host.number] {
			order := c.answer.Tables[b.host.read].Order
			for i, number := range t.Parent {
				t.Parent[i] = order[number]
			}
		}
		c.lower(t.Parent, c.form.layout.reads[b.read].Parent)
	}
	for n := range c.lookups {
		c.match(n)
	}
	return nil
}

// match points the rows that refer to a lookup's rows at them. Of calls with their
// craft, all craft were sent once, and for each call the key of its own:
//
//	craft   rows 0 1 2        there  9100007 9100014 9100021
//	calls   rows 0 1 2 3      here   9100014 9100007 –       9100014
//	Child                            1       0       –1      1
//
// Of pilots by the pairs of pilotage, a row of here is a pair. The pairs come in
// any order; they are put in that of the pilots, who are in the order that is asked
// for, by counting: ends has where the pairs of each pilot begin.
//
//	pilots  rows 0 1          there  17 4
//	pairs   rows 0 1 2        here   4 17 4      of the calls, Parent  0 0 1
//	found                            1 0  1      so many of each       1 2
//	Order                            0 1  1      Parent                0 0 1
func (c *collector) match(n int) {
	l, plan := &c.lookups[n], &c.form.lookups[n]
	t := c.answer.Tables[plan.read]
	c.index.Reset()
	for row := range t.Len {
		c.key, _ = l.there.AppendKey(c.key[:0], l.all, row)
		c.index.Add(c.key) // its number is the row, since the key is unique
	}
	found := c.scratch[:0]
	for row := range l.here.Columns[0].Len() {
		var ok bool
		if c.key, ok = l.here.AppendKey(c.key[:0], l.all, row); ok {
			found = append(found, c.index.Find(c.key))
		} else {
			found = append(found, -1)
		}
	}
	c.scratch = found
	if plan.pairs < 0 {
		t.Child = append(t.Child, found...)
		return
	}
	if plan.once {
		c.dropRepeated(found, t.Parent)
	}
	// The pairs are put in the order of the rows: a place for each.
	c.ends = append(c.ends[:0], make([]int32, t.Len+1)...)
	for _, row := range found {
		c.ends[row+1]++ // that of row -1 first
	}
	for i := range t.Len {
		c.ends[i+1] += c.ends[i]
	}
	dropped := c.ends[0]
	t.Order = append(t.Order[:0], found...)
	c.parents = append(c.parents[:0], t.Parent...)
	for i, row := range found {
		if row < 0 {
			continue
		}
		place := c.ends[row] - dropped
		c.ends[row]++
		t.Order[place], t.Parent[place] = row, c.parents[i]
	}
	kept := len(found) - int(dropped)
	t.Order, t.Parent = t.Order[:kept], t.Parent[:kept]
}

// dropRepeated marks pairs that came before as pairs of none.
func (c *collector) dropRepeated(found, parents []int32) {
	c.index.Reset()
	for i, row := range found {
		if row < 0 {
			continue
		}
		c.key = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(c.key[:0], uint32(row)), uint32(parents[i]))
		if _, isNew := c.index.Add(c.key); !isNew {
			found[i] = -1
		}
	}
}

// lower turns rows of a branch into rows of a read that is joined to it.
func (c *collector) lower(rows []int32, read int) {
	if !c.form.layout.isJoined(read) {
		return
	}
	c.lower(rows, c.form.layout.reads[read].Parent)
	child := c.answer.Tables[read].Child
	for i, row := range rows {
		rows[i] = child[row]
	}
}
