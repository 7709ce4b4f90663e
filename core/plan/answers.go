package plan

import (
	"osprey/core/binding"
)

// This file plans what a root field that writes answers.

// answer plans what a field that writes answers of what was written.
func (b *builder) answer(f *Field, g group, def *binding.Field, written *rows) {
	switch a := def.Write.Answer; {
	case a == nil:
		b.writtenRecords(f, g, def, written)
	case a.Type == nil:
		f.What = Counted
	default:
		f.What = Answered
		f.Object = &Object{Kind: -1, Type: a.Type.Name, Cases: []Case{{Type: a.Type.Name}}}
		for _, sub := range b.collect(g.subsets(), a.Type) {
			f.Object.Cases[0].Fields = append(f.Object.Cases[0].Fields, b.answerField(f, sub, def, written))
		}
		lead(f.Object.Cases[0].Fields)
	}
}

// answerField plans a field of an answer that is an object.
func (b *builder) answerField(of *Field, g group, def *binding.Field, written *rows) *Field {
	a := def.Write.Answer
	name := g.fields[0].Name.Text
	if name == "__typename" {
		return b.typeName(g, a.Type)
	}
	bound := a.Fields[name]
	b.path = append(b.path, g.name)
	defer func() { b.path = b.path[:len(b.path)-1] }()
	if bound == nil { // of a source that is not there, which the write finds out first
		f := b.newField(g, a.Type.Field(name))
		f.What, f.Text = Constant, []byte("null")
		return f
	}
	f := b.newField(g, bound.Def)
	if b.fieldRules(f, nil, g, bound, nil) {
		return f
	}
	f.Write = of.Write
	switch bound.How {
	case binding.Counted:
		f.What = Counted
	case binding.Column:
		f.What, f.Column = WrittenKey, written.column(bound.Wanted)
		b.leaf(f, bound)
	default:
		b.writtenRecords(f, g, def, written)
	}
	return f
}

// writtenRecords plans the records that were written, which are read by their keys.
func (b *builder) writtenRecords(f *Field, g group, def *binding.Field, written *rows) {
	keyed := *def
	keyed.How, keyed.Many, keyed.Args = binding.Related, false, nil
	node := b.readFor(written, writtenStep, &keyed, b.seen(def))
	f.What, f.Step, f.Write = Written, node.step, written.public.Step
	b.origins[f] = origin{node.rows, def}
	f.Object = b.object(node.rows, g.subsets(), def.Target, def.Only)
}
