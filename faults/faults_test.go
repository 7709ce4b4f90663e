// Package faults has no code: its tests put every kind of store in every fault
// that a network and a store can have, and look at what callers are told, how soon,
// and whether all is well when the store is.
//
// "make test" runs them in their short form, "make faults" whole: with many callers
// at once, and each fault also while requests are under way.
package faults

import (
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/demo/demotest"
	"osprey/project"
)

func TestMain(m *testing.M) { demotest.Main(m) }

var whole = flag.Bool("whole", false, "every fault with many callers, and while requests are under way")

// within is the time limit of each source, and rows how many records each has.
const (
	within = 500 * time.Millisecond
	rows   = 40
	most   = "200KB"
)

// A kind is a kind of store, with a field of the query type that reads it.
type kind struct {
	name  string
	proxy *demotest.Proxy
	http  *standIn // of services; nil for databases
}

// A standIn is a service that can misbehave by its own.
type standIn struct {
	status atomic.Int64 // 0 is none in particular
	huge   atomic.Bool
	answer func(r *http.Request) string
}

func (s *standIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	if status := int(s.status.Load()); status != 0 {
		w.Header().Set("Retry-After", "30")
		w.WriteHeader(status)
		return
	}
	if s.huge.Load() {
		w.Write([]byte(`{"results": [`))
		record := []byte(`{"id": 1, "name": "` + strings.Repeat("x", 1000) + `"},`)
		for range 20_000 {
			if _, err := w.Write(record); err != nil {
				return
			}
		}
		return
	}
	io.WriteString(w, s.answer(r))
}

// records writes the records of a service.
func records(form string) string {
	var list []string
	for i := range rows {
		list = append(list, fmt.Sprintf(form, i, i))
	}
	return strings.Join(list, ",")
}

// A port is a project over stores of every kind, each behind a proxy.
type port struct {
	project *project.Project
	kinds   []*kind
}

func newPort(t *testing.T) *port {
	t.Helper()
	p := &port{}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	behind := func(name, address string, service *standIn) string {
		t.Helper()
		u, err := url.Parse(address)
		must(err)
		k := &kind{name: name, proxy: demotest.NewProxy(t, u.Host), http: service}
		p.kinds = append(p.kinds, k)
		u.Host = k.proxy.Address
		return u.String()
	}
	serve := func(name string, answer func(r *http.Request) string) string {
		t.Helper()
		s := &standIn{answer: answer}
		server := httptest.NewServer(s)
		t.Cleanup(server.Close)
		return behind(name, server.URL, s)
	}
	fill := func(db *sql.DB, create, name string) {
		t.Helper()
		_, err := db.Exec(create)
		must(err)
		for i := range rows {
			_, err := db.Exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, 'Berth %d')", name, i, i))
			must(err)
		}
	}
	pg, err := sql.Open("pgx", demotest.Harbour().RegistryURL)
	must(err)
	defer pg.Close()
	_, err = pg.Exec("DROP SCHEMA IF EXISTS faults CASCADE; CREATE SCHEMA faults")
	must(err)
	fill(pg, "CREATE TABLE faults.berths (id int PRIMARY KEY, name text NOT NULL)", "faults.berths")
	mysqlURL, dsn := demotest.MariaDB(t)
	my, err := sql.Open("mysql", dsn)
	must(err)
	defer my.Close()
	fill(my, "CREATE TABLE berths (id int PRIMARY KEY, name varchar(100) NOT NULL)", "berths")
	client, err := mongo.Connect(options.Client().ApplyURI(demotest.Harbour().InspectionsURL))
	must(err)
	defer client.Disconnect(context.Background())
	collection := client.Database("faults").Collection("berths")
	must(collection.Drop(context.Background()))
	for i := range rows {
		_, err := collection.InsertOne(context.Background(), bson.D{{Key: "_id", Value: i}, {Key: "id", Value: i}, {Key: "name", Value: fmt.Sprint("Berth ", i)}})
		must(err)
	}

	const set = `sets: { berths: { key: id, fields: { id: int, name: text }, reads: [{ get: /berths%s }] } }`
	sources := map[string]string{
		"postgres": "kind: postgres, url: \"" + behind("postgres", demotest.Harbour().RegistryURL, nil) + "?search_path=faults\"",
		"mysql":    "kind: mysql, url: \"" + behind("mysql", mysqlURL, nil) + "\"",
		"mongodb":  "kind: mongodb, url: \"" + strings.Replace(behind("mongodb", demotest.Harbour().InspectionsURL, nil), "/harbour", "/faults", 1) + "?directConnection=true\"",
		"rest": "kind: rest, retries: 0, url: \"" + serve("rest", func(*http.Request) string { return `{"results": [` + records(`{"id": %d, "name": "Berth %d"}`) + `]}` }) + "\", " +
			fmt.Sprintf(set, `, pick: "$.results[*]"`),
		"jsonapi": "kind: rest, format: jsonapi, retries: 0, url: \"" + serve("jsonapi", func(*http.Request) string {
			return `{"data": [` + records(`{"type": "berths", "id": "%d", "attributes": {"name": "Berth %d"}}`) + `]}`
		}) + "\", " + fmt.Sprintf(set, ""),
		"functions": "kind: functions, url: \"" + serve("functions", func(r *http.Request) string {
			return `[{"jsonrpc": "2.0", "id": 1, "result": [` + records(`{"id": "%d", "name": "Berth %d"}`) + `]}]`
		}) + "\"",
	}
	yaml, schema := "sources:\n  well: { kind: files, folder: data }\n", "type Query {\n  well: [Well!] @read\n"
	types := "type Well @stored(in: \"well\", as: \"berths\", key: \"id\") { id: ID! name: String! }\ntype Given { id: ID! name: String! }\n"
	for _, k := range p.kinds {
		yaml += fmt.Sprintf("  %s: { %s, timeout: %s, maxAnswer: %s }\n", k.name, sources[k.name], within, most)
		if k.name == "functions" {
			schema += "  functions: [Given!] @computed(by: \"functions.berths\")\n"
			continue
		}
		of := strings.ToUpper(k.name[:1]) + k.name[1:]
		schema += fmt.Sprintf("  %s: [%s!] @read(sort: \"id\")\n", k.name, of)
		types += fmt.Sprintf("type %s @stored(in: %q, as: \"berths\", key: \"id\") { id: Int! name: String! }\n", of, k.name)
	}
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": yaml, "schema/a.graphql": schema + "}\n" + types, "data/berths.json": "[" + records(`{"id": %d, "name": "Berth %d"}`) + "]"})
	var findings project.Findings
	p.project, findings, err = project.Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings)
	}
	t.Cleanup(p.project.Close)
	return p
}

// An outcome is what came of asking one kind of store, beside one that is well.
type outcome struct {
	records int // of the store
	code    string
	text    string // the answer
	took    time.Duration
}

func (p *port) ask(t *testing.T, name string) outcome {
	t.Helper()
	start := time.Now()
	a := p.project.Revision().Ask(context.Background(), &project.Request{Query: "{ well { name } " + name + " { id name } }"})
	o := outcome{took: time.Since(start), text: string(a.AppendJSON(nil, true))}
	a.Free()
	var answer struct {
		Data   map[string][]map[string]any
		Errors []struct {
			Path       []any
			Extensions struct{ Code, Source string }
		}
	}
	if err := json.Unmarshal([]byte(o.text), &answer); err != nil {
		t.Errorf("%s: the answer is not JSON: %v: %.300s", name, err, o.text)
		return o
	}
	if len(answer.Data["well"]) != rows {
		t.Errorf("%s: what the other store answers is lost: %.300s", name, o.text)
	}
	o.records = len(answer.Data[name])
	for _, e := range answer.Errors {
		o.code = e.Extensions.Code
		if len(answer.Errors) > 1 || e.Extensions.Source != name || len(e.Path) != 1 || e.Path[0] != name {
			t.Errorf("%s: the errors are %.500s", name, o.text)
		}
	}
	if (o.code == "") != (answer.Data[name] != nil) {
		t.Errorf("%s: %.300s", name, o.text)
	}
	for _, secret := range []string{"127.0.0.1", "harbour:harbour", "SELECT", "search_path"} {
		if strings.Contains(o.text, secret) {
			t.Errorf("%s: the answer tells %q: %.500s", name, secret, o.text)
		}
	}
	return o
}

// well waits until a store answers again, and says how long that took.
func (p *port) well(t *testing.T, name string) time.Duration {
	t.Helper()
	start := time.Now()
	for {
		o := p.ask(t, name)
		if o.code == "" && o.records == rows {
			return time.Since(start)
		}
		if time.Since(start) > 15*time.Second {
			t.Fatalf("%s does not come back: %.500s", name, o.text)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// A fault and how callers may be told of it.
type fault struct {
	name  string
	codes []string // "" is that all is well
	begin func(k *kind)
	end   func(k *kind)
	only  func(k *kind) bool // nil for all kinds
}

func network(f demotest.Fault, codes ...string) fault {
	return fault{name: string(f), codes: codes, begin: func(k *kind) { k.proxy.Be(f) }, end: func(k *kind) { k.proxy.Be(demotest.NoFault) }}
}

func status(n int64, codes ...string) fault {
	return fault{name: fmt.Sprint(n), codes: codes, begin: func(k *kind) { k.http.status.Store(n) }, end: func(k *kind) { k.http.status.Store(0) },
		only: func(k *kind) bool { return k.http != nil }}
}

var matrix = []fault{
	network(demotest.Dead, "STORE_DOWN", "STORE_ANSWER"),
	network(demotest.Hanging, "STORE_TIMEOUT", "STORE_DOWN"),
	network(demotest.Slow, "", "STORE_TIMEOUT", "STORE_DOWN"),
	network(demotest.Garbage, "STORE_DOWN", "STORE_ANSWER", "STORE_TIMEOUT"),
	network(demotest.Cut, "STORE_DOWN", "STORE_ANSWER", "STORE_TIMEOUT"),
	network(demotest.Trickle, "STORE_TIMEOUT", "STORE_DOWN"),
	network(demotest.Reset, "STORE_DOWN", "STORE_ANSWER", "STORE_TIMEOUT"),
	status(500, "STORE_ANSWER"),
	status(503, "STORE_DOWN"),
	status(429, "STORE_BUSY"),
	{name: "huge", codes: []string{"STORE_ANSWER"}, only: func(k *kind) bool { return k.http != nil },
		begin: func(k *kind) { k.http.huge.Store(true) }, end: func(k *kind) { k.http.huge.Store(false) }},
}

// TestFaults puts each kind of store in each fault: it costs what the store brings,
// and no more, is told by its code within the store's time, and is over when the
// store is well again.
func TestFaults(t *testing.T) {
	p := newPort(t)
	for _, k := range p.kinds {
		t.Run(k.name, func(t *testing.T) {
			t.Parallel()
			for _, f := range matrix {
				if f.only != nil && !f.only(k) {
					continue
				}
				t.Run(f.name, func(t *testing.T) { p.fault(t, k, f) })
			}
		})
	}
}

func (p *port) fault(t *testing.T, k *kind, f fault) {
	p.well(t, k.name)
	var before sync.WaitGroup
	stop := make(chan struct{})
	callers := 1
	if *whole {
		// Requests are under way when the fault begins, and when it ends.
		callers = 20
		for range callers {
			before.Go(func() {
				for {
					select {
					case <-stop:
						return
					default:
						p.ask(t, k.name)
					}
				}
			})
		}
		time.Sleep(50 * time.Millisecond)
	}
	f.begin(k)
	if *whole {
		time.Sleep(100 * time.Millisecond)
	}
	// The first are told within the store's time; a connection may be tried again.
	for range 3 {
		o := p.ask(t, k.name)
		if !slices.Contains(f.codes, o.code) && !*whole {
			t.Errorf("it is told as %q, want one of %q: %.400s", o.code, f.codes, o.text)
		}
		if limit := 4*within + time.Second; o.took > limit {
			t.Errorf("it took %s", o.took)
		}
	}
	// A store that is dead, or hangs, costs nobody its time again and again.
	if f.name == string(demotest.Dead) || f.name == string(demotest.Hanging) {
		deadline := time.Now().Add(10 * time.Second)
		for p.ask(t, k.name).took > 100*time.Millisecond && time.Now().Before(deadline) {
		}
		start := time.Now()
		for range 20 {
			p.ask(t, k.name)
		}
		if took := time.Since(start); took > 3*time.Second {
			t.Errorf("20 more requests took %s", took)
		}
	}
	f.end(k)
	back := p.well(t, k.name)
	close(stop)
	before.Wait()
	if back > 8*time.Second {
		t.Errorf("it took %s until the store was asked again", back)
	}
	t.Logf("back after %s", back.Round(time.Millisecond))
	if state := p.project.States()[k.name].Asks; state.Running != 0 || state.Waiting != 0 {
		t.Errorf("requests are left: %+v", state)
	}
}

// TestHugeAnswers reads more than a source takes from the databases.
func TestHugeAnswers(t *testing.T) {
	p := newPort(t)
	long := strings.Repeat("x", 10_000)
	pg, err := sql.Open("pgx", demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer pg.Close()
	if _, err := pg.Exec("UPDATE faults.berths SET name = $1", long); err != nil {
		t.Fatal(err)
	}
	client, err := mongo.Connect(options.Client().ApplyURI(demotest.Harbour().InspectionsURL))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(context.Background())
	if _, err := client.Database("faults").Collection("berths").UpdateMany(context.Background(), bson.D{}, bson.D{{Key: "$set", Value: bson.D{{Key: "name", Value: long}}}}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"postgres", "mongodb"} {
		if o := p.ask(t, name); o.code != "STORE_ANSWER" || !strings.Contains(o.text, "answered more than 200KB, which is the limit") {
			t.Errorf("%s: %.400s", name, o.text)
		}
	}
}
