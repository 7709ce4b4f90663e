// Package document reads document databases that speak MongoDB's wire
// protocol: one find for each collection of a wave.
//
// Documents are read as they come over the wire; each wanted path is looked up
// in the bytes and appended to its column. What does not fit the wanted kind is
// bad at its place and nowhere else. Keys are asked for in every type in which
// the collection has them: text, numbers and object ids.
package document

import (
	"context"
	"errors"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"go.mongodb.org/mongo-driver/v2/event"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/readpref"
	"go.mongodb.org/mongo-driver/v2/x/mongo/driver/topology"

	"osprey/core/store"
)

// Config configures a source. The zero value of a bound means its default.
type Config struct {
	URL     string        // mongodb://host:port/database
	Pool    int           // most requests at once; default [DefaultPool]
	Timeout time.Duration // for each request; default [store.DefaultTimeout]
	// MaxRecords is how many documents an answer may have; default
	// [store.DefaultMaxRecords].
	MaxRecords int
	// MaxAnswer is how many bytes the documents of an answer may have; default
	// [store.DefaultMaxAnswer].
	MaxAnswer int64
	Sample    int // how many documents of a collection tell its fields; default 200
}

// DefaultPool is how many requests are made at once if nothing is configured.
const DefaultPool = 20

// A Source is one database.
type Source struct {
	client  *mongo.Client
	pool    *pool
	db      *mongo.Database
	prefers *readpref.ReadPref
	timeout time.Duration
	sample  int
	most    int   // documents of an answer
	bytes   int64 // of the documents of an answer, at most
	// transacts says that the server has transactions.
	transacts atomic.Bool
	// noFilters says that the server was found not to know array filters.
	noFilters atomic.Bool
	uuids
}

// Open makes a source. It connects in the background.
func Open(c Config) (*Source, error) {
	u, err := url.Parse(c.URL)
	if err != nil || !strings.HasPrefix(u.Scheme, "mongodb") {
		return nil, errors.New("the address is not of the form mongodb://host:port/database")
	}
	name := strings.Trim(u.Path, "/")
	if name == "" {
		return nil, errors.New("the address names no database; it is of the form mongodb://host:port/database")
	}
	if c.Pool <= 0 {
		c.Pool = DefaultPool
	}
	if c.Timeout <= 0 {
		c.Timeout = store.DefaultTimeout
	}
	if c.MaxRecords <= 0 {
		c.MaxRecords = store.DefaultMaxRecords
	}
	if c.MaxAnswer <= 0 {
		c.MaxAnswer = store.DefaultMaxAnswer
	}
	if c.Sample <= 0 {
		c.Sample = 200
	}
	opts := options.Client().ApplyURI(c.URL)
	prefers := opts.ReadPreference
	if prefers == nil {
		prefers = readpref.Primary()
	}
	pool := &pool{most: c.Pool + 1}
	client, err := mongo.Connect(opts.SetAppName("osprey").
		SetPoolMonitor(&event.PoolMonitor{Event: pool.note}).SetMaxPoolSize(uint64(c.Pool + 1)).SetServerSelectionTimeout(c.Timeout).SetConnectTimeout(c.Timeout))
	if err != nil {
		return nil, errors.New("the address cannot be used: " + strings.ReplaceAll(err.Error(), c.URL, "…"))
	}
	legacy := uuids(u.Query().Get(legacyOption))
	if _, known := legacyOrders[legacy]; legacy != "" && !known {
		return nil, errors.New("the address says " + legacyOption + "=" + string(legacy) + ", which is none of csharpLegacy, javaLegacy, pythonLegacy and standard")
	}
	return &Source{uuids: legacy, pool: pool, client: client, db: client.Database(name), prefers: prefers, timeout: c.Timeout, sample: c.Sample, most: c.MaxRecords, bytes: c.MaxAnswer}, nil
}

// Capabilities says what a find does: it sorts and cuts as a whole, not for each key. It is
// written to document by document, or, as far as the server has them, in transactions.
func (s *Source) Capabilities() store.Capabilities {
	return store.Capabilities{Group: store.BySet, Page: store.PageWhole, Count: true, Write: s.writing()}
}

// Ping reports whether the database answers.
func (s *Source) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	return fail(ctx, s.client.Ping(ctx, readpref.Nearest()))
}

// Close closes the connections.
func (s *Source) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), s.timeout)
	defer cancel()
	return s.client.Disconnect(ctx)
}

// fail turns an error of the driver into one of the port.
func fail(ctx context.Context, err error) error {
	var selection topology.ServerSelectionError
	var command mongo.CommandError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &selection), mongo.IsNetworkError(err) && !mongo.IsTimeout(err):
		return &store.Error{Code: store.Down, Msg: "cannot be reached", Err: err}
	case mongo.IsTimeout(err):
		return &store.Error{Code: store.Timeout, Msg: "did not answer within its time limit", Err: err}
	case errors.As(err, &command):
		return &store.Error{Code: store.BadAnswer, Msg: "refused the request", Err: err}
	}
	return store.Fail(ctx, err, "broke off its answer")
}
