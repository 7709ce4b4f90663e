package relational

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/store"
)

// A statement is a layout while its text is written.
type statement struct {
	*layout
	bounds []int64 // of each read, rounded up
	params []param
	inner  int // how many tables of predicates were named
}

// A param is a parameter of the statement: its value comes from the inputs.
type param struct {
	read   int
	what   paramKind
	n      int          // which key, or which of the values of the predicates
	field  *store.Field // what the value is compared with
	kind   store.Kind   // of the value
	many   bool         // several values, as an array
	fields []keyField   // of combinations: what they are compared with
}

type paramKind uint8

const (
	keyParam  paramKind = iota
	keysParam           // all keys, as combinations
	listParam           // all keys as a JSON array, in each form that JSON may have them in
	whereParam
	limitParam
	offsetParam
)

// text writes the statement. The bounds are those of the inputs, rounded up to
// powers of two: a bound in the text lets the database plan for it, and few
// texts keep their plans prepared. The exact bound is a parameter around it.
//
// A branch that others hang from is a common table b0, b1 …, whose columns are
// o, the row's number unless it is told apart by a key, p, the key or number of
// the row above, and c0, c1 … for the branch's values. Tables are named t and
// the number of their read. In the text of the example of [layout], shortened, the
// column # is the number of a row within its subquery:
//
//	WITH b0 AS (SELECT t0."#" AS o, t0."name" AS c0, t0."code" AS c1
//	  FROM (the quays, numbered in their order) t0),
//	b1 AS (SELECT row_number() OVER (ORDER BY h.o, t1."number") AS o, h.o AS p, t1."name" AS c0, …
//	  FROM b0 h JOIN "berths" t1 ON t1."quay_code" = h.c1)
//	(SELECT 0, b.c0, NULL::bigint, NULL::bigint, NULL::craft_type, NULL::integer FROM b0 b)
//	UNION ALL
//	(SELECT 1, b.c0, b.p, NULL::bigint, NULL::craft_type, NULL::integer FROM b1 b)
//	UNION ALL
//	(SELECT 2, t3."name", h.o, t2."id", t3."craft_type", t3."imo"
//	  FROM b1 h CROSS JOIN LATERAL (the calls of h, numbered: LIMIT 32 inside, $1 around it) t2
//	  LEFT JOIN "craft" t3 ON t3."imo" = t2."craft_imo"
//	 ORDER BY h.o, t2."#")
func (l *layout) text(bounds []int64) (text string, params []param) {
	s := &statement{layout: l, bounds: bounds}
	var w writer
	separator := "WITH "
	for _, b := range l.branches {
		if b.common {
			w.add(separator, fmt.Sprintf("b%d AS (", b.number))
			s.commonTable(&w, b)
			w.add(")")
			separator = ",\n"
		}
	}
	if separator != "WITH " {
		w.add("\n")
	}
	for i, b := range l.branches {
		if i > 0 {
			w.add("\nUNION ALL\n")
		}
		if l.several() {
			w.add("(")
		}
		s.branch(&w, b)
		if l.several() {
			w.add(")")
		}
	}
	if l.reads[0].Lock {
		w.add(l.dialect.writing.lock())
	}
	return w.String(), s.params
}

type writer struct{ strings.Builder }

func (w *writer) add(parts ...string) {
	for _, p := range parts {
		w.WriteString(p)
	}
}

func (s *statement) quote(name string) string { return s.dialect.quote(name) }

func (s *statement) column(alias string, read int, path string) string {
	return fmt.Sprintf("%s%d.%s", alias, read, s.quote(path))
}

// commonTable writes the SELECT of a branch's common table.
func (s *statement) commonTable(w *writer, b *branch) {
	r := s.reads[b.read]
	w.add("SELECT ")
	separator := ""
	switch {
	case b.key != "":
	case b.host == nil:
		w.add(s.number(b.read), " AS o")
		separator = ", "
	default:
		w.add("row_number() OVER (ORDER BY ", s.childOrder(b), ") AS o, ", s.above(b), " AS p")
		separator = ", "
	}
	for i, o := range b.outs {
		if b.isInside(o.read) {
			w.add(separator, s.expression(o), fmt.Sprintf(" AS c%d", i))
			separator = ", "
		}
	}
	w.add("\n  FROM ")
	if r.Parent < 0 {
		s.root(w, b, b.key == "")
	} else {
		s.child(w, b)
	}
	s.joins(w, b, b.inside)
}

// branch writes the SELECT whose rows are sent.
func (s *statement) branch(w *writer, b *branch) {
	w.add("SELECT ")
	separator := ""
	if s.several() {
		w.add(fmt.Sprint(b.number))
		separator = ", "
	}
	for slot, typ := range s.slots {
		w.add(separator, s.value(b, slot, typ))
		separator = ", "
	}
	if len(s.slots) == 0 {
		w.add(separator, "1") // nothing is wanted but that the row is there
	}
	w.add("\n  FROM ")
	switch {
	case b.common:
		w.add(fmt.Sprintf("b%d b", b.number))
		s.joins(w, b, b.outside())
	case b.lookup:
		s.lookup(w, b)
	case b.pairs:
		r := s.reads[b.read]
		m := fmt.Sprintf("m%d", b.read)
		w.add(fmt.Sprintf("b%d h JOIN ", b.host.number), s.quote(r.JoinTable.Set), " ", m, " ON ", s.equal(m, b.read), s.pairsFit(b.read))
	case b.host == nil:
		s.root(w, b, s.numbered(b))
		s.joins(w, b, b.joined)
	default:
		s.child(w, b)
		s.joins(w, b, b.joined)
		if !s.reads[b.read].Aggregates {
			w.add("\n ORDER BY ", s.childOrder(b))
		}
	}
	if s.reads[b.read].Aggregates {
		s.groups(w, b)
	}
}

// groups writes of what a branch of totals makes them.
func (s *statement) groups(w *writer, b *branch) {
	var by []string
	if b.host != nil && s.dialect.lateral() {
		by = append(by, s.above(b))
	}
	for i := range b.outs {
		if o := &b.outs[i]; o.total == store.NoAggregate {
			by = append(by, s.expression(*o))
		}
	}
	if len(by) > 0 {
		w.add("\n GROUP BY ", strings.Join(by, ", "))
	}
}

// value writes what a branch sends in a slot.
func (s *statement) value(b *branch, slot int, typ string) string {
	switch {
	case slot == b.row && b.common:
		return "b.o"
	case slot == b.row:
		if b.host != nil {
			return "row_number() OVER (ORDER BY " + s.childOrder(b) + ")"
		}
		return s.number(b.read)
	case slot == b.above && b.common:
		return "b.p"
	case slot == b.above:
		return s.above(b)
	}
	for i, o := range b.outs {
		if o.slot != slot {
			continue
		}
		if b.pairs {
			return s.column("m", o.read, o.path)
		}
		expr := s.expression(o)
		if b.isInside(o.read) {
			expr = fmt.Sprintf("b.c%d", i)
		}
		return s.dialect.sent(expr, &o)
	}
	return s.dialect.union.null(typ)
}

// expression writes a value of a read's own table.
func (s *statement) expression(o out) string {
	switch {
	case o.total == store.Count:
		return "count(*)"
	case o.total != store.NoAggregate:
		own := s.own(fmt.Sprintf("t%d", o.read), o.field)
		if o.total == store.Min || o.total == store.Max {
			own = s.dialect.ordered(own, o.field, o.kind)
		}
		return s.dialect.aggregate(o.total, own, o.field)
	case len(o.via) > 0:
		return s.via(o.read, fmt.Sprintf("t%d", o.read), s.set(o.read), o.via, o.field)
	}
	if o.link > 0 && o.read == o.below {
		return s.own(s.linkAlias(o.read), o.field)
	}
	return s.own(fmt.Sprintf("t%d", o.read), o.field)
}

// A fields is fields of a table, by the name that it has in the statement.
type fields struct {
	alias, set string
	names      []string
}

// equalFields writes that fields of one table, which are looked for, equal those of
// another.
func (s *statement) equalFields(there, here fields) string {
	terms := make([]string, len(there.names))
	ofHere, ofThere := s.matched(s.catalogue.Sets[here.set], s.catalogue.Sets[there.set], here.names, there.names)
	for k, f := range ofThere {
		terms[k] = s.meet(there.alias, f, s.own(here.alias, ofHere[k]), ofHere[k])
	}
	return strings.Join(terms, " AND ")
}

// meet writes that a field of one table, which is looked for, equals a value of another.
func (s *statement) meet(alias string, f *store.Field, here string, other *store.Field) string {
	return s.narrowed(s.dialect.meet(s.own(alias, f), f, here, other), alias, f, func(form string) string {
		return s.dialect.equalForm(form, here, false)
	})
}

// above writes what names the row h above.
func (s *statement) above(b *branch) string {
	if b.host.key != "" {
		return "h." + s.linkName(b.host.read, s.set(b.host.read).Field(b.host.key))
	}
	return "h.o"
}

// childOrder writes the order of the rows of a branch that hangs from another.
// The rows above come first only because they are cheap to compare.
func (s *statement) childOrder(b *branch) string {
	if s.bounded(b.read) {
		return s.above(b) + ", " + s.number(b.read)
	}
	return s.above(b) + s.orderKeys(b.read, ", ")
}

// bounded reports whether the store bounds a read's rows.
func (s *statement) bounded(read int) bool { return s.reads[read].Limit || s.reads[read].Offset }

// joins writes the joins of reads of at most one row. Their parents are named
// either directly or, where they are part of the common table b, by it.
func (s *statement) joins(w *writer, b *branch, reads []int) {
	for _, j := range reads {
		r := s.reads[j]
		w.add("\n  LEFT JOIN ", s.table(j), " ON ")
		ofParent, own := s.linked(j)
		for k, f := range own {
			if k > 0 {
				w.add(" AND ")
			}
			here := s.own(fmt.Sprintf("t%d", r.Parent), ofParent[k])
			if b.isInside(r.Parent) && !b.isInside(j) {
				here = "b." + s.linkName(r.Parent, ofParent[k])
			}
			w.add(s.meet(fmt.Sprintf("t%d", j), f, here, ofParent[k]))
		}
		w.add(s.predicates(j))
	}
}

// linkName returns the name of a linking value in a common table.
func (s *statement) linkName(read int, f *store.Field) string {
	for i, o := range s.of[read].outs {
		if o.is(read, f) {
			return fmt.Sprintf("c%d", i)
		}
	}
	panic("relational: no link " + f.Name)
}

// table names a read's table.
func (s *statement) table(read int) string {
	return s.quote(s.reads[read].Set) + fmt.Sprintf(" t%d", read)
}

// child writes the rows of a read that hangs from a row h of its host.
func (s *statement) child(w *writer, b *branch) {
	r := s.reads[b.read]
	host := fmt.Sprintf("b%d h", b.host.number)
	own := s.table(b.read)
	pairs, linked, distinct := "", "", false
	if r.JoinTable != nil {
		m := fmt.Sprintf("m%d", b.read)
		pairs, linked = s.quote(r.JoinTable.Set)+" "+m, s.equal(m, b.read)
		if distinct = s.repeatsInSQL(b.read) && s.repeats(r.JoinTable); distinct {
			pairs, linked = "LATERAL ("+s.distinctPairs(b.read, linked)+") "+m, "true"
		}
	}
	switch {
	case s.bounded(b.read):
		if pairs != "" {
			own = pairs + " JOIN " + own + " ON " + s.pairJoin(b.read, r, distinct)
		} else {
			linked = s.equal(fmt.Sprintf("t%d", b.read), b.read)
		}
		w.add(host, " CROSS JOIN LATERAL (", s.numberedRows(s.rows(b, own+"\n   WHERE "+linked+s.predicates(b.read))), ")", fmt.Sprintf(" t%d", b.read))
	case pairs != "":
		w.add(host, " JOIN ", pairs, " ON ", linked, "\n  JOIN ", own, " ON ", s.pairJoin(b.read, r, distinct), s.predicates(b.read))
	default:
		w.add(host, " JOIN ", own, " ON ", s.equal(fmt.Sprintf("t%d", b.read), b.read), s.predicates(b.read))
	}
}

// lookup writes the rows of a small table: in the order that is asked for, if
// there is one, and bounded, since it may have grown.
func (s *statement) lookup(w *writer, b *branch) {
	w.add(s.table(b.read))
	if c := s.predicates(b.read); c != "" {
		w.add(" WHERE ", strings.TrimPrefix(c, " AND "))
	}
	if s.reads[b.read].JoinTable != nil {
		w.add("\n ORDER BY ", strings.TrimPrefix(s.orderKeys(b.read, ", "), ", "))
	}
	w.add(fmt.Sprintf(" LIMIT %d", s.grownLookup()))
}

// grownLookup is how many records of a small table show that it no longer is one.
func (l *layout) grownLookup() int64 { return 4 * l.maxLookup }

// equal writes that fields of alias, the rows or pairs of a read, equal the linking
// values of the host.
func (s *statement) equal(alias string, read int) string {
	r := s.reads[read]
	ofParent, own := s.linked(read)
	terms := make([]string, len(own))
	for k, f := range own {
		terms[k] = s.meet(alias, f, "h."+s.linkName(r.Parent, ofParent[k]), ofParent[k])
	}
	return strings.Join(terms, " AND ")
}

// root writes the rows of a read that hangs from no other, in their order;
// numbered, if others are joined to them or hang from them.
func (s *statement) root(w *writer, b *branch, numbered bool) {
	r := s.reads[b.read]
	own, where := s.table(b.read), ""
	var rows string
	switch {
	case len(r.Keys) > 0 && s.bounded(b.read):
		sets := s.keySets(b.read)
		rows = "SELECT l.* FROM " + sets + " CROSS JOIN LATERAL (" + s.rows(b, own+" WHERE "+s.keyed(b.read)+s.predicates(b.read)) + ") l"
	case len(r.Keys) > 1:
		own += " JOIN " + s.keySets(b.read) + " ON " + s.keyed(b.read)
	case len(r.Keys) == 1:
		where = " AND " + s.hasKey(b.read)
	}
	if rows == "" {
		where += s.predicates(b.read)
		if where != "" {
			where = " WHERE " + strings.TrimPrefix(where, " AND ")
		}
		rows = s.rows(b, own+where)
	}
	if numbered {
		rows = s.numberedRows(rows)
	}
	w.add("(", rows, ")", fmt.Sprintf(" t%d", b.read))
}

// rows returns the SELECT of a branch's own rows in their order, bounded if
// the store bounds them: with the rounded limit inside and the exact one
// around it.
func (s *statement) rows(b *branch, from string) string {
	r := s.reads[b.read]
	rows := "SELECT " + s.columnList(b) + "\n    FROM " + from
	if keys := s.orderKeys(b.read, ", "); keys != "" && !r.Aggregates {
		rows += "\n   ORDER BY " + strings.TrimPrefix(keys, ", ")
	}
	if r.Limit && s.bounds[b.read] < noBound {
		rows += fmt.Sprintf(" LIMIT %d", s.bounds[b.read])
	}
	if r.Offset {
		rows += " OFFSET " + s.one(param{read: b.read, what: offsetParam, kind: store.Int})
	}
	if r.Limit {
		rows = "SELECT q.* FROM (" + rows + ") q LIMIT " + s.one(param{read: b.read, what: limitParam, kind: store.Int})
	}
	return rows
}

// numberedRows numbers the rows of a SELECT in their order.
func (s *statement) numberedRows(rows string) string {
	return "SELECT row_number() OVER () AS " + s.quote(number) + ", q.* FROM (" + rows + ") q"
}

// number is the column of a row's number; no table of a sound mind has one of
// this name.
const number = "#"

// number names the number of a read's row.
func (s *statement) number(read int) string { return s.column("t", read, number) }

// columnList writes the columns of a branch's own table that are used.
func (s *statement) columnList(b *branch) string {
	var names []string
	add := func(path string) {
		if name := s.column("t", b.read, columnOf(s.as(s.set(b.read), path, store.JSON))); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, o := range b.outs {
		switch {
		case o.read != b.read || o.link > 0 && o.below == b.read:
		case len(o.via) > 0:
			for _, path := range o.via[0].Here {
				add(path)
			}
		case o.total != store.Count:
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

// one adds a parameter and returns its text.
func (s *statement) one(p param) string {
	if s.handed && p.what == keyParam {
		return "current_setting('" + setting(p.n) + "')" + strings.TrimPrefix(s.dialect.param(1, &p), "$1")
	}
	s.params = append(s.params, p)
	return s.dialect.param(len(s.params), &p)
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
