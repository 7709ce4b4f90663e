package project

import (
	"context"
	"hash/maphash"
	"slices"
	"strings"
	"sync"

	"osprey/core/execute"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file keeps the schema as callers with some roles see it: there is one for each set of the roles that
// rules name.

// A view is the schema for callers with some roles.
type view struct {
	schema *schema.Schema
	salt   uint64 // tells texts that were checked for different views apart; 0 for the whole schema
}

// maxViews bounds how many views are kept.
const maxViews = 256

// views is the views of a revision. It is safe for concurrent use.
type views struct {
	roles []string // that rules name

	mu    sync.Mutex // guards what follows
	known map[string]*view
}

// view returns the schema as it is for a caller; nil stands for nobody.
func (r *Revision) view(who *store.Identity) *view {
	if !r.Bound.HasRules() {
		return &r.whole
	}
	var own []string
	if who != nil {
		for _, role := range r.views.roles {
			if slices.Contains(who.Roles, role) {
				own = append(own, role)
			}
		}
	}
	key := strings.Join(own, "\x00")
	r.views.mu.Lock()
	defer r.views.mu.Unlock()
	v := r.views.known[key]
	if v == nil {
		v = &view{schema: r.Bound.View(own), salt: maphash.String(seed, "view "+key) | 1}
		if len(r.views.known) >= maxViews {
			clear(r.views.known)
		}
		if r.views.known == nil {
			r.views.known = map[string]*view{}
		}
		r.views.known[key] = v
	}
	return v
}

// SchemaFor returns the schema as it is for a caller; nil stands for nobody.
func (r *Revision) SchemaFor(who *store.Identity) *schema.Schema { return r.view(who).schema }

// Who returns who asks a request; nil for nobody.
func (q *Request) Who() *store.Identity { return q.who() }

func (q *Request) who() *store.Identity {
	if q.Caller == nil {
		return nil
	}
	return q.Caller.Who
}

// tellRules tells the operator of rules that failed: they were not true, for whoever asks.
func (r *Revision) tellRules(ctx context.Context, q *Request, p *plan.Plan, rules []execute.RuleError) {
	for _, e := range p.Failed {
		r.project.failed.tell(ctx, "rule "+e.Rule, "a rule failed, and so was not true", "rule", e.Rule, "operation", p.Name, "request", q.RequestID(), "error", e.Err)
	}
	for _, e := range rules {
		r.project.failed.tell(ctx, "rule "+e.Rule, "a rule failed, and so was not true", "rule", e.Rule, "records", e.Rows, "operation", p.Name, "request", q.RequestID(), "error", e.Err)
	}
}

// Sees reports whether there is all for a caller of which a text of operations speaks.
func (r *Revision) Sees(ctx context.Context, text string, who *store.Identity) bool {
	if r.view(who) == &r.whole {
		return true
	}
	d, err := r.document(ctx, text, who)
	return err == nil && !d.problems.Failed()
}
