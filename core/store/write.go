package store

import (
	"context"
	"strings"
)

// This file is the part of the port by which a store is written to.

// Writing is how a source is written to.
type Writing struct {
	// Begin begins a session.
	Begin func(ctx context.Context, caller *Caller) (Session, error)
	// Prepare makes a request of a write, which a session runs. It asks nothing of the
	// store.
	Prepare func(catalogue *Catalogue, w *Write) (Request, error)
	// AnyKey says that an addition which replaces changes the record that has any of its
	// unique keys, and not just that of Write.Replaces.
	AnyKey bool
	// Nests says that values can be nested records; if not, those are given as JSON.
	Nests bool
	// Apart says that each request of a session is done by itself: there is no transaction,
	// and what is done is not undone.
	Apart bool
	// Single says that there is one session at a time: the others wait for its end.
	Single bool
	// Takes says why a write cannot be made; nil if it can. If it is nil itself, all can.
	Takes func(c *Catalogue, w *Write) error
	// Shares says that its sessions are [Sharing].
	Shares bool
	// Free says that the source requires no field but a key.
	Free bool
	// Scale is how many digits of a second a moment holds; nil for microseconds, or what the
	// catalogue says.
	Scale *int
}

// A Session is requests that are done as a whole or not at all: a transaction. What is
// read in it sees what was written in it. After a request that failed, nothing of it is
// done. It is used by one at a time.
type Session interface {
	// Run runs a request that the source has prepared, of reads or of a write.
	Run(ctx context.Context, r Request, caller *Caller, in []Input) (*Answer, error)
	// Commit ends the session and makes what was written last. If it fails, nothing is
	// done, but for an error of the network, after which nobody knows.
	Commit(ctx context.Context) error
	// Rollback ends the session and undoes what was written in it. After Commit it does
	// nothing.
	Rollback()
}

// Sharing is what a session has in which functions of the program can take part.
type Sharing interface {
	// Share lets use take part in the transaction, by a value that the store's own programs know:
	// of relational databases one with ExecContext, QueryContext and QueryRowContext as
	// database/sql has them. If use fails, or ends the transaction itself, the session fails.
	Share(ctx context.Context, use func(tx any) error) error
}

type txKey struct{}

// WithTx returns a context in which functions of the program take part in a transaction.
func WithTx(ctx context.Context, tx any) context.Context { return context.WithValue(ctx, txKey{}, tx) }

// TxOf returns the transaction in which a function takes part; nil if it does in none.
func TxOf(ctx context.Context) any { return ctx.Value(txKey{}) }

type callerKey struct{}

// WithCaller returns a context for a function that is called for a caller.
func WithCaller(ctx context.Context, c *Caller) context.Context {
	return context.WithValue(ctx, callerKey{}, c)
}

// CallerOf returns the caller for whom a function is called; nil for nobody in particular.
func CallerOf(ctx context.Context) *Caller {
	c, _ := ctx.Value(callerKey{}).(*Caller)
	return c
}

// Ahead is what a session has that can be asked for what was added in the same breath as it is
// added.
type Ahead interface {
	// RunAhead runs a write of rows and a request, whose first read has as its keys the columns
	// keys of what the write answers; what is in the input for them is not looked at. If keys is
	// nil, the input has them. Where they cannot go together, it does nothing, and the error is
	// [errors.ErrUnsupported].
	RunAhead(ctx context.Context, w Request, rows *Rows, r Request, in []Input, keys []int) (written, read *Answer, err error)
}

// An Action is what a write does to records.
type Action uint8

const (
	Add    Action = iota // makes a record of each row
	Change               // changes the record that has the row's keys
	Remove               // removes it
)

var actionNames = [...]string{"add", "change", "remove"}

// String returns the action's name.
func (a Action) String() string { return actionNames[a] }

// A Write is what a request changes in one record set. It is asked with an Input whose
// Rows have a row for each record, and answers with a table of Returning, with a row for
// each record that was there, in their order.
type Write struct {
	Action  Action
	Set     string
	Columns []Given // that are written; none of Remove
	Keys    []Given // by which records are found; none of Add
	Expect  []Given // that the record must still have, else it is Outdated; none of Add
	// Replaces are the fields of a unique key, of Add: a record that has the same values is
	// changed instead.
	Replaces []string
	// Kept are, with Replaces, the fields that such a record keeps: its key.
	Kept []string
	// Alike says that rows have the same values but for their keys: they can be written
	// together, and nothing is asked of them.
	Alike     bool
	Returning []Wanted
}

// String returns what is written, on one line.
func (w *Write) String() string {
	var columns, keys []string
	for _, g := range w.Columns {
		g.Field += []string{"", " counted", " appended to", " taken from", " found in", " in it"}[g.How]
		columns = append(columns, g.Field)
	}
	for _, g := range w.Keys {
		keys = append(keys, g.Field)
	}
	text := w.Action.String() + " " + w.Set
	if len(keys) > 0 {
		text += " by " + strings.Join(keys, ", ")
	}
	if len(w.Replaces) > 0 {
		text += " or change by " + strings.Join(w.Replaces, ", ")
	}
	for i, g := range w.Expect {
		text += []string{" and ", " expecting "}[max(0, 1-i)] + g.Field
	}
	if len(columns) > 0 {
		text += ": " + strings.Join(columns, ", ")
	}
	return text
}

// A Given is a field that rows have values for.
type Given struct {
	Field string
	Kind  Kind // of the values
	// Of Change: what becomes of the value; it is put in place of what is stored, or as How
	// says.
	How How
}

// A How is what becomes of a value that a record is changed by.
type How uint8

const (
	Replaced How = iota // it takes the place of what is stored
	Adjusted            // it is added to the number that is stored, where NULL counts as 0
	Appended            // its items come behind those of the list that is stored
	Dropped             // the records of the list that is stored go which have its values
	Sought              // nothing: the records of the list which have its values are those that Inside changes
	Inside              // it takes the place of what is stored in these, at a path behind the list's
)

// Rows are the values that a write is asked with: first those of its Columns, then of
// its Keys and of what it expects.
type Rows struct {
	Len     int
	Columns []Column
	// Absent has, for some columns, the rows that say nothing of the field: it is left
	// alone, or filled by the store. Nil stands for none.
	Absent [][]bool
}

// IsAbsent reports whether a row says nothing of a column.
func (r *Rows) IsAbsent(column, row int) bool {
	return column < len(r.Absent) && r.Absent[column] != nil && r.Absent[column][row]
}

// A Rule is what a store holds records to.
type Rule uint8

const (
	OtherRule  Rule = iota // a check of the store's own
	Taken                  // another record has the value of a unique key
	Lost                   // a foreign key leads to no record
	Used                   // another record refers to this one
	Required               // a value is missing
	TooLong                // a text has more characters than the field holds
	OutOfRange             // a number or moment that the field cannot hold
	NotText                // a text with the character U+0000
	Outdated               // the record has no longer what is expected; the code is Conflict
	Twice                  // two of the records that are added together would be one
	TooFine                // it has more digits behind the point than the field holds
)

// A Broken is the rule that a write breaks.
type Broken struct {
	Rule   Rule
	Set    string   // whose rule it is
	Fields []string // of the set that it is about, as far as the store says
	Most   int      // of TooLong and TooFine
	// Row is which of the rows breaks it, from 1; 0 if the store does not say.
	Row int
	// Before is how many records of those that are added together are there all the same, of
	// a store that has no transactions.
	Before int
	Name   string // of the rule, as the store has it; "" if it has none
}
