package store

import (
	"context"
	"errors"
)

// This file is how a store tells which of its records have changed.

// A What says what happened to a record.
type What string

// What can happen to a record.
const (
	WasAdded   What = "ADDED"
	WasChanged What = "CHANGED"
	WasRemoved What = "REMOVED"
)

// An Event is something that happened to one record, and is committed.
type Event struct {
	ID   int64 // tells it from others of its source
	Set  string
	What What
	// Key has the record's key, and may have other fields of it, as decoded JSON.
	Key map[string]any
	// Before is the record as it was, as decoded JSON; nil if that is not known, or it was not there.
	Before map[string]any
	// Fields are the stored fields that have other values now; nil if that is not known.
	Fields []string
}

// A Batch is events that were told together, in the order of their commits for each record.
type Batch struct {
	Events []Event
	// At is where the store stands behind these: [Watcher.Watch] goes on from it.
	At string
	// Lost are sets of which it is not known any more what happened to their records, such as tables that were
	// emptied as a whole.
	Lost []string
}

// Telling is what a store tells of changes that anybody makes.
type Telling struct {
	// Sets are those whose changes it tells, with the fields that [Event.Key] has of their records.
	Sets map[string][]string
	By   string // by what it tells them, in words
}

// A Watcher is a source whose store can tell which records have changed.
type Watcher interface {
	// Watched asks the store of which of its sets it tells.
	Watched(ctx context.Context) (Telling, error)
	// Watch calls tell with what has changed from a position on, or from now on if that is "", until ctx or
	// the connection ends, or tell fails. The first call is at once, with no events where there are none, and
	// says where it begins. The error is [ErrTooOld] if the store does not know any more what happened since.
	Watch(ctx context.Context, after string, tell func(Batch) error) error
	// Since calls tell with what has changed since a position, and ends.
	Since(ctx context.Context, after string, tell func(Batch) error) error
}

// ErrTooOld is the error of a store that does not know any more what happened since a position.
var ErrTooOld = errors.New("what happened since is not known any more")

type freshKey struct{}

// WithFresh returns a context whose requests are answered by the stores themselves, and not by what is kept of earlier
// answers, unless the store says that it is the same still.
func WithFresh(ctx context.Context) context.Context { return context.WithValue(ctx, freshKey{}, true) }

// Fresh reports whether a context is one of [WithFresh].
func Fresh(ctx context.Context) bool { return ctx.Value(freshKey{}) != nil }
