package execute

import (
	"context"
	"slices"

	"osprey/core/binding"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file runs plans that begin with given rows: what subscriptions answer of events. What is told of a record is
// whether it fits now, which reading it tells, and whether it did before, which the record as it was tells:
//
//	before   now      told as
//	–        fits     ADDED      it was added, or comes to fit
//	fits     fits     CHANGED
//	fits     –        REMOVED    it was removed, or fits no more, or is not for the caller any more
//	–        –        nothing
//	?        fits     CHANGED    it is not known how it was
//	?        –        nothing    since it may never have been for the caller

// An EventResult is what is answered of events.
type EventResult struct {
	// Told are the answers, of those that are told.
	Told []ToldEvent
	// Requests are the store requests that were made for all of them.
	Requests []StoreRequest
	Rules    []RuleError
	// Failed says that the records could not be read, so that nothing is told: nobody knows for whom they are.
	Failed *Error
}

// A ToldEvent is what is answered of one event.
type ToldEvent struct {
	Event  int // which of those that were given
	What   store.What
	Data   []byte // JSON: an object, or null
	Errors []*Error
}

// RunEvents answers events of the records that a plan watches: each is of another record, and they are read together.
func RunEvents(ctx context.Context, p *plan.Plan, vars map[string]schema.Value, events []store.Event, opts Options) *EventResult {
	r := runs.Get().(*run)
	r.begin(ctx, p, vars, opts)
	w := p.Watch
	given := w.Given.Read
	answer := &store.Answer{Tables: []*store.Table{r.givenRows(given, events)}}
	r.fetched[given.Fetch.ID].answer = answer
	r.requests(ctx)
	result := &EventResult{}
	if l := r.link(w.Record); l.err != nil || r.stopped != nil {
		result.Failed = r.unread(w, l.err)
		events = nil
	}
	was := r.fitted(w, events)
	table := answer.Tables[0]
	what := slices.IndexFunc(given.Store.Columns, func(c store.Wanted) bool { return c.Path == binding.WatchWhat })
	for row := range events {
		r.writer.begin()
		clear(r.texts)
		from, to := r.link(w.Record).rows(row)
		happened := toldAs(was[row], from < to)
		if !w.Tells.Tells(happened) {
			continue
		}
		if what >= 0 {
			c := &table.Columns[what]
			c.Reset()
			for range table.Len {
				c.AppendText(string(happened))
			}
		}
		data := r.eventData(p.Data, table, row)
		result.Told = append(result.Told, ToldEvent{Event: row, What: happened, Data: slices.Clone(data), Errors: r.errs})
	}
	for i := range r.fetched {
		if a := r.fetched[i].answer; a != nil && a.Release != nil {
			a.Release()
		}
	}
	result.Requests, result.Rules = slices.Clone(r.made), r.rules
	r.free()
	return result
}

// givenRows makes the rows of events.
func (r *run) givenRows(read *plan.Read, events []store.Event) *store.Table {
	t := store.NewTable(read.Store.Columns)
	names := r.plan.Watch.Names
	for _, e := range events {
		t.Len++
		for i := range read.Store.Columns {
			c, w := &t.Columns[i], &read.Store.Columns[i]
			switch w.Path {
			case binding.WatchWhat:
				c.AppendText("") // until it is known
			case binding.WatchBefore:
				if e.Before == nil {
					c.AppendNull()
				} else {
					c.AppendJSON(w, e.Before)
				}
			case binding.WatchChanged:
				c.AppendJSON(w, namesOf(e.Fields, names))
			default:
				c.AppendJSON(w, store.JSONPath(e.Key, w.Path))
			}
		}
	}
	return t
}

// namesOf returns by which names callers know stored fields, in order.
func namesOf(fields []string, names map[string]string) []any {
	var known []string
	for _, path := range fields {
		if name := names[path]; name != "" {
			known = append(known, name)
		}
	}
	slices.Sort(known)
	list := []any{}
	for _, name := range slices.Compact(known) {
		list = append(list, name)
	}
	return list
}

// A fit says whether a record fits what is watched.
type fit uint8

const (
	unknown fit = iota
	fits
	unfit
)

// fitted tells which records did fit before what has happened to them.
func (r *run) fitted(w *plan.Watch, events []store.Event) []fit {
	list := make([]fit, len(events))
	in := store.Input{Where: make([]store.Column, len(w.Values))}
	usable := !w.Blind
	for _, a := range w.Values {
		if err := r.predicate(a, &in.Where[a.Column]); err != nil {
			usable = false // which reading them tells, too
		}
	}
	where := store.Read{Where: w.Where}
	for i, e := range events {
		switch {
		case e.What == store.WasAdded:
			list[i] = unfit
		case len(w.Where) == 0 && !w.Blind:
			list[i] = fits
		case e.Before == nil || !usable:
		case where.FitsAll(&in, store.JSONSubject{Value: e.Before}):
			list[i] = fits
		default:
			list[i] = unfit
		}
	}
	return list
}

// unread says why the records could not be read.
func (r *run) unread(w *plan.Watch, err error) *Error {
	if r.stopped != nil {
		return r.stopped
	}
	code, msg := describe(w.Record.Read.Fetch, err)
	return &Error{Code: code, Msg: msg, Source: w.Source}
}

// toldAs says as what an event is told; "" if it is not.
func toldAs(was fit, is bool) store.What {
	switch {
	case is && was == unfit:
		return store.WasAdded
	case is:
		return store.WasChanged
	case was == fits:
		return store.WasRemoved
	}
	return ""
}

// eventData writes the answer to one event.
func (r *run) eventData(o *plan.Object, t *store.Table, row int) []byte {
	b, ok := r.fields(r.buf[:0], o.Cases[0].Fields, t, row)
	if r.stopped != nil {
		r.errs = []*Error{r.stopped}
	}
	if !ok || r.stopped != nil {
		b = append(b[:0], "null"...)
	}
	r.buf = b
	return b
}

// MayWatch reports whether the rules of the field that a subscription asks for let its caller be told anything.
func MayWatch(ctx context.Context, p *plan.Plan, vars map[string]schema.Value, opts Options) bool {
	if p.Watch == nil {
		return false // which was known while it was planned
	}
	r := runs.Get().(*run)
	defer r.free()
	r.begin(ctx, p, vars, opts)
	allow := p.Data.Cases[0].Fields[0].Allow
	return allow == nil || r.allows(allow, nil, 0)
}
