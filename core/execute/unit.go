package execute

import (
	"context"
	"errors"
	"slices"
	"time"

	"osprey/core/plan"
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
	if u.Field.Null.NonNull && (err != nil || r.lacks(u.Field)) {
		r.halted = true // null cuts back all data: what follows is not done (section 6.4.4)
	}
	for _, id := range u.Fetches {
		r.release(r.plan.Fetches[id])
	}
}

// lacks reports whether a field that writes has no record where it must have one.
func (r *run) lacks(f *plan.Field) bool {
	switch f.What {
	case plan.Answered:
		return slices.ContainsFunc(f.Object.Cases[0].Fields, func(f *plan.Field) bool { return f.Null.NonNull && r.lacks(f) })
	case plan.Written, plan.WrittenKey:
		t := r.table(&plan.Rows{Step: f.Write})
		return f.Null.Item == nil && t != nil && t.Len == 0
	}
	return false
}

// attempt runs the fetches of a unit in a session. It reports whether another one was in
// the way.
func (r *run) attempt(ctx context.Context, u *plan.Unit) (conflict bool, err error) {
	write := r.plan.Fetches[u.Write]
	session, err := r.beginSession(ctx, u, write)
	if session == nil {
		return false, err
	}
	defer session.Rollback()
	for _, id := range u.Fetches {
		r.fetched[id] = fetched{}
	}
	written := false
	for _, id := range r.sequence(u, write) {
		err = r.inSession(ctx, session, r.plan.Fetches[id])
		if err != nil && written && u.Writing.Apart { // what is written stays, and what was read of it is told
			r.fetched[id] = fetched{err: afterWrite(err)}
			err = nil
		}
		if err != nil {
			break
		}
		written = written || id == u.Write
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

// afterWrite tells with an error of a read that what comes before it is written.
func afterWrite(err error) error {
	known := new(store.Error)
	if !errors.As(err, &known) {
		return err
	}
	told := *known
	told.Msg = msgWritten + known.Msg
	return &told
}

// sequence returns the fetches of a unit in the order in which they are made: a removal
// comes last, since what is read of its records is as it was.
func (r *run) sequence(u *plan.Unit, write *plan.Fetch) []int {
	w := write.Reads[0].Write
	if w.Store.Action != store.Remove || w.Given {
		return u.Fetches
	}
	if w.Found == nil {
		r.fetched[write.ID].answer = givenTable(write, r.inputs[write.ID][0].Rows)
	}
	order := slices.DeleteFunc(slices.Clone(u.Fetches), func(id int) bool { return id == u.Write })
	return append(order, u.Write)
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
	for _, id := range u.Fetches {
		if err := r.plan.Fetches[id].Err; err != nil {
			return fail(err)
		}
	}
	r.inputs[write.ID] = sized(r.inputs[write.ID], 1)
	w := write.Reads[0].Write
	rows, err := r.rowsOf(w)
	if err != nil {
		return fail(err)
	}
	r.inputs[write.ID][0] = store.Input{Rows: rows}
	if rows.Len == 0 && w.Found == nil {
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
	if w := f.Reads[0].Write; w == nil {
		inputs, keys, ask := r.gather(f)
		switch {
		case f.Reads[0].Store.Lock && r.badRead[f.Reads[0]] != nil:
			return r.badRead[f.Reads[0]] // by which the records are to be found
		case !ask:
			r.fetched[f.ID].answer = emptyAnswer(f)
			return nil
		}
		r.inputs[f.ID] = inputs
		*made = StoreRequest{Wave: f.Wave, Source: f.Source, Asks: f.Asks, Keys: keys}
	} else {
		if w.Found != nil || w.Above != nil {
			r.inputs[f.ID] = sized(r.inputs[f.ID], 1)
			rows, err := r.rowsOf(w)
			if err != nil {
				return err
			}
			if r.inputs[f.ID][0].Rows = rows; rows.Len == 0 {
				r.fetched[f.ID].answer = emptyAnswer(f)
				return nil
			}
		}
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
	if err := r.tooMany(f, got.answer); err != nil {
		return err
	}
	made.RoundTrips, made.Records = before+got.answer.Requests, got.answer.Records()
	if w := f.Reads[0].Write; w != nil && w.Given {
		got.answer.Tables = givenTable(f, r.inputs[f.ID][0].Rows).Tables
	}
	r.fetched[f.ID].answer = got.answer
	r.countRequests(got.answer.Requests - 1)
	r.countRecords(int64(made.Records))
	if r.stopped != nil {
		return r.stopping()
	}
	return nil
}

// tooMany refuses a write of more records than one field may write.
func (r *run) tooMany(f *plan.Fetch, found *store.Answer) error {
	limit := f.Reads[0].Limit
	if !f.Reads[0].Store.Lock || limit == nil || !limit.Written || r.opts.MaxWrites <= 0 || int64(found.Tables[0].Len) <= r.opts.MaxWrites {
		return nil
	}
	return badArgument(limit, msgTooManyFound, r.opts.MaxWrites)
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

// givenTable returns what a write is given of the columns that it answers with.
func givenTable(f *plan.Fetch, rows *store.Rows) *store.Answer {
	read := f.Reads[0]
	t := store.NewTable(read.Store.Columns)
	for row := range rows.Len {
		t.Len++
		for i := range read.Store.Columns {
			c := &t.Columns[i]
			for k := range read.Write.Values {
				if c.Len() < t.Len && read.Write.Values[k].Path == read.Store.Columns[i].Path && !c.AppendAs(&rows.Columns[k], row) {
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
