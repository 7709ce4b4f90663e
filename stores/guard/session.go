package guard

import (
	"context"
	"errors"
	"sync"
	"time"

	"osprey/core/store"
)

// This file guards sessions: each has a place of the queue from its beginning to its end,
// as it has a connection.

// Capabilities are those of the source, with guarded sessions.
func (s *Source) Capabilities() store.Capabilities {
	can := s.Source.Capabilities()
	if can.Write != nil {
		write := *can.Write
		write.Begin = s.begin
		can.Write = &write
	}
	return can
}

// begin waits for a place, and begins a session.
func (s *Source) begin(ctx context.Context, caller *store.Caller) (store.Session, error) {
	if err := s.breaker.refused(); err != nil {
		return nil, err
	}
	if err := s.queue.Enter(ctx, callerID(caller), false); err != nil {
		return nil, err
	}
	var inner store.Session
	err := s.watched(ctx, func() (err error) {
		inner, err = s.Source.Capabilities().Write.Begin(ctx, caller)
		return err
	})
	if err != nil {
		s.queue.Leave(callerID(caller), false)
		return nil, err
	}
	return &session{Session: inner, guard: s, caller: callerID(caller)}, nil
}

// watched tells the breaker what came of asking the store.
func (s *Source) watched(ctx context.Context, ask func() error) error {
	if err := s.breaker.begin(); err != nil {
		return err
	}
	start, done := time.Now(), false
	defer func() {
		if !done { // it panicked, which is no word about the store
			s.breaker.end(ctx, nil, 0)
		}
	}()
	err := ask()
	done = true
	s.breaker.end(ctx, err, time.Since(start))
	return err
}

// A session is one that gives its place back when it ends.
type session struct {
	store.Session
	guard  *Source
	caller string
	over   sync.Once
}

func (x *session) leave() { x.over.Do(func() { x.guard.queue.Leave(x.caller, false) }) }

// Run runs a request, which needs no place of its own.
func (x *session) Run(ctx context.Context, r store.Request, caller *store.Caller, in []store.Input) (a *store.Answer, err error) {
	if own, ok := r.(*request); ok {
		r = own.Request
	}
	err = x.guard.watched(ctx, func() (err error) {
		a, err = x.Session.Run(ctx, r, caller, in)
		return err
	})
	return a, err
}

// RunAhead is as that of the session, if it has it.
func (x *session) RunAhead(ctx context.Context, w store.Request, rows *store.Rows, r store.Request, in []store.Input, keys []int) (written, read *store.Answer, err error) {
	inner, ok := x.Session.(store.Ahead)
	if !ok {
		return nil, nil, errors.ErrUnsupported
	}
	if own, ok := r.(*request); ok {
		r = own.Request
	}
	unsupported := false
	err = x.guard.watched(ctx, func() (err error) {
		written, read, err = inner.RunAhead(ctx, w, rows, r, in, keys)
		if unsupported = errors.Is(err, errors.ErrUnsupported); unsupported {
			return nil // which is no word about the store
		}
		return err
	})
	if unsupported {
		return nil, nil, errors.ErrUnsupported
	}
	return written, read, err
}

// Share is as that of the session, if it has it.
func (x *session) Share(ctx context.Context, use func(tx any) error) error {
	inner, ok := x.Session.(store.Sharing)
	if !ok {
		return errors.ErrUnsupported
	}
	return inner.Share(ctx, use)
}

// Commit ends the session.
func (x *session) Commit(ctx context.Context) error {
	defer x.leave()
	return x.Session.Commit(ctx)
}

// Rollback undoes the session.
func (x *session) Rollback() {
	defer x.leave()
	x.Session.Rollback()
}
