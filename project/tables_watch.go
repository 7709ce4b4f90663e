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

// watchedBy returns of which of its sets a source tells changes.
func watchedBy(ctx context.Context, s *Source) (store.Telling, error) {
	if w, ok := s.Store.(store.Watcher); ok {
		return w.Watched(ctx)
	}
	return store.Telling{}, nil
}

// By what a database tells its changes.
const (
	ByReplication = "replication"
	ByTriggers    = "triggers"
)

// Watched is what makes a database tell which records change.
type Watched struct {
	*Tables
	By  string // ByReplication or ByTriggers
	Why string // it is that
}

// OpenWatched returns what makes the database of a source tell which records of some types change: by one of the two ways, or by
// "" the better one that the database has.
func OpenWatched(ctx context.Context, dir, name string, types []string, by string, waiting func([]string)) (*Watched, error) {
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
	t := &Watched{Tables: &Tables{TableFiles: files, Plan: &tables.Plan{}}}
	begun, err := t.choose(ctx, name, by)
	if err != nil {
		return nil, err
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
		if noted.Sets[r.Set] == nil && !slices.ContainsFunc(list, func(w tables.WatchedSet) bool { return w.Table == r.Set }) {
			list = append(list, tables.WatchedSet{Table: r.Set, Key: r.Key})
		}
	}
	switch {
	case len(list) == 0:
	case t.By == ByReplication:
		t.Plan = tables.Publishing(list, begun)
	default:
		t.Plan = tables.Watching(list, begun)
	}
	return t, nil
}

// choose finds by what the database is to tell its changes, and whether it does of some already.
func (t *Watched) choose(ctx context.Context, name, by string) (begun bool, err error) {
	db, err := t.open()
	if err != nil {
		return false, err
	}
	defer db.Close()
	has, err := relational.TellingOf(ctx, db)
	switch {
	case err != nil:
		return false, fmt.Errorf("%w: the source %s %s", ErrUnreachable, name, told(err))
	case has.Published:
		t.By, t.Why, begun = ByReplication, "which it does already", true
	case has.Triggers:
		t.By, t.Why, begun = ByTriggers, "which it has already", true
	case has.Level != "logical":
		t.By, t.Why = ByTriggers, "its wal_level is "+has.Level+", and replication needs logical"
	case !has.May:
		t.By, t.Why = ByTriggers, "replication needs a user with the right to it: ALTER ROLE "+has.User+" REPLICATION"
	default:
		t.By, t.Why = ByReplication, "its wal_level is logical"
	}
	switch {
	case by == "" || by == t.By:
	case begun:
		return false, fmt.Errorf("the database tells changes by %s already; osprey tables undo %s takes that back", t.By, name)
	case by == ByReplication:
		return false, fmt.Errorf("the database cannot tell changes by replication: %s", t.Why)
	default:
		t.By, t.Why = by, "as was said"
	}
	return begun, nil
}
