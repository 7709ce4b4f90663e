package plan

import (
	"slices"

	"osprey/core/binding"
	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file plans root fields that write. A write is a read of its source whose rows are
// the keys of what was written; what is selected of the records is planned as a keyed
// read below these rows. Of
//
//	arrive(call: {…}) { id craft { name } incidents { kind } }
//
// the write and the reads of its own source are one unit, which runs in a session:
//
//	wave 1  add port_calls
//	wave 2  port_calls by id ← what was added, with craft    the same transaction
//	wave 3  incidents by callId                              another store, behind its end
//
// A removal comes behind the reads of its unit, which answer with what was there. Where
// records are found by a filter, or by another unique key, the unit begins with the read
// that finds them, and what is written is that read's rows.

// A Write is what a read writes; its rows are the keys of the records.
type Write struct {
	Store *store.Write
	Type  string // of the records
	List  *Arg   // of a list of records: an input object for each; nil of one record
	Found *Step  // of records that are found first: the step whose rows have their keys
	Many  bool   // Found are all that a filter finds
	// Of records that are added with others: the step whose rows are those, and the field of
	// their input object that has these; if that is no item of a list, Arg is that object.
	Above  *Step
	Arg    *Arg
	Within string
	Given  bool         // the rows are those that are given, whatever the store had of them
	Values []WriteValue // of Store's Columns, Keys and Expect
	// FieldOf returns the coordinate of the field that shows a stored one.
	FieldOf func(set, path string) string
}

// A WriteValue is where the value of a field comes from.
type WriteValue struct {
	Arg   *Arg   // nil if it is not given
	Null  bool   // it is given as null
	Input string // the field of the input object that Arg, or an item of List, is; "" of Arg itself
	Const string // without Arg: the value
	Set   *Set   // without Arg: the expression that gives it
	Above string // without Arg: the field of the record above whose value it has
	Item  bool   // without Arg: Input is a field of the record's own input object
	Found bool   // without Arg: the column of what was found is the value; it is of the field Path
	Many  bool   // a list of values
	// Fields are, of a nested record or a list of them, where its own values come from.
	Fields   []WriteValue
	Together bool // the fields are arguments, which together are the record
	Kind     store.Kind
	Enum     *binding.Enum
	Path     string // the stored field
	About    string // the coordinate of the type's field, or of what is given
	Name     string // of the argument or input field, for paths of errors
}

// A Set is an expression that gives a value.
type Set struct {
	Expr  *expression.Program
	Args  []*Arg
	Needs []*Field // what it looks at of the record that is found
	Scale *int     // how many digits of a second the field holds; nil for as many as there are
}

// A Unit is the fetches of a root field that are done in one session, in their order: as a
// whole or not at all.
type Unit struct {
	Field   *Field
	Fetches []int // by their IDs
	Write   int   // the one of them that writes
	Writing *store.Writing
	// Others is how is written what is written in other sources, by the IDs of its fetches: each
	// source of them has a session of its own, which ends before that of the unit.
	Others map[int]*store.Writing
	// Checks are steps that must have a row for each that was written, or nothing is done: the caller may
	// not see it, and so not write it.
	Checks []*Step
	// Joined are the units that are done in the same session, behind this one; Of is, of such,
	// the one that they are joined to.
	Joined []*Unit
	Of     *Unit
}

// Name says whose transaction it is: that of the field, or, of several that are joined, of the
// mutation.
func (u *Unit) Name() string {
	if u.Of != nil || len(u.Joined) > 0 {
		return "the mutation"
	}
	return u.Field.Name
}

// write plans a root field that writes.
func (b *builder) write(f *Field, g group, def *binding.Field) {
	of := def.Write
	values := b.writeValues(g, def)
	w := b.newWrite(of)
	u := unit{field: f}
	written, wave := (*rows)(nil), b.done+1
	if of.Find != nil {
		u.find, written = b.find(g, of.Find)
		w.Found, w.Many, w.Store.Alike = written.public.Step, of.Find.Many, of.Find.Many
		wave++
	}
	if of.List != nil {
		w.List = values.args[of.List.Name]
	}
	values.found = func(set *binding.Set) []*Field { return b.looked(written, def, set) }
	w.Store.Alike = w.Store.Alike && !of.Looks
	w.Store.Columns = w.add(values, of.Values)
	w.Store.Keys = w.add(values, of.Keys)
	if of.Find != nil {
		for _, path := range of.Records.Key {
			kind := kindOf(of.Records.Info, path)
			w.Values = append(w.Values, WriteValue{Found: true, Path: path, Kind: kind, About: w.FieldOf(of.Records.Set, path)})
			w.Store.Keys = append(w.Store.Keys, store.Given{Field: path, Kind: kind})
		}
	}
	w.Store.Expect = w.add(values, of.Expect)
	step := &Step{ID: len(b.plan.Steps), Field: b.here()}
	b.plan.Steps = append(b.plan.Steps, step)
	n := b.newRead(def, wave)
	n.read.Write = w
	own := n.rows(step)
	n.read.cover(step.Field)
	u.write = n
	if written == nil {
		written = own
	} else {
		n.read.Feeds = []Feed{{Rows: written.public}}
		written.since = wave // what is read of the records is read behind the write
	}
	last := b.nest(&u, own, of, values, wave)
	if last > wave {
		written.since = last
	}
	if of.Within != nil {
		last = b.within(&u, written, g, def, last)
	}
	for len(u.later) > 0 { // what is in other sources, in the order of the schema
		later := u.later
		u.later = nil
		for _, l := range later {
			last = b.nestOne(&u, l.above, l.of, l.nested, values, last)
			written.since = last
		}
	}
	for _, path := range def.Here { // which is also how many there are
		written.column(store.Wanted{Path: path, Kind: kindOf(of.Records.Info, path)})
	}
	b.held(&u, def, written)
	f.Write = written.public.Step // of a count, and of an object, too
	b.units = append(b.units, u)
	b.answer(f, g, def, written)
}

// newWrite starts a write.
func (b *builder) newWrite(of *binding.Write) *Write {
	bound, source := b.bound, of.Records.Source
	w := &Write{Given: of.Pair, Type: of.Records.Type.String(), Store: &store.Write{Action: of.Action, Set: of.Records.Set, Replaces: of.Replaces},
		FieldOf: func(set, path string) string { return bound.FieldOf(source, set, path) }}
	if len(of.Replaces) > 0 {
		w.Store.Kept = of.Records.Key
	}
	return w
}

// add adds values to a write, and returns what a store knows of them.
func (w *Write) add(values writeArgs, list []binding.WriteValue) []store.Given {
	var into []store.Given
	for i := range list {
		own := values.of(&list[i])
		w.Values = append(w.Values, own)
		into = append(into, store.Given{Field: own.Path, Kind: own.kind(), How: list[i].How})
	}
	return into
}

// nest plans the records that are added with those of a write, each set of them a write of
// its own behind it. It returns the last wave.
func (b *builder) nest(u *unit, above *rows, of *binding.Write, values writeArgs, wave int) int {
	last := wave
	for _, n := range of.Nested {
		if n.Arg != nil {
			if arg := values.args[n.Arg.Name]; arg == nil || !gives(arg.Literal, n.Within) {
				continue // which the operation can be seen not to give
			}
		}
		if n.Records.Source != of.Records.Source {
			u.later = append(u.later, laterNest{above, of, n})
			continue
		}
		last = b.nestOne(u, above, of, n, values, last)
	}
	return last
}

// nestOne plans one set of the records that are added with those of a write.
func (b *builder) nestOne(u *unit, above *rows, of *binding.Write, n *binding.NestedWrite, values writeArgs, last int) int {
	w := b.newWrite(n.Write)
	w.Above, w.Within, w.Many = above.public.Step, n.Within.Name, n.Several
	if n.Arg != nil && of.List == nil {
		w.Arg = values.args[n.Arg.Name]
	}
	w.Store.Columns = w.add(values, n.Values)
	for i := range w.Values {
		if v := &w.Values[i]; v.Above != "" {
			v.About = w.FieldOf(w.Store.Set, v.Path)
			above.column(store.Wanted{Path: v.Above, Kind: kindOf(of.Records.Info, v.Above)})
		} else if v.Const == "" {
			v.Item, v.Arg = true, nil
		}
	}
	step := &Step{ID: len(b.plan.Steps), Field: b.here() + "." + n.Within.Name}
	b.plan.Steps = append(b.plan.Steps, step)
	node := b.newRead(&binding.Field{Target: n.Records}, last+1)
	node.read.Write = w
	node.read.Feeds = []Feed{{Rows: above.public}}
	node.read.cover(step.Field)
	own := node.rows(step)
	if b.bound.IsWatched(n.Records) { // those who watch are told the keys
		for _, path := range n.Records.Key {
			own.column(store.Wanted{Path: path, Kind: kindOf(n.Records.Info, path)})
		}
	}
	if len(n.Records.Key) > 0 {
		b.check(u, &binding.Field{Target: n.Records, Here: n.Records.Key, There: n.Records.Key, Single: true}, own, "added")
	}
	if u.write.source == node.source {
		u.nested = append(u.nested, node)
	} else {
		u.others = append(u.others, node)
	}
	return b.nest(u, own, n.Write, values, last+1)
}

// looked plans what an expression looks at of the records that are found.
func (b *builder) looked(found *rows, def *binding.Field, set *binding.Set) []*Field {
	b.trusted++
	defer func() { b.trusted-- }()
	types := b.bound.Schema.Possible(def.Target.Type)
	if def.Only != nil {
		types = def.Only
	}
	for _, t := range types {
		if object := def.Target.Object(t); object != nil {
			return b.fields(found, object, []*language.SelectionSet{set.Needs})
		}
	}
	return nil
}

// gives reports whether an input object, or one of a list, may have a field.
func gives(literal language.Value, field *schema.Input) bool {
	switch v := literal.(type) {
	case *language.ListValue:
		return slices.ContainsFunc(v.Values, func(item language.Value) bool { return gives(item, field) })
	case *language.ObjectValue:
		empty, isList := field.Default.(*language.ListValue)
		return slices.ContainsFunc(v.Fields, func(a *language.Argument) bool { return a.Name.Text == field.Name }) || field.Default != nil && (!isList || len(empty.Values) > 0)
	}
	return literal != nil // a variable
}

// find plans the read that finds the records of a write.
func (b *builder) find(g group, def *binding.Field) (*readNode, *rows) {
	use := b.arguments(g.fields[0], def)
	if def.Many {
		use.limit = &Arg{Name: "filter", Pos: g.fields[0].Name.Pos, Literal: &language.NullValue{}, Fixed: true, Written: true, More: 1}
	}
	n := b.newRead(def, b.done+1)
	n.narrow(use)
	n.read.Store.Lock = true
	n.read.Limit, n.read.Store.Limit = use.limit, use.limit != nil
	step := &Step{ID: len(b.plan.Steps), Field: b.here(), One: !def.Many}
	b.plan.Steps = append(b.plan.Steps, step)
	n.read.cover(step.Field)
	r := n.rows(step)
	b.allow(step, r, use.allow)
	return n, r
}

// within plans the function that takes part in the transaction of a write: what it needs of the
// records is read behind the write, in the transaction, and what is answered behind the function.
//
//	wave 1  add port_calls
//	wave 2  port_calls by id, with craft       what it needs
//	wave 3  call admit
//	wave 4  port_calls by id                   the answer
//
// A removal is answered with what was there before the function.
func (b *builder) within(u *unit, written *rows, g group, def *binding.Field, last int) int {
	called := def.Write.Within
	keyed := *def
	keyed.How, keyed.Many, keyed.Args = binding.Related, false, nil
	written.since = max(written.since, last)
	before := def.Write.Action == store.Remove && !def.Write.Pair
	name := "within"
	if before { // the function, and the answer, look at the same
		name = writtenStep
	}
	node := b.readFor(written, name, &keyed, b.seen(def))
	records, only := def.Target, def.Only
	types := b.bound.Schema.Possible(records.Type)
	if only != nil {
		types = only
	}
	kind := -1
	if len(types) > 1 && records.Kind != nil {
		kind = node.rows.column(store.Wanted{Path: records.Kind.Path, Kind: records.Kind.Column})
	}
	end := 0
	for _, t := range types {
		object := records.Object(t)
		if object == nil {
			continue
		}
		node.rows.only = Only{Kind: kind}
		if kind >= 0 {
			node.rows.only.Stored = records.Kind.Stored[t]
		}
		call := &Call{Args: b.passed(g, called), Only: node.rows.only, Needs: b.needed(node.rows, called, object)}
		step := &Step{ID: len(b.plan.Steps), Field: b.here(), One: true, Call: call, Parent: node.rows.public}
		b.plan.Steps = append(b.plan.Steps, step)
		n := b.callRead(step, called, readsOf(call.Needs, []*Read{node.rows.node.read}), 0)
		n.rows(step).column(store.Wanted{Kind: store.Text}) // of nothing
		u.within = append(u.within, n)
		end = max(end, n.wave)
	}
	if !before {
		written.since = end
	}
	return max(last, end)
}

// writtenStep is the name of the step that reads what was written.
const writtenStep = "written"

// writeArgs are the arguments of a write, each resolved once.
type writeArgs struct {
	args  map[string]*Arg
	nulls map[string]bool
	found func(set *binding.Set) []*Field // plans what an expression looks at of the record
}

// writeValues resolves the arguments of a write.
func (b *builder) writeValues(g group, def *binding.Field) writeArgs {
	values := writeArgs{map[string]*Arg{}, map[string]bool{}, nil}
	for _, a := range def.Def.Args {
		of := &binding.Arg{Def: a}
		if arg := b.arg(g.fields[0], of); arg != nil {
			values.args[a.Name] = arg
		} else {
			values.nulls[a.Name] = b.isNull(g.fields[0], of)
		}
	}
	return values
}

// of returns where a value comes from.
func (values writeArgs) of(v *binding.WriteValue) WriteValue {
	own := WriteValue{Together: v.Together, Const: v.Const, Above: v.Above, Many: v.Many, Kind: v.Kind, Enum: v.Enum, Path: v.Path, About: v.About}
	if v.Arg != nil {
		own.Arg, own.Null, own.Name = values.args[v.Arg.Name], values.nulls[v.Arg.Name], v.Arg.Name
	}
	if v.Input != nil {
		own.Input, own.Name = v.Input.Name, v.Input.Name
	}
	for i := range v.Fields {
		own.Fields = append(own.Fields, values.of(&v.Fields[i]))
	}
	if v.Set != nil {
		own.Set = &Set{Expr: v.Set.Expr, Scale: v.Set.Scale}
		if v.Set.Needs != nil {
			own.Set.Needs = values.found(v.Set)
		}
		for _, a := range v.Set.Args {
			if arg := values.args[a.Name]; arg != nil {
				own.Set.Args = append(own.Set.Args, arg)
			}
		}
	}
	return own
}

// Of returns the value of the field out of what its argument, or an item of the list, is;
// false if it is not given.
func (v *WriteValue) Of(whole schema.Value) (schema.Value, bool) {
	switch {
	case v.Arg == nil && !v.Item:
		return nil, v.Null && v.Input == ""
	case v.Input == "":
		return whole, true
	}
	object, _ := whole.(schema.InputFields)
	for _, f := range object {
		if f.Name == v.Input {
			return f.Value, true
		}
	}
	return nil, false
}

func (v *WriteValue) kind() store.Kind {
	if v.Many {
		return store.List
	}
	return v.Kind
}
