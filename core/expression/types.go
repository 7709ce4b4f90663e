package expression

import (
	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// A Kind is what a value is to an expression.
type Kind uint8

const (
	Any    Kind = iota // checked when it is looked at
	Bool               // bool
	Int                // int64
	Float              // float64
	Text               // string
	Moment             // time.Time
	List               // []any
	Record             // an [Object]
)

var kindNames = [...]string{"anything", "bool", "int", "double", "string", "timestamp", "list", "record"}

// String returns the name that the language has for it.
func (k Kind) String() string { return kindNames[k] }

// A Type is the type of an input or of a result.
type Type struct {
	Kind     Kind
	Nullable bool
	Elem     *Type // of List
	// Of Record: its name, which tells types apart, and the types of its fields,
	// nil for a field that there is none of.
	Name  string
	Field func(name string) *Type
	// Fields returns the names of the fields that there are; nil if nobody knows.
	Fields func() []string
}

// Caller is the type of who asks.
var Caller = &Type{Kind: Record, Name: "caller", Field: func(name string) *Type { return callerFields[name] }, Fields: func() []string { return []string{"claims", "id", "name", "roles"} }}

var callerFields = map[string]*Type{
	"id": {Kind: Text, Nullable: true}, "name": {Kind: Text, Nullable: true}, "roles": {Kind: List, Elem: &Type{Kind: Text}}, "claims": {Kind: Any},
}

// cel returns the type as the language has it, and registers records.
func (p *provider) cel(t *Type) *cel.Type {
	var own *cel.Type
	switch t.Kind {
	case Bool:
		own = cel.BoolType
	case Int:
		own = cel.IntType
	case Float:
		own = cel.DoubleType
	case Text:
		own = cel.StringType
	case Moment:
		return cel.TimestampType // which can be null anyhow, as can records
	case List:
		return cel.ListType(p.cel(t.Elem))
	case Record:
		p.records[t.Name] = t
		return cel.ObjectType(t.Name)
	default:
		return cel.DynType
	}
	if t.Nullable {
		return cel.NullableType(own)
	}
	return own
}

// A provider tells the checker the types of records.
type provider struct {
	types.Provider
	records map[string]*Type
	missed  map[string]*Type // by the name of a field that there is not, the record that was to have it
	looked  []look
}

// FindStructType returns the type of a record.
func (p *provider) FindStructType(name string) (*types.Type, bool) {
	if p.records[name] == nil {
		return p.Provider.FindStructType(name)
	}
	return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
}

// FindStructFieldType returns the type of a field of a record, and how it is
// looked at.
func (p *provider) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	record := p.records[name]
	if record == nil {
		return p.Provider.FindStructFieldType(name, field)
	}
	t := record.Field(field)
	if t == nil {
		p.missed[field] = record
		return nil, false
	}
	p.looked = append(p.looked, look{name, field, t.String()})
	return &types.FieldType{
		Type: p.cel(t),
		IsSet: func(target any) bool {
			o, ok := target.(*object)
			if !ok {
				return false
			}
			v, err := o.get(field)
			return err == nil && v != types.NullValue
		},
		GetFrom: func(target any) (any, error) {
			o, ok := target.(*object)
			if !ok {
				return nil, errNull
			}
			return o.get(field)
		},
	}, true
}

// A Need is a field that an expression looks at, with what it looks at of that.
type Need struct {
	Name  string
	Needs []*Need // of a record, or of a list of them; it may look at none of their fields
}

func (n *Need) child(name string) *Need {
	for _, c := range n.Needs {
		if c.Name == name {
			return c
		}
	}
	c := &Need{Name: name}
	n.Needs = append(n.Needs, c)
	return c
}

// fits reports whether a result can be a value of a type.
func fits(out *cel.Type, want *Type) bool {
	switch {
	case out.Kind() == types.DynKind, want.Kind == Any:
		return true
	case out.Kind() == types.NullTypeKind:
		return want.Nullable
	case out.Kind() == types.ListKind:
		return want.Kind == List && fits(out.Parameters()[0], want.Elem)
	case out.IsAssignableType(cel.NullType) && out.Kind() != types.TimestampKind && out.Kind() != types.DurationKind && len(out.Parameters()) == 0:
		out = unwrapped(out)
	}
	switch want.Kind {
	case Bool:
		return out.Kind() == types.BoolKind
	case Int:
		return out.Kind() == types.IntKind || out.Kind() == types.UintKind
	case Float:
		return out.Kind() == types.DoubleKind || out.Kind() == types.IntKind || out.Kind() == types.UintKind
	case Text:
		return out.Kind() == types.StringKind || out.Kind() == types.IntKind || out.Kind() == types.DurationKind
	case Moment:
		return out.Kind() == types.TimestampKind
	case Record: // one of the inputs', or made of values, which is looked at when it is there
		return out.Kind() == types.MapKind || out.Kind() == types.StructKind && out.TypeName() == want.Name
	}
	return false
}

// unwrapped returns the type whose values, or null, a type has.
func unwrapped(t *cel.Type) *cel.Type {
	for _, plain := range []*cel.Type{cel.BoolType, cel.IntType, cel.DoubleType, cel.StringType} {
		if t.IsAssignableType(plain) {
			return plain
		}
	}
	return t
}

// An object is a record to the language.
type object struct {
	Object
	run *evaluation
}

var recordType = types.NewObjectType("record")

func (o *object) Type() ref.Type { return recordType }
func (o *object) Value() any     { return o }

// Equal compares by identity: records have no other value.
func (o *object) Equal(other ref.Val) ref.Val {
	return types.Bool(other == ref.Val(o))
}

// get returns a field's value as the language has it.
func (o *object) get(field string) (ref.Val, error) {
	v, err := o.Field(field)
	if err != nil {
		if o.run.err == nil {
			o.run.err = err
		}
		return nil, err
	}
	return o.run.value(v), nil
}
