package demo

import (
	"context"
	"math/rand/v2"
	"time"

	"github.com/jackc/pgx/v5"
)

// Live has craft come in and leave, one of both every so often, past the service: the registry is written to as by
// another program. It ends with ctx.
func (h *Harbour) Live(ctx context.Context, every time.Duration, failed func(error)) {
	for ctx.Err() == nil {
		err := h.live(ctx, every)
		if ctx.Err() == nil {
			failed(err)
		}
		wait(ctx, 5*time.Second)
	}
}

// live writes over one connection, until that or ctx ends.
func (h *Harbour) live(ctx context.Context, every time.Duration) error {
	conn, err := pgx.Connect(ctx, h.RegistryURL)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	for wait(ctx, every) {
		statement := arrives
		if rand.IntN(2) == 0 {
			statement = leaves
		}
		if _, err := conn.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// wait waits, and reports whether ctx goes on.
func wait(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// A craft that is not here comes to a berth that is free, and one that has been here the longest leaves.
const (
	arrives = `INSERT INTO port_calls (craft_imo, quay_code, berth_number, arrived_at, purpose, cargo_t)
		SELECT c.imo, b.quay_code, b.number, date_trunc('second', now()), (ARRAY['load', 'unload', 'bunker']::call_purpose[])[1 + floor(random() * 3)], round((100 + random() * 20000)::numeric, 1)
		FROM (SELECT imo FROM craft c WHERE NOT EXISTS (SELECT FROM port_calls p WHERE p.craft_imo = c.imo AND p.departed_at IS NULL) ORDER BY random() LIMIT 1) c,
			(SELECT quay_code, number FROM berths b WHERE NOT EXISTS (SELECT FROM port_calls p WHERE (p.quay_code, p.berth_number) = (b.quay_code, b.number) AND p.departed_at IS NULL) ORDER BY random() LIMIT 1) b`
	leaves = `UPDATE port_calls SET departed_at = date_trunc('second', now())
		WHERE id = (SELECT id FROM port_calls WHERE departed_at IS NULL ORDER BY arrived_at LIMIT 1)`
)
