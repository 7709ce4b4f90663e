package relational

import (
	"context"
	"database/sql"
	"errors"

	"osprey/core/store"
	"osprey/stores/relational/logical"
)

// This file tells which records of PostgreSQL have changed: by logical replication where the database has that for
// Osprey, else by what its triggers note.

// Watched implements [store.Watcher].
func (s *Source) Watched(ctx context.Context) (told store.Telling, err error) {
	if s.log == nil {
		return told, nil
	}
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	told.By = "logical replication"
	told.Sets, err = s.log.Sets(ctx)
	triggers := err == nil && len(told.Sets) == 0
	if triggers {
		told.By = "triggers"
		told.Sets, err = s.noted(ctx)
	}
	if err != nil { // by what it tells is what was known before
		return store.Telling{}, s.fail(ctx, err)
	}
	s.triggers.Store(triggers)
	return told, nil
}

// Watch implements [store.Watcher].
func (s *Source) Watch(ctx context.Context, after string, tell func(store.Batch) error) error {
	if s.triggers.Load() {
		return s.listen(ctx, after, tell)
	}
	if err := s.log.Watch(ctx, after, tell); err != nil && !errors.Is(err, store.ErrTooOld) {
		return s.fail(ctx, err)
	}
	return store.ErrTooOld
}

// Since implements [store.Watcher].
func (s *Source) Since(ctx context.Context, after string, tell func(store.Batch) error) error {
	if !s.triggers.Load() {
		asking, cancel := context.WithTimeout(ctx, s.timeout)
		defer cancel()
		return s.log.Since(asking, after, tell)
	}
	_, err := s.readEvents(ctx, position{}, after, tell)
	return err
}

// A Telling is by what a database of PostgreSQL tells its changes, and by what it could.
type Telling struct {
	Triggers, Published bool   // which has been begun
	Level               string // of the log: "logical" for replication
	User                string
	May                 bool // whether the user may replicate
}

// TellingOf asks a database.
func TellingOf(ctx context.Context, db *sql.DB) (t Telling, err error) {
	err = db.QueryRowContext(ctx, `SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = 'osprey_events'), EXISTS (SELECT FROM pg_publication WHERE pubname = $1),
		current_setting('wal_level'), quote_ident(current_user), rolsuper OR rolreplication FROM pg_roles WHERE rolname = current_user`, logical.Publication).Scan(&t.Triggers, &t.Published, &t.Level, &t.User, &t.May)
	return t, err
}
