package peers

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/bits"
	"net/http"

	"github.com/jackc/pgx/v5/pgxpool"
)

// unionStatements has one statement for each power of two that a limit can be
// rounded up to: a bound in the text lets the database plan for it.
var unionStatements = func() map[string]string {
	m := map[string]string{}
	for bound := 8; bound <= 1<<14; bound *= 2 {
		m[fmt.Sprint("union", bound)] = fmt.Sprintf(unionBoard, bound)
	}
	return m
}()

// What is at most one for each call is joined to it; the pilots are a branch
// of their own, with the number of their call.
const unionBoard = `
WITH c AS MATERIALIZED (
  SELECT row_number() OVER () AS o, q.* FROM (
    SELECT * FROM (SELECT id, arrived_at, departed_at, purpose, cargo_t, craft_imo, quay_code, berth_number FROM port_calls ORDER BY arrived_at DESC, id LIMIT %d) r
    LIMIT $1::int8) q)
SELECT 0, c.o, c.id, c.arrived_at, c.departed_at, c.purpose::text, c.cargo_t::text,
       f.craft_type::text, f.imo, f.name, f.length_m, o.id, o.name, o.country, b.number, b.name, b.length_m
  FROM c JOIN craft f ON f.imo = c.craft_imo
  JOIN operators o ON o.id = f.operator_id
  LEFT JOIN berths b ON b.quay_code = c.quay_code AND b.number = c.berth_number
UNION ALL
(SELECT 1, c.o, NULL, NULL, NULL, NULL, NULL, NULL, p.id, p.name, NULL, NULL, p.licence, NULL, NULL, NULL, NULL
  FROM c JOIN pilotage m ON m.call_id = c.id JOIN pilots p ON p.id = m.pilot_id ORDER BY c.o, p.name, p.id)`

// union is one statement whose rows are appended as they come.
func union(ctx context.Context, db *pgxpool.Pool, w http.ResponseWriter, limit int) error {
	conn, err := db.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	name := fmt.Sprint("union", 1<<bits.Len(uint(max(limit, 8)-1)))
	rows := conn.Conn().PgConn().ExecPrepared(ctx, name, [][]byte{binary.BigEndian.AppendUint64(nil, uint64(limit))}, binaryFormat, binaryFormat)
	buf := buffers.Get().(*buffer)
	defer buffers.Put(buf)
	calls, pilots := buf.b[:0], buf.more[:0]
	// Where the part of each call ends in calls, and of its pilots in pilots.
	// The rows of a branch come in their order, those of calls in any.
	callEnds := make([][2]int, limit)
	pilotEnds := make([][2]int, limit)
	n := 0
	for rows.NextRow() {
		v := rows.Values()
		i := int8Of(v[1]) - 1
		if int4Of(v[0]) == 1 {
			if pilotEnds[i][1] == 0 {
				pilotEnds[i][0] = len(pilots)
			} else {
				pilots = append(pilots, ',')
			}
			pilots = appendPilot(pilots, v[8], v[9], v[12])
			pilotEnds[i][1] = len(pilots)
			continue
		}
		n++
		callEnds[i][0] = len(calls)
		calls = appendCall(calls, v[2], v[3], v[4], v[5], v[6])
		calls = append(calls, `,"craft":`...)
		calls = appendCraft(calls, v[7], v[8], v[9], v[10])
		calls = appendOperator(calls, v[11], v[12], v[13])
		calls = append(calls, `},"berth":`...)
		if v[14] == nil {
			calls = append(calls, "null"...)
		} else {
			calls = appendBerth(calls, v[14], v[15], v[16])
		}
		calls = append(calls, `,"pilots":[`...)
		callEnds[i][1] = len(calls)
	}
	buf.b, buf.more = calls, pilots
	if _, err := rows.Close(); err != nil {
		return err
	}
	out := buffers.Get().(*buffer)
	defer buffers.Put(out)
	b := append(out.b[:0], `{"data":{"portCalls":[`...)
	for i := range n {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, calls[callEnds[i][0]:callEnds[i][1]]...)
		b = append(b, pilots[pilotEnds[i][0]:pilotEnds[i][1]]...)
		b = append(b, "]}"...)
	}
	b = append(b, "]}}\n"...)
	out.b = b
	_, err = w.Write(b)
	return err
}

var binaryFormat = []int16{1}
