package conform_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"osprey/stores/conform"
)

// TestRuledWorlds gives random schemas random rules, and has several callers ask random operations. The
// answers are those of stores in memory that hold nothing but what the caller may see, and know of no rule.
func TestRuledWorlds(t *testing.T) { eachWorld(t, (*worldStores).ruled) }

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
		for range *asks {
			op := w.Operation(r)
			n++
			got, want := e.AskAs(t, who, op, nil), right.Ask(t, op, nil)
			denied := func(e string) bool { return strings.Contains(e, " double] DENIED ") }
			if got.Data != want.Data || fmt.Sprint(slices.DeleteFunc(got.Errors, denied)) != fmt.Sprint(want.Errors) {
				t.Errorf("%v asks %s\nand gets %s %v\nwant     %s %v\n%s\n%s", who, op, got.Data, got.Errors, want.Data, want.Errors, got.Plan, w.Schema())
				return n
			}
		}
		for range 5 { // with a cursor of another caller, behind whose record may stand what this one sees
			whole, page := w.Walk(r)
			cursors := cursor.FindAllStringSubmatch(e.AskAs(t, conform.Callers[r.IntN(len(conform.Callers))], fmt.Sprintf(page, "first: 4"), nil).Data, -1)
			if len(cursors) == 0 {
				continue
			}
			op := fmt.Sprintf(page, fmt.Sprintf("first: 3, after: %q", cursors[r.IntN(len(cursors))][1]))
			n++
			got, list := e.AskAs(t, who, op, nil), e.AskAs(t, who, whole, nil)
			if want := right.Ask(t, whole, nil); list.Data != want.Data {
				t.Errorf("%v asks %s\nand gets %s\nwant     %s", who, whole, list.Data, want.Data)
				return n
			}
			if !runs(item.FindAllString(got.Data, -1), item.FindAllString(list.Data, -1)) || len(got.Errors) > 0 {
				t.Errorf("%v asks %s\nand gets %s %v\nwhich is no part of\n%s\n%s", who, op, got.Data, got.Errors, list.Data, got.Plan)
				return n
			}
		}
	}
	return n
}

// cursor finds the cursors of edges in an answer.
var cursor = regexp.MustCompile(`"cursor":"([^"]+)"`)

// runs reports whether some items stand in a list, one behind the other: three of them, or those at its end.
func runs(items, list []string) bool {
	if len(items) == 0 {
		return true
	}
	at := slices.Index(list, items[0])
	return at >= 0 && at+len(items) <= len(list) && slices.Equal(items, list[at:at+len(items)]) && (len(items) == 3 || at+len(items) == len(list))
}
