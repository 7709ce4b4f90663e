package main_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/demo/demotest"
)

// TestChangeStream hears what changes in a document database that says that it is of a replica set, and goes on where it
// was.
func TestChangeStream(t *testing.T) {
	replica := demotest.NewReplica(t)
	url := strings.Replace(replica.URL, "/harbour", "/streams", 1)
	client, err := mongo.Connect(options.Client().ApplyURI(url))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(context.Background())
	crews := client.Database("streams").Collection("crews")
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	insert := func(id any, name string) {
		t.Helper()
		_, err := crews.InsertOne(t.Context(), bson.D{{Key: "_id", Value: id}, {Key: "name", Value: name}})
		must(err)
	}
	insert("old", "Old hands")
	insert(bson.NewObjectID(), "Numbered hands") // so that it is known that there are such ids
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("sources:\n  db: { kind: mongodb, url: %q }\n", url), "schema/a.graphql": `
type Query { crews: [Crew!] @read }
type Mutation { add(id: ID!, name: String): Crew @add }
type Subscription { crews: CrewMove! @watch }
type CrewMove { what: ChangeKind! id: ID! @at(path: "_id") changed: [String!] now: Crew }
type Crew @stored(in: "db", as: "crews", key: "_id") { id: ID! @at(path: "_id") name: String }`})
	address, _, said := served(t, dir)
	defer func() {
		if t.Failed() {
			t.Log(said)
		}
	}()
	base := "http://" + address
	if out, errs, _ := osprey(t, "explain", "--url", base, "subscription { crews { id } }"); !strings.Contains(out, "at once, whoever makes the change") {
		t.Errorf("it is explained by %s%s", out, errs)
	}
	const query = "subscription { crews { what id changed now { name } } }"
	first := subscribed(t, base, query)
	is := func(e *events, want string) {
		t.Helper()
		if got := e.next(); got != `{"data":{"crews":`+want+`}}` {
			t.Errorf("told is %s, and not %s", got, want)
		}
	}
	insert("new", "New hands")
	is(first, `{"what":"ADDED","id":"new","changed":[],"now":{"name":"New hands"}}`)
	id := bson.NewObjectID()
	insert(id, "Others")
	is(first, `{"what":"ADDED","id":"`+id.Hex()+`","changed":[],"now":{"name":"Others"}}`)
	_, err = crews.UpdateOne(t.Context(), bson.D{{Key: "_id", Value: "old"}}, bson.D{{Key: "$set", Value: bson.D{{Key: "name", Value: "Older hands"}}}})
	must(err)
	is(first, `{"what":"CHANGED","id":"old","changed":["name"],"now":{"name":"Older hands"}}`)
	answerAt(t, address, `mutation { add(id: "own", name: "Our own") { id } }`)
	is(first, `{"what":"ADDED","id":"own","changed":[],"now":{"name":"Our own"}}`)
	first.none() // nor twice
	last := ""
	for len(first.ids) > 0 {
		last = <-first.ids
	}
	first.cancel()
	_, err = crews.DeleteOne(t.Context(), bson.D{{Key: "_id", Value: "new"}})
	must(err)
	insert("late", "Late hands")
	second := subscribed(t, base, query, "Last-Event-ID", last)
	is(second, `{"what":"REMOVED","id":"new","changed":[],"now":null}`)
	is(second, `{"what":"ADDED","id":"late","changed":[],"now":{"name":"Late hands"}}`)
	insert("later", "Later hands")
	is(second, `{"what":"ADDED","id":"later","changed":[],"now":{"name":"Later hands"}}`)
	second.none()
	replica.Forget()
	insert("last", "Last hands")
	if got := refusedStream(t, base, query, "Last-Event-ID", last); !strings.Contains(got, `"code":"LOST"`) {
		t.Errorf("what is not known any more is answered with %s", got)
	}
}
