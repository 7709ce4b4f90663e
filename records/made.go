package records

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"osprey/core/traffic"
)

// This file keeps what stores were asked for operations, and the last errors of each.

// madeRow is a store request as the statement takes it; times are milliseconds.
type madeRow struct {
	Age       float64 `json:"age"` // seconds
	Operation string  `json:"operation"`
	Request   int     `json:"request"`
	Wave      int     `json:"wave"`
	Source    string  `json:"source"`
	Asks      string  `json:"asks"`
	Asked     int64   `json:"asked"`
	Failed    int64   `json:"failed"`
	Requests  int64   `json:"requests"`
	Keys      int64   `json:"keys"`
	Records   int64   `json:"records"`
	Bytes     int64   `json:"bytes"`
	Began     float64 `json:"began"`
	Took      float64 `json:"took"`
	Most      float64 `json:"most"`
}

type sampleRow struct {
	Age       float64 `json:"age"` // seconds
	Operation string  `json:"operation"`
	Client    string  `json:"client"`
	Code      string  `json:"code"`
	Message   string  `json:"message"`
	Path      string  `json:"path"`
	Source    string  `json:"source"`
	Request   string  `json:"request"`
	Took      float64 `json:"took"`
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// madeOf returns the store requests and samples of a batch, in JSON.
func madeOf(b *Batch) (made, samples []byte, err error) {
	requests, errors := []madeRow{}, []sampleRow{}
	for key, e := range b.Entries {
		operation := hex.EncodeToString(key.Operation[:])
		for r, m := range e.Made {
			requests = append(requests, madeRow{b.Ages[key.Slot].Seconds(), operation, r.ID, r.Wave, plain(r.Source), plain(r.Asks),
				m.Asked, m.Failed, m.Requests, m.Keys, m.Records, m.Bytes, millis(m.At), millis(m.Took), millis(m.Most)})
		}
		for _, s := range e.Samples {
			errors = append(errors, sampleRow{time.Since(s.At).Seconds(), operation, plain(key.Client), plain(s.Code), plain(s.Message), plain(s.Path), plain(s.Source), plain(s.Request), millis(s.Took)})
		}
	}
	if made, err = json.Marshal(requests); err != nil {
		return nil, nil, err
	}
	samples, err = json.Marshal(errors)
	return made, samples, err
}

// writeMade adds store requests and samples to what is kept, at the end of a transaction.
func writeMade(ctx context.Context, tx *sqlx.Tx, made, samples []byte) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO osprey.made AS m (hour, operation, request, wave, source, asks, asked, failed, requests, keys, records, bytes, began, took, most)
		SELECT date_trunc('hour', now() - age * interval '1 second'), decode(operation, 'hex'), request, max(wave), source, asks,
			sum(asked), sum(failed), sum(requests), sum(keys), sum(records), sum(bytes), sum(began), sum(took), max(most)
		FROM json_to_recordset($1::json) AS x(age float, operation text, request int, wave int, source text, asks text,
			asked bigint, failed bigint, requests bigint, keys bigint, records bigint, bytes bigint, began float, took float, most float)
		GROUP BY 1, 2, 3, 5, 6 ORDER BY 1, 2, 3, 5, 6
		ON CONFLICT (operation, hour, request, source, asks) DO UPDATE SET wave = excluded.wave, asked = m.asked + excluded.asked, failed = m.failed + excluded.failed,
			requests = m.requests + excluded.requests, keys = m.keys + excluded.keys, records = m.records + excluded.records, bytes = m.bytes + excluded.bytes,
			began = m.began + excluded.began, took = m.took + excluded.took, most = greatest(m.most, excluded.most)`, string(made)); err != nil {
		return err
	}
	if string(samples) == "[]" {
		return nil
	}
	// One service after the other: two that remove the same ones in another order would wait for each other.
	if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtext('osprey.samples'))"); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO osprey.samples (at, operation, client, code, message, path, source, request, took)
		SELECT now() - age * interval '1 second', decode(operation, 'hex'), client, code, message, path, source, request, took
		FROM json_to_recordset($1::json) AS x(age float, operation text, client text, code text, message text, path text, source text, request text, took float) ORDER BY age DESC`, string(samples)); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM osprey.samples WHERE id IN (
		SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY operation, code ORDER BY at DESC, id DESC) AS n FROM osprey.samples
			WHERE operation IN (SELECT decode(operation, 'hex') FROM json_to_recordset($1::json) AS x(operation text))) s WHERE n > $2)`, string(samples), traffic.MostSamples)
	return err
}

// A MadeRequest is a store request of an operation, as it usually is; times are milliseconds.
type MadeRequest struct {
	ID       int     `db:"request" json:"id"` // in the plan
	Wave     int     `db:"wave" json:"wave"`
	Source   string  `db:"source" json:"source"`
	Asks     string  `db:"asks" json:"asks"`
	Asked    int64   `db:"asked" json:"asked"` // answers for which it was made
	Failed   int64   `db:"failed" json:"failed"`
	Requests float64 `db:"requests" json:"requests"` // on average, as what follows
	Keys     float64 `db:"keys" json:"keys"`
	Records  float64 `db:"records" json:"records"`
	Bytes    float64 `db:"bytes" json:"bytes"` // of the values of the records
	At       float64 `db:"began" json:"at"`    // when it began, since the first could
	Millis   float64 `db:"took" json:"ms"`
	Most     float64 `db:"most" json:"most"` // the longest that it took
}

// A Sample is an error of an answer, without values of callers.
type Sample struct {
	At      time.Time `db:"at" json:"at"`
	Client  string    `db:"client" json:"client"`
	Code    string    `db:"code" json:"code"`
	Message string    `db:"message" json:"message"`
	Path    string    `db:"path" json:"path,omitempty"` // in JSON
	Source  string    `db:"source" json:"source,omitempty"`
	Request string    `db:"request" json:"request"` // the id of the caller's request, by which the log is searched
	Took    float64   `db:"took" json:"ms"`
}

// An HourOf is how an operation was asked in one hour; times are milliseconds.
type HourOf struct {
	Hour
	Requests int64   `json:"requests"` // store requests
	P50      float64 `json:"p50"`
	P95      float64 `json:"p95"`
}

// One is what is known of one operation within a time.
type One struct {
	Made    []MadeRequest `json:"made"`
	Samples []Sample      `json:"samples"` // the last first
	Hours   []HourOf      `json:"hours"`
}

// One returns what is known of an operation within a time before now; the zero id is of the requests that are not told
// apart.
func (r *Records) One(ctx context.Context, within time.Duration, id traffic.ID) (*One, error) {
	one := &One{Made: []MadeRequest{}, Samples: []Sample{}, Hours: []HourOf{}}
	const since = "operation = $2 AND hour >= date_trunc('hour', now() - $1 * interval '1 second')"
	var hours []struct {
		Hour
		Requests int64
		Times    string
	}
	err := r.reading(ctx, func(ctx context.Context) error {
		if err := r.db.SelectContext(ctx, &one.Made, `SELECT request, wave, source, asks, asked, failed, requests / n AS requests, keys / n AS keys, records / n AS records,
				bytes / n AS bytes, began / n AS began, took / n AS took, most
			FROM (SELECT request, max(wave) AS wave, source, asks, sum(asked) AS asked, sum(failed) AS failed, sum(requests)::float8 AS requests, sum(keys)::float8 AS keys,
					sum(records)::float8 AS records, sum(bytes)::float8 AS bytes, sum(began) AS began, sum(took) AS took, max(most) AS most, greatest(sum(asked), 1)::float8 AS n
				FROM osprey.made WHERE `+since+` GROUP BY request, source, asks) m ORDER BY wave, request`, within.Seconds(), id[:]); err != nil {
			return err
		}
		if err := r.db.SelectContext(ctx, &one.Samples, `SELECT at, client, code, message, path, source, request, took FROM osprey.samples
			WHERE operation = $2 AND at >= now() - $1 * interval '1 second' ORDER BY at DESC, id DESC`, within.Seconds(), id[:]); err != nil {
			return err
		}
		return r.db.SelectContext(ctx, &hours, `SELECT hour, sum(asked) AS asked, sum(failed) AS failed, sum(requests) AS requests, to_json(osprey.total(times))::text AS times, `+hourCodes("e.operation = $2")+` AS codes
			FROM osprey.traffic t WHERE `+since+` GROUP BY hour ORDER BY hour`, within.Seconds(), id[:])
	})
	for _, h := range hours {
		var counts []int64
		var times traffic.Times
		if err := json.Unmarshal([]byte(h.Times), &counts); err != nil {
			return nil, err
		}
		copy(times[:], counts)
		one.Hours = append(one.Hours, HourOf{h.Hour, h.Requests, millis(times.Quantile(0.5)), millis(times.Quantile(0.95))})
	}
	return one, err
}
