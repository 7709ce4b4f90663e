package binding

import (
	"slices"
	"strings"

	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/validate"
)

// This file binds what computed fields look at: the types that expressions see,
// and the selections that are read for them.

// writeNeeds writes what an expression looks at of a type as a selection.
func (b *binder) writeNeeds(w *strings.Builder, t schema.Named, needs []*expression.Need) {
	w.WriteString("{")
	if len(needs) == 0 {
		w.WriteString(" __typename")
	}
	for _, n := range needs {
		w.WriteString(" " + n.Name)
		if n.Name == "__typename" {
			continue
		}
		if named := schema.NamedOf(t.(schema.Composite).Field(n.Name).Type); !schema.IsLeaf(named) {
			b.writeNeeds(w, named, n.Needs)
		}
	}
	w.WriteString(" }")
}

// parseSelection parses a selection, with its braces, that stands by itself; nil
// after saying what is wrong with it, and how that is mended.
func (b *binder) parseSelection(text string, on schema.Composite) (set *language.SelectionSet, msg, fix string) {
	doc, problems := language.Parse(language.NewSource("", text))
	if !problems.Failed() {
		if op, ok := doc.Definitions[0].(*language.Operation); ok && len(doc.Definitions) == 1 {
			set = op.Selections
			problems = validate.Selections(b.bound.Schema, set, on)
		}
	}
	switch {
	case problems.Failed():
		return nil, problems[0].Msg, problems[0].Fix
	case set == nil:
		return nil, msgNoSelection, ""
	}
	return set, "", ""
}

// expressionType returns what values of a type are to an expression.
func (b *binder) expressionType(t schema.Type) *expression.Type {
	nullable := !schema.IsNonNull(t)
	if elem, ok := schema.ListElem(t); ok {
		return &expression.Type{Kind: expression.List, Elem: b.expressionType(elem), Nullable: nullable}
	}
	named := schema.NamedOf(t)
	if !schema.IsLeaf(named) {
		if _, ok := named.(schema.Composite); ok {
			return b.recordOf(named, nullable)
		}
		return &expression.Type{Nullable: nullable}
	}
	return &expression.Type{Kind: expressionKind(named), Nullable: nullable}
}

func expressionKind(t schema.Named) expression.Kind {
	if _, ok := t.(*schema.Enum); ok {
		return expression.Text // by their names
	}
	if s := scalar.Named(t.String()); s != nil {
		return s.Holds
	}
	return expression.Any
}

// recordOf returns records of a type as an expression sees them: its fields but
// for those that must be given arguments, and pages.
func (b *binder) recordOf(t schema.Named, nullable bool) *expression.Type {
	return &expression.Type{Kind: expression.Record, Name: t.String(), Nullable: nullable, Field: func(name string) *expression.Type {
		c, ok := t.(schema.Composite)
		if ok && name == "__typename" {
			return &expression.Type{Kind: expression.Text}
		}
		if !ok || c.Field(name) == nil {
			return nil
		}
		f := c.Field(name)
		_, page := b.recordType(f)
		if page != nil || slices.ContainsFunc(f.Args, (*schema.Input).Required) {
			return nil
		}
		return b.expressionType(f.Type)
	}, Fields: func() []string { return schema.FieldNames(t) }}
}

func (b *binder) argsType(f *schema.Field) *expression.Type {
	return b.givenType("arguments of "+f.Coordinate(), f.Args)
}

// givenType returns what is given together, to arguments or in the fields of an input type, as an expression sees it.
func (b *binder) givenType(name string, list []*schema.Input) *expression.Type {
	return &expression.Type{Kind: expression.Record, Name: name, Field: func(name string) *expression.Type {
		i := slices.IndexFunc(list, func(in *schema.Input) bool { return in.Name == name })
		if i < 0 {
			return nil
		}
		a := list[i]
		t := b.expressionType(a.Type)
		t.Nullable = t.Nullable && a.Default == nil
		return t
	}}
}

// cycles tells of computed fields that need themselves.
func (b *binder) cycles() {
	state := map[*schema.Field]int{} // 1 while it is looked at, 2 when done
	var path []*schema.Field
	var visit func(f *schema.Field)
	visit = func(f *schema.Field) {
		switch state[f] {
		case 2:
			return
		case 1:
			var names []string
			for _, on := range path[slices.Index(path, f):] {
				names = append(names, on.Coordinate())
			}
			b.fail(ruleComputed, f.Pos, f.Coordinate(), "leave one of them out of what the other needs", msgNeedsItself, f.Coordinate(), strings.Join(append(names, f.Coordinate()), " → "))
			return
		}
		state[f] = 1
		path = append(path, f)
		for _, needed := range b.neededBy(b.rootOf(f.Owner), b.needs[f], nil) {
			visit(needed)
		}
		path = path[:len(path)-1]
		state[f] = 2
	}
	for _, t := range b.bound.Schema.Types() {
		if o, ok := t.(*schema.Object); ok {
			for _, f := range o.Fields {
				if b.needs[f] != nil {
					visit(f)
				}
			}
		}
	}
}

// neededBy adds the computed fields in a selection of a type to a list.
func (b *binder) neededBy(t schema.Named, set *language.SelectionSet, list []*schema.Field) []*schema.Field {
	if set == nil {
		return list
	}
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.InlineFragment:
			on := t
			if sel.On.Text != "" {
				on = b.bound.Schema.Type(sel.On.Text)
			}
			list = b.neededBy(on, sel.Selections, list)
		case *language.Field:
			for _, o := range b.bound.Schema.Possible(t) {
				f := o.Field(sel.Name.Text)
				if f == nil {
					continue
				}
				if b.needs[f] != nil {
					list = append(list, f)
				}
				list = b.neededBy(schema.NamedOf(f.Type), sel.Selections, list)
			}
		}
	}
	return list
}
