package project

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/store"
	"osprey/stores/functions"
)

// This file begins streams: it says who may have one, and with whom it is told.

// Subscribe begins to tell what a subscription asks for, or answers why it does not. Last is where another stream of the
// same subscription has stood, "" for one that begins now. The revision must be held until the stream is there.
func (r *Revision) Subscribe(ctx context.Context, q *Request, last string) (*Stream, *Answer) {
	return r.stream(ctx, q, language.Subscription, last)
}

// Follow answers a query, and answers it again when something that it has read has changed. The revision must be held
// until the stream is there.
func (r *Revision) Follow(ctx context.Context, q *Request) (*Stream, *Answer) {
	return r.stream(ctx, q, language.Query, "")
}

// stream begins a stream of an operation of a kind.
func (r *Revision) stream(ctx context.Context, q *Request, kind language.OperationKind, last string) (*Stream, *Answer) {
	x, faults := r.read(ctx, q)
	a := &Answer{asked: x, by: r, Refused: true, Faults: faults}
	if faults != nil {
		return nil, a
	}
	if x.def.Kind != kind {
		a.Faults = []Fault{{Message: "this is a " + string(x.def.Kind) + ", and no " + string(kind), Code: CodeInvalid, Fix: "send it without Accept: text/event-stream, or, of a query, with Osprey-Live: on"}}
		return nil, a
	}
	if kind == language.Subscription && !execute.MayWatch(ctx, x.plan, x.vars, execute.Options{Caller: q.Caller}) {
		a.Faults = []Fault{{Message: fmt.Sprintf("%s is not for this caller", x.plan.Data.Cases[0].Fields[0].At), Code: CodeDenied}}
		return nil, a
	}
	limits := r.allowed(q.who())
	for _, fault := range []*Fault{r.notReady(x), x.beyond(&limits.Limits, &r.Config.Limits), x.costs(limits), admitted(q, x, limits)} {
		if fault != nil {
			a.Faults = []Fault{*fault}
			return nil, a
		}
	}
	vars, err := json.Marshal(q.Variables)
	if err != nil {
		vars = fmt.Append(nil, q.Variables)
	}
	key := fmt.Sprintf("%d %s\x00%s\x00%s\x00%s", r.Serial(), r.scopeOf(x, q), x.source.Text, x.plan.Name, vars)
	h := r.project.hub
	live := kind == language.Query
	own := *q
	own.Admit = nil // it is admitted once
	s := newStream(h, &Answer{asked: x, by: r}, live)
	if live && limits.rate > 0 && q.Spend != nil {
		s.charge = func() bool { return q.Spend(int64(limits.rate), x.cost(limits)) }
	}
	shared := ""
	if last != "" { // it is told by itself, until it has caught up
		shared, key = key, fmt.Sprintf("%s\x00%p", key, s)
	}
	made := func() *group {
		return &group{revision: r, asked: x, request: &own, release: r.held(), live: live, every: time.Duration(r.Config.Limits.Live), shared: shared, behind: shared != ""}
	}
	source, err := h.join(ctx, r, key, x.plan.Sets(), s, made)
	if err == nil && last != "" {
		source, err = x.plan.Watch.Source, h.catchUp(ctx, s, last)
	}
	switch {
	case errors.Is(err, store.ErrTooOld):
		s.Close()
		a.Faults = []Fault{{Message: "it is not known any more what has happened since this Last-Event-ID", Code: CodeLost, Fix: "ask for what there is, and subscribe again without it"}}
		return nil, a
	case err != nil:
		s.Close()
		a.Faults = []Fault{{Message: fmt.Sprintf("the source %s %s", source, told(err)), Code: string(store.Down), Source: source}}
		return nil, a
	}
	return s, nil
}

// notReady says that it is not known yet how the source of a subscription tells its changes; nil if it is.
func (r *Revision) notReady(x *asked) *Fault {
	if x.plan.Watch == nil || r.Bound.Sources[x.plan.Watch.Source].Catalogue != nil {
		return nil
	}
	source := x.plan.Watch.Source
	return &Fault{Message: fmt.Sprintf("the source %s %s", source, told(store.NotReady(nil))), Code: string(store.Down), Source: source, Fix: "subscribe again in a moment"}
}

// admitted lets an operation begin, or says why not.
func admitted(q *Request, x *asked, limits *allowed) *Fault {
	if q.Admit == nil {
		return nil
	}
	done, fault := q.Admit(int64(limits.rate), func() int64 { return x.cost(limits) })
	if fault == nil {
		done()
	}
	return fault
}

// held holds the revision once more.
func (r *Revision) held() func() {
	r.hold()
	return func() { go r.release() } // which may close a store
}

// tellOperator writes into the log what has gone wrong in a run.
func (r *Revision) tellOperator(ctx context.Context, q *Request, p *plan.Plan, requests []execute.StoreRequest, rules []execute.RuleError) {
	r.tellRules(ctx, q, p, rules)
	for _, c := range requests {
		if codeOf(c.Err) == store.Changed {
			r.project.lookAgain(c.Source)
		}
		switch codeOf(c.Err) {
		case store.Cancelled, store.BadWrite, store.Conflict:
			continue // that a caller has hung up, or breaks a rule, is no failure
		}
		if c.Err != nil {
			r.project.failed.tell(ctx, c.Source, "a store request failed", "asks", c.Asks, "operation", p.Name, "request", q.RequestID(), "error", c.Err)
		}
		if c.Failed > 0 {
			r.project.failed.tell(ctx, c.Source, "calls of a function failed", "function", c.Asks, "operation", p.Name, "request", q.RequestID(), "failed", c.Failed, "calls", c.Calls, "first", c.Why)
		}
	}
}

// scopeOf returns what tells requests apart whose answers may differ, though they ask the same: by what their callers may
// see, by who they are where that is looked at, and by what of them is passed on to stores.
func (r *Revision) scopeOf(x *asked, q *Request) string {
	scope := fmt.Sprintf("%p", x.view)
	who := x.plan.Personal()
	for _, f := range x.plan.Fetches {
		if f.Given() {
			continue
		}
		c := r.Config.Sources[f.Source]
		if c == nil || c.Kind == functions.Local {
			return fmt.Sprintf("%s %p", scope, q) // a program may look at anything
		}
		who = who || c.Caller != nil
		for _, name := range c.Forward {
			if !strings.EqualFold(name, "X-Request-Id") && q.Caller != nil { // which is another for each
				scope += fmt.Sprintf(" %q", q.Caller.Headers[http.CanonicalHeaderKey(name)])
			}
		}
	}
	if is := q.who(); who && is != nil {
		text, err := json.Marshal(is)
		if err != nil {
			return fmt.Sprintf("%s %p", scope, q)
		}
		scope += string(text)
	}
	return scope
}
