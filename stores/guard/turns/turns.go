// Package turns has a queue that is bounded, and fair to callers.
package turns

import (
	"context"
	"fmt"
	"sync"
	"time"

	"osprey/core/store"
)

// A Queue lets a number of requests run at once and the others wait. A place that
// becomes free goes to the caller who has the fewest requests under way, and among
// those to the one who was given a place the longest time ago.
//
// Requests of which nobody knows that they are quick leave some places free, so
// that quick ones need not wait for slow ones to end:
//
//	places   [slow][slow][slow][    ]     slow: waits   quick: runs
//
// A costly caller a and a quiet one b, with two places:
//
//	a a a a b   ask      running a a    waiting a: 2, b: 1
//	a ends               a has 1 under way and b 0: the place is b's
//	b ends               only a waits: the place is a's
type Queue struct {
	places  int // most requests that run
	forSlow int // most of those that are not known to be quick
	most    int // most that wait
	wait    time.Duration

	mu      sync.Mutex // guards what follows
	running int
	slow    int // of running
	callers map[string]*line
	waiting int
	served  uint64 // how many places were given
}

// A line is the requests of one caller.
type line struct {
	running int
	served  uint64    // when it was last given a place
	waiting []*waiter // in the order in which they came
}

type waiter struct {
	place chan error // gets nil with a place, or why there is none
	quick bool
}

// New returns a queue in which places run at once, and most wait, for so long at most.
func New(places, most int, wait time.Duration) *Queue {
	forSlow := places
	if places > 1 {
		forSlow -= (places + 3) / 4 // a place of four is for quick ones
	}
	return &Queue{places: places, forSlow: forSlow, most: most, wait: wait, callers: map[string]*line{}}
}

// Enter waits for a place, which Leave gives back. The error says why there is
// none.
func (q *Queue) Enter(ctx context.Context, caller string, quick bool) error {
	q.mu.Lock()
	l := q.line(caller)
	if q.fits(quick) {
		q.start(l, quick)
		q.mu.Unlock()
		return nil
	}
	if q.waiting >= q.most && !q.makeRoom(l) {
		q.forget(caller, l)
		q.mu.Unlock()
		return q.full()
	}
	w := &waiter{make(chan error, 1), quick}
	l.waiting = append(l.waiting, w)
	q.waiting++
	q.mu.Unlock()

	timer := time.NewTimer(q.wait)
	defer timer.Stop()
	select {
	case err := <-w.place:
		return err
	case <-ctx.Done():
		return q.giveUp(caller, w, store.Fail(ctx, context.Cause(ctx), ""))
	case <-timer.C:
		return q.giveUp(caller, w, &store.Error{Code: store.Busy, Msg: fmt.Sprintf("is busy: the request waited %s for its turn", q.wait)})
	}
}

// Leave gives a place back.
func (q *Queue) Leave(caller string, quick bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	l := q.callers[caller]
	l.running--
	q.running--
	if !quick {
		q.slow--
	}
	q.forget(caller, l)
	q.hand()
}

// State returns how many requests run and wait.
func (q *Queue) State() (running, waiting int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.running, q.waiting
}

// Bounds returns how many requests run and wait at most.
func (q *Queue) Bounds() (running, waiting int) { return q.places, q.most }

// What follows needs the lock.

func (q *Queue) line(caller string) *line {
	l := q.callers[caller]
	if l == nil {
		l = &line{}
		q.callers[caller] = l
	}
	return l
}

// forget drops a caller who has nothing under way, once there are many: most come
// again, and are spared the memory of a line.
func (q *Queue) forget(caller string, l *line) {
	if l.running == 0 && len(l.waiting) == 0 && len(q.callers) > keptLines {
		delete(q.callers, caller)
	}
}

// keptLines is how many callers have a line though they ask nothing.
const keptLines = 256

func (q *Queue) fits(quick bool) bool {
	return q.running < q.places && (quick || q.slow < q.forSlow)
}

func (q *Queue) start(l *line, quick bool) {
	q.served++
	l.served = q.served
	l.running++
	q.running++
	if !quick {
		q.slow++
	}
}

// hand hands out the places that are free.
func (q *Queue) hand() {
	for q.running < q.places && q.waiting > 0 {
		var best *line
		at := -1
		for _, l := range q.callers {
			i := l.first(q.fits)
			if i < 0 {
				continue
			}
			if best == nil || l.running < best.running || l.running == best.running && l.served < best.served {
				best, at = l, i
			}
		}
		if best == nil {
			return
		}
		w := best.take(at)
		q.waiting--
		q.start(best, w.quick)
		w.place <- nil
	}
}

// first returns the first request of a line that fits, or -1.
func (l *line) first(fits func(quick bool) bool) int {
	for i, w := range l.waiting {
		if fits(w.quick) {
			return i
		}
	}
	return -1
}

func (l *line) take(i int) *waiter {
	w := l.waiting[i]
	l.waiting = append(l.waiting[:i], l.waiting[i+1:]...)
	return w
}

// makeRoom sends away the last request of the caller who has the most waiting, if
// that is more than the newcomer has, and one.
func (q *Queue) makeRoom(newcomer *line) bool {
	longest := newcomer
	for _, l := range q.callers {
		if len(l.waiting) > len(longest.waiting) {
			longest = l
		}
	}
	if len(longest.waiting) <= len(newcomer.waiting)+1 {
		return false
	}
	longest.take(len(longest.waiting) - 1).place <- q.full()
	q.waiting--
	return true
}

func (q *Queue) full() error {
	return &store.Error{Code: store.Busy, Msg: fmt.Sprintf("is busy: %d requests wait for their turn already", q.most)}
}

// giveUp takes a request out of its line, unless it was given a place just now.
func (q *Queue) giveUp(caller string, w *waiter, why error) error {
	q.mu.Lock()
	l := q.line(caller)
	for i := range l.waiting {
		if l.waiting[i] == w {
			l.take(i)
			q.waiting--
			q.forget(caller, l)
			q.mu.Unlock()
			return why
		}
	}
	q.forget(caller, l)
	q.mu.Unlock()
	err := <-w.place // it was given a place, or sent away
	if err == nil {
		q.Leave(caller, w.quick)
	}
	return why
}
