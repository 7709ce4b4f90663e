package store

import (
	"context"
	"errors"
	"slices"
	"strings"
	"unicode"
)

// A Catalogue is what a store tells about its record sets.
type Catalogue struct {
	Sets map[string]*Set
}

// A Signaller is a source whose store can tell that what it holds has changed.
type Signaller interface {
	// Signal calls changed whenever the store tells that what it holds may have changed, until ctx or
	// the connection ends. The error is [ErrNoSignal], at once and without asking the store, if it was
	// not set up to tell when its catalogue was read last.
	Signal(ctx context.Context, changed func()) error
}

// ErrNoSignal is the error of a store that does not tell when it changes.
var ErrNoSignal = errors.New("the store does not tell when it changes")

// Names returns the names of the record sets, sorted.
func (c *Catalogue) Names() []string {
	names := make([]string, 0, len(c.Sets))
	for name := range c.Sets {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// A Set is a record set: a table or view, a collection, a resource.
type Set struct {
	Name   string
	What   string // what the store calls it: "table", "view", "collection", "resource"
	Fields []Field
	Keys   [][]string // combinations of fields that are unique; the primary key first
	Index  [][]string // combinations of fields that can be looked up fast, Keys included
	// Constraints are what the store holds records to, besides their types.
	Constraints []Constraint
	// Expressions are what values inside JSON can be looked up by fast.
	Expressions []Expression
	// ReadOnly is why its records cannot be written, though those of the source can; "" if
	// they can.
	ReadOnly string
	// Sampled says that Fields was gathered from some records: others may exist,
	// and what is told of one may not hold for every record.
	Sampled bool
	Looked  int      // how many records were looked at, of one that is sampled
	Lists   []string // paths of lists of records that are nested in those of the set
	Rows    int64    // about how many records there are; 0 if nothing tells
	// About is what the store has as its comment, and Part says that it is a part of another set,
	// which has its records, too.
	About string
	Part  bool
}

// A Field is a column, or a path in a document.
type Field struct {
	Name     string // with dots inside a document
	Type     string // the store's own name of the type
	About    string // the store's comment on it
	Share    int    // in how many of a hundred records that were looked at it is, from 1; 0 if nothing tells
	Kind     Kind
	Elem     Kind // of List
	Nullable bool
	// Form is how a store that has no type for moments writes those of the field, as Go
	// writes layouts; "" if in several ways.
	Form string
	// Also are further kinds as which the store can give and compare the values.
	Also   []Kind
	Values []string // of an enum: the stored values
	// Generated says that the store computes the field, so that it cannot be written, and
	// Filled that the store fills it where nothing is written: by a default, an identity.
	Generated, Filled bool
	// Numbered says that it is filled by counting on.
	Numbered bool
	// MaxLength is how many characters a text may have; 0 for no bound.
	MaxLength int
	// Scale is how many digits behind the point a number, or the seconds of a moment, may
	// have; nil for no bound.
	Scale *int
	Loose bool // texts that differ can be equal to the store
	// Collation is by which a text is compared and sorted, where the store has several.
	Collation string
	Wide      bool // of Int: values can be beyond 32 bits
	AsText    bool // the type is none that Osprey knows, and is read as text
	// Opens are, of a column that holds JSON, or a text that may be JSON, the kinds as which
	// the store can compare values inside it; nil if it cannot. Each of these is then a
	// field, too, of which Column is the name of the column, and Inside the names that lead
	// to it there.
	Opens  []Kind
	Column string
	Inside []string
	// Indexed is the form of the expression by which the store finds such a value, of the
	// kind that it is used as, fast; "" if there is none.
	Indexed string
}

// A Constraint is a unique key, or a foreign key, by the name that the store has for it.
type Constraint struct {
	Name   string
	Fields []string
	// Of a foreign key: the record set that it leads to, and the fields there.
	Set   string
	There []string
}

// Foreign reports whether the constraint is a foreign key.
func (c *Constraint) Foreign() bool { return c.Set != "" }

// An Expression is a value inside JSON that an index is on.
type Expression struct {
	Field string // with dots
	Kind  Kind   // as which it is indexed
	Form  string // as the store writes it, with [RowMark] where the row's name is to be
}

// RowMark stands in the form of an expression for the name of the row.
const RowMark = "\x00"

// Field returns the field called name, or nil. Values inside JSON are fields of
// their own:
//
//	meta        the column, of JSON
//	meta.a.b    of the column meta, inside it a, b
func (s *Set) Field(name string) *Field {
	var opened *Field
	for i := range s.Fields {
		f := &s.Fields[i]
		if f.Name == name {
			return f
		}
		if f.Opens != nil && strings.HasPrefix(name, f.Name+".") && (opened == nil || len(f.Name) > len(opened.Name)) {
			opened = f
		}
	}
	if opened == nil {
		return nil
	}
	inside := strings.Split(name[len(opened.Name)+1:], ".")
	for _, part := range inside {
		if part == "" || strings.ContainsAny(part, "\"\\") || strings.ContainsFunc(part, unicode.IsControl) {
			return nil
		}
	}
	return &Field{Name: name, Type: "a value inside " + opened.Type, Kind: JSON, Also: opened.Opens, Nullable: true, Column: opened.Name, Inside: inside}
}

// Usual is the kind of the field's values where no type asks for another: a value
// inside JSON is read as text.
func (f *Field) Usual() Kind {
	if f.Column != "" {
		return Text
	}
	return f.Kind
}

// Matched returns the kind as which a store compares the values of two fields of its
// own; false if it does not. A value inside JSON is compared as what the other is.
func Matched(a, b *Field) (Kind, bool) {
	switch {
	case a.Column != "" && b.Column != "":
		return Text, true
	case a.Column != "":
		return b.Kind, slices.Contains(a.Also, b.Kind)
	case b.Column != "":
		return a.Kind, slices.Contains(b.Also, a.Kind)
	}
	return a.Kind, a.Kind == b.Kind
}

// FieldNames returns the names of all fields.
func (s *Set) FieldNames() []string {
	names := make([]string, len(s.Fields))
	for i := range s.Fields {
		names[i] = s.Fields[i].Name
	}
	return names
}

// Unique reports whether at most one record has given values in fields: they
// contain all fields of a key.
func (s *Set) Unique(fields []string) bool {
	return slices.ContainsFunc(s.Keys, func(key []string) bool {
		return len(key) > 0 && !slices.ContainsFunc(key, func(f string) bool { return !slices.Contains(fields, f) })
	})
}

// Indexed reports whether records can be found by fields without looking at
// all of them: the first field of an index is among them.
func (s *Set) Indexed(fields []string) bool {
	return slices.ContainsFunc(s.Index, func(index []string) bool { return len(index) > 0 && slices.Contains(fields, index[0]) })
}

// IndexedAs reports whether records can be found fast by a value inside JSON that is
// compared as one of a kind.
func (s *Set) IndexedAs(field string, kind Kind) bool {
	return slices.ContainsFunc(s.Expressions, func(e Expression) bool { return e.Field == field && e.Kind == kind })
}

// Nested reports whether path leads to a nested record: some field lies below it.
func (s *Set) Nested(path string) bool {
	return slices.ContainsFunc(s.Fields, func(f Field) bool { return strings.HasPrefix(f.Name, path+".") })
}
