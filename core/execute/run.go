package execute

import (
	"context"
	"fmt"
	"sync"
	"time"

	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// Options configures a run.
type Options struct {
	// Now tells the time, for how long requests took; nil leaves times out.
	Now func() time.Time
}

// A Result is what a run leaves.
type Result struct {
	Data   []byte // JSON: an object, or null
	Errors []*Error
	Calls  []Call
}

// A Call is a store request that was made.
type Call struct {
	Wave     int
	Source   string
	Asks     string
	Requests int // round trips; more than one where a store takes one key at a time
	Keys     int // distinct keys that went in
	Records  int // records that came back
	Time     time.Duration
	Err      error // what the log should say; nil if all went well
}

// Run runs a plan. The variables are coerced and are those that the plan's
// shape was made for. Failures of stores are among the result's errors; the
// fields that they do not feed are answered.
func Run(ctx context.Context, p *plan.Plan, vars map[string]schema.Value, opts Options) *Result {
	r := &run{
		plan: p, vars: vars, opts: opts,
		fetched: make([]fetched, len(p.Fetches)),
		links:   make([]*link, len(p.Steps)),
		badRead: map[*plan.Read]error{},
	}
	for wave, next := 1, 0; wave <= p.Waves && ctx.Err() == nil; wave++ {
		first := next
		for next < len(p.Fetches) && p.Fetches[next].Wave == wave {
			next++
		}
		r.wave(ctx, p.Fetches[first:next])
	}
	if err := ctx.Err(); err != nil {
		for i := range r.fetched {
			if r.fetched[i].answer == nil && r.fetched[i].err == nil {
				r.fetched[i].err = store.Fail(ctx, err, "")
			}
		}
	}
	w := &writer{run: r}
	w.data(p.Data)
	return &Result{Data: w.buf, Errors: w.finish(), Calls: r.calls}
}

// A run is the state of one execution.
type run struct {
	plan    *plan.Plan
	vars    map[string]schema.Value
	opts    Options
	fetched []fetched // by Fetch.ID
	links   []*link   // by Step.ID; made when first used
	badRead map[*plan.Read]error
	calls   []Call
}

// fetched is what came of a fetch: an answer or an error.
type fetched struct {
	answer *store.Answer
	err    error
}

// wave makes all requests of one wave at the same time.
func (r *run) wave(ctx context.Context, fetches []*plan.Fetch) {
	calls := make([]*Call, len(fetches))
	var wait sync.WaitGroup
	for i, f := range fetches {
		inputs, keys, ask := r.inputs(f)
		switch {
		case f.Err != nil:
			r.fetched[f.ID].err = f.Err
			continue
		case !ask:
			r.fetched[f.ID].answer = emptyAnswer(f)
			continue
		}
		call := &Call{Wave: f.Wave, Source: f.Source, Asks: f.Request.Describe().Asks, Keys: keys}
		calls[i] = call
		request := func() { r.ask(ctx, f, inputs, call) }
		if len(fetches) == 1 {
			request()
		} else {
			wait.Go(request)
		}
	}
	wait.Wait()
	for _, c := range calls {
		if c != nil {
			r.calls = append(r.calls, *c)
		}
	}
}

// ask makes one request. A panic of a store's code costs its own fields only.
func (r *run) ask(ctx context.Context, f *plan.Fetch, inputs []store.Input, call *Call) {
	var start time.Time
	if r.opts.Now != nil {
		start = r.opts.Now()
	}
	defer func() {
		if r.opts.Now != nil {
			call.Time = r.opts.Now().Sub(start)
		}
		if p := recover(); p != nil {
			r.fetched[f.ID].err = fmt.Errorf("panic: %v", p)
		}
		call.Err = r.fetched[f.ID].err
	}()
	answer, err := f.Request.Run(ctx, inputs)
	if err != nil {
		call.Requests = 1
		r.fetched[f.ID].err = err
		return
	}
	r.fetched[f.ID].answer = answer
	call.Requests, call.Records = answer.Requests, answer.Records()
}

// emptyAnswer is the answer to a request that has nothing to ask for.
func emptyAnswer(f *plan.Fetch) *store.Answer {
	a := &store.Answer{Tables: make([]*store.Table, len(f.Reads))}
	for i, read := range f.Reads {
		a.Tables[i] = store.NewTable(read.Store.Columns)
		if read.Store.Parent >= 0 {
			a.Tables[i].Parent = []int32{}
		}
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
		t = t.Columns[c].Rows
	}
	return t
}
