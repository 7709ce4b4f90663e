package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds root fields that pair records over a join table, and part them:
//
//	assign(call: ID!, pilot: ID!, role: PilotRole!): PortCall @pair(field: "pilots")
//	release(call: ID!, pilot: ID!): PortCall @unpair(field: "pilots")
//
// What is written is a row of the join table, found by a unique key, and what is answered is
// the record that has the field. A pair that is there already gets what else is given, and
// one that is not there is no error, so that either can be done again.

// pair binds a field with @pair or @unpair; nil after telling why not.
func (b *binder) pair(f *schema.Field, d *language.Directive, action store.Action) *Field {
	named := schema.NamedOf(f.Type)
	if _, isList := schema.ListElem(f.Type); isList || schema.IsLeaf(named) {
		b.fail(ruleWrite, f.Pos, f.Coordinate(), "give it the type of the records that have the field", msgPairAnswer, f.Coordinate())
		return nil
	}
	of := b.writable(f, d, named)
	if of == nil {
		return nil
	}
	r := of.records
	if r.unknown() {
		return &Field{Def: f, How: Written, Target: r, Write: &Write{Action: action, Records: r}}
	}
	related := b.paired(f, d, *of)
	if related == nil {
		return nil
	}
	rows := b.joinRecords(r, related)
	if rows.Info != nil && rows.Info.ReadOnly != "" {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteReadOnly, f.Coordinate(), rows.Set, rows.Info.ReadOnly)
		return nil
	}
	w := &Write{Action: action, Records: rows, Pair: true}
	if related.Target.Source == r.Source {
		w.Other = &Field{Target: related.Target, Only: related.Only, Here: related.JoinTable.There, There: related.There, Single: true}
	}
	bound := &Field{Def: f, How: Written, Target: r, Only: of.only, Here: related.JoinTable.Here, There: related.Here, Single: true, Write: w}
	values := b.settings(f, w, d) // of @unpair there are none
	for _, a := range f.Args {
		if !b.onlyLooked(f, w, a, values) {
			b.given(f, w, a, false, false)
		}
	}
	for _, v := range values {
		b.set(f, w, v, d)
	}
	key := b.pairKey(f, w, d, related)
	if key == nil {
		return nil
	}
	if action == store.Add {
		w.Replaces = key
		b.allFilled(f, w)
		b.replacesAny(f, w, d)
	} else {
		b.partedBy(f, w, key)
	}
	b.writtenUnder(f, d, w)
	b.within(f, bound)
	if schema.IsNonNull(f.Type) {
		b.warn(ruleNullable, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), msgRequiredWhenNoRecord, f.Coordinate())
	}
	return bound
}

// paired returns the relationship over a join table that a directive names; nil after
// telling that there is none.
func (b *binder) paired(f *schema.Field, d *language.Directive, t target) *Field {
	name := text(d, "field")
	var names []string
	for _, o := range t.types {
		object := t.records.Object(o)
		if object == nil {
			continue
		}
		for known, field := range object.Fields {
			if field.How == Related && field.JoinTable != nil && field.Parts == nil {
				if known == name {
					return field
				}
				names = append(names, known)
			}
		}
	}
	slices.Sort(names)
	b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgPairField, f.Coordinate(), name, t.records.Type, language.DidYouMean(name, slices.Compact(names)))
	return nil
}

// joinRecords returns the rows of a join table as records: those of the type that is stored
// there, or of none.
func (b *binder) joinRecords(r *Records, related *Field) *Records {
	set := related.JoinTable.Set
	for _, t := range b.bound.Schema.Types() {
		if known := b.bound.records[t]; known != nil && known.Source == r.Source && known.Set == set {
			return known
		}
	}
	rows := &Records{Type: &schema.Object{Declared: schema.Declared{Name: set}}, Source: r.Source, Set: set}
	if r.Source.Catalogue != nil {
		rows.Info = r.Source.Catalogue.Sets[set]
	}
	return rows
}

// pairKey returns a unique key of a join table that tells pairs apart, and all of whose
// fields are given; nil after telling why there is none.
func (b *binder) pairKey(f *schema.Field, w *Write, d *language.Directive, related *Field) []string {
	pair := slices.Concat(related.JoinTable.Here, related.JoinTable.There)
	given := func(path string) bool {
		return slices.ContainsFunc(w.Values, func(v WriteValue) bool {
			return v.Path == path && (v.Set != nil || v.Input == nil && v.Arg != nil && schema.IsNonNull(v.Arg.Type))
		})
	}
	var missing []string
	for _, path := range pair {
		if !given(path) {
			missing = append(missing, path)
		}
	}
	if len(missing) > 0 {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "give it a required argument for each of them", msgPairOfWhich, f.Coordinate(), strings.Join(missing, ", "))
		return nil
	}
	if w.Records.Info == nil {
		return pair
	}
	for _, key := range w.Records.Info.Keys {
		if !slices.ContainsFunc(key, func(p string) bool { return !given(p) }) && !slices.ContainsFunc(pair, func(p string) bool { return !slices.Contains(key, p) }) {
			return key
		}
	}
	b.fail(ruleWrite, d.Pos, f.Coordinate(), "CREATE UNIQUE INDEX ON "+w.Records.Set+" ("+strings.Join(pair, ", ")+")", msgPairKey, f.Coordinate(), w.Records.Set)
	return nil
}

// partedBy makes the values of a unique key those by which a pair is found.
func (b *binder) partedBy(f *schema.Field, w *Write, key []string) {
	for _, v := range w.Values {
		if slices.Contains(key, v.Path) {
			w.Keys = append(w.Keys, v)
		} else {
			b.fail(ruleArgument, v.Arg.Pos, v.Arg.Coordinate, "leave it out", msgNothingUsesArgument, v.Arg.Name, f.Coordinate())
		}
	}
	w.Values = nil
}
