package guard

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/failsafe-go/failsafe-go/circuitbreaker"

	"osprey/core/store"
)

// A breaker notices that a store is dead and refuses requests to it at once. It
// pings the store until it answers; then one request is let through, and if that
// goes well, all are.
//
//	       3 failures and no answer to a ping,           it answers a ping
//	       or one that took a second to reach it          (every second)
//	closed ───────────────────────────────────────▶ open ───────────────▶ half open
//	   ▲                                              ▲                       │
//	   │                                              └───── fails ───────────┤
//	   └─────────────────────────── goes well ────────────────────────────────┘
//
// What one caller asks must not make a store dead for everybody. So requests that
// do not reach it, or are not answered in time, only raise the suspicion; it counts
// as dead if it does not answer a ping either. An error that it answers is a sign
// of life.
type breaker struct {
	circuit circuitbreaker.CircuitBreaker[any]
	ping    func(context.Context) error

	mu      sync.Mutex // guards what follows
	failed  int        // requests in a row that did not reach the store, or were not answered
	since   time.Time  // when it was opened; zero if it is not
	left    int        // how often it was opened, since it was closed
	last    error      // why
	probing bool       // something pings the store

	ended context.Context // done when the source is closed
	close context.CancelFunc
}

// When a store is suspected, and how it is looked after when it is dead.
const (
	suspectAfter = 3               // failures in a row
	suspectLong  = time.Second     // one to reach it that took so long needs no ping
	pingEvery    = time.Second     // while it is left alone
	pingWithin   = 2 * time.Second // how long a ping may take
)

func newBreaker(ping func(context.Context) error) *breaker {
	b := &breaker{ping: ping}
	// It is opened and half opened here; the delay is for a ping that never ends.
	b.circuit = circuitbreaker.NewBuilder[any]().WithFailureThreshold(1).WithSuccessThreshold(1).WithDelay(time.Hour).Build()
	b.ended, b.close = context.WithCancel(context.Background())
	return b
}

// refused returns why a request is refused; nil if it may wait for its turn.
func (b *breaker) refused() error {
	if !b.circuit.IsOpen() {
		return nil
	}
	return b.why()
}

// begin begins a request, for which end must be called; or returns why it is
// refused.
func (b *breaker) begin() error {
	if b.circuit.TryAcquirePermit() {
		return nil
	}
	return b.why()
}

func (b *breaker) why() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	return &store.Error{Code: store.Down, Msg: "does not answer and is left alone; it is tried again every second", Err: b.last}
}

// end tells how a request ended that took some time.
func (b *breaker) end(ctx context.Context, err error, took time.Duration) {
	var known *store.Error
	code := store.Code("")
	if errors.As(err, &known) {
		code = known.Code
	}
	b.mu.Lock()
	half := b.circuit.IsHalfOpen()
	suspect := false
	switch {
	case code == store.Cancelled, code == store.Timeout && ctx.Err() != nil:
		// The caller did not wait: nothing is known of the store.
		if half {
			b.open(err)
		}
	case code == store.Down, code == store.Timeout:
		b.failed++
		switch {
		case half, code == store.Down && took >= suspectLong: // it was tried for long enough
			b.open(err)
		default:
			suspect = b.failed >= suspectAfter
		}
	default:
		b.failed = 0
		if half {
			b.circuit.RecordSuccess()
			b.since, b.last = time.Time{}, nil
		}
	}
	if suspect {
		b.failed = 0
	}
	b.mu.Unlock()
	switch {
	case !suspect:
	case code == store.Down:
		b.confirm(err) // at once: there is little to wait for
	default:
		go b.confirm(err)
	}
}

// confirm opens the breaker if the store does not answer a ping.
func (b *breaker) confirm(err error) {
	if b.answers() {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.open(err)
}

func (b *breaker) answers() bool {
	ctx, cancel := context.WithTimeout(b.ended, pingWithin)
	defer cancel()
	return b.ping(ctx) == nil
}

// open opens the breaker; it needs the lock.
func (b *breaker) open(err error) {
	b.circuit.Open()
	b.failed, b.last = 0, err
	if b.since.IsZero() {
		b.since = time.Now()
		b.left++
	}
	if !b.probing {
		b.probing = true
		go b.probe()
	}
}

// probe pings the store until it answers and a request has gone well.
func (b *breaker) probe() {
	timer := time.NewTicker(pingEvery)
	defer timer.Stop()
	for {
		select {
		case <-b.ended.Done():
			return
		case <-timer.C:
		}
		well := b.circuit.IsOpen() && b.answers()
		b.mu.Lock()
		switch {
		case b.circuit.IsClosed():
			b.probing = false
			b.mu.Unlock()
			return
		case well && b.circuit.IsOpen():
			b.circuit.HalfOpen()
		}
		b.mu.Unlock()
	}
}

// tell tells whether the store is asked, and how it failed.
func (b *breaker) tell(s *State) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s.Asked, s.Failed, s.Left = "yes", b.failed, b.left
	if b.since.IsZero() {
		return
	}
	since := b.since
	s.Since, s.Asked = &since, "probing"
	if b.circuit.IsOpen() {
		s.Asked = "no"
	}
}
