package binding

import (
	"slices"

	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds what is given to a root field that writes: each argument, or each field
// of its input object, is the value of a stored field.

// given binds an argument of a write: a value of a field, or an input object, or a list
// of them, whose fields are such values.
func (b *binder) given(f *schema.Field, w *Write, a *schema.Input, expected, adjusts bool) {
	input, ok := schema.NamedOf(a.Type).(*schema.InputObject)
	if ok && b.holder(w.Records, a.Name) != nil { // a nested record, as a value
		ok = false
	}
	if !ok {
		v := b.writeValue(f, w, a, a)
		if v == nil {
			return // which is told
		}
		v.Arg = a
		switch {
		case adjusts && (v.Many || v.Kind != store.Int && v.Kind != store.Float && v.Kind != store.Decimal):
			b.fail(ruleWrite, a.Pos, a.Coordinate, "leave it out of adjust", msgWriteAdjust, a.Coordinate)
		case expected && (v.Many || v.Kind == store.JSON):
			b.fail(ruleWrite, a.Pos, a.Coordinate, "leave it out of expect", msgWriteExpect, a.Coordinate)
		case expected:
			w.Expect = append(w.Expect, *v)
		default:
			if adjusts {
				v.How = store.Adjusted
			}
			b.put(f, w, v, a)
		}
		return
	}
	if expected {
		b.fail(ruleWrite, a.Pos, a.Coordinate, "leave it out of expect", msgWriteExpect, a.Coordinate)
		return
	}
	if adjusts {
		b.fail(ruleWrite, a.Pos, a.Coordinate, "leave it out of adjust", msgWriteAdjust, a.Coordinate)
		return
	}
	_, isList := schema.ListElem(a.Type)
	if isList && (w.Action != store.Add || w.List != nil) || w.Action == store.Remove {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
		return
	}
	if isList {
		w.List = a
	}
	b.writeFields(f, w, a, input, []*schema.InputObject{input})
}

// writeFields binds the fields of an input object: that of an argument, or, within others,
// of records that are added together with one above.
func (b *binder) writeFields(f *schema.Field, w *Write, a *schema.Input, input *schema.InputObject, within []*schema.InputObject) {
	for _, field := range input.Fields {
		if b.nest(f, w, a, field, within) {
			continue
		}
		if v := b.writeValue(f, w, field, field); v != nil {
			if v.Arg, v.Input = a, field; w.Action == store.Change && slices.Contains(w.Records.Key, v.Path) {
				b.fail(ruleWrite, field.Pos, field.Coordinate, "leave it out", msgWriteKey, field.Coordinate, w.Records.Type)
				continue
			}
			b.put(f, w, v, field)
		}
	}
}

// put adds a value.
func (b *binder) put(f *schema.Field, w *Write, v *WriteValue, in *schema.Input) {
	same := func(other WriteValue) bool { return other.Path == v.Path }
	if i := slices.IndexFunc(w.Values, same); i >= 0 {
		b.fail(ruleWrite, in.Pos, in.Coordinate, "leave one of them out", msgWriteTwice, f.Coordinate(), w.Records.Set, v.Path, w.Values[i].About, in.Coordinate)
		return
	}
	w.Values = append(w.Values, *v)
}

// writeValue binds what an argument or field of an input object gives a value for: the
// stored field of the type's field of its name, the one foreign key of its relationship,
// or what its @at says.
func (b *binder) writeValue(f *schema.Field, w *Write, in, at *schema.Input) *WriteValue {
	r := w.Records
	named := schema.NamedOf(in.Type)
	if !schema.IsLeaf(named) {
		if v, ok := b.nestedValue(f, w, in); ok {
			return v
		}
		if f.Arg(in.Name) == in {
			b.fail(ruleArgument, in.Pos, in.Coordinate, "leave it out", msgNothingUsesArgument, in.Name, f.Coordinate())
		} else {
			b.fail(ruleArgument, in.Pos, in.Coordinate, "leave it out", msgNothingUsesGiven, f.Coordinate(), in.Coordinate)
		}
		return nil
	}
	v := &WriteValue{About: r.Type.String() + "." + in.Name}
	if b.bound.Schema.Position(in.Pos).Name == SuppliedName && r.objects != nil {
		b.tellsOf(in.Coordinate, fieldOf(b.bound.Schema, r.Type, in.Name))
	}
	if d := at.Directive("at"); d != nil {
		v.Path, v.About = text(d, "path"), in.Coordinate
	} else if v.Path = b.writtenPath(r, in.Name); v.Path == "" {
		b.fail(ruleArgument, in.Pos, in.Coordinate, "leave it out, or say with @at(path: \"…\") which stored field it is", msgWriteNoField, in.Coordinate, r.Type, language.DidYouMean(in.Name, writtenNames(r)))
		return nil
	}
	info := b.info(at.Directive("at"), r, v.Path, in.Coordinate, "the field written by "+in.Coordinate)
	if info == nil && r.Info != nil && r.Info.Sampled { // in none of the records that were looked at
		return b.freeValue(v, in)
	}
	if info == nil {
		return nil // which is told
	}
	_, v.Many = schema.ListElem(in.Type)
	switch {
	case info.Generated:
		b.fail(ruleWrite, in.Pos, in.Coordinate, "leave it out", msgWriteGenerated, in.Coordinate, r.Set, v.Path)
		return nil
	case info.Column != "":
		b.fail(ruleNotYet, in.Pos, in.Coordinate, "give the column as a whole", msgWriteInside, in.Coordinate, r.Set, v.Path)
		return nil
	case v.Many != (info.Kind == store.List):
		b.fail(ruleFits, in.Pos, in.Coordinate, "", msgArgumentType, in.Coordinate, in.Type, r.Set, v.Path, info.Type, "one is a list, and the other is not")
		return nil
	}
	known := *valueOf(info)
	kind, codec, err := fit(named, known.Kind)
	if err != nil && len(info.Also) > 0 {
		kind, codec, err = fitField(named, &known)
	}
	if codec == scalar.DayOfMoment && r.Source.Capabilities.Write.Nests { // documents have no days: one is its first moment
		kind, codec = store.Date, scalar.Quoted
		known.Kind = store.Date
	}
	if err != nil || codec == scalar.DayOfMoment {
		b.fail(ruleFits, in.Pos, in.Coordinate, "", msgArgumentType, in.Coordinate, named, r.Set, v.Path, info.Type, err)
		return nil
	}
	if of := known.Kind; kind == store.Text && of != store.Unknown && of != store.JSON || of == store.Decimal {
		kind = of // so that a text that is no such value is told here
	}
	v.Kind = kind
	if e, ok := named.(*schema.Enum); ok {
		v.Enum = b.enum(e, r, r.Source, info)
	}
	if info.Filled && w.Action == store.Add && schema.IsNonNull(in.Type) && b.bound.Schema.Position(in.Pos).Name == SuppliedName {
		b.refused = append(b.refused, in.Coordinate+"!") // the store fills it: it need not be given
	}
	return v
}

// shows reports whether a field of an object shows a stored one.
func shows(o *Object, path string) bool {
	for _, f := range o.Fields {
		if f.How == Column && f.Wanted.Path == path && len(f.Wanted.Via) == 0 && f.Wanted.Aggregate == store.NoAggregate {
			return true
		}
	}
	return false
}

// writtenPath returns the stored field of the type's field of a name, or the foreign key
// of its relationship to one record; "" if it has neither.
func (b *binder) writtenPath(r *Records, name string) string {
	if r.objects == nil && r.Info != nil { // the rows of a join table that no type has
		for _, path := range []string{r.Source.Naming.Apply(name), name} {
			if r.Info.Field(path) != nil {
				return path
			}
		}
		return ""
	}
	if path, _, ok := b.leafPath(r, name); ok {
		return path
	}
	for _, o := range b.bound.Schema.Possible(r.Type) {
		object := r.Object(o)
		if object == nil {
			continue
		}
		f := object.Fields[name]
		switch {
		case f == nil:
		case f.How == Related && f.Parts == nil && !f.Many && f.JoinTable == nil && len(f.Here) == 1 && f.Aggregate == nil && slices.Equal(f.There, f.Target.Key) && !(slices.Equal(f.Here, r.Key) && shows(object, f.Here[0])):
			return f.Here[0]
		case f.How == Column && len(f.Wanted.Via) == 0 && f.Wanted.Aggregate == store.NoAggregate:
			return f.Wanted.Path
		}
	}
	return ""
}

// writtenNames returns what writtenPath may be asked for, to suggest one.
func writtenNames(r *Records) []string {
	if r.objects == nil && r.Info != nil {
		return r.Info.FieldNames()
	}
	return leafNames(r.Type)
}

// freeValue is a value of a field that no catalogue tells: it is written as its scalar is.
func (b *binder) freeValue(v *WriteValue, in *schema.Input) *WriteValue {
	named := schema.NamedOf(in.Type)
	_, v.Many = schema.ListElem(in.Type)
	v.Kind, _, _ = fit(named, store.Unknown)
	if e, ok := named.(*schema.Enum); ok {
		v.Enum = b.enum(e, nil, nil, nil)
	}
	return v
}
