package document

import (
	"context"
	"errors"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/readconcern"
	"go.mongodb.org/mongo-driver/v2/mongo/readpref"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"osprey/core/store"
)

// This file has the sessions of document databases. A server of a replica set, and one that
// leads to shards, has transactions; one that stands alone does each request by itself.

// writing is how the source is written to, as far as is known of the server.
func (s *Source) writing() *store.Writing {
	w := &store.Writing{Begin: s.beginSession, Prepare: s.prepareWrite, Nests: true, Scale: &milliseconds}
	w.Apart = !s.transacts.Load()
	return w
}

// milliseconds is how many digits of a second a moment has: BSON, UTC datetime.
var milliseconds = 3

// learn asks the server whether it has transactions.
func (s *Source) learn(ctx context.Context) error {
	var hello struct {
		SetName  string `bson:"setName"`
		Msg      string `bson:"msg"`
		Sessions *int   `bson:"logicalSessionTimeoutMinutes"`
	}
	err := s.db.RunCommand(ctx, bson.D{{Key: "hello", Value: 1}}).Decode(&hello)
	var command mongo.CommandError
	if errors.As(err, &command) { // an old server, which does not know the command
		return nil
	}
	s.transacts.Store((hello.SetName != "" || hello.Msg == "isdbgrid") && hello.Sessions != nil)
	return err
}

// beginSession begins a session.
func (s *Source) beginSession(context.Context, *store.Caller) (store.Session, error) {
	if !s.transacts.Load() {
		return apart{}, nil
	}
	own, err := s.client.StartSession(options.Session().SetCausalConsistency(false))
	if err != nil {
		return nil, err
	}
	limits := options.Transaction().SetReadConcern(readconcern.Snapshot()).SetWriteConcern(writeconcern.Majority()).SetReadPreference(readpref.Primary())
	if err := own.StartTransaction(limits); err != nil {
		own.EndSession(context.Background())
		return nil, err
	}
	return &session{source: s, own: own}, nil
}

// An apart session runs requests one by one.
type apart struct{}

// Run runs a request.
func (apart) Run(ctx context.Context, r store.Request, caller *store.Caller, in []store.Input) (*store.Answer, error) {
	return r.Run(ctx, caller, in)
}

// Commit does nothing: what was asked is done.
func (apart) Commit(context.Context) error { return nil }

// Rollback does nothing.
func (apart) Rollback() {}

// A session is a transaction.
type session struct {
	source *Source
	own    *mongo.Session // nil when it is over
	failed bool
}

// errOver is the error of a request behind the end of its session.
var errOver = &store.Error{Code: store.BadAnswer, Msg: "has ended the transaction", Err: errors.New("a request behind the end of its session")}

// Run runs a request in the transaction.
func (x *session) Run(ctx context.Context, r store.Request, caller *store.Caller, in []store.Input) (*store.Answer, error) {
	if x.own == nil || x.failed {
		return nil, errOver
	}
	a, err := r.Run(mongo.NewSessionContext(ctx, x.own), caller, in)
	x.failed = err != nil
	if isConflict(err) {
		return nil, store.IsConflict(err)
	}
	return a, err
}

// Commit ends the transaction.
func (x *session) Commit(ctx context.Context) error {
	if x.own == nil || x.failed {
		x.Rollback()
		return errOver
	}
	ctx, cancel := context.WithTimeout(ctx, x.source.timeout)
	defer cancel()
	err := x.own.CommitTransaction(ctx)
	unsure := new(mongo.CommandError)
	switch {
	case err == nil:
		x.end()
		return nil
	case isConflict(err):
		x.Rollback()
		return store.IsConflict(err)
	case !errors.As(err, unsure) || unsure.HasErrorLabel("UnknownTransactionCommitResult"):
		x.end()
		known := new(store.Error)
		if errors.As(fail(ctx, err), &known) {
			return &store.Error{Code: known.Code, Msg: "broke off at the end of the change, and nobody knows whether it is made: read the records before it is sent again", Err: err}
		}
	}
	x.Rollback()
	return fail(ctx, err)
}

// rollbackTime is how long undoing may take: it is done also when nobody waits any more, and the
// server does it by itself after a minute.
const rollbackTime = 2 * time.Second

// Rollback undoes the transaction.
func (x *session) Rollback() {
	if x.own == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), rollbackTime)
	defer cancel()
	_ = x.own.AbortTransaction(ctx) // one that the server has undone already is an error
	x.end()
}

func (x *session) end() {
	if x.own != nil {
		x.own.EndSession(context.Background())
		x.own = nil
	}
}

// inTransaction reports whether requests are done in a transaction.
func inTransaction(ctx context.Context) bool { return mongo.SessionFromContext(ctx) != nil }

// isConflict reports whether an error says that another transaction was in the way, or that the
// server has another primary, and that all of it can be begun again.
func isConflict(err error) bool {
	var labelled mongo.LabeledError
	return errors.As(err, &labelled) && labelled.HasErrorLabel("TransientTransactionError") && !mongo.IsNetworkError(err)
}

// behind adds to an error how many records are written before it, where they stay.
func (r *write) behind(ctx context.Context, err error, n int) error {
	if inTransaction(ctx) {
		return err
	}
	return store.Behind(err, n)
}
