package execute

import (
	"context"
	"errors"

	"osprey/core/store"
)

// This file does a mutation once, however often it is sent: under a key that its caller
// chooses. The key is written in the transaction of the mutation, before all else, so that a
// second one with the same key waits for the end of the first; then the answer is kept beside
// it, and with both the transaction ends. What other stores are asked for the answer, they are
// asked while it is open.
//
//	begin · add the key · write · read · other stores · keep the answer · commit
//	begin · add the key: it is taken · undo · read what was answered

// A Once is how a mutation is done once.
type Once struct {
	Source string        // which has the keys, and is written to
	Note   store.Request // adds the key and the fingerprint
	Keep   store.Request // changes the answer, by the key
	Look   store.Request // reads fingerprint and answer, by the key
	Key    string
	// Fingerprint tells mutations apart, so that a key is not used for two.
	Fingerprint string
	// Whole returns the response that a result is.
	Whole func(*Result) []byte
}

// texts are rows of one record, of texts.
func texts(values ...string) *store.Rows {
	rows := &store.Rows{Len: 1}
	for _, v := range values {
		c := store.Column{Kind: store.Text}
		c.AppendText(v)
		rows.Columns = append(rows.Columns, c)
	}
	return rows
}

// note adds the key in a session. It reports whether the mutation is to be done.
func (r *run) note(ctx context.Context, session store.Session) (do bool, err error) {
	once := r.opts.Once
	r.countRequests(1)
	_, err = session.Run(ctx, once.Note, r.opts.Caller, []store.Input{{Rows: texts(once.Key, once.Fingerprint)}})
	known := new(store.Error)
	if !errors.As(err, &known) || known.Broken == nil || known.Broken.Rule != store.Taken {
		return err == nil, err
	}
	session.Rollback()
	keys := store.Column{Kind: store.Text}
	keys.AppendText(once.Key)
	r.countRequests(1)
	a, err := once.Look.Run(ctx, r.opts.Caller, []store.Input{{Keys: []store.Column{keys}}})
	switch {
	case err != nil:
		return false, err
	case a.Tables[0].Len == 0: // the other one was undone
		return false, store.IsConflict(nil)
	case string(a.Tables[0].Columns[1].Text(0)) != once.Fingerprint:
		r.reused = true
	default:
		r.repeated = append([]byte{}, a.Tables[0].Columns[2].Text(0)...)
	}
	return false, nil
}

// keep keeps the answer beside its key, and ends the transaction; false if it was undone.
func (r *run) keep(ctx context.Context) bool {
	session := r.open
	r.open = nil
	defer session.Rollback()
	once := r.opts.Once
	result := &Result{Data: r.buf[len(r.opts.Before):], Errors: r.errs}
	var err error
	if r.stopped != nil {
		err = r.stopping()
	}
	if err == nil {
		r.countRequests(1)
		_, err = session.Run(ctx, once.Keep, r.opts.Caller, []store.Input{{Rows: texts(string(once.Whole(result)), once.Key)}})
	}
	if err == nil {
		err = session.Commit(ctx)
	}
	if err == nil {
		return true
	}
	for _, f := range r.plan.Fetches {
		if f.Unit != nil {
			r.fetched[f.ID] = fetched{err: err}
		}
	}
	r.links = make([]link, len(r.plan.Steps))
	r.visible = make([]visible, len(r.plan.Steps))
	clear(r.expressed)
	clear(r.merges)
	return false
}
