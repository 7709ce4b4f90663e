package validate

import (
	"math"

	"osprey/core/language"
)

// Expanded returns how many fields a valid operation asks for once each
// fragment stands where it is spread. A few lines of fragments inside one
// another can make that a number beyond all memory, so it is counted before
// anything is planned; the count itself takes one look at each fragment.
func Expanded(doc *language.Document, op *language.Operation) int {
	fragments := map[string]*language.Fragment{}
	for _, d := range doc.Definitions {
		if f, ok := d.(*language.Fragment); ok {
			fragments[f.Name.Text] = f
		}
	}
	known := map[string]int{}
	var count func(set *language.SelectionSet) int
	count = func(set *language.SelectionSet) int {
		n := 0
		if set == nil {
			return n
		}
		for _, sel := range set.List {
			switch sel := sel.(type) {
			case *language.Field:
				n += 1 + count(sel.Selections)
			case *language.InlineFragment:
				n += count(sel.Selections)
			case *language.FragmentSpread:
				name := sel.Name.Text
				if _, ok := known[name]; !ok {
					known[name] = count(fragments[name].Selections)
				}
				n += known[name]
			}
			if n > math.MaxInt32 {
				n = math.MaxInt32 // more than any limit; it must not overflow
			}
		}
		return n
	}
	return count(op.Selections)
}
