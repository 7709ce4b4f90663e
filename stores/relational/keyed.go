package relational

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"

	"osprey/core/store"
)

// This file puts right what the database does with the rows of a root that are
// told apart by a key: their order, and which rows belong to which.

// keyed is the keys of the rows of a branch: its own, if they are told apart by
// one, and those of the rows above.
type keyed struct {
	own   store.Column
	order []store.Column
	above store.Column
}

// add notes the key of a row, and what it is in order of.
func (k *keyed) add(plan *keyedPlan, values [][]byte) error {
	if err := plan.decode(&k.own, values[plan.slot]); err != nil {
		return err
	}
	for i := range plan.order {
		o := &plan.order[i]
		if v := values[o.slot]; v == nil {
			k.order[i].AppendNull()
		} else if err := o.decode(&k.order[i], v); err != nil {
			return err
		}
	}
	return nil
}

// compare orders two rows as the database does: no value comes before any, and
// behind all in descending order.
func (k *keyed) compare(plan *keyedPlan, a, b int) int {
	for i := range plan.order {
		column, c := &k.order[i], 0
		switch x, y := column.Null[a], column.Null[b]; {
		case x || y:
			if x != y {
				c = 1
				if x {
					c = -1
				}
			}
		case column.Kind == store.UUID:
			c = bytes.Compare(column.At(a), column.At(b))
		default:
			c = cmp.Compare(column.Ints[a], column.Ints[b])
		}
		if plan.order[i].desc {
			c = -c
		}
		if c != 0 {
			return c
		}
	}
	return 0
}

// arrange puts the rows of a branch in order where the database did not, since
// it joined them to others.
func (k *keyed) arrange(plan *keyedPlan, t *store.Table) {
	for row := 1; row < t.Len; row++ {
		if k.compare(plan, row-1, row) <= 0 {
			continue
		}
		for row := range t.Len {
			t.Order = append(t.Order, int32(row))
		}
		slices.SortFunc(t.Order, func(a, b int32) int { return k.compare(plan, int(a), int(b)) })
		return
	}
}

// findParents finds the rows above of everything that hangs from a branch whose
// rows are told apart by a key:
//
//	calls   rows 0 1 2   own    3994 3871 3702
//	pilots  rows 0 1 2   above  3871 3994 3994   →   Parent  1 0 0
func (c *collector) findParents(host int) error {
	c.index.Reset()
	own := &c.keyed[host].own
	for row := range own.Len() {
		c.key, _ = store.AppendKey(c.key[:0], own, row)
		c.index.Add(c.key) // its number is the row, since the key is unique
	}
	for i, b := range c.form.layout.branches {
		if b.host == nil || b.host.number != host {
			continue
		}
		t, above := c.answer.Tables[b.read], &c.keyed[i].above
		for row := range above.Len() {
			c.key, _ = store.AppendKey(c.key[:0], above, row)
			found := c.index.Find(c.key)
			if found < 0 {
				return fmt.Errorf("a row of %s belongs to none that was asked for", c.form.layout.reads[b.read].Set)
			}
			t.Parent = append(t.Parent, found)
		}
	}
	return nil
}
