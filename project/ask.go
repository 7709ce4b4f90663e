package project

import (
	"context"
	"fmt"
	"time"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/validate"
)

// A Question is a request as clients send it.
type Question struct {
	Query         string         `json:"query"`
	OperationName string         `json:"operationName,omitempty"`
	Variables     map[string]any `json:"variables,omitempty"` // decoded with json.Decoder.UseNumber
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
// data while the rest is being written. The first part is the beginning of the
// data itself; send must not keep what it is given.
func (r *Revision) AskInParts(ctx context.Context, q *Question, send func(part []byte) error) *Answer {
	p, vars, faults := r.Plan(q)
	if faults != nil {
		return &Answer{Refused: true, Faults: faults}
	}
	if limit := r.project.Config.Limits.Timeout; limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, limit)
		defer cancel()
	}
	a := &Answer{Plan: p}
	options := execute.Options{Now: time.Now}
	if send != nil {
		options.Send = func(part []byte) error {
			a.Sent = true
			return send(part)
		}
	}
	a.result = execute.Run(ctx, p, vars, options)
	a.Data, a.Calls = a.result.Data, a.result.Calls
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
	}
	return a
}

// Plan checks a question and plans it, without asking any store. It returns
// the coerced variables; or the faults for which it is refused.
func (r *Revision) Plan(q *Question) (*plan.Plan, map[string]schema.Value, []Fault) {
	d := r.document(q.Query)
	if d.problems.Failed() {
		return nil, nil, d.faults()
	}
	op, fault := operationOf(d.doc, q.OperationName)
	if fault != nil {
		return nil, nil, []Fault{*fault}
	}
	limit := r.project.Config.Limits.Fields
	if limit <= 0 {
		limit = defaultFields
	}
	if n := validate.Expanded(d.doc, op); n > limit {
		return nil, nil, []Fault{{Message: fmt.Sprintf("the operation asks for %d fields with its fragments written out, and the limit is %d", n, limit), Code: CodeLimit,
			Fix: "ask for less at once, or raise limits.fields in osprey.yaml", Locations: []language.Position{d.source.Position(op.Pos)}}}
	}
	if on := r.project.Config.Introspection; on != nil && !*on {
		if pos := validate.Introspects(d.doc, op); pos != language.NoPos {
			return nil, nil, []Fault{{Message: "introspection is switched off for this service", Code: CodeDenied, Locations: []language.Position{d.source.Position(pos)}}}
		}
	}
	if op.Kind == language.Subscription {
		return nil, nil, []Fault{{Message: "this version of Osprey does not answer subscriptions yet", Code: CodeNotYet}}
	}
	vars, faults := r.variables(d, op, q.Variables)
	if faults != nil {
		return nil, nil, faults
	}
	return r.plan(d, op, vars), vars, nil
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

// operationOf chooses the operation to run: GetOperation of section 6.1.
func operationOf(doc *language.Document, name string) (*language.Operation, *Fault) {
	var all []*language.Operation
	var names []string
	for _, d := range doc.Definitions {
		if op, ok := d.(*language.Operation); ok {
			all = append(all, op)
			if op.Name.Text != "" {
				names = append(names, op.Name.Text)
			}
			if name != "" && op.Name.Text == name {
				return op, nil
			}
		}
	}
	switch {
	case name != "":
		return nil, &Fault{Message: fmt.Sprintf("the document has no operation %q%s", name, language.DidYouMean(name, names)), Code: CodeInvalid}
	case len(all) == 0:
		return nil, &Fault{Message: "the document has no operation, only fragments", Code: CodeInvalid}
	case len(all) > 1:
		return nil, &Fault{Message: "the document has several operations; say with operationName which one to run: " + language.OneOf(names), Code: CodeInvalid}
	}
	return all[0], nil
}

// variables coerces the values of an operation's variables: section 6.1.2.
func (r *Revision) variables(d *parsed, op *language.Operation, given map[string]any) (map[string]schema.Value, []Fault) {
	vars := map[string]schema.Value{}
	var faults []Fault
	for _, def := range op.Variables {
		name := def.Name.Text
		t := validate.VariableType(r.Schema, def.Type)
		v, ok := given[name]
		if !ok {
			if def.Default != nil {
				value, _, err := schema.CoerceLiteral(t, def.Default, nil)
				if err == nil {
					vars[name] = value
					continue
				}
			} else if !schema.IsNonNull(t) {
				continue
			}
			faults = append(faults, Fault{Message: fmt.Sprintf("the variable $%s of the type %s is required and was not given", name, t),
				Code: CodeVariables, Locations: []language.Position{d.source.Position(def.Pos)}})
			continue
		}
		value, err := schema.CoerceJSON(t, v)
		if err != nil {
			faults = append(faults, Fault{Message: fmt.Sprintf("the variable $%s of the type %s does not fit: %v", name, t, err),
				Code: CodeVariables, Locations: []language.Position{d.source.Position(def.Pos)}})
			continue
		}
		vars[name] = value
	}
	return vars, faults
}

// Changes reports whether the question asks for a mutation.
func (r *Revision) Changes(q *Question) bool {
	d := r.document(q.Query)
	if d.problems.Failed() {
		return false
	}
	op, _ := operationOf(d.doc, q.OperationName)
	return op != nil && op.Kind == language.Mutation
}
