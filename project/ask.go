package project

import (
	"context"
	"fmt"
	"time"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// A Question is a request as clients send it.
type Question struct {
	Query         string         `json:"query"`
	OperationName string         `json:"operationName,omitempty"`
	Variables     map[string]any `json:"variables,omitempty"` // decoded with json.Decoder.UseNumber

	Caller *store.Caller `json:"-"` // who asks; nil for nobody in particular
}

// The codes of request errors.
const (
	CodeSyntax    = "SYNTAX"
	CodeInvalid   = "INVALID"
	CodeVariables = "VARIABLES"
	CodeNotYet    = "NOT_SUPPORTED"
	CodeDenied    = "DENIED"
	CodeLimit     = "LIMIT"
)

// defaultFields is how many fields an operation may ask for.
const defaultFields = 20_000

// Ask answers a question.
func (r *Revision) Ask(ctx context.Context, q *Question) *Answer { return r.AskInParts(ctx, q, nil) }

// AskInParts answers a question and sends the beginning of a long answer's
// response while the rest is being written; send must not keep what it is
// given. What is left is [Answer.Rest].
func (r *Revision) AskInParts(ctx context.Context, q *Question, send func(part []byte) error) *Answer {
	v, vars, faults := r.variant(q)
	if faults != nil {
		return &Answer{Refused: true, Faults: faults}
	}
	p := v.plan
	if limit := r.project.Config.Limits.StoreRequests; limit > 0 && len(p.Fetches) > limit {
		return &Answer{Refused: true, Faults: []Fault{{Message: fmt.Sprintf("the operation takes %s, and the limit is %d", plan.Count(len(p.Fetches), "store request"), limit), Code: CodeLimit,
			Fix: "ask for less at once, or raise limits.storeRequests in osprey.yaml; osprey explain shows the requests"}}}
	}
	if v.timed {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, r.project.Config.Limits.Timeout)
		defer cancel()
	}
	a := &Answer{Plan: p}
	options := execute.Options{Caller: q.Caller, Now: time.Now, Before: beforeData, MaxPage: r.project.Config.Limits.Page}
	if send != nil {
		options.Send = func(part []byte) error {
			a.Sent = true
			return send(part)
		}
	}
	a.result = execute.Run(ctx, p, vars, options)
	a.Data, a.Calls, a.Broken = a.result.Data, a.result.Calls, a.result.Broken
	if a.Broken {
		r.project.log.ErrorContext(ctx, "an answer that was sent in parts had to be cut back", "operation", p.Name)
	}
	d := r.document(q.Query)
	for _, e := range a.result.Errors {
		f := Fault{Message: e.Msg, Path: e.Path, Code: e.Code, Source: e.Source, More: e.More}
		if at := d.source.Position(e.Pos); at.Line > 0 {
			f.Locations = []language.Position{at}
		}
		a.Faults = append(a.Faults, f)
	}
	for _, c := range a.result.Calls {
		if c.Err != nil {
			r.project.log.ErrorContext(ctx, "a store request failed", "source", c.Source, "asks", c.Asks, "operation", p.Name, "error", c.Err)
		}
		if c.Failed > 0 {
			r.project.log.ErrorContext(ctx, "calls of a function failed", "source", c.Source, "function", c.Asks, "operation", p.Name, "failed", c.Failed, "calls", c.Calls, "first", c.Why)
		}
	}
	return a
}

// Plan checks a question and plans it, without asking any store. It returns
// the coerced variables; or the faults for which it is refused.
func (r *Revision) Plan(q *Question) (*plan.Plan, map[string]schema.Value, []Fault) {
	v, vars, faults := r.variant(q)
	return v.plan, vars, faults
}

func (r *Revision) variant(q *Question) (variant, map[string]schema.Value, []Fault) {
	d := r.document(q.Query)
	o, faults := r.operation(d, q.OperationName)
	if faults != nil {
		return variant{}, nil, faults
	}
	vars, faults := o.coerce(d, q.Variables)
	if faults != nil {
		return variant{}, nil, faults
	}
	return r.plan(d, o, vars), vars, nil
}

// faults returns the problems of a document as the answer tells them.
func (d *parsed) faults() []Fault {
	var list []Fault
	for _, p := range d.problems {
		if p.Severity != language.Error {
			continue
		}
		f := Fault{Message: p.Msg, Code: CodeInvalid, Rule: p.Rule, Coordinate: p.Coordinate, Fix: p.Fix}
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

// Changes reports whether the question asks for a mutation.
func (r *Revision) Changes(q *Question) bool {
	o, _ := r.operation(r.document(q.Query), q.OperationName)
	return o != nil && o.def.Kind == language.Mutation
}
