package plan

import (
	"cmp"
	"fmt"
	"slices"

	"osprey/core/store"
)

// fetches groups the reads into store requests and prepares them.
func (b *builder) fetches(prepare Prepare) {
	groups := map[string]*Fetch{}
	fetchOf := map[*readNode]*Fetch{}
	own := b.own()
	b.unitOf = own
	for i, n := range b.reads {
		if n.above != nil {
			continue
		}
		key := fmt.Sprintf("%d %s", n.wave, n.source.Name)
		switch {
		case n.read.Given:
			key += " given"
		case n.read.Call != nil:
			key += " call " + n.read.Store.Set
		case n.read.Write != nil:
			key += fmt.Sprintf(" write %d", i)
		case n.source.Capabilities.Group == store.BySource:
		case n.source.Capabilities.Group == store.BySet && !n.pages && !n.read.Store.Aggregates:
			key += " " + n.records.Set
		default:
			key += fmt.Sprintf(" read %d", i)
		}
		if w := own[n.read]; w != nil {
			key += fmt.Sprintf(" of %p", w)
		}
		f := groups[key]
		if f == nil {
			f = &Fetch{Wave: n.wave, Source: n.source.Name}
			groups[key] = f
			b.plan.Fetches = append(b.plan.Fetches, f)
		}
		fetchOf[n] = f
	}
	slices.SortStableFunc(b.plan.Fetches, func(x, y *Fetch) int { return cmp.Compare(x.Wave, y.Wave) })
	// Reads come in the order in which they were needed, so one that is folded
	// into another comes after it.
	for _, n := range b.reads {
		f := fetchOf[n]
		if n.above != nil {
			f = n.above.read.Fetch
			n.read.Store.Parent = n.above.read.Index
		}
		n.read.Fetch, n.read.Index = f, len(f.Reads)
		f.Reads = append(f.Reads, n.read)
		n.read.Store.Columns = wanted(n.wants)
	}
	for i, f := range b.plan.Fetches {
		f.ID = i
	}
	cost := costs{plan: b.plan, page: Unbounded, known: map[*Read][2]int64{}}
	for _, f := range b.plan.Fetches {
		b.plan.order(f)
		b.plan.Waves = max(b.plan.Waves, f.Wave)
		if prepare != nil && !f.Given() {
			f.Asked = make([]*store.Read, len(f.Reads))
			for i, r := range f.Reads {
				if f.Asked[i] = r.Store; r.Write != nil && r.Write.Given {
					f.Asked[i] = &store.Read{Set: r.Store.Set, Parent: -1} // nothing is given back
				}
			}
			if f.Request, f.Err = b.prepared(f, prepare); f.Err == nil {
				d := f.Request.Describe()
				f.Statements = max(1, d.Statements)
				f.Asks, f.EachKey, f.Pages, f.MaxKeys = d.Asks, d.EachKey, d.Pages, d.MaxKeys
				b.plan.Several = b.plan.Several || d.EachKey || d.Pages > 0 || cost.splits(f)
			}
		}
	}
}

// Given reports whether a fetch is none, since its rows are given to the run.
func (f *Fetch) Given() bool { return f.Reads[0].Given }

// prepared makes the request of a fetch.
func (b *builder) prepared(f *Fetch, prepare Prepare) (store.Request, error) {
	w := f.Reads[0].Write
	if w == nil {
		return prepare(f.Source, f.Asked)
	}
	source := b.bound.Sources[f.Source]
	if source.Catalogue == nil {
		return nil, store.NotReady(nil)
	}
	if !w.Given {
		w.Store.Returning = f.Reads[0].Store.Columns
	}
	return source.Capabilities.Write.Prepare(source.Catalogue, w.Store)
}

// order says after which others a fetch can be asked: those that bring its keys, or
// what its calls are given, and all that decide which rows above are shown. Of
//
//	quays, wave 1 of registry   · station of tides, wave 2   · logs of notices, wave 3
//	                            · surveys of documents, wave 2
//
// logs are asked for when the station is there, whether surveys are or not.
func (p *Plan) order(f *Fetch) {
	after := func(r *Read) {
		if r.Fetch != f && r.Fetch.Wave < f.Wave && !slices.Contains(f.After, r.Fetch.ID) {
			f.After = append(f.After, r.Fetch.ID)
		}
	}
	var picked func(f *Field)
	rows := func(rows *Rows) {
		for ; rows != nil; rows = rows.Step.Parent {
			after(rows.Step.Read)
			picked(rows.Step.Picked)
			if m := rows.Step.Merge; m != nil {
				for _, part := range m.Parts {
					if part.Step != nil {
						after(part.Step.Read)
					}
				}
			}
		}
	}
	picked = func(f *Field) {
		if f != nil {
			for _, needed := range readsOf(f.Needs, nil) {
				after(needed)
			}
			rows(f.Rows)
		}
	}
	for _, r := range f.Reads {
		for _, feed := range r.Feeds {
			rows(feed.Rows)
			picked(feed.Picked)
		}
		if r.Call != nil {
			picked(r.Call.Call.Picked)
		}
		for _, needed := range r.Needs {
			after(needed)
		}
		if r.Call != nil {
			rows(r.Call.Parent)
		}
		for _, before := range p.Fetches {
			if before.Wave <= r.since {
				after(before.Reads[0])
			}
		}
	}
}

// wanted freezes columns under construction.
func wanted(wants []*want) []store.Wanted {
	list := make([]store.Wanted, len(wants))
	for i, w := range wants {
		list[i] = w.Wanted
		if len(w.fields) > 0 {
			list[i] = withFields(w.Wanted, wanted(w.fields))
		}
	}
	return list
}

// withFields gives a nested record, or the items of a list of them, its fields.
func withFields(w store.Wanted, fields []store.Wanted) store.Wanted {
	if w.Kind == store.List {
		elem := withFields(*w.Elem, fields)
		w.Elem = &elem
	} else {
		w.Fields = fields
	}
	return w
}
