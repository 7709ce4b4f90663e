package execute

import (
	"slices"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file finds out which rows the answer shows. Only these are looked at by
// functions and expressions, and only their values are keys of further requests: a
// small table is sent whole, whatever refers to its rows, and a list can be cut here.

// visible is which rows of a step the answer shows; nil for all.
type visible struct {
	known bool
	rows  []bool
}

// shown returns which rows of a table the answer shows; nil for all.
func (r *run) shown(rows *plan.Rows) []bool {
	if len(rows.Path) > 0 {
		return r.shownNested(rows)
	}
	s := rows.Step
	if v := &r.visible[s.ID]; v.known {
		return v.rows
	}
	list := r.shownOf(s)
	// Without its other parts, a part of a merge may show more than it will.
	known := r.fetched[s.Read.Fetch.ID].answer != nil && (!merged(s) || r.hasAll(s.Merge))
	r.visible[s.ID] = visible{known, list}
	return list
}

func (r *run) shownOf(s *plan.Step) []bool {
	t := r.table(&plan.Rows{Step: s})
	if t == nil || s.Call != nil {
		return nil
	}
	var above []bool
	if s.Parent != nil {
		if r.table(s.Parent) == nil {
			return make([]bool, t.Len) // there is nothing that they belong to
		}
		if above = r.shown(s.Parent); s.Picked != nil {
			above = r.pickedRows(s.Picked)
		}
	}
	if above == nil && r.showsAll(s, t) {
		return nil
	}
	list := make([]bool, t.Len)
	if merged(s) && r.hasAll(s.Merge) {
		m := r.mergedRows(s.Merge, r.parents(s))
		for parent := range m.start {
			if above != nil && !above[parent] {
				continue
			}
			from, to, _ := r.onPage(s.Merge.Page, m.start[parent], m.end[parent])
			for _, at := range m.rows[from:to] {
				if s.Merge.Parts[at.part].Step == s {
					list[at.row] = true
				}
			}
		}
		return list
	}
	l := r.link(s)
	if l.err != nil {
		return list
	}
	for parent := range r.parents(s) {
		if above != nil && !above[parent] || !r.leadsTo(s, parent) {
			continue
		}
		from, to := l.rows(parent)
		if s.Page != nil {
			from, to, _ = r.onPage(s.Page, from, to)
		}
		for i := from; i < to; i++ {
			list[l.at(i)] = true
		}
	}
	return list
}

// merged reports whether a step's rows are put in one order with those of others. Where a
// reference leads to one of several types, they are not: what of the others failed is
// nothing to those of the step.
func merged(s *plan.Step) bool { return s.Merge != nil && s.Merge.By < 0 }

// leadsTo reports whether a row's reference, if it can lead to several types, leads to
// rows of a step.
func (r *run) leadsTo(s *plan.Step, parent int) bool {
	if s.Merge == nil || merged(s) || s.Parent == nil {
		return true
	}
	told := &r.table(s.Parent).Columns[s.Merge.By]
	return slices.ContainsFunc(s.Merge.Parts, func(p plan.Part) bool { return p.Step == s && r.tells(told, parent, p.Is) })
}

// showsAll reports whether all rows of a step belong to one of its parents, and
// nothing cuts them, as far as that can be told without matching them.
func (r *run) showsAll(s *plan.Step, t *store.Table) bool {
	switch {
	case s.Merge != nil || s.Page != nil || s.Limit != nil || s.Offset != nil || s.Inner != nil || s.Where != nil || s.Allow != nil:
		return false
	case s.Parent == nil:
		return true
	case !s.Folded:
		return false
	case t.Child == nil:
		return true // rows of a branch, each of which names its parent
	}
	next := int32(0) // joined rows come with those that they are joined to
	for _, child := range t.Child {
		if child == next {
			next++
		}
	}
	return int(next) == t.Len
}

// hasAll reports whether all parts of a merge were answered. If not, a part's
// own bounds tell what of it can be shown: nobody waits for the others.
func (r *run) hasAll(m *plan.Merge) bool {
	for _, part := range m.Parts {
		if part.Step == nil {
			continue
		}
		if got := r.fetched[part.Step.Read.Fetch.ID]; got.answer == nil && got.err == nil {
			return false
		}
	}
	return true
}

// shownNested returns which nested rows the answer shows: those of the rows
// that it shows, as far as they are not cut.
func (r *run) shownNested(rows *plan.Rows) []bool {
	t := r.table(rows)
	if t == nil {
		return nil
	}
	above := r.shown(rows.Above)
	if above == nil && rows.Cut == nil {
		return nil
	}
	list := make([]bool, t.Len)
	if rows.Cut != nil {
		l := r.link(rows.Cut)
		if l.err != nil {
			return list
		}
		for row := range l.start {
			for i, end := l.rows(row); i < end && (above == nil || above[row]); i++ {
				list[l.at(i)] = true
			}
		}
		return list
	}
	c := &r.table(rows.Above).Columns[rows.Path[len(rows.Path)-1]]
	for row, is := range above {
		for i, end := c.Range(row); i < end && is; i++ {
			list[i] = true
		}
	}
	return list
}

// parents returns how many rows a step's rows can belong to.
func (r *run) parents(s *plan.Step) int {
	if s.Parent == nil {
		return 1
	}
	if t := r.table(s.Parent); t != nil {
		return t.Len
	}
	return 0
}
