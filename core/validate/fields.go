package validate

import (
	"fmt"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// selections checks a selection set on a value of the type on: sections 5.3.1
// (Field Selections), 5.3.3 (Leaf Field Selections), 5.4 (Arguments) and the
// conditions of fragments.
func (c *checker) selections(set *language.SelectionSet, on schema.Composite) {
	for _, sel := range set.List {
		c.spend(1)
		switch sel := sel.(type) {
		case *language.Field:
			c.field(sel, on)
		case *language.FragmentSpread:
			c.directives(sel.Directives, "FRAGMENT_SPREAD")
			c.spread(sel, on)
		case *language.InlineFragment:
			c.directives(sel.Directives, "INLINE_FRAGMENT")
			inner := on
			if sel.On.Text != "" {
				if inner = c.composite(sel.On); inner == nil {
					continue
				}
				c.possible(sel.Pos, "this fragment", inner, on)
			}
			c.selections(sel.Selections, inner)
		}
	}
}

func (c *checker) field(f *language.Field, on schema.Composite) {
	c.directives(f.Directives, "FIELD")
	def := FieldOf(c.schema, on, f.Name.Text)
	if def == nil {
		c.unknownField(f, on)
		c.variablesBelow(f)
		return
	}
	schema.CheckArguments(def.Coordinate(), def.Args, f.Name.Pos, f.Arguments, func(rule string, pos language.Pos, msg string) {
		c.add(rule, pos, "%s", msg).Coordinate = def.Coordinate()
	}, c.variable)
	inner, composite := schema.NamedOf(def.Type).(schema.Composite)
	switch {
	case composite && f.Selections == nil:
		p := c.add("Leaf Field Selections", f.Name.Pos, msgTypeFieldsMustSelected, def.Coordinate(), def.Type)
		p.Coordinate = def.Coordinate()
		p.Fix = "write " + f.Name.Text + " { " + firstLeaf(inner) + " }"
	case !composite && f.Selections != nil:
		p := c.add("Leaf Field Selections", f.Selections.Pos, msgTypeHasNoFields, def.Coordinate(), def.Type)
		p.Coordinate = def.Coordinate()
		p.Fix = "leave out the braces after " + f.Name.Text
	case composite:
		c.selections(f.Selections, inner)
	}
}

// variablesBelow notes the variables of an unknown field, so that they do not
// count as unused.
func (c *checker) variablesBelow(f *language.Field) {
	for _, a := range f.Arguments {
		schema.VisitVariables(a.Value, c.variable)
	}
	if f.Selections == nil {
		return
	}
	var visit func(set *language.SelectionSet)
	visit = func(set *language.SelectionSet) {
		for _, sel := range set.List {
			switch sel := sel.(type) {
			case *language.Field:
				c.variablesBelow(sel)
			case *language.InlineFragment:
				visit(sel.Selections)
			case *language.FragmentSpread:
				if c.uses != nil && c.fragments[sel.Name.Text] != nil {
					c.uses.spreads = append(c.uses.spreads, sel)
				}
			}
		}
	}
	visit(f.Selections)
}

// firstLeaf returns a field that can be selected as it is.
func firstLeaf(t schema.Composite) string {
	for _, f := range schema.FieldsOf(t) {
		if schema.IsLeaf(schema.NamedOf(f.Type)) {
			return f.Name
		}
	}
	return "__typename"
}

// FieldOf returns the field called name on a value of the type on, with the
// fields that introspection adds (section 4.1), or nil.
func FieldOf(s *schema.Schema, on schema.Composite, name string) *schema.Field {
	if strings.HasPrefix(name, "__") {
		if name == "__typename" {
			return s.TypeName(on)
		}
		if o, ok := on.(*schema.Object); ok && o == s.Query {
			return s.Meta(name)
		}
	}
	return on.Field(name)
}

// unknownField tells of a field that the type lacks, and where it may be.
func (c *checker) unknownField(f *language.Field, on schema.Composite) {
	name := f.Name.Text
	p := c.add("Field Selections", f.Name.Pos, msgHasNoField, on, name, language.DidYouMean(name, schema.FieldNames(on)))
	p.Coordinate = on.String()
	var owners []string
	for _, t := range c.schema.Possible(on) {
		if schema.Named(t) != on && t.Field(name) != nil {
			owners = append(owners, t.Name)
		}
	}
	if len(owners) > 0 && len(owners) <= 4 {
		p.Fix = fmt.Sprintf("%s has it: write ... on %s { %s }", language.OneOf(owners), owners[0], name)
	}
}
