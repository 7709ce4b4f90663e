package osprey

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"

	"osprey/core/store"
	"osprey/stores/functions"
)

// A Tx is the transaction of a write, of a relational database. Its methods are those of
// database/sql, with the placeholders of the database ($1 of PostgreSQL, ? of the others). It is
// Osprey that ends the transaction: a function that does so itself fails.
type Tx interface {
	ExecContext(ctx context.Context, statement string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, statement string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, statement string, args ...any) *sql.Row
}

// Within makes a function for root fields with @within(by: name), which takes part in the
// transaction of what they write: it is called when that is written, and, of a removal, before
// it. What it writes by tx is done with the rest, or not at all. If it returns an error, nothing
// is done, and the error's message is shown to callers; [Errors] say of which calls, and so of
// which records, of several. There is a call for each record that is written, each different
// one once.
//
// Where another change is in the way, the transaction is begun again, and the function called
// again. All else is as of [Func].
func Within[Record, Args any](name string, f func(ctx context.Context, tx Tx, calls []Call[Record, Args]) error) Function {
	return Function{name, functions.Func{
		Check: func(s store.Signature) error {
			if !s.Within {
				return errors.New("it takes part in transactions, and gives nothing: name it in @within, beside a directive that writes")
			}
			s.Result = &store.ValueType{}
			return checkSignature(s, reflect.TypeFor[Record](), reflect.TypeFor[Args](), reflect.TypeFor[None]())
		},
		Call: func(ctx context.Context, inputs [][]byte) ([]functions.Result, error) {
			tx, ok := store.TxOf(ctx).(Tx)
			if !ok {
				return nil, fmt.Errorf("the transaction is none that %s can take part in", name)
			}
			calls, err := callsOf[Record, Args](inputs)
			if err != nil {
				return nil, err
			}
			return refused(len(inputs), tx, f(ctx, tx, calls))
		},
	}}
}

// refused returns of each call whether it is refused.
func refused(calls int, tx Tx, err error) ([]functions.Result, error) {
	if noted, ok := tx.(interface{ Failed(error) }); ok {
		noted.Failed(err)
	}
	list := make([]functions.Result, calls)
	for i := range list {
		list[i].JSON = json.RawMessage("null")
	}
	var some Errors
	if errors.As(err, &some) {
		for i, failed := range some {
			if i < 0 || i >= calls {
				return nil, refusal(failed)
			}
			list[i] = functions.Result{Err: refusal(failed)}
		}
		return list, nil
	}
	if err != nil {
		return nil, refusal(err)
	}
	return list, nil
}

// refusal is the error of a function that says why something is not to be done.
func refusal(err error) error {
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return &store.Error{Code: store.Refused, Msg: err.Error(), Err: err}
}
