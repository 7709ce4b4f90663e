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
	b.evaluated(f, r, g, bound, object, b.passed(g, bound))
}

func (b *builder) evaluated(f *Field, r *rows, g group, bound *binding.Field, object *binding.Object, args []*Arg) {
	if bound.Entries != nil {
		b.written(f, r, g, bound, object, args)
		return
	}
	f.What, f.Expr, f.Args, f.Only = Expression, bound.Expr, args, Only{Kind: -1}
	if r != nil {
		f.Only, f.Rows = r.only, r.public
	}
	f.Needs = b.needed(r, bound, object)
	switch {
	case bound.Expr.Gives != nil:
		b.pick(f, g, bound)
	case bound.Result.How == binding.Column:
		f.Result = bound.Result.Wanted
		b.leaf(f, bound.Result)
	default:
		var wants []*want
		made := &rows{wants: &wants, nested: true, steps: map[string]*stepNode{}}
		f.Object = b.nested(made, g, bound.Result.Nested)
		f.Result = withFields(bound.Result.Wanted, wanted(wants))
	}
}

// written plans an object that an expression writes out: its fields are expressions at
// the same record.
func (b *builder) written(f *Field, r *rows, g group, bound *binding.Field, object *binding.Object, args []*Arg) {
	f.What = Grouped
	made := schema.NamedOf(bound.Def.Type).(*schema.Object)
	f.Object = &Object{Kind: -1, Type: made.Name, Cases: []Case{{Type: made.Name}}}
	var fields []*Field
	for _, g := range b.collect(g.subsets(), made) {
		name := g.fields[0].Name.Text
		if name == "__typename" {
			fields = append(fields, b.typeName(g, made))
			continue
		}
		b.path = append(b.path, g.name)
		entry := bound.Entries[name]
		own := b.newField(g, entry.Def)
		if !b.fieldRules(own, nil, g, entry, nil) {
			b.evaluated(own, r, g, entry, object, args)
		}
		fields = append(fields, own)
		b.path = b.path[:len(b.path)-1]
	}
	f.Object.Cases[0].Fields = lead(fields)
}

// pick plans records that an expression gives: some of those that a field brings which
// it looks at. What is selected of them is planned on the same rows, and goes on only
// from those that are picked.
func (b *builder) pick(f *Field, g group, bound *binding.Field) {
	from := b.origins[b.neededField(f.Needs, bound.Expr.Gives)]
	picked := *from.rows
	picked.steps, picked.picked = map[string]*stepNode{}, f
	picked.since = max(picked.since, waveOf(f.Needs))
	f.What, f.From = Picked, from.rows.public
	switch target := from.bound; {
	case target.Nested != nil:
		f.Object = b.nested(&picked, g, target.Nested)
	case target.Result != nil:
		f.Object = b.nested(&picked, g, target.Result.Nested)
	default:
		f.Object = b.object(&picked, g.subsets(), target.Target, target.Only)
	}
}

// neededField returns the field to which names lead.
func (b *builder) neededField(fields []*Field, path []string) *Field {
	for _, f := range fields {
		switch {
		case f.Name != path[0]:
		case len(path) == 1:
			return f
		case f.Object != nil:
			for _, c := range f.Object.Cases {
				if found := b.neededField(c.Fields, path[1:]); found != nil {
					return found
				}
			}
		}
	}
	return nil
}

// waveOf returns the wave in which the last of what fields need is asked for.
func waveOf(fields []*Field) int {
	wave := 0
	for _, r := range readsOf(fields, nil) {
		wave = max(wave, r.wave)
	}
	return wave
}

// needed plans what a computed field looks at of its record, or at the root if r is
// nil.
func (b *builder) needed(r *rows, bound *binding.Field, object *binding.Object) []*Field {
	if bound.Needs == nil {
		return nil
	}
	b.trusted++
	defer func() { b.trusted-- }()
	if r == nil {
		return b.rootFields(bound.NeedsOn.(*schema.Object), []*language.SelectionSet{bound.Needs})
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
		call.Only, call.Picked, step.Parent = r.only, r.picked, r.public
		wave = max(wave, r.since+1)
		needs = []*Read{r.node.read}
	}
	rows := b.callRead(step, bound, readsOf(call.Needs, needs), wave).rows(step)
	f.What, f.Step = Called, step
	f.Column = rows.column(bound.Result.Wanted)
	if bound.Result.How == binding.Column {
		b.leaf(f, bound.Result)
		return
	}
	inner := rows.inner(f.Column)
	b.origins[f] = origin{inner, bound}
	f.Object = b.nested(inner, g, bound.Result.Nested)
}

// callRead starts the read of the calls of a step, behind the reads that bring what they are given.
func (b *builder) callRead(step *Step, bound *binding.Field, needs []*Read, wave int) *readNode {
	for _, read := range needs {
		wave = max(wave, read.wave+1)
	}
	n := &readNode{
		read:   &Read{Store: &store.Read{Set: bound.Function, Parent: -1, Calls: true}, Call: step, Needs: needs, wave: wave, since: b.done},
		source: bound.Source, wave: wave,
	}
	b.reads = append(b.reads, n)
	n.read.cover(step.Field)
	return n
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
		add(f.Write)
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
