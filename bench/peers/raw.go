package peers

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"net/http"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// rawNames are the queries of a trip, leaves first, so that a record is
// written out once, when what it holds has been.
var rawNames = []string{"operators", "craft", "berths", "pilots", "calls"}

var rawStatements = func() map[string]string {
	const bounded = `(SELECT * FROM (SELECT id, arrived_at, departed_at, purpose, cargo_t, craft_imo, quay_code, berth_number FROM port_calls ORDER BY arrived_at DESC, id LIMIT %d) r LIMIT $1::int8) c`
	texts := map[string]string{
		"operators": `SELECT id, name, country FROM operators WHERE id IN (SELECT operator_id FROM craft WHERE imo IN (SELECT c.craft_imo FROM ` + bounded + `))`,
		"craft":     `SELECT craft_type::text, imo, name, length_m, operator_id FROM craft WHERE imo IN (SELECT c.craft_imo FROM ` + bounded + `)`,
		"berths":    `SELECT quay_code, number, name, length_m FROM berths WHERE (quay_code, number) IN (SELECT c.quay_code, c.berth_number FROM ` + bounded + `)`,
		"pilots":    `SELECT m.call_id, p.id, p.name, p.licence FROM ` + bounded + ` JOIN pilotage m ON m.call_id = c.id JOIN pilots p ON p.id = m.pilot_id ORDER BY m.call_id, p.name, p.id`,
		"calls":     `SELECT id, arrived_at, departed_at, purpose::text, cargo_t::text, craft_imo, quay_code, berth_number FROM ` + bounded + ` ORDER BY arrived_at DESC, id`,
	}
	m := map[string]string{}
	for name, text := range texts {
		for bound := 8; bound <= 1<<14; bound *= 2 {
			m[fmt.Sprint(name, bound)] = fmt.Sprintf(text, bound)
		}
	}
	return m
}()

// A part is where a record stands in the buffer, written out.
type part struct{ from, to int }

// raw sends five statements in one trip, and writes each shared record once.
func raw(ctx context.Context, db *pgxpool.Pool, w http.ResponseWriter, limit int) error {
	conn, err := db.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	bound := fmt.Sprint(1 << bits.Len(uint(max(limit, 8)-1)))
	trip := conn.Conn().PgConn().StartPipeline(ctx)
	arguments := [][]byte{binary.BigEndian.AppendUint64(nil, uint64(limit))}
	for _, name := range rawNames {
		trip.SendQueryPrepared(name+bound, arguments, binaryFormat, binaryFormat)
	}
	if err := trip.Sync(); err != nil {
		return err
	}
	buf, out := buffers.Get().(*buffer), buffers.Get().(*buffer)
	defer buffers.Put(buf)
	defer buffers.Put(out)
	out.b, buf.b, err = readTrip(trip, out.b[:0], buf.b[:0])
	if err = errors.Join(err, trip.Close()); err != nil {
		return err
	}
	_, err = w.Write(out.b)
	return err
}

// readTrip appends the answer to b, with parts as room for shared records.
func readTrip(trip *pgconn.Pipeline, b, parts []byte) (answer, used []byte, err error) {
	operators := map[int32]part{}
	fleet := map[int32]part{}
	berths := map[berthKey]part{}
	pilots := map[int64]part{}
	var lastCall int64
	each := func(row func(v [][]byte)) {
		var results any
		if results, err = next(trip, err); err != nil {
			return
		}
		rows := results.(*pgconn.ResultReader)
		for rows.NextRow() {
			row(rows.Values())
		}
		_, err = rows.Close()
	}
	each(func(v [][]byte) {
		from := len(parts)
		parts = appendOperator(parts, v[0], v[1], v[2])
		operators[int4Of(v[0])] = part{from, len(parts)}
	})
	each(func(v [][]byte) {
		from := len(parts)
		parts = appendCraft(parts, v[0], v[1], v[2], v[3])
		o := operators[int4Of(v[4])]
		parts = append(append(parts, parts[o.from:o.to]...), '}')
		fleet[int4Of(v[1])] = part{from, len(parts)}
	})
	each(func(v [][]byte) {
		from := len(parts)
		parts = appendBerth(parts, v[1], v[2], v[3])
		berths[berthKey{string(v[0]), int4Of(v[1])}] = part{from, len(parts)}
	})
	each(func(v [][]byte) {
		from, call := len(parts), int8Of(v[0])
		if call == lastCall {
			parts = append(parts, ',')
			from = pilots[call].from
		}
		lastCall = call
		parts = appendPilot(parts, v[1], v[2], v[3])
		pilots[call] = part{from, len(parts)}
	})
	b = append(b, `{"data":{"portCalls":[`...)
	first := true
	each(func(v [][]byte) {
		if !first {
			b = append(b, ',')
		}
		first = false
		b = appendCall(b, v[0], v[1], v[2], v[3], v[4])
		c := fleet[int4Of(v[5])]
		b = append(append(b, `,"craft":`...), parts[c.from:c.to]...)
		b = append(b, `,"berth":`...)
		if v[6] == nil {
			b = append(b, "null"...)
		} else {
			p := berths[berthKey{string(v[6]), int4Of(v[7])}]
			b = append(b, parts[p.from:p.to]...)
		}
		p := pilots[int8Of(v[0])]
		b = append(append(b, `,"pilots":[`...), parts[p.from:p.to]...)
		b = append(b, "]}"...)
	})
	return append(b, "]}}\n"...), parts, err
}

// next returns the rows of the trip's next query.
func next(trip *pgconn.Pipeline, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	results, err := trip.GetResults()
	if err != nil {
		return nil, err
	}
	if _, ok := results.(*pgconn.ResultReader); !ok {
		return nil, errors.New("the trip ended early")
	}
	return results, nil
}
