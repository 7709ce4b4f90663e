package execute

import (
	"math"
	"slices"

	"osprey/core/plan"
	"osprey/core/store"
)

// A link tells, for each row of the parent's table, which rows of a step's
// table are its own.
type link struct {
	made  bool
	err   error
	keyed bool // the error is of a request that rows without a key had no part in
	table *store.Table
	// child is the one row of each parent row, or -1; nil where there can be
	// several: then they are order[start[parent]:end[parent]]. A nil order is
	// that of the table.
	child      []int32
	order      []int32
	start, end []int32
	shared     bool          // rows belong to several parent rows
	items      *store.Column // of nested records: those of the table; nil of others
}

// rows returns the range of the rows that belong to a parent row, for at.
func (l *link) rows(parent int) (from, to int32) {
	if l.child != nil {
		from = l.child[parent]
		if from < 0 {
			return 0, 0
		}
		return from, from + 1
	}
	return l.start[parent], l.end[parent]
}

// at returns a row of a range.
func (l *link) at(i int32) int {
	if l.order == nil {
		return int(i)
	}
	return int(l.order[i])
}

// link matches a step's rows with its parent's, once.
func (r *run) link(s *plan.Step) *link {
	l := &r.links[s.ID]
	if l.made {
		return l
	}
	l.made = true
	got := r.fetched[s.Read.Fetch.ID]
	switch {
	case got.err != nil && got.idle != nil && got.idle[s.Read.Index] && s.Parent != nil && r.table(s.Parent) != nil:
		l.none(s, r.table(s.Parent).Len)
		return l
	case got.err != nil:
		if l.err = got.err; s.Parent != nil && !s.Folded && len(s.Here) > 0 && r.table(s.Parent) != nil {
			l.none(s, r.table(s.Parent).Len)
			l.keyed = true
		}
		return l
	case r.badRead[s.Read] != nil:
		l.err = r.badRead[s.Read]
		return l
	}
	if s.Inner != nil {
		l.err = r.nested(l, s)
		return l
	}
	l.table = got.answer.Tables[s.Read.Index]
	parents := 1
	if s.Parent != nil {
		above := r.table(s.Parent)
		parents = above.Len
		// Fewer rows than there are parents, or than places in the order: some must
		// belong to several. It is a guess that costs nothing; where it is wrong, a
		// row is written anew for each parent.
		l.shared = l.table.Len < max(parents, len(l.table.Order))
		switch {
		case s.Folded && l.table.Child != nil:
			l.child = l.table.Child
			r.allowChild(s, l)
			return l // a read of at most one row has no bounds
		case s.Folded:
			r.byParent(l, parents)
		default:
			r.byKey(l, s, above)
		}
	} else {
		l.start, l.end = r.ints.take(1), r.ints.take(1)
		l.start[0], l.end[0] = 0, int32(l.table.Len)
		if len(l.table.Order) > 0 {
			l.order = l.table.Order
		}
	}
	if s.Where != nil {
		if l.err = r.filter(l, s); l.err != nil {
			return l
		}
	}
	if s.Allow != nil {
		l.leave(func(row int) bool { return r.allows(s.Allow, l.table, row) })
	}
	l.err = r.page(s, l)
	return l
}

// none makes a link that gives no parent any row.
func (l *link) none(s *plan.Step, parents int) {
	l.table = store.NewTable(s.Read.Store.Columns)
	l.start, l.end, l.order = make([]int32, parents), make([]int32, parents), []int32{}
}

// filter leaves of each parent's rows those that fit what the store was not asked.
func (r *run) filter(l *link, s *plan.Step) error {
	in := store.Input{Where: make([]store.Column, len(s.Values))}
	for _, a := range s.Values {
		if err := r.predicate(a, &in.Where[a.Column]); err != nil {
			return err
		}
	}
	where := store.Read{Where: s.Where}
	fits := make([]bool, l.table.Len)
	for row := range fits {
		fits[row] = where.FitsAll(&in, nestedRow{l.table, s.Fields, row})
	}
	l.leave(func(row int) bool { return fits[row] })
	return nil
}

// leave leaves of each parent's rows those that are kept.
func (l *link) leave(keep func(row int) bool) {
	order, start, end := []int32{}, make([]int32, len(l.start)), make([]int32, len(l.start))
	for p, from := range l.start {
		start[p] = int32(len(order))
		for i := from; i < l.end[p]; i++ {
			if row := l.at(i); keep(row) {
				order = append(order, int32(row))
			}
		}
		end[p] = int32(len(order))
	}
	l.order, l.start, l.end = order, start, end
}

// nested filters, sorts and cuts the nested records of each parent row.
func (r *run) nested(l *link, s *plan.Step) error {
	list := &r.table(s.Parent).Columns[s.Inner.Path[len(s.Inner.Path)-1]]
	l.table, l.items = list.Elem.Rows, list.Elem
	parents := list.Len()
	in := store.Input{Where: make([]store.Column, len(s.Values))}
	for _, a := range s.Values {
		if err := r.predicate(a, &in.Where[a.Column]); err != nil {
			return err
		}
	}
	where := store.Read{Where: s.Where}
	l.start, l.end = make([]int32, parents), make([]int32, parents)
	l.order = []int32{}
	for row := range parents {
		l.start[row] = int32(len(l.order))
		for i, end := list.Items(row); i < end; i++ {
			// What is null fits nothing, and stands in a list of which all is asked.
			if len(s.Where) == 0 || !l.items.Null[i] && where.FitsAll(&in, nestedRow{l.table, s.Fields, i}) {
				l.order = append(l.order, int32(i))
			}
		}
		l.end[row] = int32(len(l.order))
	}
	return r.page(s, l)
}

// A nestedRow is a row of a table to which conditions can be put.
type nestedRow struct {
	table  *store.Table
	fields map[string]int
	row    int
}

// Append adds the row's value of a field.
func (n nestedRow) Append(c *store.Column, w *store.Wanted) {
	if !c.AppendAs(&n.table.Columns[n.fields[w.Path]], n.row) {
		c.AppendNull()
	}
}

// Nested returns nothing: what is nested deeper cannot be asked about.
func (nestedRow) Nested(string) []store.Subject { return nil }

// byParent uses the parent rows that the store named.
func (r *run) byParent(l *link, parents int) {
	r.group(l, l.table.Parent, parents)
	l.start, l.end = l.start[:parents], l.start[1:]
}

// group sorts the rows of a link's table by the number of their group, which
// groupOf has for each in its order, below 0 for rows of none. It keeps the
// order within each group. The rows of group g are then
// order[start[g]:start[g+1]]. It counts the rows of each group, which gives where
// each begins, and then puts each row at the next place of its group:
//
//	rows     0  1  2  3  4         berths as they came
//	groupOf  1  0 –1  1  0         of quays; row 2 is of none
//	counted  2 2       start  0 2 4
//	order    1 4 | 0 3
func (r *run) group(l *link, groupOf []int32, groups int) {
	l.start = r.ints.take(groups + 1)
	clear(l.start)
	ascending, last := true, int32(0)
	for _, g := range groupOf {
		if g < last {
			ascending = false
		}
		if g >= 0 {
			l.start[g+1]++
			last = g
		}
	}
	for g := range groups {
		l.start[g+1] += l.start[g]
	}
	if ascending { // as stores mostly send them
		if len(l.table.Order) > 0 {
			l.order = l.table.Order
		}
		return
	}
	l.order = r.ints.take(int(l.start[groups]))
	next := r.ints.take(groups)
	copy(next, l.start)
	for place, g := range groupOf {
		if g >= 0 {
			l.order[next[g]] = int32(l.table.At(place))
			next[g]++
		}
	}
}

// byKey matches by the values of key columns in their canonical form, those of the
// parent as the record set has them, in which form they were asked for: the rows
// are numbered by their key and grouped by that number, and each parent row
// finds its group. Of calls that name their craft, with the craft as parents:
//
//	calls   rows 0 1 2 3     keys  9100014 9100007 –  9100014
//	keyOf                          0       1      –1  0
//	order   0 3 | 1          first 0 2 3
//	craft   9100007 → 1 → order[2:3]   9100014 → 0 → order[0:2]   9100021 → none
func (r *run) byKey(l *link, s *plan.Step, parent *store.Table) {
	r.index.Reset()
	there := itemsOf(&l.table.Columns[s.There[0]])
	if there != nil {
		r.byItems(l, s)
	} else {
		keyOf := r.ints.take(l.table.Len)
		for place := range keyOf {
			var ok bool
			keyOf[place] = -1
			if r.key, ok = l.table.AppendKey(r.key[:0], s.There, l.table.At(place)); ok {
				keyOf[place], _ = r.index.Add(r.key)
			}
		}
		r.group(l, keyOf, r.index.Len())
	}
	r.kinds = r.kinds[:0]
	for _, c := range s.There {
		r.kinds = append(r.kinds, l.table.Columns[c].Innermost().Kind)
	}
	first := l.start
	l.start, l.end = r.ints.take(parent.Len), r.ints.take(parent.Len)
	if list := &parent.Columns[s.Here[0]]; list.Kind == store.List {
		r.byList(l, first, list, there != nil)
		return
	}
	for row := range parent.Len {
		l.start[row], l.end[row] = 0, 0
		if k := r.find(parent, s.Here, row); k >= 0 {
			l.start[row], l.end[row] = first[k], first[k+1]
		}
	}
}

// find returns the number of the key that a row has in some columns, or -1.
func (r *run) find(t *store.Table, columns []int, row int) int32 {
	var ok bool
	if r.key, ok = t.AppendKeyAs(r.key[:0], columns, r.kinds, row, &r.room); !ok {
		return -1
	}
	return r.index.Find(r.key)
}

// byItems groups rows that have several keys each, by each of them once.
//
//	boards  rows 0 1    members [7 4 7] [4]
//	order   0 | 0 1     of 7, and of 4
func (r *run) byItems(l *link, s *plan.Step) {
	list := &l.table.Columns[s.There[0]]
	var rows, keys []int32
	for place := range l.table.Len {
		row := l.table.At(place)
		if list.Null[row] {
			continue
		}
		own := len(keys)
		for i, end := list.Items(row); i < end; i++ {
			var ok bool
			if r.key, ok = store.AppendKey(r.key[:0], list.Elem, i); !ok {
				continue
			}
			if k, _ := r.index.Add(r.key); !slices.Contains(keys[own:], k) {
				rows, keys = append(rows, int32(row)), append(keys, k)
			}
		}
	}
	groups := r.index.Len()
	l.start = make([]int32, groups+1)
	for _, k := range keys {
		l.start[k+1]++
	}
	for k := range groups {
		l.start[k+1] += l.start[k]
	}
	next := slices.Clone(l.start)
	l.order, l.shared = make([]int32, len(rows)), true
	for i, k := range keys {
		l.order[next[k]] = rows[i]
		next[k]++
	}
}

// byList gives parent rows that have several keys the rows of each, in the order of
// the list; what is null, or no row has, is left out. If the rows have several keys
// too, each is given once.
//
//	members [7 – 9 4 7]   →   rows of 7, of 4, of 7
func (r *run) byList(l *link, first []int32, list *store.Column, once bool) {
	items := itemsOf(list)
	var order []int32
	for row := range list.Len() {
		l.start[row] = int32(len(order))
		if !list.Null[row] {
			for i, end := list.Items(row); i < end; i++ {
				k := r.find(items, firstColumn, i)
				if k < 0 {
					continue
				}
				for at := first[k]; at < first[k+1]; at++ {
					if one := int32(l.at(at)); !once || !slices.Contains(order[l.start[row]:], one) {
						order = append(order, one)
					}
				}
			}
		}
		l.end[row] = int32(len(order))
	}
	l.order, l.shared = order, true
	if order == nil {
		l.order = []int32{}
	}
}

// page sorts and cuts the rows of each parent where the store left it to the
// engine.
func (r *run) page(s *plan.Step, l *link) error {
	for _, cursor := range []*plan.Arg{s.Behind, s.Ahead} {
		if cursor == nil {
			continue
		}
		values := make([]store.Column, len(cursor.By))
		if err := r.from(cursor, values); err != nil {
			return err
		}
		l.behind(s.Page.Order, cursor, values)
	}
	if len(s.Sort) > 0 {
		l.sort(s.Sort)
	}
	if s.Limit == nil && s.Offset == nil {
		return nil
	}
	if s.Folded {
		l.end = slices.Clone(l.end) // which is where the next begins, and is cut now
	}
	return r.cut(l.start, l.end, s.Limit, s.Offset)
}

// cut cuts each range of rows to what a limit and an offset leave of it. With
// offset 1 and limit 2 of the rows of two parents:
//
//	start 0 3   end 3 8      [0 1 2] [3 4 5 6 7]
//	start 1 4   end 3 6        [1 2]   [4 5]
func (r *run) cut(start, end []int32, limited, passed *plan.Arg) error {
	limit, offset := int64(math.MaxInt32), int64(0)
	var err error
	if limited != nil {
		if limit, err = r.limit(limited); err != nil {
			return err
		}
	}
	if offset, err = r.bound(passed); err != nil {
		return err
	}
	for p := range start {
		start[p] = int32(min(int64(start[p])+offset, int64(end[p])))
		end[p] = int32(min(int64(start[p])+limit, int64(end[p])))
	}
	return nil
}

// sort sorts the rows of each parent.
func (l *link) sort(by []plan.Order) {
	n := l.table.Len
	if l.order != nil {
		n = len(l.order) // without the rows of no group
	}
	order := make([]int32, n) // what there is may be the table's own
	for i := range order {
		order[i] = int32(l.at(int32(i)))
	}
	l.order = order
	sorted := map[int32]bool{} // by their start; parents can share one range
	for p, start := range l.start {
		if rows := l.order[start:l.end[p]]; len(rows) > 1 && !sorted[start] {
			sorted[start] = true
			slices.SortStableFunc(rows, func(a, b int32) int { return compareRows(l.table, by, int(a), int(b)) })
		}
	}
}

// behind keeps the rows of each parent that stand behind a cursor of these
// values. Behind the cursor (2031-05-03, 17) of calls by arrival and then number:
//
//	(05-02, 40) no: the first key that differs is smaller
//	(05-03, 12) no
//	(05-03, 17) only where the cursor is inclusive: of a merged list, it is of another part
//	(05-03, 29) yes
func (l *link) behind(columns []plan.Order, cursor *plan.Arg, values []store.Column) {
	var order, start, end []int32
	kept := map[int32][2]int32{} // by their start; parents can share one range
	for p, first := range l.start {
		rows, known := kept[first]
		if !known {
			rows[0] = int32(len(order))
			for i := first; i < l.end[p]; i++ {
				if row := l.at(i); isBehind(l.table, columns, cursor, values, row) {
					order = append(order, int32(row))
				}
			}
			rows[1] = int32(len(order))
			if first < l.end[p] {
				kept[first] = rows
			}
		}
		start, end = append(start, rows[0]), append(end, rows[1])
	}
	l.order, l.start, l.end = order, start, end
	if l.order == nil {
		l.order = []int32{}
	}
}

func isBehind(t *store.Table, columns []plan.Order, cursor *plan.Arg, values []store.Column, row int) bool {
	for i, o := range cursor.By {
		if c := o.Compare(&t.Columns[columns[i].Column], row, &values[i], 0); c != 0 {
			return c > 0
		}
	}
	return cursor.Inclusive
}

func compareRows(t *store.Table, sort []plan.Order, a, b int) int {
	for _, o := range sort {
		c := &t.Columns[o.Column]
		if d := o.By.Compare(c, a, c, b); d != 0 {
			return d
		}
	}
	return 0
}
