package document_test

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/conform"
	"osprey/stores/document"
)

// A find of the demo's server takes a third of a second, whatever it finds.
var random = flag.Int("random", 12, "how many random operations the store is put to")

// TestConform puts the store to the suite. The demo's server knows no exact
// decimal numbers.
func TestConform(t *testing.T) {
	ctx := context.Background()
	url := strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/conform", 1)
	client, err := mongo.Connect(options.Client().ApplyURI(url))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(ctx)
	for set, records := range conform.Data() {
		var docs []any
		for _, r := range records {
			doc := bson.D{}
			for name, v := range r {
				switch name {
				case "price":
					continue
				case "seen":
					v, err = time.Parse(time.RFC3339Nano, v.(string))
				case "built":
					v, err = time.Parse(time.DateOnly, v.(string))
				}
				if err != nil {
					t.Fatal(err)
				}
				doc = append(doc, bson.E{Key: name, Value: v})
			}
			docs = append(docs, doc)
		}
		if _, err := client.Database("conform").Collection(set).InsertMany(ctx, docs); err != nil {
			t.Fatal(err)
		}
	}
	s, err := document.Open(document.Config{URL: url})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	conform.Run(t, s, *random, "price")
	wire := demotest.NewWire(t)
	counted, err := document.Open(document.Config{URL: strings.Replace(wire.URL, "/harbour", "/conform", 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer counted.Close()
	bounds(t, url, counted, wire)
	mixedKeys(t, client.Database("conform"), url)
}

// mixedKeys turns the pages of a collection whose ids are texts, numbers and
// object ids, and must meet each document once.
func mixedKeys(t *testing.T, db *mongo.Database, url string) {
	ctx := context.Background()
	var docs []any
	want := map[string]int{}
	for i := range 12 {
		var id any = bson.NewObjectID()
		text := id.(bson.ObjectID).Hex()
		switch i % 3 {
		case 0:
			id, text = fmt.Sprintf("name %d", i), fmt.Sprintf("name %d", i)
		case 1:
			id, text = int64(i), fmt.Sprint(i)
		}
		docs = append(docs, bson.D{{Key: "_id", Value: id}})
		want[text] = 1
	}
	if _, err := db.Collection("mixed").InsertMany(ctx, docs); err != nil {
		t.Fatal(err)
	}
	s, err := document.Open(document.Config{URL: url})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	e := conform.NewEngine(t, `type Query { all(first: Int, after: String): ThingConnection! @read } type Thing @stored(in: "s", as: "mixed", key: "_id") { id: ID! @at(path: "_id") }`, map[string]store.Source{"s": s})
	met, vars := map[string]int{}, map[string]any{}
	for range 10 {
		out := e.Ask(t, `query ($c: String) { all(first: 5, after: $c) { totalCount pageInfo { hasNextPage endCursor } edges { node { id } } } }`, vars)
		var data struct {
			All struct {
				TotalCount int
				PageInfo   struct {
					HasNextPage bool
					EndCursor   string
				}
				Edges []struct{ Node struct{ ID string } }
			}
		}
		if err := json.Unmarshal([]byte(out.Data), &data); err != nil || len(out.Errors) > 0 {
			t.Fatal(err, out.Errors)
		}
		for _, e := range data.All.Edges {
			met[e.Node.ID]++
		}
		if data.All.TotalCount != 12 {
			t.Errorf("totalCount is %d", data.All.TotalCount)
		}
		if vars["c"] = data.All.PageInfo.EndCursor; !data.All.PageInfo.HasNextPage {
			break
		}
	}
	if fmt.Sprint(met) != fmt.Sprint(want) {
		t.Errorf("the pages have %v\nwant %v", met, want)
	}
}

// bounds checks that more keys than a command holds are several finds, which are
// told, and that no more documents are taken than are allowed.
func bounds(t *testing.T, url string, s *document.Source, wire *demotest.Wire) {
	ctx := context.Background()
	c, err := s.Catalogue(ctx)
	if err != nil {
		t.Fatal(err)
	}
	read := &store.Read{Set: "vessels", Columns: []store.Wanted{{Path: "id", Kind: store.Int}}, Keys: []int{0}, Parent: -1}
	request, err := s.Prepare(c, []*store.Read{read})
	if err != nil {
		t.Fatal(err)
	}
	keys := store.Column{Kind: store.Int}
	for id := range 50_010 {
		keys.AppendInt(int64(50_010 - id))
	}
	wire.Reads()
	a, err := request.Run(ctx, nil, []store.Input{{Keys: []store.Column{keys}}})
	if err != nil || a.Tables[0].Len != 90 || a.Requests != 2 {
		t.Fatalf("50,010 keys: %v, %v", a, err)
	}
	if reads := wire.Reads(); len(reads) != 2 {
		t.Errorf("50,010 keys are %q on the wire", reads)
	}
	few, err := document.Open(document.Config{URL: url, MaxRecords: 20})
	if err != nil {
		t.Fatal(err)
	}
	defer few.Close()
	request, err = few.Prepare(c, []*store.Read{{Set: "vessels", Columns: read.Columns, Parent: -1}})
	if err != nil {
		t.Fatal(err)
	}
	var own *store.Error
	if _, err := request.Run(ctx, nil, []store.Input{{}}); !errors.As(err, &own) || own.Code != store.BadAnswer || !strings.Contains(own.Msg, "more than 20 records") {
		t.Errorf("90 documents where 20 are taken: %v", err)
	}
}
