package schema

import "osprey/core/language"

// This file answers introspection: section 4. The executor walks the selected
// fields and asks [Schema.Introspect] for each value.

// Introspect returns the value of a field of one of the introspection types,
// of which parent is a value. The result is nil, string, bool, [Symbol], a
// parent for further fields, or a []any of these. The parents are *Schema,
// Type, *Field, *Input, *EnumValue and *Directive.
func (s *Schema) Introspect(parent any, field string, includeDeprecated bool) any {
	switch p := parent.(type) {
	case *Schema:
		return p.introspectSchema(field)
	case *Field:
		switch field {
		case "name":
			return p.Name
		case "description":
			return textOrNil(p.Description)
		case "args":
			return inputList(p.Args, includeDeprecated)
		case "type":
			return p.Type
		}
		return deprecationField(p.Deprecated, field)
	case *Input:
		switch field {
		case "name":
			return p.Name
		case "description":
			return textOrNil(p.Description)
		case "type":
			return p.Type
		case "defaultValue":
			if p.Default == nil {
				return nil
			}
			return language.PrintValue(p.Default)
		}
		return deprecationField(p.Deprecated, field)
	case *EnumValue:
		switch field {
		case "name":
			return p.Name
		case "description":
			return textOrNil(p.Description)
		}
		return deprecationField(p.Deprecated, field)
	case *Directive:
		switch field {
		case "name":
			return p.Name
		case "description":
			return textOrNil(p.Description)
		case "isRepeatable":
			return p.Repeatable
		case "locations":
			list := make([]any, len(p.Locations))
			for i, l := range p.Locations {
				list[i] = Symbol(l)
			}
			return list
		case "args":
			return inputList(p.Args, includeDeprecated)
		}
	case Type:
		return s.introspectType(p, field, includeDeprecated)
	}
	return nil
}

func (s *Schema) introspectSchema(field string) any {
	switch field {
	case "description":
		return textOrNil(s.Description)
	case "types":
		return anyList(s.Types())
	case "queryType":
		return objectOrNil(s.Query)
	case "mutationType":
		return objectOrNil(s.Mutation)
	case "subscriptionType":
		return objectOrNil(s.Subscription)
	case "directives":
		return anyList(s.DirectiveList())
	}
	return nil
}

func (s *Schema) introspectType(t Type, field string, includeDeprecated bool) any {
	named, _ := t.(Named)
	switch field {
	case "kind":
		return Symbol(introspectionKind(t))
	case "name":
		if named == nil {
			return nil
		}
		return named.String()
	case "description":
		if named == nil {
			return nil
		}
		return textOrNil(named.About().Description)
	case "ofType":
		switch t := t.(type) {
		case *List:
			return t.Elem
		case *NonNull:
			return t.Elem
		}
		return nil
	}
	switch t := t.(type) {
	case *Scalar:
		if field == "specifiedByURL" {
			return textOrNil(t.SpecifiedBy)
		}
	case *Object, *Interface:
		switch field {
		case "fields":
			list := []any{}
			for _, f := range FieldsOf(named) {
				if includeDeprecated || f.Deprecated == nil {
					list = append(list, f)
				}
			}
			return list
		case "interfaces":
			return anyList(InterfacesOf(named))
		}
	case *Enum:
		if field == "enumValues" {
			list := []any{}
			for _, v := range t.Values {
				if includeDeprecated || v.Deprecated == nil {
					list = append(list, v)
				}
			}
			return list
		}
	case *InputObject:
		switch field {
		case "inputFields":
			return inputList(t.Fields, includeDeprecated)
		case "isOneOf":
			return t.OneOf
		}
	}
	if field == "possibleTypes" {
		switch t.(type) {
		case *Interface, *Union:
			return anyList(s.Possible(named))
		}
	}
	return nil
}

func introspectionKind(t Type) string {
	switch t.(type) {
	case *Scalar:
		return "SCALAR"
	case *Object:
		return "OBJECT"
	case *Interface:
		return "INTERFACE"
	case *Union:
		return "UNION"
	case *Enum:
		return "ENUM"
	case *InputObject:
		return "INPUT_OBJECT"
	case *List:
		return "LIST"
	}
	return "NON_NULL"
}

func deprecationField(reason *string, field string) any {
	switch field {
	case "isDeprecated":
		return reason != nil
	case "deprecationReason":
		if reason != nil {
			return *reason
		}
	}
	return nil
}

func inputList(list []*Input, includeDeprecated bool) []any {
	all := []any{}
	for _, in := range list {
		if includeDeprecated || in.Deprecated == nil {
			all = append(all, in)
		}
	}
	return all
}

func textOrNil(s string) any {
	if s == "" {
		return nil
	}
	return s
}

func objectOrNil(o *Object) any {
	if o == nil {
		return nil
	}
	return o
}

func anyList[T any](list []T) []any {
	all := make([]any, len(list))
	for i, item := range list {
		all[i] = item
	}
	return all
}

// Meta returns the fields that every query has besides those of its root type
// (section 4.1): __schema and __type.
func (s *Schema) Meta(name string) *Field {
	query := Named(s.Query)
	switch name {
	case "__schema":
		return &Field{Name: name, Type: &NonNull{s.types["__Schema"]}, Owner: query}
	case "__type":
		return &Field{Name: name, Type: s.types["__Type"], Owner: query,
			Args: []*Input{{Name: "name", Type: &NonNull{s.types["String"]}, Coordinate: query.String() + ".__type(name:)"}}}
	}
	return nil
}

// TypeName returns the field __typename as a field of owner.
func (s *Schema) TypeName(owner Named) *Field {
	return &Field{Name: "__typename", Type: &NonNull{s.types["String"]}, Owner: owner}
}
