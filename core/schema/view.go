package schema

import (
	"slices"

	"osprey/core/language"
)

// Without returns the schema without what is hidden, which is told by coordinates: of types, fields,
// arguments, input fields and values of enums. With a type goes all that is of it; and what nothing leads
// to any more, and did before. It is as if it had been written so, and shares nothing with the whole but
// texts and places.
func (s *Schema) Without(hidden func(coordinate string) bool) *Schema {
	c := &copier{from: s, gone: map[Named]bool{}, made: map[Named]Named{}, hidden: hidden}
	reached := c.reached()
	for again := true; again; { // what is left without a field goes, and so does what is of it
		before := len(c.gone)
		for _, t := range s.types {
			if !c.gone[t] && (hidden(t.String()) || c.empty(t)) {
				c.gone[t] = true
			}
		}
		again = len(c.gone) > before
	}
	still := c.reached()
	for t := range reached {
		if !still[t] {
			c.gone[t] = true
		}
	}
	return c.schema()
}

// A copier makes a schema of a part of another.
type copier struct {
	from   *Schema
	gone   map[Named]bool
	made   map[Named]Named
	hidden func(coordinate string) bool
}

func (c *copier) hasField(f *Field) bool {
	return !c.gone[NamedOf(f.Type)] && !c.hidden(f.Coordinate()) && !slices.ContainsFunc(f.Args, func(a *Input) bool { return a.Required() && !c.hasInput(a) })
}

func (c *copier) hasInput(in *Input) bool {
	return !c.gone[NamedOf(in.Type)] && !c.hidden(in.Coordinate)
}

// empty reports whether nothing is left of a type.
func (c *copier) empty(t Named) bool {
	switch t := t.(type) {
	case *Object, *Interface:
		return !slices.ContainsFunc(FieldsOf(t), c.hasField)
	case *Union:
		return !slices.ContainsFunc(t.Members, func(o *Object) bool { return !c.gone[o] })
	case *Enum:
		return !slices.ContainsFunc(t.Values, func(v *EnumValue) bool { return !c.hidden(t.Name + "." + v.Name) })
	case *InputObject:
		return !slices.ContainsFunc(t.Fields, c.hasInput) || slices.ContainsFunc(t.Fields, func(in *Input) bool { return in.Required() && !c.hasInput(in) })
	}
	return false
}

// reached returns the types to which the root types and directives lead.
func (c *copier) reached() map[Named]bool {
	list := map[Named]bool{}
	var visit func(t Named)
	inputs := func(inputs []*Input) {
		for _, in := range inputs {
			if c.hasInput(in) {
				visit(NamedOf(in.Type))
			}
		}
	}
	visit = func(t Named) {
		if t == nil || list[t] || c.gone[t] {
			return
		}
		list[t] = true
		for _, f := range FieldsOf(t) {
			if c.hasField(f) {
				visit(NamedOf(f.Type))
				inputs(f.Args)
			}
		}
		for _, i := range InterfacesOf(t) {
			visit(i)
		}
		for _, o := range c.from.Possible(t) {
			visit(o)
		}
		if o, ok := t.(*InputObject); ok {
			inputs(o.Fields)
		}
	}
	for _, kind := range []language.OperationKind{language.Query, language.Mutation, language.Subscription} {
		if root := c.from.Root(kind); root != nil {
			visit(root)
		}
	}
	for _, d := range c.from.directives {
		inputs(d.Args)
	}
	return list
}

// schema makes the copy.
func (c *copier) schema() *Schema {
	s := *c.from
	s.types, s.directives, s.undefined = map[string]Named{}, map[string]*Directive{}, nil
	for name, t := range c.from.types {
		if c.gone[t] {
			continue
		}
		c.made[t] = shell(t)
		s.types[name] = c.made[t]
	}
	for _, t := range c.from.types {
		if !c.gone[t] {
			c.fill(t)
		}
	}
	for name, d := range c.from.directives {
		own := *d
		own.Args = c.inputs(d.Args)
		s.directives[name] = &own
	}
	s.Query, s.Mutation, s.Subscription = c.object(s.Query), c.object(s.Mutation), c.object(s.Subscription)
	return &s
}

// shell returns a copy of a type that has what it is and nothing of what it leads to.
func shell(t Named) Named {
	switch t := t.(type) {
	case *Scalar:
		own := *t
		return &own
	case *Object:
		return &Object{Declared: t.Declared}
	case *Interface:
		return &Interface{Declared: t.Declared}
	case *Union:
		return &Union{Declared: t.Declared}
	case *Enum:
		return &Enum{Declared: t.Declared}
	case *InputObject:
		return &InputObject{Declared: t.Declared, OneOf: t.OneOf}
	}
	panic("schema: no such type")
}

func (c *copier) object(o *Object) *Object {
	own, _ := c.made[Named(o)].(*Object)
	if o == nil {
		return nil
	}
	return own
}

// fill gives a copied type what is left of the original.
func (c *copier) fill(t Named) {
	switch t := t.(type) {
	case *Object:
		own := c.made[t].(*Object)
		own.FieldSet, own.Interfaces = c.fields(t.Fields, own), c.interfaces(t.Interfaces)
	case *Interface:
		own := c.made[t].(*Interface)
		own.FieldSet, own.Interfaces, own.possible = c.fields(t.Fields, own), c.interfaces(t.Interfaces), c.objects(t.possible)
	case *Union:
		c.made[t].(*Union).Members = c.objects(t.Members)
	case *Enum:
		own := c.made[t].(*Enum)
		for _, v := range t.Values {
			if !c.hidden(t.Name + "." + v.Name) {
				own.Values = append(own.Values, v)
			}
		}
	case *InputObject:
		c.made[t].(*InputObject).Fields = c.inputs(t.Fields)
	}
}

func (c *copier) fields(list []*Field, owner Named) FieldSet {
	set := FieldSet{byName: map[string]*Field{}}
	for _, f := range list {
		if !c.hasField(f) {
			continue
		}
		own := *f
		own.Owner, own.Type, own.Args = owner, c.typ(f.Type), c.inputs(f.Args)
		set.Fields, set.byName[f.Name] = append(set.Fields, &own), &own
	}
	return set
}

func (c *copier) inputs(list []*Input) (inputs []*Input) {
	for _, in := range list {
		if c.hasInput(in) {
			own := *in
			own.Type = c.typ(in.Type)
			inputs = append(inputs, &own)
		}
	}
	return inputs
}

func (c *copier) interfaces(list []*Interface) (left []*Interface) {
	for _, i := range list {
		if !c.gone[i] {
			left = append(left, c.made[i].(*Interface))
		}
	}
	return left
}

func (c *copier) objects(list []*Object) (left []*Object) {
	for _, o := range list {
		if !c.gone[o] {
			left = append(left, c.made[o].(*Object))
		}
	}
	return left
}

func (c *copier) typ(t Type) Type {
	switch t := t.(type) {
	case *List:
		return &List{c.typ(t.Elem)}
	case *NonNull:
		return &NonNull{c.typ(t.Elem)}
	}
	return c.made[t.(Named)]
}
