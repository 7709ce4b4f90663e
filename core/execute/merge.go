package execute

import (
	"fmt"
	"slices"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file merges the rows of several steps into one list, and follows
// references that can lead to several types.

// mergedRows is the rows of a merge, for each parent row a range of them.
type mergedRows struct {
	merge      *plan.Merge
	rows       []partRow
	start, end []int32
	failed     *plan.Step // whose records could not be had, or nil
	err        error
}

// A partRow is a row of the table of a part.
type partRow struct{ part, row int32 }

// mergedRange returns the rows that belong to a parent row, or tells why there
// are none.
func (r *run) mergedRange(f *plan.Field, t *store.Table, row int) (m *mergedRows, from, to int32, ok bool) {
	parents := 1
	if t != nil {
		parents = t.Len
	}
	m = r.mergedRows(f.Merge, parents)
	if m.err != nil {
		r.failed(f, m.failed, m.err)
		return m, 0, 0, false
	}
	return m, m.start[row], m.end[row], true
}

// mergedRows returns the rows of a merge, which are put together once.
func (r *run) mergedRows(of *plan.Merge, parents int) *mergedRows {
	if known := r.merges[of]; known != nil {
		return known
	}
	if r.merges == nil {
		r.merges = map[*plan.Merge]*mergedRows{}
	}
	m := r.merge(of, parents)
	r.merges[of] = m
	return m
}

// merge puts the rows of each parent in one order. Rows that are equal in it
// keep the order of the parts, and within a part their own. Each part has come in
// the order, so that it is enough to look at the first row of each that is not
// taken yet, its head. Of the log of one call, by time:
//
//	part 0, inspections  [08:10] 11:00         head 08:10
//	part 1, notices      [07:30] 08:10 12:45   head 07:30: taken, then
//	part 1                 –    [08:10] 12:45  head 08:10: part 0 comes first
//	rows  (1,0) (0,0) (1,1) (0,1) (1,2)
func (r *run) merge(of *plan.Merge, parents int) *mergedRows {
	m := &mergedRows{merge: of, start: make([]int32, parents), end: make([]int32, parents)}
	links := make([]*link, len(of.Parts))
	for i, part := range of.Parts {
		if part.Step == nil {
			continue
		}
		if links[i] = r.link(part.Step); links[i].err != nil {
			m.failed, m.err = part.Step, links[i].err
			return m
		}
	}
	heads := make([]span, len(of.Parts))
	for p := range parents {
		for i, l := range links {
			switch {
			case l == nil:
			case of.Parts[i].Step.Parent == nil:
				heads[i].from, heads[i].to = l.rows(0)
			default:
				heads[i].from, heads[i].to = l.rows(p)
			}
		}
		m.start[p] = int32(len(m.rows))
		for next := firstOf(of, links, heads); next >= 0; next = firstOf(of, links, heads) {
			m.rows = append(m.rows, partRow{int32(next), int32(links[next].at(heads[next].from))})
			heads[next].from++
		}
		m.end[p] = int32(len(m.rows))
	}
	if of.Page == nil {
		if err := r.cut(m.start, m.end, of.Limit, of.Offset); err != nil {
			m.failed, m.err = of.Parts[0].Step, err
		}
	}
	return m
}

// A span is the rows of a part that are not in the list yet.
type span struct{ from, to int32 }

// firstOf returns the part whose next row comes first, or -1 if none has any.
// Each part is in its order already. Of rows that are equal, that of the first
// part comes first; read from the end of the list, all is the other way round.
func firstOf(of *plan.Merge, links []*link, heads []span) int {
	best := -1
	backward := of.Page != nil && of.Page.Backward
	for i, h := range heads {
		if h.from == h.to {
			continue
		}
		if best < 0 {
			best = i
			continue
		}
		c := compareHeads(of, links, heads, i, best)
		if backward && c >= 0 || !backward && c < 0 {
			best = i
		}
	}
	return best
}

// compareHeads compares the next rows of two parts by the keys of the list.
func compareHeads(of *plan.Merge, links []*link, heads []span, a, b int) int {
	x, y := of.Parts[a].Order, of.Parts[b].Order
	rowA, rowB := links[a].at(heads[a].from), links[b].at(heads[b].from)
	for i := range x {
		if c := x[i].By.Compare(&links[a].table.Columns[x[i].Column], rowA, &links[b].table.Columns[y[i].Column], rowB); c != 0 {
			return c
		}
	}
	return 0
}

// merged writes a merged list, or the one record of a merge.
func (r *run) merged(b []byte, f *plan.Field, t *store.Table, row int) ([]byte, bool) {
	if f.Merge.By >= 0 {
		return r.reference(b, f, t, row)
	}
	m, from, to, ok := r.mergedRange(f, t, row)
	if !ok {
		return b, false
	}
	if f.Null.Item == nil {
		if from == to || to-from > 1 {
			return r.one(b, f, nil, nil, from, to) // which tells it
		}
		return r.part(b, f, m, from)
	}
	return r.items(b, f.Null.Item, int(to-from), func(b []byte, i int) ([]byte, bool) { return r.part(b, f, m, from+int32(i)) })
}

// part writes the row at a place of a merged list.
func (r *run) part(b []byte, f *plan.Field, m *mergedRows, place int32) ([]byte, bool) {
	at := m.rows[place]
	return r.record(b, f.Parts[at.part], r.link(m.merge.Parts[at.part].Step), int(at.row))
}

// reference writes the record that a reference leads to, of the type that the
// value beside its key tells.
func (r *run) reference(b []byte, f *plan.Field, t *store.Table, row int) ([]byte, bool) {
	i, ok := r.partOf(f, t, row)
	if !ok {
		return b, false
	}
	part := f.Parts[i]
	if part.Step == nil {
		for _, here := range f.Merge.Parts[i].Here {
			if t.Columns[here].Null[row] {
				if f.Null.NonNull {
					r.missing(f)
				}
				return b, false
			}
		}
		return r.object(b, part, nil, 0)
	}
	l, from, to, ok := r.linked(part, row)
	if !ok {
		return b, false
	}
	return r.one(b, f, part, l, from, to)
}

// partOf returns the part that a reference leads to, or tells why it leads
// nowhere.
func (r *run) partOf(f *plan.Field, t *store.Table, row int) (int, bool) {
	told := &t.Columns[f.Merge.By]
	if told.Null[row] {
		if f.Null.NonNull {
			r.missing(f)
		}
		return 0, false
	}
	i := slices.IndexFunc(f.Merge.Parts, func(p plan.Part) bool { return r.tells(told, row, p.Is) })
	if i < 0 {
		r.fail(f, nil, BadResult, "", fmt.Sprintf(msgRecordKindNoType, f.At, told.Text(row)))
		return 0, false
	}
	return i, true
}
