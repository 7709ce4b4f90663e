package relational

import (
	"fmt"
	"strings"

	"osprey/core/store"
)

// This file writes predicates. A comparison with NULL is neither true nor false
// to SQL, and false to Osprey: so a negation says that what is negated is not
// true, and never that it is false.

// predicates writes " AND …" for each predicate of a read.
func (s *statement) predicates(read int) string {
	return s.all(read, fmt.Sprintf("t%d", read), s.reads[read].Set, s.reads[read].Where)
}

// all writes " AND …" for each predicate on a row of alias, a row of a set.
func (s *statement) all(read int, alias, set string, where []store.Predicate) string {
	var b strings.Builder
	for i := range where {
		b.WriteString(" AND " + s.predicate(read, alias, s.catalogue.Sets[set], &where[i]))
	}
	return b.String()
}

var comparison = map[store.Op]string{store.Above: " > ", store.AtLeast: " >= ", store.Below: " < ", store.AtMost: " <= "}

// predicate writes what a row of alias, a row of set, must fit; the values are
// those of the read.
func (s *statement) predicate(read int, alias string, set *store.Set, c *store.Predicate) string {
	switch c.Op {
	case store.All, store.Any:
		return s.combined(read, alias, set, c)
	case store.Not:
		return "(" + s.predicate(read, alias, set, &c.Of[0]) + ") IS NOT TRUE"
	case store.With:
		return s.exists(read, alias, set, c)
	case store.Missing:
		return s.own(alias, s.as(set, c.Path, store.Text)) + " IS NULL"
	case store.After:
		return s.behind(read, alias, set, c)
	}
	f := s.as(set, c.Path, c.Kind)
	own := s.own(alias, f)
	value := func() string {
		return s.one(param{read: read, what: whereParam, n: c.Value, field: f, kind: c.Kind})
	}
	switch c.Op {
	case store.Contains, store.StartsWith, store.EndsWith:
		// A part of a text need not be of the column's type.
		part := func() string { return s.one(param{read: read, what: whereParam, n: c.Value, kind: store.Text}) }
		return s.dialect.within(c.Op, own, part)
	}
	switch {
	case c.Many:
		values := s.one(param{read: read, what: whereParam, n: c.Value, field: f, kind: c.Kind, many: true})
		return s.narrowed(s.dialect.anyOf(own, values, f, c.Kind), alias, f, func(form string) string { return s.dialect.equalForm(form, values, true) })
	case c.Op == store.Is:
		given := value()
		return s.narrowed(s.dialect.equals(own, given, f, c.Kind), alias, f, func(form string) string { return s.dialect.equalForm(form, given, false) })
	}
	return s.dialect.ordered(own, f, c.Kind) + comparison[c.Op] + s.dialect.orderedBy(value(), f)
}

func (s *statement) combined(read int, alias string, set *store.Set, c *store.Predicate) string {
	word, none := " AND ", "true"
	if c.Op == store.Any {
		word, none = " OR ", "false"
	}
	if len(c.Of) == 0 {
		return none
	}
	terms := make([]string, len(c.Of))
	for i := range c.Of {
		terms[i] = s.predicate(read, alias, set, &c.Of[i])
	}
	return "(" + strings.Join(terms, word) + ")"
}

// exists writes that some related row fits.
func (s *statement) exists(read int, alias string, set *store.Set, c *store.Predicate) string {
	s.inner++
	own, pairs := fmt.Sprintf("e%d", s.inner), fmt.Sprintf("p%d", s.inner)
	var w writer
	if t := c.Link.JoinTable; t != nil {
		w.add("EXISTS (SELECT 1 FROM ", s.quote(t.Set), " ", pairs, " JOIN ", s.quote(c.Link.Set), " ", own,
			" ON ", s.equalFields(fields{own, c.Link.Set, c.Link.There}, fields{pairs, t.Set, t.There}),
			" WHERE ", s.equalFields(fields{pairs, t.Set, t.Here}, fields{alias, set.Name, c.Link.Here}), s.all(read, pairs, t.Set, t.Where))
	} else {
		w.add("EXISTS (SELECT 1 FROM ", s.quote(c.Link.Set), " ", own, " WHERE ", s.equalFields(fields{own, c.Link.Set, c.Link.There}, fields{alias, set.Name, c.Link.Here}))
	}
	related := s.catalogue.Sets[c.Link.Set]
	for i := range c.Of {
		w.add(" AND ", s.predicate(read, own, related, &c.Of[i]))
	}
	w.add(")")
	return w.String()
}

// behind writes that a row stands behind the values of a cursor.
func (s *statement) behind(read int, alias string, set *store.Set, c *store.Predicate) string {
	text := ""
	for i := len(c.By) - 1; i >= 0; i-- {
		o := c.By[i]
		f := s.fieldOf(set, o.Via, o.Path, o.Kind)
		own, nullable := s.orderValue(read, alias, set, o)
		nullable = nullable || c.Foreign
		value := func() string {
			p := param{read: read, what: whereParam, n: c.Value + i, field: f, kind: kindAs(f, o.Kind)}
			if o.Bytes && f.Kind == store.Text {
				p.field = nil // whatever type the column has, it is compared as a text
				return s.one(p)
			}
			return s.dialect.orderedBy(s.one(p), f)
		}
		sign := " > "
		if o.Desc {
			sign = " < "
		}
		// What is further back has its parameters first; their order in the text
		// does not matter, since they have numbers.
		further := own + sign + value()
		switch {
		case nullable && o.NullsFirst():
			further = "(" + further + " OR " + value() + " IS NULL AND " + own + " IS NOT NULL)"
		case nullable:
			further = "(" + further + " OR " + own + " IS NULL AND " + value() + " IS NOT NULL)"
		}
		equals := " = "
		if nullable {
			equals = s.dialect.same()
		}
		switch {
		case text != "":
			text = "(" + further + " OR " + own + equals + value() + " AND " + text + ")"
		case c.Also:
			text = "(" + further + " OR " + own + equals + value() + ")"
		default:
			text = further
			continue
		}
		if i == 0 && !nullable { // what an index can use
			text = own + strings.TrimSpace(sign) + "= " + value() + " AND " + text
		}
	}
	return text
}

// fieldOf returns a field over links, as it is used where values of a kind are wanted.
func (s *statement) fieldOf(set *store.Set, via []store.Link, path string, kind store.Kind) *store.Field {
	if len(via) > 0 {
		set = s.catalogue.Sets[via[len(via)-1].Set]
	}
	return s.as(set, path, kind)
}
