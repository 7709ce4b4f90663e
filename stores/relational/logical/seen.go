package logical

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"
)

// This file waits until what the log tells can be seen. A commit is in the log first and can be seen a moment later, or
// much later where another server must have it, too (synchronous_standby_names):
//
//	the log   ───── commit of 702 ──────────────────►
//	others            cannot see it │ can see it
//
// Who is told in between, and reads the record, does not find it.

// A snapshot says what can be seen: of the transactions below most all but some (type pg_snapshot of PostgreSQL, such as
// 700:709:702,705). The zero one sees nothing.
type snapshot struct {
	most   uint64
	unseen []uint64
}

// snapshotOf reads what the database writes.
func snapshotOf(text string) (s snapshot) {
	parts := strings.Split(text, ":")
	if len(parts) != 3 {
		return s
	}
	s.most, _ = strconv.ParseUint(parts[1], 10, 64)
	for _, number := range strings.Split(parts[2], ",") {
		if n, err := strconv.ParseUint(number, 10, 64); err == nil {
			s.unseen = append(s.unseen, n)
		}
	}
	return s
}

// sees reports whether a transaction can be seen. The log tells the lower half of its number: it is the one that is nearest.
func (s snapshot) sees(low uint32) bool {
	const half = 1 << 31
	n := s.most&^(1<<32-1) | uint64(low)
	switch {
	case n > s.most+half && n >= 1<<32:
		n -= 1 << 32
	case n+half < s.most:
		n += 1 << 32
	}
	return n < s.most && !slices.Contains(s.unseen, n)
}

// seesAll reports whether all changes can be seen.
func (s snapshot) seesAll(rows []*change) bool {
	for i, c := range rows {
		if (i == 0 || c.of != rows[i-1].of) && !s.sees(c.of) {
			return false
		}
	}
	return true
}

// seen waits until changes can be seen, of which a snapshot may know already.
func (r *reader) seen(ctx context.Context, rows []*change, known snapshot) error {
	told := time.Now()
	for wait := time.Duration(0); !known.seesAll(rows); wait = min(max(2*wait, time.Millisecond), 50*time.Millisecond) {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		if time.Since(told) > r.every() { // or the database takes the connection for dead
			told = time.Now()
			if err := r.alive(ctx); err != nil {
				return err
			}
		}
		var text string
		asking, cancel := context.WithTimeout(ctx, r.log.timeout)
		err := r.log.db.GetContext(asking, &text, "SELECT pg_current_snapshot()::text")
		cancel()
		if err != nil {
			return err
		}
		known = snapshotOf(text)
	}
	return nil
}
