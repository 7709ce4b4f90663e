package execute

import (
	"context"
	"errors"
	"fmt"
	"time"

	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file does what a root field writes: the write and the reads of its store in one
// session, as a whole or not at all.

// maxAttempts is how often a unit is begun: one that met another at the same record is
// begun again, since nothing of it is done.
const maxAttempts = 4

// unit runs the fetches of a unit.
func (r *run) unit(ctx context.Context, u *plan.Unit) {
	var err error
	for attempt := 1; ; attempt++ {
		var conflict bool
		if conflict, err = r.attempt(ctx, u); !conflict || attempt == maxAttempts || ctx.Err() != nil {
			break
		}
		select { // the other one is to end first
		case <-ctx.Done():
		case <-time.After(time.Duration(attempt*attempt) * 5 * time.Millisecond):
		}
	}
	write := r.plan.Fetches[u.Fetches[0]]
	nothing := err == nil && u.Field.Null.Item == nil && r.fetched[write.ID].answer.Tables[0].Len == 0
	if (err != nil || nothing) && u.Field.Null.NonNull {
		r.halted = true // null cuts back all data: what follows is not done (section 6.4.4)
	}
	for _, id := range u.Fetches {
		r.release(r.plan.Fetches[id])
	}
}

// attempt runs the fetches of a unit in a session. It reports whether another one was in
// the way.
func (r *run) attempt(ctx context.Context, u *plan.Unit) (conflict bool, err error) {
	write := r.plan.Fetches[u.Fetches[0]]
	session, err := r.beginSession(ctx, u, write)
	if session == nil {
		return false, err
	}
	defer session.Rollback()
	for _, id := range u.Fetches {
		r.fetched[id] = fetched{}
	}
	removes := write.Reads[0].Write.Store.Action == store.Remove
	if removes { // what is read is as it was, so it is read first
		r.fetched[write.ID].answer = keysAsTable(write, r.inputs[write.ID][0].Rows)
	} else {
		err = r.inSession(ctx, session, write)
	}
	for _, id := range u.Fetches[1:] {
		if err == nil {
			err = r.inSession(ctx, session, r.plan.Fetches[id])
		}
	}
	if removes && err == nil {
		err = r.inSession(ctx, session, write)
	}
	if err == nil {
		err = session.Commit(ctx)
		r.made[write.ID].Err = err
	}
	if err == nil {
		return false, nil
	}
	for _, id := range u.Fetches { // nothing of it is done
		r.fetched[id] = fetched{err: err}
	}
	var known *store.Error
	return errors.As(err, &known) && known.Code == store.Conflict && known.Broken == nil, err
}

// beginSession resolves what is written and begins a session; nil where there is nothing
// to write, or an error, which is then that of all fetches of the unit.
func (r *run) beginSession(ctx context.Context, u *plan.Unit, write *plan.Fetch) (store.Session, error) {
	fail := func(err error) (store.Session, error) {
		for _, id := range u.Fetches {
			r.fetched[id] = fetched{err: err}
		}
		return nil, err
	}
	if write.Err != nil {
		return fail(write.Err)
	}
	inputs := sized(r.inputs[write.ID], 1)
	r.inputs[write.ID] = inputs
	rows, err := r.rowsOf(write.Reads[0].Write)
	if err != nil {
		return fail(err)
	}
	inputs[0] = store.Input{Rows: rows}
	if rows.Len == 0 {
		for _, id := range u.Fetches {
			r.fetched[id].answer = emptyAnswer(r.plan.Fetches[id])
		}
		return nil, nil
	}
	session, err := u.Writing.Begin(ctx, r.opts.Caller)
	if err != nil {
		r.made[write.ID] = StoreRequest{Wave: write.Wave, Source: write.Source, Asks: write.Asks, Keys: keysOf(write, rows), RoundTrips: 1, Err: err}
		return fail(err)
	}
	return session, nil
}

// inSession makes the request of a fetch in a session.
func (r *run) inSession(ctx context.Context, session store.Session, f *plan.Fetch) error {
	made := &r.made[f.ID]
	before := made.RoundTrips // of attempts that met another change
	if f.Reads[0].Write == nil {
		inputs, keys, ask := r.gather(f)
		switch {
		case f.Err != nil:
			return f.Err
		case !ask:
			r.fetched[f.ID].answer = emptyAnswer(f)
			return nil
		}
		r.inputs[f.ID] = inputs
		*made = StoreRequest{Wave: f.Wave, Source: f.Source, Asks: f.Asks, Keys: keys}
	} else {
		*made = StoreRequest{Wave: f.Wave, Source: f.Source, Asks: f.Asks, Keys: keysOf(f, r.inputs[f.ID][0].Rows)}
	}
	if !r.countRequests(1) {
		return r.stopping()
	}
	got := r.askOf(ctx, f, func() (*store.Answer, error) { return session.Run(ctx, f.Request, r.opts.Caller, r.inputs[f.ID]) })
	made.Time, made.Err, made.RoundTrips = got.time, got.err, before+1
	if got.err != nil {
		return got.err
	}
	made.RoundTrips, made.Records = before+got.answer.Requests, got.answer.Records()
	r.fetched[f.ID].answer = got.answer
	r.countRequests(got.answer.Requests - 1)
	r.countRecords(int64(made.Records))
	if r.stopped != nil {
		return r.stopping()
	}
	return nil
}

// stopping returns why the run was ended.
func (r *run) stopping() error { return &told{code: r.stopped.Code, msg: r.stopped.Msg} }

// keysOf returns by how many keys a write finds records.
func keysOf(write *plan.Fetch, rows *store.Rows) int {
	if write.Reads[0].Write.Store.Action == store.Add {
		return 0
	}
	return rows.Len
}

// keysAsTable returns the keys of what is to be removed, as what a write answers.
func keysAsTable(f *plan.Fetch, rows *store.Rows) *store.Answer {
	read := f.Reads[0]
	t := store.NewTable(read.Store.Columns)
	first := len(read.Write.Store.Columns)
	for row := range rows.Len {
		t.Len++
		for i := range read.Store.Columns {
			c := &t.Columns[i]
			for k, key := range read.Write.Store.Keys {
				if key.Field == read.Store.Columns[i].Path && !c.AppendAs(&rows.Columns[first+k], row) {
					c.AppendNull()
				}
			}
			if c.Len() < t.Len {
				c.AppendNull()
			}
		}
	}
	return &store.Answer{Tables: []*store.Table{t}}
}

// rowsOf resolves what is written.
func (r *run) rowsOf(w *plan.Write) (*store.Rows, error) {
	resolved := map[*plan.Arg]schema.Value{}
	resolve := func(a *plan.Arg) (schema.Value, error) {
		v, known := resolved[a]
		if known || a == nil {
			return v, nil
		}
		v, err := a.Resolve(r.vars)
		if err != nil {
			return nil, badArgument(a, msgDoesNotFit, err)
		}
		resolved[a] = v
		return v, nil
	}
	items := []schema.Value{nil}
	if w.Store.Action == store.Add && w.List != nil {
		v, err := resolve(w.List)
		if err != nil {
			return nil, err
		}
		items, _ = v.([]schema.Value)
		if most := r.opts.MaxPage; most > 0 && int64(len(items)) > most {
			return nil, badArgument(w.List, msgTooManyWritten, most, len(items))
		}
	}
	rows := &store.Rows{Len: len(items), Columns: make([]store.Column, len(w.Values)), Absent: make([][]bool, len(w.Values))}
	for c := range w.Values {
		of := &w.Values[c]
		into := &rows.Columns[c]
		into.Kind = of.Kind
		if of.Many {
			*into = store.Column{Kind: store.List, Elem: &store.Column{Kind: of.Kind}}
		}
		for n, item := range items {
			var v schema.Value
			given := of.Const != ""
			if given {
				v = of.Const
			}
			if of.Arg != nil || of.Null {
				whole, err := resolve(of.Arg)
				if err != nil {
					return nil, err
				}
				if of.Arg != nil && of.Arg == w.List {
					whole = item
				}
				v, given = of.Of(whole)
			}
			rows.Absent[c] = append(rows.Absent[c], !given)
			if err := put(into, of, v); err != nil {
				return nil, &store.Error{Code: store.BadValue, Msg: fmt.Sprintf(msgWriteValue, placeOf(w, of, n), err)}
			}
		}
	}
	return rows, nil
}
