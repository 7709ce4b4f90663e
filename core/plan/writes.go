package plan

import (
	"slices"

	"osprey/core/binding"
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
// A removal comes behind the reads of its unit, which answer with what was there.

// A Write is what a read writes; its rows are the keys of the records.
type Write struct {
	Store  *store.Write
	List   *Arg         // of a list of records: an input object for each; nil of one record
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
	Many  bool   // a list of values
	Kind  store.Kind
	Enum  *binding.Enum
	Path  string // the stored field
	About string // the coordinate of the type's field, or of what is given
	Name  string // of the argument or input field, for paths of errors
}

// A Unit is the fetches of a root field that are done in one session, in their order: as a
// whole or not at all.
type Unit struct {
	Field   *Field
	Fetches []int // by their IDs
	Writing *store.Writing
}

// write plans a root field that writes.
func (b *builder) write(f *Field, g group, def *binding.Field) {
	of := def.Write
	w := &Write{Store: &store.Write{Action: of.Action, Set: of.Records.Set}}
	schema, source := b.bound, of.Records.Source
	w.FieldOf = func(set, path string) string { return schema.FieldOf(source, set, path) }
	args := map[string]*Arg{}
	nulls := map[string]bool{}
	for i := range of.Values {
		b.writeArg(g, of.Values[i].Arg, args, nulls)
	}
	for i := range of.Keys {
		b.writeArg(g, of.Keys[i].Arg, args, nulls)
	}
	for i := range of.Expect {
		b.writeArg(g, of.Expect[i].Arg, args, nulls)
	}
	if of.List != nil {
		w.List = args[of.List.Name]
	}
	value := func(v *binding.WriteValue) store.Given {
		own := WriteValue{Const: v.Const, Many: v.Many, Kind: v.Kind, Enum: v.Enum, Path: v.Path, About: v.About}
		if v.Arg != nil {
			own.Arg, own.Null, own.Name = args[v.Arg.Name], nulls[v.Arg.Name], v.Arg.Name
		}
		if v.Input != nil {
			own.Input, own.Name = v.Input.Name, v.Input.Name
		}
		w.Values = append(w.Values, own)
		return store.Given{Field: v.Path, Kind: own.kind(), Adjust: v.Adjust}
	}
	for i := range of.Values {
		w.Store.Columns = append(w.Store.Columns, value(&of.Values[i]))
	}
	for i := range of.Keys {
		w.Store.Keys = append(w.Store.Keys, value(&of.Keys[i]))
	}
	for i := range of.Expect {
		w.Store.Expect = append(w.Store.Expect, value(&of.Expect[i]))
	}
	step := &Step{ID: len(b.plan.Steps), Field: b.here()}
	b.plan.Steps = append(b.plan.Steps, step)
	n := b.newRead(def, b.done+1)
	n.read.Write = w
	rows := n.rows(step)
	n.read.cover(step.Field)
	keyed := *def
	keyed.How, keyed.Many, keyed.Args = binding.Related, false, nil
	node := b.readFor(rows, "written", &keyed, arguments{})
	f.What, f.Step, f.Write = Written, node.step, step
	b.origins[f] = origin{node.rows, def}
	f.Object = b.object(node.rows, g.subsets(), def.Target, def.Only)
	b.units = append(b.units, unit{f, n})
}

// Of returns the value of the field out of what its argument, or an item of the list, is;
// false if it is not given.
func (v *WriteValue) Of(whole schema.Value) (schema.Value, bool) {
	switch {
	case v.Arg == nil:
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

// A unit is a unit under construction.
type unit struct {
	field *Field
	write *readNode
}

// own returns, of each read that is fed by nothing but a write and reads of its source,
// the write. Such reads are not asked for together with others, which have to wait for
// another store, and so for the end of the transaction:
//
//	raze(code: …) { papers { deed { id } } stations { boats { id } } }
//
//	wave 2  registry  the quay, with its papers as JSON
//	        tides     its stations                        behind the end
//	wave 3  registry  deeds by the papers                 before the quay is gone
//	        registry  boats by the stations               behind the end
func (b *builder) own() map[*Read]*readNode {
	writes := map[*Read]*readNode{}
	for _, n := range b.reads { // in the order in which they were needed
		switch {
		case n.read.Write != nil:
			writes[n.read] = n
		case n.above != nil:
			writes[n.read] = writes[n.above.read]
		case len(n.read.Feeds) > 0 && n.read.Call == nil:
			write := writes[n.read.Feeds[0].Rows.Step.Read]
			for _, f := range n.read.Feeds {
				if f.Picked != nil || writes[f.Rows.Step.Read] != write || write == nil || write.source != n.source {
					write = nil
					break
				}
			}
			writes[n.read] = write
		}
	}
	return writes
}

// writeUnits gathers the fetches of each unit: those of the write's source that need
// nothing but others of the unit.
func (b *builder) writeUnits() {
	for _, u := range b.units {
		own := &Unit{Field: u.field, Writing: u.write.source.Capabilities.Write}
		first := u.write.read.Fetch
		own.Fetches = []int{first.ID}
		for _, f := range b.plan.Fetches { // in the order of their waves
			inside := f.ID != first.ID && f.Source == first.Source && len(f.After) > 0 && f.Reads[0].Write == nil
			for _, after := range f.After {
				inside = inside && (slices.Contains(own.Fetches, after) || slices.Contains(first.After, after))
			}
			if inside && slices.Contains(f.After, first.ID) {
				own.Fetches = append(own.Fetches, f.ID)
			}
		}
		for _, id := range own.Fetches {
			b.plan.Fetches[id].Unit = own
		}
	}
}

// writeArg resolves an argument of a write once.
func (b *builder) writeArg(g group, def *schema.Input, args map[string]*Arg, nulls map[string]bool) {
	if def == nil || args[def.Name] != nil || nulls[def.Name] {
		return
	}
	of := &binding.Arg{Def: def}
	if a := b.arg(g.fields[0], of); a != nil {
		args[def.Name] = a
		return
	}
	nulls[def.Name] = b.isNull(g.fields[0], of)
}
