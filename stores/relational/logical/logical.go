// Package logical hears by logical replication which records of a database of PostgreSQL change, whoever changes them
// (chapters 29 and 47 of PostgreSQL's documentation).
//
// A slot that lasts, one for the database, holds back as much of the log as positions are good for. Who hears reads by
// a copy of it that goes with the connection, so that any number of services can, each from where it was:
//
//	the log     ──────┬───────────────┬──────────┬───►
//	the slot          osprey_events_16384        │        moved on now and then
//	service one                       copy       │
//	service two                                  copy
//
// A database of which nobody has heard for a while has no slot.
package logical

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jmoiron/sqlx"

	"osprey/core/store"
)

// Publication is the name of what says which tables are told of.
const Publication = "osprey_events"

// A Log is what a database tells of its changes.
type Log struct {
	// Keeps is how long positions are good, and for how long the slot stays when nobody hears any more; default 5 minutes.
	Keeps time.Duration

	url     string
	db      *sqlx.DB
	timeout time.Duration
	moving  atomic.Bool // the slot is being moved on

	mu      sync.Mutex    // guards what follows
	readers []*reader     // those that hear; what the last of them has heard is told to who goes on
	unheard *time.Timer   // drops the slot
	news    chan struct{} // closed when more is heard
	closed  bool
}

// New returns the log of a database, of which db is asked what is not said by replication.
func New(url string, db *sqlx.DB, timeout time.Duration) *Log {
	return &Log{Keeps: 5 * time.Minute, url: url, db: db, timeout: timeout, news: make(chan struct{})}
}

// Sets returns of which tables on the search path the database tells by replication, with the columns that it tells;
// none where it does not.
func (l *Log) Sets(ctx context.Context) (map[string][]string, error) {
	rows, err := l.db.QueryContext(ctx, `SELECT p.tablename, a.attname FROM pg_publication_tables p JOIN pg_publication o ON o.pubname = p.pubname
		JOIN pg_namespace n ON n.nspname = p.schemaname JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = p.tablename
		JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
		WHERE p.pubname = $1 AND p.schemaname = ANY (current_schemas(false))
			-- What servers before 15 do not have.
			AND to_jsonb(p) ->> 'rowfilter' IS NULL AND coalesce(to_jsonb(p) -> 'attnames' @> to_jsonb(a.attname), true)
			AND o.pubinsert AND o.pubupdate AND o.pubdelete AND o.pubtruncate AND current_setting('wal_level') = 'logical' AND NOT pg_is_in_recovery()`, Publication)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	sets := map[string][]string{}
	for rows.Next() {
		var set, column string
		if err := rows.Scan(&set, &column); err != nil {
			return nil, err
		}
		sets[set] = append(sets[set], column)
	}
	return sets, rows.Err()
}

// Close ends what is not ended by the contexts of those who hear. The slot stays: they may come back.
func (l *Log) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed = true; l.unheard != nil {
		l.unheard.Stop()
	}
}

// Since tells what has changed since a position, of what Watch has heard.
func (l *Log) Since(ctx context.Context, after string, tell func(store.Batch) error) error {
	at, ok := positionOf(after)
	if !ok {
		return store.ErrTooOld
	}
	for {
		l.mu.Lock()
		news := l.news
		if n := len(l.readers); n > 0 && !l.readers[n-1].history.isBehind() {
			batch, err := l.readers[n-1].history.since(at)
			l.mu.Unlock()
			if err != nil {
				return err
			}
			return tell(batch)
		}
		l.mu.Unlock()
		select {
		case <-news:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Watch tells what changes, as [store.Watcher] says.
func (l *Log) Watch(ctx context.Context, after string, tell func(store.Batch) error) error {
	config, err := pgconn.ParseConfig(l.url)
	if err != nil {
		return err
	}
	for name, value := range map[string]string{"replication": "database", "application_name": "osprey, listening", "datestyle": "ISO", "intervalstyle": "postgres", "timezone": "UTC"} {
		config.RuntimeParams[name] = value
	}
	beginning, cancel := context.WithTimeout(ctx, l.timeout)
	defer cancel()
	conn, err := pgconn.ConnectConfig(beginning, config)
	if err != nil {
		return err
	}
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		conn.Close(ending)
	}()
	r := &reader{log: l, conn: conn, tables: map[uint32]*table{}}
	defer l.ended(r)
	if err := r.begin(beginning, after); err != nil {
		return err
	}
	l.begun(r)
	if err := tell(store.Batch{At: r.at.String()}); err != nil {
		return err
	}
	return r.read(ctx, tell)
}

// begun notes that somebody hears.
func (l *Log) begun(r *reader) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.readers = append(l.readers, r)
	if l.unheard != nil {
		l.unheard.Stop()
	}
}

// ended notes that somebody hears no more. When nobody has for a while, the slot goes, which would hold back the log.
func (l *Log) ended(r *reader) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.readers = slices.DeleteFunc(l.readers, func(other *reader) bool { return other == r }); len(l.readers) > 0 || l.closed {
		return
	}
	if l.unheard != nil {
		l.unheard.Stop()
	}
	l.unheard = time.AfterFunc(l.Keeps, func() {
		l.mu.Lock()
		heard := len(l.readers) > 0 || l.closed
		l.mu.Unlock()
		if heard {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), l.timeout)
		defer cancel()
		// Another service may hear by a copy; if this fails, the next one to hear has it still.
		_, _ = l.db.ExecContext(ctx, `SELECT pg_drop_replication_slot(s.slot_name) FROM pg_replication_slots s WHERE s.slot_name = (`+slotName+`)
			AND NOT EXISTS (SELECT FROM pg_replication_slots c WHERE starts_with(c.slot_name, s.slot_name || '_'))`)
	})
}

// errUndone is the error of a database that tells nothing any more.
var errUndone = &store.Error{Code: store.BadAnswer, Msg: "does not tell its changes any more"}

// slotName is the query of the name of the slot of this database.
const slotName = `SELECT 'osprey_events_' || oid FROM pg_database WHERE datname = current_database()`

// A reader reads the log from one connection.
type reader struct {
	log    *Log
	conn   *pgconn.PgConn
	slot   string
	system string
	at     position
	tables map[uint32]*table
	rows   []*change // that wait to be told
	commit pglogrepl.LSN
	when   time.Time
	of     uint32 // the lower half of the transaction's number
	count  int    // of the transaction's changes
	marks  []mark
	// history is guarded by mu of the log.
	history history
}

// A mark is when the log was read up to a place.
type mark struct {
	at  time.Time
	lsn pglogrepl.LSN
}

// begin finds out where to begin, and has the database begin there.
func (r *reader) begin(ctx context.Context, after string) error {
	from, err := r.lasting(ctx)
	if errors.Is(err, errUndone) && after != "" {
		err = store.ErrTooOld
	}
	if err != nil {
		return err
	}
	system, err := pglogrepl.IdentifySystem(ctx, r.conn)
	if err != nil {
		return err
	}
	r.system = system.SystemID
	now, err := r.log.now(ctx)
	if err != nil {
		return err
	}
	r.at = position{system: r.system, lsn: now}
	if after != "" {
		at, ok := positionOf(after)
		if !ok || at.system != r.system || at.lsn < from || at.lsn > now {
			return store.ErrTooOld
		}
		r.at = at
	}
	var random [4]byte
	rand.Read(random[:])
	copied := r.slot + "_" + hex.EncodeToString(random[:])
	if _, err := r.conn.Exec(ctx, fmt.Sprintf("SELECT pg_copy_logical_replication_slot('%s', '%s', true)", r.slot, copied)).ReadAll(); err != nil {
		return err
	}
	if err := pglogrepl.StartReplication(ctx, r.conn, copied, 0, pglogrepl.StartReplicationOptions{PluginArgs: []string{"proto_version '1'", "publication_names '" + Publication + "'"}}); err != nil {
		return err
	}
	r.history = history{from: position{system: r.system, lsn: from}, reached: position{system: r.system}, until: now}
	return nil
}

// now returns the place in the log behind a record that is written for this: what the database says of how far the log is flushed may
// be in the middle of a record, such as that of a commit of which nobody knows yet.
func (l *Log) now(ctx context.Context) (lsn pglogrepl.LSN, err error) {
	err = l.db.QueryRowContext(ctx, "SELECT pg_logical_emit_message(true, 'osprey', 'somebody listens')::text").Scan(&lsn)
	return lsn, err
}

// lasting returns from where the slot that lasts holds the log, and makes it if there is none.
func (r *reader) lasting(ctx context.Context) (from pglogrepl.LSN, err error) {
	l := r.log
	if err := l.db.GetContext(ctx, &r.slot, slotName); err != nil {
		return 0, err
	}
	for {
		var is, lost bool
		if err := l.db.GetContext(ctx, &is, "SELECT EXISTS (SELECT FROM pg_publication WHERE pubname = $1)", Publication); err != nil {
			return 0, err
		}
		if !is { // it was undone, and a slot would hold the log back for nobody
			return 0, errUndone
		}
		err := l.db.QueryRowContext(ctx, `SELECT confirmed_flush_lsn, coalesce(to_jsonb(s) ->> 'wal_status' = 'lost', false) FROM pg_replication_slots s WHERE slot_name = $1 AND confirmed_flush_lsn IS NOT NULL`, r.slot).Scan(&from, &lost)
		switch {
		case err == nil && !lost:
			return from, nil
		case err == nil: // the database holds back no more than max_slot_wal_keep_size
			_, err = l.db.ExecContext(ctx, "SELECT pg_drop_replication_slot($1)", r.slot)
		case errors.Is(err, sql.ErrNoRows):
			_, err = l.db.ExecContext(ctx, "SELECT pg_create_logical_replication_slot($1, 'pgoutput')", r.slot)
		}
		if own := new(pgconn.PgError); errors.As(err, &own) && (own.Code == "42710" || own.Code == "42704" || own.Code == "55006") {
			err = nil // another service has done it, or does
		}
		if err != nil {
			return 0, err
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
}

const (
	// tellsAlive is how often the database is told that somebody hears, at the latest.
	tellsAlive = 10 * time.Second
	// together is how long more is waited for, which is told together.
	together = time.Millisecond
	// atOnce is how many changes are told at once.
	atOnce = 1000
	// catchesUp is how often the database is asked how far it is, until it has come to where it was when the reading began.
	catchesUp = 20 * time.Millisecond
)

// every returns how often the database is told that somebody hears.
func (r *reader) every() time.Duration { return min(tellsAlive, r.log.Keeps/4) }

// isBehind reports whether the log has not been read up to where it was when the reading began.
func (r *reader) isBehind() bool {
	r.log.mu.Lock()
	defer r.log.mu.Unlock()
	return r.history.isBehind()
}

// stands returns up to where the log was read.
func (r *reader) stands() position {
	r.log.mu.Lock()
	defer r.log.mu.Unlock()
	return r.history.reached
}

// read reads until ctx or the connection ends.
func (r *reader) read(ctx context.Context, tell func(store.Batch) error) error {
	l := r.log
	every := r.every()
	alive, heard := time.Now(), time.Now()
	for {
		wait := every
		switch {
		case len(r.rows) > 0:
			wait = together
		case r.isBehind():
			wait = catchesUp
		}
		waiting, cancel := context.WithTimeout(ctx, wait)
		raw, err := r.conn.ReceiveMessage(waiting)
		cancel()
		switch {
		case err == nil:
			heard = time.Now()
			if err := r.take(ctx, raw); err != nil {
				return err
			}
		case ctx.Err() != nil:
			return ctx.Err()
		case !pgconn.Timeout(err) || time.Since(heard) > 2*tellsAlive+l.timeout:
			return err
		}
		if len(r.rows) >= atOnce || err != nil && len(r.rows) > 0 {
			if err := r.tell(ctx, tell); err != nil {
				return err
			}
		}
		if err != nil && r.isBehind() || time.Since(alive) > every {
			alive = time.Now()
			if err := r.alive(ctx); err != nil {
				return err
			}
			// Where nothing changes for long, those who hear stand further on, too.
			if at := r.stands(); r.at.before(at) && r.commit == 0 && len(r.rows) == 0 && !r.isBehind() {
				r.at = at
				if err := tell(store.Batch{At: at.String()}); err != nil {
					return err
				}
			}
		}
	}
}

// alive tells the database how far it was heard, and asks it how far it is.
func (r *reader) alive(ctx context.Context) error {
	reached := r.stands().lsn
	if n := len(r.marks); n == 0 || r.marks[n-1].lsn != reached && time.Since(r.marks[n-1].at) > r.log.Keeps/10 {
		r.marks = append(r.marks, mark{time.Now(), reached})
	}
	if len(r.marks) > 0 && time.Since(r.marks[0].at) > r.log.Keeps && r.log.moving.CompareAndSwap(false, true) {
		to := r.marks[0].lsn
		r.marks = r.marks[1:]
		go r.log.move(r.slot, to)
	}
	return pglogrepl.SendStandbyStatusUpdate(ctx, r.conn, pglogrepl.StandbyStatusUpdate{WALWritePosition: reached, ReplyRequested: true})
}

// move moves the slot on.
func (l *Log) move(slot string, to pglogrepl.LSN) {
	defer l.moving.Store(false)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	// Where it does not, another service does, or this one the next time.
	_, _ = l.db.ExecContext(ctx, "SELECT pg_replication_slot_advance(slot_name, $2::text::pg_lsn) FROM pg_replication_slots WHERE slot_name = $1 AND NOT active AND confirmed_flush_lsn < $2::text::pg_lsn", slot, to.String())
}

// take takes a message.
func (r *reader) take(ctx context.Context, raw pgproto3.BackendMessage) error {
	switch raw := raw.(type) {
	case *pgproto3.ErrorResponse:
		return pgconn.ErrorResponseToPgError(raw)
	case *pgproto3.CopyData:
		switch raw.Data[0] {
		case pglogrepl.PrimaryKeepaliveMessageByteID:
			k, err := pglogrepl.ParsePrimaryKeepaliveMessage(raw.Data[1:])
			if err != nil {
				return err
			}
			if len(r.rows) == 0 && r.commit == 0 {
				r.keep(nil, position{system: r.system, lsn: k.ServerWALEnd})
			}
			if k.ReplyRequested {
				return r.alive(ctx)
			}
		case pglogrepl.XLogDataByteID:
			data, err := pglogrepl.ParseXLogData(raw.Data[1:])
			if err != nil {
				return err
			}
			m, err := pglogrepl.Parse(data.WALData)
			if err != nil {
				return err
			}
			return r.note(ctx, m)
		}
	}
	return nil
}
