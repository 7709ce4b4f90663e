package plan

import (
	"slices"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file plans connections, the pages of the open specification of cursor
// connections, and totals.

// connection plans a field whose records come in pages, of one step or merged
// of several.
func (b *builder) connection(f *Field, g group, bound *binding.Field, nodes []*stepNode) {
	f.What, f.Step = Paged, nodes[0].step
	p := &pagePlan{builder: b, bound: bound, nodes: nodes}
	for _, part := range bound.Each() {
		// Counts are of the whole list, whatever the page.
		p.counted = append(p.counted, b.arguments(g.fields[0], part).total(false))
	}
	f.Object = p.object(p.bound.Page.Connection, g.subsets(), p.connectionField)
}

// total returns what the totals of a list ask: its conditions, and no bounds.
func (use arguments) total(counts bool) arguments {
	return arguments{where: use.where, values: use.values, allow: use.allow, nothing: use.nothing, totals: true, counts: counts}
}

// onlyTotals reports whether no record of a connection is asked for.
func (b *builder) onlyTotals(g group, bound *binding.Field) bool {
	return !b.selects(g, bound, "edges") && !b.selects(g, bound, "pageInfo")
}

// selects reports whether a field of a connection is selected.
func (b *builder) selects(g group, bound *binding.Field, name string) bool {
	return slices.ContainsFunc(b.collect(g.subsets(), bound.Page.Connection), func(sub group) bool { return sub.fields[0].Name.Text == name })
}

// A pagePlan is a connection while it is planned.
type pagePlan struct {
	*builder
	bound   *binding.Field
	nodes   []*stepNode // of each part
	counted []arguments
}

// object plans an object of a connection, whose fields are planned by field.
func (p *pagePlan) object(t *schema.Object, sets []*language.SelectionSet, field func(f *Field, g group)) *Object {
	c := Case{Type: t.Name}
	for _, g := range p.collect(sets, t) {
		name := g.fields[0].Name.Text
		if name == "__typename" {
			f := p.newField(g, p.builder.bound.Schema.TypeName(t))
			f.What, f.Text = Constant, quoted(t.Name)
			c.Fields = append(c.Fields, f)
			continue
		}
		p.path = append(p.path, g.name)
		f := p.newField(g, t.Field(name))
		if !p.fieldRules(f, nil, g, &binding.Field{Def: t.Field(name)}, nil) {
			field(f, g)
		}
		c.Fields = append(c.Fields, f)
		p.path = p.path[:len(p.path)-1]
	}
	lead(c.Fields)
	return &Object{Kind: -1, Type: t.Name, Cases: []Case{c}}
}

func (p *pagePlan) connectionField(f *Field, g group) {
	switch name := g.fields[0].Name.Text; name {
	case "edges":
		f.What, f.Step = Edges, p.nodes[0].step
		f.Object = p.object(p.bound.Page.Edge, g.subsets(), p.edgeField)
	case "pageInfo":
		f.What = Info
		f.Object = p.object(schema.NamedOf(p.bound.Page.Connection.Field(name).Type).(*schema.Object), g.subsets(), p.infoField)
	case "totalCount":
		p.aggregateOf(f, &binding.Aggregate{Of: store.Count, Kind: store.Int, Codec: scalar.Number32})
	default:
		p.aggregateOf(f, p.bound.Page.Aggregates[name])
	}
}

// aggregateOf plans a total of all records of the connection.
func (p *pagePlan) aggregateOf(f *Field, t *binding.Aggregate) {
	parts := p.bound.Each()
	if len(parts) == 1 {
		p.aggregateOfPart(f, 0, t)
		return
	}
	f.What, f.Codec = Aggregate, t.Codec
	for i := range parts {
		part := &Field{ID: f.ID, Name: f.Name, At: f.At, Pos: f.Pos, Null: f.Null}
		p.aggregateOfPart(part, i, t)
		f.Parts = append(f.Parts, part)
	}
}

func (p *pagePlan) aggregateOfPart(f *Field, i int, t *binding.Aggregate) {
	use, part := p.counted[i], p.bound.Each()[i]
	use.counts = t.Of == store.Count
	p.total(f, p.readFor(p.nodes[i].parent, totalName(part, use), part, use), t)
}

// totalName names the step of totals. Those of one list are made together, but
// for counts where the store can do no more than count.
func totalName(bound *binding.Field, use arguments) string {
	if can := bound.Target.Source.Capabilities; use.counts && can.Count && !can.Aggregate {
		return "count"
	}
	return "total"
}

func (p *pagePlan) edgeField(f *Field, g group) {
	f.Step = p.nodes[0].step
	if g.fields[0].Name.Text == "cursor" {
		f.What = Cursor
		return
	}
	f.What = Node
	if p.bound.Parts == nil {
		f.Object = p.builder.object(p.nodes[0].rows, g.subsets(), p.bound.Target, p.bound.Only)
		return
	}
	f.Parts = p.partFields(f, g, p.bound, p.nodes)
}

var infoFields = map[string]What{"hasNextPage": HasNext, "hasPreviousPage": HasPrevious, "startCursor": StartCursor, "endCursor": EndCursor}

func (p *pagePlan) infoField(f *Field, g group) { f.What = infoFields[g.fields[0].Name.Text] }

// total plans the total of a step's records: made by the store if it can, and
// else by the engine, of the values.
func (b *builder) total(f *Field, node *stepNode, t *binding.Aggregate) {
	f.What, f.Step, f.Of, f.Codec = Aggregate, node.step, t.Of, t.Codec
	switch {
	case node.step.Read.Store.Aggregates:
		f.Made = true
		f.Column = node.rows.column(store.Wanted{Path: t.Path, Kind: t.Kind, Aggregate: t.Of})
	case t.Of == store.Count:
		f.Column = -1
	default:
		f.Column = node.rows.column(store.Wanted{Path: t.Path, Kind: t.Values})
	}
}
