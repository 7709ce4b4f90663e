// Package peers has the handlers that Osprey is measured against: the same
// answer, written by hand for that one request, in the ways that people write
// such handlers. Each is as good as its way allows; none is a straw man.
//
// The request is the arrivals board of the harbour's registry: the latest port
// calls, each with its craft and the craft's operator, its berth and its
// pilots: what demo/harbour/operations/Latest.graphql asks Osprey for. GET
// /arrivals?limit=N answers it.
package peers

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/klauspost/compress/gzhttp"
)

// A Peer is one way to write the handler.
type Peer struct {
	Name  string
	Title string
	// Generic makes the database keep one plan for a statement, whatever the
	// limit. Each peer has the setting with which it is faster.
	Generic bool
	// Statements are prepared on each connection, by their names. Peers without
	// leave it to the driver, which does the same at the first use.
	Statements map[string]string
	// Answer writes the body for the limit latest calls.
	Answer func(ctx context.Context, db *pgxpool.Pool, w http.ResponseWriter, limit int) error
}

// All are the peers, the plainest first.
var All = []Peer{
	{Name: "nested", Title: "a query for every nested object", Answer: nested},
	{Name: "levels", Title: "a query per level, structs, encoding/json", Answer: levels},
	{Name: "pipelined", Title: "the same in one pipelined trip", Generic: true, Answer: pipelined},
	{Name: "dbjson", Title: "one statement, the database builds the JSON", Answer: databaseJSON},
	{Name: "union", Title: "one statement, raw values, append writer", Generic: true, Statements: unionStatements, Answer: union},
	{Name: "raw", Title: "one pipelined trip, raw values, append writer", Generic: true, Statements: rawStatements, Answer: raw},
}

// Open connects a peer's pool.
func (p *Peer) Open(ctx context.Context, url string, connections int) (*pgxpool.Pool, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	config.MaxConns, config.MinConns = int32(connections), int32(connections)
	config.ConnConfig.RuntimeParams["jit"] = "off"
	if p.Generic {
		config.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	}
	config.AfterConnect = func(ctx context.Context, conn *pgx.Conn) error {
		for name, text := range p.Statements {
			if _, err := conn.PgConn().Prepare(ctx, name, text, nil); err != nil {
				return err
			}
		}
		return nil
	}
	return pgxpool.NewWithConfig(ctx, config)
}

// Handler serves the peer as services are served: by a router, with an id for
// each request, a guard against panics, and compression for who takes it.
func (p *Peer) Handler(db *pgxpool.Pool) http.Handler {
	return serve(func(r *http.Request, w http.ResponseWriter, limit int) error {
		return p.Answer(r.Context(), db, w, limit)
	})
}

func serve(answer func(r *http.Request, w http.ResponseWriter, limit int) error) http.Handler {
	return handle(http.MethodGet, answer)
}

func handle(method string, answer func(r *http.Request, w http.ResponseWriter, limit int) error) http.Handler {
	compressed, err := gzhttp.NewWrapper(gzhttp.MinSize(2800), gzhttp.ContentTypes([]string{"application/json"}))
	if err != nil {
		panic(err) // the options are constants
	}
	r := chi.NewRouter()
	r.Use(middleware.RequestID, middleware.Recoverer, func(next http.Handler) http.Handler { return compressed(next) })
	r.MethodFunc(method, "/arrivals", func(w http.ResponseWriter, r *http.Request) {
		limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
		if err != nil || limit < 0 {
			http.Error(w, "limit must be a whole number", http.StatusBadRequest)
			return
		}
		ctx, cancel := context.WithTimeout(r.Context(), 20*time.Second)
		defer cancel()
		w.Header().Set("Content-Type", "application/json; charset=utf-8")
		if err := answer(r.WithContext(ctx), w, limit); err != nil {
			http.Error(w, "the registry cannot be asked: "+err.Error(), http.StatusBadGateway)
		}
	})
	return r
}
