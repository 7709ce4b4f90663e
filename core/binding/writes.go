package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds root fields that write: @add, @change and @remove.

// A Write is what a field does to the records of its type.
type Write struct {
	Action  store.Action
	Records *Records
	// List is the argument that is a list of records to add, one input object for each;
	// nil of one record.
	List *schema.Input
	// Values are what is written, Keys by what a record is found, and Expect what it must
	// still have.
	Values, Keys, Expect []WriteValue
}

// A WriteValue is a stored field that an argument, or a field of an argument's input
// object, gives a value for.
type WriteValue struct {
	Arg   *schema.Input // of the field
	Input *schema.Input // of the argument's input object; nil if the argument is the value
	Const string        // without Arg: the value, of the field that tells the type of a record
	Path  string        // the stored field
	Kind  store.Kind    // as which it is written
	Many  bool          // a list of values
	// Adjust says that it is added to what is stored.
	Adjust bool
	Enum   *Enum
	About  string // the coordinate of the type's field, or of what has an @at, for messages
}

// writeDirectives are the directives that make a root field a write.
var writeDirectives = map[string]store.Action{"add": store.Add, "change": store.Change, "remove": store.Remove}

// writing returns the directive by which a field writes, or nil.
func writing(f *schema.Field) (*language.Directive, store.Action) {
	for name, action := range writeDirectives {
		if d := directive(f, name); d != nil {
			return d, action
		}
	}
	return nil, 0
}

// write binds a root field that writes; nil after telling why not.
func (b *binder) write(f *schema.Field, d *language.Directive, action store.Action) *Field {
	if root := b.bound.Schema.Mutation; root == nil || f.Owner != schema.Named(root) {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteElsewhere, f.Coordinate(), d.Name.Text)
		return nil
	}
	targets := b.targets(f, d.Pos)
	if len(targets) == 0 {
		return nil
	}
	r := targets[0].records
	switch {
	case len(targets) > 1:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteSeveral, f.Coordinate())
		return nil
	case r.unknown():
		return &Field{Def: f, How: Written, Target: r, Write: &Write{Action: action, Records: r}}
	case r.Source.Capabilities.Write == nil:
		b.fail(ruleNotYet, d.Pos, f.Coordinate(), "", msgWriteNotYet, f.Coordinate(), r.Source.Name, r.Source.Kind)
		return nil
	case r.Info != nil && r.Info.ReadOnly != "":
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteReadOnly, f.Coordinate(), r.Set, r.Info.ReadOnly)
		return nil
	case len(r.Key) == 0:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteNoKey, f.Coordinate(), r.Set)
		return nil
	}
	_, many := schema.ListElem(f.Type)
	bound := &Field{Def: f, How: Written, Target: r, Only: targets[0].only, Many: many, Here: r.Key, There: r.Key, Single: true, Write: &Write{Action: action, Records: r}}
	w := bound.Write
	expect, adjust := b.argumentsOf(f, d, "expect"), b.argumentsOf(f, d, "adjust")
	for _, a := range f.Args {
		b.given(f, w, a, slices.Contains(expect, a.Name), slices.Contains(adjust, a.Name))
	}
	if many != (w.List != nil) {
		fix := "make it " + strings.Trim(f.Type.String(), "[]!")
		if w.List != nil {
			fix = "make it [" + schema.NamedOf(f.Type).String() + "!]!"
		}
		b.fail(ruleWrite, f.Pos, f.Coordinate(), fix, msgWriteList, f.Coordinate())
		return nil
	}
	if action == store.Add {
		b.tellType(f, d, bound)
		b.allFilled(f, w)
	} else {
		b.found(f, d, bound)
	}
	return bound
}

// argumentsOf returns the arguments that a directive names.
func (b *binder) argumentsOf(f *schema.Field, d *language.Directive, name string) []string {
	var known []string
	names := texts(d.Argument(name))
	for _, n := range names {
		if f.Arg(n) == nil {
			for _, a := range f.Args {
				known = append(known, a.Name)
			}
			b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteArgument, f.Coordinate(), n, language.DidYouMean(n, known))
		}
	}
	return names
}

// given binds an argument of a write: a value of a field, or an input object, or a list
// of them, whose fields are such values.
func (b *binder) given(f *schema.Field, w *Write, a *schema.Input, expected, adjusts bool) {
	input, ok := schema.NamedOf(a.Type).(*schema.InputObject)
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
			v.Adjust = adjusts
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
	for _, field := range input.Fields {
		if v := b.writeValue(f, w, field, field); v != nil {
			if v.Arg, v.Input = a, field; w.Action == store.Change && slices.Contains(w.Records.Key, v.Path) {
				b.fail(ruleWrite, field.Pos, field.Coordinate, "leave it out", msgWriteKey, field.Coordinate, w.Records.Type)
				continue
			}
			b.put(f, w, v, field)
		}
	}
}

// put adds a value: of the key if a record is found by it.
func (b *binder) put(f *schema.Field, w *Write, v *WriteValue, in *schema.Input) {
	same := func(other WriteValue) bool { return other.Path == v.Path }
	if i := slices.IndexFunc(w.Values, same); i >= 0 {
		b.fail(ruleWrite, in.Pos, in.Coordinate, "leave one of them out", msgWriteTwice, f.Coordinate(), w.Records.Set, v.Path, w.Values[i].About, v.About)
		return
	}
	if w.Action != store.Add && v.Input == nil && slices.Contains(w.Records.Key, v.Path) {
		w.Keys = append(w.Keys, *v)
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
		b.fail(ruleArgument, in.Pos, in.Coordinate, "leave it out", msgNothingUsesArgument, in.Name, f.Coordinate())
		return nil
	}
	v := &WriteValue{About: r.Type.String() + "." + in.Name}
	if d := at.Directive("at"); d != nil {
		v.Path, v.About = text(d, "path"), in.Coordinate
	} else if v.Path = b.writtenPath(r, in.Name); v.Path == "" {
		b.fail(ruleArgument, in.Pos, in.Coordinate, "leave it out, or say with @at(path: \"…\") which stored field it is", msgWriteNoField, in.Coordinate, r.Type, language.DidYouMean(in.Name, leafNames(r.Type)))
		return nil
	}
	info := b.info(at.Directive("at"), r, v.Path, in.Coordinate, "the field written by "+in.Coordinate)
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
	kind, codec, err := fit(named, valueOf(info).Kind)
	if err != nil && len(info.Also) > 0 {
		kind, codec, err = fitField(named, valueOf(info))
	}
	if err != nil || codec == scalar.DayOfMoment {
		b.fail(ruleFits, in.Pos, in.Coordinate, "", msgArgumentType, in.Coordinate, named, r.Set, v.Path, info.Type, err)
		return nil
	}
	if of := valueOf(info).Kind; kind == store.Text && of != store.Unknown && of != store.JSON || of == store.Decimal {
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

// writtenPath returns the stored field of the type's field of a name, or the foreign key
// of its relationship to one record; "" if it has neither.
func (b *binder) writtenPath(r *Records, name string) string {
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
		case f.How == Related && f.Parts == nil && !f.Many && f.JoinTable == nil && len(f.Here) == 1 && f.Aggregate == nil && slices.Equal(f.There, f.Target.Key):
			return f.Here[0]
		case f.How == Column && len(f.Wanted.Via) == 0 && f.Wanted.Aggregate == store.NoAggregate:
			return f.Wanted.Path
		}
	}
	return ""
}

// tellType fills in the value that tells the type of a record that is added.
func (b *binder) tellType(f *schema.Field, d *language.Directive, bound *Field) {
	r := bound.Target
	if r.Kind == nil || slices.ContainsFunc(bound.Write.Values, func(v WriteValue) bool { return v.Path == r.Kind.Path }) {
		return
	}
	types := bound.Only
	if types == nil {
		types = b.bound.Schema.Possible(r.Type)
	}
	if len(types) != 1 {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "give the field the type of what it adds, such as "+types[0].Name, msgWriteWhichType, f.Coordinate(), r.Type)
		return
	}
	bound.Write.Values = append(bound.Write.Values, r.kindOf(types[0]))
}

// kindOf returns the value that tells that a record is of a type.
func (r *Records) kindOf(o *schema.Object) WriteValue {
	return WriteValue{Const: r.Kind.Stored[o], Path: r.Kind.Path, Kind: store.Text, About: r.Type.String()}
}

// allFilled tells of fields that a new record must have, and that nothing fills.
func (b *binder) allFilled(f *schema.Field, w *Write) {
	if w.Records.Info == nil {
		return
	}
	var missing []string
	for i := range w.Records.Info.Fields {
		info := &w.Records.Info.Fields[i]
		if info.Nullable || info.Filled || info.Generated || w.Records.Info.Sampled {
			continue
		}
		if !slices.ContainsFunc(w.Values, func(v WriteValue) bool { return v.Path == info.Name }) {
			missing = append(missing, info.Name)
		}
	}
	if len(missing) > 0 {
		b.fail(ruleWrite, f.Pos, f.Coordinate(), "give it in an argument, or let the store fill it", msgWriteUnfilled, f.Coordinate(), w.Records.Set, strings.Join(missing, ", "))
	}
}

// found tells of a change or removal that does not say of which record. A record of
// another type than the field's is not found.
func (b *binder) found(f *schema.Field, d *language.Directive, bound *Field) {
	w := bound.Write
	var missing []string
	for _, key := range w.Records.Key {
		i := slices.IndexFunc(w.Keys, func(v WriteValue) bool { return v.Path == key })
		if i < 0 || !schema.IsNonNull(w.Keys[i].Arg.Type) {
			missing = append(missing, key)
		}
	}
	switch {
	case len(missing) > 0:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "give it a required argument for each field of the key", msgWriteOfWhich, f.Coordinate(), w.Records.Type, strings.Join(missing, ", "))
	case w.Action == store.Change && len(w.Values) == 0:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "add an argument such as change: "+schema.NamedOf(f.Type).String()+"Change!, which Osprey supplies", msgWriteNothing, f.Coordinate())
	case w.Action == store.Remove && len(w.Values) > 0:
		a := w.Values[0].Arg
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
	case len(bound.Only) > 1:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "give the field the type "+w.Records.Type.String()+", or that of one of them", msgWriteOfSeveral, f.Coordinate())
	case len(bound.Only) == 1 && w.Records.Kind != nil:
		w.Keys = append(w.Keys, w.Records.kindOf(bound.Only[0]))
	}
	if schema.IsNonNull(f.Type) {
		b.warn(ruleNullable, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), msgRequiredWhenNoRecord, f.Coordinate())
	}
}

// FieldOf returns the coordinate of the field that shows a stored field, or that is the
// relationship by it; where the schema has none, the stored field's name.
func (b *Bound) FieldOf(source *Source, set, path string) string {
	best := ""
	for _, r := range b.records {
		if r.Source != source || r.Set != set {
			continue
		}
		for _, o := range b.Schema.Possible(r.Type) {
			object := r.Object(o)
			if object == nil {
				continue
			}
			for name, f := range object.Fields {
				shown := f.How == Column && f.Wanted.Path == path && len(f.Wanted.Via) == 0 && f.Wanted.Aggregate == store.NoAggregate
				if leads := f.How == Related && slices.Contains(f.Here, path) && slices.Equal(f.There, f.Target.Key); !shown && !leads {
					continue
				}
				if c := r.Type.String() + "." + name; best == "" || c < best {
					best = c
				}
			}
		}
	}
	if best == "" {
		return set + "." + path
	}
	return best
}
