package document_test

import (
	"context"
	"flag"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

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
}
