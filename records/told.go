package records

import (
	"context"

	"osprey/stores/signal"
)

// This file lets services tell each other what they have written: package relay uses it. What is new is told by snapshots, as
// stores/relational/outbox.go explains it.

// toldChannel is that on which services say that there is something.
const toldChannel = "osprey_told"

// A Teller carries texts between the services that share the records.
type Teller struct {
	records *Records
	seen    string // the snapshot of what was received
}

// Teller returns what carries texts between services.
func (r *Records) Teller() *Teller { return &Teller{records: r} }

// Send sends a text to all, which is kept for some minutes.
func (t *Teller) Send(ctx context.Context, body []byte) error {
	r := t.records
	return r.reading(ctx, func(ctx context.Context) error {
		_, err := r.db.ExecContext(ctx, `WITH old AS (DELETE FROM osprey.told WHERE id IN (SELECT id FROM osprey.told WHERE at < clock_timestamp() - interval '10 minutes' ORDER BY id LIMIT 1000 FOR UPDATE SKIP LOCKED)),
			own AS (INSERT INTO osprey.told (body) VALUES ($1) RETURNING id)
			SELECT pg_notify('`+toldChannel+`', '') FROM own`, string(body))
		return err
	})
}

// Receive calls heard with each text that is sent, until ctx or the connection ends.
func (t *Teller) Receive(ctx context.Context, began func(), heard func(body []byte)) error {
	r := t.records
	if err := r.Prepare(ctx); err != nil {
		return err
	}
	config := r.config.Copy()
	config.RuntimeParams["application_name"] = "osprey records, listening"
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	err := signal.Listen(ctx, config, toldChannel, func() {
		if err := t.read(ctx, heard); err != nil {
			cancel(err)
			return
		}
		began()
	}, nil)
	if why := context.Cause(ctx); why != nil {
		err = why
	}
	return told(err)
}

// read reads what was sent since.
func (t *Teller) read(ctx context.Context, heard func(body []byte)) error {
	r := t.records
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if t.seen == "" {
		return r.db.GetContext(ctx, &t.seen, "SELECT pg_current_snapshot()::text")
	}
	rows, err := r.db.QueryContext(ctx, `SELECT pg_current_snapshot()::text, coalesce(m.body::text, '') FROM (SELECT) one
		LEFT JOIN (SELECT * FROM osprey.told WHERE xid >= pg_snapshot_xmin($1::pg_snapshot) AND NOT pg_visible_in_snapshot(xid, $1::pg_snapshot)) m ON true ORDER BY m.id`, t.seen)
	if err != nil {
		return err
	}
	defer rows.Close()
	now := t.seen
	for rows.Next() {
		var body string
		if err := rows.Scan(&now, &body); err != nil {
			return err
		}
		if body != "" {
			heard([]byte(body))
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	t.seen = now
	return nil
}
