// Package service is Osprey over HTTP: the endpoint for operations (GraphQL
// over HTTP), the schema, health, and what the console and the command line
// use. All work is done in other packages; here requests are decoded, answered
// and logged.
package service

import (
	"context"
	"encoding/json"
	"log/slog"
	"net"
	"net/http"
	"runtime/debug"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/klauspost/compress/gzhttp"

	"osprey/project"
)

// Config configures a service.
type Config struct {
	Project *project.Project
	Console http.Handler // serves the console below its path; nil leaves it out
	Log     *slog.Logger // nil means slog.Default
	MaxBody int64        // largest request body in bytes; 0 means 1 MiB
}

// Handler returns the service as an HTTP handler.
func Handler(c Config) http.Handler {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	if c.MaxBody <= 0 {
		c.MaxBody = 1 << 20
	}
	s := &server{c}
	r := chi.NewRouter()
	r.Use(s.requestID, s.recoverer, compressed)
	r.Get("/graphql", s.endpoint)
	r.Post("/graphql", s.endpoint)
	r.Get("/schema.graphql", s.schema)
	r.Get("/live", s.live)
	r.Get("/ready", s.ready)
	r.Post("/api/v1/plans", s.plans)
	r.Get("/api/v1/operations", s.operations)
	r.Post("/api/v1/problems", s.problems)
	r.Post("/api/v1/completions", s.completions)
	r.Post("/api/v1/meaning", s.meaning)
	if c.Console != nil {
		r.Handle("/console", http.RedirectHandler("/console/", http.StatusMovedPermanently))
		r.Handle("/console/*", http.StripPrefix("/console", c.Console))
		r.Get("/", http.RedirectHandler("/console/", http.StatusFound).ServeHTTP)
	}
	r.NotFound(func(w http.ResponseWriter, req *http.Request) {
		problem(w, http.StatusNotFound, "nothing is served at "+req.URL.Path, "operations go to /graphql")
	})
	r.MethodNotAllowed(s.wrongMethod)
	return r
}

type server struct{ Config }

// Serve answers requests on the listener until ctx ends; then it takes no new
// ones and lets those under way finish.
func Serve(ctx context.Context, l net.Listener, h http.Handler) error {
	srv := &http.Server{
		Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
	}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	drain, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	err := srv.Shutdown(drain)
	<-failed
	return err
}

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
func (s *server) schema(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Write([]byte(s.Project.Revision().Schema.Print()))
}

// plans explains an operation without running it.
func (s *server) plans(w http.ResponseWriter, r *http.Request) {
	revision := s.Project.Revision()
	q, bad := s.decodeBody(w, r)
	if bad == nil {
		bad = fill(q, revision)
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
	text, err := json.Marshal(e)
	if err != nil {
		panic(err) // the explanation holds nothing that JSON cannot
	}
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}

// operations lists the operations that the project keeps.
func (s *server) operations(w http.ResponseWriter, r *http.Request) {
	type saved struct {
		Name string `json:"name"`
		Text string `json:"text"`
	}
	list := []saved{}
	for _, op := range s.Project.Operations {
		list = append(list, saved{op.Name, op.Text})
	}
	text, _ := json.Marshal(map[string]any{"operations": list})
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}

func write(w http.ResponseWriter, status int, contentType string, body []byte) {
	w.Header().Set("Content-Type", contentType)
	w.WriteHeader(status)
	w.Write(body)
}

// problem answers with problem details (RFC 9457).
func problem(w http.ResponseWriter, status int, detail, fix string) {
	text, _ := json.Marshal(struct {
		Title  string `json:"title"`
		Status int    `json:"status"`
		Detail string `json:"detail"`
		Fix    string `json:"fix,omitempty"`
	}{http.StatusText(status), status, detail, fix})
	write(w, status, "application/problem+json", text)
}

// wrongMethod answers 405 and says which methods there are.
func (s *server) wrongMethod(w http.ResponseWriter, r *http.Request) {
	allowed := "GET"
	switch r.URL.Path {
	case "/graphql":
		allowed = "GET, POST"
	case "/api/v1/plans", "/api/v1/problems", "/api/v1/completions", "/api/v1/meaning":
		allowed = "POST"
	}
	w.Header().Set("Allow", allowed)
	problem(w, http.StatusMethodNotAllowed, "the method "+r.Method+" is not allowed at "+r.URL.Path, "use "+allowed)
}

// recoverer keeps a fault of one request from ending the process. Where a part
// of the answer was sent, the connection is cut: nobody must take it for whole.
func (s *server) recoverer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(plain http.ResponseWriter, r *http.Request) {
		w := middleware.NewWrapResponseWriter(plain, r.ProtoMajor)
		defer func() {
			if p := recover(); p != nil {
				if p == http.ErrAbortHandler {
					panic(p)
				}
				s.Log.ErrorContext(r.Context(), "a request failed by a fault of the service", "request", w.Header().Get("X-Request-Id"), "panic", p, "stack", string(debug.Stack()))
				if w.Status() != 0 {
					panic(http.ErrAbortHandler)
				}
				problem(w, http.StatusInternalServerError, "the service failed; its log has the details", "")
			}
		}()
		next.ServeHTTP(w, r)
	})
}
