package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds root fields that write: @add, @change and @remove; for @pair and @unpair
// see pair.

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
	// Nested are the records that are added with each. Several says, of such, that they are a
	// list.
	Nested  []*NestedWrite
	Several bool
	// elsewhere says, of such, that they are in another source than the first of them all.
	elsewhere bool
	// Find is the read by which the records are found first: all that a filter finds, or one
	// by another unique key than that of the type. Keys is then empty.
	Find *Field
	// Looks says that expressions look at the record as it was: it is found first.
	Looks bool
	// Replaces are the stored fields of a unique key, of an addition that changes the record
	// that has them already.
	Replaces []string
	// Pair says that Records are the rows of a join table. Of each row that is given, the
	// record is answered to which it belongs, whether the row was there or not.
	Pair bool
	// Other is the relationship from such a row to the other record of the pair.
	Other *Field
	// Within is the function that takes part in the transaction; nil if none does.
	Within *Field
	// Answer is what the field answers if not the records themselves.
	Answer *Answer
}

// A WriteValue is a stored field that an argument, or a field of an argument's input
// object, gives a value for.
type WriteValue struct {
	Arg   *schema.Input // of the field
	Input *schema.Input // of the argument's input object; nil if the argument is the value
	Const string        // without Arg: the value, of the field that tells the type of a record
	Set   *Set          // without Arg: the expression that gives the value
	Above string        // without Arg: the field of the record above whose value it has
	Path  string        // the stored field
	Kind  store.Kind    // as which it is written
	Many  bool          // a list of values
	How   store.How
	Enum  *Enum
	// Fields are, of a nested record or a list of them, where its own values come from.
	Fields []WriteValue
	// Together says that the fields are arguments, which together are the record.
	Together bool
	About    string // the coordinate of the type's field, or of what has an @at, for messages
}

// writeDirectives are the directives that make a root field a write.
var writeDirectives = map[string]store.Action{"add": store.Add, "change": store.Change, "remove": store.Remove, "pair": store.Add, "unpair": store.Remove}

// writing returns the directive by which a field writes, or nil.
func writing(f *schema.Field) (*language.Directive, store.Action) {
	for name, action := range writeDirectives {
		if d := directive(f, name); d != nil {
			return d, action
		}
	}
	return nil, 0
}

// writable returns the record set of a type to whose source is written; nil after telling why it
// is not.
func (b *binder) writable(f *schema.Field, d *language.Directive, named schema.Named) *target {
	targets := b.targetsOf(named, f, d.Pos)
	if len(targets) == 0 {
		return nil
	}
	r := targets[0].records
	switch {
	case len(targets) > 1:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteSeveral, f.Coordinate())
		return nil
	case !r.unknown() && r.Source.Capabilities.Write == nil:
		b.fail(ruleNotYet, d.Pos, f.Coordinate(), "", msgWriteNotYet, f.Coordinate(), r.Source.Name, r.Source.Kind)
		return nil
	}
	return &targets[0]
}

// write binds a root field that writes; nil after telling why not.
func (b *binder) write(f *schema.Field, d *language.Directive, action store.Action) *Field {
	if root := b.bound.Schema.Mutation; root == nil || f.Owner != schema.Named(root) {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteElsewhere, f.Coordinate(), d.Name.Text)
		return nil
	}
	if name := d.Name.Text; name == "pair" || name == "unpair" {
		return b.pair(f, d, action)
	}
	named, answer := b.answered(f, d)
	if named == nil {
		return nil
	}
	of := b.writable(f, d, named)
	if of == nil {
		return nil
	}
	r := of.records
	switch {
	case r.unknown():
		return &Field{Def: f, How: Written, Target: r, Write: &Write{Action: action, Records: r, Answer: answer}}
	case r.Info != nil && r.Info.ReadOnly != "":
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteReadOnly, f.Coordinate(), r.Set, r.Info.ReadOnly)
		return nil
	case len(r.Key) == 0:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteNoKey, f.Coordinate(), r.Set)
		return nil
	}
	w := &Write{Action: action, Records: r, Answer: answer}
	list := b.listOf(f, d, w)
	if list != nil {
		w.Action = store.Change
	}
	bound := &Field{Def: f, How: Written, Target: r, Only: of.only, Here: r.Key, There: r.Key, Single: true, Write: w}
	expect, adjust := b.argumentsOf(f, d, "expect"), b.argumentsOf(f, d, "adjust")
	values := b.settings(f, w, d)
	for _, a := range f.Args {
		switch {
		case b.onlyLooked(f, w, a, values):
		case a.Name == "filter" && a.Directive("at") == nil && !schema.IsLeaf(schema.NamedOf(a.Type)) && action != store.Add:
			b.findAll(f, bound, a)
		case list != nil && list.takes(w, a):
			b.ofList(f, w, a, list)
		default:
			b.given(f, w, a, slices.Contains(expect, a.Name), slices.Contains(adjust, a.Name))
		}
	}
	for _, v := range values {
		b.set(f, w, v, d)
	}
	if !b.oneOrMany(f, bound) {
		return nil
	}
	if list != nil && !b.listGiven(f, d, w, list) {
		return nil
	}
	if w.Action == store.Add {
		b.tellType(f, d.Pos, bound)
		b.allFilled(f, w)
		b.replaced(f, w, d)
	} else {
		b.found(f, d, bound)
	}
	b.writtenUnder(f, d, w)
	b.taken(f, w, d)
	b.within(f, bound)
	return bound
}

// taken tells of a write that its source cannot make.
func (b *binder) taken(f *schema.Field, w *Write, d *language.Directive) {
	takes := w.Records.Source.Capabilities.Write.Takes
	if takes == nil {
		return
	}
	asked := &store.Write{Action: w.Action, Set: w.Records.Set, Replaces: w.Replaces}
	given := func(list []WriteValue) (fields []store.Given) {
		for _, v := range list {
			fields = append(fields, store.Given{Field: v.Path, Kind: v.Kind, How: v.How})
		}
		return fields
	}
	asked.Columns, asked.Keys, asked.Expect = given(w.Values), given(w.Keys), given(w.Expect)
	if err := takes(w.Records.Source.Catalogue, asked); err != nil {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteTakes, f.Coordinate(), w.Records.Source.Name, err)
		return
	}
	for _, n := range w.Nested {
		b.taken(f, n.Write, d)
	}
}

// oneOrMany looks whether a field answers with one record where one is written, and with a
// list where several are; false after telling that it does not.
func (b *binder) oneOrMany(f *schema.Field, bound *Field) bool {
	w := bound.Write
	of, typ := f, f.Type
	if w.Answer != nil {
		if w.Answer.Records == nil {
			return b.answersKey(f, w)
		}
		of = w.Answer.Records.Def
		typ = of.Type
	}
	_, bound.Many = schema.ListElem(typ)
	if several := w.List != nil || w.Find != nil && w.Find.Many; bound.Many != several {
		fix := "make it " + strings.Trim(typ.String(), "[]!")
		if several {
			fix = "make it [" + schema.NamedOf(typ).String() + "!]!"
		}
		b.fail(ruleWrite, of.Pos, of.Coordinate(), fix, msgWriteList, of.Coordinate())
		return false
	}
	return b.answersKey(f, w)
}

// argumentsOf returns the arguments that a directive names; what has a colon is an
// expression.
func (b *binder) argumentsOf(f *schema.Field, d *language.Directive, name string) []string {
	var known []string
	names := slices.DeleteFunc(language.Texts(d.Argument(name)), func(n string) bool { return strings.Contains(n, ":") })
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
func (b *binder) tellType(f *schema.Field, pos language.Pos, bound *Field) {
	r := bound.Target
	if r.Kind == nil || slices.ContainsFunc(bound.Write.Values, func(v WriteValue) bool { return v.Path == r.Kind.Path }) {
		return
	}
	types := bound.Only
	if types == nil {
		types = b.bound.Schema.Possible(r.Type)
	}
	if len(types) != 1 {
		b.fail(ruleWrite, pos, f.Coordinate(), "give the field the type of what it adds, such as "+types[0].Name, msgWriteWhichType, f.Coordinate(), r.Type)
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
	if w.Records.Info == nil || w.Records.Source.Capabilities.Write.Free {
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
