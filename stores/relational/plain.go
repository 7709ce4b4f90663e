package relational

import (
	"fmt"
	"strings"

	"osprey/core/store"
)

// This file writes what databases need that neither know LATERAL nor keep an
// order: windows, which number the rows of each key or row above.

// plainRoot writes the rows of a read that hangs from no other, numbered in
// their order.
func (s *statement) plainRoot(b *branch) string {
	r := s.reads[b.read]
	where := s.predicates(b.read)
	if len(r.Keys) > 0 {
		where = " AND " + s.oneOfKeys(b.read) + where
	}
	if where != "" {
		where = "\n   WHERE " + strings.TrimPrefix(where, " AND ")
	}
	from := s.columnList(b) + "\n    FROM " + s.table(b.read) + where
	if r.Aggregates {
		return "SELECT " + from
	}
	order := strings.TrimPrefix(s.orderKeys(b.read, ", "), ", ")
	if order == "" {
		order = "1"
	}
	if len(r.Keys) > 0 && s.bounded(b.read) {
		var keys, outer []string
		for _, k := range r.Keys {
			keys = append(keys, s.column("t", b.read, r.Columns[k].Path))
			outer = append(outer, "q."+s.quote(r.Columns[k].Path))
		}
		inner := "SELECT row_number() OVER (PARTITION BY " + strings.Join(keys, ", ") + " ORDER BY " + order + ") AS " + s.quote(place) + ", " + from
		return "SELECT row_number() OVER (ORDER BY " + strings.Join(outer, ", ") + ", q." + s.quote(place) + ") AS " + s.quote(number) +
			", q.* FROM (" + inner + ") q WHERE " + strings.TrimPrefix(s.window(b.read, "q"), " AND ")
	}
	offset := ""
	if r.Offset {
		offset = " - " + s.one(param{read: b.read, what: offsetParam, kind: store.Int})
	}
	rows := "SELECT row_number() OVER (ORDER BY " + order + ")" + offset + " AS " + s.quote(number) + ", " + from
	if !s.bounded(b.read) {
		return rows
	}
	limit := "9223372036854775807"
	if r.Limit {
		limit = s.one(param{read: b.read, what: limitParam, kind: store.Int})
	}
	rows += "\n   ORDER BY " + order + " LIMIT " + limit
	if r.Offset {
		rows += " OFFSET " + s.one(param{read: b.read, what: offsetParam, kind: store.Int})
	}
	return rows
}

// place is the column of a row's number within its key or row above.
const place = "#k"

// window writes " AND …" for the bounds of a read's numbered rows.
func (s *statement) window(read int, alias string) string {
	r := s.reads[read]
	own := alias + "." + s.quote(place)
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

// oneOfKeys writes that a row has one of the combinations of keys.
func (s *statement) oneOfKeys(read int) string {
	r := s.reads[read]
	if len(r.Keys) == 1 {
		return s.hasKey(read)
	}
	var own []string
	for _, k := range r.Keys {
		own = append(own, s.column("t", read, r.Columns[k].Path))
	}
	return s.dialect.windowed.anyOfKeys(own, s.one(param{read: read, what: keysParam, n: len(r.Keys), many: true}))
}

// windowed writes the bounded rows that hang from the rows h of a host, with
// the predicate by which they are joined to it.
func (s *statement) windowed(b *branch, pairs, own string) string {
	r := s.reads[b.read]
	alias, fields := "t", r.There
	from := own
	if r.JoinTable != nil {
		alias, fields = "m", r.JoinTable.Here
		from = pairs + " JOIN " + own + " ON " + s.pairJoin(b.read, r)
	}
	var links, names, here, on []string
	for k, f := range fields {
		link := fmt.Sprintf("l%d", k)
		links = append(links, s.column(alias, b.read, f))
		names = append(names, s.column(alias, b.read, f)+" AS "+link)
		here = append(here, "h."+s.linkName(r.Parent, r.Here[k]))
		on = append(on, fmt.Sprintf("t%d.%s = ", b.read, link)+here[k])
	}
	own = strings.Join(links, ", ")
	if len(links) > 1 {
		own = "(" + own + ")"
	}
	order := strings.TrimPrefix(s.orderKeys(b.read, ", "), ", ")
	inner := "SELECT row_number() OVER (PARTITION BY " + strings.Join(links, ", ") + " ORDER BY " + order + ") AS " + s.quote(place) + ", " +
		strings.Join(names, ", ") + ", " + s.columnList(b) + "\n    FROM " + from +
		"\n   WHERE " + own + " IN (SELECT " + strings.Join(here, ", ") + fmt.Sprintf(" FROM b%d h)", b.host.number) + s.predicates(b.read)
	return "(" + inner + ")" + fmt.Sprintf(" t%d", b.read) + " ON " + strings.Join(on, " AND ") + s.window(b.read, fmt.Sprintf("t%d", b.read))
}
