package service

import (
	"context"
	"math"
	"net/http"
	"strconv"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"

	"osprey/project"
	"osprey/stores/guard/turns"
)

// This file lets operations run: so many at once, those of callers who have the fewest under way first, and of
// each caller only as much as its roles may cost a second.

const (
	waitForTurn  = 5 * time.Second
	savedFor     = 10    // seconds of a rate that are saved
	knownCallers = 10000 // whose rates are remembered
)

// admission is what lets operations run.
type admission struct {
	queue *turns.Queue // nil if there is no bound

	mu    sync.Mutex // guards what follows
	rates *lru.Cache[string, *rate.Limiter]
}

func newAdmission(concurrent int) *admission {
	a := &admission{}
	a.rates, _ = lru.New[string, *rate.Limiter](knownCallers)
	if concurrent > 0 {
		a.queue = turns.New(concurrent, 4*concurrent, waitForTurn)
	}
	return a
}

// of returns what admits the operations of a caller. When it refuses one, it says in after how many seconds it
// may be sent again.
func (a *admission) of(ctx context.Context, caller string, after *int) project.Admission {
	return func(limit int64, cost func() int64) (func(), *project.Fault) {
		if limit > 0 {
			if wait := a.spend(caller, limit, cost()); wait > 0 {
				*after = int(math.Ceil(wait.Seconds()))
				return nil, &project.Fault{Message: "this caller has used up what it may cost a second", Code: project.CodeRate,
					Fix: "send it again in " + strconv.Itoa(*after) + " s, or ask for less at once; osprey explain shows what an operation costs"}
			}
		}
		if a.queue == nil {
			return func() {}, nil
		}
		if err := a.queue.Enter(ctx, caller, true); err != nil {
			*after = 1
			return nil, &project.Fault{Message: "the service has more to do than it can", Code: project.CodeShed, Fix: "send it again in a moment"}
		}
		return func() { a.queue.Leave(caller, true) }, nil
	}
}

// spend takes what an operation costs from what its caller may cost. It returns how long the caller has to wait;
// 0 if it need not. One that costs more than is ever saved takes all of that.
func (a *admission) spend(caller string, limit, cost int64) time.Duration {
	a.mu.Lock()
	l, ok := a.rates.Get(caller)
	if !ok || l.Limit() != rate.Limit(limit) {
		l = rate.NewLimiter(rate.Limit(limit), int(limit)*savedFor)
		a.rates.Add(caller, l)
	}
	a.mu.Unlock()
	now := time.Now()
	r := l.ReserveN(now, int(min(cost, limit*savedFor)))
	if wait := r.DelayFrom(now); wait > 0 {
		r.CancelAt(now)
		return wait
	}
	return 0
}

// statusOf returns the status of an operation that was refused by admission; 0 of any other.
func statusOf(a *project.Answer) int {
	if !a.Refused || len(a.Faults) == 0 {
		return 0
	}
	switch a.Faults[0].Code {
	case project.CodeRate:
		return http.StatusTooManyRequests
	case project.CodeShed:
		return http.StatusServiceUnavailable
	}
	return 0
}
