package binding

import (
	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// A Source is what binding needs to know of a configured store.
type Source struct {
	Name         string
	Kind         string // as in osprey.yaml: "postgres", "mongodb", "rest"
	Naming       Naming
	Capabilities store.Capabilities
	Catalogue    *store.Catalogue // nil if the store did not tell it yet
	// Tells are the sets of which the store tells changes, whoever makes them, with the fields by which it
	// names records.
	Tells   map[string][]string
	TellsBy string // by what it does
}

// Folds reports whether related records of the same source are part of the
// request for the records of set.
func (s *Source) Folds(set string, f *Field) bool {
	if !s.Capabilities.Fold || f.Target.Source != s || s.Capabilities.CanFold != nil && (f.JoinTable != nil || !s.Capabilities.CanFold(set, f.Here, f.Target.Set, f.There)) {
		return false
	}
	return f.JoinTable != nil || !f.ListHere && !f.ListThere && s.sameKinds(set, f)
}

// sameKinds reports whether the store itself can compare the fields of a
// relationship, as far as the catalogue tells: keys that are numbers here and
// texts there are matched by Osprey.
func (s *Source) sameKinds(set string, f *Field) bool {
	if s.Catalogue == nil || s.Capabilities.CanFold != nil {
		return true
	}
	here, there := s.Catalogue.Sets[set], s.Catalogue.Sets[f.Target.Set]
	if here == nil || there == nil {
		return true
	}
	for i := range f.Here {
		a, b := here.Field(f.Here[i]), there.Field(f.There[i])
		if a == nil || b == nil {
			continue
		}
		if _, ok := store.Matched(a, b); !ok {
			return false
		}
	}
	return true
}

// A Bound schema tells where the value of each field is.
type Bound struct {
	Schema  *schema.Schema
	Sources map[string]*Source
	// Together says that the root fields of every mutation are one transaction.
	Together bool

	looks   map[*Records]*Look
	records map[schema.Named]*Records
	roots   map[*schema.Field]*Field

	rules      map[string]*Rule // by coordinate
	givenRules bool
	typeRules  map[*schema.Object][]*Rule
	fieldRules map[*schema.Field][]*Rule
	shows      map[string][][]*schema.Field // by coordinate: of which fields an argument, or what is given, tells something
}

// Together is the directive by which a mutation asks for one transaction.
const Together = "transaction"

// Records returns where records of the type t live, or nil if they have no
// record set of their own.
func (b *Bound) Records(t schema.Named) *Records { return b.records[t] }

// Root returns the binding of a field of a root type, or nil.
func (b *Bound) Root(f *schema.Field) *Field { return b.roots[f] }

// Records is a record set with the types of its records.
type Records struct {
	Type   schema.Named // the object type, or the interface that several share
	Source *Source
	Set    string
	Key    []string   // the fields that identify a record
	Info   *store.Set // from the catalogue; nil if it is not known
	Kind   *Kind      // nil if all records are of one object type

	objects map[*schema.Object]*Object
}

// unknown reports whether the store did not tell its catalogue yet: what it would
// have told, such as keys, is then not known, and nothing may be derived from it.
func (r *Records) unknown() bool { return r != nil && r.Source.Catalogue == nil }

// someField returns a field of the records, to stand for one that is not known yet.
// It is never asked for, since one of the two stores of a relationship is not there.
func (r *Records) someField() string {
	switch {
	case r == nil || r.Info == nil || len(r.Info.Fields) == 0:
		return "id"
	case len(r.Info.Keys) > 0:
		return r.Info.Keys[0][0] // which every record has
	}
	return r.Info.Fields[0].Name
}

// Object returns how the fields of records of the object type are bound.
func (r *Records) Object(t *schema.Object) *Object { return r.objects[t] }

// Kind tells the object type of a record by a stored value.
type Kind struct {
	Path   string
	Types  map[string]*schema.Object // by stored value
	Stored map[*schema.Object]string
	Column store.Kind
}

// An Object is an object type as it is stored in one place: in a record set of
// its own or nested in other records.
type Object struct {
	Type   *schema.Object
	Fields map[string]*Field // by name; without __typename
}

// A NestedType is the types that a nested record can have.
type NestedType struct {
	Type    schema.Named
	Kind    *Kind // nil if it is of one object type
	Objects []*Object
}

// How says in which way a field gets its value.
type How uint8

const (
	Column   How = iota // from a column of its record
	Nested              // a record nested in a column
	Related             // from related records
	Read                // root fields: from a record set
	Computed            // by an expression
	Called              // by a function
	Written             // what is written; Write says how
	Counted             // how many records were written
	Grouped             // root fields: an object that groups fields of a root type
	Watched             // of a subscription: what is told of a changed record; or the record, in that
)

// A Field is a bound field.
type Field struct {
	Def *schema.Field
	How How

	// Of Column and Nested.
	Wanted store.Wanted // of a nested record without its fields
	Codec  scalar.Codec // of Column: how the innermost value is written
	Enum   *Enum        // of a column whose type is an enum
	Nested *NestedType

	// Of Related and Read.
	Target *Records
	Only   []*schema.Object // the types wanted of a record set that has others too; nil for all
	Here   []string         // of Related: fields of this record
	There  []string         // of Related: fields of the target
	// ListHere and ListThere say that the one field of Here, or of There, holds a list
	// of keys.
	ListHere, ListThere bool
	JoinTable           *store.JoinTable // or nil
	Sort                []store.Order    // when the caller does not say
	Many                bool             // the field is a list, or a page of one
	Page                *Page            // of a field whose type is a connection
	Aggregate           *Aggregate       // of a field that is the total of such a list
	Single              bool             // at most one record fits, by a unique key
	Args                []Arg

	// Parts are the fields, each of one record set, whose records together are
	// this field's: those of an interface or union with several. Target is then
	// nil, and what a part says of its records holds for them alone.
	Parts []*Field

	// Of Computed and Called.
	Needs   *language.SelectionSet // what is looked at of the record; nil if nothing is
	NeedsOn schema.Named           // of a root field: the type at whose fields it looks
	Expr    *expression.Program
	// Entries are the fields of an object that an expression writes out, each an
	// expression at the same record.
	Entries  map[string]*Field
	Function string  // the name at its Source
	Source   *Source // of Called
	Result   *Field  // what is given: a Column or Nested whose path is empty

	Write *Write // of Written
	Watch *Watch // of Watched, of the root

	By    *Told    // what tells which of the Parts a reference leads to; or nil
	Is    []string // of a part: the values of By that mean it
	Where *Told    // what else the related records must have; or nil
	Has   []*Cond  // of Read: what the records must have of what is known of the caller
}

// Told is a stored value that tells types apart, beside the key of a reference.
type Told struct {
	Path string
	Kind store.Kind
	Is   string // of Where: the value
}

// Each returns the fields of one record set each that a field is made of:
// itself, or its parts.
func (f *Field) Each() []*Field {
	if f.Parts != nil {
		return f.Parts
	}
	return []*Field{f}
}

// A Role says what an argument of a read or relationship does.
type Role uint8

const (
	Equal    Role = iota // the field Path equals the value, or one of the values
	SortBy               // the order
	Limit                // how many records at most
	Offset               // how many records to pass over first
	FilterBy             // what records must fit
	First                // of a page: how many records at most, from the front
	Last                 // how many records at most, from the end
	Behind               // a cursor: records behind it
	Ahead                // a cursor: records ahead of it
	Passed               // given to a function or expression
)

// An Arg is a bound argument.
type Arg struct {
	Def  *schema.Input
	Role Role
	// Of Equal.
	Path   string
	Kind   store.Kind // how the values are compared in the store
	Many   bool       // the argument is a list
	Day    bool       // the values are days, and the field is a moment
	Enum   *Enum
	Sorts  Sorts   // of SortBy
	Filter *Filter // of FilterBy
}

// Sorts is the sort keys of a one-of input object, by its fields' names.
type Sorts map[string]*SortKey

// A SortKey is a field to sort by, or leads to such fields.
type SortKey struct {
	Path string
	Kind store.Kind
	Link *store.Link // to the one related record that Inner is of
	// Target is where that is, and Only of which types it can be.
	Target *Records
	Only   []*schema.Object
	Inner  Sorts // nil for a field
}

// A Page is how the type of a connection is read: the fields that the open
// specification of cursor connections names, and totals.
type Page struct {
	Connection, Edge *schema.Object
	Key              []string              // fields that tell records apart, behind all sort keys
	Aggregates       map[string]*Aggregate // fields of the connection with @total
}

// An Aggregate is a value made of many records.
type Aggregate struct {
	Of    store.Aggregate
	Path  string // of all but Count
	Codec scalar.Codec
	Kind  store.Kind // how it is read
	// Values is the kind of the values that it is made of.
	Values store.Kind
}

// A Filter is how the fields of a filter's input object are understood.
type Filter struct {
	Tests map[string]*Test
}

// A Test is one field of a filter: a combination of filters, comparisons of a
// stored field, or a filter on nested or related records.
type Test struct {
	How  TestHow
	Path string // of Compare; of Among nested records
	Kind store.Kind
	Enum *Enum
	Link *store.Link // of Among related records
	// Narrows is what related records must have anyhow.
	Narrows []Narrow
	// Target is where related records are, and Only which of their types are meant.
	Target *Records
	Only   []*schema.Object
	Filter *Filter // of all but Compare
	Day    bool    // of Compare: the values are days, and the field is a moment
}

// A TestHow is what a field of a filter does.
type TestHow uint8

const (
	TestAll TestHow = iota // a list of filters, all of which must hold
	TestAny                // a list of filters, one of which must hold
	TestNot                // a filter that must not hold
	Compare                // an object of comparisons, all of which must hold
	Deeper                 // a filter on the one nested record
	Among                  // with, without and only: filters on several records
	TooDeep                // on records nested deeper than filters go: refused where it is used
)

// MaxNested is how deep filters go into records that are nested in themselves.
const MaxNested = 5

// An Enum is the stored spellings of an enum.
type Enum struct {
	Type   *schema.Enum
	Stored map[string]string // by name
	Names  map[string]string // by stored spelling
}
