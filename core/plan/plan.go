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
// optional argument is given at all. [Plan.Depends] tells which.
package plan

import (
	"osprey/core/binding"
	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/scalar"
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
	Depends Dependencies
	// Watch is of a subscription, nil of others.
	Watch *Watch
	// Several says that a fetch can take several requests: one for each key, one for
	// each page, or one for each so many keys, if nothing bounds them below that. Their
	// number is then a least number.
	Several bool
	// Failed are rules that could not be decided for the caller, and so are not true, and why.
	Failed []RuleError
	// Refused is why the operation must not be run, whatever its stores answer; ""
	// if it may.
	Refused string
	// Wrong says that it is refused for what it is, and not for what it costs.
	Wrong bool

	steps stepsByRead
}

// A RuleError is why a rule could not be decided.
type RuleError struct {
	Rule string // what it stands on
	Err  error
}

// A Fetch is one store request: the reads that one store answers together.
type Fetch struct {
	ID     int // position in Plan.Fetches
	Wave   int // from 1
	Source string
	Reads  []*Read
	// After are the fetches, by their IDs, that must have been answered or have failed
	// before this one can be asked.
	After []int
	// Of the request: what it asks, for callers, how many statements it is, from 1, and
	// whether it is one for each key.
	Asks       string
	Statements int
	EachKey    bool
	Pages      int // how many pages are followed at most, each a request; 0 for one
	MaxKeys    int // how many keys a request takes; 0 for all
	// Unit is the unit that the fetch is done in; nil of those that only read.
	Unit *Unit
	// Asked is Reads as the source knows them.
	Asked []*store.Read
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
	// Write is what is written, of a read whose rows are the keys of that; or nil.
	Write *Write
	// Of calls: their step, and the reads that bring what they are given.
	Call  *Step
	Needs []*Read
	// Covers has the fields whose values this read brings, for explanations.
	Covers []string
	// Given says that its rows are given to the run, and no store is asked.
	Given bool
	// Nothing says that no record can be meant: the store is not asked.
	Nothing bool
	Rows    int64 // about how many records the set has; 0 if nothing tells

	wave, since int // since is the wave that it follows, whatever it needs
}

// A Feed is rows whose values are the keys of a read.
type Feed struct {
	Rows    *Rows
	Columns []int // in the table of Rows, one for each key
	// Is has the values of the column By that a row must have to be meant; nil for
	// all rows.
	By int
	Is map[string]bool
	// Picked is the field that picks the rows that are meant; nil for all.
	Picked *Field
}

// Rows is a table of records: that of a step's read, or records nested in it.
type Rows struct {
	Step *Step
	Path []int // the columns that lead to the nested records; empty for the read's own
	// Above are the records that nested ones are nested in, and Cut the step that filters,
	// sorts and cuts these; nil if all of them are shown where those above are.
	Above *Rows
	Cut   *Step
}

// A Step is the rows of a read as one field uses them.
type Step struct {
	ID    int
	Field string // the path of response names, for messages
	Read  *Read

	// Parent is the rows whose field this is; nil for a root field, which
	// takes all rows of the read.
	Parent *Rows
	Picked *Field // that picks the parent rows that are meant; nil for all
	One    bool   // at most one row, for each parent row if there is a parent
	Folded bool   // rows belong to the parent row that the table names
	Here   []int  // otherwise: columns of the parent's table that equal
	There  []int  // these columns of the read's table

	// What the store leaves to the engine, for each parent row.
	Sort   []Order
	Limit  *Arg
	Offset *Arg
	Behind *Arg // a cursor
	Ahead  *Arg // a cursor

	Page *Page // of the rows of a connection

	Merge  *Merge // that the rows are part of, or nil
	Merged string // how the rows become part of a list with others, for explanations

	// Allow has what must be true of a row beyond what its store is asked: one of each.
	Allow [][]*Field

	// Inner is the nested records that the step's rows are, of a list that is
	// filtered, sorted or cut; Parent is then the records that they are nested in.
	Inner  *Rows
	Where  []store.Predicate
	Values []*Arg
	Fields map[string]int // columns of Inner that Where looks at, by path

	// Call is what a function is called with for each row of Parent; nil for
	// records.
	Call *Call

	feed Feed // whose values are this step's keys
}

// A Call is what a function is given of a row, and its arguments. Rows of which
// it is given the same are one call.
type Call struct {
	Needs  []*Field
	Args   []*Arg
	Only   Only
	Picked *Field // that picks the rows that are meant; nil for all
}

// Only is the rows of a table that are of one type: those whose column Kind, if
// it is 0 or more, has the value Stored.
type Only struct {
	Kind   int
	Stored string
}

// An Order is a sort key in a table.
type Order struct {
	Column int
	By     store.Order
}

// A Page is how the rows of a connection are cut.
type Page struct {
	Order    []Order // of the list; cursors are made of these columns
	Bound    *Arg    // first or last; nil for all
	Backward bool    // the rows come from the end of the list
	Behind   bool    // a cursor is given from which it goes on, in its direction
	List     string  // what the records are and how they are sorted, for cursors
}

// An Arg is a value that an operation gives: a constant, or what its literal
// means with the variables of a run.
type Arg struct {
	Name    string
	Pos     language.Pos
	Literal language.Value
	// Rule is what gives the value, of a rule's condition: it looks at the caller.
	Rule   *expression.Program
	Type   schema.Type
	Fixed  bool // the value does not depend on variables
	Value  schema.Value
	Within []any  // the part of the literal's value that is meant: field names and positions
	Err    string // why the value cannot be used
	// ByDefault says that the operation does not give it: the schema's default
	// stands for it.
	ByDefault bool
	// Largest says, of a limit, that the operation gives null for it: as many
	// records as an operation may ask for.
	Largest bool
	// Written says, of a limit, that it is how many records one field may write.
	Written bool

	// Of a condition.
	Column int    // its first column among the values of the read
	Path   string // the stored field
	Kind   store.Kind
	Many   bool // a list: one of several values
	Strict bool // a value that the field cannot hold is an error; else nothing equals it
	// Of a rule: what the field is to an expression, whose other values equal nothing, and how it is
	// compared.
	Holds expression.Kind
	Op    store.Op
	Enum  *binding.Enum
	// Day says that the value is a day and the field a moment: the beginning of
	// the day is compared, or that of the next.
	Day Day

	// More is added to a bound: a page asks for one record more, to know whether
	// there is one.
	More int64
	// Plus is added to a bound, too: a part of a merged list can be all that
	// stands before the list's limit.
	Plus *Arg

	// Of a cursor: the order of its list, and the kinds of its values.
	By    []store.Order
	Kinds []store.Kind
	List  string // of whose records the cursor must be
	// Of a cursor in a merged list: By is the beginning of what the cursor holds,
	// since its record is of another part; Inclusive says that records at the same
	// place are meant, too.
	Merged, Other, Inclusive bool
	Part                     int // of a merged list: of which part the cursor's record is
}

// A Day is which moment stands for a day.
type Day uint8

const (
	NoDay Day = iota
	DayBegins
	DayEnds // which is when the next begins
)

// Resolve returns the value of the argument for the given variables.
func (a *Arg) Resolve(vars map[string]schema.Value) (schema.Value, error) {
	if a.Fixed {
		return a.Value, nil
	}
	v, _, err := schema.CoerceLiteral(a.Type, a.Literal, vars)
	return follow(v, a.Within), err
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
	Paged                // a connection: Object has its fields
	Edges                // of a connection: Object has the fields of an edge
	Node                 // of an edge: the record
	Cursor               // of an edge: where it stands
	Info                 // of a connection: Object has its fields
	HasNext              // of Info, as the following
	HasPrevious
	StartCursor
	EndCursor
	Aggregate  // the total of a step's records; with Parts, the sum of theirs
	Merged     // a list of records of several steps, or the one record of one of them: Merge
	Expression // what Expr gives of Needs and Args: column 0 of what it made, with Object if it is a record
	Picked     // the records of From that Expr gives
	Grouped    // an object of root fields: Object has them
	Called     // what a call gives: column 0 of the one row of Step, with Object if it is a record
	Written    // the records that were written: for each row of Write, that of Step
	WrittenKey // a field of their key: Column of Write
	Counted    // how many they are
	Answered   // an object of these: Object has its fields
	Denied     // nothing: the caller may not read it
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

	// Allow has what must be true of the record that the field is of, or of the call, for it to be
	// answered: one of each.
	Allow [][]*Field

	Column int // of Leaf and Inner
	Codec  scalar.Codec
	Names  map[string][]byte // of an enum: its names as JSON by stored spelling; nil of one that the caller may not see
	Text   []byte            // of Constant
	Step   *Step             // of One and Many
	Write  *Step             // of Written and what is beside it: whose rows are the keys of what was written
	Object *Object           // of One, Many and Inner
	Single bool              // of One: a unique key; a second record is an error in the store
	Of     store.Aggregate   // of Aggregate
	Made   bool              // of Aggregate: Column has it; else the values of which it is made
	Merge  *Merge            // of Merged, and of Paged if the records are of several steps
	Parts  []*Field          // of Merged, Node and Aggregate: how the records of each part of the merge are written

	Scalar *scalar.Scalar                      // of a leaf; nil of an enum, or a scalar of the schema's own
	Format func(stored string) (string, error) // of a scalar that has it
	// Of Expression.
	Expr   *expression.Program
	Needs  []*Field // fields of the record that it looks at
	Args   []*Arg
	Result store.Wanted // what it gives, as a column
	Only   Only         // the rows that it is for
	Rows   *Rows        // that they are of; nil at the root
	From   *Rows        // of Picked: of which it gives some
}

// A Merge is how the records of several steps become one list, or one record.
type Merge struct {
	Parts         []Part
	Limit, Offset *Arg // of the whole list
	Page          *Page
	By            int // the column of the parent's rows that tells which part has the one record, or -1
}

// A Part is the records of one step in a merge.
type Part struct {
	Step  *Step
	Order []Order // its columns for the keys by which the whole is sorted

	// Of a merge with By.
	Is   map[string]bool // the values that mean this part
	Here []int           // without Step: columns of the parent's rows that must have a value
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
