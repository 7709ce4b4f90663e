package execute

import (
	"osprey/core/plan"
	"osprey/core/store"
)

// This file tells what a mutation has written, once it is committed.

// Wrote is what was written to one source.
type Wrote struct {
	Source string
	Events []store.Event
}

// wroteIn returns what units have written.
func (r *run) wroteIn(units []*plan.Unit) (list []Wrote) {
	for _, u := range units {
		for _, id := range u.Fetches {
			f := r.plan.Fetches[id]
			if w := f.Reads[0].Write; w != nil && r.fetched[id].answer != nil {
				list = append(list, Wrote{f.Source, r.eventsOf(f, w)})
			}
		}
	}
	return list
}

// eventsOf returns what a write has done, to each record of which it has the key.
func (r *run) eventsOf(f *plan.Fetch, w *plan.Write) (events []store.Event) {
	read := f.Reads[0]
	t := r.fetched[f.ID].answer.Tables[read.Index]
	if w.Found != nil {
		read = w.Found.Read
		t = r.table(&plan.Rows{Step: w.Found})
	}
	e := store.Event{Set: w.Store.Set, What: map[store.Action]store.What{store.Add: store.WasAdded, store.Change: store.WasChanged, store.Remove: store.WasRemoved}[w.Store.Action]}
	if len(w.Store.Replaces) > 0 || w.Given {
		e.What = store.WasChanged // or added
	}
	if w.Store.Action == store.Change {
		for _, c := range w.Store.Columns {
			e.Fields = append(e.Fields, c.Field)
		}
	}
	for row := range t.Len {
		own := e
		own.Key = map[string]any{}
		for i := range read.Store.Columns {
			if c := &t.Columns[i]; c.Len() > row {
				store.PutPath(own.Key, read.Store.Columns[i].Path, c.JSON(row))
			}
		}
		events = append(events, own)
	}
	return events
}
