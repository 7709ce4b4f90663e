package plan

import (
	"slices"

	"osprey/core/binding"
	"osprey/core/store"
)

// This file plans what a subscription answers of an event. It begins with rows that are given, one for each record
// that has changed, instead of a read at the root; the records are read by their keys, as below any row:
//
//	subscription { movements(quay: 3) { what now { craft { name } } } }
//
//	given    port_calls 17, 20, 31, which an event of the store has brought
//	wave 1   registry: port_calls by id ← given, quay = 3, with craft
//
// So many events are one run, and one request to each store, and what a record must fit, and what rules say of it, is
// asked as anywhere.

// A Watch is what a plan needs to begin with given rows.
type Watch struct {
	Tells  *binding.Watch
	Source string
	Set    string
	Key    []string
	Given  *Step // whose rows are given, by their [store.Event.Key] and what is told beside it
	Record *Step // the records as they are: none, or one for each row
	// Where is what a record must fit, of Values.
	Where  []store.Predicate
	Values []*Arg
	// Blind says that it cannot be told from a record as it was whether it did fit.
	Blind bool
	// Names are the names of fields that the caller may know, by the stored ones.
	Names map[string]string
}

// watch plans a field of the subscription type.
func (b *builder) watch(f *Field, g group, bound *binding.Field) {
	step := &Step{ID: len(b.plan.Steps), Field: b.here()}
	b.plan.Steps = append(b.plan.Steps, step)
	given := b.newRead(bound, 0)
	given.read.Given = true
	rows := given.rows(step)
	keyed := *bound
	keyed.How, keyed.Single, keyed.Args = binding.Related, true, nil
	use := b.arguments(g.fields[0], bound)
	w := &Watch{Tells: bound.Watch, Source: bound.Target.Source.Name, Set: bound.Target.Set, Key: bound.Target.Key, Given: step,
		Where: use.where, Values: use.values, Blind: len(use.allow) > 0, Names: b.bound.NamesOf(b.viewer.Schema, bound.Target)}
	for i := range w.Where {
		w.Blind = w.Blind || looksElsewhere(&w.Where[i])
	}
	record := b.readFor(rows, "record", &keyed, use)
	w.Record = record.step
	b.plan.Watch, b.watched = w, record
	if bound.Watch.Payload == nil {
		b.watchedRecord(f, g, bound)
		return
	}
	f.What = Grouped
	payload := bound.Watch.Payload
	fields := &binding.Object{Type: payload, Fields: bound.Watch.Fields}
	f.Object = &Object{Kind: -1, Type: payload.Name, Cases: []Case{{Type: payload.Name, Fields: b.fields(rows, fields, g.subsets())}}}
}

// watchedRecord plans the record that has changed, as it is now.
func (b *builder) watchedRecord(f *Field, g group, bound *binding.Field) {
	f.What, f.Step, f.Single = One, b.watched.step, true
	b.origins[f] = origin{b.watched.rows, bound}
	f.Object = b.object(b.watched.rows, g.subsets(), bound.Target, bound.Only)
}

// looksElsewhere reports whether a predicate is about other records.
func looksElsewhere(p *store.Predicate) bool {
	if p.Op == store.With && p.Link != nil {
		return true
	}
	for i := range p.Of {
		if looksElsewhere(&p.Of[i]) {
			return true
		}
	}
	return false
}

// Personal reports whether what a plan answers depends on who asks, beyond its dependencies.
func (p *Plan) Personal() bool {
	for _, f := range p.Fetches {
		for _, r := range f.Reads {
			if slices.ContainsFunc(r.Where, func(a *Arg) bool { return a.Rule != nil }) {
				return true
			}
		}
	}
	for _, s := range p.Steps {
		if slices.ContainsFunc(s.Values, func(a *Arg) bool { return a.Rule != nil }) || slices.ContainsFunc(s.Allow, looksAtCaller) {
			return true
		}
	}
	if p.Watch != nil && slices.ContainsFunc(p.Watch.Values, func(a *Arg) bool { return a.Rule != nil }) {
		return true
	}
	return slices.ContainsFunc(p.Fields, func(f *Field) bool {
		return f.Expr != nil && len(f.Expr.Needs["caller"]) > 0 || slices.ContainsFunc(f.Allow, looksAtCaller)
	})
}

func looksAtCaller(list []*Field) bool {
	return slices.ContainsFunc(list, func(f *Field) bool { return f.Expr != nil && len(f.Expr.Needs["caller"]) > 0 })
}

// A ReadSet is a record set that is read.
type ReadSet struct{ Source, Set string }

// Sets returns whose changes can change what a plan answers: the one that a subscription watches, or all that a query
// reads.
func (p *Plan) Sets() []ReadSet {
	if p.Watch != nil {
		return []ReadSet{{p.Watch.Source, p.Watch.Set}}
	}
	var list []ReadSet
	add := func(source, set string) {
		if s := (ReadSet{source, set}); !slices.Contains(list, s) {
			list = append(list, s)
		}
	}
	var links func(source string, predicates []store.Predicate)
	link := func(source string, l *store.Link) {
		add(source, l.Set)
		links(source, l.Where)
		if l.JoinTable != nil {
			add(source, l.JoinTable.Set)
		}
	}
	links = func(source string, predicates []store.Predicate) {
		for i := range predicates {
			if predicates[i].Link != nil {
				link(source, predicates[i].Link)
			}
			links(source, predicates[i].Of)
		}
	}
	for _, f := range p.Fetches {
		for _, r := range f.Reads {
			if r.Call != nil {
				continue
			}
			add(f.Source, r.Store.Set)
			if r.Store.JoinTable != nil {
				add(f.Source, r.Store.JoinTable.Set)
			}
			links(f.Source, r.Store.Where)
			for _, o := range r.Store.Sort {
				for i := range o.Via {
					link(f.Source, &o.Via[i])
				}
			}
			for _, w := range r.Store.Columns {
				for i := range w.Via {
					link(f.Source, &w.Via[i])
				}
			}
		}
	}
	return list
}
