package language

// A Document is a parsed text: section 2.2.
type Document struct {
	Source      *Source
	Definitions []Definition
	Comments    []Comment // in the order of the text
}

// A Comment is a comment, which is no part of the tree: section 2.1.4.
type Comment struct {
	Pos  Pos // of the "#"
	Text string
	Own  bool // nothing stands in front of it on its line
}

// A Definition is one of *Operation, *Fragment, *SchemaDefinition,
// *TypeDefinition and *DirectiveDefinition.
type Definition interface {
	Start() Pos // of the first token, a description included
	definition()
}

// A Name is a name where it stands.
type Name struct {
	Pos  Pos
	Text string
}

// OperationKind is "query", "mutation" or "subscription".
type OperationKind string

const (
	Query        OperationKind = "query"
	Mutation     OperationKind = "mutation"
	Subscription OperationKind = "subscription"
)

// An Operation is an executable operation: section 2.3.
//
//	Description? OperationType Name? VariablesDefinition? Directives? SelectionSet | SelectionSet
type Operation struct {
	Pos          Pos
	Description  *StringValue // or nil
	Kind         OperationKind
	Shorthand    bool // only a selection set was written
	Name         Name // Text is empty for an anonymous operation
	Variables    []*VariableDefinition
	VariablesEnd Pos // of the ")", if there are variables
	Directives   []*Directive
	Selections   *SelectionSet // never nil in a document without faults
}

// A VariableDefinition declares a variable of an operation: section 2.10.
type VariableDefinition struct {
	Pos         Pos          // of the "$"
	Description *StringValue // or nil
	Name        Name
	Type        *TypeRef
	Default     Value // or nil
	Directives  []*Directive
}

// A Fragment is a named fragment: section 2.8.
//
//	Description? "fragment" FragmentName "on" NamedType Directives? SelectionSet
type Fragment struct {
	Pos         Pos
	Description *StringValue // or nil
	Name        Name
	On          Name
	Directives  []*Directive
	Selections  *SelectionSet
}

// A SelectionSet is what is asked of an object: section 2.4.
type SelectionSet struct {
	Pos  Pos // of the "{"
	End  Pos // of the "}"
	List []Selection
}

// A Selection is one of *Field, *FragmentSpread and *InlineFragment.
type Selection interface {
	Start() Pos
	selection()
}

// A Field is one field asked for: section 2.5.
//
//	Alias? Name Arguments? Directives? SelectionSet?
type Field struct {
	Alias        Name // Text is empty if there is none
	Name         Name
	Arguments    []*Argument
	ArgumentsEnd Pos // of the ")", if there are arguments
	Directives   []*Directive
	Selections   *SelectionSet // nil for a leaf
}

// ResponseName is the name under which the field stands in the answer.
func (f *Field) ResponseName() string {
	if f.Alias.Text != "" {
		return f.Alias.Text
	}
	return f.Name.Text
}

// An Argument is a name and a value: section 2.6. The fields of an
// [ObjectValue] are arguments too.
type Argument struct {
	Name  Name
	Value Value
}

// A FragmentSpread asks for what a named fragment asks for.
type FragmentSpread struct {
	Pos        Pos // of the "..."
	Name       Name
	Directives []*Directive
}

// An InlineFragment is a selection set with a condition.
type InlineFragment struct {
	Pos        Pos  // of the "..."
	On         Name // Text is empty if there is no type condition
	Directives []*Directive
	Selections *SelectionSet
}

// A Directive is a directive where it is used: section 2.12.
type Directive struct {
	Pos       Pos // of the "@"
	Name      Name
	Arguments []*Argument
}

// Argument returns the value of the argument called name, or nil.
func (d *Directive) Argument(name string) Value { return argument(d.Arguments, name) }

// Argument returns the value that the argument called name is given, or nil.
func (f *Field) Argument(name string) Value { return argument(f.Arguments, name) }

func argument(list []*Argument, name string) Value {
	for _, a := range list {
		if a.Name.Text == name {
			return a.Value
		}
	}
	return nil
}

// A TypeRef is a reference to a type: section 2.11. Exactly one of Name and
// Elem is set; Elem is the type of a list's items.
type TypeRef struct {
	Pos     Pos
	Name    string
	Elem    *TypeRef
	NonNull bool
}

// Innermost returns the named type inside all lists.
func (t *TypeRef) Innermost() *TypeRef {
	for t.Elem != nil {
		t = t.Elem
	}
	return t
}

// A Value is one of *Variable, *IntValue, *FloatValue, *StringValue,
// *BooleanValue, *NullValue, *EnumValue, *ListValue and *ObjectValue:
// section 2.9.
type Value interface {
	Start() Pos
	value()
}

type (
	// A Variable is a use of a variable.
	Variable struct {
		Pos  Pos // of the "$"
		Name string
	}
	// An IntValue is a whole number as written, of any size.
	IntValue struct {
		Pos  Pos
		Text string
	}
	// A FloatValue is a number with a fraction or exponent as written.
	FloatValue struct {
		Pos  Pos
		Text string
	}
	// A StringValue is a string without its quotes and escapes.
	StringValue struct {
		Pos   Pos
		Text  string
		Block bool // it was written as a block string
	}
	// A BooleanValue is true or false.
	BooleanValue struct {
		Pos Pos
		Is  bool
	}
	// A NullValue is null.
	NullValue struct{ Pos Pos }
	// An EnumValue is a name that is none of true, false and null.
	EnumValue struct {
		Pos  Pos
		Name string
	}
	// A ListValue is a list of values.
	ListValue struct {
		Pos    Pos
		Values []Value
	}
	// An ObjectValue is an input object.
	ObjectValue struct {
		Pos    Pos
		Fields []*Argument
	}
)

// A SchemaDefinition is "schema" or "extend schema": section 3.3.
type SchemaDefinition struct {
	Pos         Pos
	Extend      bool
	Description *StringValue // or nil
	Directives  []*Directive
	Roots       []*RootDefinition
	End         Pos // of the "}", if there are root types
}

// A RootDefinition says which type answers a kind of operation.
type RootDefinition struct {
	Pos  Pos
	Kind OperationKind
	Type Name
}

// TypeKind is a kind of named type.
type TypeKind uint8

const (
	ScalarKind TypeKind = iota
	ObjectKind
	InterfaceKind
	UnionKind
	EnumKind
	InputKind
)

// typeKeywords is how each kind of type is written.
var typeKeywords = [...]string{"scalar", "type", "interface", "union", "enum", "input"}

// Keyword returns the word that begins a definition of the kind.
func (k TypeKind) Keyword() string { return typeKeywords[k] }

// A TypeDefinition defines or extends a named type: sections 3.5 to 3.10.
// Which lists can be filled depends on Kind.
type TypeDefinition struct {
	Pos         Pos
	Kind        TypeKind
	Extend      bool
	Description *StringValue // or nil
	Name        Name
	Interfaces  []Name // of an object or interface
	Directives  []*Directive
	Fields      []*FieldDefinition // of an object or interface
	Members     []Name             // of a union
	Values      []*EnumValueDefinition
	Inputs      []*InputValueDefinition // of an input object
	End         Pos                     // of the "}", if there is one
}

// A FieldDefinition is a field of an object or interface type: section 3.6.
type FieldDefinition struct {
	Description  *StringValue // or nil
	Name         Name
	Arguments    []*InputValueDefinition
	ArgumentsEnd Pos // of the ")", if there are arguments
	Type         *TypeRef
	Directives   []*Directive
}

// An InputValueDefinition is an argument of a field or directive, or a field
// of an input object: section 3.6.1.
type InputValueDefinition struct {
	Description *StringValue // or nil
	Name        Name
	Type        *TypeRef
	Default     Value // or nil
	Directives  []*Directive
}

// An EnumValueDefinition is a value of an enum: section 3.9.
type EnumValueDefinition struct {
	Description *StringValue // or nil
	Name        Name
	Directives  []*Directive
}

// A DirectiveDefinition defines a directive: section 3.13.
type DirectiveDefinition struct {
	Pos          Pos
	Description  *StringValue // or nil
	Name         Name
	Arguments    []*InputValueDefinition
	ArgumentsEnd Pos // of the ")", if there are arguments
	Repeatable   bool
	Locations    []Name
}

func (d *Operation) Start() Pos           { return d.Pos }
func (d *Fragment) Start() Pos            { return d.Pos }
func (d *SchemaDefinition) Start() Pos    { return d.Pos }
func (d *TypeDefinition) Start() Pos      { return d.Pos }
func (d *DirectiveDefinition) Start() Pos { return d.Pos }

func (*Operation) definition()           {}
func (*Fragment) definition()            {}
func (*SchemaDefinition) definition()    {}
func (*TypeDefinition) definition()      {}
func (*DirectiveDefinition) definition() {}

// Start is the place of the alias, or of the name if there is none.
func (f *Field) Start() Pos {
	if f.Alias.Text != "" {
		return f.Alias.Pos
	}
	return f.Name.Pos
}
func (s *FragmentSpread) Start() Pos { return s.Pos }
func (s *InlineFragment) Start() Pos { return s.Pos }

func (*Field) selection()          {}
func (*FragmentSpread) selection() {}
func (*InlineFragment) selection() {}

func (v *Variable) Start() Pos     { return v.Pos }
func (v *IntValue) Start() Pos     { return v.Pos }
func (v *FloatValue) Start() Pos   { return v.Pos }
func (v *StringValue) Start() Pos  { return v.Pos }
func (v *BooleanValue) Start() Pos { return v.Pos }
func (v *NullValue) Start() Pos    { return v.Pos }
func (v *EnumValue) Start() Pos    { return v.Pos }
func (v *ListValue) Start() Pos    { return v.Pos }
func (v *ObjectValue) Start() Pos  { return v.Pos }

func (*Variable) value()     {}
func (*IntValue) value()     {}
func (*FloatValue) value()   {}
func (*StringValue) value()  {}
func (*BooleanValue) value() {}
func (*NullValue) value()    {}
func (*EnumValue) value()    {}
func (*ListValue) value()    {}
func (*ObjectValue) value()  {}

// Texts returns the strings of a list of strings, or the one string that a value is.
func Texts(v Value) []string {
	switch v := v.(type) {
	case *StringValue:
		return []string{v.Text}
	case *ListValue:
		var list []string
		for _, item := range v.Values {
			list = append(list, Texts(item)...)
		}
		return list
	}
	return nil
}
