package project

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/tables"
	"osprey/stores/relational"
)

// This file compares the tables of a relational source with the types, and writes what is to be
// done as the next of its files.

// Tables is the tables of a source, and the files by which they are made.
type Tables struct {
	*TableFiles
	Plan  *tables.Plan
	Drawn string // the tables and how they lead to each other, as text
	SVG   string // and as a drawing
}

// readTables reads a project, and the files of one of its sources.
func readTables(ctx context.Context, dir, name string, waiting func([]string)) (*Project, *Source, *TableFiles, error) {
	p, source, err := readSource(ctx, dir, slog.New(slog.DiscardHandler), name, &Additions{Waiting: waiting})
	if err != nil {
		return nil, nil, nil, err
	}
	files, err := tableFiles(dir, name, p.Config.Sources[name])
	if err != nil {
		p.Close()
		return nil, nil, nil, err
	}
	return p, source, files, nil
}

// OpenTables compares the types of a project with what a source of it holds.
func OpenTables(ctx context.Context, dir, name string, chosen tables.Choices, waiting func([]string)) (*Tables, error) {
	p, source, files, err := readTables(ctx, dir, name, waiting)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	t := &Tables{TableFiles: files}
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
		return nil, fmt.Errorf("%w: the source %s has not told what it holds: %s", ErrUnreachable, name, told(why))
	}
	s, found := binding.Build(p.all(), foldingSources(dir))
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
	t.Drawn, t.SVG = tables.Drawn(list), tables.SVG(list, catalogue)
	t.Plan, err = tables.Compare(list, catalogue, tables.Dialects[t.config.Kind], p.ownSets(name), chosen)
	return t, err
}

// ownSets are record sets of a source that hold nothing of those who use it.
func (p *Project) ownSets(source string) []string {
	own := []string{recorded, recordedSums, "goose_db_version", "sqlite_sequence"}
	if c := p.Config.Idempotency; c != nil && c.Source == source {
		own = append(own, c.Table)
	}
	return own
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
