package project

import (
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/validate"
)

// A Revision is one checked and bound state of a project. It does not change
// and is safe for concurrent use.
type Revision struct {
	Schema *schema.Schema
	Bound  *binding.Bound

	project *Project
	known   *lru.Cache[uint64, *parsed]
	saved   map[string]string // texts of operations/ by the names of their operations
}

// defaultPlans is how many planned operations a revision keeps.
const defaultPlans = 1000

var seed = maphash.MakeSeed()

func newRevision(p *Project, s *schema.Schema, bound *binding.Bound, saved map[string]string) *Revision {
	plans := p.Config.Limits.Plans
	if plans <= 0 {
		plans = defaultPlans
	}
	known, err := lru.New[uint64, *parsed](plans)
	if err != nil {
		panic(err) // only for a size below 1
	}
	return &Revision{Schema: s, Bound: bound, project: p, known: known, saved: saved}
}

// A parsed is a parsed and validated text of operations with its plans.
type parsed struct {
	source   *language.Source
	doc      *language.Document
	problems language.Problems

	mu         sync.Mutex            // guards what follows
	operations map[string]*operation // by the name that was asked for
}

// Saved returns the text in which the operation called name is saved, or says
// that there is none.
func (r *Revision) Saved(name string) (text string, err error) {
	text, ok := r.saved[name]
	if !ok {
		return "", fmt.Errorf("no operation %q is saved in this project%s", name, language.DidYouMean(name, slices.Sorted(maps.Keys(r.saved))))
	}
	return text, nil
}

// document parses and validates a text, or finds it among those seen before.
func (r *Revision) document(text string) *parsed {
	hash := maphash.String(seed, text)
	if d, ok := r.known.Get(hash); ok && d.source.Text == text {
		return d
	}
	d := &parsed{source: language.NewSource("", text)}
	d.doc, d.problems = language.Parse(d.source)
	if !d.problems.Failed() {
		d.problems = validate.Document(r.Schema, d.doc)
	}
	r.known.Add(hash, d)
	return d
}

// prepare makes a request of reads of one source. A store whose catalogue is
// not known cannot be asked yet.
func (r *Revision) prepare(source string, reads []*store.Read) (store.Request, error) {
	catalogue := r.Bound.Sources[source].Catalogue
	if catalogue == nil {
		_, err := r.project.Sources[source].known()
		return nil, store.NotReady(err)
	}
	return r.project.Sources[source].Store.Prepare(catalogue, reads)
}
