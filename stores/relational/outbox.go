package relational

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/core/store"
	"osprey/stores/signal"
)

// This file reads what triggers of PostgreSQL have noted of changed records (core/tables/watch.go writes them): rows of
// the table osprey_events.events, each with the transaction that wrote it. They become visible when that ends, which is
// not the order of their numbers. So a position is a snapshot, which says of every transaction whether it had ended
// (section 9.27.7, "Transaction ID and Snapshot Information Functions", of PostgreSQL's documentation):
//
//	rows        1 (of transaction 700)   2 (of 701, which is open still)   3 (of 702)
//	position    702:703:701              said of 700 and 702 what is theirs
//	next        those not visible in 702:703:701: row 2, when 701 has ended, and what came since
//
// Nothing is waited for, and nothing is told twice or missed. A server that has crashed may use numbers of transactions again,
// which were undone before. So a position knows nothing of those behind the last one that has left rows, which is on disk:
//
//	snapshot    700:709:   of which 702 was the last with rows
//	position    700:703:

// eventsSignal is the channel on which the triggers tell that there is something.
const eventsSignal = "osprey_events"

// keepsEvents is how long a position is good. The triggers keep rows for an hour.
const keepsEvents = 50 * time.Minute

// allEvents is the bits of pg_trigger.tgtype for INSERT, DELETE and UPDATE (catalog/pg_trigger.h).
const allEvents = 4 | 8 | 16

// A position is where a reader of the outbox stands.
type position struct {
	at    int64  // seconds since 1970, by the database
	since string // what is visible in this snapshot was told
	// Of a reader that stands within what it has read: what is visible in until was told up to the row seq.
	until string
	seq   int64
}

func (p position) String() string { return fmt.Sprintf("%d|%s|%s|%d", p.at, p.since, p.until, p.seq) }

// positionOf reads what String has written; false if it is no position.
func positionOf(text string) (p position, ok bool) {
	parts := strings.Split(text, "|")
	if len(parts) != 4 {
		return p, false
	}
	var err1, err2 error
	p.since, p.until = parts[1], parts[2]
	p.at, err1 = strconv.ParseInt(parts[0], 10, 64)
	p.seq, err2 = strconv.ParseInt(parts[3], 10, 64)
	return p, err1 == nil && err2 == nil && isSnapshot(p.since) && (p.until == "" || isSnapshot(p.until))
}

// isSnapshot reports whether a text is a snapshot, such as 10:20:10,14,15: of numbers that rise.
func isSnapshot(text string) bool {
	parts := strings.Split(text, ":")
	if len(parts) != 3 {
		return false
	}
	least, err1 := strconv.ParseUint(parts[0], 10, 63)
	most, err2 := strconv.ParseUint(parts[1], 10, 63)
	if err1 != nil || err2 != nil || least == 0 || least > most {
		return false
	}
	if parts[2] == "" {
		return true
	}
	before := least - 1
	for _, part := range strings.Split(parts[2], ",") {
		n, err := strconv.ParseUint(part, 10, 63)
		if err != nil || n <= before || n >= most {
			return false
		}
		before = n
	}
	return true
}

// boundsOf returns the least and the greatest number of a snapshot.
func boundsOf(snapshot string) (least, most uint64) {
	fmt.Sscanf(snapshot, "%d:%d:", &least, &most)
	return least, most
}

// upTo returns a snapshot that knows of no transaction behind last.
func upTo(snapshot string, last uint64) string {
	least, most := boundsOf(snapshot)
	if most <= last+1 {
		return snapshot
	}
	most = last + 1
	var open []string
	for _, part := range strings.Split(snapshot[strings.LastIndexByte(snapshot, ':')+1:], ",") {
		if n, err := strconv.ParseUint(part, 10, 64); err == nil && n < most {
			open = append(open, part)
		}
	}
	return fmt.Sprintf("%d:%d:%s", min(least, most), most, strings.Join(open, ","))
}

// noted returns of which tables triggers note the changes, with the columns by which they do.
func (s *Source) noted(ctx context.Context) (map[string][]string, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT t.tgtype::int, t.tgargs FROM pg_trigger t JOIN pg_proc p ON p.oid = t.tgfoid JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE n.nspname = 'osprey_events' AND p.proname = 'note' AND t.tgenabled IN ('O', 'A')`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	kinds, keys := map[string]int{}, map[string][]string{}
	for rows.Next() {
		var kind int
		var args []byte
		if err := rows.Scan(&kind, &args); err != nil {
			return nil, err
		}
		list := strings.Split(strings.TrimSuffix(string(args), "\x00"), "\x00")
		kinds[list[0]] |= kind
		keys[list[0]] = list[1:]
	}
	for set, kind := range kinds {
		if kind&allEvents != allEvents {
			delete(keys, set)
		}
	}
	return keys, rows.Err()
}

// listen tells what triggers note, from a position on.
func (s *Source) listen(ctx context.Context, after string, tell func(store.Batch) error) error {
	cfg, err := pgx.ParseConfig(s.config.URL)
	if err != nil {
		return err
	}
	cfg.RuntimeParams["application_name"] = "osprey, listening"
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var at position
	read := func() {
		if ctx.Err() != nil {
			return
		}
		var err error
		if at, err = s.readEvents(ctx, at, after, tell); err != nil {
			cancel(err)
		}
		after = ""
	}
	// Where nothing changes for long, a position is to be a younger one, too.
	err = signal.Listen(ctx, cfg, eventsSignal, read, read)
	if why := context.Cause(ctx); why != nil {
		return why
	}
	return err
}

// eventsAtOnce is how many events are told at once.
const eventsAtOnce = 1000

// readEvents tells what there is behind a position, which is given as text at first, and returns where the reader stands
// then.
func (s *Source) readEvents(ctx context.Context, at position, text string, tell func(store.Batch) error) (position, error) {
	asking, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	began := at.since == ""
	if began && text != "" {
		var ok bool
		if at, ok = positionOf(text); !ok {
			return at, store.ErrTooOld
		}
		began = false
	}
	if began {
		var last uint64
		if err := s.db.QueryRowContext(asking, "SELECT extract(epoch FROM clock_timestamp())::bigint, pg_current_snapshot()::text, coalesce(max(xid), '0')::text FROM osprey_events.events").Scan(&at.at, &at.since, &last); err != nil {
			return at, s.fail(ctx, err)
		}
		at.since = upTo(at.since, last)
		return at, tell(store.Batch{At: at.String()})
	}
	const query = `SELECT extract(epoch FROM clock_timestamp())::bigint, pg_current_snapshot()::text, coalesce(max(e.xid) OVER (), '0')::text, coalesce(e.seq, 0), coalesce(e.of_set, ''), coalesce(e.what, ''),
			coalesce(e.key::text, ''), coalesce(e.before::text, ''), coalesce(to_json(e.fields)::text, '')
		FROM (SELECT) one LEFT JOIN (SELECT * FROM osprey_events.events
			WHERE xid >= pg_snapshot_xmin($1::pg_snapshot) AND NOT pg_visible_in_snapshot(xid, $1::pg_snapshot)
				AND ($2 = '' OR NOT (seq <= $3 AND pg_visible_in_snapshot(xid, nullif($2, '')::pg_snapshot)))) e ON true
		ORDER BY e.seq`
	rows, err := s.db.QueryContext(asking, query, at.since, at.until, at.seq)
	if err != nil {
		return at, s.fail(ctx, err)
	}
	defer rows.Close()
	now, batch := position{}, store.Batch{}
	for rows.Next() {
		var e struct{ set, what, key, before, fields string }
		var seq int64
		var last uint64
		if err := rows.Scan(&now.at, &now.since, &last, &seq, &e.set, &e.what, &e.key, &e.before, &e.fields); err != nil {
			return at, s.fail(ctx, err)
		}
		_, known := boundsOf(at.since)
		now.since = upTo(now.since, max(last, known-1))
		if now.at-at.at > int64(keepsEvents/time.Second) {
			return at, store.ErrTooOld
		}
		switch {
		case seq == 0:
		case e.what == "EMPTIED":
			batch.Lost = append(batch.Lost, e.set)
		default:
			event := store.Event{ID: seq, Set: e.set, What: store.What(e.what), Key: objectOf(e.key), Before: objectOf(e.before)}
			_ = json.Unmarshal([]byte(e.fields), &event.Fields) // which the database has written
			batch.Events = append(batch.Events, event)
		}
		if len(batch.Events) == eventsAtOnce {
			at = position{at: now.at, since: at.since, until: now.since, seq: seq}
			if batch.At = at.String(); ctx.Err() != nil {
				return at, ctx.Err()
			}
			if err := tell(batch); err != nil {
				return at, err
			}
			batch = store.Batch{}
		}
	}
	if err := rows.Err(); err != nil {
		return at, s.fail(ctx, err)
	}
	batch.At = now.String()
	return now, tell(batch)
}

// objectOf decodes an object that the database has written; nil if there is none.
func objectOf(text string) (object map[string]any) {
	d := json.NewDecoder(bytes.NewReader([]byte(text)))
	d.UseNumber()
	_ = d.Decode(&object)
	return object
}
