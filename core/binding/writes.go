package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
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
