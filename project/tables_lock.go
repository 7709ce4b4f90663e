package project

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/pressly/goose/v3/lock"

	"osprey/stores/relational"
)

// This file lets one change the tables of a database at a time: several services may be started at once.

// longestWait is how long it is waited for another one that runs files.
const longestWait = 5 * time.Minute

var errLocked = errors.New("another one has been changing the tables for minutes")

// lockerOf returns what lets one run the files of a database at a time.
func lockerOf(kind string) lock.SessionLocker {
	switch kind {
	case relational.MySQL:
		return locker{
			lock:   []string{fmt.Sprintf("SELECT GET_LOCK(LEFT(CONCAT('%s ', DATABASE()), 64), %d)", recorded, int(longestWait.Seconds()))},
			unlock: []string{"SELECT RELEASE_LOCK(LEFT(CONCAT('" + recorded + " ', DATABASE()), 64))"},
		}
	case relational.SQLite:
		return &fileLocker{}
	}
	own, err := lock.NewPostgresSessionLocker(lock.WithLockID(7420_000_017), lock.WithLockTimeout(1, uint64(longestWait.Seconds())))
	if err != nil {
		panic(err) // of the constants above
	}
	return own
}

// locker locks by statements of one connection.
type locker struct{ lock, unlock []string }

func (l locker) SessionLock(ctx context.Context, conn *sql.Conn) error {
	return run(ctx, conn, l.lock)
}

func (l locker) SessionUnlock(ctx context.Context, conn *sql.Conn) error {
	return run(ctx, conn, l.unlock)
}

// run runs statements whose result, if they have one, must be neither NULL nor 0.
func run(ctx context.Context, conn *sql.Conn, statements []string) error {
	for _, statement := range statements {
		if !strings.HasPrefix(statement, "SELECT") {
			if _, err := conn.ExecContext(ctx, statement); err != nil {
				return err
			}
			continue
		}
		var got sql.NullInt64
		if err := conn.QueryRowContext(ctx, statement).Scan(&got); err != nil {
			return err
		}
		if got.Int64 == 0 {
			return errLocked
		}
	}
	return nil
}

// fileLocker locks a file beside that of a database of SQLite. What SQLite itself locks for longer than a transaction is locked
// for readers, too: in the mode WAL, whoever is connected would have to leave, and in the others, two who wait keep each other out.
type fileLocker struct{ held *flock.Flock }

// besideDatabase is what is behind the name of the database's file in that of the one that is locked.
const besideDatabase = "-tables"

func (l *fileLocker) SessionLock(ctx context.Context, conn *sql.Conn) error {
	var file string
	if err := conn.QueryRowContext(ctx, "SELECT coalesce(max(file), '') FROM pragma_database_list WHERE name = 'main'").Scan(&file); err != nil {
		return err
	}
	if file == "" {
		return nil // nobody else has it
	}
	// A transaction waits for those of others, which last no longer than that.
	if _, err := conn.ExecContext(ctx, "PRAGMA busy_timeout = 60000"); err != nil {
		return err
	}
	waiting, cancel := context.WithTimeout(ctx, longestWait)
	defer cancel()
	for {
		own := flock.New(file + besideDatabase)
		if _, err := own.TryLockContext(waiting, 20*time.Millisecond); err != nil {
			if waiting.Err() != nil && ctx.Err() == nil {
				return errLocked
			}
			return err
		}
		// Whoever had it has removed it: another one may have made it again, and locked that.
		locked, err1 := own.Stat()
		there, err2 := os.Stat(file + besideDatabase)
		if err1 == nil && err2 == nil && os.SameFile(locked, there) {
			l.held = own
			return nil
		}
		if err := own.Unlock(); err != nil {
			return err
		}
	}
}

func (l *fileLocker) SessionUnlock(context.Context, *sql.Conn) error {
	if l.held == nil {
		return nil
	}
	_ = os.Remove(l.held.Path()) // which is tidy, and no more
	return l.held.Unlock()
}
