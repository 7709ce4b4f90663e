package relational_test

import (
	"context"
	"database/sql"
	"errors"
	"net/url"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/core/tables"
	"osprey/demo/demotest"
	"osprey/stores/relational"
)

// TestWatchedInTrouble asks a database by what it tells its changes while it does not answer: what was known before
// is known still, and who listens goes on where it was.
func TestWatchedInTrouble(t *testing.T) {
	address := demotest.Database(t)
	db, err := sql.Open("pgx", address)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	exec := func(statement string) {
		t.Helper()
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	exec("CREATE TABLE boats (id int PRIMARY KEY, name text)")
	for _, step := range tables.Watching([]tables.WatchedSet{{Table: "boats", Key: []string{"id"}}}, false).Steps {
		for _, statement := range step.Up {
			exec(statement)
		}
	}
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	proxy := demotest.NewProxy(t, u.Host)
	u.Host = proxy.Address
	s, err := relational.Open(relational.Config{URL: u.String(), Pool: 2, Timeout: 500 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if told, err := s.Watched(t.Context()); err != nil || told.By != "triggers" || told.Sets["boats"] == nil {
		t.Fatalf("it tells %+v, %v", told, err)
	}
	// heard returns where it begins, or what it tells.
	heard := func(after string) (got store.Batch, err error) {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		enough := errors.New("enough")
		err = s.Watch(ctx, after, func(b store.Batch) error {
			got = b
			return enough
		})
		if errors.Is(err, enough) {
			err = nil
		}
		return got, err
	}
	begun, err := heard("")
	if err != nil {
		t.Fatal(err)
	}
	exec("INSERT INTO boats VALUES (1, 'Auk')")
	for _, fault := range []demotest.Fault{demotest.Hanging, demotest.Dead, demotest.Cut, demotest.Garbage} {
		proxy.Be(fault)
		if told, err := s.Watched(t.Context()); err == nil {
			t.Errorf("%s: it tells %+v", fault, told)
		}
		start := time.Now()
		if got, err := heard(begun.At); err == nil || errors.Is(err, store.ErrTooOld) || time.Since(start) > 15*time.Second {
			t.Errorf("%s: after %s it tells %+v, %v", fault, time.Since(start), got, err)
		}
		proxy.Be(demotest.NoFault)
		var got store.Batch
		for until := time.Now().Add(5 * time.Second); time.Now().Before(until); { // connections that were spoilt are found to be
			if got, err = heard(begun.At); err == nil {
				break
			}
		}
		if err != nil || len(got.Events) != 1 {
			t.Errorf("%s: behind it, it tells %+v, %v", fault, got, err)
		}
	}
}
