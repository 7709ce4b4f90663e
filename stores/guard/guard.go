// Package guard stands between the engine and a source of any kind: requests
// wait for their turn in a bounded and fair queue, and a store that is dead is
// left alone, so that nobody waits for it, until it answers again.
package guard

import (
	"context"
	"sync/atomic"
	"time"

	"osprey/core/store"
	"osprey/stores/guard/turns"
)

// Config configures a guard. The zero value of a bound means its default.
type Config struct {
	Concurrent int           // most requests under way at once; default 8
	Queue      int           // most requests that wait; default 4096
	Wait       time.Duration // how long one waits; default [store.DefaultTimeout]
}

// A Source is a source with its guard. What it does not do itself, the source
// does.
type Source struct {
	store.Source
	queue   *turns.Queue
	breaker *breaker
	history history
}

// New puts a guard before a source, which the result closes with itself.
func New(source store.Source, c Config) *Source {
	if c.Concurrent <= 0 {
		c.Concurrent = 8
	}
	if c.Queue <= 0 {
		c.Queue = 4096
	}
	if c.Wait <= 0 {
		c.Wait = store.DefaultTimeout
	}
	return &Source{Source: source, queue: turns.New(c.Concurrent, c.Queue, c.Wait), breaker: newBreaker(source.Ping)}
}

// Signal implements [store.Signaller], if the source behind it does.
func (s *Source) Signal(ctx context.Context, changed func()) error {
	if teller, ok := s.Source.(store.Signaller); ok {
		return teller.Signal(ctx, changed)
	}
	return store.ErrNoSignal
}

// Watched implements [store.Watcher], if the source behind it does.
func (s *Source) Watched(ctx context.Context) (store.Telling, error) {
	if w, ok := s.Source.(store.Watcher); ok {
		return w.Watched(ctx)
	}
	return store.Telling{}, nil
}

// Watch implements [store.Watcher], of a source that watches some of its sets.
func (s *Source) Watch(ctx context.Context, after string, tell func(store.Batch) error) error {
	return s.Source.(store.Watcher).Watch(ctx, after, tell)
}

// Since implements [store.Watcher], as Watch does.
func (s *Source) Since(ctx context.Context, after string, tell func(store.Batch) error) error {
	return s.Source.(store.Watcher).Since(ctx, after, tell)
}

// Figures implements [store.Counted], as far as the source behind it does.
func (s *Source) Figures() store.Figures {
	if c, ok := s.Source.(store.Counted); ok {
		return c.Figures()
	}
	return store.Figures{}
}

// Prepare makes a guarded request.
func (s *Source) Prepare(catalogue *store.Catalogue, reads []*store.Read) (store.Request, error) {
	r, err := s.Source.Prepare(catalogue, reads)
	if err != nil {
		return nil, err
	}
	return &request{Request: r, guard: s}, nil
}

// Close closes the source.
func (s *Source) Close() error {
	s.breaker.close()
	return s.Source.Close()
}

// A State is how a guarded source is now.
type State struct {
	Running int    `json:"running"` // requests under way
	Most    int    `json:"most"`    // of these
	Waiting int    `json:"waiting"` // requests that wait for their turn
	Queue   int    `json:"queue"`   // of these, at most
	Asked   string `json:"asked"`   // "yes", "no" while it is left alone, "probing" for the first request after that
	// Since is when it was left alone; nil if it is not.
	Since *time.Time `json:"since,omitempty"`
	// Failed is how many requests in a row did not reach the store, or were not answered.
	Failed int `json:"failed,omitempty"`
	// Left is how often it was left alone since the start.
	Left int `json:"left,omitempty"`
}

// State returns how the source is now.
func (s *Source) State() State {
	state := State{}
	state.Running, state.Waiting = s.queue.State()
	state.Most, state.Queue = s.queue.Bounds()
	s.breaker.tell(&state)
	return state
}

// A request is a request that waits for its turn.
type request struct {
	store.Request
	guard *Source
	// took is how long the last runs took, in nanoseconds; 0 before the first.
	took atomic.Int64
}

// quick is how long a request takes at most, for which a place is kept.
const quick = 100 * time.Millisecond

// Run waits, and asks the store.
func (r *request) Run(ctx context.Context, caller *store.Caller, in []store.Input) (*store.Answer, error) {
	g := r.guard
	if err := g.breaker.refused(); err != nil {
		return nil, err
	}
	took := time.Duration(r.took.Load())
	isQuick := took > 0 && took < quick
	if err := g.queue.Enter(ctx, callerID(caller), isQuick); err != nil {
		return nil, err
	}
	defer g.queue.Leave(callerID(caller), isQuick)
	var answer *store.Answer
	err := g.watched(ctx, func() (err error) {
		start := time.Now()
		answer, err = r.Request.Run(ctx, caller, in)
		now := time.Since(start)
		if took == 0 {
			took = now
		}
		r.took.Store(int64((3*took+now)/4) + 1)
		g.history.note(start, now, err != nil)
		return err
	})
	return answer, err
}

func callerID(c *store.Caller) string {
	if c == nil {
		return ""
	}
	return c.ID
}
