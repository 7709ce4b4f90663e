package document_test

import (
	"context"
	"errors"
	"flag"
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
	a, err := request.Run(ctx, []store.Input{{Keys: []store.Column{keys}}})
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
	if _, err := request.Run(ctx, []store.Input{{}}); !errors.As(err, &own) || own.Code != store.BadAnswer || !strings.Contains(own.Msg, "more than 20 records") {
		t.Errorf("90 documents where 20 are taken: %v", err)
	}
}
