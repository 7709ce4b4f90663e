package guard

import (
	"context"
	"errors"
	"hash/maphash"
	"sync"
	"time"

	"github.com/failsafe-go/failsafe-go/circuitbreaker"

	"osprey/core/store"
)

// A breaker notices that a store is dead and refuses requests to it at once. It
// pings the store until it answers; then one request is let through, and if that
// goes well, all are.
//
// What one caller asks must not make a store dead for everybody. So only that it
// cannot be reached counts, and that it does not answer in time; and then only if
// it does not answer a ping either, or, of a store where an answer to a ping says
// little, if three different questions in a row went so. An error that the store
// itself answers is a sign of life.
type breaker struct {
	circuit circuitbreaker.CircuitBreaker[any]
	ping    func(context.Context) error
	tells   bool

	mu      sync.Mutex      // guards what follows
	down    int             // failures in a row to reach the store
	silent  map[uint64]bool // questions in a row that were not answered
	since   time.Time       // when it was opened; zero if it is not
	last    error           // why
	probing bool            // something pings the store

	ended context.Context // done when the source is closed
	close context.CancelFunc
}

// When a store counts as dead, and how it is looked after then.
const (
	downFor    = 3               // failures in a row to reach it
	downLong   = time.Second     // or one that took so long
	silentFor  = 3               // different questions in a row without an answer
	pingEvery  = time.Second     // while it is left alone
	pingWithin = 2 * time.Second // how long a ping may take
)

func newBreaker(ping func(context.Context) error, tells bool) *breaker {
	b := &breaker{ping: ping, tells: tells, silent: map[uint64]bool{}}
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

// end tells how a request ended that took some time; question tells questions
// apart.
func (b *breaker) end(ctx context.Context, err error, took time.Duration, question uint64) {
	var known *store.Error
	code := store.Code("")
	if errors.As(err, &known) {
		code = known.Code
	}
	b.mu.Lock()
	half := b.circuit.IsHalfOpen()
	confirm := false
	switch {
	case code == store.Cancelled, code == store.Timeout && ctx.Err() != nil:
		// The caller did not wait: nothing is known of the store.
		if half {
			b.circuit.RecordFailure()
			b.opened(err)
		}
	case code == store.Down, code == store.Timeout:
		b.silent[question] = true
		if code == store.Down {
			b.down++
		}
		switch {
		case half || len(b.silent) >= silentFor && !b.tells:
			b.open(err)
		case code == store.Down && (b.down == downFor || took >= downLong):
			confirm = true
		case len(b.silent) >= silentFor:
			clear(b.silent)
			go b.confirm(err)
		}
	default:
		b.down = 0
		clear(b.silent)
		if half {
			b.circuit.RecordSuccess()
			b.since, b.last = time.Time{}, nil
		}
	}
	b.mu.Unlock()
	if confirm { // at once: who cannot be reached does not answer a ping for long
		b.confirm(err)
	}
}

// confirm opens the breaker if the store does not answer a ping.
func (b *breaker) confirm(err error) {
	answers := b.answers()
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.down = 0; !answers {
		b.open(err)
	}
}

func (b *breaker) answers() bool {
	ctx, cancel := context.WithTimeout(b.ended, pingWithin)
	defer cancel()
	return b.ping(ctx) == nil
}

// open opens the breaker; it needs the lock.
func (b *breaker) open(err error) {
	b.circuit.Open()
	b.opened(err)
}

func (b *breaker) opened(err error) {
	b.down, b.last = 0, err
	clear(b.silent)
	if b.since.IsZero() {
		b.since = time.Now()
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

// state returns whether the store is asked, and since when it is not.
func (b *breaker) state() (string, *time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.since.IsZero() {
		return "yes", nil
	}
	since := b.since
	if b.circuit.IsOpen() {
		return "no", &since
	}
	return "probing", &since
}

var seed = maphash.MakeSeed()

// question returns a number that is the same for the same question.
func question(r *request, in []store.Input) uint64 {
	var h maphash.Hash
	h.SetSeed(seed)
	maphash.WriteComparable(&h, r)
	var key []byte
	for i := range in {
		for _, columns := range [][]store.Column{in[i].Keys, in[i].Where} {
			for c := range columns {
				for row := range columns[c].Len() {
					key, _ = store.AppendKey(key[:0], &columns[c], row)
					h.Write(key)
				}
			}
		}
		for _, call := range in[i].Calls {
			h.Write(call)
		}
		maphash.WriteComparable(&h, in[i].Limit)
		maphash.WriteComparable(&h, in[i].Offset)
	}
	return h.Sum64()
}
