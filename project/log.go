package project

import (
	"context"
	"log/slog"
	"sync"

	"golang.org/x/time/rate"
)

// A failureLog writes what goes wrong at stores: some lines for each source, and
// then one a second, which says how many were left out. A store that is down fails
// thousands of requests in that time.
type failureLog struct {
	log *slog.Logger

	mu      sync.Mutex // guards what follows
	sources map[string]*failures
}

type failures struct {
	limit   *rate.Limiter
	leftOut int
}

// linesAtOnce is how many lines of one source are written before it is one a
// second.
const linesAtOnce = 20

func newFailureLog(log *slog.Logger) *failureLog {
	return &failureLog{log: log, sources: map[string]*failures{}}
}

// tell writes a line about a source, or counts it.
func (l *failureLog) tell(ctx context.Context, source, msg string, args ...any) {
	l.mu.Lock()
	f := l.sources[source]
	if f == nil {
		f = &failures{limit: rate.NewLimiter(1, linesAtOnce)}
		l.sources[source] = f
	}
	leftOut := f.leftOut
	if f.limit.Allow() {
		f.leftOut = 0
	} else {
		f.leftOut++
		l.mu.Unlock()
		return
	}
	l.mu.Unlock()
	args = append([]any{"source", source}, args...)
	if leftOut > 0 {
		args = append(args, "leftOut", leftOut)
	}
	l.log.ErrorContext(ctx, msg, args...)
}
