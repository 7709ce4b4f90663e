package schema

// A Value is an input value after coercion (section 6.4.1 and the coercion
// rules of section 3). Its dynamic type is one of
//
//	nil          null
//	bool         Boolean
//	int64        Int
//	float64      Float
//	string       String, ID and the standard scalars
//	Symbol       a value of an enum
//	[]Value      a list
//	InputFields  an input object
//
// A scalar of one's own keeps the value as it was given.
type Value any

// A Symbol is the name of an enum's value.
type Symbol string

// InputFields is the value of an input object: the fields that were given or
// have a default, in the order of the type's definition.
type InputFields []InputField

// An InputField is one field of an input object's value.
type InputField struct {
	Name  string
	Value Value
}

// Get returns the value of the field called name, and whether there is one.
func (o InputFields) Get(name string) (Value, bool) {
	for _, f := range o {
		if f.Name == name {
			return f.Value, true
		}
	}
	return nil, false
}
