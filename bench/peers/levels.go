package peers

import (
	"context"
	"net/http"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// levels is the usual good handler: one query per level and record set, keys
// gathered in between, structs linked in maps, encoding/json at the end.
func levels(ctx context.Context, db *pgxpool.Pool, w http.ResponseWriter, limit int) error {
	conn, err := db.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	calls, err := latestCalls(ctx, conn.Conn(), limit)
	if err != nil {
		return err
	}
	ids, imos := make([]int64, 0, len(calls)), make([]int32, 0, len(calls))
	var quays []string
	var numbers []int32
	byID := make(map[int64]*portCall, len(calls))
	seenCraft, seenBerths := map[int32]bool{}, map[berthKey]bool{}
	for _, c := range calls {
		ids = append(ids, c.ID)
		byID[c.ID] = c
		if !seenCraft[c.craftIMO] {
			seenCraft[c.craftIMO] = true
			imos = append(imos, c.craftIMO)
		}
		if c.quayCode != nil {
			if k := (berthKey{*c.quayCode, *c.berthNumber}); !seenBerths[k] {
				seenBerths[k] = true
				quays, numbers = append(quays, k.quay), append(numbers, k.number)
			}
		}
	}
	rows, err := conn.Query(ctx, `SELECT `+craftFields+` FROM craft WHERE imo = ANY ($1)`, imos)
	if err != nil {
		return err
	}
	fleet, err := scanCraft(rows)
	if err != nil {
		return err
	}
	var operatorIDs []int32
	seenOperators := map[int32]bool{}
	for _, c := range fleet {
		if !seenOperators[c.operatorID] {
			seenOperators[c.operatorID] = true
			operatorIDs = append(operatorIDs, c.operatorID)
		}
	}
	rows, err = conn.Query(ctx, `SELECT `+operatorFields+` FROM operators WHERE id = ANY ($1)`, operatorIDs)
	if err != nil {
		return err
	}
	operators, err := scanOperators(rows)
	if err != nil {
		return err
	}
	rows, err = conn.Query(ctx, `SELECT `+berthFields+` FROM berths WHERE (quay_code, number) IN (SELECT * FROM unnest($1::text[], $2::int[]))`, quays, numbers)
	if err != nil {
		return err
	}
	berths, err := scanBerths(rows)
	if err != nil {
		return err
	}
	rows, err = conn.Query(ctx, `SELECT m.call_id, p.id, p.name, p.licence FROM pilotage m JOIN pilots p ON p.id = m.pilot_id WHERE m.call_id = ANY ($1) ORDER BY p.name, p.id`, ids)
	if err != nil {
		return err
	}
	if err := scanPilots(rows, byID); err != nil {
		return err
	}
	link(calls, fleet, operators, berths)
	return write(w, calls)
}

func latestCalls(ctx context.Context, conn *pgx.Conn, limit int) ([]*portCall, error) {
	rows, err := conn.Query(ctx, `SELECT `+callFields+` FROM port_calls ORDER BY arrived_at DESC, id LIMIT $1`, limit)
	if err != nil {
		return nil, err
	}
	return scanCalls(rows)
}

func scanCalls(rows pgx.Rows) ([]*portCall, error) {
	defer rows.Close()
	var calls []*portCall
	for rows.Next() {
		c := &portCall{}
		if err := rows.Scan(c.scanned()...); err != nil {
			return nil, err
		}
		c.finish()
		calls = append(calls, c)
	}
	return calls, rows.Err()
}

func scanCraft(rows pgx.Rows) (map[int32]*craft, error) {
	defer rows.Close()
	fleet := map[int32]*craft{}
	for rows.Next() {
		c := &craft{}
		if err := rows.Scan(c.scanned()...); err != nil {
			return nil, err
		}
		c.Type = craftTypes[c.Type]
		fleet[c.IMO] = c
	}
	return fleet, rows.Err()
}

func scanOperators(rows pgx.Rows) (map[int32]*operator, error) {
	defer rows.Close()
	operators := map[int32]*operator{}
	for rows.Next() {
		o := &operator{}
		if err := rows.Scan(o.scanned()...); err != nil {
			return nil, err
		}
		operators[o.ID] = o
	}
	return operators, rows.Err()
}

func scanBerths(rows pgx.Rows) (map[berthKey]*berth, error) {
	defer rows.Close()
	berths := map[berthKey]*berth{}
	for rows.Next() {
		b, quay := &berth{}, ""
		if err := rows.Scan(&quay, &b.Number, &b.Name, &b.LengthM); err != nil {
			return nil, err
		}
		berths[berthKey{quay, b.Number}] = b
	}
	return berths, rows.Err()
}

// scanPilots gives each pilot to the call that the row names.
func scanPilots(rows pgx.Rows, calls map[int64]*portCall) error {
	defer rows.Close()
	for rows.Next() {
		p := &pilot{}
		var call int64
		if err := rows.Scan(&call, &p.ID, &p.Name, &p.Licence); err != nil {
			return err
		}
		if c := calls[call]; c != nil {
			c.Pilots = append(c.Pilots, p)
		}
	}
	return rows.Err()
}

// link puts the related objects where they belong.
func link(calls []*portCall, fleet map[int32]*craft, operators map[int32]*operator, berths map[berthKey]*berth) {
	for _, c := range fleet {
		c.Operator = operators[c.operatorID]
	}
	for _, c := range calls {
		c.Craft = fleet[c.craftIMO]
		if c.quayCode != nil {
			c.Berth = berths[berthKey{*c.quayCode, *c.berthNumber}]
		}
	}
}
