package relational

import (
	"context"
	"errors"
	"fmt"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5/pgconn"
)

// This file keeps the prepared statements of a connection. The driver's raw
// interface is used, since its own cache of statements comes with a conversion
// of each argument, and an allocation for each.

// maxPrepared bounds the prepared statements of one connection: the one that
// was not used for the longest time goes first.
const maxPrepared = 256

// prepared is the statements that are prepared on one connection.
type prepared struct {
	known *lru.Cache[string, *pgconn.StatementDescription]
	named int
	old   []string // names that are no longer wanted
}

// statementsOf returns what is prepared on a connection. It is kept with the
// connection, and used by whoever holds it.
func statementsOf(conn *pgconn.PgConn) *prepared {
	const key = "osprey statements"
	if p, ok := conn.CustomData()[key].(*prepared); ok {
		return p
	}
	p := &prepared{}
	var err error
	p.known, err = lru.NewWithEvict(maxPrepared, func(_ string, d *pgconn.StatementDescription) { p.old = append(p.old, d.Name) })
	if err != nil {
		panic(err) // only for a size below 1
	}
	conn.CustomData()[key] = p
	return p
}

var binaryForm = []int16{1}

// run runs a statement, which it prepares if it has not been; then check looks at
// the columns that it will have.
func (p *prepared) run(ctx context.Context, conn *pgconn.PgConn, text string, args [][]byte, check func([]pgconn.FieldDescription) error, row func([][]byte) error) error {
	statement, ok := p.known.Get(text)
	if !ok {
		p.named++
		var err error
		if statement, err = conn.Prepare(ctx, fmt.Sprintf("osprey_%d", p.named), text, nil); err != nil {
			return err
		}
		if err := check(statement.Fields); err != nil {
			return errors.Join(err, conn.Deallocate(ctx, statement.Name))
		}
		p.known.Add(text, statement)
		for _, name := range p.old {
			if err := conn.Deallocate(ctx, name); err != nil {
				return err
			}
		}
		p.old = p.old[:0]
	}
	rows := conn.ExecStatement(ctx, statement, args, binaryForm, binaryForm)
	var err error
	for err == nil && rows.NextRow() {
		err = row(rows.Values())
	}
	if isCut(err) {
		conn.Conn().Close() // the rest is not waited for; closing the rows would
	}
	_, closed := rows.Close()
	return errors.Join(err, closed)
}

// forget drops a statement whose preparation no longer holds: the tables have
// changed, or something between dropped it. It reports whether to try again.
func (p *prepared) forget(ctx context.Context, conn *pgconn.PgConn, text string, err error) bool {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		return false
	}
	switch refused.Code {
	case "0A000", "26000": // "cached plan must not change result type", invalid_sql_statement_name
	default:
		return false
	}
	if d, ok := p.known.Peek(text); ok {
		p.known.Remove(text)
		p.old = p.old[:0]
		return conn.Deallocate(ctx, d.Name) == nil || refused.Code == "26000"
	}
	return false
}
