package store

import (
	"slices"
	"strings"
)

// A Catalogue is what a store tells about its record sets.
type Catalogue struct {
	Sets map[string]*Set
}

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
	// Sampled says that Fields was gathered from some records: others may exist,
	// and what is told of one may not hold for every record.
	Sampled bool
	Rows    int64 // about how many records there are; 0 if nothing tells
}

// A Field is a column, or a path in a document.
type Field struct {
	Name     string // with dots inside a document
	Type     string // the store's own name of the type
	Kind     Kind
	Elem     Kind // of List
	Nullable bool
	// Form is how a store that has no type for moments writes those of the field, as Go
	// writes layouts; "" if in several ways.
	Form string
	// Also are further kinds as which the store can give and compare the values.
	Also     []Kind
	Values   []string // of an enum: the stored values
	Computed bool     // written by the store only
	Loose    bool     // texts that differ can be equal to the store
	// Collation is by which a text is compared and sorted, where the store has several.
	Collation string
	Wide      bool // of Int: values can be beyond 32 bits
	AsText    bool // the type is none that Osprey knows, and is read as text
}

// Field returns the field called name, or nil.
func (s *Set) Field(name string) *Field {
	for i := range s.Fields {
		if s.Fields[i].Name == name {
			return &s.Fields[i]
		}
	}
	return nil
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

// Nested reports whether path leads to a nested record: some field lies below it.
func (s *Set) Nested(path string) bool {
	return slices.ContainsFunc(s.Fields, func(f Field) bool { return strings.HasPrefix(f.Name, path+".") })
}
