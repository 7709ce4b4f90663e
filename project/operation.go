package project

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/traffic"
	"osprey/core/validate"
)

// An operation is what is known of an operation of a document once it was
// asked for: whether it can be run, and its plans.
type operation struct {
	def       *language.Operation
	refused   []Fault // why it is not run, whatever its variables are
	variables []input

	counted sync.Once
	known   *traffic.Operation // made when it is counted first

	mu    sync.Mutex // guards what follows
	plans []variant
}

// An input is a variable that an operation declares.
type input struct {
	def  *language.VariableDefinition
	name string
	typ  schema.Type
}

// A variant is a plan for the variables whose shape has this key.
type variant struct {
	key   string
	plan  *plan.Plan
	timed bool // it needs a clock of its own to end within limits.timeout
	many  bool // with the largest limits it asks for more than limits.records
}

// maxVariants bounds the plans of one operation: the oldest goes first.
const maxVariants = 32

// operation returns the operation of a document that a request means, or why
// it is not run.
func (r *Revision) operation(d *parsed, name string) (*operation, []Fault) {
	if d.problems.Failed() {
		return nil, d.faults()
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	o := d.operations[name]
	if o == nil {
		def, fault := operationOf(d.doc, name)
		if fault != nil {
			return nil, []Fault{*fault}
		}
		o = &operation{def: def, refused: r.refuse(d, def)}
		for _, v := range def.Variables {
			o.variables = append(o.variables, input{v, v.Name.Text, validate.VariableType(d.view.schema, v.Type)})
		}
		if d.operations == nil {
			d.operations = map[string]*operation{}
		}
		d.operations[name] = o
	}
	if o.refused != nil {
		return nil, o.refused
	}
	return o, nil
}

// refuse returns why an operation is not run, whatever its variables are; nil
// if it is.
func (r *Revision) refuse(d *parsed, op *language.Operation) []Fault {
	limit := int(r.Config.Limits.Fields)
	if validate.Exceeds(d.view.schema, d.doc, op, limit) {
		return []Fault{{Message: fmt.Sprintf("the operation asks for more than %d fields, which is the limit: a fragment counts wherever it is spread, and a field of an interface or union for each of its types", limit), Code: CodeLimit,
			Fix: "ask for less at once, or raise limits.fields in osprey.yaml", Locations: []language.Position{d.source.Position(op.Pos)}}}
	}
	if on := r.Config.Introspection; on != nil && !*on {
		if pos := validate.Introspects(d.doc, op); pos != language.NoPos {
			return []Fault{{Message: "introspection is switched off for this service", Code: CodeDenied, Locations: []language.Position{d.source.Position(pos)}}}
		}
	}
	return nil
}

// plan returns the plan of an operation for coerced variables.
// Of one that is done once, all root fields are one transaction.
func (r *Revision) plan(d *parsed, o *operation, vars map[string]schema.Value, once bool, who *store.Identity) variant {
	def, prefix := o.def, ""
	if once && def.Kind == language.Mutation {
		def, prefix = together(def), "once "
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for i := range o.plans {
		if v := &o.plans[i]; prefix+v.plan.Depends.Key(vars, who) == v.key {
			return *v
		}
	}
	p := plan.BuildFor(&plan.Viewer{Schema: d.view.schema, Who: who}, r.Bound, d.doc, def, vars, r.prepare)
	limits := &r.Config.Limits
	v := variant{prefix + p.Depends.Key(vars, who), p, r.timed(p), p.MostRecords(nil, int64(limits.Page)) > int64(limits.Records)}
	bytes := int64(len(v.key)) + bytesOf(p)
	if p.Refused != "" || !r.known.grow(d.hash, d, bytes) {
		return v
	}
	if len(o.plans) >= maxVariants {
		r.known.grow(d.hash, d, -int64(len(o.plans[0].key))-bytesOf(o.plans[0].plan))
		o.plans = slices.Delete(o.plans, 0, 1)
	}
	o.plans = append(o.plans, v)
	return v
}

// together returns a mutation that asks for one transaction.
func together(op *language.Operation) *language.Operation {
	own := *op
	own.Directives = append(slices.Clone(op.Directives), &language.Directive{Name: language.Name{Text: binding.Together}})
	return &own
}

// timed reports whether a plan's run can take longer than limits.timeout by the
// time that its sources wait. One that cannot is spared a timer, which costs
// some 5 µs where the whole answer may cost 100.
func (r *Revision) timed(p *plan.Plan) bool {
	limit := time.Duration(r.Config.Limits.Timeout)
	for _, f := range p.Fetches {
		if f.Given() {
			continue
		}
		timeout := store.DefaultTimeout
		if c := r.Config.Sources[f.Source]; c == nil {
			return true // a program brought it, and nobody knows how long it takes
		} else if c.Timeout > 0 {
			timeout = time.Duration(c.Timeout)
		}
		if p.Waves > 1 || f.EachKey || f.Pages > 0 || timeout > limit {
			return true
		}
	}
	return false
}

// coerce coerces the values of an operation's variables: section 6.1.2.
func (o *operation) coerce(d *parsed, given map[string]any) (map[string]schema.Value, []Fault) {
	if len(o.variables) == 0 {
		return nil, nil
	}
	vars := make(map[string]schema.Value, len(o.variables))
	var faults []Fault
	fault := func(v *input, format string, args ...any) {
		faults = append(faults, Fault{Message: fmt.Sprintf("the variable $%s of the type %s ", v.name, v.typ) + fmt.Sprintf(format, args...),
			Code: CodeVariables, Locations: []language.Position{d.source.Position(v.def.Pos)}})
	}
	for i := range o.variables {
		v := &o.variables[i]
		value, ok := given[v.name]
		switch {
		case ok:
			coerced, err := schema.CoerceJSON(v.typ, value)
			if err != nil {
				fault(v, "does not fit: %v", err)
				if misfit := (*schema.CoercionError)(nil); errors.As(err, &misfit) {
					faults[len(faults)-1].Fix = misfit.Fix
				}
				continue
			}
			vars[v.name] = coerced
		case v.def.Default != nil:
			if coerced, _, err := schema.CoerceLiteral(v.typ, v.def.Default, nil); err == nil {
				vars[v.name] = coerced
				continue
			}
			fault(v, "is required and was not given")
		case schema.IsNonNull(v.typ):
			fault(v, "is required and was not given")
		}
	}
	return vars, faults
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
