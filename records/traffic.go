package records

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"osprey/core/traffic"
)

// This file keeps what is asked, by the hours of the database's clock: those of services may differ,
// and be set.

// A Batch is what a service has counted. It is written once, however often it is sent.
type Batch struct {
	Instance string // id of the service
	Number   int64  // of this batch: above those before
	Entries  map[traffic.Key]*traffic.Entry
	// Operations are those of the entries, and maybe others.
	Operations map[traffic.ID]*traffic.Operation
	// Ages are how long ago the slots of the entries were.
	Ages map[int64]time.Duration
}

// entryRow is an entry as the statement takes it.
type entryRow struct {
	Age       float64          `json:"age"` // seconds
	Operation string           `json:"operation"`
	Client    string           `json:"client"`
	Asked     int64            `json:"asked"`
	Failed    int64            `json:"failed"`
	Requests  int64            `json:"requests"`
	Records   int64            `json:"records"`
	Times     []int64          `json:"times"`
	Codes     map[string]int64 `json:"codes"`
}

type operationRow struct {
	ID   string   `json:"id"`
	Name string   `json:"name"`
	Kind string   `json:"kind"`
	Text string   `json:"text"`
	Uses []string `json:"uses"`
}

// Write adds a batch to what is kept.
func (r *Records) Write(ctx context.Context, b *Batch) error {
	entries, operations := []entryRow{}, []operationRow{}
	for key, e := range b.Entries {
		row := entryRow{b.Ages[key.Slot].Seconds(), hex.EncodeToString(key.Operation[:]), plain(key.Client), e.Asked, e.Failed, e.Requests, e.Records, e.Times[:], map[string]int64{}}
		for code, n := range e.Codes {
			row.Codes[plain(code)] += n
		}
		for len(row.Times) > 1 && row.Times[len(row.Times)-1] == 0 {
			row.Times = row.Times[:len(row.Times)-1]
		}
		entries = append(entries, row)
	}
	for _, o := range b.Operations {
		operations = append(operations, operationRow{hex.EncodeToString(o.ID[:]), plain(o.Name), string(o.Kind), plain(o.Text), o.Uses})
	}
	made, samples, err := madeOf(b)
	if err != nil {
		return err
	}
	asked, err := json.Marshal(entries)
	if err != nil {
		return err
	}
	known, err := json.Marshal(operations)
	if err != nil {
		return err
	}
	return r.reading(ctx, func(ctx context.Context) error {
		return r.inTransaction(ctx, func(tx *sqlx.Tx) error {
			first, err := tx.ExecContext(ctx, `INSERT INTO osprey.instances (id, name, batch) VALUES ($1::uuid, '', $2)
				ON CONFLICT (id) DO UPDATE SET batch = excluded.batch WHERE instances.batch < excluded.batch`, b.Instance, b.Number)
			if err != nil {
				return err
			}
			if n, err := first.RowsAffected(); err != nil || n == 0 { // it was written, and nobody heard of it
				return err
			}
			// In one order, so that two services are not in each other's way.
			if _, err := tx.ExecContext(ctx, `INSERT INTO osprey.operations (id, name, kind, text, uses)
				SELECT decode(id, 'hex'), name, kind, text, coalesce(uses, '{}') FROM json_to_recordset($1::json) AS x(id text, name text, kind text, text text, uses text[]) ORDER BY id
				ON CONFLICT (id) DO NOTHING`, string(known)); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO osprey.traffic AS t (hour, operation, client, asked, failed, requests, records, times)
				SELECT date_trunc('hour', now() - age * interval '1 second') AS hour, decode(operation, 'hex'), client, sum(asked), sum(failed), sum(requests), sum(records), osprey.total(times)
				FROM json_to_recordset($1::json) AS x(age float, operation text, client text, asked bigint, failed bigint, requests bigint, records bigint, times bigint[])
				GROUP BY 1, 2, 3 ORDER BY 1, 2, 3
				ON CONFLICT (hour, operation, client) DO UPDATE SET asked = t.asked + excluded.asked, failed = t.failed + excluded.failed,
					requests = t.requests + excluded.requests, records = t.records + excluded.records, times = osprey.plus(t.times, excluded.times)`, string(asked)); err != nil {
				return err
			}
			_, err = tx.ExecContext(ctx, `INSERT INTO osprey.errors AS e (hour, operation, client, code, count)
				SELECT date_trunc('hour', now() - age * interval '1 second'), decode(operation, 'hex'), client, key, sum(value::bigint)
				FROM json_to_recordset($1::json) AS x(age float, operation text, client text, codes json), json_each_text(CASE json_typeof(codes) WHEN 'object' THEN codes ELSE '{}' END)
				GROUP BY 1, 2, 3, 4 ORDER BY 1, 2, 3, 4
				ON CONFLICT (hour, operation, client, code) DO UPDATE SET count = e.count + excluded.count`, string(asked))
			if err != nil {
				return err
			}
			return writeMade(ctx, tx, made, samples)
		})
	})
}

// Forget removes what is older than keep, by the database's clock and by now, which is the service's:
// one of them that jumps ahead must not take everything away. It removes services that were not heard
// of for a day, too.
func (r *Records) Forget(ctx context.Context, keep time.Duration, now time.Time) error {
	return r.reading(ctx, func(ctx context.Context) error {
		oldest := now.Add(-keep)
		for _, statement := range []struct {
			text string
			args []any
		}{
			{"DELETE FROM osprey.traffic WHERE hour < least($1, now() - $2 * interval '1 second')", []any{oldest, keep.Seconds()}},
			{"DELETE FROM osprey.errors WHERE hour < least($1, now() - $2 * interval '1 second')", []any{oldest, keep.Seconds()}},
			{"DELETE FROM osprey.made WHERE hour < least($1, now() - $2 * interval '1 second')", []any{oldest, keep.Seconds()}},
			{"DELETE FROM osprey.samples WHERE at < least($1, now() - $2 * interval '1 second')", []any{oldest, keep.Seconds()}},
			{"DELETE FROM osprey.operations o WHERE NOT EXISTS (SELECT FROM osprey.traffic t WHERE t.operation = o.id)", nil},
			{"DELETE FROM osprey.instances WHERE seen < least($1, now()) - interval '1 day'", []any{now}},
		} {
			if _, err := r.db.ExecContext(ctx, statement.text, statement.args...); err != nil {
				return err
			}
		}
		return nil
	})
}

// An Operation is what was asked of one, within a time.
type Operation struct {
	ID       string           `db:"id" json:"id"` // "" of requests that are not told apart: refused before it was known what they ask, or of too many kinds
	Name     string           `db:"name" json:"name,omitempty"`
	Kind     string           `db:"kind" json:"kind,omitempty"`
	Text     string           `db:"text" json:"text,omitempty"` // its normal form; "" if that is very long
	Asked    int64            `db:"asked" json:"asked"`
	Failed   int64            `db:"failed" json:"failed"` // of these, how many had errors
	Requests int64            `db:"requests" json:"requests"`
	Records  int64            `db:"records" json:"records"`
	Last     time.Time        `db:"last" json:"last"` // the hour in which it was asked last
	Codes    map[string]int64 `json:"codes"`
	Clients  map[string]int64 `json:"clients"`
	Uses     json.RawMessage  `db:"uses" json:"uses,omitempty"` // coordinates of the schema that it uses
	Times    traffic.Times    `json:"-"`
}

// Traffic returns what was asked within a time before now, the most asked first. client is that of
// one client; "" stands for all.
func (r *Records) Traffic(ctx context.Context, within time.Duration, client string) (list []*Operation, err error) {
	const since = "hour >= date_trunc('hour', now() - $1 * interval '1 second') AND ($2 = '' OR client = $2)"
	client, list = plain(client), []*Operation{}
	err = r.reading(ctx, func(ctx context.Context) error {
		err := r.db.SelectContext(ctx, &list, `SELECT encode(t.operation, 'hex') AS id, coalesce(o.name, '') AS name, coalesce(o.kind, '') AS kind, coalesce(o.text, '') AS text,
				t.asked, t.failed, t.requests, t.records, t.last, coalesce(to_json(o.uses), '[]') AS uses
			FROM (SELECT operation, sum(asked) AS asked, sum(failed) AS failed, sum(requests) AS requests, sum(records) AS records, max(hour) AS last
				FROM osprey.traffic WHERE `+since+` GROUP BY operation) t LEFT JOIN osprey.operations o ON o.id = t.operation ORDER BY asked DESC, 1`, within.Seconds(), client)
		if err != nil {
			return err
		}
		of := map[string]*Operation{}
		for _, o := range list {
			of[o.ID], o.Codes, o.Clients = o, map[string]int64{}, map[string]int64{}
		}
		each := func(statement string, add func(o *Operation, key string, n int64)) error {
			var rows []struct {
				ID  string
				Key string
				N   int64
			}
			if err := r.db.SelectContext(ctx, &rows, statement, within.Seconds(), client); err != nil {
				return err
			}
			for _, row := range rows {
				if o := of[row.ID]; o != nil {
					add(o, row.Key, row.N)
				}
			}
			return nil
		}
		if err := each(`SELECT encode(operation, 'hex') AS id, code AS key, sum(count) AS n FROM osprey.errors WHERE `+since+` GROUP BY 1, 2`,
			func(o *Operation, key string, n int64) { o.Codes[key] = n }); err != nil {
			return err
		}
		if err := each(`SELECT encode(operation, 'hex') AS id, client AS key, sum(asked) AS n FROM osprey.traffic WHERE `+since+` GROUP BY 1, 2`,
			func(o *Operation, key string, n int64) { o.Clients[key] = n }); err != nil {
			return err
		}
		var rows []struct {
			ID     string
			Bucket int
			N      int64
		}
		if err := r.db.SelectContext(ctx, &rows, `SELECT encode(operation, 'hex') AS id, bucket::int AS bucket, sum(n)::bigint AS n
			FROM osprey.traffic, unnest(times) WITH ORDINALITY AS b(n, bucket) WHERE n > 0 AND `+since+` GROUP BY 1, 2`, within.Seconds(), client); err != nil {
			return err
		}
		for _, row := range rows {
			if o := of[row.ID]; o != nil && row.Bucket <= traffic.Buckets {
				o.Times[row.Bucket-1] = row.N
			}
		}
		for _, o := range list {
			if o.ID == hex.EncodeToString(make([]byte, 16)) {
				o.ID = ""
			}
		}
		return nil
	})
	return list, err
}

// An Hour is how much was asked in one.
type Hour struct {
	Hour   time.Time `db:"hour" json:"hour"`
	Asked  int64     `db:"asked" json:"asked"`
	Failed int64     `db:"failed" json:"failed"`
	// Codes are how often there was an error of each code.
	Codes Counts `db:"codes" json:"codes"`
}

// Counts are numbers by names.
type Counts map[string]int64

// Scan reads the JSON of the database.
func (c *Counts) Scan(v any) error {
	text, ok := v.(string)
	if !ok {
		return fmt.Errorf("counts are %T", v)
	}
	return json.Unmarshal([]byte(text), c)
}

// hourCodes is how often there was an error of each code in an hour t.hour, as JSON; what is told of is said by more.
func hourCodes(more string) string {
	return `coalesce((SELECT json_object_agg(code, n) FROM (SELECT code, sum(count) AS n FROM osprey.errors e WHERE e.hour = t.hour AND ` + more + ` GROUP BY code) c), '{}')::text`
}

// Hours returns how much was asked in each hour within a time before now, without those in which
// nothing was. client is that of one client; "" stands for all.
func (r *Records) Hours(ctx context.Context, within time.Duration, client string) (list []Hour, err error) {
	list = []Hour{}
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.SelectContext(ctx, &list, `SELECT hour, sum(asked) AS asked, sum(failed) AS failed, `+hourCodes("($2 = '' OR e.client = $2)")+` AS codes FROM osprey.traffic t
			WHERE hour >= date_trunc('hour', now() - $1 * interval '1 second') AND ($2 = '' OR client = $2) GROUP BY hour ORDER BY hour`, within.Seconds(), plain(client))
	})
	return list, err
}

// A Use is that a coordinate of the schema was asked.
type Use struct {
	Coordinate string    `db:"coordinate" json:"coordinate"`
	Asked      int64     `db:"asked" json:"asked"`
	Last       time.Time `db:"last" json:"last"` // the hour in which it was asked last
}

// Uses returns what was asked of the schema within a time before now, in the order of the
// coordinates.
func (r *Records) Uses(ctx context.Context, within time.Duration) (list []Use, err error) {
	list = []Use{}
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.SelectContext(ctx, &list, `SELECT coordinate, sum(asked) AS asked, max(last) AS last
			FROM (SELECT operation, sum(asked) AS asked, max(hour) AS last FROM osprey.traffic WHERE hour >= date_trunc('hour', now() - $1 * interval '1 second') GROUP BY operation) t
			JOIN osprey.operations o ON o.id = t.operation, unnest(o.uses) AS coordinate GROUP BY coordinate ORDER BY coordinate COLLATE "C"`, within.Seconds())
	})
	return list, err
}

// Since returns since when traffic is kept; the zero time if there is none.
func (r *Records) Since(ctx context.Context) (since time.Time, err error) {
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.GetContext(ctx, &since, "SELECT coalesce(min(hour), '0001-01-01') FROM osprey.traffic")
	})
	return since, err
}

// An Asker is who asked an operation within a time, and what that uses.
type Asker struct {
	ID      string    `db:"id"`
	Name    string    `db:"name"`
	Text    string    `db:"text"`
	Asked   int64     `db:"asked"`
	Last    time.Time `db:"last"`
	Uses    string    `db:"uses"`    // JSON: coordinates
	Clients string    `db:"clients"` // JSON: names
}

// Askers returns the operations that were asked within a time before now, the most asked first.
func (r *Records) Askers(ctx context.Context, within time.Duration) (list []Asker, err error) {
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.SelectContext(ctx, &list, `SELECT encode(o.id, 'hex') AS id, o.name, o.text, t.asked, t.last, to_json(o.uses)::text AS uses, to_json(t.clients)::text AS clients
			FROM (SELECT operation, sum(asked) AS asked, max(hour) AS last, array_agg(DISTINCT client ORDER BY client) AS clients FROM osprey.traffic
				WHERE hour >= date_trunc('hour', now() - $1 * interval '1 second') GROUP BY operation) t
			JOIN osprey.operations o ON o.id = t.operation ORDER BY t.asked DESC, 1`, within.Seconds())
	})
	return list, err
}
