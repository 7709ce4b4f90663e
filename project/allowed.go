package project

import (
	"fmt"
	"time"

	"osprey/core/execute"
	"osprey/core/store"
)

// This file tells what callers may cost: what limits say, or what their roles do.

// allowed is what a caller may cost.
type allowed struct {
	Limits
	rate Count // a second; 0 is no bound
}

// allowed returns what a caller may cost.
func (r *Revision) allowed(who *store.Identity) *allowed {
	a := &allowed{Limits: r.Config.Limits}
	access := (*AccessConfig)(nil)
	if own := r.project.Own; own != nil {
		access = own.Access
	}
	if access == nil || who == nil || len(access.Roles) == 0 {
		return a
	}
	first := true
	for _, role := range who.Roles {
		c := access.Roles[role]
		if c == nil {
			continue
		}
		l := &r.Config.Limits
		most(first, &a.rate, c.Rate, 0)
		most(first, &a.Cost, c.Cost, l.Cost)
		most(first, &a.Depth, c.Depth, l.Depth)
		most(first, &a.Aliases, c.Aliases, l.Aliases)
		most(first, &a.StoreRequests, c.StoreRequests, l.StoreRequests)
		most(first, &a.Records, c.Records, l.Records)
		most(first, &a.Answer, c.Answer, l.Answer)
		most(first, &a.Timeout, c.Timeout, l.Timeout)
		first = false
	}
	return a
}

// options returns how a run of a request is bounded, that begins at a time.
func (a *allowed) options(q *Request, begins time.Time) execute.Options {
	return execute.Options{Caller: q.Caller.Anew(), Now: time.Now, Until: begins.Add(time.Duration(a.Timeout)), MaxPage: int64(a.Page), MaxWrites: int64(a.Writes),
		MaxRequests: int(a.StoreRequests), MaxErrors: int(a.Errors), MaxRecords: int64(a.Records), MaxAnswer: int64(a.Answer)}
}

// most makes a limit that of a role, or of the more generous of two. 0 is no bound, and what a role does not say
// is what is usual.
func most[T Count | Size | Span](first bool, into *T, own, usual T) {
	if own == 0 {
		own = usual
	}
	if first || own == 0 || *into != 0 && own > *into {
		*into = own
	}
}

// costs says in what way an operation costs more than its caller may; nil if it does not.
func (x *asked) costs(limits *allowed) *Fault {
	refused := func(fix, format string, args ...any) *Fault {
		return &Fault{Message: fmt.Sprintf(format, args...), Code: CodeLimit, Fix: fix}
	}
	if limit := int(limits.Depth); limit > 0 && x.plan.Depth() > limit {
		return refused("ask for what is deeper by itself, or raise limits.depth in osprey.yaml", "the operation is nested %d deep, and the limit is %d", x.plan.Depth(), limit)
	}
	if limit := int(limits.Aliases); limit > 0 && x.plan.Aliases() > limit {
		return refused("ask once, with a filter or a list, or raise limits.aliases in osprey.yaml", "the operation asks for one field %d times in one place, and the limit is %d", x.plan.Aliases(), limit)
	}
	if limit := int64(limits.Cost); limit > 0 && x.cost(limits) > limit {
		return refused("ask for less at once, above all in lists inside lists, or raise limits.cost in osprey.yaml; osprey explain shows what costs", "the operation costs %d, and the limit is %d", x.cost(limits), limit)
	}
	return nil
}

// cost estimates what an operation costs.
func (x *asked) cost(limits *allowed) int64 {
	if x.costing == 0 {
		x.costing = x.plan.Cost(x.vars, int64(limits.Page))
	}
	return x.costing
}

// An Admission lets an operation run, or says why it does not. It is given what a caller may cost a second, 0 for
// no bound, and what the operation costs. What is returned first is called when the operation has ended.
type Admission func(rate int64, cost func() int64) (done func(), refused *Fault)
