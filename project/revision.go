package project

import (
	"context"
	"hash/maphash"
	"strings"
	"sync"
	"sync/atomic"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/traffic"
	"osprey/core/validate"
)

// A Revision is one checked and bound state of a project. It does not change
// and is safe for concurrent use.
type Revision struct {
	Schema *schema.Schema
	Bound  *binding.Bound
	*content
	Warnings Findings // what was found when it was made

	project *Project
	serial  int64
	holds   atomic.Int64 // those who use it; 0 when it is done
	known   *kept
	saved   map[string]string // texts of operations/ by the names of their operations
	hashes  map[string]string // the same texts by their SHA-256
	whole   view
	views   views
}

var seed = maphash.MakeSeed()

func newRevision(p *Project, s *schema.Schema, bound *binding.Bound, saved map[string]string) *Revision {
	r := &Revision{Schema: s, Bound: bound, content: p.content, project: p, serial: serials.Add(1), known: newKept(int64(p.Config.Limits.Plans)), saved: saved}
	r.hashes = knownTexts(saved)
	r.whole.schema, r.views.roles = s, bound.Roles()
	r.holds.Store(1) // by being the current one
	r.take()
	return r
}

// serials numbers the revisions of this process.
var serials atomic.Int64

// Serial returns the number of the revision among all of this process: a later one has a greater
// number.
func (r *Revision) Serial() int64 { return r.serial }

// Unused returns the coordinates of the project's own types that are not among those that were
// used.
func (r *Revision) Unused(used []string) []string {
	return traffic.Unused(r.Schema, used, func(t schema.Named) bool {
		at := r.Schema.Position(t.About().Pos)
		return at.Line > 0 && at.Name != binding.SuppliedName && !strings.HasPrefix(t.String(), "__")
	})
}

// A parsed is a parsed and validated text of operations with its plans.
type parsed struct {
	source   *language.Source
	doc      *language.Document
	view     *view // for which it was checked
	problems language.Problems
	hash     uint64
	bytes    int64 // as estimated, while it is kept

	mu         sync.Mutex            // guards what follows
	operations map[string]*operation // by the name that was asked for
}

// document parses and validates a text for a caller, or finds it among those seen before. A
// text that is refused is not kept. The error is that of ctx.
func (r *Revision) document(ctx context.Context, text string, who *store.Identity) (*parsed, error) {
	v := r.view(who)
	hash := maphash.String(seed, text) ^ v.salt
	if d, ok := r.known.get(hash); ok && d.source.Text == text && d.view.salt == v.salt {
		return d, nil
	}
	d := &parsed{source: language.NewSource("", text), hash: hash, view: v}
	d.doc, d.problems = language.Parse(d.source)
	if !d.problems.Failed() {
		var err error
		if d.problems, err = validate.DocumentContext(ctx, v.schema, d.doc); err != nil {
			return nil, err
		}
	}
	if !d.problems.Failed() {
		r.known.add(hash, d)
	}
	return d, nil
}

// Plans tells how much is kept of operations.
func (r *Revision) Plans() PlansState { return r.known.state() }

// prepare makes a request of reads of one source. A store whose catalogue is
// not known cannot be asked yet.
func (r *Revision) prepare(source string, reads []*store.Read) (store.Request, error) {
	catalogue := r.Bound.Sources[source].Catalogue
	if r.Sources[source].Elsewhere() {
		return nil, errElsewhere
	}
	if catalogue == nil {
		_, err := r.Sources[source].known()
		return nil, store.NotReady(err)
	}
	return r.Sources[source].Store.Prepare(catalogue, reads)
}
