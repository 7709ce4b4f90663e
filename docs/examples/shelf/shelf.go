// Package shelf is the smallest source: records that a Go program has at hand.
package shelf

import (
	"context"
	"iter"
	"slices"

	"osprey/core/store"
)

// A Shelf holds record sets. Records are whatever JSON writes as an object.
type Shelf struct {
	Sets    map[string]*store.Set
	Records func(ctx context.Context, set string) iter.Seq2[any, error]
}

// Catalogue says which record sets there are, with their fields and keys.
func (s *Shelf) Catalogue(context.Context) (*store.Catalogue, error) {
	return &store.Catalogue{Sets: s.Sets}, nil
}

// Capabilities says that it does nothing but find records: Osprey sorts, cuts and counts.
func (s *Shelf) Capabilities() store.Capabilities { return store.Capabilities{} }

// Prepare makes a request; without capabilities, it is always one read.
func (s *Shelf) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	return request{s, reads[0]}, nil
}

// Ping is asked whether the records can be had now.
func (s *Shelf) Ping(context.Context) error { return nil }

// Close is called when the service ends.
func (s *Shelf) Close() error { return nil }

type request struct {
	shelf *Shelf
	read  *store.Read
}

// Describe is what explain shows.
func (r request) Describe() store.Description { return store.Description{Asks: r.read.Set} }

// Run answers with the records that have the keys of the input and fit the read's predicates.
func (r request) Run(ctx context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	return store.Select(r.read, &in[0], r.shelf.Records(ctx, r.read.Set))
}

// Of gives records that are in memory.
func Of[Record any](records []Record) iter.Seq2[any, error] {
	return func(yield func(any, error) bool) {
		slices.Values(records)(func(r Record) bool { return yield(r, nil) })
	}
}
