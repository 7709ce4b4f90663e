package records

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// This file keeps revisions: the texts that were served, when, and by whom.

// A Revision is one that is kept.
type Revision struct {
	Number      int64           `db:"number" json:"number"`
	ID          string          `db:"id" json:"id"`
	At          time.Time       `db:"at" json:"at"`
	By          string          `db:"by" json:"by"`
	Note        string          `db:"note" json:"note,omitempty"`
	Origin      string          `db:"origin" json:"origin"`               // "files", "published" or "restored"
	Restores    *int64          `db:"restores" json:"restores,omitempty"` // the number of that which it makes current again
	Differences json.RawMessage `db:"differences" json:"differences"`     // to what was served before: a list of [Difference]
	Schema      string          `db:"schema" json:"schema,omitempty"`     // as clients see it; only of one alone
	Files       json.RawMessage `db:"files" json:"files,omitempty"`       // its texts by their paths; only of one alone
}

// A Difference is one between two schemas.
type Difference struct {
	Class      string `json:"class"` // "safe", "risky" or "breaking"
	Coordinate string `json:"coordinate"`
	What       string `json:"what"` // a sentence without its subject
}

// ErrNone is the error of a revision that is not there.
var ErrNone = errors.New("there is no such revision")

const revisionColumns = "number, id::text AS id, at, by, note, origin, restores, differences"

// Revisions returns revisions, the newest first: at most limit of those below the number before,
// of which 0 stands for any.
func (r *Records) Revisions(ctx context.Context, before int64, limit int) (list []Revision, err error) {
	list = []Revision{}
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.SelectContext(ctx, &list, "SELECT "+revisionColumns+" FROM osprey.revisions WHERE $1 = 0 OR number < $1 ORDER BY number DESC LIMIT $2", before, limit)
	})
	return list, err
}

// Revision returns a revision with its texts, or ErrNone.
func (r *Records) Revision(ctx context.Context, number int64) (*Revision, error) {
	return r.one(ctx, "WHERE number = $1", number)
}

// Known reports whether a revision is kept.
func (r *Records) Known(ctx context.Context, id string) (known bool, err error) {
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.GetContext(ctx, &known, "SELECT EXISTS (SELECT FROM osprey.revisions WHERE id = $1::uuid)", id)
	})
	return known, err
}

// Last returns the last revision that was published or restored, or ErrNone.
func (r *Records) Last(ctx context.Context) (*Revision, error) {
	return r.one(ctx, "WHERE origin <> 'files' ORDER BY number DESC LIMIT 1")
}

// LastID returns the id and the number of the last revision that was published or restored; "" and
// 0 if none was.
func (r *Records) LastID(ctx context.Context) (id string, number int64, err error) {
	err = r.reading(ctx, func(ctx context.Context) error {
		err := r.db.QueryRowxContext(ctx, "SELECT id::text, number FROM osprey.revisions WHERE origin <> 'files' ORDER BY number DESC LIMIT 1").Scan(&id, &number)
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return err
	})
	return id, number, err
}

func (r *Records) one(ctx context.Context, which string, args ...any) (*Revision, error) {
	rev := &Revision{}
	err := r.reading(ctx, func(ctx context.Context) error {
		return r.db.GetContext(ctx, rev, "SELECT "+revisionColumns+", schema, files FROM osprey.revisions JOIN osprey.texts USING (sum) "+which, args...)
	})
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return rev, err
}

// Overtaken is the error of a revision that is based on one that is not the last any more.
type Overtaken struct{ Last Revision }

// Error says who was faster.
func (o *Overtaken) Error() string {
	how := "published"
	if o.Last.Origin == "restored" {
		how = "restored"
	}
	return fmt.Sprintf("%s has %s revision %d in the meantime, at %s", o.Last.By, how, o.Last.Number, o.Last.At.UTC().Format("15:04:05 MST"))
}

// Any says that a revision is kept whatever the last one is.
const Any = -1

// Add keeps a revision, whose number, id and time it fills in, and tells all services of it. It is
// kept only if the last that was published or restored has the number onto, of which 0 says that
// none was, and Any that it may be any; if not, the error is an [*Overtaken]. A revision from files
// is not kept if the last one has the same texts and is one, too: it is returned instead.
func (r *Records) Add(ctx context.Context, rev *Revision, onto int64) error {
	if err := r.Prepare(ctx); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	sum := sha256.Sum256(rev.Files)
	err := r.inTransaction(ctx, func(tx *sqlx.Tx) error {
		// One at a time: the next number is the next one.
		if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtext('osprey.revisions'))"); err != nil {
			return err
		}
		if rev.Origin == "files" {
			same := Revision{}
			err := tx.GetContext(ctx, &same, "SELECT "+revisionColumns+" FROM osprey.revisions WHERE sum = $1 AND origin = 'files' AND number = (SELECT max(number) FROM osprey.revisions)", sum[:])
			if err == nil {
				*rev = same
			}
			if !errors.Is(err, sql.ErrNoRows) {
				return err
			}
		}
		last := Revision{}
		err := tx.GetContext(ctx, &last, "SELECT "+revisionColumns+" FROM osprey.revisions WHERE origin <> 'files' ORDER BY number DESC LIMIT 1")
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if onto != Any && last.Number != onto {
			return &Overtaken{last}
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO osprey.texts (sum, files) VALUES ($1, $2) ON CONFLICT DO NOTHING", sum[:], string(rev.Files)); err != nil {
			return err
		}
		err = tx.QueryRowxContext(ctx, `INSERT INTO osprey.revisions (number, by, note, origin, restores, sum, schema, differences)
			SELECT coalesce(max(number), 0) + 1, $1, $2, $3, $4, $5, $6, $7 FROM osprey.revisions RETURNING number, id::text, at`,
			plain(rev.By), plain(rev.Note), rev.Origin, rev.Restores, sum[:], plain(rev.Schema), plain(string(rev.Differences))).Scan(&rev.Number, &rev.ID, &rev.At)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", channel, fmt.Sprint(rev.Number))
		return err
	})
	var overtaken *Overtaken
	if errors.As(err, &overtaken) {
		return err
	}
	return told(err)
}

// An Instance is a service that uses the records.
type Instance struct {
	ID      string    `db:"id" json:"id"`
	Name    string    `db:"name" json:"name"`
	Since   time.Time `db:"since" json:"since"`
	Serves  *int64    `db:"serves" json:"serves"` // the number of its revision; null if that is not kept
	Trouble string    `db:"trouble" json:"trouble,omitempty"`
}

// Beat says that an instance runs, which revision it serves ("" if it is none that is kept), and
// what is wrong.
func (r *Records) Beat(ctx context.Context, id, name, revision, trouble string) error {
	return r.reading(ctx, func(ctx context.Context) error {
		_, err := r.db.ExecContext(ctx, `INSERT INTO osprey.instances (id, name, revision, trouble) VALUES ($1::uuid, $2, nullif($3, '')::uuid, $4)
			ON CONFLICT (id) DO UPDATE SET seen = now(), name = excluded.name, revision = excluded.revision, trouble = excluded.trouble`, id, plain(name), revision, plain(trouble))
		return err
	})
}

// Leave says that an instance ends.
func (r *Records) Leave(ctx context.Context, id string) error {
	return r.reading(ctx, func(ctx context.Context) error {
		_, err := r.db.ExecContext(ctx, "DELETE FROM osprey.instances WHERE id = $1::uuid", id)
		return err
	})
}

// seenWithin is how long after its last beat an instance is taken to run.
const seenWithin = "30 seconds"

// Instances returns the services that run.
func (r *Records) Instances(ctx context.Context) (list []Instance, err error) {
	list = []Instance{}
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.SelectContext(ctx, &list, `SELECT i.id::text AS id, i.name, i.since, r.number AS serves, i.trouble
			FROM osprey.instances i LEFT JOIN osprey.revisions r ON r.id = i.revision WHERE seen BETWEEN now() - interval '`+seenWithin+`' AND now() + interval '`+seenWithin+`' ORDER BY i.name, i.since`)
	})
	return list, err
}
