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

// statement returns a statement, which it prepares if it has not been; then check looks at
// the columns that it will have.
func (p *prepared) statement(ctx context.Context, conn *pgconn.PgConn, text string, check func([]pgconn.FieldDescription) error) (*pgconn.StatementDescription, error) {
	if statement, ok := p.known.Get(text); ok {
		return statement, nil
	}
	p.named++
	statement, err := conn.Prepare(ctx, fmt.Sprintf("osprey_%d", p.named), text, nil)
	if err != nil {
		return nil, err
	}
	if err := check(statement.Fields); err != nil {
		return nil, errors.Join(err, conn.Deallocate(ctx, statement.Name))
	}
	p.known.Add(text, statement)
	for _, name := range p.old {
		if err := conn.Deallocate(ctx, name); err != nil {
			return nil, err
		}
	}
	p.old = p.old[:0]
	return statement, nil
}

// run runs a statement.
func (p *prepared) run(ctx context.Context, conn *pgconn.PgConn, text string, args [][]byte, check func([]pgconn.FieldDescription) error, row func([][]byte) error) error {
	statement, err := p.statement(ctx, conn, text, check)
	if err != nil {
		return err
	}
	rows := conn.ExecStatement(ctx, statement, args, binaryForm, binaryForm)
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
	if !isStale(err) {
		return false
	}
	if d, ok := p.known.Peek(text); ok {
		p.known.Remove(text)
		p.old = p.old[:0]
		return conn.Deallocate(ctx, d.Name) == nil || codeOf(err) == unknownStatement
	}
	return false
}

const unknownStatement = "26000" // invalid_sql_statement_name

// isStale reports whether a database says that a prepared statement no longer holds: that
// it does not know it, or that its columns would be others.
func isStale(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && (refused.Code == unknownStatement || refused.Code == "0A000" && refused.Routine == "RevalidateCachedQuery")
}

// codeOf returns PostgreSQL's code of an error, or "".
func codeOf(err error) string {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return refused.Code
	}
	return ""
}
