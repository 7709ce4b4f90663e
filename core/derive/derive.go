// Package derive makes types, with their bindings, of what a store tells of its record sets: the
// way from stores to a schema. It asks no store itself.
//
//	port_calls                         type PortCall @stored(in: "registry", as: "port_calls", key: "id") {
//	  id          int, its key           id: ID!
//	  craft_imo   int → craft.imo        craft: Craft! @related(here: "craft_imo")
//	  arrived_at  timestamptz            arrivedAt: DateTime!
//	pilotage                             pilots: [Pilot!]! @related(through: {set: "pilotage", …})
//	  call_id → port_calls, pilot_id → pilots, which are its key
package derive

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/store"
	"osprey/core/words"
)

// Options say what is derived, and how it is called.
type Options struct {
	Source string
	Naming binding.Naming
	// Only are the record sets that are meant, if there are any; Omit are record sets, and fields
	// as set.field, that are not.
	Only, Omit []string
	// Names are names that were chosen: of types by their set, and of fields by set.field.
	Names map[string]string
	// Known are the types of record sets that others have, which are led to and not derived, and
	// Taken are names that others have.
	Known map[string]string
	Taken map[string]bool
	// Samples are some values of columns of JSON, by set.column, as package encoding/json decodes
	// them with numbers.
	Samples map[string][]any
	// Declared is what values are said to be: of a record set, and of columns as set.column.
	Declared map[string]*Declared
	// Leads are fields, as set.field, whose values were found to be keys of other records.
	Leads map[string]Lead
	// Before is how things were called before: they keep their names.
	Before *Before
}

// A Lead is where the values of a field were found to be keys.
type Lead struct {
	Set    string // of the same source
	Type   string // of another source, instead: the type of its records
	Source string
	There  string // the key
	Share  int    // how many of a hundred values are
	Looked int    // how many different values were looked at
}

// Derived is what was made of a store.
type Derived struct {
	Types []*Type
	Enums []*Enum
	// Left is what was left out, with why.
	Left []string
}

// A Type is the type of a record set, or of records nested in one.
type Type struct {
	Name, About string
	Set         string // "" of nested records
	Key         []string
	Fields      []*Field
	Notes       []string // comments at its end
}

// A Field is a field of a type.
type Field struct {
	Name, About string
	Type        string // as the schema language writes it
	Directive   string
	Note        string // a comment above it
	of          string // what it is of the set, whatever it is called
}

// An Enum is the values of a column.
type Enum struct {
	Name   string
	Values []Value
	of     string
}

// A Value is one of an enum.
type Value struct{ Name, Stored string }

// Types makes types of the record sets of a catalogue.
func Types(c *store.Catalogue, o Options) *Derived {
	d := &deriver{Options: o, catalogue: c, made: &Derived{}, types: map[string]*Type{}, taken: map[string]bool{}, joins: map[string]*join{}, declared: map[*Declared]string{}}
	for name := range o.Taken {
		d.taken[name] = true
	}
	var sets []*store.Set
	for _, name := range c.Names() {
		if d.meant(c.Sets[name]) {
			sets = append(sets, c.Sets[name])
		}
	}
	for _, set := range sets {
		if j := joinOf(set); j != nil && d.has(c, j.one.Set) && d.has(c, j.other.Set) {
			d.joins[set.Name] = j
		}
	}
	sets = slices.DeleteFunc(sets, func(s *store.Set) bool { return d.joins[s.Name] != nil && d.joins[s.Name].bare })
	for _, kept := range []bool{true, false} { // those that have a name already come first
		for _, set := range sets {
			if (d.given(set) != "") == kept {
				t := &Type{Set: set.Name, Name: d.typeName(set), About: set.About}
				d.types[set.Name] = t
				d.made.Types = append(d.made.Types, t)
			}
		}
	}
	slices.SortFunc(d.made.Types, func(a, b *Type) int { return cmp.Compare(a.Name, b.Name) })
	own := slices.Clone(d.made.Types)
	for _, t := range own {
		d.fields(t, c.Sets[t.Set])
	}
	for _, t := range own {
		d.relations(t, c.Sets[t.Set])
	}
	for _, t := range own {
		d.names(t)
		d.hints(t, c.Sets[t.Set])
	}
	slices.SortFunc(d.made.Enums, func(a, b *Enum) int { return cmp.Compare(a.Name, b.Name) })
	return d.made
}

type deriver struct {
	Options
	catalogue *store.Catalogue
	made      *Derived
	types     map[string]*Type     // by set
	taken     map[string]bool      // names of types
	joins     map[string]*join     // by set
	declared  map[*Declared]string // the types that were made
	places    map[string]string    // where what is described is said to be, by coordinate; nil if nobody asks
}

// meant reports whether a record set is to be derived.
func (d *deriver) meant(set *store.Set) bool {
	switch {
	case set.Part || slices.Contains(d.Omit, set.Name) || d.Known[set.Name] != "":
		return false
	case len(d.Only) > 0:
		return slices.Contains(d.Only, set.Name)
	}
	return len(set.Fields) > 0
}

// has reports whether a record set has a type.
func (d *deriver) has(c *store.Catalogue, set string) bool {
	return d.Known[set] != "" || c.Sets[set] != nil && d.meant(c.Sets[set])
}

// typeOf returns the name of the type of a record set; "" if it has none.
func (d *deriver) typeOf(set string) string {
	if t := d.types[set]; t != nil {
		return t.Name
	}
	return d.Known[set]
}

// given returns the name that a record set's type has been given.
func (d *deriver) given(set *store.Set) string {
	if name := d.Names[set.Name]; name != "" {
		return name
	}
	return d.Before.typeOf(set.Name)
}

// reserved are names that a type cannot have.
var reserved = map[string]bool{"Query": true, "Mutation": true, "Subscription": true, "Direction": true, "PageInfo": true,
	"Int": true, "Float": true, "String": true, "Boolean": true, "ID": true, "DateTime": true, "Date": true, "Time": true, "Duration": true, "UUID": true, "URL": true, "JSON": true, "Decimal": true, "Int64": true}

// supplied are the ends of names of types that are supplied.
var supplied = []string{"Filter", "Sort", "Connection", "Edge", "Related", "Add", "Change"}

// typeName chooses a name for the type of a record set.
func (d *deriver) typeName(set *store.Set) string {
	if name := d.given(set); name != "" && !d.taken[name] {
		d.taken[name] = true
		return name
	}
	list := words.Of(set.Name)
	one := slices.Clone(list)
	if n := len(one); n > 0 {
		one[n-1] = words.Singular(one[n-1])
	}
	name := start(words.Pascal(one), "Set")
	if reserved[name] || slices.ContainsFunc(supplied, func(end string) bool { return strings.HasSuffix(name, end) }) {
		name += "Record"
	}
	return d.free(name, start(words.Pascal(list), "Set"))
}

// free returns the first of some names of types that is free, and takes it.
func (d *deriver) free(names ...string) string {
	names = slices.DeleteFunc(names, func(name string) bool { return name == "" })
	for _, name := range names {
		if !d.taken[name] && !reserved[name] {
			d.taken[name] = true
			return name
		}
	}
	for n := 2; ; n++ {
		if name := fmt.Sprint(names[0], n); !d.taken[name] {
			d.taken[name] = true
			return name
		}
	}
}

// start returns a name that begins with a letter.
func start(name, otherwise string) string {
	switch {
	case name == "":
		return otherwise
	case name[0] >= '0' && name[0] <= '9':
		return otherwise + name
	}
	return name
}

// chosen returns the name that was chosen for a field, by the column that it is, or by which it
// leads to a record.
func (d *deriver) chosen(set, of string) string {
	if path, ok := strings.CutPrefix(of, "at "); ok {
		return d.Names[set+"."+path]
	}
	if _, by, ok := strings.Cut(of, " by "); ok && strings.HasPrefix(of, "to ") {
		return d.Names[set+"."+by]
	}
	return ""
}

// names gives fields that have the same name others, and all the names that were chosen.
func (d *deriver) names(t *Type) {
	taken := map[string]bool{}
	var open []*Field
	for _, f := range t.Fields {
		name := d.chosen(t.Set, f.of)
		if name == "" {
			name = d.Before.fieldOf(t.Set, f.of)
		}
		if name == "" || taken[name] {
			open = append(open, f)
			continue
		}
		f.Name = name
		taken[name] = true
	}
	for _, f := range open {
		name := f.Name
		for n := 2; taken[f.Name]; n++ {
			f.Name = fmt.Sprint(name, n)
		}
		taken[f.Name] = true
	}
	for _, f := range t.Fields {
		if path, ok := strings.CutPrefix(f.of, "at "); ok && f.Directive == "" && (d.Naming == asStored || d.Naming.Apply(f.Name) != path) {
			f.Directive = "@at(path: " + quoted(path) + ")"
		}
	}
}
