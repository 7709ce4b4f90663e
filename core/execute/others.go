package execute

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file writes what a root field writes in other sources than its own: each has a session,
// which ends before that of the field. So if something fails, what is in the field's own source
// is undone, and the error tells what is there all the same.

// others is the session of the other source that is written to just now.
type others struct {
	run     *run
	unit    *plan.Unit
	source  string
	session store.Session // nil if none is open
	types   []string      // of what is written in it
}

// write makes a write of another source, in the session of that.
func (o *others) write(ctx context.Context, f *plan.Fetch, writing *store.Writing) error {
	if o.source != f.Source {
		if err := o.end(ctx); err != nil {
			return err
		}
	}
	if o.session == nil {
		session, err := writing.Begin(ctx, o.run.opts.Caller)
		if err != nil {
			return &half{err: err, source: f.Source}
		}
		o.source, o.session = f.Source, session
	}
	if err := o.run.inSession(ctx, o.session, f); err != nil {
		return &half{err: err, source: f.Source}
	}
	if o.run.fetched[f.ID].answer.Records() == 0 {
		return nil
	}
	if typ := f.Reads[0].Write.Type; writing.Apart {
		o.run.elsewhere = append(o.run.elsewhere, typ)
	} else {
		o.types = append(o.types, typ)
	}
	return nil
}

// end ends the session, if one is open.
func (o *others) end(ctx context.Context) error {
	if o.session == nil {
		return nil
	}
	session := o.session
	o.session = nil
	if err := session.Commit(ctx); err != nil {
		return &half{err: err, source: o.source}
	}
	o.run.elsewhere = append(o.run.elsewhere, o.types...)
	o.types = nil
	return nil
}

// undo undoes what is in the session, if one is open.
func (o *others) undo() {
	if o.session != nil {
		o.session.Rollback()
	}
}

// A half is the error of a field that is not one transaction.
type half struct {
	err     error
	source  string   // where it failed; "" where the field writes
	written []string // the types of what is there all the same
}

// Error returns the message for operators.
func (h *half) Error() string { return h.err.Error() }

// Unwrap returns the error itself.
func (h *half) Unwrap() error { return h.err }

// half adds to an error what is written all the same.
func (r *run) half(err error) error {
	if len(r.elsewhere) == 0 {
		return err
	}
	var types []string
	for _, t := range r.elsewhere {
		if !slices.Contains(types, t) {
			types = append(types, t)
		}
	}
	own, isHalf := err.(*half)
	if !isHalf {
		own = &half{err: err}
	}
	own.written = types
	return own
}

// rest says what is written all the same; "" for nothing.
func (h *half) rest() string {
	if h == nil || len(h.written) == 0 {
		return ""
	}
	return fmt.Sprintf(msgHalf, strings.Join(h.written, " and "))
}
