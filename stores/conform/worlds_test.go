package conform_test

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/core/store"
	"osprey/core/store/storetest"
	"osprey/demo/demotest"
	"osprey/stores/conform"
	"osprey/stores/document"
	"osprey/stores/files"
	"osprey/stores/functions"
	"osprey/stores/relational"
	"osprey/stores/rest"
)

func TestMain(m *testing.M) { demotest.Main(m) }

var (
	worlds = flag.Int("worlds", 3, "how many random schemas are made")
	first  = flag.Int("first", 0, "the seed of the first")
	asks   = flag.Int("asks", 40, "how many operations each caller asks of a schema with rules")
	during = flag.Duration("during", 0, "how long schemas are made, however many")
)

// TestWorlds asks random operations over random schemas on six stores. The
// answers are those of stores in memory that can do nothing by themselves. The
// number of store requests is what the plan says and what the runtime tells,
// and each store that can count counts as many as it was told to be asked.
func TestWorlds(t *testing.T) { eachWorld(t, (*worldStores).world) }

// eachWorld asks as many worlds as the flags say, and tells how many operations these were.
func eachWorld(t *testing.T, ask func(s *worldStores, t *testing.T, seed uint64) int) {
	t.Helper()
	stores := openStores(t)
	until := time.Now().Add(*during)
	operations := 0
	for seed := *first; seed < *first+*worlds || time.Now().Before(until); seed++ {
		if !t.Run(fmt.Sprint("world ", seed), func(t *testing.T) { operations += ask(stores, t, uint64(seed)) }) {
			break
		}
	}
	t.Logf("%d operations", operations)
}

// worldStores are the stores, with what counts at each that can.
type worldStores struct {
	postgres, mysql *sql.DB
	postgresURL     string
	mysqlURL        string
	mongo           *mongo.Database
	wire            *demotest.Wire
	rest            *httptest.Server
	records         map[string][]conform.Record // of rest
	asked           atomic.Int64                // of rest
	statements      func() int
}

func openStores(t *testing.T) *worldStores {
	t.Helper()
	s := &worldStores{wire: demotest.NewWire(t), postgresURL: demotest.Harbour().RegistryURL + "?search_path=world"}
	open := func(driver, dsn string) *sql.DB {
		db, err := sql.Open(driver, dsn)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Close() })
		return db
	}
	// Columns of one name have other types in the next world: nothing is kept prepared.
	s.postgres = open("pgx", s.postgresURL+"&default_query_exec_mode=simple_protocol")
	var dsn string
	s.mysqlURL, dsn = demotest.MariaDB(t)
	s.mysql = open("mysql", dsn)
	client, err := mongo.Connect(options.Client().ApplyURI(demotest.Harbour().InspectionsURL))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { client.Disconnect(context.Background()) })
	s.mongo = client.Database("world")
	s.rest = httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(s.rest.Close)
	return s
}

// serve answers as the remote service does, and counts.
func (s *worldStores) serve(w http.ResponseWriter, r *http.Request) {
	s.asked.Add(1)
	list := []conform.Record{}
	for _, record := range s.records[strings.TrimPrefix(r.URL.Path, "/")] {
		fits := true
		for key, values := range r.URL.Query() {
			list, isList := record[key].([]any)
			if !isList && record[key] != nil {
				list = []any{record[key]}
			}
			fits = fits && slices.ContainsFunc(list, func(v any) bool { return v != nil && slices.Contains(values, fmt.Sprint(v)) })
		}
		if fits {
			list = append(list, record)
		}
	}
	json.NewEncoder(w).Encode(list)
}

// counts returns how often each store was asked since the last call.
func (s *worldStores) counts(t *testing.T) map[string]int {
	t.Helper()
	var name string
	var selects int
	if err := s.mysql.QueryRow("SHOW GLOBAL STATUS LIKE 'Com_select'").Scan(&name, &selects); err != nil {
		t.Fatal(err)
	}
	return map[string]int{"postgres": s.statements(), "mysql": selects, "mongodb": len(s.wire.Reads()), "rest": int(s.asked.Swap(0))}
}

// world makes a world and asks it.
func (s *worldStores) world(t *testing.T, seed uint64) int {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 5))
	w := conform.NewWorld(r, []string{"postgres", "mysql", "mongodb", "rest", "sqlite", "files"})
	sources, reference := s.load(t, rand.New(rand.NewPCG(seed, 9)), w), memory(w)
	var called atomic.Int64
	sources["calc"], reference["calc"] = calc(&called), calc(&atomic.Int64{})
	defer func() {
		for _, source := range sources {
			source.Close()
		}
	}()
	e, right := conform.NewEngine(t, w.Schema(), sources), conform.NewEngine(t, w.Schema(), reference)
	s.statements = demotest.Statements(t) // which forgets what it has counted, as it would when it is full
	before := s.counts(t)
	const operations = 40
	for range operations {
		op := w.Operation(r)
		got, want := e.Ask(t, op, nil), right.Ask(t, op, nil)
		after := s.counts(t)
		if got.Data != want.Data || fmt.Sprint(got.Errors) != fmt.Sprint(want.Errors) {
			t.Errorf("%s\ngives %s %v\nwant  %s %v\n%s", op, got.Data, got.Errors, want.Data, want.Errors, got.Plan)
			return 0
		}
		told := map[string]int{}
		for _, c := range got.Requests {
			told[c.Source] += c.RoundTrips
		}
		for name := range sources {
			counted := after[name] - before[name]
			if name == "mongodb" || name == "rest" {
				counted = after[name] // which start from 0 each time
			}
			if name == "sqlite" || name == "files" {
				continue // which tell nobody what they are asked
			}
			if name == "calc" {
				counted = int(called.Swap(0))
			}
			if counted != told[name] {
				t.Errorf("%s\n%s counted %d requests, the runtime tells %d\n%s", op, name, counted, told[name], got.Plan)
			}
		}
		before = after
		if extra := moreThanLeast(e, op, got); extra != "" {
			t.Errorf("%s\n%s\n%s", op, extra, got.Plan)
		}
		if extra := beyond(got); extra != "" {
			t.Errorf("%s\n%s\n%s", op, extra, got.Plan)
		}
	}
	for range 6 {
		walk(t, e, w, r)
	}
	s.withoutOne(t, r, w, sources, reference)
	return operations
}

// withoutOne asks while one of the stores has not told what it holds: what the others
// answer is the same as if it only failed. Where reads are shared otherwise than in
// memory, fewer fields may miss what was not asked for.
func (s *worldStores) withoutOne(t *testing.T, r *rand.Rand, w *conform.World, sources, reference map[string]store.Source) {
	t.Helper()
	down := w.Types[r.IntN(len(w.Types))].Source
	reference[down].(*storetest.Memory).Fail = func(string) error { return store.NotReady(nil) }
	e, right := conform.NewEngine(t, w.Schema(), sources, down), conform.NewEngine(t, w.Schema(), reference)
	for range 8 {
		op := w.Operation(r)
		got, want := e.Ask(t, op, nil), right.Ask(t, op, nil)
		more := slices.ContainsFunc(got.Errors, func(e string) bool { return !slices.Contains(want.Errors, e) })
		if more || len(got.Errors) == len(want.Errors) && got.Data != want.Data {
			t.Errorf("without %s, %s\ngives %s %v\nwant  %s %v\n%s", down, op, got.Data, got.Errors, want.Data, want.Errors, got.Plan)
			return
		}
	}
}

// item finds the items of an answer.
var item = regexp.MustCompile(`\{"__typename":"(\w+)","id":"(\d+)"\}`)

// walk reads a merged list page by page, in both directions: together the pages
// are the list.
func walk(t *testing.T, e *conform.Engine, w *conform.World, r *rand.Rand) {
	t.Helper()
	whole, page := w.Walk(r)
	want := fmt.Sprint(item.FindAllString(e.Ask(t, whole, nil).Data, -1))
	for _, backward := range []bool{false, true} {
		size, bound, from := 1+r.IntN(4), "first", "after"
		if backward {
			bound, from = "last", "before"
		}
		var got []string
		cursor := ""
		for pages := 0; ; pages++ {
			args := fmt.Sprintf("%s: %d", bound, size)
			if cursor != "" {
				args += fmt.Sprintf(", %s: %q", from, cursor)
			}
			op := fmt.Sprintf(page, args)
			o := e.Ask(t, op, nil)
			items := item.FindAllString(o.Data, -1)
			if len(o.Errors) > 0 || len(items) > size || pages > 500 {
				t.Fatalf("%s\ngives %s %v\n%s", op, o.Data, o.Errors, o.Plan)
			}
			if backward {
				got = append(items, got...)
			} else {
				got = append(got, items...)
			}
			name, more := "endCursor", "hasNextPage"
			if backward {
				name, more = "startCursor", "hasPreviousPage"
			}
			if !strings.Contains(o.Data, `"`+more+`":true`) {
				break
			}
			cursor = regexp.MustCompile(`"` + name + `":"([^"]+)"`).FindStringSubmatch(o.Data)[1]
		}
		if fmt.Sprint(got) != want {
			t.Errorf("%s\nis %s\nand page by page, by %d, %v\n", whole, want, size, got)
		}
	}
}

// calc is a source with a function that writes what it is given, and fails for
// every record whose id is 7.
func calc(called *atomic.Int64) store.Source {
	return &functions.Program{Functions: map[string]functions.Func{"about": {
		Check: func(store.Signature) error { return nil },
		Call: func(_ context.Context, inputs [][]byte) ([]functions.Result, error) {
			called.Add(1)
			var list []functions.Result
			for _, in := range inputs {
				if strings.Contains(string(in), `"id":"7"`) {
					list = append(list, functions.Result{Err: errors.New("seven is not told about")})
				} else {
					text, _ := json.Marshal(string(in))
					list = append(list, functions.Result{JSON: text})
				}
			}
			return list, nil
		},
	}}}
}

// moreThanLeast says where a plan has more requests than an operation needs.
func moreThanLeast(e *conform.Engine, op string, o conform.Outcome) string {
	planned := map[string]int{}
	for _, f := range o.Plan.Fetches {
		planned[f.Source]++
	}
	for source, least := range e.Least(op) {
		if planned[source] > least {
			return fmt.Sprintf("%s: the plan has %d requests, and %d are enough", source, planned[source], least)
		}
	}
	return ""
}

// beyond says where more was asked than the plan has: a fetch is asked once, or
// not at all if no record above brings it a key.
func beyond(o conform.Outcome) string {
	planned := map[string]int{}
	for _, f := range o.Plan.Fetches {
		planned[fmt.Sprint(f.Wave, " ", f.Source)] += max(1, f.Statements)
	}
	asked := map[string]int{}
	for _, c := range o.Requests {
		asked[fmt.Sprint(c.Wave, " ", c.Source)] += c.RoundTrips
	}
	for key, n := range asked {
		if n > planned[key] {
			return fmt.Sprintf("wave %s: %d requests, and the plan has %d", key, n, planned[key])
		}
	}
	return ""
}

// memory returns the stores that say what is right.
func memory(w *conform.World) map[string]store.Source {
	catalogues, records := map[string]string{}, map[string]map[string]string{}
	for _, t := range w.Types {
		line := t.Set + ":"
		for _, f := range t.Fields() {
			kind := f[1]
			if f[0] == "id" {
				kind += "!"
			}
			line += " " + f[0] + " " + kind
		}
		catalogues[t.Source] += line + "\n"
		if records[t.Source] == nil {
			records[t.Source] = map[string]string{}
		}
		records[t.Source][t.Set] = conform.JSON(t.Records)
	}
	sources := map[string]store.Source{}
	for name, text := range catalogues {
		sources[name] = storetest.NewMemory(text, records[name])
	}
	return sources
}

// load fills the stores with a world and opens sources on them.
func (s *worldStores) load(t *testing.T, r *rand.Rand, w *conform.World) map[string]store.Source {
	t.Helper()
	ctx := context.Background()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	exec := func(db *sql.DB, statements ...string) {
		t.Helper()
		for _, statement := range statements {
			if _, err := db.Exec(statement); err != nil {
				t.Fatalf("%s: %v", statement, err)
			}
		}
	}
	exec(s.postgres, "DROP SCHEMA IF EXISTS world CASCADE", "CREATE SCHEMA world")
	exec(s.mysql, "DROP DATABASE harbour", "CREATE DATABASE harbour")
	must(s.mongo.Drop(ctx))
	s.records = map[string][]conform.Record{}
	folder := t.TempDir()
	lite, err := sql.Open("sqlite", filepath.Join(folder, "world.db"))
	must(err)
	defer lite.Close()
	sets := []rest.Set{}
	for _, typ := range w.Types {
		switch typ.Source {
		case "postgres":
			s.table(t, r, s.postgres, typ, "postgres", typ.Set, "$%d")
		case "sqlite":
			s.table(t, r, lite, typ, "sqlite", typ.Set, "?")
		case "files":
			must(os.WriteFile(filepath.Join(folder, typ.Set+".json"), []byte(conform.JSON(typ.Records)), 0o644))
		case "mysql":
			s.table(t, r, s.mysql, typ, "mysql", "harbour."+typ.Set, "?")
		case "mongodb":
			var docs []any
			for _, record := range typ.Records {
				doc := bson.M{}
				for name, v := range record {
					if doc[name] = v; name == "uid" {
						data, _ := hex.DecodeString(strings.ReplaceAll(v.(string), "-", ""))
						doc[name] = bson.Binary{Subtype: bson.TypeBinaryUUID, Data: data}
					}
				}
				docs = append(docs, doc)
			}
			_, err := s.mongo.Collection(typ.Set).InsertMany(ctx, docs)
			must(err)
		case "rest":
			s.records[typ.Set] = typ.Records
			set := rest.Set{Name: typ.Set, Key: []string{"id"}, Reads: []rest.ReadForm{{Get: "/" + typ.Set}, {Get: "/" + typ.Set + "{?id*}", Many: "id", MaxKeys: 1000}}}
			for _, f := range typ.Fields() {
				kind, known := store.KindNamed(strings.TrimSuffix(f[1], "?"))
				if !known || kind == store.JSON {
					continue
				}
				set.Fields = append(set.Fields, rest.Field{Name: f[0], Kind: kind, Nullable: f[0] != "id"})
			}
			for _, ref := range append(typ.Refs, conform.WorldRef{Field: "any_id"}, conform.WorldRef{Field: "pal_ids"}, conform.WorldRef{Field: "uid"}) {
				set.Reads = append(set.Reads, rest.ReadForm{Get: "/" + typ.Set + "{?" + ref.Field + "*}", Many: ref.Field, MaxKeys: 1000})
			}
			sets = append(sets, set)
		}
	}
	opened := map[string]store.Source{}
	keep := func(name string, source store.Source, err error) {
		t.Helper()
		must(err)
		opened[name] = source
	}
	postgres, err := relational.Open(relational.Config{URL: s.postgresURL, Pool: 2})
	keep("postgres", postgres, err)
	mysql, err := relational.Open(relational.Config{Kind: relational.MySQL, URL: s.mysqlURL, Pool: 2})
	keep("mysql", mysql, err)
	documents, err := document.Open(document.Config{URL: strings.Replace(s.wire.URL, "/harbour", "/world", 1), Pool: 2})
	keep("mongodb", documents, err)
	local, err := relational.Open(relational.Config{Kind: relational.SQLite, URL: "sqlite:" + filepath.Join(folder, "world.db"), Pool: 2})
	keep("sqlite", local, err)
	read, err := files.Open(files.Config{Folder: folder})
	keep("files", read, err)
	remote, err := rest.Open(rest.Config{URL: s.rest.URL, Sets: sets})
	keep("rest", remote, err)
	return opened
}

// columnTypes are, for each kind of column of a world, the types that can hold it: what
// they show, and by what they meet, is the same.
var columnTypes = map[string]map[string][]string{
	"postgres": {
		"key": {"int", "bigint", "smallint"}, "ref": {"int", "bigint", "smallint", "numeric", "double precision"}, "n": {"int", "bigint", "smallint"},
		"text": {`text COLLATE "C"`, `varchar(100) COLLATE "C"`}, "word": {`text COLLATE "C"`, `varchar(40) COLLATE "C"`}, "uuid": {"uuid", `text COLLATE "C"`}, "ints": {"int[]"}, "json": {"json", "jsonb"}},
	"mysql": {
		"key": {"int", "bigint", "int unsigned", "smallint unsigned"}, "ref": {"int", "bigint unsigned", "decimal(30,10)", "double", "float", "tinyint"}, "n": {"int", "tinyint", "bigint", "bit(8)"},
		"text": {"varchar(100)", "varchar(100) COLLATE utf8mb3_nopad_bin", "text", "varchar(100) COLLATE ucs2_nopad_bin"},
		"word": {"varchar(40)", "varchar(40) COLLATE latin1_nopad_bin", "varchar(40) COLLATE ascii_nopad_bin"}, "uuid": {"varchar(36)", "char(36) COLLATE ascii_nopad_bin", "uuid"}, "ints": {"json"}, "json": {"json"}},
	"sqlite": {
		"key": {"int", "bigint"}, "ref": {"int", "", "decimal(10,2)", "real", "integer"}, "n": {"int", "", "integer"},
		"text": {"text", "varchar(100)", ""}, "word": {"text", ""}, "uuid": {"text", "uuid"}, "ints": {"json"}, "json": {"json"}},
}

// insideIndex returns what makes an index on a field inside doc, in one of the forms that
// a database has; or nothing.
func insideIndex(r *rand.Rand, kind, table, field, name string) []string {
	text := field == "name" || field == "any_kind" || field == "q" || field == "uid"
	if r.IntN(2) == 0 {
		return nil
	}
	create := "CREATE INDEX " + name + " ON " + table + " (%s)"
	switch {
	case kind == "mysql":
		typ := "int"
		if text {
			typ = "varchar(60)"
		}
		made := []string{"JSON_VALUE(doc, '$.%s')", "JSON_UNQUOTE(JSON_EXTRACT(doc, '$.%s'))"}[r.IntN(2)]
		return []string{fmt.Sprintf("ALTER TABLE %s ADD made_%s %s AS ("+made+")", table, field, typ, field), fmt.Sprintf("CREATE INDEX %s ON %s (made_%s)", name, table, field)}
	case kind == "sqlite":
		return []string{fmt.Sprintf(create, fmt.Sprintf([]string{"doc ->> '%s'", "doc ->> '$.%s'", "json_extract(doc, '$.%s')"}[r.IntN(3)], field))}
	case text:
		return []string{fmt.Sprintf(create, fmt.Sprintf([]string{"(doc ->> '%s')", "(doc #>> '{%s}')"}[r.IntN(2)], field))}
	}
	return []string{fmt.Sprintf(create, fmt.Sprintf([]string{"((doc ->> '%s')::int)", "((doc #>> '{%s}')::bigint)", "(doc ->> '%s')"}[r.IntN(3)], field))}
}

// table makes a table of a type, with columns of types at random, and fills it.
func (s *worldStores) table(t *testing.T, r *rand.Rand, db *sql.DB, typ *conform.WorldType, kind, name, place string) {
	t.Helper()
	column := func(name, of string) string {
		types := columnTypes[kind][of]
		return name + " " + types[r.IntN(len(types))]
	}
	ints := columnTypes[kind]["ints"][0]
	columns := []string{column("id", "key") + " PRIMARY KEY", column("pal_ids", "ints"), column("marks", "json"), column("grid", "json"), column("doc", "json")}
	for _, field := range [][2]string{{"name", "text"}, {"n", "n"}, {"any_id", "ref"}, {"any_kind", "word"}, {"p", "ref"}, {"q", "text"}, {"uid", "uuid"}, {"r0_id", "ref"}, {"r1_id", "ref"}, {"r2_id", "ref"}} {
		if !slices.Contains(typ.Inside, field[0]) {
			columns = append(columns, column(field[0], field[1]))
		}
	}
	if _, err := db.Exec("CREATE TABLE " + name + " (" + strings.Join(columns, ", ") + ")"); err != nil {
		t.Fatal(err)
	}
	for i, field := range typ.Inside {
		for _, statement := range insideIndex(r, kind, name, field, fmt.Sprintf("%s_%d", typ.Set, i)) {
			if _, err := db.Exec(statement); err != nil {
				t.Fatalf("%s: %v", statement, err)
			}
		}
	}
	for _, record := range typ.Records {
		var names, places []string
		var values []any
		for field, v := range record {
			_, isDocument := v.(conform.Record)
			if _, isList := v.([]any); isList || isDocument {
				text, _ := json.Marshal(v)
				if v = string(text); field == "pal_ids" && ints == "int[]" {
					v = strings.NewReplacer("[", "{", "]", "}").Replace(string(text))
				}
			}
			names, values = append(names, field), append(values, v)
			places = append(places, strings.ReplaceAll(place, "%d", fmt.Sprint(len(values))))
		}
		if _, err := db.Exec("INSERT INTO "+name+" ("+strings.Join(names, ", ")+") VALUES ("+strings.Join(places, ", ")+")", values...); err != nil {
			t.Fatal(err)
		}
	}
}
