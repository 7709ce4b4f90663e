package demotest

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
)

// This file gives a [Replica] change streams, which the document server behind it has not: it notes what is written
// through it, and tells that as a server does (the specification of change streams of MongoDB's drivers).

// changes are what was written, each with a token that is its number.
type changes struct {
	mu   sync.Mutex // guards what follows
	list []bson.D
	lost int // how many are not known any more
	// Where each stream is, by the number of its cursor.
	places map[int64]int
}

// firstStream is the number of the first cursor of a change stream.
const firstStream = int64(7_000_000_000)

// tokenOf returns the token of a place: hexadecimal digits.
func tokenOf(n int) bson.D { return bson.D{{Key: "_data", Value: fmt.Sprintf("%08X", n)}} }

// note notes what a command has written.
func (c *changes) note(m *message) {
	raw, rest, ok := bsoncore.ReadDocument(m.body[5:])
	var doc bson.D
	if !ok || bson.Unmarshal(raw, &doc) != nil || len(doc) == 0 {
		return
	}
	set, _ := doc[0].Value.(string)
	given := map[string][]bson.D{}
	for _, e := range doc {
		if list, isList := e.Value.(bson.A); isList {
			for _, item := range list {
				if d, isDocument := item.(bson.D); isDocument {
					given[e.Key] = append(given[e.Key], d)
				}
			}
		}
	}
	if len(rest) > 5 && rest[0] == 1 { // a sequence of documents, with its name
		body := rest[5:]
		name, after, ok := bsoncore.ReadKeyBytes(body)
		for body = after; ok && len(body) > 0; {
			var one bsoncore.Document
			if one, body, ok = bsoncore.ReadDocument(body); ok {
				var d bson.D
				if bson.Unmarshal(one, &d) == nil {
					given[string(name)] = append(given[string(name)], d)
				}
			}
		}
	}
	get := func(d bson.D, name string) any {
		for _, e := range d {
			if e.Key == name {
				return e.Value
			}
		}
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	add := func(what string, id any, more ...bson.E) {
		e := bson.D{{Key: "_id", Value: tokenOf(c.lost + len(c.list) + 1)}, {Key: "operationType", Value: what}, {Key: "ns", Value: bson.D{{Key: "db", Value: get(doc, "$db")}, {Key: "coll", Value: set}}}, {Key: "documentKey", Value: bson.D{{Key: "_id", Value: id}}}}
		c.list = append(c.list, append(e, more...))
	}
	switch doc[0].Key {
	case "insert":
		for _, d := range given["documents"] {
			add("insert", get(d, "_id"))
		}
	case "update":
		for _, u := range given["updates"] {
			q, _ := get(u, "q").(bson.D)
			change, _ := get(u, "u").(bson.D)
			set, _ := get(change, "$set").(bson.D)
			add("update", get(q, "_id"), bson.E{Key: "updateDescription", Value: bson.D{{Key: "updatedFields", Value: set}, {Key: "removedFields", Value: bson.A{}}}})
		}
	case "delete":
		for _, d := range given["deletes"] {
			q, _ := get(d, "q").(bson.D)
			add("delete", get(q, "_id"))
		}
	}
}

// Forget has the server not know any more what was written before.
func (p *Replica) Forget() {
	p.changes.mu.Lock()
	defer p.changes.mu.Unlock()
	p.changes.lost += len(p.changes.list)
	p.changes.list = nil
}

// stream answers the commands of change streams; false of any other. It waits as long as it is told to.
func (p *Replica) stream(m *message) (*message, bool) {
	raw, _, ok := bsoncore.ReadDocument(m.body[5:])
	var doc bson.D
	if !ok || bson.Unmarshal(raw, &doc) != nil || len(doc) == 0 {
		return nil, false
	}
	c := &p.changes
	cursor := func(name string, id int64, list []bson.D, place int) *message {
		if list == nil {
			list = []bson.D{}
		}
		return reply(m, bson.D{{Key: "cursor", Value: bson.D{{Key: "id", Value: id}, {Key: "ns", Value: "harbour.$cmd.aggregate"}, {Key: name, Value: list}, {Key: "postBatchResumeToken", Value: tokenOf(place)}}}, {Key: "ok", Value: 1}})
	}
	switch doc[0].Key {
	case "aggregate":
		at := slices.IndexFunc(doc, func(e bson.E) bool { return e.Key == "pipeline" })
		if at < 0 {
			return nil, false
		}
		stages, _ := doc[at].Value.(bson.A)
		if len(stages) == 0 {
			return nil, false
		}
		stage, _ := stages[0].(bson.D)
		if len(stage) == 0 || stage[0].Key != "$changeStream" {
			return nil, false
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		place := c.lost + len(c.list)
		options, _ := stage[0].Value.(bson.D)
		for _, e := range options {
			if token, isToken := e.Value.(bson.D); isToken && e.Key == "resumeAfter" {
				fmt.Sscanf(fmt.Sprint(token[0].Value), "%X", &place)
			}
		}
		if place < c.lost {
			return reply(m, bson.D{{Key: "ok", Value: 0}, {Key: "code", Value: 286}, {Key: "codeName", Value: "ChangeStreamHistoryLost"}, {Key: "errmsg", Value: "it is not known any more"}}), true
		}
		if c.places == nil {
			c.places = map[int64]int{}
		}
		id := firstStream + int64(len(c.places))
		c.places[id] = place
		return cursor("firstBatch", id, nil, place), true
	case "getMore":
		id, _ := doc[0].Value.(int64)
		if id < firstStream {
			return nil, false
		}
		for until := time.Now().Add(500 * time.Millisecond); ; time.Sleep(5 * time.Millisecond) {
			c.mu.Lock()
			list := slices.Clone(c.list[min(max(c.places[id]-c.lost, 0), len(c.list)):])
			place := c.lost + len(c.list)
			c.places[id] = place
			c.mu.Unlock()
			if len(list) > 0 || time.Now().After(until) {
				return cursor("nextBatch", id, list, place), true
			}
		}
	case "killCursors":
		return reply(m, bson.D{{Key: "cursorsKilled", Value: bson.A{}}, {Key: "ok", Value: 1}}), true
	}
	return nil, false
}
