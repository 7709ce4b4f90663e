package traffic

import (
	"math"
	"time"
)

// This file counts how long answers took, in a histogram of fixed bounds, which can be added up
// over hours, clients and instances.
//
//	bucket   0          1               2                  …   83
//	up to    100 µs     119 µs          141 µs                 longer
//
// Each bound is 2^(1/4) times the one before: what is told of a quantile is at most 19 % too much,
// or too little.

// Buckets is how many buckets a histogram has: the last is of what took longer than 160 s.
const Buckets = 84

// Times is a histogram of durations.
type Times [Buckets]int64

const shortest = 100 * time.Microsecond

// bound returns the upper bound of a bucket.
func bound(bucket int) time.Duration {
	return time.Duration(float64(shortest) * math.Exp2(float64(bucket)/4))
}

// bucketOf returns the bucket of a duration.
func bucketOf(d time.Duration) int {
	if d <= shortest {
		return 0
	}
	b := int(math.Ceil(4 * math.Log2(float64(d)/float64(shortest))))
	return min(b, Buckets-1)
}

// Add counts a duration.
func (t *Times) Add(d time.Duration) { t[bucketOf(d)]++ }

// Count returns how many were counted.
func (t *Times) Count() (n int64) {
	for _, c := range t {
		n += c
	}
	return n
}

// Quantile returns the duration that the part q of them did not exceed, from 0 to 1, as well as the
// histogram tells it; 0 if there are none.
func (t *Times) Quantile(q float64) time.Duration {
	all := t.Count()
	if all == 0 {
		return 0
	}
	rank := min(max(q*float64(all), 1), float64(all))
	before := int64(0)
	for b, n := range t {
		if n == 0 || float64(before+n) < rank {
			before += n
			continue
		}
		low := time.Duration(0)
		if b > 0 {
			low = bound(b - 1)
		}
		return low + time.Duration(float64(bound(b)-low)*(rank-float64(before))/float64(n))
	}
	return bound(Buckets - 1)
}
