package validate

import (
	"osprey/core/language"
	"osprey/core/schema"
)

// Exceeds reports whether a valid operation asks for more than so many fields,
// once each fragment stands where it is spread, and each field of an interface or
// union is asked of each of its types, as it is planned. A few lines can make that
// a number beyond all memory, so it is counted before anything is planned:
//
//	{ craft { calls { craft { calls { craft { name } } } } } }    with four types of craft
//
//	craft 1, calls 4, craft 4, calls 16, craft 16, name 64        in all 105
//
// Counting looks at each fragment once for each type, and ends with the first field
// too many.
func Exceeds(s *schema.Schema, doc *language.Document, op *language.Operation, most int) bool {
	c := &expansion{s, most, map[string]*language.Fragment{}, map[spread]int{}}
	for _, d := range doc.Definitions {
		if f, ok := d.(*language.Fragment); ok {
			c.fragments[f.Name.Text] = f
		}
	}
	return c.count(op.Selections, s.Root(op.Kind)) > most
}

type expansion struct {
	schema    *schema.Schema
	most      int
	fragments map[string]*language.Fragment
	known     map[spread]int
}

// A spread is a fragment where an object of a type is asked for.
type spread struct {
	fragment string
	on       *schema.Object
}

// count returns how many fields a selection set asks of an object; any number
// beyond the most stands for all of them.
func (c *expansion) count(set *language.SelectionSet, on *schema.Object) int {
	n := 0
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.Field:
			n++
			if sel.Selections == nil {
				break
			}
			for _, object := range c.schema.Possible(schema.NamedOf(FieldOf(c.schema, on, sel.Name.Text).Type)) {
				if n += c.count(sel.Selections, object); n > c.most {
					return n
				}
			}
		case *language.InlineFragment:
			if sel.On.Text == "" || c.applies(sel.On.Text, on) {
				n += c.count(sel.Selections, on)
			}
		case *language.FragmentSpread:
			if f := c.fragments[sel.Name.Text]; c.applies(f.On.Text, on) {
				at := spread{f.Name.Text, on}
				known, ok := c.known[at]
				if !ok {
					known = c.count(f.Selections, on)
					c.known[at] = known
				}
				n += known
			}
		}
		if n > c.most {
			return n
		}
	}
	return n
}

func (c *expansion) applies(on string, object *schema.Object) bool {
	return c.schema.IsPossible(c.schema.Type(on), object)
}
