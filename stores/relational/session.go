package relational

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/stdlib"

	"osprey/core/store"
)

// This file has the sessions of databases: a transaction on a connection of its own.

// A session is a transaction.
type session struct {
	source *Source
	conn   *sql.Conn // nil when it is over
	begun  bool      // the database knows of the transaction
	failed bool      // a request failed, so that nothing can be committed
	last   *write    // that was run
	step   int64     // by which the database counts on; 0 if nobody has asked
}

// begin begins a session.
func (s *Source) begin(ctx context.Context, _ *store.Caller) (store.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	pool, err := s.dialect.writing.pool(s)
	if err != nil {
		return nil, s.fail(ctx, err)
	}
	for attempt := 0; ; attempt++ {
		conn, err := pool.Conn(ctx)
		if err != nil {
			return nil, s.fail(ctx, err)
		}
		x := &session{source: s, conn: conn}
		if s.dialect.union != nil { // which begins with its first request
			return x, nil
		}
		if err = x.first(ctx); err == nil {
			return x, nil
		}
		x.drop()
		if ctx.Err() != nil || attempt == s.pool { // others may be dead since the database was restarted
			return nil, s.fail(ctx, err)
		}
	}
}

// first begins the transaction.
func (x *session) first(ctx context.Context) error {
	_, err := x.conn.ExecContext(ctx, x.source.dialect.writing.begin())
	x.begun = err == nil
	return err
}

// begins begins the transaction, if it has not, on another connection if this one is dead.
func (x *session) begins(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, x.source.timeout)
	defer cancel()
	for attempt := 0; !x.begun; attempt++ {
		err := x.first(ctx)
		if err == nil {
			return nil
		}
		if ctx.Err() != nil || attempt == x.source.pool {
			return err
		}
		if err := x.replace(ctx); err != nil {
			return err
		}
	}
	return nil
}

// replace takes another connection for one that is dead.
func (x *session) replace(ctx context.Context) error {
	pool, err := x.source.dialect.writing.pool(x.source)
	if err != nil {
		return err
	}
	x.drop()
	x.conn, err = pool.Conn(ctx)
	return err
}

// errOver is the error of a request behind the end of its session.
var errOver = &store.Error{Code: store.BadAnswer, Msg: "has ended the transaction", Err: errors.New("a request behind the end of its session")}

func (x *session) lend(_ context.Context, use func(own any) error) error { return x.conn.Raw(use) }

func (x *session) free() bool { return false }

// Run runs a request in the transaction.
func (x *session) Run(ctx context.Context, r store.Request, _ *store.Caller, in []store.Input) (a *store.Answer, err error) {
	if x.conn == nil || x.failed {
		return nil, errOver
	}
	if err := x.begins(ctx); err != nil {
		x.failed = true
		return nil, x.source.fail(ctx, err)
	}
	switch r := r.(type) {
	case *request:
		a, err = r.runOn(ctx, x, in)
	case *write:
		x.last = r
		a, err = r.runOn(ctx, x, in[0].Rows)
	default:
		return nil, fmt.Errorf("a request of the type %T, which is another source's", r)
	}
	x.failed = err != nil
	return a, err
}

// Commit ends the transaction.
func (x *session) Commit(ctx context.Context) error {
	if x.failed || x.conn == nil {
		x.Rollback()
		return &store.Error{Code: store.BadAnswer, Msg: "has undone the transaction", Err: errors.New("a commit behind a failure")}
	}
	if !x.begun {
		x.Rollback()
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, x.source.timeout)
	defer cancel()
	err := x.source.dialect.writing.commit(ctx, x.conn)
	if err != nil {
		x.drop()
		return x.unsure(ctx, err)
	}
	x.conn.Close()
	x.conn = nil
	return nil
}

// unsure returns the error of a commit that failed. Where the database did not answer it,
// nobody knows whether it was done.
func (x *session) unsure(ctx context.Context, err error) error {
	w := x.source.dialect.writing
	if w.conflict(err) {
		return store.IsConflict(err)
	}
	if x.last != nil { // a rule that is looked at in the end
		if broken := w.broken(err, x.last.set, x.last.catalogue, x.last.Action); broken != nil {
			return x.last.refused(broken, err)
		}
	}
	known := new(store.Error)
	if err = x.source.fail(ctx, err); errors.As(err, &known) && (known.Code == store.Down || known.Code == store.Timeout || known.Code == store.Cancelled) {
		return &store.Error{Code: known.Code, Msg: "broke off at the end of the change, and nobody knows whether it is made: read the records before it is sent again", Err: err}
	}
	return err
}

// rollbackTime is how long undoing may take: it is done also when nobody waits any more.
const rollbackTime = 2 * time.Second

// Rollback undoes the transaction. If the database does not say that it has, the
// connection is closed, with which it does.
func (x *session) Rollback() {
	if x.conn == nil {
		return
	}
	if !x.begun {
		x.conn.Close()
		x.conn = nil
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), rollbackTime)
	defer cancel()
	if _, err := x.conn.ExecContext(ctx, "ROLLBACK"); err != nil {
		x.drop()
		return
	}
	x.conn.Close()
	x.conn = nil
}

// drop closes the connection for good.
func (x *session) drop() {
	x.conn.Raw(func(any) error { return driver.ErrBadConn })
	x.conn.Close()
	x.conn = nil
}

// run runs a statement and hands its rows, if it gives any, to row. It returns how many
// records it found. One that is often sent alike is kept prepared where that helps.
func (x *session) run(ctx context.Context, text string, args []any, gives, often bool, row func([][]byte) error) (found int64, err error) {
	lent := x.lend(ctx, func(own any) error {
		if pg, ok := own.(*stdlib.Conn); ok {
			found, err = runPostgres(ctx, pg.Conn().PgConn(), text, args, often, row)
			return nil
		}
		conn := own.(driverConn)
		named := make([]driver.NamedValue, len(args))
		for i, v := range args {
			named[i] = driver.NamedValue{Ordinal: i + 1, Value: v}
		}
		if !gives {
			var result driver.Result
			if result, err = conn.ExecContext(ctx, text, named); err == nil {
				found, err = result.RowsAffected()
			}
			return nil
		}
		var rows driver.Rows
		if rows, err = conn.QueryContext(ctx, text, named); err != nil {
			return nil
		}
		err = collect(ctx, rows, func(values [][]byte) error {
			found++
			return row(values)
		})
		err = errors.Join(err, rows.Close())
		return nil
	})
	if err == nil {
		err = lent
	}
	return found, err
}
