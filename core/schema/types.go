package schema

import "osprey/core/language"

// A Type is one of *Scalar, *Object, *Interface, *Union, *Enum, *InputObject,
// *List and *NonNull: section 3.4.
type Type interface {
	String() string // as the language writes it
	isType()
}

// A Named type is any type but *List and *NonNull.
type Named interface {
	Type
	About() *Declared
}

// A Composite type has a selection set: *Object, *Interface or *Union.
type Composite interface {
	Named
	// Field returns the field called name, or nil. A union has none.
	Field(name string) *Field
}

// Declared is what every named type has.
type Declared struct {
	Name        string
	Description string
	Directives  []*language.Directive // as applied, those of extensions last
	Pos         language.Pos          // of the name in the definition; NoPos for predeclared types
	hidden      bool
}

// About returns d itself, so that a type that embeds it is a Named.
func (d *Declared) About() *Declared { return d }

// String returns the type's name.
func (d *Declared) String() string { return d.Name }

// Directive returns the first use of the directive called name, or nil.
func (d *Declared) Directive(name string) *language.Directive { return find(d.Directives, name) }

func find(list []*language.Directive, name string) *language.Directive {
	for _, d := range list {
		if d.Name.Text == name {
			return d
		}
	}
	return nil
}

type (
	// A Scalar is a leaf type: section 3.5.
	Scalar struct {
		Declared
		SpecifiedBy string // URL, or ""
		// Coding is how a scalar of a program's own is read and written; nil if its
		// values are taken as they come.
		Coding *Coding
	}

	// An Object type: section 3.6.
	Object struct {
		Declared
		FieldSet
		Interfaces []*Interface
	}

	// An Interface type: section 3.7.
	Interface struct {
		Declared
		FieldSet
		Interfaces []*Interface
		possible   []*Object
	}

	// A Union type: section 3.8.
	Union struct {
		Declared
		Members []*Object
	}

	// An Enum type: section 3.9.
	Enum struct {
		Declared
		Values []*EnumValue
	}

	// An InputObject type: section 3.10.
	InputObject struct {
		Declared
		Fields []*Input
		OneOf  bool
	}

	// A List of Elem: section 3.11.
	List struct{ Elem Type }

	// A NonNull is Elem without null: section 3.12. Elem is not a *NonNull.
	NonNull struct{ Elem Type }
)

// A Coding says how the values of a scalar are read and written.
type Coding struct {
	// Parse checks a value that a caller gives (a string, int64, float64 or bool)
	// and returns it as it is stored.
	Parse func(v any) (Value, error)
	// Format returns a stored value as callers see it; both are texts.
	Format func(stored string) (string, error)
}

// A FieldSet is the fields of an object or interface type.
type FieldSet struct {
	Fields []*Field // in the order of their definition
	byName map[string]*Field
}

// Field returns the field called name, or nil.
func (s *FieldSet) Field(name string) *Field { return s.byName[name] }

// Field returns nil: a union has no fields of its own.
func (*Union) Field(string) *Field { return nil }

// A Field of an object or interface type.
type Field struct {
	Name        string
	Description string
	Args        []*Input
	Type        Type
	Deprecated  *string // the reason, or nil
	Directives  []*language.Directive
	Pos         language.Pos
	Owner       Named
}

// Coordinate returns the field's schema coordinate, such as "Craft.name".
func (f *Field) Coordinate() string { return f.Owner.String() + "." + f.Name }

// Directive returns the first use of the directive called name, or nil.
func (f *Field) Directive(name string) *language.Directive { return find(f.Directives, name) }

// Arg returns the argument called name, or nil.
func (f *Field) Arg(name string) *Input { return inputNamed(f.Args, name) }

// An Input is an argument, or a field of an input object.
type Input struct {
	Name        string
	Description string
	Type        Type
	Default     language.Value // or nil; a literal that fits Type
	Deprecated  *string        // the reason, or nil
	Directives  []*language.Directive
	Pos         language.Pos
	Coordinate  string // such as "Query.craft(imo:)" or "CraftSort.name"
}

// Required reports whether a value must be given.
func (in *Input) Required() bool { return in.Default == nil && IsNonNull(in.Type) }

// Directive returns the first use of the directive called name, or nil.
func (in *Input) Directive(name string) *language.Directive { return find(in.Directives, name) }

// Field returns the input field called name, or nil.
func (t *InputObject) Field(name string) *Input { return inputNamed(t.Fields, name) }

func inputNamed(list []*Input, name string) *Input {
	for _, in := range list {
		if in.Name == name {
			return in
		}
	}
	return nil
}

// An EnumValue is one value of an enum.
type EnumValue struct {
	Name        string
	Description string
	Deprecated  *string // the reason, or nil
	Directives  []*language.Directive
	Pos         language.Pos
}

// Directive returns the first use of the directive called name, or nil.
func (v *EnumValue) Directive(name string) *language.Directive { return find(v.Directives, name) }

// Value returns the enum's value called name, or nil.
func (t *Enum) Value(name string) *EnumValue {
	for _, v := range t.Values {
		if v.Name == name {
			return v
		}
	}
	return nil
}

// A Directive is the definition of a directive: section 3.13.
type Directive struct {
	Declared
	Args       []*Input
	Repeatable bool
	Locations  []string
}

// Arg returns the argument called name, or nil.
func (d *Directive) Arg(name string) *Input { return inputNamed(d.Args, name) }

// String returns "[Elem]".
func (t *List) String() string { return "[" + t.Elem.String() + "]" }

// String returns "Elem!".
func (t *NonNull) String() string { return t.Elem.String() + "!" }

func (*Scalar) isType()      {}
func (*Object) isType()      {}
func (*Interface) isType()   {}
func (*Union) isType()       {}
func (*Enum) isType()        {}
func (*InputObject) isType() {}
func (*List) isType()        {}
func (*NonNull) isType()     {}

// IsNonNull reports whether t is a *NonNull.
func IsNonNull(t Type) bool {
	_, ok := t.(*NonNull)
	return ok
}

// Nullable returns t without its outermost non-null.
func Nullable(t Type) Type {
	if n, ok := t.(*NonNull); ok {
		return n.Elem
	}
	return t
}

// ListElem returns the type of the items if t, null or not, is a list.
func ListElem(t Type) (Type, bool) {
	if l, ok := Nullable(t).(*List); ok {
		return l.Elem, true
	}
	return nil, false
}

// Depth returns how many lists stand around a type: 0 for T, 1 for [T!]!, 2 for [[T]].
func Depth(t Type) int {
	elem, isList := ListElem(t)
	if !isList {
		return 0
	}
	return 1 + Depth(elem)
}

// NamedOf returns the named type inside all lists and non-nulls.
func NamedOf(t Type) Named {
	for {
		switch w := t.(type) {
		case *List:
			t = w.Elem
		case *NonNull:
			t = w.Elem
		default:
			named, _ := t.(Named)
			return named
		}
	}
}

// IsLeaf reports whether t is a scalar or an enum.
func IsLeaf(t Named) bool {
	switch t.(type) {
	case *Scalar, *Enum:
		return true
	}
	return false
}

// IsInput reports whether values of t can be given: section 3.4.2.
func IsInput(t Type) bool {
	switch NamedOf(t).(type) {
	case *Scalar, *Enum, *InputObject:
		return true
	}
	return false
}

// IsOutput reports whether values of t can be answered: section 3.4.2.
func IsOutput(t Type) bool {
	_, input := NamedOf(t).(*InputObject)
	return !input
}

// Same reports whether two types are the same type.
func Same(a, b Type) bool {
	switch a := a.(type) {
	case *List:
		l, ok := b.(*List)
		return ok && Same(a.Elem, l.Elem)
	case *NonNull:
		n, ok := b.(*NonNull)
		return ok && Same(a.Elem, n.Elem)
	}
	return a == b
}
