package osprey_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey"
	"osprey/demo/demotest"
)

const elsewhereSchema = `type Query { calls: [Call!]! @read papers: [Paper!] @read }
type Mutation {
  arrive(call: CallNew!): Call @add
  arriveAll(calls: [CallNew!]!): [Call!] @add
  file(paper: PaperNew!): Paper @add
}
input CallNew { tons: Int! papers: [PaperOf!] entries: [EntryNew!] stops: [StopNew!] }
input PaperOf { id: ID! title: String! lines: [LineAdd!] }
input EntryNew { text: String! }
input StopNew { port: String! notes: [NoteNew!] }
input NoteNew { id: ID! }
input PaperNew { id: ID! title: String! stamps: [StampNew!] copies: [CopyNew!] }
input StampNew { text: String! }
input CopyNew { id: ID! }
type Call @stored(in: "db", as: "calls", key: "id") { id: ID! tons: Int! papers: [Paper!] @related(here: "id", there: "callId") entries: [Entry!] @related(there: "call") stops: [Stop!]! @related(there: "call") }
type Stop @stored(in: "db", as: "stops", key: "id") { id: ID! call: ID! port: String! notes: [Note!] @related(there: "stop") }
type Note @stored(in: "docs", as: "notes", key: "_id") { id: ID! @at(path: "_id") stop: ID! }
type Paper @stored(in: "docs", as: "papers", key: "_id") { id: ID! @at(path: "_id") callId: ID title: String! lines: [Line!] stamps: [Stamp!] @related(there: "paper") copies: [Copy!] @related(there: "paper") }
type Line { goods: String! }
type Copy @stored(in: "docs", as: "copies", key: "_id") { id: ID! @at(path: "_id") paper: ID! }
type Stamp @stored(in: "db", as: "stamps", key: "id") { id: ID! paper: ID! text: String! }
type Entry @stored(in: "book", as: "entries", key: "id") { id: ID! call: ID! text: String! }`

// TestNestedElsewhere adds records with others of other sources: check says that it is not one
// transaction, and an error what is there all the same, which the stores are read for.
func TestNestedElsewhere(t *testing.T) {
	ctx := context.Background()
	db, source, numbered := withinDatabase(t, "postgres")
	for _, statement := range []string{
		"CREATE TABLE calls (id " + numbered + ", tons int NOT NULL CHECK (tons < 100))",
		"CREATE TABLE stops (id " + numbered + ", call int NOT NULL REFERENCES calls (id) DEFERRABLE INITIALLY DEFERRED, port varchar(4) NOT NULL)",
		"CREATE INDEX ON stops (call)",
		"CREATE TABLE stamps (id " + numbered + ", paper text NOT NULL, text varchar(3) NOT NULL)",
		"CREATE INDEX ON stamps (paper)",
	} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(statement, err)
		}
	}
	url := strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/elsewhere", 1)
	client, err := mongo.Connect(options.Client().ApplyURI(url))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(ctx)
	docs := client.Database("elsewhere")
	for set, doc := range map[string]bson.D{
		"papers": {{Key: "_id", Value: "old"}, {Key: "callId", Value: int32(0)}, {Key: "title", Value: "Old"}, {Key: "lines", Value: bson.A{bson.D{{Key: "goods", Value: "salt"}}}}},
		"notes":  {{Key: "_id", Value: "old"}, {Key: "stop", Value: int32(0)}},
		"copies": {{Key: "_id", Value: "old"}, {Key: "paper", Value: "old"}},
	} {
		if _, err := docs.Collection(set).InsertOne(ctx, doc); err != nil {
			t.Fatal(err)
		}
	}
	for set, field := range map[string]string{"papers": "callId", "notes": "stop", "copies": "paper"} {
		if _, err := docs.Collection(set).Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: field, Value: 1}}}); err != nil {
			t.Fatal(err)
		}
	}
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":       "sources:\n  db: " + source + "\n  docs: { kind: mongodb, url: \"" + url + "\" }\n  book: { kind: files, folder: data }\n",
		"data/entries.json": `[{"id": 1, "call": 0, "text": "begun"}]`,
		"schema/a.graphql":  elsewhereSchema,
	})
	found, err := osprey.Check(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	if told := found.Error(); !strings.Contains(told, "CallNew.papers adds to docs, which is not in one transaction with the rest of Mutation.arrive: if one fails, the other can be there") || strings.Count(told, "not in one transaction") < 5 {
		t.Errorf("check says %s", told)
	}
	service, err := osprey.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	plan, err := service.Explain(osprey.Operation{Text: `mutation { arrive(call: {tons: 1, papers: [{id: "x", title: "X"}], stops: [{port: "N"}]}) { id } }`})
	if err != nil || !strings.Contains(plan, "docs (mongodb)  add papers\n    a part of arrive, and not of its transaction, which ends behind it: what is written here stays if that fails") {
		t.Errorf("explain says %s %v", plan, err)
	}
	state := func() string {
		var counts []string
		for _, table := range []string{"calls", "stops", "stamps"} {
			var n string
			if err := db.QueryRow("SELECT count(*) FROM " + table).Scan(&n); err != nil {
				t.Fatal(err)
			}
			counts = append(counts, table+" "+n)
		}
		for _, set := range []string{"papers", "notes", "copies"} {
			n, err := docs.Collection(set).CountDocuments(ctx, bson.D{{Key: "_id", Value: bson.D{{Key: "$ne", Value: "old"}}}})
			if err != nil {
				t.Fatal(err)
			}
			counts = append(counts, set+" "+string('0'+rune(n)))
		}
		text, err := os.ReadFile(filepath.Join(dir, "data/entries.json"))
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(append(counts, "entries "+string('0'+rune(strings.Count(string(text), `"id"`)-1))), ", ")
	}
	for _, test := range []struct{ op, data, errors, state string }{
		{`arrive(call: {tons: 1, papers: [{id: "a", title: "A", lines: [{goods: "rope"}]}], entries: [{text: "in"}, {text: "moored"}], stops: [{port: "N", notes: [{id: "n1"}, {id: "n2"}]}, {port: "S", notes: [{id: "n3"}]}]}) { id papers { title lines { goods } } entries { text } stops { port notes { id } } }`,
			`{"arrive":{"id":"1","papers":[{"title":"A","lines":[{"goods":"rope"}]}],"entries":[{"text":"in"},{"text":"moored"}],"stops":[{"port":"N","notes":[{"id":"n1"},{"id":"n2"}]},{"port":"S","notes":[{"id":"n3"}]}]}}`, ``,
			"calls 1, stops 2, stamps 0, papers 1, notes 3, copies 0, entries 2"},
		// The row is undone where the document fails.
		{`arrive(call: {tons: 2, papers: [{id: "a", title: "B"}], stops: [{port: "N"}]}) { id }`, `{"arrive":null}`, `CONSTRAINT docs arrive: Paper is taken: another record has it`,
			"calls 1, stops 2, stamps 0, papers 1, notes 3, copies 0, entries 2"},
		{`arrive(call: {tons: 102, papers: [{id: "b", title: "B"}]}) { id }`, `{"arrive":null}`, `CONSTRAINT db arrive: the record breaks the rule "calls_tons_check" of Call`,
			"calls 1, stops 2, stamps 0, papers 1, notes 3, copies 0, entries 2"},
		// What was written before stays, and is told.
		{`arrive(call: {tons: 3, papers: [{id: "c", title: "C"}], stops: [{port: "N", notes: [{id: "n1"}]}]}) { id }`, `{"arrive":null}`, `CONSTRAINT docs arrive: Note is taken: another record has it; written all the same, since it is not one transaction: Paper`,
			"calls 1, stops 2, stamps 0, papers 2, notes 3, copies 0, entries 2"},
		{`arriveAll(calls: [{tons: 4, papers: [{id: "d", title: "D"}]}, {tons: 5, entries: [{text: "x"}]}, {tons: 6}]) { tons papers { id } entries { text } }`,
			`{"arriveAll":[{"tons":4,"papers":[{"id":"d"}],"entries":[]},{"tons":5,"papers":[],"entries":[{"text":"x"}]},{"tons":6,"papers":[],"entries":[]}]}`, ``,
			"calls 4, stops 2, stamps 0, papers 3, notes 3, copies 0, entries 3"},
		// A document first, and then rows, and other documents of a server without transactions.
		{`file(paper: {id: "f", title: "F", stamps: [{text: "ok"}], copies: [{id: "c1"}, {id: "c2"}]}) { title stamps { text } copies { id } }`, `{"file":{"title":"F","stamps":[{"text":"ok"}],"copies":[{"id":"c1"},{"id":"c2"}]}}`, ``,
			"calls 4, stops 2, stamps 1, papers 4, notes 3, copies 2, entries 3"},
		{`file(paper: {id: "g", title: "G", stamps: [{text: "long"}]}) { title }`, `{"file":null}`, `CONSTRAINT db file: Stamp.text holds at most 3 characters; written all the same, since it is not one transaction: Paper`,
			"calls 4, stops 2, stamps 1, papers 5, notes 3, copies 2, entries 3"},
		{`file(paper: {id: "h", title: "H", stamps: [{text: "x"}], copies: [{id: "c3"}, {id: "c1"}]}) { title }`, `{"file":null}`, `CONSTRAINT docs file: Copy is taken: another record has it; the first 1 of the list are written, since this store has no transactions; written all the same, since it is not one transaction: Paper`,
			"calls 4, stops 2, stamps 1, papers 6, notes 3, copies 3, entries 3"},
	} {
		a, err := service.Ask(ctx, osprey.Operation{Text: "mutation { " + test.op + " }"})
		if err != nil {
			t.Fatal(err)
		}
		var told []string
		for _, e := range a.Errors {
			told = append(told, e.Code+" "+e.Source+" "+e.Error())
		}
		if errors := strings.Join(told, "; "); string(a.Data) != test.data || errors != test.errors {
			t.Errorf("%s\ngives %s %s\nwant  %s %s", test.op, a.Data, errors, test.data, test.errors)
		}
		if is := state(); is != test.state {
			t.Errorf("%s\nleaves %s\nwant   %s", test.op, is, test.state)
		}
	}
	a, err := service.Ask(ctx, osprey.Operation{Text: `mutation @transaction { arrive(call: {tons: 1, papers: [{id: "y", title: "Y"}]}) { id } two: arrive(call: {tons: 1}) { id } }`})
	if err != nil || len(a.Errors) != 1 || !strings.Contains(a.Errors[0].Message, "arrive writes to other sources than db, too, so that the mutation cannot be one") {
		t.Errorf("as one transaction it is %s %v %v", a.Data, a.Errors, err)
	}
}
