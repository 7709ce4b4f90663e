package project

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
	"github.com/pressly/goose/v3/lock"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/tables"
	"osprey/stores/relational"
)

// This file makes the tables of a relational source fit the types: by numbered files of SQL with
// both directions, which goose runs and records in the database.

// recorded is the table in which the database says which files were run.
const recorded = "osprey_tables"

// Tables is the tables of a source, and the files by which they are made.
type Tables struct {
	Folder string // of the files
	Plan   *tables.Plan
	Drawn  string // the tables and how they lead to each other

	source  string
	config  *SourceConfig
	dir     string
	dialect goose.Dialect
}

// OpenTables compares the types of a project with what a source of it holds.
func OpenTables(ctx context.Context, dir, name string, chosen tables.Choices, waiting func([]string)) (*Tables, error) {
	p, problems, err := read(ctx, dir, slog.New(slog.DiscardHandler), &Additions{Waiting: waiting})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if problems.Failed() {
		return nil, placed(problems, inOne(p.config))
	}
	source := p.Sources[name]
	if source == nil {
		return nil, fmt.Errorf("osprey.yaml declares no source %q%s", name, language.DidYouMean(name, sortedNames(p.Sources)))
	}
	t := &Tables{Folder: filepath.Join(dir, "tables", name), source: name, config: p.Config.Sources[name], dir: dir}
	kinds := map[string]goose.Dialect{relational.Postgres: goose.DialectPostgres, relational.MySQL: goose.DialectMySQL, relational.SQLite: goose.DialectSQLite3}
	if t.dialect = kinds[t.config.Kind]; t.dialect == "" {
		return nil, fmt.Errorf("the source %s is of the kind %s; tables are made in postgres, mysql and sqlite", name, t.config.Kind)
	}
	catalogue, why := source.known()
	if catalogue == nil && t.config.Kind == relational.SQLite { // a file that is not there yet
		db, err := t.open()
		if err == nil {
			err = db.PingContext(ctx)
			db.Close()
		}
		if err == nil {
			why = source.readCatalogue(ctx)
		}
		catalogue, _ = source.known()
	}
	if catalogue == nil {
		return nil, fmt.Errorf("the source %s has not told what it holds: %s", name, told(why))
	}
	s, found := binding.Build(p.texts, foldingSources(dir))
	if findings := placed(found, s.Source); findings.Failed() {
		return nil, findings
	}
	list, faults := tables.Of(s, name, source.naming)
	if len(faults) > 0 {
		var wrong language.Problems
		for _, f := range faults {
			wrong = append(wrong, &language.Problem{Severity: language.Error, Rule: "tables", Pos: f.Pos, Coordinate: f.Coordinate, Msg: f.Msg})
		}
		return nil, placed(wrong, s.Source)
	}
	own := []string{recorded, "goose_db_version", "sqlite_sequence"}
	if c := p.Config.Idempotency; c != nil && c.Source == name {
		own = append(own, c.Table)
	}
	t.Drawn = tables.Drawn(list)
	t.Plan, err = tables.Compare(list, catalogue, tables.Dialects[t.config.Kind], own, chosen)
	return t, err
}

// fileName is what files are called: their number, and what they are for.
var fileName = regexp.MustCompile(`^(\d+)_.*\.sql$`)

// files returns the files that there are, in their order.
func (t *Tables) files() ([]string, error) {
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

// Write writes the plan as the next file, and returns its path.
func (t *Tables) Write(what string) (string, error) {
	files, err := t.files()
	if err != nil {
		return "", err
	}
	number := 1
	if n := len(files); n > 0 {
		fmt.Sscanf(files[n-1], "%d", &number)
		number++
	}
	what = strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(what), "_"), "_")
	if what == "" {
		what = "tables"
	}
	path := filepath.Join(t.Folder, fmt.Sprintf("%05d_%s.sql", number, what))
	if err := os.MkdirAll(t.Folder, 0o755); err != nil {
		return "", err
	}
	return path, writeWhole(path, t.Plan.File())
}

// A FileState is whether a file was run.
type FileState struct {
	Name string
	At   time.Time // when it was run; the zero time if it was not
}

func (t *Tables) open() (*sql.DB, error) {
	return relational.Administered(relational.Config{Kind: t.config.Kind, URL: t.config.URL, Dir: t.dir})
}

// with runs do with what runs the files.
func (t *Tables) with(ctx context.Context, do func(p *goose.Provider) error) error {
	if files, err := t.files(); err != nil || len(files) == 0 {
		return errors.Join(err, do(nil))
	}
	db, err := t.open()
	if err != nil {
		return err
	}
	defer db.Close()
	own, err := database.NewStore(database.Dialect(t.dialect), recorded)
	if err != nil {
		return err
	}
	options := []goose.ProviderOption{goose.WithStore(own), goose.WithLogger(goose.NopLogger())}
	if t.dialect == goose.DialectPostgres { // of several that begin at once, one goes first
		locker, err := lock.NewPostgresSessionLocker()
		if err != nil {
			return err
		}
		options = append(options, goose.WithSessionLocker(locker))
	}
	provider, err := goose.NewProvider("", db, os.DirFS(t.Folder), options...)
	if err != nil {
		return fmt.Errorf("the files in %s cannot be read: %w", t.Folder, err)
	}
	return do(provider)
}

// Apply runs the files that were not run yet, each in a transaction, and returns their names.
func (t *Tables) Apply(ctx context.Context) (run []string, err error) {
	err = t.with(ctx, func(p *goose.Provider) error {
		if p == nil {
			return nil
		}
		results, err := p.Up(ctx)
		var part *goose.PartialError
		if errors.As(err, &part) {
			results = part.Applied
			err = fmt.Errorf("%s failed, and nothing of it is done, but for what the database cannot undo: %w", filepath.Base(part.Failed.Source.Path), part.Err)
		}
		for _, r := range results {
			run = append(run, filepath.Base(r.Source.Path))
		}
		return err
	})
	return run, err
}

// Undo undoes the last file that was run, and returns its name; "" if none was.
func (t *Tables) Undo(ctx context.Context) (name string, err error) {
	err = t.with(ctx, func(p *goose.Provider) error {
		if p == nil {
			return nil
		}
		r, err := p.Down(ctx)
		if errors.Is(err, goose.ErrNoNextVersion) {
			return nil
		}
		if err == nil {
			name = filepath.Base(r.Source.Path)
		}
		return err
	})
	return name, err
}

// Status returns the files, and whether they were run.
func (t *Tables) Status(ctx context.Context) (list []FileState, err error) {
	err = t.with(ctx, func(p *goose.Provider) error {
		if p == nil {
			return nil
		}
		states, err := p.Status(ctx)
		for _, s := range states {
			own := FileState{Name: filepath.Base(s.Source.Path)}
			if s.State == goose.StateApplied {
				own.At = s.AppliedAt
			}
			list = append(list, own)
		}
		return err
	})
	slices.SortFunc(list, func(a, b FileState) int { return strings.Compare(a.Name, b.Name) })
	return list, err
}
