package records

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// This file keeps operations that people saved in the console.

// A Saved is such an operation.
type Saved struct {
	Name    string    `db:"name" json:"name"`
	Text    string    `db:"text" json:"text"`
	By      string    `db:"by" json:"by"`
	At      time.Time `db:"at" json:"at"`
	Version int64     `db:"version" json:"version"` // one more each time it is saved
}

// MostSaved is how many operations are kept.
const MostSaved = 10_000

// ErrChanged is the error of an operation that somebody has changed in the meantime.
var ErrChanged = errors.New("somebody has changed it in the meantime")

// ErrFull is the error of one operation more than are kept.
var ErrFull = errors.New("there are too many saved operations: remove some")

// Saved returns all saved operations by their names.
func (r *Records) Saved(ctx context.Context) (list []Saved, err error) {
	list = []Saved{}
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.SelectContext(ctx, &list, `SELECT name, text, by, at, version FROM osprey.saved ORDER BY name COLLATE "C"`)
	})
	return list, err
}

// Save keeps an operation under its name. Its version is that which it replaces, 0 for a new one: if
// another one is there, the error is ErrChanged. It fills in the time and the version.
func (r *Records) Save(ctx context.Context, s *Saved) error {
	err := r.reading(ctx, func(ctx context.Context) error {
		statement := `INSERT INTO osprey.saved (name, text, by) SELECT $1, $2, $3 WHERE $4 = 0 AND (SELECT count(*) FROM osprey.saved) < $5 ON CONFLICT DO NOTHING RETURNING at, version`
		args := []any{plain(s.Name), plain(s.Text), plain(s.By), s.Version, MostSaved}
		if s.Version > 0 {
			statement = `UPDATE osprey.saved SET text = $2, by = $3, at = now(), version = version + 1 WHERE name = $1 AND version = $4 RETURNING at, version`
			args = args[:4]
		}
		return r.db.QueryRowxContext(ctx, statement, args...).Scan(&s.At, &s.Version)
	})
	if !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	list, err := r.Saved(ctx)
	if err == nil && s.Version == 0 && len(list) >= MostSaved {
		return ErrFull
	}
	return errors.Join(err, ErrChanged)
}

// Unsave removes an operation. It reports whether it was there.
func (r *Records) Unsave(ctx context.Context, name string) (was bool, err error) {
	err = r.reading(ctx, func(ctx context.Context) error {
		result, err := r.db.ExecContext(ctx, "DELETE FROM osprey.saved WHERE name = $1", plain(name))
		if err == nil {
			n, _ := result.RowsAffected()
			was = n > 0
		}
		return err
	})
	return was, err
}
