package schema

import (
	"slices"
	"strings"

	"osprey/core/language"
)

// This file fills the types of a schema with what their definitions have.

// fill adds what a definition or extension says to its type.
func (b *builder) fill(d *language.TypeDefinition) {
	if d.Name.Text == "" {
		return // an extension of another kind, told already
	}
	t := b.schema.types[d.Name.Text]
	about := t.About()
	about.Directives = append(about.Directives, d.Directives...)
	switch t := t.(type) {
	case *Scalar:
		if use := find(d.Directives, "specifiedBy"); use != nil {
			t.SpecifiedBy = stringArgument(use, "url")
		}
	case *Object:
		t.Interfaces = b.interfaces(t, t.Interfaces, d.Interfaces)
		b.fields(t, &t.FieldSet, d.Fields)
	case *Interface:
		t.Interfaces = b.interfaces(t, t.Interfaces, d.Interfaces)
		b.fields(t, &t.FieldSet, d.Fields)
	case *Union:
		b.union(t, d.Members)
	case *Enum:
		b.enumValues(t, d.Values)
	case *InputObject:
		t.OneOf = t.OneOf || find(d.Directives, "oneOf") != nil
		added := b.inputs(t.Name+".%", d.Inputs)
		for _, in := range added {
			if t.Field(in.Name) != nil {
				b.problems.Add(ruleUniqueMember, in.Pos, msgInputObjectHasField, t.Name, in.Name).Coordinate = in.Coordinate
				continue
			}
			t.Fields = append(t.Fields, in)
		}
	}
}

func stringArgument(d *language.Directive, name string) string {
	if s, ok := d.Argument(name).(*language.StringValue); ok {
		return s.Text
	}
	return ""
}

func (b *builder) interfaces(t Named, list []*Interface, names []language.Name) []*Interface {
	for _, name := range names {
		named := b.lookup(name)
		i, ok := named.(*Interface)
		switch {
		case named == nil:
		case !ok:
			b.problems.Add(ruleImplements, name.Pos, msgCannotImplement, t, name.Text, KindOf(named)).Coordinate = t.String()
		case slices.Contains(list, i):
			b.problems.Add(ruleImplements, name.Pos, msgSaysTwiceImplements, t, name.Text).Coordinate = t.String()
		default:
			list = append(list, i)
		}
	}
	return list
}

func (b *builder) fields(owner Named, set *FieldSet, defs []*language.FieldDefinition) {
	for _, d := range defs {
		if d.Name.Text == "" || d.Type == nil {
			continue
		}
		coordinate := owner.String() + "." + d.Name.Text
		if first := set.byName[d.Name.Text]; first != nil {
			p := b.problems.Add(ruleUniqueMember, d.Name.Pos, msgHasFieldAlready, owner, d.Name.Text)
			p.Coordinate = coordinate
			p.Others = []language.Pos{first.Pos}
			continue
		}
		f := &Field{
			Name: d.Name.Text, Description: describe(d.Description), Directives: d.Directives, Pos: d.Name.Pos, Owner: owner,
			Args: b.inputs(coordinate+"(%:)", d.Arguments), Type: b.typeOf(d.Type), Deprecated: deprecation(d.Directives),
		}
		if f.Type == nil {
			continue // its type is unknown, which has been told
		}
		set.Fields = append(set.Fields, f)
		set.byName[f.Name] = f
	}
}

// inputs makes arguments or input fields; "%" in coordinate stands for the name.
func (b *builder) inputs(coordinate string, defs []*language.InputValueDefinition) []*Input {
	var list []*Input
	for _, d := range defs {
		if d.Name.Text == "" || d.Type == nil {
			continue
		}
		in := &Input{
			Name: d.Name.Text, Description: describe(d.Description), Directives: d.Directives, Pos: d.Name.Pos,
			Type: b.typeOf(d.Type), Default: d.Default, Deprecated: deprecation(d.Directives),
			Coordinate: strings.Replace(coordinate, "%", d.Name.Text, 1),
		}
		switch {
		case in.Type == nil:
		case inputNamed(list, in.Name) != nil:
			b.problems.Add(ruleUniqueMember, in.Pos, msgDeclaredAlready, in.Coordinate).Coordinate = in.Coordinate
		default:
			list = append(list, in)
		}
	}
	return list
}

func deprecation(uses []*language.Directive) *string {
	use := find(uses, "deprecated")
	if use == nil {
		return nil
	}
	reason := "No longer supported"
	if s, ok := use.Argument("reason").(*language.StringValue); ok {
		reason = s.Text
	}
	return &reason
}

func (b *builder) union(t *Union, names []language.Name) {
	for _, name := range names {
		named := b.lookup(name)
		o, ok := named.(*Object)
		switch {
		case named == nil:
		case !ok:
			b.problems.Add(ruleUnion, name.Pos, msgUnionCanHoldObject, t.Name, name.Text, KindOf(named)).Coordinate = t.Name
		case slices.Contains(t.Members, o):
			b.problems.Add(ruleUnion, name.Pos, msgUnionHoldsAlready, t.Name, name.Text).Coordinate = t.Name
		default:
			t.Members = append(t.Members, o)
		}
	}
}

func (b *builder) enumValues(t *Enum, defs []*language.EnumValueDefinition) {
	for _, d := range defs {
		switch {
		case d.Name.Text == "":
		case t.Value(d.Name.Text) != nil:
			b.problems.Add(ruleUniqueMember, d.Name.Pos, msgEnumHasValueAlready, t.Name, d.Name.Text).Coordinate = t.Name + "." + d.Name.Text
		default:
			t.Values = append(t.Values, &EnumValue{
				Name: d.Name.Text, Description: describe(d.Description), Directives: d.Directives, Pos: d.Name.Pos,
				Deprecated: deprecation(d.Directives),
			})
		}
	}
}
