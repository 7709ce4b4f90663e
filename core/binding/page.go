package binding

import (
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds connections, the pages of the open specification of cursor
// connections, and the totals of lists.

// recordType returns the type of the records that a field leads to, and the
// connection with its edge if the field's type is one: an object type that is
// stored nowhere, with a list of edges each of which has a node.
func (b *binder) recordType(f *schema.Field) (schema.Named, *Page) {
	named := schema.NamedOf(f.Type)
	connection, ok := named.(*schema.Object)
	if !ok || b.bound.records[named] != nil {
		return named, nil
	}
	edges := connection.Field("edges")
	if edges == nil {
		return named, nil
	}
	edge, ok := schema.NamedOf(edges.Type).(*schema.Object)
	if _, isList := schema.ListElem(edges.Type); !ok || !isList || edge.Field("node") == nil {
		return named, nil
	}
	node := schema.NamedOf(edge.Field("node").Type)
	return node, &Page{Connection: connection, Edge: edge, Aggregates: map[string]*Aggregate{}}
}

// page checks the types of a connection.
func (b *binder) page(f *schema.Field, bound *Field) {
	p := bound.Page
	if _, isList := schema.ListElem(f.Type); isList {
		b.fail(rulePage, f.Pos, f.Coordinate(), "write "+p.Connection.Name+"!", msgListOfConnections, f.Coordinate(), p.Connection)
	}
	for _, c := range p.Connection.Fields {
		switch {
		case c.Name == "edges":
		case c.Name == "pageInfo":
			b.pageInfo(c)
		case c.Name == "totalCount":
			b.mustBe(c, "Int")
		case c.Directive("total") != nil:
			p.Aggregates[c.Name] = b.total(c, c.Directive("total"), bound.Target)
		default:
			b.fail(rulePage, c.Pos, c.Coordinate(), "leave it out, or say with @total what it is the total of", msgConnectionField, c.Coordinate())
		}
	}
	for _, e := range p.Edge.Fields {
		switch e.Name {
		case "node":
		case "cursor":
			b.mustBe(e, "String", "ID")
		default:
			b.fail(rulePage, e.Pos, e.Coordinate(), "leave it out", msgEdgeField, e.Coordinate())
		}
	}
	p.Key = bound.Target.Key
	if info := bound.Target.Info; info != nil && len(info.Keys) > 0 {
		p.Key = info.Keys[0]
	}
	if len(p.Key) == 0 && bound.Target.unknown() {
		p.Key = []string{bound.Target.someField()}
	}
	if len(p.Key) == 0 {
		b.fail(rulePage, f.Pos, f.Coordinate(), "name it in @stored(key: …)", msgPageNeedsKey, f.Coordinate(), bound.Target.Set)
	}
}

// pageInfo checks the type of a field pageInfo.
func (b *binder) pageInfo(f *schema.Field) {
	info, ok := schema.NamedOf(f.Type).(*schema.Object)
	if !ok {
		b.fail(rulePage, f.Pos, f.Coordinate(), "leave PageInfo to Osprey", msgConnectionField, f.Coordinate())
		return
	}
	for _, f := range info.Fields {
		switch f.Name {
		case "hasNextPage", "hasPreviousPage":
			b.mustBe(f, "Boolean")
		case "startCursor", "endCursor":
			b.mustBe(f, "String", "ID")
		default:
			b.fail(rulePage, f.Pos, f.Coordinate(), "leave it out", msgConnectionField, f.Coordinate())
		}
	}
}

func (b *binder) mustBe(f *schema.Field, types ...string) {
	if !slices.Contains(types, schema.NamedOf(f.Type).String()) {
		b.fail(rulePage, f.Pos, f.Coordinate(), "make it "+language.OneOf(types), msgPageType, f.Coordinate(), f.Type)
	}
}

// totals are the arguments of @total that name a field.
var totals = []struct {
	name string
	of   store.Aggregate
}{{"min", store.Min}, {"max", store.Max}, {"sum", store.Sum}, {"avg", store.Avg}}

// total binds a field with @total to the records that it is made of; nil after
// telling why not.
func (b *binder) total(f *schema.Field, d *language.Directive, target *Records) *Aggregate {
	t := &Aggregate{Of: store.Count, Kind: store.Int}
	for _, c := range totals {
		name := text(d, c.name)
		if name == "" {
			continue
		}
		if t.Path != "" {
			b.fail(ruleTotal, d.Pos, f.Coordinate(), "write a field for each", msgSeveralTotals, f.Coordinate())
			return nil
		}
		b.tellsOf(f.Coordinate(), fieldOf(b.bound.Schema, target.Type, name))
		path, kind, ok := b.leafPath(target, name)
		if !ok {
			b.fail(ruleTotal, d.Pos, f.Coordinate(), "", msgTotalNoField, f.Coordinate(), name, target.Type, language.DidYouMean(name, leafNames(target.Type)))
			return nil
		}
		info := b.mustExist(target, path, d.Pos, f.Coordinate(), "the total of "+f.Coordinate())
		t.Of, t.Path, t.Values = c.of, path, kind
		if t.Kind = aggregateKind(c.of, kind); t.Kind == store.Unknown && info != nil {
			b.fail(ruleTotal, d.Pos, f.Coordinate(), "", msgTotalNotOf, f.Coordinate(), c.name, target.Set, path, info.Type)
			return nil
		}
	}
	if _, isList := schema.ListElem(f.Type); isList || !schema.IsLeaf(schema.NamedOf(f.Type)) {
		b.fail(ruleTotal, f.Pos, f.Coordinate(), "", msgTotalIsOne, f.Coordinate(), f.Type)
		return nil
	}
	kind, codec, err := fit(schema.NamedOf(f.Type), t.Kind)
	if err != nil {
		b.fail(ruleFits, f.Pos, f.Coordinate(), "", msgTotalType, f.Coordinate(), schema.NamedOf(f.Type), t.Kind, err)
		return nil
	}
	if t.Of != store.Count && schema.IsNonNull(f.Type) {
		b.fail(ruleNullable, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), msgTotalOfNone, f.Coordinate())
	}
	t.Kind, t.Codec = kind, codec
	return t
}

// aggregateKind returns the kind of a total of values of a kind, or Unknown if they
// have none.
func aggregateKind(of store.Aggregate, kind store.Kind) store.Kind {
	switch of {
	case store.Min, store.Max:
		if ordered(kind) {
			return kind
		}
	case store.Sum:
		switch kind {
		case store.Int, store.Decimal, store.Float:
			return kind
		}
	case store.Avg:
		switch kind {
		case store.Int, store.Float, store.Decimal:
			return store.Float
		}
	}
	return store.Unknown
}

// totalField binds a field with @total(of:), which names a list of the same
// type; nil after telling why not.
func (b *binder) totalField(p place, f *schema.Field, d *language.Directive) *Field {
	list := f.Owner.(schema.Composite).Field(text(d, "of"))
	if list == nil || list == f || directive(list, "related") == nil && list.Directive("read") == nil {
		b.fail(ruleTotal, d.Pos, f.Coordinate(), "name a list of "+f.Owner.String()+" with of: \"…\"", msgTotalOfWhat, f.Coordinate(), text(d, "of"), language.DidYouMean(text(d, "of"), schema.FieldNames(f.Owner)))
		return nil
	}
	b.tellsOf(f.Coordinate(), list)
	// It reads what the list reads, with arguments of its own.
	targets := b.targets(list, d.Pos)
	if len(targets) > 1 {
		b.fail(ruleNotYet, d.Pos, f.Coordinate(), "make a total of each of its types", msgTotalOfParts, f.Coordinate(), list.Coordinate())
	}
	if len(targets) != 1 {
		return nil
	}
	var bound *Field
	if related := directive(list, "related"); related != nil {
		bound = b.relatedRecords(p, list, related, targets[0])
	} else {
		bound = &Field{How: Read, Target: targets[0].records, Only: targets[0].only, Many: true}
	}
	if bound == nil {
		return nil
	}
	bound.Def, bound.Page, bound.Sort, bound.Single, bound.Many = f, nil, nil, false, true
	if bound.Aggregate = b.total(f, d, bound.Target); bound.Aggregate == nil {
		return nil
	}
	b.arguments(f, bound)
	b.keyReader(p.records, f, d.Pos, bound, bound.There)
	return bound
}
