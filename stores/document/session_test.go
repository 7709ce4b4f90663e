package document_test

import (
	"context"
	"errors"
	"net/url"
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

// TestTransactions writes to a server that says it is of a replica set: each root field is a
// transaction, which is begun again, or undone, as the server says.
func TestTransactions(t *testing.T) {
	replica := demotest.NewReplica(t)
	url := strings.Replace(replica.URL, "/harbour", "/transactions", 1)
	client, err := mongo.Connect(options.Client().ApplyURI(strings.Replace(demotest.Harbour().InspectionsURL, "/harbour", "/transactions", 1)))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Disconnect(t.Context())
	crews := client.Database("transactions").Collection("crews")
	if _, err := crews.InsertOne(t.Context(), bson.D{{Key: "_id", Value: "old"}, {Key: "name", Value: "Old hands"}, {Key: "n", Value: int32(1)}}); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Database("transactions").Collection("shifts").InsertOne(t.Context(), bson.D{{Key: "_id", Value: "s"}, {Key: "crew", Value: "old"}, {Key: "hours", Value: int32(1)}}); err != nil {
		t.Fatal(err)
	}
	s, err := document.Open(document.Config{URL: url})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	e := conform.NewEngine(t, `type Query { crews: [Crew!]! @read }
type Mutation {
  add(crew: CrewNew!): Crew @add
  addAll(crews: [CrewNew!]!): [Crew!] @add
  put(id: ID!, name: String): Crew @add(replaces: "id")
  change(id: ID!, name: String, n: Int): Crew @change
  remove(id: ID!): Crew @remove
}
input CrewNew { id: ID! name: String shifts: [ShiftNew!] }
input ShiftNew { id: ID! hours: Int! }
type Crew @stored(in: "db", as: "crews", key: "_id") { id: ID! @at(path: "_id") name: String n: Int shifts: [Shift!]! @related(there: "crew", sort: "id") }
type Shift @stored(in: "db", as: "shifts", key: "_id") { id: ID! @at(path: "_id") hours: Int! crew: ID! }`, map[string]store.Source{"db": s})
	if s.Capabilities().Write.Apart {
		t.Fatal("a member of a replica set is taken for a server that stands alone")
	}
	for _, test := range []struct {
		op, data, errors string
		notes            []string
		fail             func()
	}{
		{`add(crew: {id: "a", name: "A"}) { name }`, `{"add":{"name":"A"}}`, ``, []string{"begin insert crews", "find crews", "commitTransaction"}, nil},
		{`add(crew: {id: "b", shifts: [{id: "1", hours: 3}, {id: "2", hours: 4}]}) { shifts { id hours } }`, `{"add":{"shifts":[{"id":"1","hours":3},{"id":"2","hours":4}]}}`, ``, []string{"begin insert crews", "insert shifts", "find crews", "find shifts", "commitTransaction"}, nil},
		{`change(id: "a", n: 2) { n } two: change(id: "none", n: 2) { n }`, `{"change":{"n":2},"two":null}`, ``, []string{"begin update crews", "find crews", "commitTransaction", "begin update crews", "commitTransaction"}, nil},
		{`addAll(crews: [{id: "c"}, {id: "a"}]) { id }`, `{"addAll":null}`, `[addAll] CONSTRAINT Crew is taken: another record has it`, []string{"begin insert crews", "abortTransaction"}, nil},
		{`change(id: "a", n: 3) { n }`, `{"change":{"n":3}}`, ``, []string{"begin update crews", "abortTransaction", "begin update crews", "find crews", "commitTransaction"}, func() { replica.Fail("update", 112, "TransientTransactionError") }},
		{`change(id: "a", n: 4) { n }`, `{"change":{"n":4}}`, ``, []string{"begin update crews", "find crews", "commitTransaction", "begin update crews", "find crews", "commitTransaction"}, func() { replica.Fail("commitTransaction", 251, "TransientTransactionError") }},
		{`change(id: "a", n: 5) { n }`, `{"change":null}`, `[change] STORE_ANSWER the source db refused the request`, []string{"begin update crews", "find crews", "abortTransaction"}, func() { replica.Fail("find", 8000) }},
		{`remove(id: "b") { shifts { id } }`, `{"remove":{"shifts":[{"id":"1"},{"id":"2"}]}}`, ``, []string{"begin find crews", "find shifts", "delete crews", "commitTransaction"}, nil},
	} {
		replica.Notes()
		if test.fail != nil {
			test.fail()
		}
		o := e.Ask(t, "mutation { "+test.op+" }", nil)
		if errors := strings.Join(o.Errors, " "); o.Data != test.data || errors != test.errors {
			t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, o.Errors, test.data, test.errors)
		}
		if notes := strings.Join(replica.Notes(), ", "); notes != strings.Join(test.notes, ", ") {
			t.Errorf("%s\nis   %s\nwant %s", test.op, notes, strings.Join(test.notes, ", "))
		}
	}
	// What is read of one field is as it was before the next.
	o := e.Ask(t, `mutation @transaction { one: put(id: "x", name: "X") { name } two: put(id: "old", name: "Older") { name } }`, nil)
	notes := strings.Join(replica.Notes(), ", ")
	if want := "begin update crews, find crews, update crews, find crews, commitTransaction"; o.Data != `{"one":{"name":"X"},"two":{"name":"Older"}}` || len(o.Errors) > 0 || notes != want {
		t.Errorf("two fields in one transaction give %s %v by %s, want %s", o.Data, o.Errors, notes, want)
	}
}

// TestMembers asks another member where the address says so, but where what is asked for is what was told to have changed.
func TestMembers(t *testing.T) {
	replica := demotest.NewReplica(t)
	s, err := document.Open(document.Config{URL: replica.URL + "&readPreference=secondary"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	c, err := s.Catalogue(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		ctx  context.Context
		read *store.Read
		want string
	}{
		{t.Context(), &store.Read{Set: "inspections", Parent: -1, Columns: []store.Wanted{{Path: "_id", Kind: store.Text}}}, "find secondary"},
		{t.Context(), &store.Read{Set: "inspections", Parent: -1, Columns: []store.Wanted{{Kind: store.Int, Aggregate: store.Count}}, Aggregates: true}, "aggregate secondary"},
		// Of the one member that it knows, the driver asks whatever it is.
		{store.WithFresh(t.Context()), &store.Read{Set: "inspections", Parent: -1, Columns: []store.Wanted{{Path: "_id", Kind: store.Text}}}, "find primaryPreferred"},
		{store.WithFresh(t.Context()), &store.Read{Set: "inspections", Parent: -1, Columns: []store.Wanted{{Kind: store.Int, Aggregate: store.Count}}, Aggregates: true}, "aggregate primaryPreferred"},
	} {
		request, err := s.Prepare(c, []*store.Read{test.read})
		if err != nil {
			t.Fatal(err)
		}
		replica.Modes()
		if _, err := request.Run(test.ctx, nil, []store.Input{{}}); err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(replica.Modes(), ", "); got != test.want {
			t.Errorf("asked is by %q, want %q", got, test.want)
		}
	}
}

// TestSilentServer listens to a server that takes connections and is silent, from the beginning or in the middle: that
// is an error, and not for ever.
func TestSilentServer(t *testing.T) {
	replica := demotest.NewReplica(t)
	u, err := url.Parse(replica.URL)
	if err != nil {
		t.Fatal(err)
	}
	proxy := demotest.NewProxy(t, u.Host)
	u.Host = proxy.Address
	s, err := document.Open(document.Config{URL: u.String()})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ended := make(chan error, 1)
	begun := make(chan string, 100)
	listen := func() {
		ended <- s.Watch(t.Context(), "", func(b store.Batch) error {
			begun <- b.At
			return nil
		})
	}
	for _, silent := range []string{"in the middle", "from the beginning"} {
		go listen()
		if silent == "in the middle" {
			<-begun
		}
		proxy.Be(demotest.Hanging)
		select {
		case err := <-ended:
			if err == nil || errors.Is(err, store.ErrTooOld) {
				t.Errorf("silent %s, it ends with %v", silent, err)
			}
		case <-time.After(25 * time.Second):
			t.Fatalf("silent %s, it waits for ever", silent)
		}
	}
}
