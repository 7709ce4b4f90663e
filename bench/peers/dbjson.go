package peers

import (
	"context"
	"fmt"
	"math/bits"
	"net/http"

	"github.com/jackc/pgx/v5/pgxpool"
)

// databaseJSON lets the database build the whole answer. The limit's next
// power of two stands in the text, which lets the database plan for it while
// texts stay few; as a parameter alone it is slower at one call and no faster
// at many.
func databaseJSON(ctx context.Context, db *pgxpool.Pool, w http.ResponseWriter, limit int) error {
	text := fmt.Sprintf(databaseBoard, 1<<bits.Len(uint(max(limit, 8)-1)))
	var body []byte
	if err := db.QueryRow(ctx, text, limit).Scan(&body); err != nil {
		return err
	}
	_, err := w.Write(body)
	return err
}

const databaseBoard = `
SELECT json_build_object('data', json_build_object('portCalls', COALESCE(json_agg(json_build_object(
  'id', c.id::text,
  'arrivedAt', to_char(c.arrived_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"'),
  'departedAt', to_char(c.departed_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"'),
  'purpose', CASE c.purpose WHEN 'load' THEN 'LOADING' WHEN 'unload' THEN 'UNLOADING' WHEN 'bunker' THEN 'BUNKERING' WHEN 'passengers' THEN 'PASSENGERS' ELSE 'REPAIR' END,
  'cargoT', c.cargo_t::text,
  'craft', json_build_object(
    '__typename', CASE f.craft_type WHEN 'cargo' THEN 'CargoShip' WHEN 'tanker' THEN 'Tanker' WHEN 'ferry' THEN 'Ferry' ELSE 'Tug' END,
    'imo', f.imo::text, 'name', f.name, 'lengthM', f.length_m,
    'operator', json_build_object('id', o.id::text, 'name', o.name, 'country', o.country)),
  'berth', CASE WHEN b.number IS NOT NULL THEN json_build_object('number', b.number, 'name', b.name, 'lengthM', b.length_m) END,
  'pilots', p.list) ORDER BY c.arrived_at DESC, c.id), '[]')))
FROM (SELECT * FROM (SELECT * FROM port_calls ORDER BY arrived_at DESC, id LIMIT %d) q LIMIT $1) c
JOIN craft f ON f.imo = c.craft_imo
JOIN operators o ON o.id = f.operator_id
LEFT JOIN berths b ON b.quay_code = c.quay_code AND b.number = c.berth_number
CROSS JOIN LATERAL (
  SELECT COALESCE(json_agg(json_build_object('id', p.id::text, 'name', p.name, 'licence', p.licence) ORDER BY p.name, p.id), '[]') AS list
  FROM pilotage m JOIN pilots p ON p.id = m.pilot_id WHERE m.call_id = c.id) p`
