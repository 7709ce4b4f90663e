// Package osprey answers nested queries over a typed schema whose fields say
// where their data is, and asks each store once for each step of the way.
//
// A project is a folder with osprey.yaml, which names the stores, and schema/,
// the types with their bindings. The command osprey serves such a folder;
// [Open] does so inside a program of one's own, which can add functions
// ([Func]), scalars ([Scalar]), sources ([WithSource]) and types ([WithTypes]).
//
//	service, err := osprey.Open(ctx, "harbour")
//	if err != nil {
//		return err // with the place of each finding
//	}
//	defer service.Close()
//	http.ListenAndServe("127.0.0.1:7420", service)
package osprey

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"osprey/core/schema"
	"osprey/core/store"
	"osprey/project"
	"osprey/publishing"
	"osprey/service"
	"osprey/stores/functions"
)

// A Service is an open project. Its methods may be called at the same time.
//
// As an [http.Handler] it serves operations at /graphql, the schema at
// /schema.graphql, and its health at /live and /ready.
type Service struct {
	project *project.Project
	handler *service.Service
	keeper  *publishing.Keeper // nil without records
	stop    func()
}

// An Option adds to what the folder of a project says.
type Option func(*settings) error

type settings struct {
	log     *slog.Logger
	console http.Handler
	add     project.Additions
}

// WithLog makes the service write to a log other than [slog.Default].
func WithLog(log *slog.Logger) Option {
	return func(s *settings) error {
		s.log = log
		return nil
	}
}

// WithConsole serves the web console at /console/, as package osprey/console
// has it.
func WithConsole(h http.Handler) Option {
	return func(s *settings) error {
		s.console = h
		return nil
	}
}

// WithFunctions adds functions for fields with @computed(by:).
func WithFunctions(list ...Function) Option {
	return func(s *settings) error {
		if s.add.Functions == nil {
			s.add.Functions = map[string]functions.Func{}
		}
		for _, f := range list {
			if _, twice := s.add.Functions[f.name]; twice {
				return fmt.Errorf("osprey: there are two functions called %s", f.name)
			}
			s.add.Functions[f.name] = f.run
		}
		return nil
	}
}

// WithSource adds a source of one's own, for types with @stored(in: name). Its
// naming rule is one of exact, snake and camel, as in osprey.yaml. The service
// closes the source.
func WithSource(name string, source store.Source, naming string) Option {
	return func(s *settings) error {
		if s.add.Sources == nil {
			s.add.Sources = map[string]project.AddedSource{}
		}
		if _, twice := s.add.Sources[name]; twice {
			return fmt.Errorf("osprey: there are two sources called %s", name)
		}
		s.add.Sources[name] = project.AddedSource{Store: source, Naming: naming}
		return nil
	}
}

// A Scalar is a leaf type of one's own.
type Scalar struct {
	Name        string
	SpecifiedBy string // URL of its specification, or ""
	Description string
	// Parse checks a value that a caller gives (a string, int64, float64 or bool)
	// and returns it as it is stored. Nil takes every value.
	Parse func(v any) (any, error)
	// Format returns a stored value as callers see it. Nil leaves it as it is.
	Format func(stored string) (string, error)
}

// WithScalar adds a scalar to the schema, which must not define it itself.
func WithScalar(scalar Scalar) Option {
	return func(s *settings) error {
		var b strings.Builder
		writeDescription(&b, "", scalar.Description)
		fmt.Fprintf(&b, "scalar %s", scalar.Name)
		if scalar.SpecifiedBy != "" {
			fmt.Fprintf(&b, " @specifiedBy(url: %q)", scalar.SpecifiedBy)
		}
		coding := &schema.Coding{Format: scalar.Format}
		if scalar.Parse != nil {
			coding.Parse = func(v any) (schema.Value, error) { return scalar.Parse(v) }
		}
		s.add.Texts = append(s.add.Texts, schema.Text{Name: "(scalar " + scalar.Name + ")", Body: b.String(), Codings: map[string]*schema.Coding{scalar.Name: coding}})
		return nil
	}
}

// WithSchema adds a text to the schema, as a file of the folder schema/ would;
// name stands for it in messages.
func WithSchema(name, text string) Option {
	return func(s *settings) error {
		s.add.Texts = append(s.add.Texts, schema.Text{Name: name, Body: text})
		return nil
	}
}

// Open opens the project in the folder dir. If the project is at fault, the
// error is [Findings]. A store that does not answer is no fault: its fields are
// errors until it does. Open looks for it again every few seconds until
// [Service.Close].
func Open(ctx context.Context, dir string, options ...Option) (*Service, error) {
	s, err := with(options)
	if err != nil {
		return nil, err
	}
	p, keeper, findings, err := publishing.Open(ctx, dir, false, s.log, &s.add)
	if err != nil {
		if findings.Failed() {
			return nil, findingsOf(findings)
		}
		return nil, err
	}
	for _, f := range findings {
		s.log.Warn(f.Msg, "place", f.At.String(), "rule", f.Rule, "fix", f.Fix)
	}
	follow, stop := context.WithCancel(context.WithoutCancel(ctx))
	own := &Service{p, service.New(service.Config{Project: p, Log: s.log, MaxBody: int64(p.Own.Limits.Body), Console: s.console, Keeper: keeper}), keeper, stop}
	go p.Follow(follow)
	if keeper != nil {
		own.stop = keeper.Start(follow, "a program", stop)
	}
	return own, nil
}

// with returns what options say together.
func with(options []Option) (*settings, error) {
	s := &settings{}
	for _, o := range options {
		if err := o(s); err != nil {
			return nil, err
		}
	}
	if s.log == nil {
		s.log = slog.Default()
	}
	return s, nil
}

// ServeHTTP answers a request.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

// Close ends what runs beside the answers, and closes the project's sources.
func (s *Service) Close() {
	s.handler.End()
	s.stop()
	s.project.Close()
}

// Schema returns the schema as clients may know it.
func (s *Service) Schema() string { return s.project.Revision().Schema.Print() }

// An Operation is what is asked of a service: the text of a document, which of
// its operations is meant, and the values of the variables.
type Operation struct {
	Text      string // the document; "" asks the saved operation called Name
	Name      string // which operation of the text is meant, if it has several
	Variables map[string]any
	// Once is a key under which a mutation is done once, however often it is asked, where the
	// project keeps such keys (idempotency in osprey.yaml); "" does it each time.
	Once string
	// Caller is who asks, by which rules are told and whom functions see; nil is nobody.
	Caller *Caller
}

// An Answer is the response to an operation.
type Answer struct {
	Data   json.RawMessage // nil if the operation was refused
	Errors []Error
	// Requests are the store requests that were made.
	Requests []StoreRequest
}

// An Error is one error of an answer. An operation that is refused as a whole has
// request errors, with places in its text; a field that could not be answered has
// a field error, with a path in the answer (sections 7.1.1 and 7.1.2 of the GraphQL
// specification, September 2025).
type Error struct {
	Message string
	Code    string  // such as STORE_DOWN; docs/errors.md has all
	Rule    string  // of a text that does not fit the schema: the title in the specification
	Fix     string  // what to do about it, or ""
	Source  string  // the source concerned, or ""
	Places  []Place // in the text of the operation; none where the text is sound
	Path    []any   // names and positions in the answer; nil of request errors
	More    int     // how many further fields have the same error
}

// A Place is a line and a column of a text, both from 1.
type Place struct{ Line, Column int }

// Error returns the message with its path, or the first of its places.
func (e *Error) Error() string {
	if len(e.Path) == 0 {
		if len(e.Places) > 0 {
			return fmt.Sprintf("%d:%d: %s", e.Places[0].Line, e.Places[0].Column, e.Message)
		}
		return e.Message
	}
	parts := make([]string, len(e.Path))
	for i, p := range e.Path {
		parts[i] = fmt.Sprint(p)
	}
	return strings.Join(parts, ".") + ": " + e.Message
}

// errorOf returns an error as an answer tells it.
func errorOf(f *project.Fault) Error {
	e := Error{Message: f.Message, Code: f.Code, Rule: f.Rule, Fix: f.Fix, Source: f.Source, Path: f.Path, More: f.More}
	for _, at := range f.Locations {
		e.Places = append(e.Places, Place{at.Line, at.Column})
	}
	return e
}

// A StoreRequest is one that was made.
type StoreRequest struct {
	Wave       int // from 1; the requests of a wave are made at the same time
	Source     string
	Asks       string
	RoundTrips int
	Keys       int // distinct keys that went in
	Calls      int // of a function: how many different ones
	Records    int // records that came back
}

// Ask answers an operation in this process. What is wrong with the operation or
// the stores is among the answer's errors; the error is of variables that are no
// JSON, of a saved operation that there is not, or of the context.
func (s *Service) Ask(ctx context.Context, op Operation) (*Answer, error) {
	revision, release := s.project.Hold()
	defer release()
	asked, err := op.request(revision)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	got := revision.Ask(ctx, asked)
	defer got.Free()
	if s.keeper != nil {
		s.keeper.Count(got, "(in the program)", asked.RequestID(), time.Since(began))
	}
	a := &Answer{}
	if !got.Refused {
		a.Data = bytes.Clone(got.Data)
	}
	for i := range got.Faults {
		a.Errors = append(a.Errors, errorOf(&got.Faults[i]))
	}
	for _, c := range got.Requests {
		a.Requests = append(a.Requests, StoreRequest{c.Wave, c.Source, c.Asks, c.RoundTrips, c.Keys, c.Calls, c.Records})
	}
	return a, ctx.Err()
}

// request returns an operation as the project takes it.
func (op *Operation) request(revision *project.Revision) (*project.Request, error) {
	asked := &project.Request{Query: op.Text, OperationName: op.Name, Once: op.Once}
	if c := op.Caller; c != nil {
		asked.Caller = &store.Caller{ID: c.ID, Who: &store.Identity{ID: c.ID, Name: c.Name, Roles: c.Roles, Claims: c.Claims}}
	}
	if op.Text == "" {
		text, err := revision.SavedFor(context.Background(), op.Name, "", asked.Who())
		if err != nil {
			return nil, err
		}
		asked.Query = text
	}
	if len(op.Variables) == 0 {
		return asked, nil
	}
	text, err := json.Marshal(op.Variables)
	if err != nil {
		return nil, fmt.Errorf("osprey: the variables cannot be written as JSON: %w", err)
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return asked, d.Decode(&asked.Variables)
}

// Explain shows which store requests an operation takes, without making them. The
// error, an [*Error], says why the operation is refused.
func (s *Service) Explain(op Operation) (string, error) {
	revision, release := s.project.Hold()
	defer release()
	asked, err := op.request(revision)
	if err != nil {
		return "", err
	}
	e, faults := revision.Explain(asked)
	if len(faults) > 0 {
		refused := errorOf(&faults[0])
		return "", &refused
	}
	return e.Text(false), nil
}
