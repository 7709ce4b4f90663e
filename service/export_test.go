package service

import "time"

// CountOpenEvery has streams that are open counted so often, and returns what takes that back.
func CountOpenEvery(d time.Duration) func() {
	was := countsAgain
	countsAgain = d
	return func() { countsAgain = was }
}
