package editing

import (
	"slices"
	"strings"

	"osprey/core/language"
)

// A what says what a text in an argument of a binding directive names.
type what uint8

const (
	nothing      what = iota
	aSource           // a source of osprey.yaml
	aSet              // a record set of in.source
	aColumn           // a stored field of in
	aList             // a list of nested records of in
	aField            // a field of the type on
	anOrder           // a field of on, and asc or desc
	aSetting          // a field of on, ":", and an expression
	aType             // a type
	anArgument        // an argument of the field itself
	aPair             // a field of on that is a relationship over a join table
	aFunction         // a function, as source.name
	aSelection        // fields of on, as an operation writes them
	anExpression      // an expression over record, which is of the type on
	aStored           // a value that the stored field column of in has
	aWord             // one of words
)

// A slot is a place for a text in a directive.
type slot struct {
	what   what
	in     place
	on     string
	column string
	words  []string
	args   []*language.InputValueDefinition
}

// A spot is where a directive stands.
type spot struct {
	owner string // the type
	field string // of it; "" on the type itself
	of    string // the type of the field, without lists
	// argument, input and value say that it stands on an argument of the field, on a field of an
	// input object, or on a value of an enum.
	argument, input, value bool
	args                   []*language.InputValueDefinition // of the field
	given                  func(path ...string) string      // the texts of the other arguments of the directive
}

// slot returns what a text means in the argument of a directive; path leads to it, as
// "through", "set".
func (s *Site) slot(at spot, directive string, path ...string) slot {
	own := s.place(at.owner)
	target := s.recordType(at.of)
	if other := at.given("of"); other != "" && directive != "total" {
		target = other
	}
	there := s.place(target)
	if there.source == nil { // what is answered of a write: a field of it is the record
		if t := s.types[target]; t != nil {
			for _, f := range t.order {
				if p := s.place(typeOf(t.fields[f].Type)); p.source != nil && p.prefix == "" {
					target, there = typeOf(t.fields[f].Type), p
					break
				}
			}
		}
	}
	switch key := directive + "." + strings.Join(path, "."); key {
	case "stored.in":
		return slot{what: aSource}
	case "stored.as":
		return slot{what: aSet, in: s.at(at.given("in"), "")}
	case "stored.key":
		set := at.given("as")
		in := s.at(at.given("in"), set)
		if in.source != nil && set == "" {
			in.set = in.source.Naming.Apply(at.owner)
		}
		return slot{what: aColumn, in: in}
	case "at.path":
		switch {
		case at.value:
			return s.spelling(at.owner)
		case at.argument:
			return slot{what: aColumn, in: there}
		case at.input:
			base := at.owner
			for _, suffix := range []string{"Filter", "Sort", "Add", "Change", "Input"} {
				base = strings.TrimSuffix(base, suffix)
			}
			return slot{what: aColumn, in: s.place(base)}
		}
		return slot{what: aColumn, in: own}
	case "related.here":
		return slot{what: aColumn, in: own}
	case "related.there":
		return slot{what: aColumn, in: there}
	case "related.through.set":
		there.set, there.prefix = "", ""
		return slot{what: aSet, in: there}
	case "related.through.here", "related.through.there":
		there.set, there.prefix = at.given("through", "set"), ""
		return slot{what: aColumn, in: there}
	case "related.sort", "read.sort":
		return slot{what: anOrder, on: target}
	case "kind.by":
		if at.field != "" && at.given("is") != "" {
			return slot{what: aColumn, in: there}
		}
		return slot{what: aColumn, in: own}
	case "kind.is":
		for _, i := range s.bases(at.owner) {
			if by := text(named(s.types[i].directives, "kind"), "by"); by != "" {
				return slot{what: aStored, in: s.place(i), column: by}
			}
		}
	case "total.of":
		return slot{what: aField, on: at.owner}
	case "total.min", "total.max", "total.sum", "total.avg":
		of := at.owner
		if t := s.types[at.owner]; t != nil && t.fields[at.given("of")] != nil {
			of = typeOf(t.fields[at.given("of")].Type)
		}
		return slot{what: aField, on: s.recordType(of)}
	case "computed.expr", "for.when":
		if at.input || at.argument { // of which no record is known
			return slot{what: anExpression, args: at.args}
		}
		return slot{what: anExpression, on: at.owner, args: at.args}
	case "computed.by", "within.by":
		return slot{what: aFunction}
	case "computed.needs":
		return slot{what: aSelection, on: at.owner}
	case "within.needs":
		return slot{what: aSelection, on: target}
	case "read.where":
		return slot{what: aSetting, on: target}
	case "pair.set":
		return slot{what: aSetting, on: s.paired(target, at.given("field")), args: at.args}
	case "add.set", "change.set":
		return slot{what: aSetting, on: target, args: at.args}
	case "add.replaces":
		return slot{what: aField, on: target}
	case "change.expect", "remove.expect", "change.adjust":
		return slot{what: anArgument, on: at.owner + "." + at.field, args: at.args}
	case "add.into", "change.in", "remove.from":
		return slot{what: aField, on: target}
	case "add.of", "change.of", "remove.of", "related.of", "watch.type":
		return slot{what: aType}
	case "watch.on":
		return slot{what: aWord, words: []string{"ADDED", "CHANGED", "REMOVED"}}
	case "pair.field", "unpair.field":
		return slot{what: aPair, on: target}
	}
	return slot{}
}

// paired returns the type whose records are the rows of the join table of a relationship; ""
// if none is.
func (s *Site) paired(owner, field string) string {
	d := s.directive(owner, field, "related")
	if d == nil {
		return ""
	}
	in, set := s.place(owner).source, given(d.Arguments, []string{"through", "set"})
	for _, name := range s.names() {
		if p := s.place(name); p.source == in && p.set == set && p.prefix == "" && in != nil {
			return name
		}
	}
	return ""
}

// bases returns the interfaces that a type implements, and the unions that it is in, that
// the texts define.
func (s *Site) bases(name string) (list []string) {
	for _, other := range s.names() {
		t := s.types[other]
		if own := s.types[name]; own != nil && slices.Contains(own.interfaces, other) || slices.Contains(t.members, name) {
			list = append(list, other)
		}
	}
	return list
}

// spelling returns the slot of the stored spellings of an enum: those of a stored field of
// that type.
func (s *Site) spelling(enum string) slot {
	for _, owner := range s.names() {
		t := s.types[owner]
		for _, name := range t.order {
			if typeOf(t.fields[name].Type) != enum {
				continue
			}
			p := s.place(owner)
			if p.source == nil {
				continue
			}
			return slot{what: aStored, in: p, column: s.column(p, owner, name)}
		}
	}
	return slot{}
}

// values returns the values that a stored field has, as far as the store tells.
func (p place) values(column string) []string {
	_, fields := p.inner()
	if f := fields[column]; f != nil {
		return f.Values
	}
	return nil
}
