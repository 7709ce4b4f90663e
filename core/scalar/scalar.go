// Package scalar has the scalars that Osprey knows, each as one entry of one table:
// what it is called and means, how a given value is read, how it stands in JSON,
// which columns can serve it, and how an expression has it. The predeclared ones
// are those of sections 3.5.1 to 3.5.5 of the GraphQL specification, September 2025
// edition; the others are supplied when a schema refers to their names.
package scalar

import (
	"slices"

	"osprey/core/expression"
	"osprey/core/store"
)

// A Scalar is what is known of a scalar.
type Scalar struct {
	Name        string
	Predeclared bool // every schema has it
	SpecifiedBy string
	Description string
	Example     string // a value as it is written in an operation; "" if any will do
	// Parse reads a value that was given: a string, int64, float64, bool, or the text
	// of a number too large for those ([json.Number]). The error is [*Misfit], or
	// says more.
	Parse func(v any) (any, error)

	Form     Form     // how its values stand in JSON
	Columns  []Column // which columns serve it; the first is asked for where the store does not say
	Natural  []store.Kind
	Ordered  bool // its values can be compared by above and below
	Searched bool // its values can be looked into: contains, startsWith, endsWith

	// Holds is what an expression has of it, and Typed makes that of decoded JSON;
	// nil if it is that already.
	Holds expression.Kind
	Typed func(v any) any
}

// A Column is a kind of column that serves a scalar, and how it is written then.
type Column struct {
	Kind  store.Kind
	Codec Codec
}

// A Form is how values stand in JSON.
type Form uint8

const (
	AsAny Form = iota // as whatever was given
	AsText
	AsWhole
	AsNumber
	AsTruth
)

// A Misfit is a value that is none of a scalar.
type Misfit struct{ Want string }

// Error says what would be one.
func (m *Misfit) Error() string { return "expected " + m.Want }

var byName = func() map[string]*Scalar {
	all := map[string]*Scalar{}
	for i := range scalars {
		all[scalars[i].Name] = &scalars[i]
	}
	return all
}()

// Named returns the scalar called name, or nil if it is none that Osprey knows.
func Named(name string) *Scalar { return byName[name] }

// Predeclared returns the scalars that every schema has, in their order.
func Predeclared() []*Scalar {
	var list []*Scalar
	for i := range scalars {
		if scalars[i].Predeclared {
			list = append(list, &scalars[i])
		}
	}
	return list
}

// Natural returns the scalar that holds a kind of column as it is; nil if none
// does.
func Natural(kind store.Kind) *Scalar {
	for i := range scalars {
		for _, k := range scalars[i].Natural {
			if k == kind {
				return &scalars[i]
			}
		}
	}
	return nil
}

// Holding returns the name of the scalar that holds the values of a stored field that are of a
// kind, its own or that of its items; "" if there is none.
func Holding(kind store.Kind, f *store.Field) string {
	switch kind {
	case store.Bool:
		return "Boolean"
	case store.Int:
		if f.Wide {
			return "Int64"
		}
		return "Int"
	case store.Float:
		return "Float"
	case store.Decimal:
		return "Decimal"
	case store.Text:
		return "String"
	case store.UUID:
		return "UUID"
	case store.Time:
		return "DateTime"
	case store.Date:
		return "Date"
	case store.Clock:
		return "Time"
	case store.JSON:
		return "JSON"
	case store.Binary:
		if slices.Contains(f.Also, store.UUID) {
			return "UUID"
		}
		return "String"
	}
	return ""
}

// Names returns the names of all scalars that Osprey knows, those that every schema has first.
func Names() []string {
	var names []string
	for i := range scalars {
		names = append(names, scalars[i].Name)
	}
	return names
}

// IsFree reports whether values of a scalar can be anything, lists and objects too:
// those of JSON, and of scalars that Osprey does not know.
func IsFree(name string) bool {
	s := byName[name]
	return s == nil || s.Form == AsAny
}

// Column returns how a kind of column serves the scalar, and whether it does. An
// unknown kind means that the store leaves the choice.
func (s *Scalar) Column(kind store.Kind) (Column, bool) {
	if kind == store.Unknown {
		return s.Columns[0], true
	}
	for _, c := range s.Columns {
		if c.Kind == kind {
			return c, true
		}
	}
	return Column{Kind: kind}, false
}
