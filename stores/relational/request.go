package relational

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"osprey/core/store"
)

// lookupSizes are the layouts that a request can have: of how many records a
// table can be a lookup.
var lookupSizes = []int64{0, 100, 1000}

// Prepare lays the reads out as one statement, in one layout for few rows and,
// where that makes a difference, others for more.
func (s *Source) Prepare(catalogue *store.Catalogue, reads []*store.Read) (store.Request, error) {
	var forms []*form
	lookups := -1
	sizes := lookupSizes
	if !s.dialect.lateral() {
		sizes = lookupSizes[:1]
	}
	for _, size := range sizes {
		l, err := layOut(s.dialect, catalogue, reads, size)
		if err != nil {
			return nil, &store.Error{Code: store.BadAnswer, Msg: "does not have what the schema says", Err: err}
		}
		if n := l.lookups(); n > lookups {
			forms, lookups = append(forms, newForm(l)), n
		}
	}
	r := &request{source: s, reads: reads}
	r.forms.Store(&forms)
	return r, nil
}

// A request is the forms that a prepared statement can have.
type request struct {
	source *Source
	reads  []*store.Read
	ahead  atomic.Pointer[form]    // whose keys are handed on; nil until it is asked for
	forms  atomic.Pointer[[]*form] // those with more lookups behind those with fewer
}

// form chooses the form for what is asked: the one with the most lookups of
// which none has more records than there can be rows that refer to them, as
// far as bounds, keys and the size of tables tell.
func (r *request) form(in []store.Input) *form {
	forms := *r.forms.Load()
	if len(forms) == 1 {
		return forms[0]
	}
	var most int64
	for i, read := range r.reads {
		if read.Parent >= 0 || read.Aggregates {
			continue
		}
		rows := forms[0].layout.catalogue.Sets[read.Set].Rows
		if read.Limit {
			rows = min(rows, in[i].Limit)
		}
		if len(read.Keys) > 0 {
			rows = min(rows, int64(in[i].Keys[0].Len()))
		}
		most = max(most, rows)
	}
	n := len(forms) - 1
	for forms[n].layout.maxLookup > most {
		n--
	}
	return forms[n]
}

// demote drops a form one of whose lookups has grown, with those that have more.
func (r *request) demote(f *form) {
	forms := *r.forms.Load()
	if n := slices.Index(forms, f); n > 0 {
		kept := slices.Clone(forms[:n])
		r.forms.Store(&kept)
	}
}

// A form is a layout with its texts and the ways to read its rows.
type form struct {
	layout   *layout
	branches []branchPlan
	lookups  []lookupPlan
	// Of a database that is asked in stages.
	stages []stage
	links  []linkPlan

	params []param   // the same for every text
	runs   sync.Pool // of *collector

	mu    sync.Mutex        // guards what follows
	texts map[string]string // by rounded bounds
}

func newForm(l *layout) *form {
	f := &form{layout: l, texts: map[string]string{}}
	for _, b := range l.branches {
		f.branches = append(f.branches, planBranch(l, b))
	}
	f.runs.New = func() any { return newCollector(f) }
	if !l.dialect.lateral() {
		f.planStages()
		return f
	}
	_, f.params = l.text(make([]int64, len(l.reads)))
	for i, b := range l.branches {
		if b.host != nil {
			f.branches[i].under = f.branches[b.host.number].key
		}
	}
	for _, b := range l.branches {
		if b.lookup {
			f.planLookup(b)
		}
	}
	return f
}

// maxTexts bounds how many roundings of its limits a form keeps a text for;
// beyond that, limits are parameters only.
const maxTexts = 64

// A branchPlan says where in a row the values of a branch's reads are. Values
// are counted from 0 with the branch's number, if there is one.
type branchPlan struct {
	read       int
	pairs      bool  // rows are pairs, and none of the read's
	row, above int   // as in branch
	once       []int // the values that tell rows of one row above apart, if some come repeatedly
	// Of a branch whose rows are told apart by a key: the key, and what they
	// are in order of.
	key   *keyedPlan
	under *keyedPlan // that of the host; nil if its rows have numbers
	reads []readPlan // the branch's own first, parents before children
}

// A keyedPlan says where the key of a root's rows is, and the values that they
// are in order of.
type keyedPlan struct {
	slot   int
	decode decoder
	kind   store.Kind
	order  []orderPlan
}

type orderPlan struct {
	slot   int
	decode decoder
	kind   store.Kind
	desc   bool
}

type readPlan struct {
	read     int
	presence int   // the value that is NULL if there is no row; -1 for the branch's own
	slots    []int // where the value of each column is
	decode   []decoder
	keys     []keyPlan // values by which lookups are matched
}

// A keyPlan says where a value is by which a lookup or link is matched: one of its
// own rows, or one of a row that refers to it.
type keyPlan struct {
	slot   int
	decode decoder
	lookup int // position in form.lookups, or form.links
	side   side
	n      int // which field of the key
}

// A lookupPlan is a read whose rows are matched here with those, or with the
// pairs, that refer to them.
type lookupPlan struct {
	read  int
	pairs int          // the branch of the pairs, or -1
	once  bool         // pairs can come several times, and count once
	kinds []store.Kind // of the key's fields
}

// planLookup adds the values by which a lookup is matched to the plans of both
// sides.
func (f *form) planLookup(b *branch) {
	r := f.layout.reads[b.read]
	lookup := lookupPlan{read: b.read, pairs: -1}
	above, own := f.layout.linked(b.read)
	if r.JoinTable != nil {
		above, own = f.layout.paired(b.read)
	}
	for n, field := range own {
		kind := field.Kind
		lookup.kinds = append(lookup.kinds, kind)
		there := keyPlan{lookup: len(f.lookups), n: n, side: thereSide, decode: scalarDecoder(kind)}
		here := there
		here.side = hereSide
		f.planKey(b, b.read, field, there)
		if r.JoinTable == nil {
			f.planKey(f.layout.of[r.Parent], r.Parent, above[n], here)
		} else {
			pairs := f.layout.pairsOf(b.read)
			lookup.pairs, lookup.once = pairs.number, f.layout.repeats(r.JoinTable)
			f.planKey(pairs, b.read, above[n], here)
		}
	}
	f.lookups = append(f.lookups, lookup)
}

// planKey adds a value of a key to the plan of the read that sends it.
func (f *form) planKey(b *branch, read int, field *store.Field, k keyPlan) {
	o, _ := b.sent(read, field)
	k.slot = 1 + o.slot // behind the branch's number; a form with lookups has several
	plan := &f.branches[b.number]
	for i := range plan.reads {
		if plan.reads[i].read == read {
			plan.reads[i].keys = append(plan.reads[i].keys, k)
		}
	}
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
	if b.key != "" {
		plan.key = planKeyed(l, b, first)
	}
	if b.pairs {
		plan.pairs = true
		plan.reads = []readPlan{{read: b.read, presence: -1}}
		return plan
	}
	for _, o := range b.outs {
		if l.dialect.lateral() && o.link > 0 {
			plan.once = append(plan.once, first+o.slot)
		}
	}
	if len(plan.once) > 0 {
		plan.once = append(plan.once, plan.above)
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
				p.decode[o.column] = l.dialect.decoder(o.field, &wanted[o.column])
			}
		}
		plan.reads = append(plan.reads, p)
	}
	return plan
}

func planKeyed(l *layout, b *branch, first int) *keyedPlan {
	field := l.set(b.read).Field(b.key)
	o, _ := b.sent(b.read, field)
	kind := field.Kind
	k := &keyedPlan{slot: first + o.slot, decode: scalarDecoder(kind), kind: kind}
	for _, by := range b.order {
		field := l.set(b.read).Field(by.Path)
		o, _ := b.sent(b.read, field)
		kind, decode := field.Kind, decodeInt
		if kind == store.UUID {
			decode = decodeUUID
		} else {
			kind = store.Int // moments are compared as they are sent, infinite ones too
		}
		k.order = append(k.order, orderPlan{first + o.slot, decode, kind, by.Desc})
	}
	return k
}

// Describe names the tables that are read together.
func (r *request) Describe() store.Description {
	var names []string
	for _, read := range r.reads {
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
	bounds := make([]int64, len(r.reads))
	for i := range bounds {
		bounds[i] = 32
	}
	f := (*r.forms.Load())[0]
	if len(f.stages) == 0 {
		return store.Description{Asks: asks, Statement: f.text(bounds)}
	}
	var texts []string
	for _, st := range f.stages {
		texts = append(texts, strings.Join(st.text.parts, "?"))
	}
	return store.Description{Asks: asks, Statement: strings.Join(texts, ";\n"), Statements: len(texts), MaxKeys: maxStageKeys}
}

func setsOf(read *store.Read) []string {
	if read.JoinTable != nil {
		return []string{read.JoinTable.Set, read.Set}
	}
	return []string{read.Set}
}

// text returns the statement for rounded bounds.
func (f *form) text(bounds []int64) string {
	var room [64]byte
	key := room[:0]
	for _, b := range bounds {
		key = strconv.AppendInt(append(key, ' '), b, 10)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if text, ok := f.texts[string(key)]; ok {
		return text
	}
	if len(f.texts) >= maxTexts {
		for i := range bounds {
			bounds[i] = noBound
		}
		text, _ := f.layout.text(bounds)
		return text
	}
	text, _ := f.layout.text(bounds)
	f.texts[string(key)] = text
	return text
}

// Run asks the database: once, or once more if a table has grown that was sent
// whole.
func (r *request) Run(ctx context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	return r.runOn(ctx, r.source, in)
}

// runOn asks the database on a connection.
func (r *request) runOn(ctx context.Context, from lender, in []store.Input) (*store.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, r.source.timeout)
	defer cancel()
	asked := 0
	for {
		f := r.form(in)
		c, err := r.ask(ctx, from, f, in)
		asked += c.asked
		switch {
		case err == nil:
			c.answer.Requests = asked
			return &c.answer, nil
		case !errors.Is(err, errGrown):
			return nil, r.source.fail(ctx, err)
		}
		r.demote(f)
	}
}

// ask asks the database in one form.
func (r *request) ask(ctx context.Context, from lender, f *form, in []store.Input) (*collector, error) {
	c := f.runs.Get().(*collector)
	for i := range in {
		c.bounds[i] = 0
		if r.reads[i].Limit && r.source.dialect.lateral() {
			c.bounds[i] = round(in[i].Limit)
		}
	}
	c.most, c.mostBytes = r.source.config.MaxRecords, r.source.config.MaxAnswer
	err := r.source.run(ctx, from, f, in, c)
	switch {
	case errors.Is(err, errTooMany):
		err = store.TooMany(c.most)
	case errors.Is(err, errTooLarge):
		err = store.TooLarge(c.mostBytes)
	}
	if err == nil {
		err = c.finish()
	}
	return c, err
}
