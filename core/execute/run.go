package execute

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// Options configures a run.
type Options struct {
	// Caller is who asks; nil for nobody in particular.
	Caller *store.Caller
	// Now tells the time, for how long requests took; nil leaves times out.
	Now func() time.Time
	// MaxPage is the largest limit that an operation may give; 0 is no bound.
	MaxPage int64
	// MaxRecords is how many records stores may send for the operation in all, and
	// MaxAnswer how many bytes the data may have; 0 is no bound.
	MaxRecords, MaxAnswer int64
	// MaxRequests is how many store requests the operation may take, with those that a
	// request is split into; 0 is no bound.
	MaxRequests int
	// MaxWrites is how many records one field may write; 0 is no bound.
	MaxWrites int64
	// MaxErrors is how many errors are told one by one; the others are counted. 0 is no
	// bound.
	MaxErrors int
	// Until is when the answer must be written, by Now; zero is no bound.
	Until time.Time
	// Once is how a mutation is done once, however often it is sent; nil if it is not. Its
	// units are then one, and nothing is sent in parts.
	Once *Once
	// Before is written in front of the data, in the same memory, so that a
	// response need not be copied together.
	Before string
	// Send takes the beginning of a long answer while the rest is still being
	// written; nil keeps all of it for the result. It must not keep what it is
	// given. When it fails, nobody takes the answer any more, and the run ends.
	Send func(part []byte) error
	// Part is how many bytes are written before a part is sent; 0 means 256 KiB.
	Part int
}

// A Result is what a run leaves.
type Result struct {
	Data   []byte // JSON: an object, or null; without what Send took
	Whole  []byte // Data, and Options.Before in front of it unless Send took it
	Errors []*Error
	// Requests are the store requests that were made, in the order of their waves.
	Requests []StoreRequest
	// Broken says that what was sent turned out to be no beginning of an answer:
	// a fault of Osprey. The caller must not be given an end to it.
	Broken bool
	// Stopped says that the run was ended, and the answer is one error that says
	// why.
	Stopped bool
	// Repeated is what was answered when the mutation was done; nothing was done now. Reused
	// says that another one was done under the same key.
	Repeated []byte
	Reused   bool
	// Rules are those that failed, and so were not true.
	Rules []RuleError
	// Wrote is what was written, and is committed.
	Wrote []Wrote

	run *run
}

// Free gives the memory of the result to later runs. Neither the result nor
// what it holds may be used afterwards, but for the errors. Further calls do
// nothing.
func (r *Result) Free() {
	if r.run != nil {
		r.run.free()
		r.run, r.Data, r.Whole, r.Requests = nil, nil, nil, nil
	}
}

// A StoreRequest is one that was made.
type StoreRequest struct {
	ID         int // of the plan's fetch
	Wave       int
	Source     string
	Asks       string
	RoundTrips int           // more than one where a store takes one key at a time
	Keys       int           // distinct keys that went in
	Calls      int           // of a function: how many different ones
	Records    int           // records that came back
	Bytes      int64         // of their values
	At         time.Duration // since the run began
	Time       time.Duration // it took
	Err        error         // what the log should say; nil if all went well
	Failed     int           // calls of a function that failed, though the others did not
	Why        error         // of the first of them
}

// Run runs a plan. The variables are coerced and are those that the plan's
// shape was made for. Failures of stores are among the result's errors; the
// fields that they do not feed are answered.
func Run(ctx context.Context, p *plan.Plan, vars map[string]schema.Value, opts Options) *Result {
	r := runs.Get().(*run)
	r.begin(ctx, p, vars, opts)
	if opts.Once != nil {
		defer func() {
			if r.open != nil { // something panicked before the answer was kept
				r.open.Rollback()
			}
		}()
	}
	r.requests(ctx)
	if r.halted {
		for i := range r.fetched {
			if r.fetched[i].answer == nil && r.fetched[i].err == nil {
				r.fetched[i].err = &store.Error{Code: store.Cancelled, Msg: "was not asked any more"}
			}
		}
	}
	if err := ctx.Err(); err != nil {
		for i := range r.fetched {
			if r.fetched[i].answer == nil && r.fetched[i].err == nil {
				r.fetched[i].err = store.Fail(ctx, err, "")
			}
		}
	}
	r.buf = append(r.buf[:0], opts.Before...)
	if r.repeated == nil && !r.reused {
		r.buf = r.data(r.buf, p.Data)
	}
	if r.open != nil && !r.keep(ctx) { // nothing of it is done, which is another answer
		r.wrote = nil
		r.writer.begin()
		r.texts = sized(r.texts, len(p.Fields))
		clear(r.texts)
		r.buf = r.data(append(r.buf[:0], opts.Before...), p.Data)
	}
	for i := range r.fetched {
		if a := r.fetched[i].answer; a != nil && a.Release != nil {
			a.Release()
		}
	}
	result := &Result{Data: r.buf, Whole: r.buf, Errors: r.errs, Requests: r.made, Broken: r.broken, Stopped: r.stopped != nil, Repeated: r.repeated, Reused: r.reused, Rules: r.rules, Wrote: r.wrote, run: r}
	if r.sent == 0 {
		result.Data = r.buf[len(opts.Before):]
	}
	return result
}

// A run is the state of one execution. Its memory is used again by later ones.
type run struct {
	ctx     context.Context // of this one run
	plan    *plan.Plan
	vars    map[string]schema.Value
	opts    Options
	fetched []fetched       // by Fetch.ID
	inputs  [][]store.Input // by Fetch.ID
	links   []link          // by Step.ID; made when first used
	visible []visible       // by Step.ID
	feeding [][]bool        // which rows of each feed are shown, of the read under way
	merges  map[*plan.Merge]*mergedRows
	called  map[*plan.Step]*calls
	// What expressions gave, by their fields.
	expressed map[*plan.Field]*expressed
	badRead   map[*plan.Read]error // reads whose arguments cannot be used
	made      []StoreRequest       // by Fetch.ID while requests are made
	waits     []int                // by Fetch.ID: for how many others it waits still, or begun
	next      []*plan.Fetch
	answers   chan finished
	index     store.Index // of whatever is matched by key just now
	key       []byte
	kinds     []store.Kind // of the columns of that key
	room      store.Column
	ints      arena
	taken     int64         // records that stores have sent so far
	asked     int           // store requests that were made, or that those under way are at least
	stopped   *Error        // why the run was ended; nil while it goes on
	now       time.Time     // when the run began, to expressions
	open      store.Session // of a mutation that is done once: what is written, until its answer is
	repeated  []byte        // what was answered when it was done
	reused    bool          // another mutation was done under its key
	elsewhere []string      // the types of what a root field has written that is not undone with it
	rules     []RuleError   // that failed
	wrote     []Wrote       // and is committed
	halted    bool          // a root field that may not be null failed, and nothing more is done

	writer
}

// fetched is what came of a fetch: an answer or an error.
type fetched struct {
	answer *store.Answer
	err    error
	idle   []bool // by Read.Index: with an error, which reads had nothing to ask for
}

var runs = sync.Pool{New: func() any { return &run{badRead: map[*plan.Read]error{}, answers: make(chan finished)} }}

func (r *run) begin(ctx context.Context, p *plan.Plan, vars map[string]schema.Value, opts Options) {
	if opts.Part <= 0 {
		opts.Part = partSize
	}
	r.ctx, r.plan, r.vars, r.opts = ctx, p, vars, opts
	r.taken, r.asked, r.stopped, r.halted = 0, 0, nil, false
	r.open, r.repeated, r.reused, r.rules, r.wrote = nil, nil, false, nil, nil
	r.now = time.Now()
	if opts.Now != nil {
		r.now = opts.Now()
	}
	r.fetched = sized(r.fetched, len(p.Fetches))
	clear(r.fetched)
	r.links = sized(r.links, len(p.Steps))
	clear(r.links)
	r.visible = sized(r.visible, len(p.Steps))
	clear(r.visible)
	r.inputs = sized(r.inputs, len(p.Fetches))
	r.texts = sized(r.texts, len(p.Fields))
	clear(r.texts)
	r.made = sized(r.made, len(p.Fetches))
	clear(r.made)
	clear(r.badRead)
	clear(r.merges)
	clear(r.called)
	clear(r.expressed)
	r.ints.reset()
	r.writer.begin()
}

// sized returns a slice of n items, the given one if it is long enough. The
// items are those of earlier runs.
func sized[T any](s []T, n int) []T {
	if cap(s) < n {
		return append(s[:cap(s)], make([]T, n-cap(s))...)
	}
	return s[:n]
}

// keptAnswer is the largest answer whose memory is kept for the next.
const keptAnswer = 8 << 20

func (r *run) free() {
	clear(r.fetched)
	clear(r.links)
	clear(r.visible)
	clear(r.feeding)
	clear(r.made)
	clear(r.next[:cap(r.next)])
	clear(r.texts)
	clear(r.merges)
	clear(r.called)
	clear(r.expressed)
	r.ctx, r.plan, r.vars, r.opts, r.errs, r.stopped = nil, nil, nil, Options{}, nil, nil
	if cap(r.buf) > keptAnswer {
		return
	}
	runs.Put(r)
}

// requests makes the requests of the plan, each when what it needs is there. The
// requests run at the same time; everything else happens here, one after the other.
func (r *run) requests(ctx context.Context) {
	r.waits = sized(r.waits, len(r.plan.Fetches))
	for _, f := range r.plan.Fetches {
		r.waits[f.ID] = len(f.After)
	}
	for _, f := range r.plan.Fetches {
		if f.Given() {
			r.waits[f.ID] = begun
			r.release(f)
		}
	}
	running := 0
	for next := r.startable(ctx); len(next) > 0 || running > 0; next = r.startable(ctx) {
		if len(next) == 1 && next[0].Unit != nil { // alone: root fields of a mutation run one after the other
			r.unit(ctx, next[0].Unit)
			continue
		}
		if len(next) == 1 && running == 0 {
			r.finish(r.ask(ctx, next[0], r.inputs[next[0].ID]))
			continue
		}
		for _, f := range next {
			running++
			go func() { r.answers <- r.ask(ctx, f, r.inputs[f.ID]) }()
		}
		r.finish(<-r.answers)
		running--
	}
	r.made = slices.DeleteFunc(r.made, func(m StoreRequest) bool { return m.Wave == 0 })
}

// startable returns the fetches that wait for nothing any more and have something to
// ask for; those that have not are done with. Once the run is stopped, none is.
func (r *run) startable(ctx context.Context) []*plan.Fetch {
	r.next = r.next[:0]
	for again := true; again && ctx.Err() == nil && r.stopped == nil && !r.halted; {
		again = false
		for _, f := range r.plan.Fetches {
			if r.waits[f.ID] != 0 || f.Unit != nil && (f.Unit.Fetches[0] != f.ID || f.Unit.Of != nil) {
				continue
			}
			r.waits[f.ID] = begun
			if f.Unit != nil {
				r.next = append(r.next, f)
				continue
			}
			inputs, keys, ask := r.gather(f)
			switch {
			case !ask:
				r.fetched[f.ID].answer = emptyAnswer(f)
			case f.Err != nil:
				r.fetched[f.ID] = fetched{err: f.Err, idle: idle(f, inputs)}
			default:
				made := &r.made[f.ID]
				*made = requestOf(f, keys)
				if f.Reads[0].Call != nil {
					made.Keys, made.Calls = 0, keys
				}
				r.inputs[f.ID] = inputs
				made.RoundTrips = leastRequests(f, inputs)
				r.next = append(r.next, f)
				if !r.countRequests(made.RoundTrips) {
					return r.refuse(r.next)
				}
				continue
			}
			r.release(f)
			again = true
		}
	}
	return r.next
}

// requestOf returns what is known of a request before it is made.
func requestOf(f *plan.Fetch, keys int) StoreRequest {
	return StoreRequest{ID: f.ID, Wave: f.Wave, Source: f.Source, Asks: f.Asks, Keys: keys}
}

// refuse forgets requests that are not made.
func (r *run) refuse(next []*plan.Fetch) []*plan.Fetch {
	for _, f := range next {
		r.made[f.ID] = StoreRequest{}
	}
	return next[:0]
}

// begun is the number of waits of a fetch that waits no more.
const begun = -1

// release counts a fetch as done where others wait for it.
func (r *run) release(done *plan.Fetch) {
	for _, f := range r.plan.Fetches {
		if slices.Contains(f.After, done.ID) {
			r.waits[f.ID]--
		}
	}
}

// idle tells which reads of a fetch that failed had no key to ask for: what they feed
// is nothing, and no error.
func idle(f *plan.Fetch, inputs []store.Input) []bool {
	list := make([]bool, len(f.Reads))
	for i, read := range f.Reads {
		list[i] = len(read.Store.Keys) > 0 && inputs[i].Keys[0].Len() == 0
	}
	return list
}

// A finished is what came of a request.
type finished struct {
	fetch  *plan.Fetch
	answer *store.Answer
	err    error
	at     time.Duration // since the run began
	time   time.Duration
}

// finish takes what came of a request.
func (r *run) finish(got finished) {
	id := got.fetch.ID
	made := &r.made[id]
	r.fetched[id] = fetched{answer: got.answer, err: got.err}
	if got.err != nil {
		r.fetched[id].idle = idle(got.fetch, r.inputs[id])
	}
	made.At, made.Time, made.Err = got.at, got.time, got.err
	told := made.RoundTrips
	if got.answer == nil {
		made.RoundTrips = 1
	} else {
		made.RoundTrips, made.Records, made.Bytes = got.answer.Requests, got.answer.Records(), got.answer.Size()
		countFailed(made, got.answer)
	}
	r.countRequests(made.RoundTrips - told)
	r.countRecords(int64(made.Records))
	r.release(got.fetch)
}

// countFailed counts the calls of a function that failed.
func countFailed(made *StoreRequest, a *store.Answer) {
	for _, t := range a.Tables {
		for row := 0; t.Failed != nil && row < t.Len; row++ {
			if why := t.Failed[row]; why != nil {
				if made.Failed++; made.Why == nil {
					made.Why = why
				}
			}
		}
	}
}

// ask makes one request. A panic of a store's code costs its own fields only.
func (r *run) ask(ctx context.Context, f *plan.Fetch, inputs []store.Input) finished {
	return r.askOf(ctx, f, func() (*store.Answer, error) { return f.Request.Run(ctx, r.opts.Caller, inputs) })
}

// askOf makes one request by a way of its own.
func (r *run) askOf(ctx context.Context, f *plan.Fetch, run func() (*store.Answer, error)) (got finished) {
	var start time.Time
	if r.opts.Now != nil {
		start = r.opts.Now()
	}
	got.fetch = f
	defer func() {
		if r.opts.Now != nil {
			got.at, got.time = start.Sub(r.now), r.opts.Now().Sub(start)
		}
		if p := recover(); p != nil {
			got.answer, got.err = nil, fmt.Errorf("panic: %v", p)
		}
	}()
	got.answer, got.err = run()
	if got.err == nil {
		got.err = got.answer.Check(f.Asked)
	}
	if got.err != nil {
		got.answer = nil
	}
	return got
}

// emptyAnswer is the answer to a request that has nothing to ask for.
func emptyAnswer(f *plan.Fetch) *store.Answer {
	a := &store.Answer{Tables: make([]*store.Table, len(f.Reads))}
	for i, read := range f.Reads {
		a.Tables[i] = store.NewTable(read.Store.Columns)
	}
	return a
}

// table returns the table of a place, or nil if its request failed.
func (r *run) table(rows *plan.Rows) *store.Table {
	read := rows.Step.Read
	a := r.fetched[read.Fetch.ID].answer
	if a == nil {
		return nil
	}
	t := a.Tables[read.Index]
	for _, c := range rows.Path {
		t = t.Columns[c].Innermost().Rows
	}
	return t
}

// An arena lends slices of row numbers until it is reset.
type arena struct {
	chunk []int32
	used  int
}

func (a *arena) reset() { a.used = 0 }

// take returns n numbers, which are not zero.
func (a *arena) take(n int) []int32 {
	if a.used+n > len(a.chunk) {
		a.chunk, a.used = make([]int32, max(1024, n, 2*len(a.chunk))), 0
	}
	s := a.chunk[a.used : a.used+n : a.used+n]
	a.used += n
	return s
}
