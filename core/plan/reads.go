package plan

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/store"
)

// read plans the records that a field leads to from the rows r, or from the
// root if r is nil. The same field asked for several types of one record set
// is one step.
func (b *builder) read(r *rows, g group, bound *binding.Field) *stepNode {
	name, use := g.name, b.arguments(g.fields[0], bound)
	if bound.Page != nil && b.onlyTotals(g, bound) {
		use = use.total(true)
		for name := range bound.Page.Aggregates {
			use.counts = use.counts && !b.selects(g, bound, name)
		}
		n := b.readFor(r, totalName(bound, use), bound, use)
		n.step.Page = &Page{} // of no records
		return n
	}
	if bound.Aggregate != nil {
		name = totalName(bound, use)
	}
	return b.readFor(r, name, bound, use)
}

// readFor plans the records for given arguments; steps of other names are other
// steps.
func (b *builder) readFor(r *rows, name string, bound *binding.Field, use arguments) *stepNode {
	steps := b.steps
	if r != nil {
		steps = r.steps
	}
	key := fmt.Sprintf("%s %t %d %p %p", name, b.raw > 0, b.done, bound.Target, bound.JoinTable) + strings.Join(bound.Here, ",") + "/" + strings.Join(bound.There, ",") + use.signature()
	if n := steps[key]; n != nil {
		n.step.Read.cover(b.here())
		return n
	}
	source := bound.Target.Source
	step := &Step{ID: len(b.plan.Steps), Field: b.here(), One: bound.Single && bound.JoinTable == nil && !bound.Many}
	b.plan.Steps = append(b.plan.Steps, step)
	n := &stepNode{step: step, parent: r}
	switch {
	case r == nil:
		n.rows = b.rootRead(step, bound, use)
	case !r.nested && r.node.read.Write == nil && !r.node.read.Given && !r.node.read.Store.Lock && r.node.source == source && source.Folds(r.node.records.Set, bound):
		n.rows = b.foldedRead(r, step, bound, use)
	default:
		n.rows = b.keyedRead(r, step, bound, use)
	}
	if r != nil {
		step.Picked, n.rows.since = r.picked, r.since
	}
	b.allow(step, n.rows, use.allow)
	step.Read.cover(step.Field)
	steps[key] = n
	return n
}

// cover notes a field whose values the read brings.
func (r *Read) cover(field string) {
	if !slices.Contains(r.Covers, field) {
		r.Covers = append(r.Covers, field)
	}
}

// How the reads of the harbour's Board come about, from the top; "·" is a step:
//
//	portCalls                read 0 of registry, wave 1
//	· craft                  folded: read 1, below 0 (the same source, and it folds)
//	  · operator             folded: read 2, below 1
//	  · inspections          keyed: read 3 of inspections, wave 2, by the craft's imo,
//	                         which is call.craft_imo already: it is known in read 0,
//	                         and still a wave later, since read 0 brings it
//	· berth, quay            folded: reads 4 and 5
//	  · station              keyed: read 6 of tides, wave 2, by quay.station_code
//	    · events             keyed by station.code, by which the station was found:
//	                         knownAhead takes it from the quay, so read 7 is of
//	                         wave 2, too, and waits for no station
//
// Steps that ask the same of a record set by the same keys share a read.

// newRead starts a read of a record set.
func (b *builder) newRead(bound *binding.Field, wave int) *readNode {
	n := &readNode{
		read:   &Read{Store: &store.Read{Set: bound.Target.Set, Parent: -1}, Rows: rowsOf(bound.Target), wave: wave, since: b.done},
		source: bound.Target.Source, records: bound.Target, wave: wave,
	}
	b.reads = append(b.reads, n)
	return n
}

// rowsOf returns about how many records there are; 0 if nothing tells.
func rowsOf(r *binding.Records) int64 {
	if r.Info == nil {
		return 0
	}
	return r.Info.Rows
}

func (n *readNode) rows(step *Step) *rows {
	step.Read = n.read
	return &rows{public: &Rows{Step: step}, node: n, wants: &n.wants, steps: map[string]*stepNode{}}
}

// narrow gives a read its conditions.
func (n *readNode) narrow(use arguments) {
	n.read.Where = use.values
	n.read.Store.Where = use.where
	n.read.Store.Values = columnsOf(use.values)
	n.predicates = use.predicates()
	n.read.Nothing = use.nothing
	n.read.Store.Aggregates = use.totals && n.source.Capabilities.Aggregate && len(use.allow) == 0
}

// count leaves counting to a store that can do it for a read without keys.
func (n *readNode) count(use arguments) {
	n.read.Store.Aggregates = n.read.Store.Aggregates || use.counts && n.source.Capabilities.Count && len(use.allow) == 0
}

// columnsOf returns how many columns values take.
func columnsOf(values []*Arg) int {
	n := 0
	for _, a := range values {
		n += max(1, len(a.By))
	}
	return n
}

// page leaves sorting and paging to the store if it can, and otherwise to the
// engine.
func (n *readNode) page(r *rows, step *Step, use arguments, needs store.Paging) {
	sort := n.bounded(use)
	if use.pages {
		n.pageOrder(r, step, use)
		if use.backward {
			sort = reversed(sort)
		}
	}
	if n.pages || n.above != nil && n.source.Capabilities.Page >= needs && len(use.allow) == 0 {
		if len(n.steps) > 1 {
			return // it is asked for already
		}
		n.read.Store.Sort = sort
		n.read.Limit, n.read.Offset = use.limit, use.offset
		n.read.Store.Limit, n.read.Store.Offset = use.limit != nil, use.offset != nil
		for _, a := range []*Arg{use.behind, use.ahead} {
			if a != nil {
				a.Column = n.read.Store.Values
				n.read.Store.Where = append(slices.Clip(n.read.Store.Where), a.behind())
				n.read.Where = append(slices.Clip(n.read.Where), a)
				n.read.Store.Values += len(a.By)
			}
		}
		return
	}
	for _, o := range sort {
		step.Sort = append(step.Sort, n.order(r, o))
	}
	step.Limit, step.Offset, step.Behind, step.Ahead = use.limit, use.offset, use.behind, use.ahead
}

// bounded returns the order of a bounded list. A view tells of no key by which the
// store puts in order what is equal by the sort keys; that of its type does, or records
// would be in two pages and others in none.
func (n *readNode) bounded(use arguments) []store.Order {
	sort := use.sort
	if use.pages || use.limit == nil && use.offset == nil || n.source.Capabilities.Page != store.PagePerKey || n.records.Info == nil || len(n.records.Info.Keys) > 0 {
		return sort
	}
	for _, path := range n.records.Key {
		if !slices.ContainsFunc(sort, func(o store.Order) bool { return o.Path == path && len(o.Via) == 0 }) {
			sort = append(slices.Clip(sort), store.Order{Path: path, Kind: kindOf(n.records.Info, path)})
		}
	}
	return sort
}

// pageOrder makes the order of a page and of its cursors.
func (n *readNode) pageOrder(r *rows, step *Step, use arguments) {
	step.Page = use.page(n.read.Store.Set)
	for _, o := range use.sort {
		step.Page.Order = append(step.Page.Order, n.order(r, o))
	}
	for _, a := range []*Arg{use.behind, use.ahead} {
		if a == nil {
			continue
		}
		a.By, a.List = use.sort, step.Page.List
		if a.Merged {
			a.By = use.part.cut(a, use, a == use.ahead)
		}
		for _, o := range a.By {
			a.Kinds = append(a.Kinds, n.kindOf(o))
		}
		if a == use.ahead {
			a.By = reversed(a.By)
		}
	}
}

// page returns the page that is asked for, without its order.
func (use arguments) page(of string) *Page {
	p := &Page{List: of + sortText(use.sort), Bound: use.limit, Backward: use.backward, Behind: use.behind != nil}
	if use.part != nil {
		p.List = use.part.list
	}
	if use.backward {
		p.Behind = use.ahead != nil
	}
	return p
}

// behind returns the condition that a record stands behind a cursor.
func (a *Arg) behind() store.Predicate {
	switch {
	case len(a.By) == 0 && a.Inclusive:
		return store.Predicate{Op: store.All}
	case len(a.By) == 0:
		return store.Predicate{Op: store.Any}
	}
	return store.Predicate{Op: store.After, By: a.By, Value: a.Column, Also: a.Inclusive, Foreign: a.Other}
}

// canPage reports whether the source pages just this read as a whole, which
// must be nobody else's.
func (n *readNode) canPage(sort []store.Order, use arguments) bool {
	if n.source.Capabilities.CanPage == nil || len(use.allow) > 0 || len(n.read.Covers) > 0 || use.pages || len(sort) == 0 && use.limit == nil && use.offset == nil {
		return false
	}
	read := *n.read.Store
	read.Sort, read.Limit, read.Offset = sort, use.limit != nil, use.offset != nil
	return n.source.Capabilities.CanPage(&read)
}

// order makes a sort key's values a column of the rows.
func (n *readNode) order(r *rows, o store.Order) Order {
	return Order{r.column(store.Wanted{Path: o.Path, Kind: n.kindOf(o), Via: o.Via}), o}
}

// kindOf returns the kind of a sort key's values.
func (n *readNode) kindOf(o store.Order) store.Kind {
	if o.Kind != store.Unknown {
		return o.Kind
	}
	if len(o.Via) == 0 {
		return kindOf(n.records.Info, o.Path)
	}
	if n.source.Catalogue == nil {
		return store.Text
	}
	return kindOf(n.source.Catalogue.Sets[o.Via[len(o.Via)-1].Set], o.Path)
}

// reversed returns the order from the last record to the first.
func reversed(sort []store.Order) []store.Order {
	list := slices.Clone(sort)
	for i := range list {
		list[i].Desc = !list[i].Desc // which turns where missing values stand, too
	}
	return list
}

// kindOf returns the kind of a stored field, or Text where nothing tells it.
func kindOf(set *store.Set, path string) store.Kind {
	if f := fieldOf(set, path); f != nil && f.Kind != store.Unknown && f.Kind != store.List && f.Kind != store.JSON {
		return f.Kind
	}
	return store.Text
}

func (b *builder) rootRead(step *Step, bound *binding.Field, use arguments) *rows {
	n := b.sharedRead(step, bound, use, b.done+1, nil)
	r := n.rows(step)
	n.share(step, r, use)
	if !use.totals {
		n.page(r, step, use, store.PageWhole)
	}
	return r
}

// foldedRead plans a read that is part of its parent's request.
func (b *builder) foldedRead(parent *rows, step *Step, bound *binding.Field, use arguments) *rows {
	n := b.newRead(bound, parent.node.wave)
	n.above = parent.node
	if bound.JoinTable != nil {
		link := &store.Link{JoinTable: bound.JoinTable}
		var ok bool
		if link, ok = b.paired(bound.Target.Source, link, &use.values); !ok {
			use.where = append(slices.Clip(use.where), store.Predicate{Op: store.Any})
		}
		n.read.Store.JoinTable = link.JoinTable
	}
	n.narrow(use)
	n.read.Store.Here, n.read.Store.There = bound.Here, bound.There
	// Where a source says itself what hangs together, a list can lead to many by
	// their unique keys.
	n.read.Store.Single = bound.Single && bound.JoinTable == nil && (n.source.Capabilities.CanFold == nil || !bound.Many)
	r := n.rows(step)
	step.Parent, step.Folded = parent.public, true
	if !use.totals {
		n.page(r, step, use, store.PagePerKey)
	}
	return r
}

// keyedRead plans a read whose keys are values of the parent's rows.
func (b *builder) keyedRead(parent *rows, step *Step, bound *binding.Field, use arguments) *rows {
	step.Parent = parent.public
	step.Here = parent.keys(bound)
	step.feed = Feed{Rows: parent.public, Columns: step.Here, Picked: parent.picked}
	wave := max(parent.node.wave, parent.since) + 1
	if use.part != nil && use.part.is != nil {
		step.feed.By, step.feed.Is = use.part.by, use.part.is
	} else if ahead, ok := knownAhead(parent, step.Here); ok && !bound.ListHere && parent.picked == nil {
		step.feed = ahead
		wave = parent.node.wave
	}
	n := b.sharedRead(step, bound, use, wave, bound.There)
	r := n.rows(step)
	n.share(step, r, use)
	for _, path := range bound.There {
		step.There = append(step.There, r.column(keyWanted(bound.Target.Info, "", path, bound.ListThere)))
	}
	n.read.Store.Keys = step.There
	if bound.ListHere || bound.ListThere {
		n.read.Store.Aggregates = false // which would be of a key, and not of a list of them
	}
	if !use.totals {
		n.page(r, step, use, keyedPaging(bound))
	}
	return r
}

// pageHere is the paging that no store has.
const pageHere store.Paging = 255

// keyedPaging returns what paging a store must have to page a keyed read itself:
// bounds for each key are none for each row above, where that has several.
func keyedPaging(bound *binding.Field) store.Paging {
	if bound.ListHere || bound.ListThere {
		return pageHere
	}
	return store.PagePerKey
}

// keys makes the fields that a relationship follows columns of the rows.
func (r *rows) keys(bound *binding.Field) []int {
	var info *store.Set
	if r.node.records != nil {
		info = r.node.records.Info
	}
	var columns []int
	for _, path := range bound.Here {
		columns = append(columns, r.column(keyWanted(info, r.prefix, path, bound.ListHere)))
	}
	return columns
}

// keyWanted returns how the values of a key are wanted, or a list of keys.
func keyWanted(info *store.Set, prefix, path string, list bool) store.Wanted {
	w := store.Wanted{Path: path, Kind: kindOf(info, prefix+path)}
	if !list {
		return w
	}
	if f := fieldOf(info, prefix+path); f != nil && f.Kind == store.List && f.Elem != store.Unknown {
		w.Kind = f.Elem
	}
	return store.Wanted{Path: path, Kind: store.List, Elem: &store.Wanted{Kind: w.Kind}, OneOrMany: true}
}

func fieldOf(info *store.Set, path string) *store.Field {
	if info == nil {
		return nil
	}
	return info.Field(path)
}

// knownAhead finds the values of the parent's columns where the parent itself
// got them: if they are the keys it is found by, nobody needs to wait for the
// record only to read them back.
func knownAhead(parent *rows, here []int) (Feed, bool) {
	above := parent.public.Step
	if above.Folded || above.feed.Rows == nil || parent.nested {
		return Feed{}, false
	}
	feed := above.feed
	feed.Columns = nil
	for _, column := range here {
		i := slices.Index(above.There, column)
		if i < 0 {
			return Feed{}, false
		}
		feed.Columns = append(feed.Columns, above.feed.Columns[i])
	}
	return feed, true
}

// innerStep plans a list of nested records that the engine filters, sorts and
// cuts.
func (b *builder) innerStep(parent, inner *rows, use arguments) *Step {
	s := &Step{ID: len(b.plan.Steps), Field: b.here(), Read: parent.node.read, Parent: parent.public, Picked: parent.picked, Inner: inner.public,
		Where: use.where, Values: use.values, Limit: use.limit, Offset: use.offset, Fields: map[string]int{}}
	b.plan.Steps = append(b.plan.Steps, s)
	column := func(path string, kind store.Kind) int {
		for i, w := range *inner.wants {
			if w.Path == path && w.Elem == nil {
				return i // with the kind that the field is answered with
			}
		}
		return inner.column(store.Wanted{Path: path, Kind: kind})
	}
	for i := range use.where {
		for _, c := range use.where[i].Leaves(nil) {
			s.Fields[c.Path] = column(c.Path, c.Kind)
		}
	}
	for _, o := range use.sort {
		s.Sort = append(s.Sort, Order{column(o.Path, o.Kind), o})
	}
	return s
}
