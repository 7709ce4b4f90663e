package relational

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file writes orders, also by fields of related records.

// orderKeys writes the sort keys of a read, each behind separator; the primary
// key is last, so that equal rows keep their order.
func (s *statement) orderKeys(read int, separator string) string {
	var b strings.Builder
	for _, t := range s.orderTerms(read) {
		b.WriteString(separator + s.dialect.order(t.expr, t.order, t.nullable))
	}
	return b.String()
}

// An orderTerm is a sort key as it is written.
type orderTerm struct {
	expr     string
	order    store.Order
	nullable bool
}

func (s *statement) orderTerms(read int) []orderTerm {
	set := s.catalogue.Sets[s.reads[read].Set]
	var terms []orderTerm
	for _, o := range s.fullOrder(read) {
		expr, nullable := s.orderValue(read, fmt.Sprintf("t%d", read), set, o)
		terms = append(terms, orderTerm{expr, o, nullable})
	}
	return terms
}

// fullOrder returns the sort keys of a read with the primary key behind them.
func (s *statement) fullOrder(read int) []store.Order {
	r := s.reads[read]
	orders := slices.Clone(r.Sort)
	if set := s.catalogue.Sets[r.Set]; len(set.Keys) > 0 {
		for _, path := range set.Keys[0] {
			if !slices.ContainsFunc(r.Sort, func(o store.Order) bool { return o.Path == path && len(o.Via) == 0 }) {
				orders = append(orders, store.Order{Path: path})
			}
		}
	}
	return orders
}

// orderValue writes the value of a sort key, and says whether it may be NULL.
func (s *statement) orderValue(read int, alias string, set *store.Set, o store.Order) (expr string, nullable bool) {
	f := s.fieldOf(set, o.Via, o.Path, o.Kind)
	if len(o.Via) > 0 {
		expr, nullable = s.via(read, alias, set, o.Via, f), true
	} else {
		expr, nullable = s.own(alias, f), f.Nullable || set.What == "view"
	}
	switch {
	case o.Bytes && f.Kind == store.Text:
		if len(f.Also) > 0 {
			expr = s.dialect.ordered(expr, f, f.Kind)
		}
		expr = s.dialect.bytes(expr)
	default:
		expr = s.dialect.ordered(expr, f, kindAs(f, o.Kind))
	}
	return expr, nullable
}

// via writes the value of a field of the one record that links lead to from a
// row of alias, a row of set.
func (s *statement) via(read int, alias string, set *store.Set, links []store.Link, f *store.Field) string {
	var w writer
	for i, l := range links {
		own := fmt.Sprintf("v%d", i)
		if i == 0 {
			w.add("(SELECT ", s.own(fmt.Sprintf("v%d", len(links)-1), f), " FROM ", s.quote(l.Set), " ", own)
		} else {
			w.add(" JOIN ", s.quote(l.Set), " ", own, " ON ", s.equalFields(fields{own, l.Set, l.There}, fields{fmt.Sprintf("v%d", i-1), links[i-1].Set, l.Here}))
		}
	}
	w.add(" WHERE ", s.equalFields(fields{"v0", links[0].Set, links[0].There}, fields{alias, set.Name, links[0].Here}))
	for i, l := range links {
		w.add(s.all(read, fmt.Sprintf("v%d", i), l.Set, l.Where))
	}
	w.add(")")
	return w.String()
}
