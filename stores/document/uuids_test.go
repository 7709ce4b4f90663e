package document_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/stores/document"
)

// TestUUIDs finds documents by UUIDs that are stored as binary values, in each byte
// order that an address can name.
func TestUUIDs(t *testing.T) {
	const want = "00112233-4455-6677-8899-aabbccddeeff"
	plain := []byte{0x00, 0x11, 0x22, 0x33, 0x44, 0x55, 0x66, 0x77, 0x88, 0x99, 0xaa, 0xbb, 0xcc, 0xdd, 0xee, 0xff}
	for option, data := range map[string][]byte{
		"":             plain,
		"pythonLegacy": plain,
		"javaLegacy":   {0x77, 0x66, 0x55, 0x44, 0x33, 0x22, 0x11, 0x00, 0xff, 0xee, 0xdd, 0xcc, 0xbb, 0xaa, 0x99, 0x88},
		"csharpLegacy": {0x33, 0x22, 0x11, 0x00, 0x55, 0x44, 0x77, 0x66, 0x88, 0x99, 0xaa, 0xbb, 0xcc, 0xdd, 0xee, 0xff},
	} {
		subtype := byte(3)
		if option == "" {
			subtype = 4
		}
		name := "uuids" + option
		open(t, name, map[string][]any{"odd": {bson.D{{Key: "_id", Value: bson.Binary{Subtype: subtype, Data: data}}, {Key: "all", Value: bson.A{bson.Binary{Subtype: subtype, Data: data}}}}}})
		s, err := document.Open(document.Config{URL: strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/"+name, 1) + "?uuidRepresentation=" + option})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		c, err := s.Catalogue(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		if f := c.Sets["odd"].Field("_id"); f.Kind != store.UUID || c.Sets["odd"].Field("all").Elem != store.UUID {
			t.Errorf("%s: the catalogue tells %+v", option, c.Sets["odd"].Fields)
		}
		for _, kind := range []store.Kind{store.UUID, store.Text} {
			for _, path := range []string{"_id", "all"} {
				keys := store.Column{Kind: kind}
				keys.AppendText(want)
				wanted := store.Wanted{Path: path, Kind: kind}
				if path == "all" {
					wanted = store.Wanted{Path: path, Kind: store.List, Elem: &store.Wanted{Kind: kind}}
				}
				a := run(t, s, c, []*store.Read{{Set: "odd", Columns: []store.Wanted{wanted}, Keys: []int{0}}}, []store.Input{{Keys: []store.Column{keys}}})
				if a.Tables[0].Len != 1 || !strings.Contains(string(a.Tables[0].Columns[0].Innermost().Text(0)), want) {
					t.Errorf("%s: %s by a key of %s: %+v", option, path, kind, a.Tables[0])
				}
			}
		}
	}
	if _, err := document.Open(document.Config{URL: "mongodb://127.0.0.1/x?uuidRepresentation=odd"}); err == nil || !strings.Contains(err.Error(), "uuidRepresentation=odd, which is none of") {
		t.Errorf("an order that is none: %v", err)
	}
}

// TestManyCombinations asks for combinations of keys by each of their fields, counted
// on the wire: one find, which an index can serve, and only those that were asked for
// come back.
func TestManyCombinations(t *testing.T) {
	var docs []any
	for quay := range 60 {
		for number := range 20 {
			docs = append(docs, bson.D{{Key: "quay", Value: fmt.Sprint("Q", quay)}, {Key: "number", Value: number}})
		}
	}
	s, c := open(t, "pairs", map[string][]any{"berths": docs})
	quays, numbers := store.Column{Kind: store.Text}, store.Column{Kind: store.Int}
	for i := range 500 {
		quays.AppendText(fmt.Sprint("Q", i%60))
		numbers.AppendInt(int64(i % 7))
	}
	read := &store.Read{Set: "berths", Columns: []store.Wanted{{Path: "quay", Kind: store.Text}, {Path: "number", Kind: store.Int}}, Keys: []int{0, 1}, Parent: -1}
	start := time.Now()
	a := run(t, s, c, []*store.Read{read}, []store.Input{{Keys: []store.Column{quays, numbers}}})
	if a.Tables[0].Len != 420 || a.Requests != 1 { // 60 and 7 have no common divisor
		t.Errorf("%d documents in %d requests, %v", a.Tables[0].Len, a.Requests, time.Since(start))
	}
	request, _ := s.Prepare(c, []*store.Read{read})
	if d := request.Describe(); !strings.Contains(d.Statement, `filter {"quay":{"$in":["…"]},"number":{"$in":["…"]}}`) || d.Asks != "berths by quay, number, and filtered here" {
		t.Errorf("it is told as %+v", d)
	}
}
