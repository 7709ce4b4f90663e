package schema

import (
	"slices"
)

// checkInterfaces applies IsValidImplementation (sections 3.6 and 3.7) to a
// type and each interface that it says it implements.
func (b *builder) checkInterfaces(t Named, list []*Interface) {
	for _, i := range list {
		if t == Named(i) {
			b.problems.Add(ruleImplements, t.About().Pos, msgInterfaceCannotImplementItself, i.Name).Coordinate = i.Name
			continue
		}
		for _, above := range i.Interfaces {
			if above != i && Named(above) != t && !slices.Contains(list, above) {
				p := b.problems.Add(ruleImplements, t.About().Pos, msgImplementsImplementsMustSay, t, i.Name, above.Name, above.Name)
				p.Coordinate = t.String()
				p.Fix = "add \"& " + above.Name + "\""
			}
			if Named(above) == t {
				b.problems.Add(ruleImplements, t.About().Pos, msgImplementEachOther, t, i.Name).Coordinate = t.String()
			}
		}
		for _, promised := range i.Fields {
			b.checkImplementedField(t, i, promised)
		}
	}
}

func (b *builder) checkImplementedField(t Named, i *Interface, promised *Field) {
	var f *Field
	if c, ok := t.(Composite); ok {
		f = c.Field(promised.Name)
	}
	if f == nil {
		if b.problems.Failed() && b.fieldWritten(t.String(), promised.Name) {
			return // the field is there, its type is unknown, which has been told
		}
		p := b.problems.Add(ruleImplements, t.About().Pos, msgImplementsLacksField, t, i.Name, promised.Name)
		p.Coordinate = t.String()
		p.Fix = "add \"" + promised.Name + ": " + promised.Type.String() + "\" to " + t.String()
		return
	}
	if !b.schema.IsSubType(f.Type, promised.Type) {
		p := b.problems.Add(ruleImplements, f.Pos, msgHasTypeInterfacePromises, f.Coordinate(), f.Type, i.Name, promised.Type)
		p.Coordinate = f.Coordinate()
	}
	for _, a := range promised.Args {
		own := f.Arg(a.Name)
		if own == nil {
			b.problems.Add(ruleImplements, f.Pos, msgLacksArgumentInterfacePromises, f.Coordinate(), a.Name, i.Name).Coordinate = f.Coordinate()
			continue
		}
		if !Same(own.Type, a.Type) {
			b.problems.Add(ruleImplements, own.Pos, msgArgumentHasTypeInterface, own.Coordinate, own.Type, i.Name, a.Type).Coordinate = own.Coordinate
		}
	}
	for _, a := range f.Args {
		if promised.Arg(a.Name) == nil && a.Required() {
			p := b.problems.Add(ruleImplements, a.Pos, msgArgumentRequiredInterfaceDoes, a.Coordinate, i.Name)
			p.Coordinate = a.Coordinate
			p.Fix = "make it optional or give it a default"
		}
	}
	if f.Deprecated != nil && promised.Deprecated == nil {
		b.problems.Add(ruleDeprecated, f.Pos, msgDeprecatedImplementsNot, f.Coordinate(), promised.Coordinate()).Coordinate = f.Coordinate()
	}
}

// fieldWritten reports whether the text of the type defines the field, even if
// the field could not be built.
func (b *builder) fieldWritten(typeName, field string) bool {
	defs := append(slices.Clone(b.extensions[typeName]), b.defined[typeName])
	for _, d := range defs {
		for _, f := range d.Fields {
			if f.Name.Text == field {
				return true
			}
		}
	}
	return false
}
