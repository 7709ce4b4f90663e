package store

// This file has what sources that are functions add to the port. A function is
// called for many records at once: a read of it has no keys, and its input
// brings the calls; the answer has a row for each.

// A Signature is what a schema says of a function.
type Signature struct {
	Record *ValueType // what it is given of each record; nil for a root field
	Args   *ValueType // the arguments of the field, by name
	Result *ValueType
	// Within says that it takes part in a transaction, and gives nothing.
	Within bool
}

// A ValueType is a type of values as JSON has them.
type ValueType struct {
	Scalar   string       // the scalar's name; "" of a list or object; an enum is a String
	Elem     *ValueType   // of a list
	Fields   []*ValueType // of an object, each with a Name
	Name     string
	Nullable bool
	// Open says of an object that it can have other types, and so other fields.
	Open bool
}

// Function is the code of errors that a function answers.
const Function Code = "FUNCTION"
