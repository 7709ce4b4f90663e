package peers

import (
	"context"
	"fmt"
	"math/bits"
	"net/http"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// latest selects the calls of the board; every query of a pipelined trip
// starts from it, so that none has to wait for another's keys. The limit's next
// power of two stands in the text, so that the database can plan for it and
// keep the plan.
const latest = `(SELECT * FROM (SELECT ` + rawCallFields + ` FROM port_calls ORDER BY arrived_at DESC, id LIMIT %d) q LIMIT $1) c`

const rawCallFields = `id, arrived_at, departed_at, purpose, cargo_t, craft_imo, quay_code, berth_number`

// pipelined sends the queries of all levels in one trip.
func pipelined(ctx context.Context, db *pgxpool.Pool, w http.ResponseWriter, limit int) error {
	conn, err := db.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	var calls []*portCall
	var fleet map[int32]*craft
	var operators map[int32]*operator
	var berths map[berthKey]*berth
	latest := fmt.Sprintf(latest, 1<<bits.Len(uint(max(limit, 8)-1)))
	batch := &pgx.Batch{}
	batch.Queue(`SELECT `+callFields+` FROM `+latest+` ORDER BY arrived_at DESC, id`, limit).
		Query(func(rows pgx.Rows) (err error) { calls, err = scanCalls(rows); return err })
	batch.Queue(`SELECT `+craftFields+` FROM craft WHERE imo IN (SELECT c.craft_imo FROM `+latest+`)`, limit).
		Query(func(rows pgx.Rows) (err error) { fleet, err = scanCraft(rows); return err })
	batch.Queue(`SELECT `+operatorFields+` FROM operators WHERE id IN (SELECT operator_id FROM craft WHERE imo IN (SELECT c.craft_imo FROM `+latest+`))`, limit).
		Query(func(rows pgx.Rows) (err error) { operators, err = scanOperators(rows); return err })
	batch.Queue(`SELECT `+berthFields+` FROM berths WHERE (quay_code, number) IN (SELECT c.quay_code, c.berth_number FROM `+latest+`)`, limit).
		Query(func(rows pgx.Rows) (err error) { berths, err = scanBerths(rows); return err })
	batch.Queue(`SELECT m.call_id, p.id, p.name, p.licence FROM `+latest+` JOIN pilotage m ON m.call_id = c.id JOIN pilots p ON p.id = m.pilot_id ORDER BY p.name, p.id`, limit).
		Query(func(rows pgx.Rows) error {
			byID := make(map[int64]*portCall, len(calls))
			for _, c := range calls {
				byID[c.ID] = c
			}
			return scanPilots(rows, byID)
		})
	if err := conn.SendBatch(ctx, batch).Close(); err != nil {
		return err
	}
	link(calls, fleet, operators, berths)
	return write(w, calls)
}
