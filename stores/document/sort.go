package document

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// This file sorts and cuts what a find cannot: missing values stand first in
// ascending order there, and nowhere else; values of several types stand type by
// type; and what is filtered here must be cut here.

// sortsHere reports whether the documents of a read that stands alone are
// sorted and cut here.
func (r *request) sortsHere() bool {
	read := r.reads[0]
	return len(r.reads) == 1 && len(read.Keys) == 0 &&
		(slices.ContainsFunc(read.Sort, func(o store.Order) bool { return o.Nulls == store.NullsGreatest }) || r.mixed(read.Sort) || r.filtersHere && (read.Limit || read.Offset))
}

// A localSort is documents with the values that they are sorted by.
type localSort struct {
	uuids
	by     []store.Order
	values []store.Column
	docs   []bson.Raw
}

func (u uuids) newLocalSort(read *store.Read, set *store.Set) *localSort {
	s := &localSort{uuids: u, by: read.Sort, values: make([]store.Column, len(read.Sort))}
	for i, o := range read.Sort {
		s.values[i].Kind = store.Text
		if o.Kind != store.Unknown {
			s.values[i].Kind = o.Kind
		} else if f := set.Field(o.Path); f != nil && f.Kind != store.Unknown && f.Kind != store.List {
			s.values[i].Kind = f.Kind
		}
	}
	return s
}

func (s *localSort) add(doc bson.Raw) {
	s.docs = append(s.docs, slices.Clone(doc))
	for i, o := range s.by {
		s.appendValue(&s.values[i], &store.Wanted{Kind: s.values[i].Kind}, at(doc, o.Path))
	}
}

// finish adds the documents that are wanted to a table, in order.
func (s *localSort) finish(t *store.Table, read *store.Read, in *store.Input) {
	order := make([]int, len(s.docs))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		for i, o := range s.by {
			if c := o.Compare(&s.values[i], a, &s.values[i], b); c != 0 {
				return c
			}
		}
		return 0
	})
	order = order[min(int(in.Offset), len(order)):]
	if read.Limit {
		order = order[:min(int(in.Limit), len(order))]
	}
	for _, i := range order {
		s.appendDocument(t, read.Columns, s.docs[i])
	}
}
