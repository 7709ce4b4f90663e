package binding

import (
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file says what a function is given and gives, as the schema has it.

// selectedType returns what a selection of a type gives.
func (b *binder) selectedType(t schema.Named, set *language.SelectionSet) *store.ValueType {
	shape := &store.ValueType{}
	for _, sel := range set.List {
		f, ok := sel.(*language.Field)
		if !ok {
			shape.Open = true
			continue
		}
		def := b.bound.Schema.TypeName(t)
		if f.Name.Text != "__typename" {
			def = t.(schema.Composite).Field(f.Name.Text)
		}
		field := b.valueTypeOf(def.Type, f.Selections)
		field.Name = f.ResponseName()
		if i := slices.IndexFunc(shape.Fields, func(s *store.ValueType) bool { return s.Name == field.Name }); i >= 0 {
			shape.Fields[i].Fields = append(shape.Fields[i].Fields, field.Fields...)
			continue
		}
		shape.Fields = append(shape.Fields, field)
	}
	return shape
}

// valueTypeOf returns the values of a type as JSON has them; of an object the fields
// that are selected, or those that are stored in it.
func (b *binder) valueTypeOf(t schema.Type, set *language.SelectionSet) *store.ValueType {
	nullable := !schema.IsNonNull(t)
	if elem, ok := schema.ListElem(t); ok {
		return &store.ValueType{Elem: b.valueTypeOf(elem, set), Nullable: nullable}
	}
	named := schema.NamedOf(t)
	switch named := named.(type) {
	case *schema.Enum:
		return &store.ValueType{Scalar: "String", Nullable: nullable}
	case *schema.Scalar:
		return &store.ValueType{Scalar: named.Name, Nullable: nullable}
	}
	if set != nil {
		shape := b.selectedType(named, set)
		shape.Nullable = nullable
		return shape
	}
	return &store.ValueType{Fields: b.givenFields(named, map[schema.Named]bool{}), Nullable: nullable, Open: !isObject(named)}
}

func isObject(t schema.Named) bool {
	switch t.(type) {
	case *schema.Object, *schema.InputObject:
		return true
	}
	return false
}

// givenFields returns the fields that an object of a type holds itself. Those
// of a type inside itself are left out.
func (b *binder) givenFields(t schema.Named, above map[schema.Named]bool) []*store.ValueType {
	if above[t] {
		return nil
	}
	above[t] = true
	defer delete(above, t)
	var list []*store.ValueType
	add := func(name string, typ schema.Type) {
		shape := &store.ValueType{Name: name, Nullable: !schema.IsNonNull(typ)}
		inner := shape
		for elem, ok := schema.ListElem(typ); ok; elem, ok = schema.ListElem(typ) {
			inner.Elem = &store.ValueType{Nullable: !schema.IsNonNull(elem)}
			inner, typ = inner.Elem, elem
		}
		switch named := schema.NamedOf(typ).(type) {
		case *schema.Enum:
			inner.Scalar = "String"
		case *schema.Scalar:
			inner.Scalar = named.Name
		default:
			inner.Fields, inner.Open = b.givenFields(named, above), !isObject(named) || above[named]
		}
		list = append(list, shape)
	}
	if in, ok := t.(*schema.InputObject); ok {
		for _, f := range in.Fields {
			add(f.Name, f.Type)
		}
	}
	if o, ok := t.(*schema.Object); ok {
		for _, f := range o.Fields {
			if directive(f, "related") == nil && directive(f, "computed") == nil && directive(f, "total") == nil {
				add(f.Name, f.Type)
			}
		}
	}
	return list
}
