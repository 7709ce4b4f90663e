package peers

import (
	"context"
	"net/http"

	"github.com/jackc/pgx/v5/pgxpool"
)

// nested asks for each related object when it meets it: what code does whose
// author trusts that the objects are few.
func nested(ctx context.Context, db *pgxpool.Pool, w http.ResponseWriter, limit int) error {
	conn, err := db.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	calls, err := latestCalls(ctx, conn.Conn(), limit)
	if err != nil {
		return err
	}
	for _, c := range calls {
		c.Craft = &craft{Operator: &operator{}}
		err := conn.QueryRow(ctx, `SELECT `+craftFields+` FROM craft WHERE imo = $1`, c.craftIMO).Scan(c.Craft.scanned()...)
		if err != nil {
			return err
		}
		c.Craft.Type = craftTypes[c.Craft.Type]
		err = conn.QueryRow(ctx, `SELECT `+operatorFields+` FROM operators WHERE id = $1`, c.Craft.operatorID).Scan(c.Craft.Operator.scanned()...)
		if err != nil {
			return err
		}
		if c.quayCode != nil {
			c.Berth = &berth{}
			err := conn.QueryRow(ctx, `SELECT number, name, length_m FROM berths WHERE quay_code = $1 AND number = $2`, c.quayCode, c.berthNumber).
				Scan(&c.Berth.Number, &c.Berth.Name, &c.Berth.LengthM)
			if err != nil {
				return err
			}
		}
		rows, err := conn.Query(ctx, `SELECT p.id, p.name, p.licence FROM pilots p JOIN pilotage m ON m.pilot_id = p.id WHERE m.call_id = $1 ORDER BY p.name, p.id`, c.ID)
		if err != nil {
			return err
		}
		for rows.Next() {
			p := &pilot{}
			if err := rows.Scan(&p.ID, &p.Name, &p.Licence); err != nil {
				return err
			}
			c.Pilots = append(c.Pilots, p)
		}
		if err := rows.Err(); err != nil {
			return err
		}
	}
	return write(w, calls)
}
