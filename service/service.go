// Package service is Osprey over HTTP: the endpoint for operations (GraphQL
// over HTTP), the schema, health, and what the console and the command line
// use. All work is done in other packages; here requests are decoded, answered
// and logged.
package service

import (
	"crypto/tls"
	"encoding/json"
	"log"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/gzhttp"
	"golang.org/x/time/rate"

	"osprey/access"
	"osprey/core/assist"
	"osprey/project"
	"osprey/publishing"
	"osprey/records"
)

// Config configures a service. The zero value of a bound means its default.
type Config struct {
	Project  *project.Project
	Console  http.Handler  // serves the console below its path; nil leaves it out
	Log      *slog.Logger  // nil means slog.Default
	MaxBody  int64         // largest request body in bytes; default 1 MiB
	Patience time.Duration // how long a caller may take to read 64 KiB; default 30 s
	// Listen is the host:port at which the service is reached; "" if another program
	// serves it, which then checks for which hosts requests are.
	Listen string
	// Keeper keeps the records of the service; nil if it has none.
	Keeper *publishing.Keeper
	// Follows says that the project's files are followed, so that what is written there is served.
	Follows bool
	// TLS is how connections are encrypted; nil if they are not.
	TLS *tls.Config
}

// A Service answers requests over HTTP. It is safe for concurrent use.
type Service struct {
	Config
	access    *access.Access // nil if everybody may ask everything
	admission *admission
	refusals  *rate.Limiter // of lines in the log
	untold    atomic.Int64  // refusals that are not in it
	routes    chi.Routes
	router    http.Handler
	stopping  atomic.Bool
	unready   unready
	underWay  atomic.Int64 // requests
	streams   atomic.Int64 // open streams of events
	open      open
	patches   patches
	ends      chan struct{}
	end       sync.Once
}

// New makes a service.
func New(c Config) *Service {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	if c.MaxBody <= 0 {
		c.MaxBody = 1 << 20
	}
	if c.Patience <= 0 {
		c.Patience = 30 * time.Second
	}
	s := &Service{Config: c, admission: newAdmission(int(c.Project.Own.Limits.Concurrent)), ends: make(chan struct{}), refusals: rate.NewLimiter(10, 20)}
	s.access = s.callers()
	r := chi.NewRouter()
	r.Use(s.counted, s.requestID, s.patient, s.recoverer, secured, s.checkHost, s.shared, s.sockets, compressed)
	r.Get("/live", s.live)
	r.Get("/ready", s.ready)
	r.Group(func(r chi.Router) {
		r.Use(s.identified, s.assuming)
		r.Get("/graphql", s.endpoint)
		r.Post("/graphql", s.endpoint)
		r.Get("/schema.graphql", s.schema)
		r.Group(func(r chi.Router) {
			r.Use(s.consoles)
			r.Get("/api/v1/status", s.status)
			r.Post("/api/v1/plans", s.plans)
			r.Get("/api/v1/types", s.types)
			r.Get("/api/v1/operations", s.operations)
			r.Post("/api/v1/tidy", s.tidy)
			r.Post("/api/v1/snippets", s.snippets)
			r.Post("/api/v1/problems", s.problems)
			r.Post("/api/v1/completions", s.completions)
			r.Post("/api/v1/variables/problems", s.variableProblems)
			r.Post("/api/v1/variables/completions", s.variableCompletions)
			r.Post("/api/v1/meaning", s.meaning)
			s.administration(r)
		})
	})
	r.Get("/api/v1/pages", s.pages)
	r.Get("/api/v1/pages/{name}", s.page)
	r.Get("/api/v1/pages/screenshots/{name}", s.picture)
	if c.Console != nil {
		r.Handle("/console", http.RedirectHandler("/console/", http.StatusMovedPermanently))
		r.Handle("/console/*", http.StripPrefix("/console", c.Console))
		r.Get("/", http.RedirectHandler("/console/", http.StatusFound).ServeHTTP)
	}
	r.NotFound(func(w http.ResponseWriter, req *http.Request) {
		problem(w, http.StatusNotFound, "nothing is served at "+clipped(req.URL.Path), "operations go to /graphql")
	})
	r.MethodNotAllowed(s.wrongMethod)
	s.routes, s.router = r, r
	return s
}

// End ends streams of events, which would otherwise keep a server from stopping.
func (s *Service) End() { s.end.Do(func() { close(s.ends) }) }

// Routes returns what is served.
func (s *Service) Routes() chi.Routes { return s.routes }

// ServeHTTP answers a request.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

// serverLog takes what the server says of connections: what a caller does with
// its own is no error of the service.
func (s *Service) serverLog() *log.Logger { return slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug) }

// compressed compresses answers for callers that take it so. Below the size of
// two packets it costs more than it saves.
var compressed = func() func(http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(2800), gzhttp.ContentTypes([]string{
		mediaResponse, mediaJSON, "text/plain", "text/html", "text/css", "text/javascript", "image/svg+xml"}))
	if err != nil {
		panic(err) // the options are constants
	}
	return func(next http.Handler) http.Handler { return wrap(next) }
}()

// schema writes the schema as clients may know it.
func (s *Service) schema(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Write([]byte(s.Project.Revision().SchemaFor(viewerOf(r)).Print()))
}

// plans explains an operation without running it.
func (s *Service) plans(w http.ResponseWriter, r *http.Request) {
	revision, release := s.Project.Hold()
	defer release()
	q, bad := s.decodeBody(r)
	if bad == nil {
		q.Caller = callerOf(r)
		bad = fill(r.Context(), q, revision)
	}
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return
	}
	e, faults := revision.Explain(q)
	if faults != nil {
		a := project.Answer{Refused: true, Faults: faults}
		write(w, http.StatusUnprocessableEntity, "application/json; charset=utf-8", a.AppendJSON(nil, false))
		return
	}
	if !s.tellsStatements(r) {
		e.HideStatements()
	}
	text, err := json.Marshal(e)
	if err != nil {
		panic(err) // the explanation holds nothing that JSON cannot
	}
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}

// operations lists the operations that the project keeps.
func (s *Service) operations(w http.ResponseWriter, r *http.Request) {
	type saved struct {
		Name   string `json:"name"`
		Text   string `json:"text"`
		SHA256 string `json:"sha256"`
	}
	list := []saved{}
	revision, release := s.Project.Hold()
	defer release()
	for _, op := range revision.Operations {
		if !revision.Sees(r.Context(), op.Text, viewerOf(r)) {
			continue // it speaks of what is not there for the caller
		}
		list = append(list, saved{op.Name, op.Text, project.HashOf(op.Text)})
	}
	first := ""
	if !revision.Empty() {
		first = assist.First(revision.SchemaFor(viewerOf(r)))
	}
	answer(w, map[string]any{"operations": list, "first": first, "writable": s.writable(r)})
}

// types tells what the schema has, as it is for the caller, where it comes from, and which saved operations use it.
func (s *Service) types(w http.ResponseWriter, r *http.Request) {
	revision, release := s.Project.Hold()
	defer release()
	answer(w, map[string]any{"empty": revision.Empty(), "types": revision.Reference(viewerOf(r), s.tellsStatements(r)), "uses": revision.SavedUses(r.Context(), viewerOf(r))})
}

func write(w http.ResponseWriter, status int, contentType string, body []byte) {
	w.Header().Set("Content-Type", contentType)
	w.WriteHeader(status)
	w.Write(body)
}

// problem answers with problem details (RFC 9457).
func problem(w http.ResponseWriter, status int, detail, fix string) {
	problemWith(w, status, details{Detail: detail, Fix: fix})
}

// details are what is told of a problem. Beyond the members of RFC 9457 are what to do about it, and
// what is wrong with what was published.
type details struct {
	Title    string                `json:"title"`
	Status   int                   `json:"status"`
	Detail   string                `json:"detail"`
	Fix      string                `json:"fix,omitempty"`
	Findings []project.FindingJSON `json:"findings,omitempty"`
	Broken   []publishing.Broken   `json:"broken,omitempty"`
	Last     *records.Revision     `json:"last,omitempty"`
}

func problemWith(w http.ResponseWriter, status int, d details) {
	d.Title, d.Status = http.StatusText(status), status
	text, err := json.Marshal(d)
	if err != nil {
		panic(err) // it holds nothing that JSON cannot
	}
	write(w, status, "application/problem+json", text)
}

// wrongMethod answers 405 and says which methods there are.
func (s *Service) wrongMethod(w http.ResponseWriter, r *http.Request) {
	var allowed []string
	for _, method := range []string{http.MethodDelete, http.MethodGet, http.MethodPost, http.MethodPut} {
		if s.routes.Match(chi.NewRouteContext(), method, r.URL.Path) {
			allowed = append(allowed, method)
		}
	}
	w.Header().Set("Allow", strings.Join(allowed, ", "))
	problem(w, http.StatusMethodNotAllowed, "the method "+r.Method+" is not allowed at "+clipped(r.URL.Path), "use "+strings.Join(allowed, ", "))
}

// recoverer keeps a fault of one request from ending the process. Where a part
// of the answer was sent, the connection is cut: nobody must take it for whole.
func (s *Service) recoverer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil {
				if p == http.ErrAbortHandler {
					panic(p)
				}
				s.Log.ErrorContext(r.Context(), "a request failed by a fault of the service", "request", w.Header().Get("X-Request-Id"), "panic", p, "stack", string(debug.Stack()))
				if p, ok := w.(*patientWriter); ok && p.began {
					panic(http.ErrAbortHandler)
				}
				problem(w, http.StatusInternalServerError, "the service failed; its log has the details", "")
			}
		}()
		next.ServeHTTP(w, r)
	})
}
