package document_test

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
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

// watchTypes are watches with entries nested in them, and crews whose ids are texts.
const watchTypes = `type Query { watches(filter: WatchFilter): [Watch!]! @read(sort: "begun") crews: [Crew!]! @read }
type Mutation {
  begin(watch: WatchAdd!): Watch @add
  beginAll(watches: [WatchAdd!]!): [Watch!] @add
  change(id: ID!, change: WatchChange!): Watch @change
  end(id: ID!, was: Int @at(path: "strength")): Watch @change(set: "ended: now", expect: "was")
  count(id: ID!, by: Int! @at(path: "strength"), share: Float): Watch @change(adjust: ["by", "share"])
  note(id: ID!, entry: EntryAdd!): Watch @add(into: "entries")
  noteAll(id: ID!, entries: [EntryAdd!]!): Watch @add(into: "entries")
  strike(id: ID!, code: String!): Watch @remove(from: "entries")
  amend(id: ID!, code: String!, change: EntryChange!, place: String): Watch @change(in: "entries")
  forget(id: ID!): Watch @remove
  forgetAll(filter: WatchFilter!): Forgotten! @remove
  moveAll(filter: WatchFilter!, place: String): Int @change(of: "Watch")
  crew(id: ID!, name: String, since: Date): Crew @add(replaces: "id")
  hire(badge: String!, name: String): Crew @change
  crewAll(crews: [CrewAdd!]!): [Crew!] @add
}
type Forgotten { watches: [Watch!]! ids: [ID!]! @at(path: "_id") count: Int! }
type Watch @stored(in: "db", as: "watches", key: "_id") { id: ID! @at(path: "_id") begun: DateTime! ended: DateTime place: String strength: Int share: Float price: Decimal state: State entries: [Entry!] seen: Seen tags: [String!] crew: Crew @related(here: "crew") }
type Entry { code: String! text: String at: DateTime spots: [Spot!] }
type Spot { x: Float! y: Float! }
type Seen { by: String! @at(path: "who.name") day: Date }
enum State { CALM @at(path: "calm") ROUGH @at(path: "rough") }
type Crew @stored(in: "db", as: "crews", key: "_id") { id: ID! @at(path: "_id") name: String badge: String since: Date watches: [Watch!]! @related(there: "crew") }`

// TestWrites adds, changes and removes documents and what is nested in them, and reads them
// back by the driver.
func TestWrites(t *testing.T) {
	ctx := context.Background()
	url := strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/writes", 1)
	client, err := mongo.Connect(options.Client().ApplyURI(url))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(ctx)
	db := client.Database("writes")
	seed := bson.D{{Key: "_id", Value: "old"}, {Key: "name", Value: "Old hands"}, {Key: "badge", Value: "B-1"}, {Key: "since", Value: time.Date(2020, 1, 2, 0, 0, 0, 0, time.UTC)}}
	if _, err := db.Collection("crews").InsertOne(ctx, seed); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Collection("crews").Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "badge", Value: 1}}, Options: options.Index().SetUnique(true)}); err != nil {
		t.Fatal(err)
	}
	first := bson.D{{Key: "_id", Value: bson.NewObjectID()}, {Key: "begun", Value: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)}, {Key: "strength", Value: int32(3)}, {Key: "entries", Value: bson.A{bson.D{{Key: "code", Value: "A"}, {Key: "at", Value: time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)}}}}}
	if _, err := db.Collection("watches").InsertOne(ctx, first); err != nil {
		t.Fatal(err)
	}
	wire := demotest.NewWire(t)
	s, err := document.Open(document.Config{URL: strings.Replace(wire.URL, "/harbour", "/writes", 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	e := conform.NewEngine(t, watchTypes, map[string]store.Source{"db": s})
	id := ""
	ids := regexp.MustCompile(`"[0-9a-f]{24}"`)
	moments := regexp.MustCompile(`"ended":"20\d\d-[^"]*"`)
	for _, test := range []struct{ op, data, errors string }{
		{`mutation { begin(watch: {begun: "2026-03-02T08:30:00.25Z", place: "Holm", strength: 4, share: 0.5, state: CALM, crew: "old", tags: ["a", "b"], seen: {by: "Ada", day: "2026-03-01"}, entries: [{code: "E1", text: "fog", spots: [{x: 1, y: 2.5}]}, {code: "E2", at: "2026-03-02T09:00:00Z"}]}) { id begun ended place strength share price state tags seen { by day } entries { code text at spots { x y } } crew { name } } }`,
			`{"begin":{"id":ID,"begun":"2026-03-02T08:30:00.25Z","ended":null,"place":"Holm","strength":4,"share":0.5,"price":null,"state":"CALM","tags":["a","b"],"seen":{"by":"Ada","day":"2026-03-01"},"entries":[{"code":"E1","text":"fog","at":null,"spots":[{"x":1,"y":2.5}]},{"code":"E2","text":null,"at":"2026-03-02T09:00:00Z","spots":null}],"crew":{"name":"Old hands"}}}`, ``},
		{`mutation { change(id: "$id", change: {place: null, state: ROUGH, strength: 5}) { place state strength share } none: change(id: "0123456789abcdef01234567", change: {strength: 1}) { id } same: change(id: "$id", change: {}) { state } }`, `{"change":{"place":null,"state":"ROUGH","strength":5,"share":0.5},"none":null,"same":{"state":"ROUGH"}}`, ``},
		{`mutation { end(id: "$id", was: 4) { id } }`, `{"end":null}`, `[end] CONFLICT Mutation.end(was:) 4 is not what is stored any more: another change came first, and nothing of this one is done`},
		{`mutation { end(id: "$id", was: 5) { ended } }`, `{"end":{"ended":NOW}}`, ``},
		{`mutation { count(id: "$id", by: 2, share: 0.25) { strength share } }`, `{"count":{"strength":7,"share":0.75}}`, ``},
		{`mutation { note(id: "$id", entry: {code: "E3", at: "2026-03-02T10:00:00Z"}) { entries { code at } } noteAll(id: "$id", entries: [{code: "E4"}, {code: "E5"}]) { entries { code } } strike(id: "$id", code: "E4") { entries { code } } again: strike(id: "$id", code: "E4") { entries { code } } }`, // the demo's server compares all of a nested document
			`{"note":{"entries":[{"code":"E1","at":null},{"code":"E2","at":"2026-03-02T09:00:00Z"},{"code":"E3","at":"2026-03-02T10:00:00Z"}]},"noteAll":{"entries":[{"code":"E1"},{"code":"E2"},{"code":"E3"},{"code":"E4"},{"code":"E5"}]},"strike":{"entries":[{"code":"E1"},{"code":"E2"},{"code":"E3"},{"code":"E5"}]},"again":{"entries":[{"code":"E1"},{"code":"E2"},{"code":"E3"},{"code":"E5"}]}}`, ``},
		{`mutation { change(id: "$id", change: {entries: [{code: "N"}], seen: {by: "Bo"}}) { entries { code } seen { by day } } }`, `{"change":{"entries":[{"code":"N"}],"seen":{"by":"Bo","day":null}}}`, ``},
		{`mutation { begin(watch: {begun: "2026-03-02T08:30:00.000001Z"}) { id } }`, `{"begin":null}`, `[begin] CONSTRAINT Watch.begun holds at most 3 digits behind the point`},
		{`mutation { crew(id: "old", name: "New hands") { name badge watches { strength } } crew2: crew(id: "b", name: "B") { name } again: crew(id: "b", since: "2026-01-01") { name since } }`, `{"crew":{"name":"New hands","badge":"B-1","watches":[{"strength":7}]},"crew2":{"name":"B"},"again":{"name":"B","since":"2026-01-01"}}`, ``},
		{`mutation { hire(badge: "B-1", name: "Hands") { id name } none: hire(badge: "B-9", name: "x") { id } }`, `{"hire":{"id":"old","name":"Hands"},"none":null}`, ``},
		{`mutation { crewAll(crews: [{id: "c", badge: "C"}, {id: "old", badge: "D"}, {id: "e", badge: "E"}]) { id } }`, `{"crewAll":null}`, `[crewAll] CONSTRAINT Crew is taken: another record has it; the first 1 of the list are written, since this store has no transactions`},
		{`mutation { beginAll(watches: [{begun: "2026-04-01T00:00:00Z", place: "N"}, {begun: "2026-04-02T00:00:00Z", place: "N"}]) { id place } moveAll(filter: {place: {is: "N"}}, place: "S") }`, `{"beginAll":[{"id":ID,"place":"N"},{"id":ID,"place":"N"}],"moveAll":2}`, ``},
		{`mutation { forgetAll(filter: {place: {is: "S"}}) { count ids watches { place } } again: forgetAll(filter: {place: {is: "S"}}) { count ids watches { place } } }`, `{"forgetAll":{"count":2,"ids":[ID,ID],"watches":[{"place":"S"},{"place":"S"}]},"again":{"count":0,"ids":[],"watches":[]}}`, ``},
		{`mutation { forget(id: "$id") { entries { code } } again: forget(id: "$id") { state } }`, `{"forget":{"entries":[{"code":"N"}]},"again":null}`, ``},
	} {
		o := e.Ask(t, strings.ReplaceAll(test.op, "$id", id), nil)
		if m := regexp.MustCompile(`\{"begin":\{"id":"([^"]*)"`).FindStringSubmatch(o.Data); m != nil {
			id = m[1]
			stored, err := db.Collection("watches").FindOne(ctx, bson.D{{Key: "place", Value: "Holm"}}).Raw()
			if got := fmt.Sprint(stored); err != nil || !strings.Contains(got, `"begun": {"$date":`) || !strings.Contains(got, `"strength": {"$numberInt":"4"}`) || !strings.Contains(got, `"seen": {"who": {"name": "Ada"},"day": {"$date"`) || !strings.Contains(got, `"_id": {"$oid":`) {
				t.Errorf("stored is %s %v", got, err)
			}
		}
		data := moments.ReplaceAllString(ids.ReplaceAllString(o.Data, "ID"), `"ended":NOW`)
		if errors := strings.Join(o.Errors, " "); data != test.data || errors != test.errors {
			t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, data, o.Errors, test.data, test.errors)
		}
	}
	// It is the server that counts, and that looks at what is expected: one command each.
	if o := e.Ask(t, `mutation { begin(watch: {begun: "2026-03-02T08:30:00Z", strength: 0}) { id } }`, nil); len(o.Errors) == 0 {
		id = regexp.MustCompile(`[0-9a-f]{24}`).FindString(o.Data)
	}
	for _, test := range []struct{ op, want, commands string }{
		{`count(id: "$id", by: 1) { strength }`, `{"q": {"_id": {"$oid":"$id"}},"u": {"$inc": {"strength": {"$numberInt":"1"}}}`, "update find"},
		{`end(id: "$id", was: 1) { strength }`, `{"q": {"_id": {"$oid":"$id"},"strength": {"$numberLong":"1"}},"u": {"$set": {"ended":`, "update find"},
		{`note(id: "$id", entry: {code: "E9"}) { strength }`, `"u": {"$push": {"entries": {"$each": [{"code": "E9"}]}}}`, "update find"},
		// The demo's server does not know array filters: the list is compared.
		{`amend(id: "$id", code: "E9", change: {text: "x", at: null}, place: "Q") { strength }`, `"q": {"_id": {"$oid":"$id"},"entries": {"$elemMatch": {"code": "E9"}}},"u": {"$set": {"place": "Q","entries.$[one].text": "x"},"$unset": {"entries.$[one].at": ""}},"arrayFilters": [{"one.code": "E9"}]`, "update find update find"},
		{`amend(id: "$id", code: "E9", change: {at: "2026-03-02T10:00:00Z", spots: [{x: 1, y: 2}]}) { entries { code text at spots { x } } place }`, `"entries": [{"code": "E9","text": "x"}]},"u": {"$set": {"entries": [{"code": "E9","text": "x","at": {"$date":{"$numberLong":"1772445600000"}},"spots": [{"x": {"$numberDouble":"1.0"},"y": {"$numberDouble":"2.0"}}]}]}}`, "find update find"},
		{`amend(id: "$id", code: "E8", change: {text: "no"}) { strength }`, `"find": "watches"`, "find"},
		{`amend(id: "$id", code: "E9", change: {}) { strength }`, `"find": "watches"`, "find find"},
		{`strike(id: "$id", code: "E9") { strength }`, `"u": {"$pull": {"entries": {"code": "E9"}}}`, "update find"},
		{`change(id: "$id", change: {place: null}) { strength }`, `"u": {"$unset": {"place": ""}}`, "update find"},
	} {
		wire.Commands()
		wire.Texts()
		o := e.Ask(t, "mutation { "+strings.ReplaceAll(test.op, "$id", id)+" }", nil)
		texts := strings.Join(wire.Texts(), "\n")
		if got := strings.Join(wire.Commands(), " "); got != test.commands || len(o.Errors) > 0 || !strings.Contains(texts, strings.ReplaceAll(test.want, "$id", id)) {
			t.Errorf("%s is %s: %s %v\n%s\nwant %s", test.op, got, o.Data, o.Errors, texts, test.want)
		}
	}
	// A list is one command, and its answer another one.
	wire.Commands()
	var many []string
	for i := range 100 {
		many = append(many, fmt.Sprintf(`{begun: "2026-03-02T08:30:00Z", strength: %d}`, i))
	}
	o := e.Ask(t, `mutation { beginAll(watches: [`+strings.Join(many, ", ")+`]) { strength } }`, nil)
	if got := strings.Join(wire.Commands(), " "); len(o.Errors) > 0 || got != "insert find" || strings.Count(o.Data, "strength") != 100 {
		t.Errorf("a list of 100 is %s: %.100s %v", got, o.Data, o.Errors)
	}
	if n, _ := db.Collection("crews").CountDocuments(ctx, bson.D{{Key: "_id", Value: "c"}}); n != 1 {
		t.Error("of what is said to be written, nothing is")
	}
}

// TestRandomWrites holds random operations that write and read to a model, and reads the
// collection by the driver after each. A find of the demo's server takes a third of a second.
func TestRandomWrites(t *testing.T) {
	ctx := context.Background()
	url := strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/random", 1)
	client, err := mongo.Connect(options.Client().ApplyURI(url))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(ctx)
	things := client.Database("random").Collection("things")
	// What tells the types of the fields is gone again before the first operation.
	seed := bson.D{{Key: "_id", Value: int32(0)}, {Key: "code", Value: "-"}, {Key: "name", Value: "-"}, {Key: "n", Value: int32(0)}}
	if _, err := things.InsertOne(ctx, seed); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Database("random").Collection("parts").InsertOne(ctx, bson.D{{Key: "_id", Value: int32(0)}, {Key: "thing", Value: int32(-1)}, {Key: "size", Value: int32(0)}}); err != nil {
		t.Fatal(err)
	}
	if _, err := things.Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "code", Value: 1}}, Options: options.Index().SetUnique(true)}); err != nil {
		t.Fatal(err)
	}
	s, err := document.Open(document.Config{URL: url})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	types := strings.ReplaceAll(strings.ReplaceAll(conform.WriteTypes, `key: "id"`, `key: "_id"`), " { id: ID! ", ` { id: ID! @at(path: "_id") `)
	types = strings.ReplaceAll(strings.ReplaceAll(strings.ReplaceAll(types, " parts: [NewPart!]", ""), "(id: ID!, ", `(id: ID! @at(path: "_id"), `), "(id: ID!)", `(id: ID! @at(path: "_id"))`)
	types = strings.ReplaceAll(strings.ReplaceAll(types, `here: "id"`, `here: "_id"`), `there: "id"`, `there: "_id"`)
	types = strings.ReplaceAll(types, `ids: [ID!]! @at(path: "id")`, `ids: [ID!]! @at(path: "_id")`)
	types = types[:strings.Index(types, "input NewPart")] + types[strings.Index(types, "type Changed"):]
	e := conform.NewEngine(t, types, map[string]store.Source{"db": s})
	if _, err := things.DeleteOne(ctx, bson.D{{Key: "_id", Value: 0}}); err != nil {
		t.Fatal(err)
	}
	conform.Written{Replaces: true, State: func() []string {
		cursor, err := things.Find(ctx, bson.D{}, options.Find().SetSort(bson.D{{Key: "_id", Value: 1}}))
		if err != nil {
			t.Fatal(err)
		}
		var list []string
		for cursor.Next(ctx) {
			var doc struct {
				ID   int `bson:"_id"`
				Code string
				Name *string
				N    *int
			}
			if err := cursor.Decode(&doc); err != nil {
				t.Fatal(err)
			}
			name, _ := json.Marshal(doc.Name)
			n, _ := json.Marshal(doc.N)
			list = append(list, fmt.Sprintf(`{"id":"%d","code":"%s","name":%s,"n":%s}`, doc.ID, doc.Code, name, n))
		}
		return list
	}}.Writes(t, e, 1, *random*4)
}
