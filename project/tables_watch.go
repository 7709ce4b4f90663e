package project

import (
	"context"
	"fmt"
	"slices"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/store"
	"osprey/core/tables"
	"osprey/stores/relational"
)

// watchedBy returns of which of its sets a source tells changes; nil of none.
func watchedBy(ctx context.Context, s *Source) (map[string][]string, error) {
	if w, ok := s.Store.(store.Watcher); ok {
		return w.Watched(ctx)
	}
	return nil, nil
}

// OpenWatched returns what makes the database of a source tell which records of some types change.
func OpenWatched(ctx context.Context, dir, name string, types []string, waiting func([]string)) (*Tables, error) {
	p, source, files, err := readTables(ctx, dir, name, waiting)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if files.config.Kind != relational.Postgres {
		return nil, fmt.Errorf("the source %s is of the kind %s; only postgres notes changes for others", name, files.config.Kind)
	}
	catalogue, why := source.known()
	if catalogue == nil {
		return nil, fmt.Errorf("%w: the source %s has not told what it holds: %s", ErrUnreachable, name, told(why))
	}
	_, bound, findings := p.build()
	if bound == nil {
		return nil, findings
	}
	var stored []string
	for _, t := range bound.Schema.Types() {
		if r := bound.Records(t); r != nil && r.Source.Name == name && r.Type == t {
			stored = append(stored, t.String())
		}
	}
	noted, err := watchedBy(ctx, source)
	if err != nil {
		return nil, fmt.Errorf("%w: the source %s %s", ErrUnreachable, name, told(err))
	}
	var list []tables.WatchedSet
	for _, of := range types {
		var r *binding.Records
		if t := bound.Schema.Type(of); t != nil {
			r = bound.Records(t)
		}
		switch {
		case r == nil || r.Source.Name != name:
			return nil, fmt.Errorf("%s is no type whose records are in %s%s", of, name, language.DidYouMean(of, stored))
		case len(r.Key) == 0:
			return nil, fmt.Errorf("%s has no key by which its records could be read", of)
		}
		if noted[r.Set] == nil && !slices.ContainsFunc(list, func(w tables.WatchedSet) bool { return w.Table == r.Set }) {
			list = append(list, tables.WatchedSet{Table: r.Set, Key: r.Key})
		}
	}
	t := &Tables{TableFiles: files, Plan: &tables.Plan{}}
	if len(list) > 0 {
		t.Plan = tables.Watching(list, len(noted) > 0)
	}
	return t, nil
}
