package store

import (
	"context"
	"errors"
	"fmt"
	"net"
)

// A Code says in what way a store failed. Programs may rely on it.
type Code string

const (
	Down      Code = "STORE_DOWN"    // it cannot be reached
	Timeout   Code = "STORE_TIMEOUT" // it did not answer within its deadline
	Busy      Code = "STORE_BUSY"    // it has, or is given, no time for the request
	BadAnswer Code = "STORE_ANSWER"  // it answered something that makes no sense here
	Changed   Code = "STORE_CHANGED" // it no longer holds what its catalogue told
	BadValue  Code = "BAD_VALUE"     // a value cannot be stored or compared there
	Cancelled Code = "CANCELLED"     // nobody waits for the answer any more
	BadWrite  Code = "CONSTRAINT"    // a write breaks a rule of the store
	Conflict  Code = "CONFLICT"      // a write met another one, and nothing of it is done
	Refused   Code = "REFUSED"       // a function in the transaction of a write returned an error
)

// An Error is the failure of a request to a store.
type Error struct {
	Code Code
	Msg  string // for callers: no statement, no address, no secret
	Err  error  // for the log; may be nil
	// Broken is, of BadWrite, the rule that is broken.
	Broken *Broken
	// Row is, of Refused, which of the records that are written is refused, from 1; 0 of all.
	Row int
}

// Error returns what operators read: the message and the cause.
func (e *Error) Error() string {
	if e.Err == nil {
		return e.Msg
	}
	return e.Msg + ": " + e.Err.Error()
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// Fail makes an [*Error] of whatever a driver returned. Errors of the network
// mean that the store is down; what is none of the known kinds is a
// [BadAnswer] with the message msg.
func Fail(ctx context.Context, err error, msg string) *Error {
	var own *Error
	if errors.As(err, &own) {
		return own
	}
	var network net.Error
	switch {
	case errors.Is(context.Cause(ctx), context.Canceled):
		return &Error{Code: Cancelled, Msg: "the request was cancelled", Err: err}
	case errors.Is(err, context.DeadlineExceeded), ctx.Err() != nil, errors.As(err, &network) && network.Timeout():
		return &Error{Code: Timeout, Msg: "did not answer within its time limit", Err: err}
	case errors.As(err, &network):
		return &Error{Code: Down, Msg: "cannot be reached", Err: err}
	}
	return &Error{Code: BadAnswer, Msg: msg, Err: err}
}

// Behind adds to the error of a record how many records of the same list are written before it, by
// a store that has no transactions.
func Behind(err error, n int) error {
	known := new(Error)
	switch {
	case n == 0 || !errors.As(err, &known):
	case known.Broken != nil:
		known.Broken.Before = n
	default:
		known.Msg += fmt.Sprintf("; the first %d of the list are written", n)
	}
	return err
}

// DefaultMaxRecords is how many records a source takes in one answer if nothing
// else is configured.
const DefaultMaxRecords = 1_000_000

// TooMany is the error of an answer that has more records than a source takes.
func TooMany(limit int) error {
	return &Error{Code: BadAnswer, Msg: fmt.Sprintf("answered more than %d records, which is the limit; ask for less, or raise maxRecords in osprey.yaml", limit)}
}

// DefaultMaxAnswer is how many bytes a source takes in one answer if nothing else
// is configured.
const DefaultMaxAnswer = 64 << 20

// TooLarge is the error of an answer that has more bytes than a source takes.
func TooLarge(limit int64) error {
	return &Error{Code: BadAnswer, Msg: fmt.Sprintf("answered more than %s, which is the limit; ask for less, or raise maxAnswer in osprey.yaml", Bytes(limit))}
}

// HasChanged is the error of a store that no longer holds what its catalogue told.
func HasChanged(cause error) *Error {
	return &Error{Code: Changed, Msg: "no longer holds what the schema is bound to; it is looked at again", Err: cause}
}

// IsConflict is the error of a write that met another one at the same records.
func IsConflict(cause error) *Error {
	return &Error{Code: Conflict, Msg: "is being changed by another one at the same time", Err: cause}
}

// NotReady is the error of a store whose catalogue is not known, since it has
// not answered or does not hold what the schema says; cause is why.
func NotReady(cause error) *Error {
	return &Error{Code: Down, Msg: "is not ready since the service started; it is tried again every few seconds", Err: cause}
}
