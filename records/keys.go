package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// This file keeps keys of client programs.

// A Key is what is kept of one.
type Key struct {
	ID        string          `db:"id" json:"id"`
	Name      string          `db:"name" json:"name"` // of the client program
	Hash      string          `db:"hash" json:"-"`
	Roles     json.RawMessage `db:"roles" json:"roles"` // a list of texts
	By        string          `db:"by" json:"by"`       // who made it
	Made      time.Time       `db:"made" json:"made"`
	Until     *time.Time      `db:"until" json:"until,omitempty"`     // when it ends
	Used      *time.Time      `db:"used" json:"used,omitempty"`       // about when it was used last
	Revoked   *time.Time      `db:"revoked" json:"revoked,omitempty"` // when it was
	RevokedBy *string         `db:"revoked_by" json:"revokedBy,omitempty"`
}

// MostKeys is how many keys are kept.
const MostKeys = 10_000

// ErrNoKey is the error of a key that is not there, or was revoked before.
var ErrNoKey = errors.New("there is no such key")

// Keys returns all keys, the newest first.
func (r *Records) Keys(ctx context.Context) (list []Key, err error) {
	list = []Key{}
	err = r.reading(ctx, func(ctx context.Context) error {
		return r.db.SelectContext(ctx, &list, "SELECT id, name, hash, to_json(roles) AS roles, by, made, until, used, revoked, revoked_by FROM osprey.keys ORDER BY made DESC, id")
	})
	return list, err
}

// AddKey keeps a key, and tells all services of it. It fills in the time.
func (r *Records) AddKey(ctx context.Context, k *Key) error {
	err := r.reading(ctx, func(ctx context.Context) error {
		return r.inTransaction(ctx, func(tx *sqlx.Tx) error {
			err := tx.QueryRowxContext(ctx, `INSERT INTO osprey.keys (id, name, hash, roles, by, until)
				SELECT $1, $2, $3, ARRAY(SELECT json_array_elements_text($4::json)), $5, $6 WHERE (SELECT count(*) FROM osprey.keys) < $7 RETURNING made`,
				k.ID, plain(k.Name), k.Hash, plain(string(k.Roles)), plain(k.By), k.Until, MostKeys).Scan(&k.Made)
			if err != nil {
				return err
			}
			_, err = tx.ExecContext(ctx, "SELECT pg_notify($1, 'keys')", channel)
			return err
		})
	})
	if errors.Is(err, sql.ErrNoRows) {
		return errors.New("there are too many keys: remove some")
	}
	return err
}

// RevokeKey ends the key of an id, or all keys of a name, and tells all services of it.
func (r *Records) RevokeKey(ctx context.Context, which, by string) error {
	return r.reading(ctx, func(ctx context.Context) error {
		return r.inTransaction(ctx, func(tx *sqlx.Tx) error {
			result, err := tx.ExecContext(ctx, "UPDATE osprey.keys SET revoked = now(), revoked_by = $2 WHERE (id = $1 OR name = $1) AND revoked IS NULL", plain(which), plain(by))
			if err != nil {
				return err
			}
			if n, err := result.RowsAffected(); err != nil || n == 0 {
				return errors.Join(err, ErrNoKey)
			}
			_, err = tx.ExecContext(ctx, "SELECT pg_notify($1, 'keys')", channel)
			return err
		})
	})
}

// UsedKeys says that keys were used just now.
func (r *Records) UsedKeys(ctx context.Context, ids []string) error {
	list, err := json.Marshal(ids)
	if err != nil {
		return err
	}
	return r.reading(ctx, func(ctx context.Context) error {
		_, err := r.db.ExecContext(ctx, "UPDATE osprey.keys SET used = now() WHERE id IN (SELECT json_array_elements_text($1::json))", string(list))
		return err
	})
}
