// Package rest reads remote HTTP services that answer JSON. What a service
// offers is told by configuration: for each resource its fields and the ways to
// read it, as URI templates (RFC 6570), with a JSONPath (RFC 9535) to the
// records in an answer.
//
// A resource that takes many keys in one request is asked once for a wave; one
// that takes one key at a time is asked once for each distinct key, a bounded
// number of requests at the same time.
package rest

import (
	"context"
	"errors"
	"maps"
	"net/http"
	"slices"
	"time"

	"osprey/core/store"
	"osprey/stores/remote"
)

// Config configures a source. The zero value of a bound means its default.
type Config struct {
	URL         string            // where all paths begin: https://host/base
	Headers     map[string]string // sent with each request; values may be secrets
	Forward     []string          // headers passed on from the caller's request
	Tell        remote.Tell       // headers that say who asks
	Timeout     time.Duration     // for each request; default [store.DefaultTimeout]
	Concurrency int               // most requests at once; default 8
	MaxBytes    int64             // largest answer that is read; default 16 MiB
	MaxRecords  int               // most records of an answer; default [store.DefaultMaxRecords]
	Retries     int               // how often a failed request is made again; default 2, below 0 never
	JSONAPI     bool              // the service speaks JSON:API 1.1
	Sets        []Set
}

// A Set is a resource.
type Set struct {
	Name   string
	Key    []string // the fields that identify a record; may be empty
	Fields []Field
	Reads  []ReadForm
	Writes Writes
	// Related has, of a resource of JSON:API, the sets that its relationships
	// lead to; each is also a field, of the related id or ids.
	Related map[string]string
}

// A Field is a field of a resource's records.
type Field struct {
	Name     string // with dots inside nested objects
	Kind     store.Kind
	List     bool // a list of Kind
	Nullable bool
}

// A ReadForm is one way to read a resource.
type ReadForm struct {
	Get  string // URI template; its variables are fields of the resource, or parameters
	Many string // the variable that takes many values; "" if none does
	Pick string // JSONPath to the records; "" if the answer is a record or a list of them

	MaxKeys int // most keys in one request; default 100
	// Takes says of further variables which comparison they make: the stored
	// field and its operator, such as "at atLeast".
	Takes map[string]string
	Pages *Pages // nil if an answer is whole
	// Sort, Limit and Offset are variables by which the service sorts and cuts
	// what it lists; SortKeys says how it names an order such as "at desc".
	Sort, Limit, Offset string
	SortKeys            map[string]string
}

// Pages says how an answer leads to the next page of it: by one of Link, Next
// alone, Cursor with Next, and Number.
type Pages struct {
	Link   bool   // by the header Link with rel="next" (RFC 8288)
	Next   string // JSONPath to the address of the next page
	Cursor string // the variable that takes what Next leads to
	Number string // the variable that takes the page's number, from First on
	First  int    // default 1
	Count  string // JSONPath to the number of pages; "" reads until a page is empty
	Most   int    // how many pages are read at most; default 20
}

// A Source is one service.
type Source struct {
	service     *remote.Service
	client      *http.Client
	timeout     time.Duration
	concurrency int
	maxBytes    int64
	maxRecords  int
	jsonAPI     bool
	direct      *http.Client // without the cache
	writer      *http.Client // without the cache, and without retries
	keeps       *cache
	sets        map[string]*set
	catalogue   *store.Catalogue
}

// Open makes a source. It asks the service nothing.
func Open(c Config) (*Source, error) {
	if c.Timeout <= 0 {
		c.Timeout = store.DefaultTimeout
	}
	service, err := remote.New(c.URL, c.Headers, c.Forward, c.Tell, c.Timeout)
	if err != nil {
		return nil, err
	}
	if c.Concurrency <= 0 {
		c.Concurrency = 8
	}
	if c.MaxRecords <= 0 {
		c.MaxRecords = store.DefaultMaxRecords
	}
	if c.MaxBytes <= 0 {
		c.MaxBytes = 16 << 20
	}
	s := &Source{
		service: service, timeout: c.Timeout, concurrency: c.Concurrency, maxBytes: c.MaxBytes,
		sets: map[string]*set{}, catalogue: &store.Catalogue{Sets: map[string]*store.Set{}},
		jsonAPI: c.JSONAPI, maxRecords: c.MaxRecords,
	}
	s.client, s.direct, s.writer, s.keeps = clients(&c)
	var wrong []error
	for _, config := range c.Sets {
		if c.JSONAPI {
			config = resourceFields(config)
		}
		set, err := newSet(config, c.JSONAPI)
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		s.sets[config.Name] = set
		s.catalogue.Sets[config.Name] = catalogueOf(config)
	}
	if wrong != nil {
		return nil, errors.Join(wrong...)
	}
	return s, nil
}

func catalogueOf(c Set) *store.Set {
	set := &store.Set{Name: c.Name, What: "resource"}
	if len(c.Key) > 0 {
		set.Keys = [][]string{c.Key}
	}
	for _, f := range c.Fields {
		field := store.Field{Name: f.Name, Kind: f.Kind, Type: f.Kind.String(), Nullable: f.Nullable}
		if f.List {
			field.Kind, field.Elem, field.Type = store.List, f.Kind, "list of "+f.Kind.String()
		}
		field.Filled = c.Writes.Add != nil && slices.Contains(c.Key, f.Name) // if it is not given, the service makes it
		set.Fields = append(set.Fields, field)
	}
	for _, name := range slices.Sorted(maps.Keys(c.Related)) { // relationships of JSON:API
		set.Constraints = append(set.Constraints, store.Constraint{Name: name, Fields: []string{name}, Set: c.Related[name], There: []string{"id"}})
	}
	return set
}

// Catalogue returns what the configuration tells.
func (s *Source) Catalogue(context.Context) (*store.Catalogue, error) { return s.catalogue, nil }

// Capabilities says that the engine sorts and cuts, but for what the reads of a
// resource take, and that JSON:API brings related resources along.
func (s *Source) Capabilities() store.Capabilities {
	return store.Capabilities{Group: store.ByRead, Fold: s.jsonAPI, CanRead: s.canRead, CanFold: s.canFold, CanPage: s.canPage, Takes: s.takes, Write: s.writing()}
}

// Ping reports whether something listens at the service's address. It makes no
// request: a service need not have a resource that costs nothing.
func (s *Source) Ping(ctx context.Context) error { return s.service.Ping(ctx) }

// Close closes idle connections.
func (s *Source) Close() error {
	s.client.CloseIdleConnections()
	s.direct.CloseIdleConnections()
	return nil
}

// newRequest makes a request with the configured and forwarded headers.
func (s *Source) newRequest(ctx context.Context, from *store.Caller, address string) (*http.Request, error) {
	accept := "application/json"
	if s.jsonAPI {
		accept = jsonAPIType
	}
	r, err := s.service.NewRequest(ctx, from, http.MethodGet, address, accept, nil)
	if err == nil && store.Fresh(ctx) {
		r.Header.Set("Cache-Control", "max-age=0") // what is kept is asked for again, on condition (RFC 9111, section 5.2.1.1)
	}
	return r, err
}
