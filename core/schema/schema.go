package schema

import (
	"slices"
	"strings"

	"osprey/core/language"
)

// A Schema is a checked set of types. It does not change after [Build] and is
// safe for concurrent use.
type Schema struct {
	Description  string
	Query        *Object
	Mutation     *Object // or nil
	Subscription *Object // or nil
	Directives   []*language.Directive

	types      map[string]Named
	directives map[string]*Directive
	sources    *language.Sources
	undefined  []string
}

// Undefined returns the names of types that the schema refers to and does not
// define, in the order in which they were met.
func (s *Schema) Undefined() []string { return s.undefined }

// Type returns the type called name, or nil.
func (s *Schema) Type(name string) Named {
	if t, ok := s.types[name]; ok {
		return t
	}
	return nil
}

// Visible returns the type called name if clients may see it, or nil.
func (s *Schema) Visible(name string) Named {
	if t, ok := s.types[name]; ok && !t.About().hidden {
		return t
	}
	return nil
}

// Types returns all types by name, without those hidden from clients.
func (s *Schema) Types() []Named {
	list := make([]Named, 0, len(s.types))
	for _, t := range s.types {
		if !t.About().hidden {
			list = append(list, t)
		}
	}
	slices.SortFunc(list, func(a, b Named) int { return strings.Compare(a.String(), b.String()) })
	return list
}

// TypeNames returns the names of the types that keep accepts.
func (s *Schema) TypeNames(keep func(Named) bool) []string {
	var names []string
	for _, t := range s.Types() {
		if keep(t) {
			names = append(names, t.String())
		}
	}
	return names
}

// Directive returns the definition of the directive called name, or nil.
func (s *Schema) Directive(name string) *Directive { return s.directives[name] }

// DirectiveList returns all directives by name, without those hidden from clients.
func (s *Schema) DirectiveList() []*Directive {
	list := make([]*Directive, 0, len(s.directives))
	for _, d := range s.directives {
		if !d.hidden {
			list = append(list, d)
		}
	}
	slices.SortFunc(list, func(a, b *Directive) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// Root returns the type that answers operations of the kind, or nil.
func (s *Schema) Root(kind language.OperationKind) *Object {
	switch kind {
	case language.Query:
		return s.Query
	case language.Mutation:
		return s.Mutation
	}
	return s.Subscription
}

// Position returns the file, line and column of a place in the schema's texts.
func (s *Schema) Position(pos language.Pos) language.Position { return s.sources.Position(pos) }

// Source returns the text in which a place lies, or nil.
func (s *Schema) Source(pos language.Pos) *language.Source { return s.sources.Find(pos) }

// Possible returns the object types that a value of t can be, in the order of
// their names for an interface and of their definition for a union.
func (s *Schema) Possible(t Named) []*Object {
	switch t := t.(type) {
	case *Object:
		return []*Object{t}
	case *Interface:
		return t.possible
	case *Union:
		return t.Members
	}
	return nil
}

// IsPossible reports whether a value of the type t can be of the type object.
func (s *Schema) IsPossible(t Named, object *Object) bool {
	return slices.Contains(s.Possible(t), object)
}

// Overlap reports whether some object type is possible for both a and b.
func (s *Schema) Overlap(a, b Named) bool {
	if a == b {
		return true
	}
	return slices.ContainsFunc(s.Possible(a), func(o *Object) bool { return s.IsPossible(b, o) })
}

// IsSubType reports whether a value of sub can stand where super is promised:
// IsValidImplementationFieldType of section 3.6.
func (s *Schema) IsSubType(sub, super Type) bool {
	if n, ok := sub.(*NonNull); ok {
		if m, ok := super.(*NonNull); ok {
			return s.IsSubType(n.Elem, m.Elem)
		}
		return s.IsSubType(n.Elem, super)
	}
	if l, ok := sub.(*List); ok {
		m, ok := super.(*List)
		return ok && s.IsSubType(l.Elem, m.Elem)
	}
	if sub == super {
		return true
	}
	named, ok := sub.(Named)
	if !ok {
		return false
	}
	switch super := super.(type) {
	case *Interface:
		return slices.Contains(InterfacesOf(named), super)
	case *Union:
		object, ok := named.(*Object)
		return ok && slices.Contains(super.Members, object)
	}
	return false
}

// InterfacesOf returns the interfaces that t says it implements.
func InterfacesOf(t Named) []*Interface {
	switch t := t.(type) {
	case *Object:
		return t.Interfaces
	case *Interface:
		return t.Interfaces
	}
	return nil
}

// FieldsOf returns the fields of an object or interface type.
func FieldsOf(t Named) []*Field {
	switch t := t.(type) {
	case *Object:
		return t.Fields
	case *Interface:
		return t.Fields
	}
	return nil
}

// FieldNames returns the names of the fields of t.
func FieldNames(t Named) []string {
	var names []string
	for _, f := range FieldsOf(t) {
		names = append(names, f.Name)
	}
	return names
}

// InputNames returns the names of arguments or input fields.
func InputNames(list []*Input) []string {
	var names []string
	for _, in := range list {
		names = append(names, in.Name)
	}
	return names
}
