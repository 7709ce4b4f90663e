package document_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/document"
)

func TestMain(m *testing.M) { demotest.Main(m) }

// open fills a database of the test's own and opens it.
func open(t *testing.T, name string, collections map[string][]any) (*document.Source, *store.Catalogue) {
	t.Helper()
	ctx := context.Background()
	client, err := mongo.Connect(options.Client().ApplyURI(demotest.Harbour().InspectionsURL))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(ctx)
	for collection, docs := range collections {
		if _, err := client.Database(name).Collection(collection).InsertMany(ctx, docs); err != nil {
			t.Fatal(err)
		}
	}
	s, err := document.Open(document.Config{URL: strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/"+name, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	c, err := s.Catalogue(ctx)
	if err != nil {
		t.Fatal(err)
	}
	return s, c
}

func oid(hex string) bson.ObjectID {
	id, err := bson.ObjectIDFromHex(hex)
	if err != nil {
		panic(err)
	}
	return id
}

const (
	hexA = "69a35c000100000000000001"
	hexB = "69a35c000100000000000002"
)

var oddDocuments = []any{
	bson.D{{Key: "_id", Value: oid(hexA)}, {Key: "n", Value: int32(5)}, {Key: "mixed", Value: "7"}, {Key: "at", Value: time.Date(2026, 3, 1, 6, 0, 0, 5e6, time.UTC)},
		{Key: "inner", Value: bson.D{{Key: "name", Value: "x"}, {Key: "deep", Value: bson.D{{Key: "v", Value: 1.5}}}}},
		{Key: "list", Value: bson.A{bson.D{{Key: "a", Value: 1}}, bson.D{{Key: "a", Value: nil}, {Key: "b", Value: "q"}}}}, {Key: "tags", Value: bson.A{"a", "b"}}, {Key: "ref", Value: hexB}},
	bson.D{{Key: "_id", Value: oid(hexB)}, {Key: "n", Value: int64(6)}, {Key: "mixed", Value: int32(7)}, {Key: "at", Value: nil},
		{Key: "inner", Value: "not a record"}, {Key: "list", Value: bson.A{}}, {Key: "tags", Value: "no list"}, {Key: "ref", Value: oid(hexA)}},
}

func run(t *testing.T, s *document.Source, c *store.Catalogue, reads []*store.Read, in []store.Input) *store.Answer {
	t.Helper()
	for _, r := range reads {
		r.Parent = -1
	}
	request, err := s.Prepare(c, reads)
	if err != nil {
		t.Fatal(err)
	}
	a, err := request.Run(context.Background(), nil, in)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestValues reads documents whose fields are of several types: what does not
// fit is bad at its place only.
func TestValues(t *testing.T) {
	s, c := open(t, "values", map[string][]any{"odd": oddDocuments})
	a := run(t, s, c, []*store.Read{{Set: "odd", Sort: []store.Order{{Path: "_id"}}, Columns: []store.Wanted{
		{Path: "_id", Kind: store.Text}, {Path: "n", Kind: store.Int}, {Path: "mixed", Kind: store.Text}, {Path: "mixed", Kind: store.Int}, {Path: "at", Kind: store.Time},
		{Path: "inner", Kind: store.Record, Fields: []store.Wanted{{Path: "name", Kind: store.Text}, {Path: "deep.v", Kind: store.Float}}},
		{Path: "list", Kind: store.List, Elem: &store.Wanted{Kind: store.Record, Fields: []store.Wanted{{Path: "a", Kind: store.Int}, {Path: "b", Kind: store.Text}}}},
		{Path: "tags", Kind: store.List, Elem: &store.Wanted{Kind: store.Text}}, {Path: "missing", Kind: store.Text}, {Path: "inner", Kind: store.JSON},
	}}}, []store.Input{{}})
	table := a.Tables[0]
	text := func(i, row int) string { return string(table.Columns[i].At(row)) }
	if table.Len != 2 || text(0, 0) != hexA || table.Columns[1].Ints[1] != 6 || text(2, 1) != "7" || table.Columns[3].Ints[0] != 7 {
		t.Errorf("ids and numbers are wrong: %+v", table.Columns[:4])
	}
	if store.FormatTime(table.Columns[4].Ints[0]) != "2026-03-01T06:00:00.005Z" || !table.Columns[4].Null[1] {
		t.Errorf("moments are wrong: %+v", table.Columns[4])
	}
	inner := table.Columns[5]
	if inner.Rows.Len != 2 || string(inner.Rows.Columns[0].At(0)) != "x" || inner.Rows.Columns[1].Floats[0] != 1.5 || inner.Bad[1] == "" {
		t.Errorf("the nested record is wrong: %+v", inner)
	}
	list, items := table.Columns[6], table.Columns[6].Elem
	if items.Rows.Len != 2 || fmt.Sprint(list.Ends) != "[2 2]" || !items.Rows.Columns[0].Null[1] || string(items.Rows.Columns[1].At(1)) != "q" || list.Null[1] {
		t.Errorf("the nested list is wrong: %+v", items.Rows)
	}
	if table.Columns[7].Bad[1] != "expected a list, found text" || !table.Columns[8].Null[0] || text(9, 0) != `{"deep":{"v":1.5},"name":"x"}` {
		t.Errorf("lists, missing or JSON are wrong: %+v", table.Columns[7:])
	}
}

// TestKeysInEveryType finds documents by keys given as text, where they are
// stored as text, numbers or object ids.
func TestKeysInEveryType(t *testing.T) {
	s, c := open(t, "keys", map[string][]any{"odd": oddDocuments})
	for _, test := range []struct {
		path string
		keys []string
		want string
	}{
		{"_id", []string{hexA, "nope"}, hexA}, {"mixed", []string{"7"}, hexA + " " + hexB}, {"ref", []string{hexA, hexB}, hexA + " " + hexB},
		{"n", []string{"6"}, hexB}, {"inner.name", []string{"x"}, hexA}, {"n", nil, ""},
	} {
		keys := store.Column{Kind: store.Text}
		for _, k := range test.keys {
			keys.AppendText(k)
		}
		a := run(t, s, c, []*store.Read{{Set: "odd", Keys: []int{0}, Columns: []store.Wanted{{Path: test.path, Kind: store.Text}, {Path: "_id", Kind: store.Text}}}}, []store.Input{{Keys: []store.Column{keys}}})
		var got []string
		for row := range a.Tables[0].Len {
			got = append(got, string(a.Tables[0].Columns[len(a.Tables[0].Columns)-1].At(row)))
		}
		if strings.Join(got, " ") != test.want {
			t.Errorf("%s in %q finds %q, want %q", test.path, test.keys, got, test.want)
		}
	}
}

// throughWire opens the harbour's database through a wire that has seen nothing
// yet.
func throughWire(t *testing.T) (*document.Source, *store.Catalogue, *demotest.Wire) {
	t.Helper()
	wire := demotest.NewWire(t)
	s, err := document.Open(document.Config{URL: wire.URL})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	c, err := s.Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	wire.Reads()
	return s, c, wire
}

// TestReadsShareAFind asks one collection twice in one request and counts on
// the wire.
func TestReadsShareAFind(t *testing.T) {
	s, c, wire := throughWire(t)
	key := func(v string) store.Column {
		k := store.Column{Kind: store.Text}
		k.AppendText(v)
		return k
	}
	columns := func(path string) []store.Wanted {
		return []store.Wanted{{Path: path, Kind: store.Text}, {Path: "craft.imo", Kind: store.Text}, {Path: "outcome", Kind: store.Text}}
	}
	a := run(t, s, c, []*store.Read{
		{Set: "inspections", Keys: []int{0}, Columns: columns("craft.imo")},
		{Set: "inspections", Keys: []int{0}, Columns: columns("inspector.badge"), Where: []store.Predicate{{Path: "outcome", Kind: store.Text}}},
	}, []store.Input{{Keys: []store.Column{key("9100112")}}, {Keys: []store.Column{key("I-03")}, Where: []store.Column{key("detained")}}})
	if reads := wire.Reads(); len(reads) != 1 {
		t.Errorf("two reads of a collection are %q on the wire, want one find", reads)
	}
	for row := range a.Tables[0].Len {
		if string(a.Tables[0].Columns[1].At(row)) != "9100112" {
			t.Errorf("the first read has the craft %s", a.Tables[0].Columns[1].At(row))
		}
	}
	for row := range a.Tables[1].Len {
		if string(a.Tables[1].Columns[0].At(row)) != "I-03" || string(a.Tables[1].Columns[2].At(row)) != "detained" {
			t.Errorf("the second read has %s %s", a.Tables[1].Columns[0].At(row), a.Tables[1].Columns[2].At(row))
		}
	}
	if a.Tables[0].Len == 0 || a.Tables[1].Len == 0 {
		t.Errorf("the reads found %d and %d documents", a.Tables[0].Len, a.Tables[1].Len)
	}
}

// TestLargeAnswerIsOneRoundTrip reads every inspection.
func TestLargeAnswerIsOneRoundTrip(t *testing.T) {
	s, c, wire := throughWire(t)
	a := run(t, s, c, []*store.Read{{Set: "inspections", Columns: []store.Wanted{{Path: "outcome", Kind: store.Text}}}}, []store.Input{{}})
	if reads := wire.Reads(); len(reads) != 1 || a.Tables[0].Len != 900 {
		t.Errorf("%d inspections are %q on the wire, want 900 in one find", a.Tables[0].Len, reads)
	}
}

func TestFailures(t *testing.T) {
	for _, address := range []string{"http://x", "mongodb://127.0.0.1", "mongodb://127.0.0.1/", "mongodb://%zz/db"} {
		if _, err := document.Open(document.Config{URL: address}); err == nil {
			t.Errorf("Open(%q) succeeds", address)
		}
	}
	s, err := document.Open(document.Config{URL: "mongodb://127.0.0.1:1/harbour", Timeout: 300 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var own *store.Error
	if err := s.Ping(context.Background()); !errors.As(err, &own) || own.Code != store.Down || strings.Contains(own.Msg, "127.0.0.1") {
		t.Errorf("Ping of no database: %v", err)
	}
}

// TestServerIsToldTheTime holds that every command that reads tells the server how
// long anybody waits, as it arrives at the server.
func TestServerIsToldTheTime(t *testing.T) {
	wire := demotest.NewWire(t)
	s, err := document.Open(document.Config{URL: wire.URL, Timeout: 3 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	c, err := s.Catalogue(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, read := range []*store.Read{
		{Set: "inspections", Parent: -1, Columns: []store.Wanted{{Path: "_id", Kind: store.Text}}},
		{Set: "inspections", Parent: -1, Columns: []store.Wanted{{Kind: store.Int, Aggregate: store.Count}}, Aggregates: true},
	} {
		request, err := s.Prepare(c, []*store.Read{read})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := request.Run(t.Context(), nil, []store.Input{{}}); err != nil {
			t.Fatal(err)
		}
	}
	reads := 0
	for _, text := range wire.Texts() {
		if strings.HasPrefix(text, `{"find"`) || strings.HasPrefix(text, `{"aggregate"`) {
			reads++
			if _, after, ok := strings.Cut(text, `"maxTimeMS": {"$numberLong":"`); !ok || len(after) < 4 || after > `3001` || strings.Contains(after, "maxTimeMS") {
				t.Errorf("the server got %s", text)
			}
		}
	}
	if reads < 3 {
		t.Errorf("%d commands that read arrived", reads)
	}
}

// TestAnswerIsBounded cuts off documents that are too large together.
func TestAnswerIsBounded(t *testing.T) {
	var docs []any
	for i := range 40 {
		docs = append(docs, bson.D{{Key: "_id", Value: i}, {Key: "text", Value: strings.Repeat("x", 1000)}})
	}
	_, c := open(t, "bounded", map[string][]any{"notes": docs})
	for limit, want := range map[int64]string{30_000: "answered more than 30000B, which is the limit; ask for less, or raise maxAnswer in osprey.yaml", 60_000: ""} {
		s, err := document.Open(document.Config{URL: strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/bounded", 1), MaxAnswer: limit})
		if err != nil {
			t.Fatal(err)
		}
		request, err := s.Prepare(c, []*store.Read{{Set: "notes", Parent: -1, Columns: []store.Wanted{{Path: "text", Kind: store.Text}}}})
		if err != nil {
			t.Fatal(err)
		}
		_, err = request.Run(t.Context(), nil, []store.Input{{}})
		if got := fmt.Sprint(err); want != "" && got != want || want == "" && err != nil {
			t.Errorf("with a limit of %d: %v, want %q", limit, err, want)
		}
		s.Close()
	}
}

// TestMissing counts a field as missing where its document is there and it is not; an
// empty list is there, and one of nothing but null may be of anything.
func TestMissing(t *testing.T) {
	_, c := open(t, "missing", map[string][]any{"things": {
		bson.M{"_id": 1, "at": bson.M{"day": "x", "x": 1}, "tags": bson.A{}, "lines": bson.A{bson.M{"k": 1, "n": 2}}, "holes": bson.A{nil}},
		bson.M{"_id": 2, "tags": bson.A{"a"}, "lines": bson.A{}, "mixed": bson.A{1, "a"}, "one": "a"},
		bson.M{"_id": 3, "at": bson.M{"day": "y"}, "tags": bson.A{"b", nil}, "lines": bson.A{bson.M{"k": 2}, nil, bson.M{"k": 3, "n": nil}}, "one": bson.A{"b"}},
	}})
	set := c.Sets["things"]
	for path, want := range map[string]bool{"at.day": false, "at.x": true, "tags": false, "lines.k": false, "lines.n": true, "mixed": true} {
		if f := set.Field(path); f == nil || f.Nullable != want {
			t.Errorf("%s is %+v, want nullable %t", path, f, want)
		}
	}
	if set.Field("holes") != nil || set.Field("tags").Elem != store.Text || set.Field("mixed").Elem != store.Unknown || set.Field("one").Kind != store.Unknown {
		t.Errorf("the lists are %+v", set.Fields)
	}
}
