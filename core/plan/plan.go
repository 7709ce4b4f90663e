// Package plan turns an operation on a bound schema into waves of store
// requests and the shape of the answer.
//
// Everything that can be decided before the first record is read is decided
// here: which columns of which record sets are wanted, which reads are part of
// one request, whose values are the keys of what, in which wave a request can
// run, and how each field of the answer is written. A [Plan] is data: it can be
// printed, compared and costed without a store; package execute runs it.
//
// A plan does not depend on the values of variables, except where they change
// what is asked: conditions of @skip and @include, sort keys, and whether an
// optional argument is given at all. [Plan.Shape] tells which.
package plan

import (
	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// A Plan is a planned operation. It does not change and is safe for concurrent
// use.
type Plan struct {
	Kind    language.OperationKind
	Name    string // of the operation; may be empty
	Steps   []*Step
	Fetches []*Fetch // in the order of their waves
	Waves   int
	Data    *Object  // the shape of the answer
	Fields  []*Field // all fields of Data, by their ID
	Shape   Shape
}

// A Fetch is one store request: the reads that one store answers together.
type Fetch struct {
	ID     int // position in Plan.Fetches
	Wave   int // from 1
	Source string
	Reads  []*Read
	// Of the request: what it asks, for callers, and whether it is one for each key.
	Asks    string
	EachKey bool
	// Request is prepared by the source. It is nil if the plan was made without
	// stores, or if Err says why it could not be prepared.
	Request store.Request
	Err     error
}

// A Read is one record set as one fetch reads it. Several steps can share it.
type Read struct {
	Fetch *Fetch
	Index int // position in Fetch.Reads
	Store *store.Read
	Feeds []Feed // where the keys come from; empty for a read that has none
	Where []*Arg
	Limit *Arg // done by the store; nil if there is none
	// Offset is as Limit.
	Offset *Arg
	// Covers has the fields whose values this read brings, for explanations.
	Covers []string
}

// A Feed is rows whose values are the keys of a read.
type Feed struct {
	Rows    *Rows
	Columns []int // in the table of Rows, one for each key
}

// Rows is a table of records: that of a step's read, or records nested in it.
type Rows struct {
	Step *Step
	Path []int // the columns that lead to the nested records; empty for the read's own
}

// A Step is the rows of a read as one field uses them.
type Step struct {
	ID    int
	Field string // the path of response names, for messages
	Read  *Read

	// Parent is the rows whose field this is; nil for a root field, which
	// takes all rows of the read.
	Parent *Rows
	Folded bool  // rows belong to the parent row that the table names
	Here   []int // otherwise: columns of the parent's table that equal
	There  []int // these columns of the read's table

	// What the store leaves to the engine, for each parent row.
	Sort   []Order
	Limit  *Arg
	Offset *Arg

	feed Feed // whose values are this step's keys
}

// An Order is a sort key in a table.
type Order struct {
	Column int
	Desc   bool
}

// An Arg is a value that an operation gives: a constant, or what its literal
// means with the variables of a run.
type Arg struct {
	Name    string
	Pos     language.Pos
	Path    string // the stored field, of a condition
	Kind    store.Kind
	Many    bool // a list: one of several values
	Enum    *binding.Enum
	Literal language.Value
	Type    schema.Type
	Fixed   bool // the value does not depend on variables
	Value   schema.Value
}

// Resolve returns the value of the argument for the given variables.
func (a *Arg) Resolve(vars map[string]schema.Value) (schema.Value, error) {
	if a.Fixed {
		return a.Value, nil
	}
	v, _, err := schema.CoerceLiteral(a.Type, a.Literal, vars)
	return v, err
}

// An Object is how a record is written.
type Object struct {
	// Kind is the column that tells the type of a record, or -1 if there is one
	// type only, which is then the first of Cases.
	Kind  int
	Cases []Case
	Type  string // the static type, for messages
}

// A Case is the fields of one object type.
type Case struct {
	Stored string // the value of the kind column
	Type   string
	Fields []*Field
}

// A What says how a field is written.
type What uint8

const (
	Leaf     What = iota // a column through a codec
	Constant             // Text, whatever the record: __typename and introspection
	One                  // a record of a step
	Many                 // a list of records of a step
	Inner                // a nested record, or a list of them
)

// A Field is one field of the answer.
type Field struct {
	What What
	Name string // the response name
	ID   int    // position in Plan.Fields
	Lead []byte // what stands before the value: a brace or comma, the name as JSON, a colon
	At   string // schema coordinate
	Pos  language.Pos
	Null Nullness

	Column int // of Leaf and Inner
	Codec  binding.Codec
	Names  map[string][]byte // of an enum: its names as JSON by stored spelling
	Text   []byte            // of Constant
	Step   *Step             // of One and Many
	Object *Object           // of One, Many and Inner
	Single bool              // of One: a unique key; a second record is an error in the store
}

// Nullness is where null may stand in a field's value.
type Nullness struct {
	NonNull bool
	Item    *Nullness // of a list
}

func nullness(t schema.Type) Nullness {
	n := Nullness{NonNull: schema.IsNonNull(t)}
	if elem, ok := schema.ListElem(t); ok {
		item := nullness(elem)
		n.Item = &item
	}
	return n
}
