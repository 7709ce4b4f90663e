package relational

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"sync"

	"osprey/core/store"
)

// Prepare lays the reads out as one statement.
func (s *Source) Prepare(catalogue *store.Catalogue, reads []*store.Read) (store.Request, error) {
	l, err := layOut(catalogue, reads)
	if err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "does not have what the schema says", Err: err}
	}
	r := &request{source: s, layout: l, texts: map[string]string{}}
	_, r.params = l.text(make([]int64, len(reads)))
	for _, b := range l.branches {
		r.branches = append(r.branches, planBranch(l, b))
	}
	r.runs.New = func() any { return newCollector(r) }
	return r, nil
}

// A request is a prepared statement with the ways to read its rows.
type request struct {
	source   *Source
	layout   *layout
	branches []branchPlan
	params   []param   // the same for every text
	runs     sync.Pool // of *collector

	mu    sync.Mutex        // guards what follows
	texts map[string]string // by rounded bounds
}

// maxTexts bounds how many roundings of its limits a request keeps a text for;
// beyond that, limits are parameters only.
const maxTexts = 64

// A branchPlan says where in a row the values of a branch's reads are. Values
// are counted from 0 with the branch's number, if there is one.
type branchPlan struct {
	read       int
	row, above int        // as in branch
	reads      []readPlan // the branch's own first, parents before children
}

type readPlan struct {
	read     int
	presence int   // the value that is NULL if there is no row; -1 for the branch's own
	slots    []int // where the value of each column is
	decode   []decoder
}

func planBranch(l *layout, b *branch) branchPlan {
	first := 0
	if l.several() {
		first = 1
	}
	plan := branchPlan{read: b.read, row: -1, above: -1}
	if b.row >= 0 {
		plan.row = first + b.row
	}
	if b.above >= 0 {
		plan.above = first + b.above
	}
	for _, read := range append([]int{b.read}, b.joined...) {
		wanted := l.reads[read].Columns
		p := readPlan{read: read, presence: -1, slots: make([]int, len(wanted)), decode: make([]decoder, len(wanted))}
		if read != b.read {
			o, _ := l.presence(read)
			p.presence = first + o.slot
		}
		for _, o := range b.outs {
			if o.read == read && o.column >= 0 {
				p.slots[o.column] = first + o.slot
				p.decode[o.column] = decoderOf(l.field(read, o.path), &wanted[o.column])
			}
		}
		plan.reads = append(plan.reads, p)
	}
	return plan
}

// Describe names the tables that are read together.
func (r *request) Describe() store.Description {
	var names []string
	for _, read := range r.layout.reads {
		for _, name := range setsOf(read) {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	asks := names[0]
	if len(names) > 1 {
		asks += " with " + strings.Join(names[1:], ", ")
	}
	bounds := make([]int64, len(r.layout.reads))
	for i := range bounds {
		bounds[i] = 32
	}
	return store.Description{Asks: asks, Statement: r.text(bounds)}
}

func setsOf(read *store.Read) []string {
	if read.Through != nil {
		return []string{read.Through.Set, read.Set}
	}
	return []string{read.Set}
}

// text returns the statement for rounded bounds.
func (r *request) text(bounds []int64) string {
	var room [64]byte
	key := room[:0]
	for _, b := range bounds {
		key = strconv.AppendInt(append(key, ' '), b, 10)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if text, ok := r.texts[string(key)]; ok {
		return text
	}
	if len(r.texts) >= maxTexts {
		for i := range bounds {
			bounds[i] = noBound
		}
		text, _ := r.layout.text(bounds)
		return text
	}
	text, _ := r.layout.text(bounds)
	r.texts[string(key)] = text
	return text
}

// Run asks the database.
func (r *request) Run(ctx context.Context, in []store.Input) (*store.Answer, error) {
	c := r.runs.Get().(*collector)
	for i := range in {
		c.bounds[i] = 0
		if r.layout.reads[i].Limit {
			c.bounds[i] = round(in[i].Limit)
		}
	}
	err := r.source.query(ctx, r.text(c.bounds), c.arguments.of(r.layout, r.params, in), c)
	if err == nil {
		err = c.finish()
	}
	if err != nil {
		return nil, fail(ctx, err)
	}
	return &c.answer, nil
}
