// Package traffic counts what is asked: operations by their normal form, how often, by whom, how
// long they took, what they cost and how they failed. It has no clock and keeps nothing for long:
// a [Tally] is emptied into where it is kept.
package traffic

import (
	"crypto/sha256"
	"slices"

	"osprey/core/compare"
	"osprey/core/language"
	"osprey/core/schema"
)

// An ID is that of an operation: the beginning of the SHA-256 of its normal form.
type ID [16]byte

// An Operation is what is known of one, whatever values it was sent with.
type Operation struct {
	ID   ID
	Name string // "" of one without a name
	Kind language.OperationKind
	// Text is its normal form; "" if that is longer than MaxText.
	Text string
	// Uses are the coordinates that it uses, as [compare.Used] has them.
	Uses []string
}

// MaxText is the longest normal form that is kept, in bytes.
const MaxText = 32 << 10

// NewOperation returns what is known of an operation of a document that is sound.
func NewOperation(s *schema.Schema, doc *language.Document, op *language.Operation) *Operation {
	own := only(doc, op)
	used := compare.NewUsed(s)
	used.Add(own)
	text := normal(s, own)
	sum := sha256.Sum256([]byte(text))
	if len(text) > MaxText {
		text = ""
	}
	return &Operation{ID: ID(sum[:16]), Name: op.Name.Text, Kind: op.Kind, Text: text, Uses: used.Coordinates()}
}

// only returns a document of one operation, with the fragments that it uses in the order of their
// names.
func only(doc *language.Document, op *language.Operation) *language.Document {
	known := map[string]*language.Fragment{}
	for _, d := range doc.Definitions {
		if f, ok := d.(*language.Fragment); ok {
			known[f.Name.Text] = f
		}
	}
	var names []string
	var look func(set *language.SelectionSet)
	look = func(set *language.SelectionSet) {
		if set == nil {
			return
		}
		for _, sel := range set.List {
			switch sel := sel.(type) {
			case *language.Field:
				look(sel.Selections)
			case *language.InlineFragment:
				look(sel.Selections)
			case *language.FragmentSpread:
				if f := known[sel.Name.Text]; f != nil && !slices.Contains(names, sel.Name.Text) {
					names = append(names, sel.Name.Text)
					look(f.Selections)
				}
			}
		}
	}
	look(op.Selections)
	slices.Sort(names)
	own := &language.Document{Source: doc.Source, Definitions: []language.Definition{op}}
	for _, name := range names {
		own.Definitions = append(own.Definitions, known[name])
	}
	return own
}
