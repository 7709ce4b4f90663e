package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/store"
)

// This file lets steps share reads, so that a store is not asked twice for what one
// request brings. In
//
//	{ all: notices { title }  storms: notices(filter: {kind: {is: STORM}}) { title }  again: notices { id } }
//
// all and again are one read. That of storms would bring a part of it, so storms takes
// from the same read what fits, which is looked at here. The read asks for what both
// have in common: a filter that all steps have stays with the store.

// paged reports whether a read is bounded or put in order by its store. It is then of
// its one step, and of others that ask for just the same.
func (n *readNode) paged(use arguments, needs store.Paging) bool {
	sort := use.sort
	if use.backward {
		sort = reversed(sort)
	}
	bounded := use.limit != nil || use.offset != nil || use.behind != nil || use.ahead != nil
	switch can := n.source.Capabilities; {
	case use.totals || len(use.allow) > 0:
		return false
	case can.Page >= needs:
		return bounded || can.Group == store.BySource
	case needs == store.PageWhole:
		return n.canPage(sort, use)
	}
	return false
}

// sharedRead returns a read of the wave that brings the records that a step asks for,
// or a new one.
func (b *builder) sharedRead(step *Step, bound *binding.Field, use arguments, wave int, keys []string) *readNode {
	needs := store.PageWhole
	if len(keys) > 0 {
		needs = keyedPaging(bound)
	}
	fresh := &readNode{
		read:   &Read{Store: &store.Read{Set: bound.Target.Set, Parent: -1}, Rows: rowsOf(bound.Target), wave: wave, since: b.done},
		source: bound.Target.Source, records: bound.Target, wave: wave,
		of: fmt.Sprintf("%d %p %t %s", b.turn, bound.Target, bound.ListThere, strings.Join(keys, ",")),
	}
	fresh.narrow(use)
	if len(keys) == 0 {
		fresh.count(use)
	}
	fresh.pages = fresh.paged(use, needs)
	fresh.asks = use.signature()
	var alike []*readNode
	for _, n := range b.reads {
		if n.above == nil && n.wave == wave && n.of == fresh.of && n.read.Call == nil {
			alike = append(alike, n)
		}
	}
	// One that asks the same comes before one that would be widened to it: two reads
	// would ask the same then.
	for _, takes := range []func(n *readNode) bool{
		func(n *readNode) bool { return n.asksSame(fresh, use) },
		func(n *readNode) bool { return n.widen(fresh, step, use) },
	} {
		if i := slices.IndexFunc(alike, takes); i >= 0 {
			alike[i].feed(step, len(keys))
			return alike[i]
		}
	}
	fresh.feed(step, len(keys))
	b.reads = append(b.reads, fresh)
	return fresh
}

// feed adds where the keys of a step come from.
func (n *readNode) feed(step *Step, keys int) {
	if keys > 0 && !slices.ContainsFunc(n.read.Feeds, func(f Feed) bool { return sameFeed(f, step.feed) }) {
		n.read.Feeds = append(n.read.Feeds, step.feed)
	}
}

func sameFeed(a, b Feed) bool {
	return a.Rows == b.Rows && a.Picked == b.Picked && slices.Equal(a.Columns, b.Columns) && maps.Equal(a.Is, b.Is)
}

// asksSame reports whether a store is asked the same for two reads, apart from what is
// looked at here and from the keys.
func (n *readNode) asksSame(fresh *readNode, use arguments) bool {
	same := n.predicates == fresh.predicates
	switch {
	case n.pages || fresh.pages:
		return same && n.pages && fresh.pages && n.asks == fresh.asks && n.source.Capabilities.Group != store.BySource
	case n.read.Store.Aggregates || fresh.read.Store.Aggregates:
		return same && n.read.Store.Aggregates == fresh.read.Store.Aggregates
	case same:
		return true
	}
	c, ok := n.common(fresh, use)
	if !ok || !c.own || !c.other {
		return false
	}
	n.ask(c, fresh)
	return true
}

// widen makes a read that of two steps whose filters differ, if one of them asks its
// store for all that the other does, too. What only one of them asks is then looked at
// here. Keyed reads must have the same keys: a wider one would bring more for both.
func (n *readNode) widen(fresh *readNode, step *Step, use arguments) bool {
	switch read := n.read; {
	case n.pages || fresh.pages || read.Store.Aggregates || fresh.read.Store.Aggregates:
		return false
	case len(read.Store.Keys) > 0 && (len(read.Feeds) != 1 || !sameFeed(read.Feeds[0], step.feed)):
		return false
	}
	c, ok := n.common(fresh, use)
	if !ok || !c.own && !c.other {
		return false
	}
	n.ask(c, fresh)
	return true
}

// commonWhere is what two reads have in common of their filters.
type commonWhere struct {
	where      []store.Predicate
	texts      []string
	own, other bool // it is all that the store is asked for the one, and for the other
}

// common returns what a read has in common with another. It is not ok if what only one
// of them asks cannot be looked at here, or the source asks for all in one request.
func (n *readNode) common(fresh *readNode, use arguments) (c commonWhere, ok bool) {
	own, other := n.read.Store.Where, fresh.read.Store.Where
	if n.source.Capabilities.Group == store.BySource || !filtersHere(own) || !filtersHere(other) || anyRefused(n.read.Where) || anyRefused(use.values) {
		return c, false
	}
	ownTexts, otherTexts := texts(own, n.read.Where), texts(other, fresh.read.Where)
	for i := range own {
		if slices.Contains(otherTexts, ownTexts[i]) {
			c.where, c.texts = append(c.where, own[i]), append(c.texts, ownTexts[i])
		}
	}
	taken := n.takenBy(c.texts, c.where)
	c.own = slices.Equal(taken, n.takenBy(ownTexts, own))
	c.other = slices.Equal(taken, n.takenBy(otherTexts, other))
	return c, true
}

// ask makes a read ask for what it has in common with another, and has its steps look
// at the rest.
func (n *readNode) ask(c commonWhere, fresh *readNode) {
	own, other := n.read.Store.Where, fresh.read.Store.Where
	n.read.Nothing = n.read.Nothing && fresh.read.Nothing
	if len(c.where) < len(own) {
		for _, s := range n.steps {
			s.filter(own, n.read.Where)
		}
		n.read.Store.Where, n.read.Where = c.where, used(c.where, n.read.Where)
		n.predicates = fresh.predicates
		if len(c.where) < len(other) {
			n.predicates = strings.Join(c.texts, "")
		}
	}
	n.rest = len(c.where) < len(other)
}

// takenBy returns those of some predicates that the store is asked, and not only
// looked at behind it, in one order.
func (n *readNode) takenBy(texts []string, where []store.Predicate) []string {
	var list []string
	var keys []string
	for _, k := range n.read.Store.Keys {
		keys = append(keys, n.wants[k].Path)
	}
	taken := func(*store.Predicate) bool { return true }
	if takes := n.source.Capabilities.Takes; takes != nil {
		taken = takes(n.read.Store.Set, keys, where)
	}
	for i := range where {
		if taken(&where[i]) {
			list = append(list, texts[i])
		}
	}
	slices.Sort(list)
	return list
}

// filtersHere reports whether the engine can look at all that predicates ask.
func filtersHere(where []store.Predicate) bool {
	for i := range where {
		for _, leaf := range where[i].Leaves(nil) {
			if leaf.Op == store.With || leaf.Op == store.After {
				return false
			}
		}
	}
	return true
}

func anyRefused(values []*Arg) bool {
	return slices.ContainsFunc(values, func(a *Arg) bool { return a.Err != "" })
}

// texts writes each predicate, so that the same can be told.
func texts(where []store.Predicate, values []*Arg) []string {
	list := make([]string, len(where))
	for i := range where {
		list[i] = " & " + predicateText(&where[i], values)
	}
	return list
}

// used returns those of some values that predicates compare with.
func used(where []store.Predicate, values []*Arg) []*Arg {
	var list []*Arg
	for i := range where {
		for _, leaf := range where[i].Leaves(nil) {
			for _, a := range values {
				if a.Column == leaf.Value && leaf.Op != store.Missing && !slices.Contains(list, a) {
					list = append(list, a)
				}
			}
		}
	}
	return list
}

// A sharing is a step as it shares a read.
type sharing struct {
	step *Step
	rows *rows
}

// filter has the engine look at what the store of a step's read is not asked.
func (s *sharing) filter(where []store.Predicate, values []*Arg) {
	if s.step.Where != nil {
		return // it looks at all that it asks already
	}
	s.step.Where, s.step.Values, s.step.Fields = where, values, map[string]int{}
	for i := range where {
		for _, c := range where[i].Leaves(nil) {
			s.step.Fields[c.Path] = s.rows.column(store.Wanted{Path: c.Path, Kind: c.Kind})
		}
	}
}

// share notes that a step takes its rows from a read.
func (n *readNode) share(step *Step, r *rows, use arguments) {
	s := &sharing{step, r}
	if n.rest {
		s.filter(use.where, use.values)
	}
	n.rest = false
	n.steps = append(n.steps, s)
}

// filterText writes what the engine looks at, for explanations.
func (s *Step) filterText() string {
	var list []string
	for i := range s.Where {
		list = append(list, predicateText(&s.Where[i], s.Values))
	}
	return strings.Join(list, ", ")
}
