package project

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/pressly/goose/v3"

	"osprey/stores/relational"
)

// This file runs the files of SQL by which the tables of a relational source are made: each has a
// number and both directions. goose runs them and records them in the database.

// TableFiles is the files by which the tables of a source are made.
type TableFiles struct {
	Folder string

	config  *SourceConfig
	dir     string
	dialect goose.Dialect
}

// tableFiles returns the files of a source of the project in dir.
func tableFiles(dir, source string, config *SourceConfig) (*TableFiles, error) {
	kinds := map[string]goose.Dialect{relational.Postgres: goose.DialectPostgres, relational.MySQL: goose.DialectMySQL, relational.SQLite: goose.DialectSQLite3}
	t := &TableFiles{Folder: filepath.Join(dir, "tables", source), config: config, dir: dir, dialect: kinds[config.Kind]}
	if t.dialect == "" {
		return nil, fmt.Errorf("the source %s is of the kind %s; tables are made in postgres, mysql and sqlite", source, config.Kind)
	}
	return t, nil
}

// ApplyTables runs the files of all sources of the project in dir that were not run yet. Of
// several that begin at once, one goes first, and the others find nothing to do. Told hears of each
// file that was run.
func ApplyTables(ctx context.Context, dir string, told func(source, file string)) error {
	folders, err := os.ReadDir(filepath.Join(dir, "tables"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	texts, err := ReadFiles(dir)
	if err != nil {
		return err
	}
	src, osprey, problems, err := texts.config(dir)
	if err != nil {
		return err
	}
	if problems.Failed() {
		return placed(problems, inOne(src))
	}
	for _, folder := range folders {
		config := osprey.Sources[folder.Name()]
		if config == nil {
			return fmt.Errorf("%s has files of tables, and osprey.yaml declares no source %q", filepath.Join(dir, "tables", folder.Name()), folder.Name())
		}
		files, err := tableFiles(dir, folder.Name(), config)
		if err != nil {
			return err
		}
		run, err := files.Apply(ctx)
		for _, file := range run {
			told(folder.Name(), file)
		}
		if err != nil {
			return fmt.Errorf("the tables of %s: %w", folder.Name(), err)
		}
	}
	return nil
}

// fileName is what files are called: their number, and what they are for.
var fileName = regexp.MustCompile(`^(\d+)_.*\.sql$`)

// files returns the files that there are, in their order.
func (t *TableFiles) files() ([]string, error) {
	entries, err := os.ReadDir(t.Folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var list []string
	for _, e := range entries {
		if fileName.MatchString(e.Name()) {
			list = append(list, e.Name())
		}
	}
	return list, nil
}

// A FileState is whether a file was run.
type FileState struct {
	Name    string
	At      time.Time // when it was run; the zero time if it was not
	Changed bool      // what is to be run was changed since
}

func (t *TableFiles) open() (*sql.DB, error) {
	return relational.Administered(relational.Config{Kind: t.config.Kind, URL: t.config.URL, Dir: t.dir})
}

// ErrUnreachable is the error of a database that does not answer.
var ErrUnreachable = errors.New("the database cannot be reached")

// reachable returns ErrUnreachable, and why, of a database that does not answer.
func reachable(ctx context.Context, db *sql.DB) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	err := db.PingContext(ctx)
	var dialled *net.OpError // without the lines that a driver tells around it
	if errors.As(err, &dialled) {
		err = dialled
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return nil
}

// with runs do with what runs the files.
func (t *TableFiles) with(ctx context.Context, do func(r *running) error) error {
	if files, err := t.files(); err != nil || len(files) == 0 {
		return errors.Join(err, do(nil))
	}
	db, err := t.open()
	if err != nil {
		return err
	}
	defer db.Close()
	if err := reachable(ctx, db); err != nil {
		return err
	}
	own, err := t.record()
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider("", db, os.DirFS(t.Folder), goose.WithStore(own), goose.WithLogger(goose.NopLogger()), goose.WithSessionLocker(lockerOf(t.config.Kind)))
	if err != nil {
		return fmt.Errorf("the files in %s cannot be read: %w", t.Folder, err)
	}
	return do(&running{provider, own, db})
}

// Apply runs the files that were not run yet, each in a transaction, and returns their names.
func (t *TableFiles) Apply(ctx context.Context) (run []string, err error) {
	err = t.with(ctx, func(r *running) error {
		if r == nil {
			return nil
		}
		changed, err := r.changed(ctx)
		if err != nil {
			return err
		}
		if len(changed) > 0 {
			return fmt.Errorf("%s was changed after it was run, and the database does not have the change: change it back, and write what is new as the next file", changed[0])
		}
		results, err := r.Up(ctx)
		var part *goose.PartialError
		if errors.As(err, &part) {
			results = part.Applied
			err = fmt.Errorf("%s failed, and nothing of it is done, but for what the database cannot undo: %w", filepath.Base(part.Failed.Source.Path), part.Err)
		} else if err != nil {
			err = fmt.Errorf("the files in %s cannot be run: %w", t.Folder, err)
		}
		for _, result := range results {
			run = append(run, filepath.Base(result.Source.Path))
		}
		return err
	})
	return run, err
}

// Undo undoes the last file that was run, and returns its name; "" if none was.
func (t *TableFiles) Undo(ctx context.Context) (name string, err error) {
	err = t.with(ctx, func(r *running) error {
		if r == nil {
			return nil
		}
		result, err := r.Down(ctx)
		if errors.Is(err, goose.ErrNoNextVersion) {
			return nil
		}
		if err == nil {
			name = filepath.Base(result.Source.Path)
		}
		return err
	})
	return name, err
}

// Status returns the files, and whether they were run.
func (t *TableFiles) Status(ctx context.Context) (list []FileState, err error) {
	err = t.with(ctx, func(r *running) error {
		if r == nil {
			return nil
		}
		states, err := r.Status(ctx)
		if err != nil {
			return err
		}
		changed, err := r.changed(ctx)
		for _, s := range states {
			own := FileState{Name: filepath.Base(s.Source.Path)}
			if s.State == goose.StateApplied {
				own.At = s.AppliedAt
				own.Changed = slices.Contains(changed, own.Name)
			}
			list = append(list, own)
		}
		return err
	})
	slices.SortFunc(list, func(a, b FileState) int { return strings.Compare(a.Name, b.Name) })
	return list, err
}
