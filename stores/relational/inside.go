package relational

import (
	"slices"
	"strings"

	"osprey/core/store"
)

// This file writes fields of rows: columns, and values inside columns of JSON. A value
// inside JSON has no type to the database. Where it is compared, put in order or
// totalled, it is written as a value of the kind that its use wants, and is NULL if it
// is none; where it is sent, it is JSON, so that what does not fit is an error at its
// place:
//
//	select  t0."meta" -> 'draught'                                    7.5
//	where   CASE WHEN … THEN (t0."meta" ->> 'draught')::numeric END   7.5 < 8

// as returns a field as it is used where values of a kind are wanted. Of one that is not
// in the table any more, the database will say so.
func (l *layout) as(set *store.Set, path string, kind store.Kind) *store.Field {
	f := set.Field(path)
	switch {
	case f == nil:
		return &store.Field{Name: path, Kind: store.Text, Type: "text"}
	case f.Column == "" && (f.Kind != store.Text || f.Opens == nil || kind != store.List && kind != store.Record):
		return f
	}
	used := *f
	used.Also = nil
	switch {
	case kind == store.JSON || kind == store.List || kind == store.Record:
		used.Kind = store.JSON
	case slices.Contains(f.Also, kind):
		used.Kind = kind
	default:
		used.Kind = f.Usual()
	}
	if f.Column == "" { // a text that is taken apart
		return &used
	}
	l.dialect.typed(&used, set.Field(f.Column))
	for _, e := range set.Expressions {
		if e.Field == f.Name && e.Kind == used.Kind {
			used.Indexed = e.Form
		}
	}
	return &used
}

// matched returns fields of two tables as they are compared with each other.
func (l *layout) matched(a, b *store.Set, here, there []string) (ofA, ofB []*store.Field) {
	for k := range there {
		f, other := a.Field(here[k]), b.Field(there[k])
		kind := store.Text
		if f != nil && other != nil {
			kind, _ = store.Matched(f, other)
		}
		ofA, ofB = append(ofA, l.as(a, here[k], kind)), append(ofB, l.as(b, there[k], kind))
	}
	return ofA, ofB
}

// linked returns the fields by which the rows of a read, or its pairs, belong to rows
// above: those of the rows above, and its own or those of the pairs.
func (l *layout) linked(read int) (above, own []*store.Field) {
	r := l.reads[read]
	set, there := l.set(read), r.There
	if r.JoinTable != nil {
		set, there = l.catalogue.Sets[r.JoinTable.Set], r.JoinTable.Here
	}
	return l.matched(l.set(r.Parent), set, r.Here, there)
}

// paired returns the fields by which rows of a read belong to its pairs: those of the
// pairs, and its own.
func (l *layout) paired(read int) (pairs, own []*store.Field) {
	r := l.reads[read]
	return l.matched(l.catalogue.Sets[r.JoinTable.Set], l.set(read), r.JoinTable.There, r.There)
}

// set returns the table of a read.
func (l *layout) set(read int) *store.Set { return l.catalogue.Sets[l.reads[read].Set] }

// own writes a field of the row that is called alias.
func (s *statement) own(alias string, f *store.Field) string {
	if f.Column == "" {
		return alias + "." + s.quote(f.Name)
	}
	return s.dialect.inside(alias, f)
}

// columnOf returns the column that has a field's value.
func columnOf(f *store.Field) string {
	if f.Column != "" {
		return f.Column
	}
	return f.Name
}

// narrowed writes, in front of a comparison with a value inside JSON, the same with the
// expression that an index is on, so that the index helps. What is equal is so to the
// expression, too; what is equal to that need not be.
func (s *statement) narrowed(comparison, alias string, f *store.Field, equal func(form string) string) string {
	form := indexedForm(alias, f)
	if form == "" || form == s.own(alias, f) {
		return comparison
	}
	return equal(form) + " AND " + comparison
}

// indexedForm writes the expression that an index is on; "" if there is none.
func indexedForm(alias string, f *store.Field) string {
	return strings.ReplaceAll(f.Indexed, store.RowMark, alias)
}

// The kinds as which a database compares values inside JSON.
var insideKinds = []store.Kind{store.Text, store.Int, store.Float, store.Decimal, store.Bool, store.Time, store.Date, store.Clock, store.UUID}

// What texts inside JSON must look like to be values of a kind; in the words that the
// regular expressions of all databases know. A day is one that there is.
const (
	dayPattern = "(?!0000)([0-9]{4}-((0[13578]|1[02])-(0[1-9]|[12][0-9]|3[01])|(0[469]|11)-(0[1-9]|[12][0-9]|30)|02-(0[1-9]|1[0-9]|2[0-8]))" +
		"|([0-9]{2}(0[48]|[2468][048]|[13579][26])|(0[48]|[2468][048]|[13579][26])00)-02-29)"
	clockPattern   = "([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9]([.][0-9]+)?"
	offsetPattern  = "(Z|[-+](0[0-9]|1[0-5]):[0-5][0-9])"
	uuidPattern    = "^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$"
	wholePattern   = "^[-+]?[0-9]{1,19}$"
	numberPattern  = "^[-+]?([0-9]+[.]?[0-9]*|[.][0-9]+)([eE][-+]?[0-9]{1,3})?$"
	decimalPattern = "^-?(0|[1-9][0-9]*)([.][0-9]+)?([eE][-+]?[0-9]{1,3})?$"
)
