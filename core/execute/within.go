package execute

import (
	"context"
	"errors"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file calls functions that take part in the transaction of a write.

// uncallable returns why a function that takes part cannot be called: of a record that it is to
// be called for, something that it needs could not be had.
func (r *run) uncallable(read *plan.Read) error {
	if read.Call == nil {
		return nil
	}
	for _, err := range r.called[read.Call].failed {
		return err
	}
	return r.badRead[read]
}

// callWithin calls the function of a fetch in a session. If it fails for one of its calls, it
// fails as a whole, and with it the session.
func (r *run) callWithin(ctx context.Context, session store.Session, f *plan.Fetch) (a *store.Answer, err error) {
	sharing, ok := session.(store.Sharing)
	if !ok {
		return nil, errors.New("a session in which no function can take part")
	}
	err = sharing.Share(ctx, func(tx any) error {
		var err error
		if a, err = f.Request.Run(store.WithTx(ctx, tx), r.opts.Caller, r.inputs[f.ID]); err != nil {
			return failedWithin(f, err)
		}
		for i, t := range a.Tables {
			for call := range t.Len {
				if t.Failed[call] != nil {
					return r.refusal(f.Reads[i].Call, call, t.Failed[call])
				}
			}
		}
		return nil
	})
	return a, err
}

// failedWithin tells of which source an error is, where that is not the store's or a refusal.
func failedWithin(f *plan.Fetch, err error) error {
	known := new(store.Error)
	if errors.As(err, &known) && (known.Code == store.Refused || known.Code == store.Function) {
		return err
	}
	code, msg := describe(f, err)
	return &told{code, f.Source, msg}
}

// refusal says of which of the records that are written a call fails.
func (r *run) refusal(s *plan.Step, call int, err error) error {
	known := new(store.Error)
	if !errors.As(err, &known) || known.Code != store.Refused {
		return err
	}
	own := *known
	for row, n := range r.called[s].of {
		if int(n) == call {
			own.Row = row + 1
			break
		}
	}
	return &own
}
