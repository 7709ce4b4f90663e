package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds by what a write finds the records that it is about.

// found finds out by what a change or removal finds its record: the arguments that are
// the key, or another unique key, and are required. A record of another type than the
// field's is not found.
func (b *binder) found(f *schema.Field, d *language.Directive, bound *Field) {
	w := bound.Write
	if w.Find == nil {
		b.findOne(f, d, bound)
	}
	switch {
	case w.Action == store.Change && len(w.Values) == 0:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "add an argument such as change: "+w.Records.Type.String()+"Change!, which Osprey supplies", msgWriteNothing, f.Coordinate())
	case w.Action == store.Remove && len(w.Values) > 0:
		a := w.Values[0].Arg
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
	case w.Find != nil && w.Find.Many && len(w.Expect) > 0:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave expect out, and put it into the filter", msgWriteExpectAll, f.Coordinate())
	case len(bound.Only) > 1:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "give the field the type "+w.Records.Type.String()+", or that of one of them", msgWriteOfSeveral, f.Coordinate())
	case len(bound.Only) == 1 && w.Records.Kind != nil && w.Find == nil:
		w.Keys = append(w.Keys, w.Records.kindOf(bound.Only[0]))
	}
	if i := slices.IndexFunc(w.Values, func(v WriteValue) bool { return slices.Contains(w.Records.Key, v.Path) }); i >= 0 && w.Action == store.Change {
		b.fail(ruleWrite, w.Values[i].Arg.Pos, w.Values[i].Arg.Coordinate, "leave it out", msgWriteKey, w.Values[i].Arg.Coordinate, w.Records.Type)
	}
	if w.Answer == nil && !bound.Many && schema.IsNonNull(f.Type) {
		b.warn(ruleNullable, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), msgRequiredWhenNoRecord, f.Coordinate())
	}
}

// findOne takes the arguments of a unique key out of what is written: the record is found
// by them.
func (b *binder) findOne(f *schema.Field, d *language.Directive, bound *Field) {
	w, r := bound.Write, bound.Target
	required := func(path string) int {
		return slices.IndexFunc(w.Values, func(v WriteValue) bool {
			return v.Path == path && v.Arg != nil && v.Input == nil && v.How == store.Replaced && !v.Many && schema.IsNonNull(v.Arg.Type)
		})
	}
	covered := func(key []string) bool {
		return len(key) > 0 && !slices.ContainsFunc(key, func(path string) bool { return required(path) < 0 })
	}
	var keys [][]string
	if covered(r.Key) {
		keys = append(keys, r.Key)
	} else if r.Info != nil {
		for _, key := range r.Info.Keys {
			if covered(key) {
				keys = append(keys, key)
			}
		}
	}
	switch {
	case len(keys) == 0:
		var missing []string
		for _, path := range r.Key {
			if required(path) < 0 {
				missing = append(missing, path)
			}
		}
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "give it a required argument for each field of the key, or of another unique key, or an argument filter: "+r.Type.String()+"Filter!", msgWriteOfWhich, f.Coordinate(), r.Type, strings.Join(missing, ", "))
		return
	case len(keys) > 1 && w.Action == store.Change:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "put what changes into an argument such as change: "+r.Type.String()+"Change!", msgWriteWhichKey, f.Coordinate(), strings.Join(keys[0], ", "), strings.Join(keys[1], ", "))
		return
	}
	for _, key := range keys {
		for _, path := range key {
			if i := required(path); i >= 0 {
				w.Keys = append(w.Keys, w.Values[i])
				w.Values = slices.Delete(w.Values, i, i+1)
			}
		}
	}
	if slices.Equal(keys[0], r.Key) && !w.Looks && !b.ruled(r) {
		return
	}
	w.Find = &Field{Def: f, How: Read, Target: r, Only: bound.Only, Single: true}
	for _, v := range w.Keys {
		w.Find.Args = append(w.Find.Args, Arg{Def: v.Arg, Role: Equal, Path: v.Path, Kind: v.Kind, Enum: v.Enum})
	}
	w.Keys = nil
}

// findAll binds the filter of a field that writes to all records that it finds.
func (b *binder) findAll(f *schema.Field, bound *Field, a *schema.Input) {
	if !schema.IsNonNull(a.Type) {
		b.fail(ruleWrite, a.Pos, a.Coordinate, "make it "+a.Type.String()+"!", msgWriteFilter, a.Coordinate)
		return
	}
	arg := Arg{Def: a, Role: FilterBy}
	of := schema.Named(bound.Target.Type)
	if len(bound.Only) == 1 {
		of = bound.Only[0]
	}
	if b.filterArgument(a, bound.Target, of, &arg) {
		bound.Write.Find = &Field{Def: f, How: Read, Target: bound.Target, Only: bound.Only, Many: true, Args: []Arg{arg}}
	}
}

// replaced binds the unique key by which an addition changes the record that has it
// already.
func (b *binder) replaced(f *schema.Field, w *Write, d *language.Directive) {
	names := language.Texts(d.Argument("replaces"))
	if len(names) == 0 {
		return
	}
	var about []string
	for _, name := range names {
		path := b.writtenPath(w.Records, name)
		if path == "" {
			b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgSetNoField, f.Coordinate(), name, w.Records.Type, language.DidYouMean(name, leafNames(w.Records.Type)))
			return
		}
		if !slices.ContainsFunc(w.Values, func(v WriteValue) bool { return v.Path == path }) {
			b.fail(ruleWrite, d.Pos, f.Coordinate(), "give it in an argument", msgWriteReplacesGiven, f.Coordinate(), name)
			return
		}
		w.Replaces, about = append(w.Replaces, path), append(about, name)
	}
	info := w.Records.Info
	if info == nil {
		return
	}
	if !slices.ContainsFunc(info.Keys, func(key []string) bool { return sameFields(key, w.Replaces) }) {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "name the fields of the primary key, or of another unique key", msgWriteReplaces, f.Coordinate(), strings.Join(about, " and "))
		return
	}
	b.replacesAny(f, w, d)
}

// replacesAny tells where a store would change a record that has another unique key than
// that of Replaces.
func (b *binder) replacesAny(f *schema.Field, w *Write, d *language.Directive) {
	if !w.Records.Source.Capabilities.Write.AnyKey || w.Records.Info == nil {
		return
	}
	for _, key := range w.Records.Info.Keys {
		given := !slices.ContainsFunc(key, func(p string) bool {
			return !slices.ContainsFunc(w.Values, func(v WriteValue) bool { return v.Path == p && (v.Set == nil || len(v.Set.Args) > 0) })
		})
		if given && !sameFields(key, w.Replaces) {
			b.fail(ruleWrite, d.Pos, f.Coordinate(), "add and change in two fields", msgWriteReplacesOther, f.Coordinate(), strings.Join(w.Replaces, " and "), w.Records.Source.Name, strings.Join(key, " and "))
			return
		}
	}
}

// sameFields reports whether two keys are of the same fields.
func sameFields(a, b []string) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(p string) bool { return !slices.Contains(b, p) })
}
