package relational

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"osprey/core/store"
)

// This file writes records and reads their answer in one round trip, with the beginning of the
// transaction: PostgreSQL takes statements one behind the other without an answer to each. Of
// a change the keys are known; those of new records, which nobody here knows yet, are handed
// from one statement to the next in settings of the transaction:
//
//	BEGIN
//	WITH w AS (INSERT INTO "pilots" ("name") VALUES ($1) RETURNING "id")
//	  SELECT "id", (SELECT set_config('osprey.k0', array_agg("id")::text, true) FROM w) FROM w
//	SELECT … FROM "pilots" t0 WHERE t0."id" = ANY (current_setting('osprey.k0')::int8[])

// setting is the name of the setting that hands the n-th field of a key on.
func setting(n int) string { return fmt.Sprintf("osprey.k%d", n) }

// handed returns the form of a request whose keys are handed on to it.
func (r *request) handed() *form {
	if f := r.ahead.Load(); f != nil {
		return f
	}
	own := *(*r.forms.Load())[0].layout
	own.handed = true
	f := newForm(&own)
	r.ahead.Store(f)
	return f
}

// handsOn reports whether a request reads by nothing but the keys of one read.
func (r *request) handsOn(keys int) bool {
	for i, read := range r.reads {
		if i == 0 && len(read.Keys) != keys || i > 0 && read.Parent < 0 || i == 0 && read.Columns[read.Keys[0]].Kind == store.List {
			return false
		}
	}
	return true
}

// RunAhead runs a write and a request that reads by the columns of its Returning that keys
// names. It is an error of the kind [errors.ErrUnsupported], and nothing is done, where they
// cannot go together.
func (x *session) RunAhead(ctx context.Context, w store.Request, rows *store.Rows, r store.Request, in []store.Input, keys []int) (written, read *store.Answer, err error) {
	own, isWrite := w.(*write)
	request, isRead := r.(*request)
	if !isWrite || !isRead || x.source.dialect.union == nil || own.upTo(rows, 0) < rows.Len {
		return nil, nil, errors.ErrUnsupported
	}
	if keys != nil && (own.Action != store.Add || len(own.returns) == 0 || !request.handsOn(len(keys))) {
		return nil, nil, errors.ErrUnsupported
	}
	if x.conn == nil || x.failed {
		return nil, nil, errOver
	}
	ctx, cancel := context.WithTimeout(ctx, x.source.timeout)
	defer cancel()
	x.last = own
	for row := range rows.Len {
		if err := own.check(rows, row); err != nil {
			x.failed = true
			return nil, nil, err
		}
	}
	for attempt := 0; ; attempt++ {
		p := &pipelined{write: own, request: request, rows: rows, in: in, keys: keys, begins: !x.begun}
		var dead bool
		lent := x.lend(ctx, func(conn any) error {
			pg := conn.(*stdlib.Conn).Conn().PgConn()
			p.run(ctx, pg)
			dead = pg.IsClosed()
			return nil
		})
		switch {
		case lent != nil:
			p.err = lent
		case dead && !x.begun && ctx.Err() == nil && attempt < x.source.pool && !p.cut: // nothing can have ended the transaction
			if err := x.replace(ctx); err != nil {
				return nil, nil, x.source.fail(ctx, err)
			}
			continue
		}
		x.begun = true
		if p.err == nil && p.found == 0 && len(own.Expect) > 0 {
			p.err, p.wrote = own.outdated(ctx, x, rows, 0, p.written), false
		}
		if p.err == nil {
			p.collector.answer.Requests = 1
			return p.written, &p.collector.answer, nil
		}
		x.failed = true
		if isStale(p.err) { // the tables have changed: all of it is begun again
			return nil, nil, store.IsConflict(p.err)
		}
		if p.wrote {
			return p.written, nil, request.readFailed(ctx, p.err, p.collector)
		}
		return nil, nil, own.fail(ctx, p.err)
	}
}

// readFailed turns an error of a read into one of the port.
func (r *request) readFailed(ctx context.Context, err error, c *collector) error {
	switch {
	case errors.Is(err, errTooMany):
		return store.TooMany(c.most)
	case errors.Is(err, errTooLarge):
		return store.TooLarge(c.mostBytes)
	}
	return r.source.fail(ctx, err)
}

// A pipelined is a write and a read while they are run.
type pipelined struct {
	write   *write
	request *request
	rows    *store.Rows
	in      []store.Input
	keys    []int
	begins  bool // the transaction begins with it

	written   *store.Answer
	collector *collector
	found     int64 // records that the write found
	wrote     bool  // the write went well
	cut       bool  // the answer of the read was cut off
	err       error
}

// run sends both statements and reads what they answer.
func (p *pipelined) run(ctx context.Context, conn *pgconn.PgConn) {
	known := statementsOf(conn)
	text, f := p.write.statement(p.rows, 0, p.rows.Len), (*p.request.forms.Load())[0]
	if p.keys != nil {
		text, f = p.write.handing(p.rows, p.keys), p.request.handed()
	}
	first, err := known.statement(ctx, conn, text, func([]pgconn.FieldDescription) error { return nil })
	if err != nil {
		p.err = err
		return
	}
	c := f.runs.Get().(*collector)
	for i := range p.in {
		if c.bounds[i] = 0; p.request.reads[i].Limit {
			c.bounds[i] = round(p.in[i].Limit)
		}
	}
	c.most, c.mostBytes = p.request.source.config.MaxRecords, p.request.source.config.MaxAnswer
	c.begin()
	c.asked = 1
	p.collector = c
	reads := f.text(c.bounds)
	second, err := known.statement(ctx, conn, reads, c.check)
	if err != nil {
		p.err = err
		return
	}
	values := make([][]byte, 0, len(p.rows.Columns))
	for _, v := range p.write.arguments(p.rows, 0, p.rows.Len) {
		text, _ := v.([]byte)
		values = append(values, text)
	}
	pipeline := conn.StartPipeline(ctx)
	if p.begins {
		pipeline.SendQueryParams("BEGIN", nil, nil, nil, nil)
	}
	pipeline.SendQueryPrepared(first.Name, values, nil, binaryForm)
	pipeline.SendQueryPrepared(second.Name, c.arguments.of(f.params, p.in), binaryForm, binaryForm)
	p.err = pipeline.Sync()
	if p.err == nil {
		p.results(pipeline)
	}
	for _, stale := range []string{text, reads} {
		if isStale(p.err) {
			known.known.Remove(stale)
		}
	}
	if p.cut {
		conn.Conn().Close() // the rest is not waited for
	}
	if err := pipeline.Close(); p.err == nil {
		p.err = err
	}
}

// results reads what the statements of a pipeline answer.
func (p *pipelined) results(pipeline *pgconn.Pipeline) {
	next := func(row func([][]byte) error) bool {
		results, err := pipeline.GetResults()
		reader, ok := results.(*pgconn.ResultReader)
		if err == nil && !ok {
			err = fmt.Errorf("a pipeline answers with %T", results)
		}
		if p.err = err; err != nil {
			return false
		}
		for p.err == nil && reader.NextRow() {
			p.err = row(reader.Values())
		}
		if p.cut = isCut(p.err); p.cut {
			return false
		}
		tag, err := reader.Close()
		p.found = tag.RowsAffected()
		p.err = errors.Join(p.err, err)
		return p.err == nil
	}
	if p.begins && !next(func([][]byte) error { return nil }) {
		return
	}
	t := store.NewTable(p.write.Returning)
	p.written = &store.Answer{Tables: []*store.Table{t}, Requests: 1}
	if !next(func(values [][]byte) error { return p.write.row(t, values) }) {
		return
	}
	p.wrote = true
	found := p.found
	if next(p.collector.row) {
		p.err = p.collector.finish()
	}
	p.found = found
}

// handing writes the statement that adds rows, and hands their keys on.
func (r *write) handing(rows *store.Rows, keys []int) string {
	var b strings.Builder
	b.WriteString("WITH w AS (")
	r.insert(&b, rows, 0, rows.Len)
	var names, list []string
	for i := range r.returns {
		names = append(names, r.quoted(r.returns[i].path))
		list = append(list, r.source.dialect.sent(r.quoted(r.returns[i].path), &r.returns[i]))
	}
	b.WriteString(" RETURNING " + strings.Join(names, ", ") + ")\nSELECT " + strings.Join(list, ", "))
	for n, k := range keys {
		b.WriteString(fmt.Sprintf(", (SELECT set_config('%s', array_agg(%s)::text, true) FROM w)", setting(n), names[k]))
	}
	b.WriteString(" FROM w")
	return b.String()
}
