package store

import (
	"context"
	"sync"
	"time"
)

// DefaultTimeout is how long a source waits for one request if nothing else is
// configured.
const DefaultTimeout = 5 * time.Second

// A Source is one configured store. Its methods may be called at the same time.
type Source interface {
	// Catalogue asks the store what it holds.
	Catalogue(ctx context.Context) (*Catalogue, error)
	// Capabilities says what the engine may leave to the store.
	Capabilities() Capabilities
	// Prepare makes a request of reads that go together. It asks nothing of the
	// store; reads are as the catalogue and the capabilities allow. The reads must
	// not be changed afterwards.
	Prepare(catalogue *Catalogue, reads []*Read) (Request, error)
	// Ping reports whether the store answers.
	Ping(ctx context.Context) error
	// Close frees what the source holds; requests under way may fail.
	Close() error
}

// Capabilities is what a store can do by itself. What is true of some of its
// record sets only is told by the functions, which may be called at the same
// time; nil stands for no exception.
type Capabilities struct {
	Fold      bool     // a read nested below another of the same source is part of its request
	Group     Grouping // which reads of a wave are one request
	Page      Paging   // what sorting and paging it does
	Aggregate bool     // it makes totals
	Count     bool     // it counts the rows of a read without keys
	Link      bool     // its predicates and sort keys can look at related records
	// CanRead reports how set can be read by the fields keys, together with
	// predicates on the fields where: with many keys in one request, one key for
	// each request, or not at all, which is an error that says what can. If it is
	// nil, every set can be read by all fields, and with many keys.
	CanRead func(set string, keys, where []string) (many bool, err error)
	// CanFold reports, of a store that folds, whether the records of the set that
	// there leads to can be part of the request for the records of set.
	CanFold func(set string, here []string, related string, there []string) bool
	// Takes tells which predicates of a read by the fields keys the store is asked; the
	// source looks at the others behind it. If it is nil, the store is asked all of them.
	Takes func(set string, keys []string, where []Predicate) func(*Predicate) bool
	// CanPage reports whether the store does all that a read without keys asks,
	// though Page does not say so of all: its predicates, its order, its limit and
	// its offset.
	CanPage func(read *Read) bool
	// Write is how the source is written to; nil if it is not.
	Write *Writing
	// CanCall says that the record sets are functions, and that what is prepared
	// are reads with Calls. It reports whether there is a function called name that
	// takes and gives what a schema says, as far as the source can tell.
	CanCall func(name string, s Signature) error
}

// Grouping says which reads of one wave are one request.
type Grouping uint8

const (
	ByRead   Grouping = iota // each read is a request
	BySet                    // all keyed reads of one record set
	BySource                 // all reads
)

// Paging says which reads a store sorts and pages itself.
type Paging uint8

const (
	PageNothing Paging = iota // none: the engine sorts and cuts
	PageWhole                 // reads without keys
	PagePerKey                // keyed and folded reads too, for each key or row above
)

// A Read is what a request wants of one record set. Reads of a request form
// trees by Parent.
type Read struct {
	Set     string
	Columns []Wanted
	// Keys are positions in Columns: the rows wanted have there one of the
	// combinations of values that the Input brings; in a List, one of them among its
	// items. Empty: all rows.
	Keys []int
	// Where is what a row must fit: all of it. Its comparisons take the values of
	// Values columns of the Input.
	Where  []Predicate
	Values int
	Sort   []Order
	// Aggregates says that the rows wanted are those of groups: by the Keys, by the
	// row above, or one for all. The other columns are totals.
	Aggregates bool
	// Limit and Offset say that the Input bounds the rows: of the read, or for
	// each key or row above where the store pages by key.
	Limit, Offset bool
	// Lock says that the rows are about to be written in the same session: nobody else
	// changes them until its end, where the store can see to that.
	Lock bool

	// Parent is the position in the request of the read that this one is folded
	// into, or -1. Its rows are those whose There equals the Here of the row
	// above, directly or by a row of JoinTable.
	Parent      int
	Here, There []string   // fields of the two record sets
	JoinTable   *JoinTable // or nil
	// Calls says that Set is a function. There is a row for each
	// call of the input, and one column, of what it gives.
	Calls  bool
	Single bool // There is known to be unique: at most one row for each above
}

// JoinTable is the record set that holds the pairs of a many-to-many relationship.
type JoinTable struct {
	Set   string
	Here  []string // its fields that equal the Here of the row above
	There []string // its fields that equal the There of the row
	// Where is what a pair must fit. The values are those of the read.
	Where []Predicate
}

// An Aggregate is how the values of many rows become one.
type Aggregate uint8

const (
	NoAggregate Aggregate = iota
	Count                 // how many rows there are; no Path
	Min
	Max
	Sum
	Avg
)

var aggregateNames = [...]string{"none", "count", "min", "max", "sum", "avg"}

// String returns the total's name.
func (t Aggregate) String() string { return aggregateNames[t] }

// Wanted is a column of an answer.
type Wanted struct {
	Path      string    // the field, or a path of fields with dots
	Aggregate Aggregate // of a read with Aggregates
	Via       []Link    // where the field is, as in [Order]
	Kind      Kind      // how the values are wanted
	Elem      *Wanted   // of List; its Path is empty
	OneOrMany bool      // of List: one value stands for a list of it, as keys have it
	Fields    []Wanted  // of Record; their paths begin at the nested record
}

// Innermost returns what is wanted of each item of a list, of a list of lists too;
// of no list, what is wanted.
func (w *Wanted) Innermost() *Wanted {
	for w.Kind == List {
		w = w.Elem
	}
	return w
}

// Nulls says where records without a value come.
type Nulls uint8

const (
	NullsLeast    Nulls = iota // first in ascending order, last in descending
	NullsGreatest              // last in ascending order, first in descending
)

// An Order is one sort key. Equal rows keep an order that does not change from one
// request to the next.
type Order struct {
	Path  string
	Kind  Kind // of the values, where they are looked at here
	Desc  bool
	Nulls Nulls
	// Bytes says that texts are put in order by their bytes, whatever the store
	// does otherwise: they are merged with those of others.
	Bytes bool
	// Via leads, over records of which each has at most one, to the record that
	// has the field; the store can then fold.
	Via []Link
}

// NullsFirst reports whether records without a value come first.
func (o Order) NullsFirst() bool { return o.Desc == (o.Nulls == NullsGreatest) }

// An Input is what a read is asked with in one run.
type Input struct {
	Keys   []Column // one for each of Read.Keys: row by row, the distinct combinations
	Where  []Column // the values of the predicates, by their Value
	Limit  int64    // if Read.Limit
	Offset int64    // if Read.Offset
	// Calls are what the function is called with, if Read.Calls: each a JSON object
	// with the members record, if there is one, and args.
	Calls [][]byte
	Rows  *Rows // of a [Write]
}

// A Request is prepared and can be run any number of times, also at once.
type Request interface {
	Describe() Description
	// Run asks the store. There is an input for each read of the request. The
	// answer belongs to whoever runs it; the inputs are not kept. The caller may
	// be nil.
	Run(ctx context.Context, caller *Caller, in []Input) (*Answer, error)
}

// A Caller is who asks an operation, as far as stores may know.
type Caller struct {
	ID      string // tells callers apart; "" of nobody in particular
	Request string // the request's id, for the log
	// Headers are those of the caller's request; sources pass on the ones that
	// they are told to.
	Headers map[string][]string
	// Who says who it is, as far as the service has found out; nil of nobody.
	Who *Identity
	// Asked is what was asked in the operation; the zero value is of a new one.
	Asked Asked
}

// An Identity is who a caller is: a program, or a person that is signed in.
type Identity struct {
	ID    string // tells identities apart, of one way to sign in
	Name  string
	Roles []string
	// Claims are what else is known, as decoded JSON: those of a token.
	Claims map[string]any
}

// Field returns a field of the caller as an expression sees it. Of nobody, which nil stands for, there is
// no id, and there are no roles.
func (who *Identity) Field(name string) (any, error) {
	if who == nil {
		who = &Identity{}
	}
	orNull := func(text string) any {
		if text == "" {
			return nil
		}
		return text
	}
	switch name {
	case "id":
		return orNull(who.ID), nil
	case "name":
		return orNull(who.Name), nil
	case "roles":
		roles := make([]any, len(who.Roles))
		for i, role := range who.Roles {
			roles[i] = role
		}
		return roles, nil
	}
	claims := who.Claims
	if claims == nil {
		claims = map[string]any{}
	}
	return claims, nil
}

// Asked remembers what an operation has asked of stores, so that nobody is asked the
// very same twice: of a service that takes one key at a time, two fields may bring the
// same key in two waves.
type Asked struct {
	mu    sync.Mutex
	known map[any]*asked
}

type asked struct {
	once   sync.Once
	answer any
	err    error
}

// Once returns what ask returns for a key, asking once for the operation, also where
// two want it at the same time. Of nobody in particular, nothing is remembered.
func (c *Caller) Once(key any, ask func() (any, error)) (any, error) {
	if c == nil {
		return ask()
	}
	c.Asked.mu.Lock()
	a := c.Asked.known[key]
	if a == nil {
		if a = (&asked{}); c.Asked.known == nil {
			c.Asked.known = map[any]*asked{}
		}
		c.Asked.known[key] = a
	}
	c.Asked.mu.Unlock()
	a.once.Do(func() { a.answer, a.err = ask() })
	return a.answer, a.err
}

// Forget lets a key be asked again: its answer is too much to be kept.
func (c *Caller) Forget(key any) {
	if c != nil {
		c.Asked.mu.Lock()
		delete(c.Asked.known, key)
		c.Asked.mu.Unlock()
	}
}

// ForgetAll lets everything be asked again: something was written.
func (c *Caller) ForgetAll() {
	if c != nil {
		c.Asked.mu.Lock()
		c.Asked.known = nil
		c.Asked.mu.Unlock()
	}
}

// Anew returns the caller as one who has asked nothing yet; of nobody in particular,
// too.
func (c *Caller) Anew() *Caller {
	if c == nil {
		return &Caller{}
	}
	return &Caller{ID: c.ID, Request: c.Request, Headers: c.Headers, Who: c.Who}
}

// Header returns the values of a header of the caller's request; none if there
// is no caller. Names are in their canonical form.
func (c *Caller) Header(name string) []string {
	if c == nil {
		return nil
	}
	return c.Headers[name]
}

// A Description tells what a request asks.
type Description struct {
	Asks      string // for callers: record sets and fields, no statement and no address
	Statement string // for operators: the statement, filter or address template
	// Statements is how many statements the request is, each by the keys that those
	// before it have brought; 0 for one.
	Statements int
	EachKey    bool // the store takes one key at a time: up to a request for each distinct key
	MaxKeys    int  // the store takes so many keys at a time, and a request for each such part; 0 for all
	Pages      int  // the store answers in pages, of which so many are followed, each a request; 0 for one
}

// An Answer is what came back for a request.
type Answer struct {
	Tables   []*Table // one for each read
	Requests int      // round trips made
	// Release gives the tables' memory back for the next answer, when nothing
	// of them is needed any more; nil if there is nothing to give back.
	Release func()
}

// Size returns how many bytes the values of all tables take.
func (a *Answer) Size() int64 {
	n := int64(0)
	for _, t := range a.Tables {
		n += t.size()
	}
	return n
}

// Records returns the number of rows of all tables.
func (a *Answer) Records() int {
	n := 0
	for _, t := range a.Tables {
		if t != nil {
			n += t.Len
		}
	}
	return n
}
