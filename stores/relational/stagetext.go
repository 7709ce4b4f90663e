package relational

import (
	"fmt"
	"strings"

	"osprey/core/store"
)

// This file writes the statement of a stage.

// stage writes the statement of a branch.
func (s *statement) stage(b *branch) string {
	r := s.reads[b.read]
	perKey := s.bounded(b.read) && (len(r.Keys) > 0 || b.host != nil)
	inner := perKey || s.bounded(b.read) && len(b.joined) > 0
	var w writer
	w.add("SELECT ")
	separator := ""
	for i := range b.outs {
		if o := &b.outs[i]; o.slot >= 0 {
			w.add(separator, s.stageValue(o, inner))
			separator = ", "
		}
	}
	if separator == "" {
		w.add("1") // nothing is wanted but that the row is there
	}
	w.add("\n  FROM ")
	if inner {
		rows, order := s.boundedRows(b, perKey)
		w.add("(", rows, ")", fmt.Sprintf(" t%d", b.read))
		s.joins(&w, b, b.joined)
		if perKey {
			w.add("\n WHERE ", strings.TrimPrefix(s.window(b.read, fmt.Sprintf("t%d", b.read)), " AND "))
		}
		if order != "" {
			w.add("\n ORDER BY ", order)
		}
		return w.String()
	}
	w.add(s.stageFrom(b))
	s.joins(&w, b, b.joined)
	w.add(s.stageWhere(b, "\n WHERE "))
	if r.Aggregates {
		s.groups(&w, b)
		return w.String()
	}
	if order := s.orderKeys(b.read, ", "); order != "" {
		w.add("\n ORDER BY ", strings.TrimPrefix(order, ", "))
	}
	if s.bounded(b.read) {
		w.add(s.plainBounds(b.read))
	}
	if r.Lock {
		w.add(s.dialect.writing.lock())
	}
	return w.String()
}

// stageValue writes a value that a stage sends.
func (s *statement) stageValue(o *out, inner bool) string {
	expr := s.expression(*o)
	if own := o.link > 0 && o.read == o.below; own && inner {
		expr = s.column("t", o.read, linkColumn(o.link-1))
	}
	if o.weigh != nil {
		expr = o.weigh(expr)
	}
	return s.dialect.sent(expr, o)
}

// stageFrom writes the tables of a branch's own rows.
func (s *statement) stageFrom(b *branch) string {
	r := s.reads[b.read]
	if r.JoinTable == nil {
		return s.table(b.read)
	}
	pairs, distinct := s.quote(r.JoinTable.Set), s.repeats(r.JoinTable)
	if distinct {
		pairs = "(" + s.distinctPairs(b.read, strings.TrimPrefix(s.stageKeys(b), " AND ")) + ")"
	}
	return pairs + fmt.Sprintf(" m%d", b.read) + " JOIN " + s.table(b.read) + " ON " + s.pairJoin(b.read, r, distinct)
}

// stageWhere writes what the rows of a branch must fit, behind begin, or nothing.
func (s *statement) stageWhere(b *branch, begin string) string {
	where := s.predicates(b.read)
	if t := s.reads[b.read].JoinTable; t == nil || !s.repeats(t) {
		where = s.stageKeys(b) + where
	}
	if where == "" {
		return ""
	}
	return begin + strings.TrimPrefix(where, " AND ")
}

// linkColumn names the column of a value by which rows hang from rows above.
func linkColumn(k int) string { return fmt.Sprintf("#l%d", k) }

// boundedRows writes the bounded rows of a branch, and their order outside: all rows, or
// those of each key, numbered.
func (s *statement) boundedRows(b *branch, perKey bool) (rows, order string) {
	terms := s.orderTerms(b.read)
	if !perKey { // the sort keys are columns, by which the rows are put in order again
		var inside, outside []string
		columns := ""
		for i, t := range terms {
			inside = append(inside, s.dialect.order(t.expr, t.order, t.nullable))
			own := fmt.Sprintf("#o%d", i) // which no table has
			outside = append(outside, s.dialect.order(s.column("t", b.read, own), t.order, t.nullable))
			columns += t.expr + " AS " + s.quote(own) + ", "
		}
		rows = "SELECT " + columns + s.columnList(b) + "\n    FROM " + s.stageFrom(b) + s.stageWhere(b, "\n   WHERE ")
		if len(inside) > 0 {
			rows += "\n   ORDER BY " + strings.Join(inside, ", ")
		}
		return rows + s.plainBounds(b.read), strings.Join(outside, ", ")
	}
	var keys, within []string
	for _, t := range terms {
		within = append(within, s.dialect.order(t.expr, t.order, t.nullable))
	}
	links := ""
	for k, f := range s.keyFields(b) {
		keys = append(keys, f.own)
		if b.host != nil {
			links += f.own + " AS " + s.quote(linkColumn(k)) + ", "
		}
	}
	if len(within) == 0 {
		within = keys
	}
	return "SELECT row_number() OVER (PARTITION BY " + strings.Join(keys, ", ") + " ORDER BY " + strings.Join(within, ", ") + ") AS " + s.quote(number) + ", " + links + s.columnList(b) +
		"\n    FROM " + s.stageFrom(b) + s.stageWhere(b, "\n   WHERE "), s.number(b.read)
}

// plainBounds writes the bounds of the rows of a read that is not asked by keys.
func (s *statement) plainBounds(read int) string {
	r := s.reads[read]
	text := " LIMIT 9223372036854775807"
	if r.Limit {
		text = " LIMIT " + s.one(param{read: read, what: limitParam, kind: store.Int})
	}
	if r.Offset {
		text += " OFFSET " + s.one(param{read: read, what: offsetParam, kind: store.Int})
	}
	return text
}

// window writes " AND …" for the bounds of a read's numbered rows.
func (s *statement) window(read int, alias string) string {
	r := s.reads[read]
	own := alias + "." + s.quote(number)
	offset, bounds := "", ""
	if r.Offset {
		offset = " + " + s.one(param{read: read, what: offsetParam, kind: store.Int})
		bounds = " AND " + own + " > " + strings.TrimPrefix(offset, " + ")
	}
	if r.Limit {
		bounds += " AND " + own + " <= " + s.one(param{read: read, what: limitParam, kind: store.Int}) + offset
	}
	return bounds
}
