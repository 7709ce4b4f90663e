package plan

import (
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file plans computed fields: what expressions and functions look at of a
// record becomes part of the reads, and a call of a function is a request of the
// wave after the last of those.

// expression plans a field that an expression gives, of the rows r of an object
// type, or of the root if r is nil.
func (b *builder) expression(f *Field, r *rows, g group, bound *binding.Field, object *binding.Object) {
	f.What, f.Expr, f.Result = Expression, bound.Expr, bound.Result.Wanted
	f.leaf(bound.Result)
	f.Args, f.Only = b.passed(g, bound), Only{Kind: -1}
	if r != nil {
		f.Only, f.Rows = r.only, r.public
	}
	f.Needs = b.needed(r, bound, object)
}

// needed plans what a computed field looks at of its record, or at the root if r is
// nil.
func (b *builder) needed(r *rows, bound *binding.Field, object *binding.Object) []*Field {
	if bound.Needs == nil {
		return nil
	}
	if r == nil {
		on := bound.Def.Owner.(*schema.Object)
		if on == b.bound.Schema.Mutation {
			on = b.bound.Schema.Query
		}
		return b.rootFields(on, []*language.SelectionSet{bound.Needs})
	}
	only := r.only
	fields := b.fields(r, object, []*language.SelectionSet{bound.Needs})
	r.only = only
	return fields
}

// passed returns the arguments of a computed field that are given. One that is
// given as null is there, and one that is not given is not: section 6.4.1.
func (b *builder) passed(g group, bound *binding.Field) []*Arg {
	var list []*Arg
	for i := range bound.Args {
		of := &bound.Args[i]
		switch a := b.arg(g.fields[0], of); {
		case a != nil:
			list = append(list, a)
		case b.isNull(g.fields[0], of):
			list = append(list, &Arg{Name: of.Def.Name, Pos: g.fields[0].Name.Pos, Type: of.Def.Type, Literal: &language.NullValue{}, Fixed: true})
		}
	}
	return list
}

// call plans a field that a function gives. The calls are a read of the
// function's source whose rows are what it gives, so that what is selected of
// them is planned as that of records is.
func (b *builder) call(f *Field, r *rows, g group, bound *binding.Field, object *binding.Object) {
	call := &Call{Args: b.passed(g, bound), Only: Only{Kind: -1}}
	step := &Step{ID: len(b.plan.Steps), Field: b.here(), One: true, Call: call}
	b.plan.Steps = append(b.plan.Steps, step)
	wave := b.done + 1
	var needs []*Read
	call.Needs = b.needed(r, bound, object)
	if r != nil {
		call.Only, step.Parent = r.only, r.public
		needs = []*Read{r.node.read}
	}
	needs = readsOf(call.Needs, needs)
	for _, read := range needs {
		wave = max(wave, read.wave+1)
	}
	n := &readNode{
		read:   &Read{Store: &store.Read{Set: bound.Function, Parent: -1, Calls: true}, Call: step, Needs: needs, wave: wave, since: b.done},
		source: bound.Source, wave: wave,
	}
	b.reads = append(b.reads, n)
	rows := n.rows(step)
	n.read.cover(step.Field)
	f.What, f.Step = Called, step
	f.Column = rows.column(bound.Result.Wanted)
	if bound.Result.How == binding.Column {
		f.leaf(bound.Result)
		return
	}
	f.Object = b.nested(rows.inner(f.Column), g, bound.Result.Nested)
}

// readsOf adds the reads that bring the values of fields to a list.
func readsOf(fields []*Field, list []*Read) []*Read {
	add := func(s *Step) {
		if s != nil && s.Read != nil && !slices.Contains(list, s.Read) {
			list = append(list, s.Read)
		}
	}
	for _, f := range fields {
		add(f.Step)
		if f.Merge != nil {
			for _, part := range f.Merge.Parts {
				add(part.Step)
			}
		}
		list = readsOf(f.Parts, list)
		list = readsOf(f.Needs, list)
		if f.Object != nil {
			for _, c := range f.Object.Cases {
				list = readsOf(c.Fields, list)
			}
		}
	}
	return list
}

// String returns what a function is given, on one line.
func (c *Call) String() string {
	var parts []string
	for _, f := range c.Needs {
		parts = append(parts, f.outline())
	}
	for _, a := range c.Args {
		parts = append(parts, a.Name+": "+language.PrintValue(a.Literal))
	}
	return strings.Join(parts, ", ")
}

// outline writes a field with what is selected of it.
func (f *Field) outline() string {
	if f.Object == nil {
		return f.Name
	}
	var inner []string
	for _, c := range f.Object.Cases {
		for _, field := range c.Fields {
			if text := field.outline(); !slices.Contains(inner, text) {
				inner = append(inner, text)
			}
		}
	}
	return f.Name + " {" + strings.Join(inner, " ") + "}"
}
