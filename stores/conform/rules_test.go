package conform_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"sync/atomic"
	"testing"
	"time"

	"osprey/stores/conform"
)

// TestRuledWorlds gives random schemas random rules, and has several callers ask random operations. The
// answers are those of stores in memory that hold nothing but what the caller may see, and know of no rule.
func TestRuledWorlds(t *testing.T) {
	stores := openStores(t)
	until := time.Now().Add(*during)
	operations := 0
	for seed := *first; seed < *first+*worlds || time.Now().Before(until); seed++ {
		if !t.Run(fmt.Sprint("world ", seed), func(t *testing.T) { operations += stores.ruled(t, uint64(seed)) }) {
			break
		}
	}
	t.Logf("%d operations", operations)
}

// ruled makes a world with rules and asks it.
func (s *worldStores) ruled(t *testing.T, seed uint64) int {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 21))
	w := conform.NewWorld(r, []string{"postgres", "mysql", "mongodb", "rest", "sqlite", "files"})
	seen := w.Rule(r)
	sources := s.load(t, rand.New(rand.NewPCG(seed, 9)), w)
	sources["calc"] = calc(&atomic.Int64{})
	defer func() {
		for _, source := range sources {
			source.Close()
		}
	}()
	e := conform.NewEngine(t, w.Schema(), sources)
	n := 0
	for _, who := range conform.Callers {
		left := seen(who)
		reference := memory(left)
		reference["calc"] = calc(&atomic.Int64{})
		right := conform.NewEngine(t, left.Schema(), reference)
		for range 40 {
			op := w.Operation(r)
			n++
			got, want := e.AskAs(t, who, op, nil), right.Ask(t, op, nil)
			if got.Data != want.Data || fmt.Sprint(got.Errors) != fmt.Sprint(want.Errors) {
				t.Errorf("%v asks %s\nand gets %s %v\nwant     %s %v\n%s\n%s", who, op, got.Data, got.Errors, want.Data, want.Errors, got.Plan, w.Schema())
				return n
			}
		}
		for range 5 { // with a cursor of another caller
			_, page := w.Walk(r)
			cursors := cursor.FindAllStringSubmatch(e.AskAs(t, conform.Callers[r.IntN(len(conform.Callers))], fmt.Sprintf(page, "first: 4"), nil).Data, -1)
			if len(cursors) == 0 {
				continue
			}
			op := fmt.Sprintf(page, fmt.Sprintf("first: 3, after: %q", cursors[r.IntN(len(cursors))][1]))
			n++
			if got, want := e.AskAs(t, who, op, nil), right.Ask(t, op, nil); got.Data != want.Data || fmt.Sprint(got.Errors) != fmt.Sprint(want.Errors) {
				t.Errorf("%v asks %s\nand gets %s %v\nwant     %s %v\n%s\n%s", who, op, got.Data, got.Errors, want.Data, want.Errors, got.Plan, w.Schema())
				return n
			}
		}
	}
	return n
}

// cursor finds the cursors of edges in an answer.
var cursor = regexp.MustCompile(`"cursor":"([^"]+)"`)
