// Package files reads and writes files as record sets: JSON, JSON Lines and CSV. It is for
// a project's first hour and for tests: a file is read as a whole, and again
// when it has changed, and written as a whole.
package files

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"osprey/core/store"
)

// Config configures a source. The zero value of a bound means its default.
type Config struct {
	Folder     string
	MaxRecords int   // most records of an answer; default [store.DefaultMaxRecords]
	MaxBytes   int64 // largest file; default 64 MB
}

// A Source is one folder. Each file in it is a record set of the file's name
// without its extension.
type Source struct {
	config Config

	writes chan struct{} // one place: whose it is, writes

	mu    sync.Mutex // guards what follows
	read  map[string]*contents
	known *store.Catalogue // as it was told last
}

// contents is what was read of a file.
type contents struct {
	changed time.Time
	size    int64
	records []any
}

// Open makes a source.
func Open(c Config) (*Source, error) {
	if c.Folder == "" {
		return nil, errors.New(`it has no folder; write folder: and its path`)
	}
	if c.MaxRecords <= 0 {
		c.MaxRecords = store.DefaultMaxRecords
	}
	if c.MaxBytes <= 0 {
		c.MaxBytes = 64 << 20
	}
	return &Source{config: c, writes: make(chan struct{}, 1), read: map[string]*contents{}}, nil
}

// Capabilities says that all files are one store: what is related by fields of one kind
// is part of a request, while the engine sorts, cuts and counts.
func (s *Source) Capabilities() store.Capabilities {
	return store.Capabilities{Fold: true, CanFold: s.canFold, Group: store.BySource, Write: s.writing()}
}

// canFold reports whether records of two files can be matched here: by fields of which
// all values are of one kind.
func (s *Source) canFold(set string, here []string, related string, there []string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil || s.known.Sets[set] == nil || s.known.Sets[related] == nil {
		return false
	}
	for i := range here {
		a, b := s.known.Sets[set].Field(here[i]), s.known.Sets[related].Field(there[i])
		if a == nil || b == nil || a.Kind != b.Kind || a.Kind == store.Unknown || a.Kind == store.List || a.Kind == store.JSON {
			return false
		}
	}
	return true
}

// Ping reports whether the folder can be read.
func (s *Source) Ping(context.Context) error {
	_, err := s.sets()
	return err
}

// Close does nothing.
func (s *Source) Close() error { return nil }

// sets returns the paths of the files by the names of their sets.
func (s *Source) sets() (map[string]string, error) {
	entries, err := os.ReadDir(s.config.Folder)
	if err != nil {
		return nil, &store.Error{Code: store.Down, Msg: "has no folder to read", Err: err}
	}
	sets := map[string]string{}
	for _, e := range entries {
		ext := filepath.Ext(e.Name())
		if e.IsDir() || readers[ext] == nil {
			continue
		}
		name := strings.TrimSuffix(e.Name(), ext)
		if other := sets[name]; other != "" {
			return nil, &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("has two files of the name %s: %s and %s", name, filepath.Base(other), e.Name())}
		}
		sets[name] = filepath.Join(s.config.Folder, e.Name())
	}
	return sets, nil
}

// records returns the records of a file, which is read if it has changed.
func (s *Source) records(path string) ([]any, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, &store.Error{Code: store.Down, Msg: "has no file to read", Err: err}
	}
	if info.Size() > s.config.MaxBytes {
		return nil, &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("has a file of more than %d bytes, which is the limit", s.config.MaxBytes), Err: errors.New(path)}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.read[path]; c != nil && c.changed.Equal(info.ModTime()) && c.size == info.Size() {
		return c.records, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, &store.Error{Code: store.Down, Msg: "has a file that cannot be read", Err: err}
	}
	records, err := readers[filepath.Ext(path)](text)
	if err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("has a file that is not as its name says: %s, %v", filepath.Base(path), err), Err: errors.New(path)}
	}
	s.read[path] = &contents{info.ModTime(), info.Size(), records}
	return records, nil
}
