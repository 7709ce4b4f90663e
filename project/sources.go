package project

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/store"
	"osprey/stores/document"
	"osprey/stores/files"
	"osprey/stores/functions"
	"osprey/stores/guard"
	"osprey/stores/relational"
	"osprey/stores/remote"
	"osprey/stores/rest"
)

// A Source is a configured store that is open.
type Source struct {
	Name  string
	Kind  string
	Store store.Source

	naming binding.Naming
	users  atomic.Int64 // contents and revisions that have it

	mu        sync.Mutex // guards what follows
	catalogue *store.Catalogue
	err       error         // why there is no catalogue
	tells     store.Telling // of which sets the store tells changes
	reads     news          // of the catalogue
}

// kinds opens each kind of source; paths are relative to dir.
var kinds = func() map[string]func(dir string, c *SourceConfig) (store.Source, error) {
	all := map[string]func(dir string, c *SourceConfig) (store.Source, error){
		"mongodb": func(_ string, c *SourceConfig) (store.Source, error) {
			return opened(document.Open(document.Config{URL: c.URL, Pool: int(c.Pool), Timeout: time.Duration(c.Timeout), Sample: int(c.Sample), MaxRecords: int(c.MaxRecords), MaxAnswer: int64(c.MaxAnswer)}))
		},
		"rest":          openREST,
		"files":         openFiles,
		functions.Kind:  openFunctions,
		functions.Local: func(string, *SourceConfig) (store.Source, error) { return &absent{}, nil },
	}
	for _, kind := range relational.Kinds() {
		all[kind] = openRelational
	}
	return all
}()

// Kinds returns the kinds of sources.
func Kinds() []string { return sortedNames(kinds) }

// opened keeps a nil source from becoming an interface that is not nil.
func opened[S store.Source](s S, err error) (store.Source, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

func openRelational(dir string, c *SourceConfig) (store.Source, error) {
	return opened(relational.Open(relational.Config{Kind: c.Kind, URL: c.URL, Dir: dir, Pool: int(c.Pool), Timeout: time.Duration(c.Timeout), MaxRecords: int(c.MaxRecords), MaxAnswer: int64(c.MaxAnswer)}))
}

func openFiles(dir string, c *SourceConfig) (store.Source, error) {
	folder := c.Folder
	if folder != "" && !filepath.IsAbs(folder) {
		folder = filepath.Join(dir, folder)
	}
	return opened(files.Open(files.Config{Folder: folder, MaxRecords: int(c.MaxRecords), MaxBytes: int64(c.MaxAnswer)}))
}

func openFunctions(_ string, c *SourceConfig) (store.Source, error) {
	return opened(functions.Open(functions.Config{URL: c.URL, Headers: c.Headers, Forward: c.Forward, Tell: c.tell(), Timeout: time.Duration(c.Timeout), MaxBytes: int64(c.MaxAnswer)}))
}

// tell returns the headers by which a service is told who asks.
func (c *SourceConfig) tell() remote.Tell {
	if c.Caller == nil {
		return remote.Tell{}
	}
	return remote.Tell{ID: c.Caller.ID, Roles: c.Caller.Roles}
}

func openREST(_ string, c *SourceConfig) (store.Source, error) {
	retries := 0
	if c.Retries != nil {
		if retries = int(*c.Retries); retries == 0 {
			retries = -1 // none, and not the default
		}
	}
	if c.Format != "" && c.Format != "json" && c.Format != "jsonapi" {
		return nil, fmt.Errorf("format is %q; there are json and jsonapi", c.Format)
	}
	config := rest.Config{Retries: retries, MaxRecords: int(c.MaxRecords), JSONAPI: c.Format == "jsonapi", URL: c.URL, Headers: c.Headers, Forward: c.Forward, Tell: c.tell(), Timeout: time.Duration(c.Timeout), Concurrency: int(c.Concurrency), MaxBytes: int64(c.MaxAnswer)}
	var wrong []error
	for _, name := range sortedNames(c.Sets) {
		from := c.Sets[name]
		set := rest.Set{Name: name, Key: from.Key, Related: from.Related}
		fields, err := restFields(from.Fields)
		for _, err := range each(err) {
			wrong = append(wrong, fmt.Errorf("set %s: %w", name, err))
		}
		for _, f := range fields {
			set.Fields = append(set.Fields, rest.Field{Name: f.name, Kind: f.kind, List: f.list, Nullable: f.nullable})
		}
		for _, r := range from.Reads {
			form := rest.ReadForm{Get: r.Get, Many: r.Many, Pick: r.Pick, MaxKeys: int(r.MaxKeys), Takes: r.Takes,
				Sort: r.Sort, SortKeys: r.SortKeys, Limit: r.Limit, Offset: r.Offset}
			if p := r.Pages; p != nil {
				form.Pages = &rest.Pages{Link: p.Link, Next: p.Next, Cursor: p.Cursor, Number: p.Number, First: int(p.First), Count: p.Count, Most: int(p.Most)}
			}
			set.Reads = append(set.Reads, form)
		}
		for _, w := range []struct {
			from *WriteConfig
			to   **rest.WriteForm
		}{{from.Writes.Add, &set.Writes.Add}, {from.Writes.Replace, &set.Writes.Replace}, {from.Writes.Change, &set.Writes.Change}, {from.Writes.Adjust, &set.Writes.Adjust}, {from.Writes.Remove, &set.Writes.Remove}} {
			if c := w.from; c != nil {
				*w.to = &rest.WriteForm{Post: c.Post, Put: c.Put, Patch: c.Patch, Delete: c.Delete, Wrap: c.Wrap, Pick: c.Pick, Match: c.Match, Gone: ints(c.Gone), Conflict: ints(c.Conflict), Invalid: ints(c.Invalid)}
			}
		}
		config.Sets = append(config.Sets, set)
	}
	source, err := opened(rest.Open(config))
	if wrong = append(wrong, each(err)...); len(wrong) > 0 {
		return nil, errors.Join(wrong...)
	}
	return source, nil
}

func ints(list []Count) (n []int) {
	for _, c := range list {
		n = append(n, int(c))
	}
	return n
}

// openSources opens every source, connecting to none. One that cannot be opened, or in
// whose entry something is wrong, stands there as one of which nothing is known. What keep
// gives for an entry is taken instead of opening it; it may be nil.
func openSources(config *Config, src *language.Source, keep func(name string, c *SourceConfig) *Source) (map[string]*Source, language.Problems) {
	var problems language.Problems
	sources := map[string]*Source{}
	for _, name := range sortedNames(config.Sources) {
		c := config.Sources[name]
		if keep != nil && !config.broken[name] {
			if known := keep(name, c); known != nil {
				known.users.Add(1)
				sources[name] = known
				continue
			}
		}
		pos := findText(src, name+":")
		s := &Source{Name: name, Kind: c.Kind, naming: binding.Naming(c.Naming)}
		s.users.Store(1) // the content that it is opened for
		sources[name] = s
		s.Store = &broken{}
		open := kinds[c.Kind]
		switch {
		case config.broken[name]:
		case open == nil:
			problems.Add(ruleConfig, pos, "the source %s is of the kind %q%s", name, c.Kind, language.DidYouMean(c.Kind, sortedNames(kinds))).
				Fix = "kinds are " + language.OneOf(sortedNames(kinds))
		default:
			opened, err := open(filepath.Dir(src.Name), c)
			for _, err := range each(err) {
				problems.Add(ruleConfig, pos, "the source %s cannot be opened: %v", name, err)
			}
			if err == nil {
				s.Store = guarded(opened, c)
			}
		}
	}
	return sources, problems
}

// each returns the errors that were joined, or the one that there is.
func each(err error) []error {
	if err == nil {
		return nil
	}
	joined, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return []error{err}
	}
	var list []error
	for _, err := range joined.Unwrap() {
		list = append(list, each(err)...)
	}
	return list
}

// broken stands for a source whose entry in osprey.yaml is wrong: what it holds and
// can do is not known, and nothing is told of it beyond that.
type broken struct{ absent }

// Capabilities says that it can do everything.
func (*broken) Capabilities() store.Capabilities {
	return store.Capabilities{Fold: true, Group: store.BySource, Page: store.PagePerKey, Aggregate: true, Count: true, Link: true,
		CanCall: func(string, store.Signature) error { return nil }}
}

// guarded puts a guard before a source that is asked over a network, or whose
// requests take connections of a pool.
func guarded(s store.Source, c *SourceConfig) store.Source {
	g := guard.Config{Concurrent: int(c.Pool), Queue: int(c.Queue), Wait: time.Duration(c.Timeout)}
	switch c.Kind {
	case "files", functions.Local:
		return s
	case "rest", functions.Kind:
		g.Concurrent = cmp.Or(g.Concurrent, 32)
	case "mongodb":
		g.Concurrent = cmp.Or(g.Concurrent, document.DefaultPool)
	default:
		g.Concurrent = cmp.Or(g.Concurrent, relational.DefaultPool())
	}
	return guard.New(s, g)
}

// readCatalogue asks the store for its catalogue.
func (s *Source) readCatalogue(ctx context.Context) error {
	c, err := s.Store.Catalogue(ctx)
	var tells store.Telling
	if err == nil {
		tells, err = watchedBy(ctx, s)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err = err; err == nil { // else what was known is known still
		s.catalogue, s.tells = c, tells
		s.reads.tell()
	}
	return err
}

// forget drops a catalogue that cannot be used, so that it is read again.
func (s *Source) forget(why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.catalogue, s.err = nil, why
}

// known returns the catalogue, or nil with the reason why there is none.
func (s *Source) known() (*store.Catalogue, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.catalogue, s.err
}

// bind returns what binding needs to know.
func (s *Source) bind() *binding.Source {
	b := &binding.Source{Name: s.Name, Kind: s.Kind, Naming: s.naming, Capabilities: s.Store.Capabilities()}
	b.Catalogue, _ = s.known()
	s.mu.Lock()
	b.Tells, b.TellsBy = s.tells.Sets, s.tells.By
	s.mu.Unlock()
	return b
}

// Unknown returns why the store's catalogue is not known, or nil if it is.
func (s *Source) Unknown() error {
	c, err := s.known()
	if c != nil {
		return nil
	}
	return err
}

// Elsewhere reports whether the source is one that another program brings.
func (s *Source) Elsewhere() bool {
	_, elsewhere := s.Store.(*absent)
	return elsewhere
}
