package execute

import (
	"context"
	"errors"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file makes a write and the reading of its answer in one breath, where a session can.

// ahead makes a write and the read behind it in one breath, if the session can, and nothing but
// the keys of what is written goes into the read; else the error is of the kind
// [errors.ErrUnsupported].
func (r *run) ahead(ctx context.Context, session store.Session, write, f *plan.Fetch) error {
	a, ok := session.(store.Ahead)
	w := write.Reads[0]
	rows := r.inputs[write.ID][0].Rows
	// known says that what is given tells the keys.
	known := w.Write.Given || w.Write.Store.Action == store.Change && w.Write.Found == nil
	if !ok || rows == nil || !known && w.Write.Store.Action != store.Add || w.Write.Above != nil {
		return errors.ErrUnsupported
	}
	for i, read := range f.Reads {
		switch {
		case i > 0 && read.Store.Parent >= 0:
		case i > 0 || read.Write != nil || len(read.Feeds) != 1:
			return errors.ErrUnsupported
		default:
			if feed := &read.Feeds[0]; feed.Rows.Step.Read != w || feed.Is != nil || feed.Picked != nil || len(feed.Rows.Path) > 0 {
				return errors.ErrUnsupported
			}
		}
	}
	if known {
		r.fetched[write.ID].answer = givenTable(write, rows)
	}
	inputs, _, ask := r.gather(f)
	r.fetched[write.ID].answer = nil
	if known && !ask {
		return errors.ErrUnsupported
	}
	for _, read := range f.Reads {
		if r.badRead[read] != nil {
			return errors.ErrUnsupported // which is told where it is read
		}
	}
	r.inputs[f.ID] = inputs
	if !r.countRequests(2) {
		return r.stopping()
	}
	before := [2]int{r.made[write.ID].RoundTrips, r.made[f.ID].RoundTrips}
	var answers [2]*store.Answer
	var failed error
	var keys []int
	if !known {
		keys = f.Reads[0].Feeds[0].Columns
	}
	both := []*plan.Fetch{write, f}
	for i, one := range both {
		got := r.askOf(ctx, one, func() (*store.Answer, error) {
			if i == 0 {
				answers[0], answers[1], failed = a.RunAhead(ctx, write.Request, rows, f.Request, inputs, keys)
			}
			if answers[i] == nil && failed == nil {
				return nil, errors.New("an answer of two is missing")
			}
			if answers[i] == nil {
				return nil, failed
			}
			return answers[i], nil
		})
		if i == 0 && errors.Is(failed, errors.ErrUnsupported) {
			r.countRequests(-2)
			return failed
		}
		made := &r.made[one.ID]
		*made = requestOf(one, 0)
		made.At, made.Time, made.Err, made.RoundTrips = got.at, got.time, got.err, before[i]+1
		if got.err != nil {
			return got.err
		}
		if i == 0 && w.Write.Given {
			got.answer.Tables = givenTable(write, rows).Tables
		}
		made.Records = got.answer.Records()
		r.fetched[one.ID].answer = got.answer
		r.countRecords(int64(made.Records))
	}
	r.made[write.ID].Keys = keysOf(write, rows)
	r.made[f.ID].Keys = answers[0].Tables[0].Len
	if r.stopped != nil {
		return r.stopping()
	}
	return nil
}
