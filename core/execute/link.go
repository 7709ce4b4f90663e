package execute

import (
	"bytes"
	"cmp"
	"math"
	"slices"

	"osprey/core/plan"
	"osprey/core/store"
)

// A link tells, for each row of the parent's table, which rows of a step's
// table are its own: order[start[row]:end[row]].
type link struct {
	err        error
	table      *store.Table
	order      []int32
	start, end []int32
}

// rows returns the rows that belong to a parent row.
func (l *link) rows(parent int) []int32 { return l.order[l.start[parent]:l.end[parent]] }

// link matches a step's rows with its parent's, once.
func (r *run) link(s *plan.Step) *link {
	if l := r.links[s.ID]; l != nil {
		return l
	}
	l := &link{}
	r.links[s.ID] = l
	got := r.fetched[s.Read.Fetch.ID]
	switch {
	case got.err != nil:
		l.err = got.err
		return l
	case r.badRead[s.Read] != nil:
		l.err = r.badRead[s.Read]
		return l
	}
	l.table = got.answer.Tables[s.Read.Index]
	switch {
	case s.Parent == nil:
		l.order = sequence(l.table.Len)
		l.start, l.end = []int32{0}, []int32{int32(l.table.Len)}
	case s.Folded:
		l.byParent(r.table(s.Parent).Len)
	default:
		l.byKey(s, r.table(s.Parent))
	}
	l.err = r.page(s, l)
	return l
}

func sequence(n int) []int32 {
	list := make([]int32, n)
	for i := range list {
		list[i] = int32(i)
	}
	return list
}

// byParent uses the parent rows that the store named, which ascend.
func (l *link) byParent(parents int) {
	l.order = sequence(l.table.Len)
	l.start, l.end = make([]int32, parents), make([]int32, parents)
	row := 0
	for p := range parents {
		l.start[p] = int32(row)
		for row < l.table.Len && int(l.table.Parent[row]) == p {
			row++
		}
		l.end[p] = int32(row)
	}
}

// byKey matches by the values of key columns in their canonical form.
func (l *link) byKey(s *plan.Step, parent *store.Table) {
	there := make([]*store.Column, len(s.There))
	for i, c := range s.There {
		there[i] = &l.table.Columns[c]
	}
	here := make([]*store.Column, len(s.Here))
	for i, c := range s.Here {
		here[i] = &parent.Columns[c]
	}
	groups := make(map[string]int32, l.table.Len)
	groupOf := make([]int32, l.table.Len)
	var size []int32
	var buf []byte
	for row := range l.table.Len {
		var ok bool
		if buf, ok = store.RowKey(buf[:0], there, row); !ok {
			groupOf[row] = -1
			continue
		}
		g, known := groups[string(buf)]
		if !known {
			g = int32(len(size))
			groups[string(buf)] = g
			size = append(size, 0)
		}
		groupOf[row] = g
		size[g]++
	}
	first := make([]int32, len(size)+1)
	for g, n := range size {
		first[g+1] = first[g] + n
	}
	l.order = make([]int32, first[len(size)])
	next := slices.Clone(first)
	for row, g := range groupOf {
		if g >= 0 {
			l.order[next[g]] = int32(row)
			next[g]++
		}
	}
	l.start, l.end = make([]int32, parent.Len), make([]int32, parent.Len)
	for row := range parent.Len {
		var ok bool
		if buf, ok = store.RowKey(buf[:0], here, row); !ok {
			continue
		}
		if g, known := groups[string(buf)]; known {
			l.start[row], l.end[row] = first[g], first[g+1]
		}
	}
}

// page sorts and cuts the rows of each parent where the store left it to the
// engine.
func (r *run) page(s *plan.Step, l *link) error {
	limit, offset := int64(math.MaxInt32), int64(0)
	var err error
	if s.Limit != nil {
		if limit, err = r.bound(s.Limit); err != nil {
			return err
		}
	}
	if offset, err = r.bound(s.Offset); err != nil {
		return err
	}
	sorted := map[int32]bool{} // groups by their start; parents can share one
	for p := range l.start {
		if len(s.Sort) > 0 && l.end[p]-l.start[p] > 1 && !sorted[l.start[p]] {
			sorted[l.start[p]] = true
			slices.SortStableFunc(l.rows(p), func(a, b int32) int { return compareRows(l.table, s.Sort, int(a), int(b)) })
		}
	}
	for p := range l.start {
		l.start[p] = int32(min(int64(l.start[p])+offset, int64(l.end[p])))
		l.end[p] = int32(min(int64(l.start[p])+limit, int64(l.end[p])))
	}
	return nil
}

func compareRows(t *store.Table, sort []plan.Order, a, b int) int {
	for _, o := range sort {
		c := compareValues(&t.Columns[o.Column], a, b)
		if o.Desc {
			c = -c
		}
		if c != 0 {
			return c
		}
	}
	return 0
}

// compareValues orders two values of a column; no value comes before any.
func compareValues(c *store.Column, a, b int) int {
	switch {
	case c.Null[a] && c.Null[b]:
		return 0
	case c.Null[a]:
		return -1
	case c.Null[b]:
		return 1
	case c.Kind == store.Float:
		return cmp.Compare(c.Floats[a], c.Floats[b])
	case len(c.Ints) > 0:
		return cmp.Compare(c.Ints[a], c.Ints[b])
	}
	return bytes.Compare(c.At(a), c.At(b))
}
