package project

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/plan"
	"osprey/core/store"
)

// An Explanation tells what an operation would ask the stores.
type Explanation struct {
	Operation string `json:"operation,omitempty"`
	Requests  int    `json:"requests"`        // store requests, whatever the number of records
	Several   bool   `json:"several"`         // a store takes one key at a time, or so many, or answers in pages: Requests is a least number
	Limit     int    `json:"limit,omitempty"` // how many are allowed; 0 if there is no bound
	// Cost is what it is estimated to cost, and CostLimit how much it may; 0 if there is no bound.
	Cost      int64 `json:"cost"`
	CostLimit int64 `json:"costLimit,omitempty"`
	// Limits are those of its lists, with what it would cost with others.
	Limits []plan.Limited `json:"limits,omitempty"`
	Waves  []WaveOut      `json:"waves"`
	// Told is, of a subscription, what is told, and how it comes to be known: all of the moment together makes the
	// store requests once.
	Told string `json:"told,omitempty"`
	// Hidden says that the statements are not told to this caller.
	Hidden bool `json:"statementsHidden,omitempty"`
}

// HideStatements leaves out what the stores are sent.
func (e *Explanation) HideStatements() {
	e.Hidden = true
	for w := range e.Waves {
		for r := range e.Waves[w].Requests {
			e.Waves[w].Requests[r].Statement = ""
		}
	}
}

// A WaveOut is the requests that are made at the same time.
type WaveOut struct {
	Wave     int          `json:"wave"`
	Requests []RequestOut `json:"requests"`
}

// A RequestOut is one store request.
type RequestOut struct {
	ID        int    `json:"id"`
	After     []int  `json:"after,omitempty"` // the requests whose records bring its keys
	Source    string `json:"source"`
	Kind      string `json:"kind"`
	Asks      string `json:"asks"`
	Statement string `json:"statement,omitempty"`
	// Statements is how many statements it is, one after the other, each by the keys that
	// those before it have brought; absent for one.
	Statements int  `json:"statements,omitempty"`
	EachKey    bool `json:"eachKey,omitempty"` // up to one request for each distinct key
	MaxKeys    int  `json:"maxKeys,omitempty"` // a request for each so many keys; 0 for all
	Pages      int  `json:"pages,omitempty"`   // up to so many pages, each a request; 0 for one
	// Transaction is the root field in whose transaction it is made; "" where it only
	// reads, by itself.
	Transaction string `json:"transaction,omitempty"`
	// Apart says that the source has no transactions: what is written before a failure stays.
	Apart bool `json:"apart,omitempty"`
	// Elsewhere says that it is in another source than the transaction.
	Elsewhere bool `json:"elsewhere,omitempty"`
	// Last says that it is made behind the other requests of its transaction, which read what
	// it removes.
	Last bool `json:"last,omitempty"`
	// Locks is what others cannot write until the transaction ends; "" for nothing.
	Locks   string    `json:"locks,omitempty"`
	Splits  bool      `json:"splits,omitempty"`  // there can be more than MaxKeys
	Problem string    `json:"problem,omitempty"` // why it cannot be made now
	Reads   []ReadOut `json:"reads"`
}

// A ReadOut is one record set of a request.
type ReadOut struct {
	Asks   string   `json:"asks"`
	Fields []string `json:"fields"`            // the places of the answer it is for
	Keys   *int64   `json:"keys,omitempty"`    // distinct keys that go in at most; absent if it has none, or nothing bounds them
	Calls  *int64   `json:"calls,omitempty"`   // of a function: how many different ones at most
	Most   *int64   `json:"records,omitempty"` // records that come back at most; absent if nothing bounds them
	Depth  int      `json:"depth"`             // how many reads of the request it is folded into
	// Here is what Osprey does with the records, since the store does not: how
	// those of each place of the answer are sorted and cut.
	Here []string `json:"here,omitempty"`
}

// Explain plans a request and tells what it would ask. Nothing is run.
func (r *Revision) Explain(q *Request) (*Explanation, []Fault) {
	p, vars, faults := r.Plan(q)
	if faults != nil {
		return nil, faults
	}
	limits := r.allowed(q.who())
	e := &Explanation{Operation: p.Name, Requests: p.Requests(), Limit: int(limits.StoreRequests), Waves: []WaveOut{}, Cost: p.Cost(vars, int64(limits.Page)), CostLimit: int64(limits.Cost)}
	e.Limits = p.Limits(vars, int64(limits.Page))
	if p.Watch != nil {
		e.Told = r.toldOf(p.Watch.Tells, p.Watch.Source, p.Watch.Set)
	}
	for _, f := range p.Fetches {
		if f.Given() {
			continue
		}
		if len(e.Waves) < f.Wave {
			e.Waves = append(e.Waves, WaveOut{Wave: f.Wave})
		}
		w := &e.Waves[f.Wave-1]
		out := RequestOut{ID: f.ID, After: feeders(f), Source: f.Source, Kind: r.Sources[f.Source].Kind}
		if f.Unit != nil {
			out.Transaction, out.Apart, out.Locks = f.Unit.Name(), f.Unit.Writing.Apart, locks(f)
			out.Elsewhere = f.Unit.Others[f.ID] != nil
			w := f.Reads[0].Write
			out.Last = w != nil && w.Store.Action == store.Remove && !w.Given
		}
		if f.Err != nil {
			out.Problem = fmt.Sprintf("the source %s %s", f.Source, told(f.Err))
		} else {
			d := f.Request.Describe()
			out.Asks, out.Statement, out.Statements, out.EachKey, out.MaxKeys, out.Pages = d.Asks, d.Statement, d.Statements, d.EachKey, d.MaxKeys, d.Pages
			out.Splits = p.Splits(f, vars)
		}
		for _, read := range f.Reads {
			keys, records := p.Most(read, vars)
			if len(read.Feeds) == 0 {
				keys = plan.Unbounded
			}
			var calls *int64
			if read.Call != nil {
				calls, keys, records = bounded(records), plan.Unbounded, plan.Unbounded
			}
			out.Reads = append(out.Reads, ReadOut{Calls: calls, Keys: bounded(keys), Most: bounded(records), Asks: read.String(), Fields: read.Covers, Depth: read.Depth(), Here: p.Left(read)})
		}
		e.Several = e.Several || out.EachKey || out.Pages > 0 || out.Splits
		w.Requests = append(w.Requests, out)
	}
	return e, nil
}

// toldOf says what a subscription is told of, and how late.
func (r *Revision) toldOf(w *binding.Watch, name, set string) string {
	var on []string
	for _, what := range w.On {
		on = append(on, string(what))
	}
	text := fmt.Sprintf("%s of %s in %s, ", strings.Join(on, ", "), set, name)
	source := r.Bound.Sources[name]
	switch look := r.Bound.Looks(name, set); {
	case source.Catalogue == nil:
		return text + "if the source is there"
	case source.Tells[set] != nil:
		return text + "at once, whoever makes the change, by " + source.TellsBy
	case look != nil && look.Grows != nil:
		return text + fmt.Sprintf("by looking every %s at those whose %s has grown", look.Every, look.Grows.Path)
	case look != nil:
		return text + fmt.Sprintf("by looking at all of them every %s", look.Every)
	}
	return text + "if this service makes the change: nobody tells of others"
}

// Told says of each field that watches what it is told of, and how late, as "Subscription.arrivals is told: …".
func (r *Revision) Told() (list []string) {
	if s := r.Bound.Schema.Subscription; s != nil {
		for _, f := range s.Fields {
			if root := r.Bound.Root(f); root != nil && root.Watch != nil {
				list = append(list, f.Coordinate()+" is told: "+r.toldOf(root.Watch, root.Target.Source.Name, root.Target.Set))
			}
		}
	}
	return list
}

// locks says what a request of a transaction locks.
func locks(f *plan.Fetch) string {
	read := f.Reads[0]
	switch {
	case f.Unit.Writing.Apart || f.Unit.Others[f.ID] != nil || read.Write == nil && !read.Store.Lock:
		return ""
	case f.Unit.Writing.Single:
		return "the whole source"
	case read.Store.Lock:
		return "the " + read.Store.Set + " that it finds"
	case read.Write.Found != nil:
		return "" // which are locked already
	}
	return "the " + read.Store.Set + " that it writes"
}

// told returns what callers may know of why a request cannot be prepared.
func told(err error) string {
	var known *store.Error
	if errors.As(err, &known) {
		return known.Msg
	}
	return "failed; the service's log has the details"
}

// bounded returns a number that something bounds, or nil.
func bounded(n int64) *int64 {
	if n == plan.Unbounded {
		return nil
	}
	return &n
}

// bounds says how many keys go in and records come back at most, as far as it is
// known.
func (r *ReadOut) bounds() string {
	var parts []string
	if r.Keys != nil {
		parts = append(parts, plan.Count(int(*r.Keys), "key"))
	}
	if r.Calls != nil {
		parts = append(parts, plan.Count(int(*r.Calls), "call"))
	}
	if r.Most != nil {
		parts = append(parts, plan.Count(int(*r.Most), "record"))
	}
	if len(parts) == 0 {
		return ""
	}
	return "; at most " + strings.Join(parts, " and ")
}

// feeders returns the fetches whose records bring the keys of a fetch.
func feeders(f *plan.Fetch) []int {
	var ids []int
	add := func(r *plan.Read) {
		if id := r.Fetch.ID; !slices.Contains(ids, id) && !r.Given {
			ids = append(ids, id)
		}
	}
	for _, r := range f.Reads {
		for _, feed := range r.Feeds {
			add(feed.Rows.Step.Read)
		}
		for _, needed := range r.Needs {
			add(needed)
		}
	}
	return ids
}

// manyKeys is how many keys are so many that a bound above is not worth a line.
const manyKeys = 10_000

// notes says why a request can be several.
func (r *RequestOut) notes() []string {
	var notes []string
	switch {
	case r.Elsewhere && !r.Apart:
		notes = append(notes, fmt.Sprintf("a part of %s, and not of its transaction, which ends behind it: what is written here stays if that fails", r.Transaction))
	case r.Transaction != "" && r.Apart:
		notes = append(notes, fmt.Sprintf("a part of %s, not in one transaction: the source has none, and what is written before a failure stays", r.Transaction))
	case r.Transaction != "":
		notes = append(notes, fmt.Sprintf("in the transaction of %s: all of it is done, or nothing", r.Transaction))
	}
	if r.Last {
		notes = append(notes, "made last: what is read of its records is as they were")
	}
	if r.Locks != "" {
		notes = append(notes, "locks "+r.Locks+" until the transaction ends: others who write there wait")
	}
	if r.Statements > 1 {
		notes = append(notes, fmt.Sprintf("%s in one transaction: one for each list, by the keys that came with the rows above it", plan.Count(r.Statements, "statement")))
	}
	if r.EachKey {
		note := "one request for each distinct key: the store takes one at a time"
		if keys := r.Reads[0].Keys; keys != nil {
			note = fmt.Sprintf("up to %s, one for each distinct key: the store takes one at a time", plan.Count(int(*keys), "request"))
		}
		notes = append(notes, note)
	}
	switch {
	case r.Splits:
		notes = append(notes, fmt.Sprintf("one request for each %d keys: the store takes no more at once", r.MaxKeys))
	case r.MaxKeys > 0 && r.MaxKeys < manyKeys:
		notes = append(notes, fmt.Sprintf("up to %d keys in a request", r.MaxKeys))
	}
	if r.Pages > 0 {
		notes = append(notes, fmt.Sprintf("page by page, up to %s, each a request", plan.Count(r.Pages, "page")))
	}
	return notes
}

// Summary says on one line what the operation costs.
func (e *Explanation) Summary() string {
	least := ""
	if e.Several {
		least = "at least "
	}
	summary := least + plan.Count(e.Requests, "store request") + " in " + plan.Count(len(e.Waves), "wave")
	if e.Limit > 0 && e.Requests > e.Limit {
		summary += fmt.Sprintf(", which is more than the limit of %d: it is refused", e.Limit)
	}
	return summary
}

// Text returns the explanation as a terminal shows it; with statements, each
// request is followed by what the store is sent.
func (e *Explanation) Text(statements bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", e.Summary())
	if e.Told != "" {
		fmt.Fprintf(&b, "for what happens in one moment, however many listen\ntold: %s\n", e.Told)
	}
	if statements && e.Hidden {
		b.WriteString("the service does not tell statements to this caller; \"statements:\" in its osprey.yaml says to whom\n")
	}
	for _, w := range e.Waves {
		fmt.Fprintf(&b, "\nwave %d\n", w.Wave)
		for _, r := range w.Requests {
			fmt.Fprintf(&b, "  %s (%s)  %s\n", r.Source, r.Kind, r.Asks)
			for _, note := range r.notes() {
				fmt.Fprintf(&b, "    %s\n", note)
			}
			if r.Problem != "" {
				fmt.Fprintf(&b, "    %s\n", r.Problem)
			}
			for _, read := range r.Reads {
				indent := strings.Repeat("  ", read.Depth)
				fmt.Fprintf(&b, "    %s• %s\n    %s    for %s%s\n", indent, read.Asks, indent, strings.Join(read.Fields, ", "), read.bounds())
				for _, here := range read.Here {
					fmt.Fprintf(&b, "    %s    here: %s\n", indent, here)
				}
			}
			if statements && r.Statement != "" {
				for _, line := range strings.Split(r.Statement, "\n") {
					fmt.Fprintf(&b, "      │ %s\n", line)
				}
			}
		}
	}
	fmt.Fprintf(&b, "\ncosts %d: 10 for each store request, and 1 for each 10 records that are expected\n", e.Cost)
	if e.CostLimit > 0 && e.Cost > e.CostLimit {
		fmt.Fprintf(&b, "  the limit is %d: it is refused\n", e.CostLimit)
	}
	return b.String()
}
