package compare

import (
	"maps"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// This file tells which parts of a schema operations use.

// Used is the coordinates that operations use: fields, arguments, types that are answered, and values of
// enums and fields of input objects that are given, of which a variable uses all.
type Used struct {
	schema *schema.Schema
	at     map[string]bool
	whole  map[string]bool // input types that are used with all that they have
}

// NewUsed returns that nothing is used of a schema yet.
func NewUsed(s *schema.Schema) *Used { return &Used{s, map[string]bool{}, map[string]bool{}} }

// Concerns reports whether a difference is of what is used.
func (u *Used) Concerns(d Difference) bool {
	if u.at[d.Coordinate] {
		return true
	}
	owner := strings.TrimRight(d.Coordinate, ")")
	if i := strings.LastIndexAny(owner, "(."); i > 0 && strings.HasPrefix(d.What, "is new") {
		return u.at[owner[:i]] // who uses the whole meets what is new in it
	}
	return false
}

// UsedOf returns that coordinates are used, as Coordinates told them.
func UsedOf(coordinates []string) *Used {
	u := NewUsed(nil)
	for _, c := range coordinates {
		u.at[c] = true
	}
	return u
}

// Coordinates returns what is used, in its order.
func (u *Used) Coordinates() []string { return slices.Sorted(maps.Keys(u.at)) }

// Add adds what a sound document uses.
func (u *Used) Add(doc *language.Document) {
	for _, d := range doc.Definitions {
		switch d := d.(type) {
		case *language.Operation:
			u.at[string(d.Kind)] = true
			for _, v := range d.Variables {
				u.all(u.schema.Type(v.Type.Innermost().Name))
			}
			if root := u.schema.Root(d.Kind); root != nil {
				u.selections(root, d.Selections)
			}
		case *language.Fragment:
			u.selections(u.schema.Type(d.On.Text), d.Selections)
		}
	}
}

// all adds an input type, with all that it has.
func (u *Used) all(t schema.Named) {
	if t == nil || u.whole[t.String()] {
		return
	}
	u.at[t.String()], u.whole[t.String()] = true, true
	switch t := t.(type) {
	case *schema.InputObject:
		for _, f := range t.Fields {
			u.at[f.Coordinate] = true
			u.all(schema.NamedOf(f.Type))
		}
	case *schema.Enum:
		for _, v := range t.Values {
			u.at[t.Name+"."+v.Name] = true
		}
	}
}

func (u *Used) selections(on schema.Named, set *language.SelectionSet) {
	if set == nil || on == nil {
		return
	}
	u.at[on.String()] = true
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.InlineFragment:
			inner := on
			if sel.On.Text != "" {
				inner = u.schema.Type(sel.On.Text)
			}
			u.selections(inner, sel.Selections)
		case *language.Field:
			c, _ := on.(schema.Composite)
			if c == nil || c.Field(sel.Name.Text) == nil {
				continue
			}
			f := c.Field(sel.Name.Text)
			u.at[f.Coordinate()] = true
			for _, a := range sel.Arguments {
				if in := f.Arg(a.Name.Text); in != nil {
					u.at[in.Coordinate] = true
					u.value(schema.NamedOf(in.Type), a.Value)
				}
			}
			named := schema.NamedOf(f.Type)
			u.at[named.String()] = true // of an enum: each of its values can be answered, and none is given
			u.selections(named, sel.Selections)
		}
	}
}

// value adds what a value is made of.
func (u *Used) value(t schema.Named, v language.Value) {
	switch v := v.(type) {
	case *language.ListValue:
		for _, item := range v.Values {
			u.value(t, item)
		}
	case *language.EnumValue:
		u.at[t.String()+"."+v.Name] = true
	case *language.ObjectValue:
		input, _ := t.(*schema.InputObject)
		if input == nil {
			return
		}
		u.at[input.Name] = true
		for _, f := range v.Fields {
			if in := input.Field(f.Name.Text); in != nil {
				u.at[in.Coordinate] = true
				u.value(schema.NamedOf(in.Type), f.Value)
			}
		}
	}
}
