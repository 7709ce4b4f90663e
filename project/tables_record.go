package project

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
)

// This file records in a database which files were run there, and what they were.

const (
	recorded     = "osprey_tables"       // says which files were run
	recordedSums = "osprey_tables_files" // and what was in them
)

// running is what runs the files of a source.
type running struct {
	*goose.Provider
	record *record
	db     *sql.DB
}

// record is the two tables. Both are written in the transaction in which a file is run.
type record struct {
	database.Store
	names map[int64]string // the files by their numbers
	sums  map[int64]string // of that part of each by which tables are made
}

func (t *TableFiles) record() (*record, error) {
	own, err := database.NewStore(database.Dialect(t.dialect), recorded)
	if err != nil {
		return nil, err
	}
	r := &record{own, map[int64]string{}, map[int64]string{}}
	files, err := t.files()
	if err != nil {
		return nil, err
	}
	for _, name := range files {
		number, err := strconv.ParseInt(fileName.FindStringSubmatch(name)[1], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("the number of %s is too high", name)
		}
		text, err := os.ReadFile(filepath.Join(t.Folder, name))
		if err != nil {
			return nil, err
		}
		// How it is undone may be mended later.
		up, _, _ := strings.Cut(strings.ReplaceAll(string(text), "\r\n", "\n"), "-- +goose Down")
		sum := sha256.Sum256([]byte(strings.TrimSpace(up)))
		r.names[number], r.sums[number] = name, hex.EncodeToString(sum[:])
	}
	return r, nil
}

func (r *record) CreateVersionTable(ctx context.Context, db database.DBTxConn) error {
	if err := r.Store.CreateVersionTable(ctx, db); err != nil {
		return err
	}
	_, err := db.ExecContext(ctx, "CREATE TABLE IF NOT EXISTS "+recordedSums+" (version_id bigint PRIMARY KEY, up_sum varchar(64) NOT NULL)")
	return err
}

func (r *record) Insert(ctx context.Context, db database.DBTxConn, req database.InsertRequest) error {
	if err := r.Store.Insert(ctx, db, req); err != nil || r.sums[req.Version] == "" {
		return err
	}
	_, err := db.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s (version_id, up_sum) VALUES (%d, '%s')", recordedSums, req.Version, r.sums[req.Version]))
	return err
}

func (r *record) Delete(ctx context.Context, db database.DBTxConn, version int64) error {
	if err := r.Store.Delete(ctx, db, version); err != nil {
		return err
	}
	_, err := db.ExecContext(ctx, fmt.Sprintf("DELETE FROM %s WHERE version_id = %d", recordedSums, version))
	return err
}

// changed returns the files that were changed after they were run.
func (r *running) changed(ctx context.Context) (names []string, err error) {
	if _, err := r.GetDBVersion(ctx); err != nil { // which makes the tables where they are not there
		return nil, err
	}
	rows, err := r.db.QueryContext(ctx, "SELECT version_id, up_sum FROM "+recordedSums+" ORDER BY version_id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var number int64
		var sum string
		if err := rows.Scan(&number, &sum); err != nil {
			return nil, err
		}
		if now := r.record.sums[number]; now != "" && now != sum {
			names = append(names, r.record.names[number])
		}
	}
	return names, rows.Err()
}
