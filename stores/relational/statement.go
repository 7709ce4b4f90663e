package relational

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/store"
)

// A statement is the reads of a request laid out as one SQL statement.
type statement struct {
	catalogue *store.Catalogue
	reads     []*store.Read
	branches  []*branch
	of        []*branch // the branch that each read is part of
	slots     []string  // the SQL type of each value behind the three of every row
	params    []param   // filled while a text is written
}

// A branch is a read with those of at most one row each that are joined to it.
type branch struct {
	number   int
	read     int // the read whose rows are the branch's rows
	host     *branch
	joined   []int // further reads, parents before children
	outs     []out
	children bool // other branches hang from this one, so it must have a name
}

// An out is a value that a branch selects.
type out struct {
	read   int
	path   string
	column int    // in the read's columns, or -1 for a value that only links
	slot   int    // position among the slots, or -1 if it is not sent
	typ    string // SQL type as it is sent
}

// A param is a parameter of the statement: its value comes from the inputs.
type param struct {
	read int
	what paramKind
	n    int // which key or condition
}

type paramKind uint8

const (
	keyParam paramKind = iota
	whereParam
	limitParam
	offsetParam
)

// layOut decides the branches and what each selects.
func layOut(catalogue *store.Catalogue, reads []*store.Read) (*statement, error) {
	s := &statement{catalogue: catalogue, reads: reads, of: make([]*branch, len(reads))}
	for i, r := range reads {
		if catalogue.Sets[r.Set] == nil {
			return nil, fmt.Errorf("there is no table %s", r.Set)
		}
		if r.Parent >= 0 && r.Single && !r.Limit && !r.Offset {
			s.of[i] = s.of[r.Parent]
			s.of[i].joined = append(s.of[i].joined, i)
			continue
		}
		b := &branch{number: len(s.branches), read: i}
		if r.Parent >= 0 {
			b.host = s.of[r.Parent]
			b.host.children = true
		}
		s.of[i] = b
		s.branches = append(s.branches, b)
	}
	for i, r := range reads {
		for c := range r.Columns {
			if err := s.send(i, c); err != nil {
				return nil, err
			}
		}
		switch {
		case r.Parent < 0:
		case s.of[i].read == i:
			for _, path := range r.Here {
				s.link(r.Parent, path)
			}
		default:
			s.sendPresence(i)
		}
	}
	for _, b := range s.branches {
		s.allot(b)
	}
	return s, nil
}

// field returns what the catalogue says of a read's field.
func (s *statement) field(read int, path string) *store.Field {
	return s.catalogue.Sets[s.reads[read].Set].Field(path)
}

// send adds a wanted column to what its branch selects.
func (s *statement) send(read, column int) error {
	w := &s.reads[read].Columns[column]
	f := s.field(read, w.Path)
	if f == nil {
		return fmt.Errorf("the table %s has no column %s", s.reads[read].Set, w.Path)
	}
	b := s.of[read]
	b.outs = append(b.outs, out{read: read, path: w.Path, column: column, slot: 0, typ: sentType(f, w)})
	return nil
}

// sendPresence adds the value that tells whether a joined row was found: the
// first field by which it is joined.
func (s *statement) sendPresence(read int) {
	path := s.reads[read].There[0]
	f := s.field(read, path)
	b := s.of[read]
	b.outs = append(b.outs, out{read: read, path: path, column: -1, slot: 0, typ: sentType(f, &store.Wanted{Kind: f.Kind})})
}

// link adds a value that a branch hanging from read's branch is joined by.
func (s *statement) link(read int, path string) {
	b := s.of[read]
	if !slices.ContainsFunc(b.outs, func(o out) bool { return o.read == read && o.path == path && o.slot < 0 }) {
		b.outs = append(b.outs, out{read: read, path: path, column: -1, slot: -1})
	}
}

// linkName returns the name of a linking value in a branch's common table.
func (s *statement) linkName(read int, path string) string {
	for i, o := range s.of[read].outs {
		if o.read == read && o.path == path && o.slot < 0 {
			return fmt.Sprintf("c%d", i)
		}
	}
	panic("relational: no link " + path)
}

// allot gives each sent value of a branch a slot of its type. Branches share
// slots, so that rows are no wider than the widest branch needs.
func (s *statement) allot(b *branch) {
	taken := make([]bool, len(s.slots))
	for i := range b.outs {
		o := &b.outs[i]
		if o.slot < 0 {
			continue
		}
		o.slot = slices.IndexFunc(s.slots, func(t string) bool { return t == o.typ })
		for o.slot >= 0 && taken[o.slot] {
			next := slices.Index(s.slots[o.slot+1:], o.typ)
			if next < 0 {
				o.slot = -1
				break
			}
			o.slot += 1 + next
		}
		if o.slot < 0 {
			o.slot = len(s.slots)
			s.slots = append(s.slots, o.typ)
			taken = append(taken, false)
		}
		taken[o.slot] = true
	}
}

// text writes the statement. The bounds are those of the inputs, rounded up to
// powers of two: a bound in the text lets the database plan for it, and few
// texts keep their plans prepared. The exact bound is a parameter around it.
func (laid statement) text(bounds []int64) (text string, params []param) {
	s := &laid // a copy: texts are written while other runs read the layout
	s.params = nil
	var w writer
	separator := "WITH "
	for _, b := range s.branches {
		if b.children {
			w.add(separator, fmt.Sprintf("b%d AS (", b.number))
			s.branch(&w, b, bounds)
			w.add(")")
			separator = ",\n"
		}
	}
	if separator != "WITH " {
		w.add("\n")
	}
	for i, b := range s.branches {
		if i > 0 {
			w.add("\nUNION ALL\n")
		}
		w.add(fmt.Sprintf("SELECT %d, o, p", b.number))
		for slot, typ := range s.slots {
			w.add(", ")
			if name, ok := b.slotName(slot); ok {
				w.add(name)
			} else {
				w.add("NULL::", typ)
			}
		}
		if b.children {
			w.add(fmt.Sprintf(" FROM b%d", b.number))
			continue
		}
		w.add(" FROM (")
		s.branch(&w, b, bounds)
		w.add(fmt.Sprintf(") b%d", b.number))
	}
	return w.String(), s.params
}

func (b *branch) slotName(slot int) (string, bool) {
	for i, o := range b.outs {
		if o.slot == slot {
			return fmt.Sprintf("c%d", i), true
		}
	}
	return "", false
}

type writer struct{ strings.Builder }

func (w *writer) add(parts ...string) {
	for _, p := range parts {
		w.WriteString(p)
	}
}

// quote quotes an identifier.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func column(alias string, read int, path string) string {
	return fmt.Sprintf("%s%d.%s", alias, read, quote(path))
}

// branch writes the SELECT of a branch: o is the row's number, p the number of
// the row above, and c0, c1 … its values.
func (s *statement) branch(w *writer, b *branch, bounds []int64) {
	r := s.reads[b.read]
	t := fmt.Sprintf("t%d", b.read)
	switch {
	case b.host == nil:
		w.add("SELECT ", t, ".o AS o, 0::int8 AS p")
	case r.Limit || r.Offset:
		w.add("SELECT row_number() OVER (ORDER BY h.o, ", t, ".o) AS o, h.o AS p")
	default:
		w.add("SELECT row_number() OVER (ORDER BY h.o", s.orderKeys(b.read, ", "), ") AS o, h.o AS p")
	}
	for i, o := range b.outs {
		w.add(", ", cast(column("t", o.read, o.path), s.field(o.read, o.path), o), fmt.Sprintf(" AS c%d", i))
	}
	w.add("\n  FROM ")
	switch {
	case b.host == nil:
		s.root(w, b, bounds)
	case r.Limit || r.Offset:
		w.add(fmt.Sprintf("b%d h CROSS JOIN LATERAL (SELECT row_number() OVER () AS o, q.* FROM (SELECT ", b.host.number), s.columnList(b), "\n    FROM ")
		if r.Through != nil {
			w.add(quote(r.Through.Set), fmt.Sprintf(" m%d, ", b.read))
		}
		s.table(w, b.read)
		w.add("\n   WHERE ", s.linked(b.read), s.conditions(b.read), s.orderBy(b.read))
		s.bounded(w, b.read, bounds)
		w.add(") ", t)
	default:
		w.add(fmt.Sprintf("b%d h JOIN ", b.host.number))
		if r.Through != nil {
			w.add(quote(r.Through.Set), fmt.Sprintf(" m%d ON ", b.read), s.equal(fmt.Sprintf("m%d", b.read), r.Through.Here, b.read), "\n  JOIN ")
		}
		s.table(w, b.read)
		w.add(" ON ")
		if r.Through != nil {
			w.add(pairJoin(b.read, r))
		} else {
			w.add(s.equal(t, r.There, b.read))
		}
		w.add(s.conditions(b.read))
	}
	for _, j := range b.joined {
		jr := s.reads[j]
		w.add("\n  LEFT JOIN ")
		s.table(w, j)
		w.add(" ON ")
		for k := range jr.There {
			if k > 0 {
				w.add(" AND ")
			}
			w.add(column("t", j, jr.There[k]), " = ", column("t", jr.Parent, jr.Here[k]))
		}
		w.add(s.conditions(j))
	}
}

func (s *statement) table(w *writer, read int) {
	w.add(quote(s.reads[read].Set), fmt.Sprintf(" t%d", read))
}

// linked writes how the rows of a folded read belong to the host's row h,
// inside a lateral select.
func (s *statement) linked(read int) string {
	r := s.reads[read]
	if r.Through == nil {
		return s.equal(fmt.Sprintf("t%d", read), r.There, read)
	}
	return s.equal(fmt.Sprintf("m%d", read), r.Through.Here, read) + " AND " + pairJoin(read, r)
}

// equal writes that fields of alias equal the linking values of the host.
func (s *statement) equal(alias string, fields []string, read int) string {
	r := s.reads[read]
	terms := make([]string, len(fields))
	for k, f := range fields {
		terms[k] = alias + "." + quote(f) + " = h." + s.linkName(r.Parent, r.Here[k])
	}
	return strings.Join(terms, " AND ")
}

// pairJoin writes how a row belongs to its pair.
func pairJoin(read int, r *store.Read) string {
	terms := make([]string, len(r.There))
	for k := range r.There {
		terms[k] = column("t", read, r.There[k]) + " = " + column("m", read, r.Through.There[k])
	}
	return strings.Join(terms, " AND ")
}

// root writes the rows of a read that hangs from no other: numbered in their
// order before anything is joined to them.
func (s *statement) root(w *writer, b *branch, bounds []int64) {
	r := s.reads[b.read]
	t := fmt.Sprintf("t%d", b.read)
	if len(r.Keys) > 0 && (r.Limit || r.Offset) {
		w.add("(SELECT row_number() OVER () AS o, l.* FROM ", s.keySets(b.read), " CROSS JOIN LATERAL (SELECT q.* FROM (SELECT ", s.columnList(b), "\n    FROM ")
		s.table(w, b.read)
		w.add(" WHERE ", s.keyed(b.read), s.conditions(b.read), s.orderBy(b.read))
		s.bounded(w, b.read, bounds)
		w.add(") l) ", t)
		return
	}
	w.add("(SELECT row_number() OVER () AS o, q.* FROM (")
	w.add("SELECT ", s.columnList(b), " FROM ")
	s.table(w, b.read)
	where := " WHERE "
	if len(r.Keys) == 1 {
		w.add(where, column("t", b.read, r.Columns[r.Keys[0]].Path), " = ANY (", s.keyValue(b.read, 0), ")")
		where = " AND "
	} else if len(r.Keys) > 1 {
		w.add(" JOIN ", s.keySets(b.read), " ON ", s.keyed(b.read))
	}
	if c := s.conditions(b.read); c != "" {
		w.add(where, strings.TrimPrefix(c, " AND "))
	}
	w.add(s.orderBy(b.read))
	s.bounded(w, b.read, bounds)
	w.add(") ", t)
}

// keyValue writes the values of one key as an array parameter.
func (s *statement) keyValue(read, k int) string {
	r := s.reads[read]
	c := r.Columns[r.Keys[k]]
	return s.param(param{read, keyParam, k}, arrayCast(s.field(read, c.Path), c.Kind))
}

// keySets writes the combinations of key values as a table k.
func (s *statement) keySets(read int) string {
	var values, names []string
	for k := range s.reads[read].Keys {
		values = append(values, s.keyValue(read, k))
		names = append(names, fmt.Sprintf("k%d", k))
	}
	return "unnest(" + strings.Join(values, ", ") + ") AS k(" + strings.Join(names, ", ") + ")"
}

func (s *statement) keyed(read int) string {
	r := s.reads[read]
	var terms []string
	for k, c := range r.Keys {
		terms = append(terms, fmt.Sprintf("%s = k.k%d", column("t", read, r.Columns[c].Path), k))
	}
	return strings.Join(terms, " AND ")
}

// columnList writes the columns of a branch's own table that are used.
func (s *statement) columnList(b *branch) string {
	var names []string
	add := func(path string) {
		if name := column("t", b.read, path); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, o := range b.outs {
		if o.read == b.read {
			add(o.path)
		}
	}
	for _, j := range b.joined {
		if s.reads[j].Parent == b.read {
			for _, path := range s.reads[j].Here {
				add(path)
			}
		}
	}
	if len(names) == 0 {
		return "1"
	}
	return strings.Join(names, ", ")
}

// conditions writes " AND …" for each condition of a read.
func (s *statement) conditions(read int) string {
	var b strings.Builder
	for n, c := range s.reads[read].Where {
		f := s.field(read, c.Path)
		if c.Many {
			fmt.Fprintf(&b, " AND %s = ANY (%s)", column("t", read, c.Path), s.param(param{read, whereParam, n}, arrayCast(f, c.Kind)))
		} else {
			fmt.Fprintf(&b, " AND %s = %s", column("t", read, c.Path), s.param(param{read, whereParam, n}, singleCast(f, c.Kind)))
		}
	}
	return b.String()
}

// param adds a parameter and returns its text with a cast.
func (s *statement) param(p param, typ string) string {
	s.params = append(s.params, p)
	return fmt.Sprintf("$%d%s", len(s.params), typ)
}

// orderKeys writes the sort keys of a read, each behind separator; the primary
// key is last, so that equal rows keep their order.
func (s *statement) orderKeys(read int, separator string) string {
	r := s.reads[read]
	set := s.catalogue.Sets[r.Set]
	var b strings.Builder
	key := func(path string, desc bool) {
		b.WriteString(separator + column("t", read, path))
		nullable := false
		if f := set.Field(path); f != nil {
			nullable = f.Nullable
		}
		switch {
		case desc && nullable:
			b.WriteString(" DESC NULLS LAST")
		case desc:
			b.WriteString(" DESC")
		case nullable:
			b.WriteString(" NULLS FIRST")
		}
	}
	for _, o := range r.Sort {
		key(o.Path, o.Desc)
	}
	if len(set.Keys) > 0 {
		for _, path := range set.Keys[0] {
			if !slices.ContainsFunc(r.Sort, func(o store.Order) bool { return o.Path == path }) {
				key(path, false)
			}
		}
	}
	return b.String()
}

func (s *statement) orderBy(read int) string {
	keys := s.orderKeys(read, ", ")
	if keys == "" {
		return ""
	}
	return "\n   ORDER BY " + strings.TrimPrefix(keys, ", ")
}

// bounded closes a select called q with the rounded bound inside and the exact
// one around it.
func (s *statement) bounded(w *writer, read int, bounds []int64) {
	r := s.reads[read]
	if r.Limit && bounds[read] < noBound {
		w.add(fmt.Sprintf(" LIMIT %d", bounds[read]))
	}
	if r.Offset {
		w.add(" OFFSET ", s.param(param{read: read, what: offsetParam}, "::int8"))
	}
	w.add(") q")
	if r.Limit {
		w.add(" LIMIT ", s.param(param{read: read, what: limitParam}, "::int8"))
	}
}

// noBound is the rounded bound from which on a limit is not in the text.
const noBound = 1 << 16

// round returns a limit rounded up to a power of two.
func round(limit int64) int64 {
	n := int64(8)
	for n < limit && n < noBound {
		n *= 2
	}
	return n
}
