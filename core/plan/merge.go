package plan

import (
	"slices"
	"strings"

	"osprey/core/binding"
	cursors "osprey/core/cursor"
	"osprey/core/language"
	"osprey/core/store"
)

// This file plans fields whose records are of several record sets: a read for
// each, and how their rows become one list.

// A partUse is what reading one part of a merge asks beyond the arguments.
type partUse struct {
	rank int    // position among the parts: of records that are equal in order, the first part's come first
	list string // what cursors are of
	by   int    // of a reference: the column that tells the part
	is   map[string]bool
}

// merged plans a field with parts.
func (b *builder) merged(f *Field, r *rows, g group, bound *binding.Field) {
	f.What, f.Single = Merged, bound.Single
	m := &Merge{By: -1}
	f.Merge = m
	if bound.By != nil {
		m.By = r.column(store.Wanted{Path: bound.By.Path, Kind: bound.By.Kind})
	}
	uses := make([]arguments, len(bound.Parts))
	var list []string
	for i, part := range bound.Parts {
		uses[i] = b.arguments(g.fields[0], part)
		uses[i].sort = slices.Clone(uses[i].sort)
		for n := range uses[i].sort {
			uses[i].sort[n].Bytes = true
		}
		list = append(list, part.Target.Set+sortText(uses[i].sort))
	}
	m.Limit, m.Offset = uses[0].limit, uses[0].offset
	onlyTotals := bound.Page != nil && b.onlyTotals(g, bound)
	nodes := make([]*stepNode, len(bound.Parts))
	for i, part := range bound.Parts {
		use := uses[i]
		use.part = &partUse{rank: i, list: strings.Join(list, " & "), by: m.By}
		if m.By >= 0 {
			use.part.is = map[string]bool{}
			for _, value := range part.Is {
				use.part.is[value] = true
			}
		}
		public := Part{Is: use.part.is}
		switch {
		case onlyTotals:
			nodes[i] = &stepNode{parent: r, step: &Step{}}
		case m.By >= 0 && !use.ruled && b.onlyNames(g, part):
			public.Here = r.keys(part)
		default:
			b.mergeBounds(&use)
			nodes[i] = b.readFor(r, g.name, part, use)
			public.Step = nodes[i].step
			public.Step.Merge = m
			n := nodes[i].rows.node
			for _, o := range use.sort[:len(use.sort)-use.keys] {
				public.Order = append(public.Order, n.order(nodes[i].rows, o))
			}
		}
		m.Parts = append(m.Parts, public)
	}
	if bound.Page != nil {
		m.Page = uses[0].page("")
		m.Page.List = strings.Join(list, " & ")
		b.connection(f, g, bound, nodes)
		f.Merge, f.Step = m, nil
	} else {
		f.Parts = b.partFields(f, g, bound, nodes)
	}
	m.tell()
}

// mergeBounds makes what bounds the whole list bound a part of it: no more of
// its records can be on the page, and any of them may be passed over.
func (b *builder) mergeBounds(use *arguments) {
	if use.limit != nil {
		limit := *use.limit
		limit.Plus = use.offset
		use.limit = &limit
	}
	use.offset = nil
	for _, cursor := range []*Arg{use.behind, use.ahead} {
		if cursor == nil {
			continue
		}
		cursor.Merged = true
		if v, ok := cursor.Literal.(*language.Variable); ok {
			b.plan.Depends.byPart(v.Name)
		}
		if v, err := cursor.Resolve(b.vars); err == nil {
			text, _ := v.(string)
			cursor.Part = cursors.Part(text)
		}
	}
}

// cut returns which of the sort keys a cursor is compared by. If its record is
// of another part, the keys that tell records of a part apart say nothing: then
// all that is at the same place comes before it, or behind it.
//
// A log is merged of pilotage (part 0), inspections (1) and incidents (2), the
// latest first; of what is at the same time, the first part comes first:
//
//	09:00 pilotage 7    09:00 inspection 3    09:00 incident 1    08:00 pilotage 6
//	                    ^ the cursor: at 09:00, id 3, part 1
//
// Behind it come
//
//	of pilotage      those with at < 09:00             part 0 stands before part 1
//	of inspections   those with (at, id) behind (09:00, 3)
//	of incidents     those with at <= 09:00            part 2 stands behind it: inclusive
//
// and before it, read from the end, the other way round.
func (p *partUse) cut(cursor *Arg, use arguments, ahead bool) []store.Order {
	if cursor.Part < 0 || cursor.Part == p.rank {
		return use.sort
	}
	cursor.Other = true
	cursor.Inclusive = p.rank > cursor.Part != ahead
	return use.sort[:len(use.sort)-use.keys]
}

// tell notes at each step, for explanations, what becomes of its rows.
func (m *Merge) tell() {
	for _, part := range m.Parts {
		if part.Step == nil || m.By >= 0 {
			continue
		}
		part.Step.Merged = "merged with the others"
		var orders []store.Order
		for _, o := range part.Order {
			orders = append(orders, o.By)
		}
		if len(orders) > 0 {
			part.Step.Merged += " by" + strings.TrimPrefix(sortText(orders), ", sorted by")
		}
	}
}

// partFields plans how the records of each part are written.
func (b *builder) partFields(f *Field, g group, bound *binding.Field, nodes []*stepNode) []*Field {
	var list []*Field
	for i, part := range bound.Parts {
		p := &Field{ID: len(b.plan.Fields), Name: f.Name, At: f.At, Pos: f.Pos, Null: f.Null, What: One}
		b.plan.Fields = append(b.plan.Fields, p)
		if n := nodes[i]; n != nil {
			p.Step = n.step
			p.Object = b.object(n.rows, g.subsets(), part.Target, part.Only)
		} else {
			p.Object = b.nameOnly(g, part)
		}
		list = append(list, p)
	}
	return list
}

// onlyNames reports whether nothing but __typename is asked of the records of a
// part, all of which are of one type: then what tells the part says it, and
// nothing needs to be read.
func (b *builder) onlyNames(g group, part *binding.Field) bool {
	t := part.OnlyType()
	if t == nil {
		return false
	}
	for _, sub := range b.collect(g.subsets(), t) {
		if sub.fields[0].Name.Text != "__typename" {
			return false
		}
	}
	return true
}

// nameOnly plans records of which only their type is asked.
func (b *builder) nameOnly(g group, part *binding.Field) *Object {
	t := part.OnlyType()
	c := Case{Type: t.Name}
	for _, sub := range b.collect(g.subsets(), t) {
		name := b.newField(sub, b.bound.Schema.TypeName(t))
		name.What, name.Text = Constant, quoted(t.Name)
		c.Fields = append(c.Fields, name)
	}
	lead(c.Fields)
	return &Object{Kind: -1, Type: t.Name, Cases: []Case{c}}
}
