package document

import (
	"context"
	"errors"
	"hash/fnv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/core/store"
)

// This file hears what changes in a database of a replica set, or behind shards: by a change stream. A position is the token by
// which the server goes on.

// Watched implements [store.Watcher]: of a server that has change streams, all collections.
func (s *Source) Watched(ctx context.Context) (told store.Telling, err error) {
	if !s.transacts.Load() {
		return told, nil
	}
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	stream, err := s.db.Watch(ctx, mongo.Pipeline{})
	var refused mongo.CommandError
	switch {
	case errors.As(err, &refused):
		return told, nil // it is one that has none, or this user may not
	case err != nil:
		return told, fail(ctx, err)
	}
	stream.Close(ctx)
	names, err := s.db.ListCollectionNames(ctx, bson.D{{Key: "type", Value: "collection"}})
	if err != nil {
		return told, fail(ctx, err)
	}
	sets := map[string][]string{}
	for _, name := range names {
		sets[name] = []string{"_id"}
	}
	return store.Telling{Sets: sets, By: "a change stream"}, nil
}

// Watch implements [store.Watcher].
func (s *Source) Watch(ctx context.Context, after string, tell func(store.Batch) error) error {
	stream, err := s.stream(ctx, after)
	if err != nil {
		return err
	}
	defer end(ctx, stream)
	at := tokenOf(stream.ResumeToken())
	if err := tell(store.Batch{At: at}); err != nil {
		return err
	}
	for {
		some, err := next(ctx, stream)
		switch now := tokenOf(stream.ResumeToken()); {
		case err != nil:
			return err
		case some:
			if err := s.tellAll(ctx, stream, tell); err != nil {
				return err
			}
			at = tokenOf(stream.ResumeToken())
		case now != at: // where nothing changes for long, those who hear stand further on, too
			at = now
			if err := tell(store.Batch{At: at}); err != nil {
				return err
			}
		}
	}
}

// Since implements [store.Watcher].
func (s *Source) Since(ctx context.Context, after string, tell func(store.Batch) error) error {
	stream, err := s.stream(ctx, after)
	if err != nil {
		return err
	}
	defer end(ctx, stream)
	for nothing := 0; nothing < 2; { // the first batch, which came with the stream, may be empty and another not
		some, err := next(ctx, stream)
		if err != nil {
			return err
		}
		if !some {
			nothing++
			continue
		}
		nothing = 0
		if err := s.tellAll(ctx, stream, tell); err != nil {
			return err
		}
	}
	return tell(store.Batch{At: tokenOf(stream.ResumeToken())})
}

const (
	awaits   = time.Second      // how long the server waits for changes before it says that there are none
	patience = 10 * time.Second // with a server that takes connections and is silent
)

// next goes on to the next change; false if there is none yet.
func next(ctx context.Context, stream *mongo.ChangeStream) (bool, error) {
	waiting, cancel := context.WithTimeout(ctx, awaits+patience)
	defer cancel()
	if stream.TryNext(waiting) {
		return true, nil
	}
	return false, lost(ctx, stream.Err())
}

// end ends a change stream.
func end(ctx context.Context, stream *mongo.ChangeStream) {
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	stream.Close(ending)
}

// stream opens a change stream behind a position, or from now on.
func (s *Source) stream(ctx context.Context, after string) (*mongo.ChangeStream, error) {
	opts := options.ChangeStream().SetFullDocumentBeforeChange(options.WhenAvailable).SetMaxAwaitTime(awaits)
	if after != "" {
		if strings.Trim(after, "0123456789ABCDEFabcdef") != "" {
			return nil, store.ErrTooOld
		}
		opts.SetResumeAfter(bson.D{{Key: "_data", Value: after}})
	}
	beginning, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	stream, err := s.db.Watch(beginning, mongo.Pipeline{}, opts)
	return stream, lost(ctx, err)
}

// The server's codes of a position that it does not know any more, or never has.
var lostCodes = []int{260, 280, 286, 50811}

// lost turns an error into one of the port.
func lost(ctx context.Context, err error) error {
	var refused mongo.ServerError
	if errors.As(err, &refused) {
		for _, code := range lostCodes {
			if refused.HasErrorCode(code) {
				return store.ErrTooOld
			}
		}
	}
	return fail(ctx, err)
}

// tokenOf returns a token as a position.
func tokenOf(token bson.Raw) string {
	text, _ := token.Lookup("_data").StringValueOK()
	return text
}

// A change is what a change stream tells.
type change struct {
	Token bson.Raw `bson:"_id"`
	What  string   `bson:"operationType"`
	Of    struct {
		Coll string `bson:"coll"`
	} `bson:"ns"`
	Key struct {
		ID bson.RawValue `bson:"_id"`
	} `bson:"documentKey"`
	Before  bson.RawValue `bson:"fullDocumentBeforeChange"`
	Changed struct {
		Updated bson.Raw `bson:"updatedFields"`
		Removed []string `bson:"removedFields"`
	} `bson:"updateDescription"`
}

// number tells the change from others.
func (c *change) number() int64 {
	h := fnv.New64a()
	h.Write(c.Token)
	return int64(h.Sum64())
}

// tellAll tells the change at hand, and those that are there behind it.
func (s *Source) tellAll(ctx context.Context, stream *mongo.ChangeStream, tell func(store.Batch) error) error {
	b := store.Batch{}
	for {
		var c change
		if err := stream.Decode(&c); err != nil {
			return fail(ctx, err)
		}
		if !s.add(&b, &c) {
			return store.ErrTooOld
		}
		b.At = tokenOf(stream.ResumeToken())
		if len(b.Events) >= 1000 || stream.RemainingBatchLength() == 0 || !stream.TryNext(ctx) { // which takes it from the batch
			return tell(b)
		}
	}
}

// add adds a change to a batch; false if nobody knows any more what changes.
func (s *Source) add(b *store.Batch, c *change) bool {
	what := map[string]store.What{"insert": store.WasAdded, "update": store.WasChanged, "replace": store.WasChanged, "delete": store.WasRemoved}[c.What]
	switch {
	case c.What == "drop" || c.What == "rename":
		b.Lost = append(b.Lost, c.Of.Coll)
		return true
	case c.What == "dropDatabase" || c.What == "invalidate":
		return false
	case what == "":
		return true
	}
	id, err := s.plain(c.Key.ID)
	if err != nil {
		return true // which no record is found by, either
	}
	e := store.Event{ID: c.number(), Set: c.Of.Coll, What: what, Key: map[string]any{"_id": id}}
	if before, err := s.plain(c.Before); err == nil {
		e.Before, _ = before.(map[string]any)
	}
	if c.What == "update" {
		e.Fields = c.Changed.Removed
		if elements, err := c.Changed.Updated.Elements(); err == nil {
			for _, element := range elements {
				e.Fields = append(e.Fields, element.Key())
			}
		}
	}
	b.Events = append(b.Events, e)
	return true
}
