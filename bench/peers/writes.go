package peers

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// An Arrival is a port call that is to be written down.
type Arrival struct {
	Craft     int32     `json:"craft"`
	ArrivedAt time.Time `json:"arrivedAt"`
	Purpose   string    `json:"purpose"`
}

// An Arrived is a port call that was written down, with its craft and the craft's operator.
type Arrived struct {
	ID        int64     `json:"id,string"`
	ArrivedAt time.Time `json:"arrivedAt"`
	Craft     struct {
		Name     string `json:"name"`
		Operator struct {
			Name string `json:"name"`
		} `json:"operator"`
	} `json:"craft"`
}

// A Writer is one way to write the handler of POST /arrivals: it writes a list of port calls
// down, as a whole or not at all, and answers each as it is then.
type Writer struct {
	Name, Title string
	Write       func(ctx context.Context, db *pgxpool.Pool, calls []Arrival) ([]Arrived, error)
	// Correct changes what a call was for, and answers it as it is then; nil if it is not there.
	Correct func(ctx context.Context, db *pgxpool.Pool, id int64, purpose string) ([]Arrived, error)
}

// A Correction is a port call whose purpose was written down wrongly.
type Correction struct {
	ID      int64  `json:"id"`
	Purpose string `json:"purpose"`
}

// Writers are the peers of writes, the usual one first.
var Writers = []Writer{
	{"write-levels", "a transaction: the write, and a query for the answer", writeAndRead, correctAndRead},
	{"write-once", "one statement that writes and answers", writeOnce, correctOnce},
}

const (
	insertCalls = `INSERT INTO port_calls (craft_imo, arrived_at, purpose)
SELECT * FROM unnest($1::int[], $2::timestamptz[], $3::text[]::call_purpose[]) RETURNING id, craft_imo, arrived_at`
	writtenFields = `p.id, p.arrived_at, c.name, o.name`
	writtenJoins  = ` p JOIN craft c ON c.imo = p.craft_imo JOIN operators o ON o.id = c.operator_id`
)

// columns turns calls into the parameters of an insert.
func columns(calls []Arrival) []any {
	imos, times, purposes := make([]int32, len(calls)), make([]time.Time, len(calls)), make([]string, len(calls))
	for i, c := range calls {
		imos[i], times[i], purposes[i] = c.Craft, c.ArrivedAt, strings.ToLower(c.Purpose)
	}
	return []any{imos, times, purposes}
}

func writeAndRead(ctx context.Context, db *pgxpool.Pool, calls []Arrival) (list []Arrived, err error) {
	err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, insertCalls, columns(calls)...)
		if err != nil {
			return err
		}
		var ids []int64
		for rows.Next() {
			var id int64
			if err := rows.Scan(&id, nil, nil); err != nil {
				return err
			}
			ids = append(ids, id)
		}
		if err := rows.Err(); err != nil {
			return err
		}
		list, err = arrived(tx.Query(ctx, "SELECT "+writtenFields+" FROM port_calls"+writtenJoins+" WHERE p.id = ANY ($1) ORDER BY p.id", ids))
		return err
	})
	return list, err
}

func writeOnce(ctx context.Context, db *pgxpool.Pool, calls []Arrival) ([]Arrived, error) {
	return arrived(db.Query(ctx, "WITH added AS ("+insertCalls+") SELECT "+writtenFields+" FROM added"+writtenJoins+" ORDER BY p.id", columns(calls)...))
}

const correctCall = "UPDATE port_calls SET purpose = lower($2)::call_purpose WHERE id = $1"

func correctAndRead(ctx context.Context, db *pgxpool.Pool, id int64, purpose string) (list []Arrived, err error) {
	err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, correctCall, id, purpose); err != nil {
			return err
		}
		list, err = arrived(tx.Query(ctx, "SELECT "+writtenFields+" FROM port_calls"+writtenJoins+" WHERE p.id = $1", id))
		return err
	})
	return list, err
}

func correctOnce(ctx context.Context, db *pgxpool.Pool, id int64, purpose string) ([]Arrived, error) {
	return arrived(db.Query(ctx, "WITH changed AS ("+correctCall+" RETURNING *) SELECT "+writtenFields+" FROM changed"+writtenJoins, id, purpose))
}

func arrived(rows pgx.Rows, err error) ([]Arrived, error) {
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (a Arrived, err error) {
		err = row.Scan(&a.ID, &a.ArrivedAt, &a.Craft.Name, &a.Craft.Operator.Name)
		return a, err
	})
}

// Handler serves the peer as [Peer.Handler] does.
func (w *Writer) Handler(db *pgxpool.Pool) http.Handler {
	return handle("POST", func(r *http.Request, out http.ResponseWriter, _ int) error {
		var given struct {
			Calls   []Arrival
			Correct *Correction
		}
		if err := json.NewDecoder(http.MaxBytesReader(out, r.Body, 1<<20)).Decode(&given); err != nil {
			return err
		}
		if c := given.Correct; c != nil {
			list, err := w.Correct(r.Context(), db, c.ID, c.Purpose)
			if err != nil {
				return err
			}
			return json.NewEncoder(out).Encode(map[string]any{"data": map[string]any{"correct": list}})
		}
		list, err := w.Write(r.Context(), db, given.Calls)
		if err != nil {
			return err
		}
		return json.NewEncoder(out).Encode(map[string]any{"data": map[string]any{"arriveAll": list}})
	})
}
