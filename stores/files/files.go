// Package files reads files as record sets: JSON, JSON Lines and CSV. It is for
// a project's first hour and for tests: a file is read as a whole, and again
// when it has changed.
package files

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"osprey/core/store"
)

// Config configures a source. The zero value of a bound means its default.
type Config struct {
	Folder   string
	MaxBytes int64 // largest file; default 64 MB
}

// A Source is one folder. Each file in it is a record set of the file's name
// without its extension.
type Source struct {
	config Config

	mu   sync.Mutex // guards what follows
	read map[string]*contents
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
	if c.MaxBytes <= 0 {
		c.MaxBytes = 64 << 20
	}
	return &Source{config: c, read: map[string]*contents{}}, nil
}

// Capabilities says that the engine sorts, cuts and counts.
func (s *Source) Capabilities() store.Capabilities { return store.Capabilities{Group: store.ByRead} }

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

// Prepare makes a read of one file.
func (s *Source) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	sets, err := s.sets()
	if err != nil {
		return nil, err
	}
	path := sets[reads[0].Set]
	if path == "" {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "has no file of the set " + reads[0].Set}
	}
	return &request{s, path, reads[0]}, nil
}

type request struct {
	source *Source
	path   string
	read   *store.Read
}

// Describe names the file.
func (r *request) Describe() store.Description {
	asks := filepath.Base(r.path)
	var by []string
	for _, k := range r.read.Keys {
		by = append(by, r.read.Columns[k].Path)
	}
	for i := range r.read.Where {
		for _, path := range r.read.Where[i].Paths(nil) {
			if !slices.Contains(by, path) {
				by = append(by, path)
			}
		}
	}
	if len(by) > 0 {
		asks += " by " + strings.Join(by, ", ")
	}
	return store.Description{Asks: asks, Statement: "read " + filepath.Base(r.path)}
}

// Run looks at every record of the file.
func (r *request) Run(_ context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	records, err := r.source.records(r.path)
	if err != nil {
		return nil, err
	}
	members := store.NewMembers(r.read, &in[0])
	t := store.NewTable(r.read.Columns)
	for _, record := range records {
		if !members.Has(store.JSONSubject{Value: record}) {
			continue
		}
		t.Len++
		for i := range r.read.Columns {
			w := &r.read.Columns[i]
			t.Columns[i].AppendJSON(w, store.JSONPath(record, w.Path))
		}
	}
	return &store.Answer{Tables: []*store.Table{t}, Requests: 1}, nil
}
