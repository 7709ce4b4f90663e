package binding

import (
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds what a field that writes answers, where that is not the records
// themselves: how many they are, or an object of a type of the project's own:
//
//	type Struck { portCall: PortCall  removedId: ID @at(path: "id")  count: Int! }
//
//	portCall    the record
//	removedId   a field of its key
//	count       how many were written

// An Answer is what a field that writes answers.
type Answer struct {
	Count bool           // how many records were written
	Type  *schema.Object // an object of this type; nil of a count
	// Fields are the fields of the object, by their names: Written, Counted, or Column, which
	// is a field of the records' key. Records is the one that has the records, if any does.
	Fields  map[string]*Field
	Records *Field
}

// answered finds out of which type the records are that a field writes, and what it
// answers; no type after telling why not.
func (b *binder) answered(f *schema.Field, d *language.Directive) (schema.Named, *Answer) {
	named := schema.NamedOf(f.Type)
	o, _ := named.(*schema.Object)
	switch {
	case schema.IsLeaf(named):
		return b.answeredOf(f, d, nil), b.countedBy(f, f)
	case o == nil || b.bound.records[named] != nil || storedIn(named) != "":
		if of := text(d, "of"); of != "" && of != named.String() {
			b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave it out", msgWriteOfAndType, f.Coordinate(), of, named)
			return nil, nil
		}
		return named, nil
	}
	a := &Answer{Type: o, Fields: map[string]*Field{}}
	if schema.Depth(f.Type) > 0 {
		b.fail(ruleWrite, f.Pos, f.Coordinate(), "make it "+o.Name, msgWriteListOfAnswers, f.Coordinate(), o)
		return nil, nil
	}
	for _, of := range o.Fields {
		if _, ok := schema.NamedOf(of.Type).(schema.Composite); !ok {
			continue
		}
		if a.Records != nil {
			b.fail(ruleWrite, of.Pos, of.Coordinate(), "leave one of them out", msgWriteTwoRecords, of.Coordinate(), a.Records.Def.Name)
			return nil, nil
		}
		a.Records = &Field{Def: of, How: Written}
		a.Fields[of.Name] = a.Records
	}
	var records schema.Named
	if a.Records != nil {
		records = schema.NamedOf(a.Records.Def.Type)
	}
	return b.answeredOf(f, d, records), a
}

// answeredOf returns the type of the records that are written, which the answer has, or
// the directive names.
func (b *binder) answeredOf(f *schema.Field, d *language.Directive, records schema.Named) schema.Named {
	name := text(d, "of")
	switch {
	case name == "" && records == nil:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "write @"+d.Name.Text+"(of: \"…\") with the type of the records", msgWriteOfWhat, f.Coordinate())
		return nil
	case name == "":
		return records
	case records != nil && records.String() != name:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave it out", msgWriteOfAndType, f.Coordinate(), name, records)
		return nil
	}
	t := b.bound.Schema.Type(name)
	if _, ok := t.(schema.Composite); !ok {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteOfNothing, f.Coordinate(), name, language.DidYouMean(name, b.stocked()))
		return nil
	}
	return t
}

// stocked returns the names of the types that have a record set, in order.
func (b *binder) stocked() (names []string) {
	for known, r := range b.bound.records {
		if r.Type == known {
			names = append(names, known.String())
		}
	}
	slices.Sort(names)
	return names
}

// countedBy binds what says how many records were written; nil after telling why not.
func (b *binder) countedBy(f, of *schema.Field) *Answer {
	if schema.Nullable(of.Type).String() != "Int" {
		b.fail(ruleWrite, of.Pos, of.Coordinate(), "make it Int!, which is how many there are, or give it the type of the records", msgWriteAnswer, of.Coordinate(), of.Type)
		return nil
	}
	return &Answer{Count: true}
}

// answersKey binds the other fields of an answer: of the key of what is written, or how
// many there are; false after telling why not.
func (b *binder) answersKey(f *schema.Field, w *Write) bool {
	switch {
	case w.Answer == nil:
		return true
	case w.Answer.Type == nil:
		return w.Answer.Count
	}
	many := w.List != nil || w.Find != nil && w.Find.Many
	p := place{records: w.Records, source: w.Records.Source}
	for _, of := range w.Answer.Type.Fields {
		if w.Answer.Fields[of.Name] != nil {
			continue
		}
		elem, isList := schema.ListElem(of.Type)
		one := *of
		if isList {
			one.Type = elem
		}
		if path := b.pathOf(p, of); !slices.Contains(w.Records.Key, path) {
			if of.Directive("at") != nil || isList || schema.Nullable(of.Type).String() != "Int" {
				b.fail(ruleWrite, of.Pos, of.Coordinate(), "make it Int!, which is how many there are, or give it the name of a field of the key", msgWriteAnswerField, of.Coordinate(), w.Records.Type)
				return false
			}
			w.Answer.Fields[of.Name] = &Field{Def: of, How: Counted, Wanted: store.Wanted{Kind: store.Int}}
			continue
		}
		if isList != many {
			fix := "make it " + schema.NamedOf(of.Type).String()
			if many {
				fix = "make it [" + schema.NamedOf(of.Type).String() + "!]!"
			}
			b.fail(ruleWrite, of.Pos, of.Coordinate(), fix, msgWriteList, of.Coordinate())
			return false
		}
		key := b.field(p, &one)
		if key == nil {
			return false
		}
		key.Def = of
		w.Answer.Fields[of.Name] = key
	}
	return true
}
