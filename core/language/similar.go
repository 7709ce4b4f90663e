package language

import (
	"cmp"
	"slices"
	"strings"
)

// didYouMean stands before what was meant.
const didYouMean = "; did you mean "

// DidYouMean returns `; did you mean "x" or "y"?` with the names nearest to
// what was written, or "" if none is near. Differences of case, a missing or
// superfluous letter, and plural against singular count as near.
func DidYouMean(written string, names []string) string {
	type near struct {
		name     string
		distance int
	}
	var found []near
	limit := len(written)*2/5 + 1
	if len(written) > maxWritten {
		return ""
	}
	for _, name := range names {
		if name == written || len(name) > len(written)+limit || len(written) > len(name)+limit {
			continue
		}
		if d := distance(strings.ToLower(written), strings.ToLower(name)); d <= limit && d < len(name) {
			found = append(found, near{name, d})
		}
	}
	if len(found) == 0 {
		return ""
	}
	slices.SortFunc(found, func(a, b near) int {
		return cmp.Or(cmp.Compare(a.distance, b.distance), strings.Compare(a.name, b.name))
	})
	best := found[0].distance
	var quoted []string
	for _, n := range found[:min(3, len(found))] {
		if n.distance <= best+1 {
			quoted = append(quoted, `"`+n.name+`"`)
		}
	}
	return didYouMean + OneOf(quoted) + "?"
}

// maxWritten is the longest name for which others are looked for: the work grows
// with the square of the length.
const maxWritten = 100

// OneOf joins words as a sentence does: "a", "a or b", "a, b or c".
func OneOf(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	last := len(words) - 1
	return strings.Join(words[:last], ", ") + " or " + words[last]
}

// distance is the number of letters to add, drop, change or swap with a
// neighbour (optimal string alignment) to make b of a.
func distance(a, b string) int {
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
