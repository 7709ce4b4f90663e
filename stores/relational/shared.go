package relational

import (
	"context"
	"database/sql"
	"errors"
	"sync/atomic"

	"osprey/core/store"
)

// This file lets functions of the program take part in transactions.

// A shared is a transaction as a function knows it, until it returns.
type shared struct {
	conn     *sql.Conn
	dialect  writeDialect
	over     atomic.Bool
	conflict atomic.Bool // another transaction was in the way
}

// errReturned is the error of a statement behind the end of the function.
var errReturned = errors.New("the function has returned, and takes no part in the transaction any more")

// ExecContext runs a statement in the transaction.
func (t *shared) ExecContext(ctx context.Context, statement string, args ...any) (sql.Result, error) {
	if t.over.Load() {
		return nil, errReturned
	}
	result, err := t.conn.ExecContext(ctx, statement, args...)
	t.Failed(err)
	return result, err
}

// QueryContext runs a statement that gives rows in the transaction.
func (t *shared) QueryContext(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	if t.over.Load() {
		return nil, errReturned
	}
	rows, err := t.conn.QueryContext(ctx, statement, args...)
	t.Failed(err)
	return rows, err
}

// QueryRowContext runs a statement that gives one row in the transaction.
func (t *shared) QueryRowContext(ctx context.Context, statement string, args ...any) *sql.Row {
	if t.over.Load() { // the row's error is that of its context
		ended, cancel := context.WithCancelCause(ctx)
		cancel(errReturned)
		ctx = ended
	}
	return t.conn.QueryRowContext(ctx, statement, args...)
}

// Failed notes an error that the function met, or returned.
func (t *shared) Failed(err error) {
	if err != nil && t.dialect.conflict(err) {
		t.conflict.Store(true)
	}
}

// Share lets a function take part in the transaction. A savepoint before it is gone behind it if
// the function has ended the transaction, or has left it with a statement that failed.
func (x *session) Share(ctx context.Context, use func(tx any) error) error {
	if x.conn == nil || x.failed {
		return errOver
	}
	if err := x.begins(ctx); err != nil {
		x.failed = true
		return x.source.fail(ctx, err)
	}
	if _, err := x.conn.ExecContext(ctx, "SAVEPOINT osprey_within"); err != nil {
		x.failed = true
		return x.source.fail(ctx, err)
	}
	t := &shared{conn: x.conn, dialect: x.source.dialect.writing}
	err := use(t)
	t.over.Store(true)
	if err == nil {
		if _, released := x.conn.ExecContext(ctx, "RELEASE SAVEPOINT osprey_within"); released != nil {
			err = &store.Error{Code: store.BadAnswer, Msg: "has a transaction no more, since the function in it has ended it, or gone on behind a statement that failed: read the records before it is sent again", Err: released}
		}
	}
	x.failed = err != nil
	if err != nil && t.conflict.Load() {
		return store.IsConflict(err)
	}
	return err
}
