package document

import (
	"regexp"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// This file writes filters.

// never fits no document, and ever every one.
var (
	never = bson.D{{Key: "_id", Value: bson.D{{Key: "$in", Value: bson.A{}}}}}
	ever  = bson.D{}
)

// predicates returns the filter of a read's predicates.
func (r *request) predicates(list []store.Predicate, in *store.Input) bson.D {
	return both(r.each(list, in, false))
}

// each returns the filters of predicates, or of what they exclude.
func (r *request) each(list []store.Predicate, in *store.Input, negated bool) bson.A {
	filters := bson.A{}
	for i := range list {
		filters = append(filters, r.predicate(&list[i], in, negated))
	}
	return filters
}

// both returns the filter that all of a list fit.
func both(list bson.A) bson.D {
	var some bson.A
	for _, d := range list {
		if len(d.(bson.D)) > 0 {
			some = append(some, d)
		}
	}
	switch len(some) {
	case 0:
		return ever
	case 1:
		return some[0].(bson.D)
	}
	return bson.D{{Key: "$and", Value: some}}
}

// either returns the filter that one of a list fits.
func either(list bson.A) bson.D {
	switch {
	case len(list) == 0:
		return never
	case slices.ContainsFunc(list, func(d any) bool { return len(d.(bson.D)) == 0 }):
		return ever
	case len(list) == 1:
		return list[0].(bson.D)
	}
	return bson.D{{Key: "$or", Value: list}}
}

var comparison = map[store.Op]string{store.Above: "$gt", store.AtLeast: "$gte", store.Below: "$lt", store.AtMost: "$lte"}

// predicate returns the filter of a predicate or, negated, of what it excludes:
// negation stands at the comparisons, where every server can do it.
func (r *request) predicate(c *store.Predicate, in *store.Input, negated bool) bson.D {
	switch c.Op {
	case store.All, store.Any:
		if filters := r.each(c.Of, in, negated); (c.Op == store.All) != negated {
			return both(filters)
		} else {
			return either(filters)
		}
	case store.Not:
		return r.predicate(&c.Of[0], in, !negated)
	case store.With:
		return r.nested(c, in, negated)
	case store.Missing:
		if negated {
			return compared(c.Path, "$ne", nil)
		}
		return is(c.Path, nil)
	case store.After:
		return r.behind(c, in)
	}
	values := r.values(c.Path, &in.Where[c.Value])
	switch {
	case len(values) == 0 && negated:
		return ever
	case len(values) == 0:
		return never
	case c.Op == store.Is && negated:
		return compared(c.Path, "$nin", values)
	case c.Op == store.Is:
		return bson.D{{Key: c.Path, Value: oneOf(values)}}
	}
	list := bson.A{}
	for _, v := range values { // in each type in which the value may be stored
		var test any = bson.D{{Key: comparison[c.Op], Value: v}}
		if comparison[c.Op] == "" {
			text, ok := v.(string)
			if !ok || strings.ContainsRune(text, 0) { // which no pattern can hold
				continue
			}
			test = bson.Regex{Pattern: pattern(c.Op, text)}
		}
		if negated {
			test = bson.D{{Key: "$not", Value: test}}
		}
		list = append(list, bson.D{{Key: c.Path, Value: test}})
	}
	if negated {
		return both(list)
	}
	return either(list)
}

func is(path string, v any) bson.D { return compared(path, "$eq", v) }

func compared(path, op string, v any) bson.D {
	return bson.D{{Key: path, Value: bson.D{{Key: op, Value: v}}}}
}

// nested returns a filter on documents in an array. A path with dots that leads
// through an array means some document in it, and negated none, which says it
// all where one comparison is made. What several comparisons ask of the same
// document no path can say, and not every server has an operator for it: then
// the filter lets through whatever may fit, and the rest is done here.
func (r *request) nested(c *store.Predicate, in *store.Input, negated bool) bson.D {
	if len(c.Of) == 0 {
		return compared(c.Path+".0", "$exists", !negated)
	}
	if leaf := comparisonIn(c); leaf != nil {
		there := *leaf
		there.Path = c.Path + "." + leaf.Path
		return r.predicate(&there, in, negated)
	}
	if negated {
		return ever
	}
	return r.perhaps(&store.Predicate{Op: store.All, Of: c.Of}, in, c.Path+".")
}

// comparisonIn returns the one comparison that a With makes, or nil.
func comparisonIn(with *store.Predicate) *store.Predicate {
	c := with
	for len(c.Of) == 1 && (c.Op == store.With && c == with || c.Op == store.All) {
		c = &c.Of[0]
	}
	switch c.Op {
	case store.All, store.Any, store.Not, store.With, store.Missing:
		return nil
	}
	return c
}

// perhaps returns what some document of an array must fit at least, if one fits
// all of a predicate.
func (r *request) perhaps(c *store.Predicate, in *store.Input, prefix string) bson.D {
	switch c.Op {
	case store.All, store.Any:
		filters := bson.A{}
		for i := range c.Of {
			filters = append(filters, r.perhaps(&c.Of[i], in, prefix))
		}
		if c.Op == store.Any {
			return either(filters)
		}
		return both(filters)
	case store.Not, store.Missing:
		return ever
	}
	there := *c
	there.Path = prefix + c.Path
	return r.predicate(&there, in, false)
}

// inexact reports whether the filter of a predicate lets through what does not
// fit.
func (r *request) inexact(c *store.Predicate) bool {
	switch c.Op {
	case store.With:
		return len(c.Of) > 0 && comparisonIn(c) == nil
	case store.After:
		return r.mixed(c.By)
	}
	return slices.ContainsFunc(c.Of, func(c store.Predicate) bool { return r.inexact(&c) })
}

// mixed reports whether a sort key has values of several types, which a server
// puts in order type by type, and compares with those of the same type only.
func (r *request) mixed(by []store.Order) bool {
	return slices.ContainsFunc(by, func(o store.Order) bool {
		f := r.set.Field(o.Path)
		return f != nil && strings.Contains(f.Type, " or ")
	})
}

// pattern returns the regular expression of a comparison of texts.
func pattern(op store.Op, text string) string {
	text = regexp.QuoteMeta(text)
	switch op {
	case store.StartsWith:
		return "^" + text
	case store.EndsWith:
		return text + "$"
	}
	return text
}

// behind returns the filter of what stands behind the values of a cursor. In a
// document database, too, missing values are the least.
func (r *request) behind(c *store.Predicate, in *store.Input) bson.D {
	if r.mixed(c.By) {
		return ever // and looked at here
	}
	var list, same bson.A
	for i, o := range c.By {
		var v any
		if values := r.values(o.Path, &in.Where[c.Value+i]); len(values) > 0 {
			v = values[0]
		}
		op := "$gt"
		if o.Desc {
			op = "$lt"
		}
		further := bson.A{}
		switch {
		case v != nil:
			further = append(further, compared(o.Path, op, v))
			if !o.NullsFirst() {
				further = append(further, is(o.Path, nil))
			}
		case o.NullsFirst():
			further = append(further, compared(o.Path, "$ne", nil))
		}
		if len(further) > 0 {
			list = append(list, both(append(slices.Clone(same), either(further))))
		}
		same = append(same, is(o.Path, v))
	}
	if c.Also {
		list = append(list, both(same))
	}
	return either(list)
}
