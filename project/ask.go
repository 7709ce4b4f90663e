package project

import (
	"context"
	"errors"
	"fmt"
	"time"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// A Request is a request as clients send it.
type Request struct {
	Query         string         `json:"query"`
	OperationName string         `json:"operationName,omitempty"`
	Variables     map[string]any `json:"variables,omitempty"` // decoded with json.Decoder.UseNumber

	// SHA256 is that of the text of a saved operation, in place of this and of its name; "" for none.
	SHA256 string `json:"-"`

	Caller *store.Caller `json:"-"` // who asks; nil for nobody in particular
	Client string        `json:"-"` // the program that asks, as streams are counted by; "" for none
	// Admit lets the operation run, or not; nil lets it.
	Admit Admission `json:"-"`
	// Spend takes what an operation costs from what its caller may cost a second; false if that is used up. It is
	// asked each time a live query is answered again; nil lets it.
	Spend func(limit, cost int64) bool `json:"-"`
	// Once is a key under which a mutation is done once, however often it is sent; "" for one
	// that is done each time.
	Once string `json:"-"`
}

// codeOf returns the code of a store's error, or "".
func codeOf(err error) store.Code {
	var known *store.Error
	if errors.As(err, &known) {
		return known.Code
	}
	return ""
}

// RequestID returns the id of the caller's request, or "".
func (q *Request) RequestID() string {
	if q.Caller == nil {
		return ""
	}
	return q.Caller.Request
}

// The codes of request errors.
const (
	CodeSyntax    = "SYNTAX"
	CodeInvalid   = "INVALID"
	CodeVariables = "VARIABLES"
	CodeDenied    = "DENIED"
	CodeReused    = "REUSED"
	CodeUnknown   = "UNKNOWN_CALLER"
	CodeRate      = "TOO_MANY_REQUESTS"
	CodeShed      = "OVERLOADED"
	CodeLimit     = execute.Limit
	CodeSlow      = "LAGGING"
	CodeLost      = "LOST"
	CodeReplaced  = "REPLACED"
)

// Ask answers a request.
func (r *Revision) Ask(ctx context.Context, q *Request) *Answer { return r.AskInParts(ctx, q, nil) }

// AskInParts answers a request and sends the beginning of a long answer's
// response while the rest is being written; send must not keep what it is
// given. What is left is [Answer.Rest].
func (r *Revision) AskInParts(ctx context.Context, q *Request, send func(part []byte) error) *Answer {
	start := time.Now()
	x, faults := r.read(ctx, q)
	a := &Answer{asked: x, by: r}
	refused := func(faults ...Fault) *Answer {
		a.Refused, a.Faults = true, faults
		return a
	}
	if faults != nil {
		return refused(faults...)
	}
	p, limits := x.plan, r.allowed(q.who())
	if p.Kind == language.Subscription {
		return refused(Fault{Message: "a subscription is answered as a stream", Code: CodeInvalid, Fix: "send it with Accept: text/event-stream"})
	}
	if fault := x.beyond(&limits.Limits, &r.Config.Limits); fault != nil {
		return refused(*fault)
	}
	if fault := x.costs(limits); fault != nil {
		return refused(*fault)
	}
	if q.Admit != nil {
		done, fault := q.Admit(int64(limits.rate), func() int64 { return x.cost(limits) })
		if fault != nil {
			return refused(*fault)
		}
		defer done()
	}
	if x.timed || limits.Timeout < r.Config.Limits.Timeout {
		var cancel context.CancelFunc
		ctx, cancel = context.WithDeadline(ctx, start.Add(time.Duration(limits.Timeout)))
		defer cancel()
	}
	var once *execute.Once
	if q.Once != "" && p.Kind == language.Mutation {
		if r.Config.Idempotency == nil {
			return refused(Fault{Message: "this service keeps no keys of mutations", Code: CodeDenied, Fix: "send it without a key, or name a table with idempotency in osprey.yaml"})
		}
		var err error
		if once, err = r.once(q, x.source); err != nil {
			return refused(Fault{Message: fmt.Sprintf("the source %s %s", r.Config.Idempotency.Source, told(err)), Code: string(store.Down)})
		}
		send = nil
	}
	a.Plan = p
	options := limits.options(q, start)
	options.Once, options.Before = once, beforeData
	if send != nil {
		options.Send = func(part []byte) error {
			a.Sent = true
			return send(part)
		}
	}
	a.result = execute.Run(ctx, p, x.vars, options)
	a.Data, a.Requests, a.Broken = a.result.Data, a.result.Requests, a.result.Broken
	if a.whole = a.result.Repeated; a.result.Reused {
		return refused(Fault{Message: "another mutation was done under this key", Code: CodeReused, Fix: "give each mutation a key of its own"})
	}
	if a.Broken {
		r.project.log.ErrorContext(ctx, "an answer that was sent in parts had to be cut back, and its connection is cut", "operation", p.Name, "request", q.RequestID())
	}
	a.Faults = r.faults(a.result.Errors, x.source)
	r.tellOperator(ctx, q, p, a.result.Requests, a.result.Rules)
	for _, w := range a.result.Wrote {
		r.project.hub.wrote(r, w.Source, w.Events)
	}
	return a
}

// faults returns errors as callers see them.
func (r *Revision) faults(errs []*execute.Error, source *language.Source) []Fault {
	var list []Fault
	for _, e := range errs {
		f := Fault{Message: e.Msg, Path: e.Path, Code: e.Code, Source: e.Source, More: e.More, Input: e.Input}
		if source != nil {
			if at := source.Position(e.Pos); at.Line > 0 {
				f.Locations = []language.Position{at}
			}
		}
		list = append(list, f)
	}
	return list
}

// Plan checks a request and plans it, without asking any store. It returns
// the coerced variables; or the faults for which it is refused.
func (r *Revision) Plan(q *Request) (*plan.Plan, map[string]schema.Value, []Fault) {
	x, faults := r.read(context.Background(), q)
	if faults != nil {
		return nil, nil, faults
	}
	return x.plan, x.vars, nil
}

// An asked is a request that was read: its text, which of its operations is
// meant, the variables, and the plan for them.
type asked struct {
	*parsed
	*operation
	vars map[string]schema.Value
	variant
	costing int64 // what it costs; 0 until it is estimated
}

// read reads a request, or says why it is refused. Of one that is, what was asked is returned as
// far as it is known; nil if it is not.
func (r *Revision) read(ctx context.Context, q *Request) (*asked, []Fault) {
	if fault := r.unknown(q); fault != nil {
		return nil, []Fault{*fault}
	}
	d, err := r.document(ctx, q.Query, q.who())
	if err != nil {
		return nil, []Fault{{Message: "nobody waits for the answer any more", Code: string(store.Cancelled)}}
	}
	o, faults := r.operation(d, q.OperationName)
	if faults != nil {
		return nil, faults
	}
	vars, faults := o.coerce(d, q.Variables)
	if faults != nil {
		return &asked{parsed: d, operation: o}, faults
	}
	if fault := r.given(ctx, &asked{parsed: d, operation: o, vars: vars}, q); fault != nil {
		return &asked{parsed: d, operation: o}, []Fault{*fault}
	}
	v := r.plan(d, o, vars, q.Once != "", q.who())
	if v.plan.Refused != "" {
		code := CodeLimit
		if v.plan.Wrong {
			code = CodeInvalid
		}
		return &asked{parsed: d, operation: o}, []Fault{{Message: v.plan.Refused, Code: code, Locations: []language.Position{d.source.Position(o.def.Pos)}}}
	}
	return &asked{parsed: d, operation: o, vars: vars, variant: v}, nil
}

// beyond says in what way an operation asks for more than it may; nil if it does
// not.
func (x *asked) beyond(limits, usual *Limits) *Fault {
	if limit := int(limits.StoreRequests); limit > 0 && x.plan.Requests() > limit {
		return &Fault{Message: fmt.Sprintf("the operation takes %s, and the limit is %d", plan.Count(x.plan.Requests(), "store request"), limit), Code: CodeLimit,
			Fix: "ask for less at once, or raise limits.storeRequests in osprey.yaml; osprey explain shows the requests"}
	}
	if !x.many && limits.Records >= usual.Records {
		return nil
	}
	if n := x.plan.MostRecords(x.vars, int64(limits.Page)); n > int64(limits.Records) {
		return &Fault{Message: fmt.Sprintf("the operation asks for up to %d records by its limits, and %d is how many it may take", n, limits.Records), Code: CodeLimit,
			Fix: "give smaller limits, above all to lists inside lists, or raise limits.records in osprey.yaml; osprey explain shows how many each read can bring"}
	}
	return nil
}

// faults returns the problems of a document as the answer tells them.
func (d *parsed) faults() []Fault {
	var list []Fault
	for _, p := range d.problems {
		if p.Severity != language.Error {
			continue
		}
		f := Fault{Message: p.Msg, Code: CodeInvalid, Rule: p.Rule, Coordinate: p.Coordinate, Fix: language.Clip(p.Fix)}
		if p.Rule == "syntax" {
			f.Code = CodeSyntax
		}
		for _, pos := range append([]language.Pos{p.Pos}, p.Others...) {
			if at := d.source.Position(pos); at.Line > 0 {
				f.Locations = append(f.Locations, at)
			}
		}
		list = append(list, f)
	}
	return list
}

// Streams reports whether the request asks for a subscription.
func (r *Revision) Streams(ctx context.Context, q *Request) bool {
	return r.kindOf(ctx, q) == language.Subscription
}

// Changes reports whether the request asks for a mutation.
func (r *Revision) Changes(ctx context.Context, q *Request) bool {
	return r.kindOf(ctx, q) == language.Mutation
}

// kindOf returns the kind of operation that a request asks for; "" if it is not known.
func (r *Revision) kindOf(ctx context.Context, q *Request) language.OperationKind {
	d, err := r.document(ctx, q.Query, q.who())
	if err != nil {
		return ""
	}
	if o, _ := r.operation(d, q.OperationName); o != nil {
		return o.def.Kind
	}
	return ""
}
