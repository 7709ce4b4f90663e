package execute

import (
	"context"
	"errors"
	"fmt"
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

// unit runs the fetches of a unit, and of those that are joined to it.
func (r *run) unit(ctx context.Context, first *plan.Unit) {
	units := append([]*plan.Unit{first}, first.Joined...)
	var err error
	for attempt := 1; ; attempt++ {
		var conflict bool
		if conflict, err = r.attempt(ctx, units); !conflict || attempt == maxAttempts || ctx.Err() != nil {
			break
		}
		select { // the other one is to end first
		case <-ctx.Done():
		case <-time.After(time.Duration(attempt*attempt) * 5 * time.Millisecond):
		}
	}
	for _, u := range units {
		if u.Field.Null.NonNull && (err != nil || r.lacks(u.Field)) {
			r.halted = true // null cuts back all data: what follows is not done (section 6.4.4)
		}
		for _, id := range u.Fetches {
			r.release(r.plan.Fetches[id])
		}
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

// attempt runs the fetches of units in a session. It reports whether another one was in
// the way.
func (r *run) attempt(ctx context.Context, units []*plan.Unit) (conflict bool, err error) {
	some := false
	r.elsewhere = r.elsewhere[:0]
	r.forget(units)
	for _, u := range units {
		for _, id := range u.Fetches {
			r.fetched[id] = fetched{}
		}
		writes, err := r.resolve(u)
		if err != nil {
			return false, r.undo(units, u, err)
		}
		some = some || writes
	}
	if !some {
		return false, nil
	}
	first := r.plan.Fetches[units[0].Write]
	session, err := units[0].Writing.Begin(ctx, r.opts.Caller)
	if err != nil {
		made := &r.made[first.ID]
		*made = requestOf(first, keysOf(first, r.inputs[first.ID][0].Rows))
		made.RoundTrips, made.Err = 1, err
		return false, r.undo(units, units[0], err)
	}
	defer func() {
		if r.open != session {
			session.Rollback()
		}
	}()
	if r.opts.Once != nil {
		if do, err := r.note(ctx, session); !do {
			if err == nil {
				return false, nil // it was done already
			}
			known := new(store.Error)
			return errors.As(err, &known) && known.Code == store.Conflict, r.undo(units, units[0], err)
		}
	}
	failed := units[0]
	for _, u := range units {
		if err = r.inUnit(ctx, session, u); err == nil {
			err = r.heldToRules(u)
		}
		if err != nil {
			failed = u
			break
		}
	}
	switch {
	case err == nil && r.opts.Once != nil:
		r.open = session // until the answer is kept
	case err == nil:
		err = session.Commit(ctx)
		r.made[first.ID].Err = err
	}
	if err == nil {
		r.wrote = append(r.wrote, r.wroteIn(units)...)
		return false, nil
	}
	if err = r.half(err); len(r.elsewhere) > 0 {
		return false, r.undo(units, failed, err)
	}
	var known *store.Error
	return errors.As(err, &known) && known.Code == store.Conflict && known.Broken == nil, r.undo(units, failed, err)
}

// forget forgets what is known of the rows of units, of an attempt before.
func (r *run) forget(units []*plan.Unit) {
	for _, s := range r.plan.Steps {
		if u := s.Read.Fetch.Unit; u != nil && slices.Contains(units, u) {
			r.links[s.ID], r.visible[s.ID] = link{}, visible{}
		}
	}
	clear(r.expressed)
}

// undo makes an error that of a unit, and tells the others that they are undone with it.
func (r *run) undo(units []*plan.Unit, failed *plan.Unit, err error) error {
	for _, u := range units {
		own := err
		if u != failed {
			own = &told{code: Undone, msg: fmt.Sprintf(msgUndone, u.Field.Name, failed.Field.Name)}
		}
		for _, id := range u.Fetches {
			r.fetched[id] = fetched{err: own}
		}
	}
	return err
}

// inUnit makes the requests of a unit in a session.
func (r *run) inUnit(ctx context.Context, session store.Session, u *plan.Unit) error {
	write := r.plan.Fetches[u.Write]
	if r.fetched[write.ID].answer != nil {
		return nil // there is nothing to write
	}
	written := false
	order := r.sequence(u, write)
	others := &others{run: r, unit: u}
	defer others.undo()
	for len(order) > 0 {
		id := order[0]
		if own := u.Others[id]; own != nil {
			if err := others.write(ctx, r.plan.Fetches[id], own); err != nil {
				return err
			}
			order = order[1:]
			continue
		}
		if err := others.end(ctx); err != nil {
			return err
		}
		if order = order[1:]; id == u.Write && len(order) > 0 {
			err := r.ahead(ctx, session, write, r.plan.Fetches[order[0]])
			if !errors.Is(err, errors.ErrUnsupported) {
				if err != nil {
					return err
				}
				written, order = true, order[1:]
				continue
			}
		}
		err := r.inSession(ctx, session, r.plan.Fetches[id])
		w := r.plan.Fetches[id].Reads[0].Write
		if err == nil && w != nil && u.Writing.Apart && r.fetched[id].answer.Records() > 0 {
			r.elsewhere = append(r.elsewhere, w.Type)
		}
		switch {
		case err != nil && written && w == nil && u.Writing.Apart: // what is written stays, and what was read of it is told
			r.fetched[id] = fetched{err: afterWrite(err)}
		case err != nil:
			return err
		}
		written = written || id == u.Write
	}
	return others.end(ctx)
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

// resolve resolves what a unit writes, as far as that is known before it begins; false where
// there is nothing to write.
func (r *run) resolve(u *plan.Unit) (some bool, err error) {
	for _, id := range u.Fetches {
		f := r.plan.Fetches[id]
		if f.Err != nil && f.Reads[0].Call != nil {
			return false, failedWithin(f, f.Err)
		}
		if f.Err != nil {
			return false, f.Err
		}
	}
	if u.Field.Allow != nil && !r.allows(u.Field.Allow, nil, 0) {
		return false, &told{code: Denied, msg: fmt.Sprintf(msgDenied, u.Field.At)}
	}
	write := r.plan.Fetches[u.Write]
	r.inputs[write.ID] = sized(r.inputs[write.ID], 1)
	w := write.Reads[0].Write
	rows, err := r.rowsOf(w)
	if err != nil {
		return false, err
	}
	r.inputs[write.ID][0] = store.Input{Rows: rows}
	if rows.Len > 0 || w.Found != nil {
		return true, nil
	}
	for _, id := range u.Fetches {
		r.fetched[id].answer = emptyAnswer(r.plan.Fetches[id])
	}
	return false, nil
}

// inSession makes the request of a fetch in a session.
func (r *run) inSession(ctx context.Context, session store.Session, f *plan.Fetch) error {
	made := &r.made[f.ID]
	before := made.RoundTrips // of attempts that met another change
	if w := f.Reads[0].Write; w == nil {
		inputs, keys, ask := r.gather(f)
		for _, read := range f.Reads {
			if err := r.uncallable(read); err != nil {
				return err
			}
		}
		switch {
		case f.Reads[0].Store.Lock && r.badRead[f.Reads[0]] != nil:
			return r.badRead[f.Reads[0]] // by which the records are to be found
		case !ask:
			r.fetched[f.ID].answer = emptyAnswer(f)
			return nil
		}
		r.inputs[f.ID] = inputs
		*made = requestOf(f, keys)
		if f.Reads[0].Call != nil {
			made.Keys, made.Calls = 0, keys
		}
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
		*made = requestOf(f, keysOf(f, r.inputs[f.ID][0].Rows))
	}
	if !r.countRequests(1) {
		return r.stopping()
	}
	got := r.askOf(ctx, f, func() (*store.Answer, error) {
		if f.Reads[0].Call != nil {
			return r.callWithin(ctx, session, f)
		}
		return session.Run(ctx, f.Request, r.opts.Caller, r.inputs[f.ID])
	})
	made.At, made.Time, made.Err, made.RoundTrips = got.at, got.time, got.err, before+1
	if got.err != nil {
		return got.err
	}
	if err := r.tooMany(f, got.answer); err != nil {
		return err
	}
	r.onlyAllowed(f, got.answer)
	made.RoundTrips, made.Records, made.Bytes = before+got.answer.Requests, got.answer.Records(), got.answer.Size()
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
