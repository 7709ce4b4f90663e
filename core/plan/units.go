package plan

import (
	"fmt"
	"slices"

	"osprey/core/binding"
	"osprey/core/store"
)

// This file gathers what is done in one session: of a root field that writes, or of several that are
// joined.

// A unit is a unit under construction.
type unit struct {
	field       *Field
	find, write *readNode // find is nil where nothing is found first
	nested      []*readNode
	within      []*readNode // calls of the function that takes part
	others      []*readNode // what is written in other sources
	later       []laterNest // of these, what is not planned yet
	checks      []*Step
}

// A laterNest is records that are added with others in another source.
type laterNest struct {
	above  *rows
	of     *binding.Write
	nested *binding.NestedWrite
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
	for _, u := range b.units {
		writes[u.write.read] = u.write
		for _, n := range u.nested {
			writes[n.read] = u.write
		}
		for _, n := range slices.Concat(u.within, u.others) {
			writes[n.read] = u.write
		}
		if u.find != nil {
			writes[u.find.read] = u.write
		}
	}
	for _, n := range b.reads { // in the order in which they were needed
		switch {
		case writes[n.read] != nil:
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
		write := u.write.read.Fetch
		own := &Unit{Field: u.field, Fetches: []int{write.ID}, Write: write.ID, Writing: u.write.source.Capabilities.Write}
		if u.find != nil {
			own.Fetches = []int{u.find.read.Fetch.ID, write.ID}
		}
		for _, n := range u.nested {
			own.Fetches = append(own.Fetches, n.read.Fetch.ID)
		}
		own.Checks = u.checks
		if own.Writing == nil { // the source has not told yet what it can do
			own.Writing = &store.Writing{}
		}
		var calls []int
		for _, n := range u.within {
			calls = append(calls, n.read.Fetch.ID)
		}
		own.Others = map[int]*store.Writing{}
		for _, n := range u.others {
			if own.Others[n.read.Fetch.ID] = n.source.Capabilities.Write; n.source.Capabilities.Write == nil {
				own.Others[n.read.Fetch.ID] = &store.Writing{}
			}
		}
		begin := b.plan.Fetches[own.Fetches[0]].After
		for _, f := range b.plan.Fetches { // in the order of their waves
			if other := b.unitOf[f.Reads[0]]; other != nil && other != u.write {
				continue
			}
			if slices.Contains(calls, f.ID) || own.Others[f.ID] != nil {
				own.Fetches = append(own.Fetches, f.ID)
			}
			if slices.Contains(own.Fetches, f.ID) || f.Source != write.Source || f.Reads[0].since != u.write.read.since {
				continue // of another source, or of another root field
			}
			inside, fed := true, false
			for _, after := range f.After {
				of := slices.Contains(own.Fetches, after)
				inside, fed = inside && (of || slices.Contains(begin, after)), fed || of
			}
			if inside && fed {
				own.Fetches = append(own.Fetches, f.ID)
			}
		}
		for _, id := range own.Fetches {
			b.plan.Fetches[id].Unit = own
		}
	}
}

// join makes all units one, or refuses the operation.
func (b *builder) join() {
	var first *Unit
	source := ""
	for _, u := range b.units {
		write := u.write.read.Fetch
		own := write.Unit
		switch {
		case len(own.Others) > 0:
			b.refuse(fmt.Sprintf(msgTogetherOthers, own.Field.Name, write.Source))
			return
		case own.Writing.Apart:
			b.refuse(fmt.Sprintf(msgTogetherApart, own.Field.Name, write.Source))
			return
		case first == nil:
			first, source = own, write.Source
			continue
		case write.Source != source:
			b.refuse(fmt.Sprintf(msgTogetherSources, first.Field.Name, source, own.Field.Name, write.Source))
			return
		}
		first.Joined, own.Of = append(first.Joined, own), first
	}
	b.onlyWrites(b.plan.Data)
}

// onlyWrites refuses an operation that has root fields which do not write.
func (b *builder) onlyWrites(o *Object) {
	for _, f := range o.Cases[0].Fields {
		switch {
		case f.What == Grouped:
			b.onlyWrites(f.Object)
		case f.What != Constant && f.Write == nil:
			b.refuse(fmt.Sprintf(msgTogetherOther, f.Name))
		}
	}
}

func (b *builder) refuse(why string) { b.plan.Refused, b.plan.Wrong = why, true }
