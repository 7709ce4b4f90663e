package plan

import (
	"slices"
	"sync"

	"osprey/core/schema"
	"osprey/core/store"
)

// MostRecords returns how many records the stores send at most, as far as limits,
// unique keys and the reads above tell; what nothing bounds does not count. A
// limit whose value is not known, since vars is nil or it is null, is page.
//
//	{ berths(limit: 10) { calls(limit: 5) { craft { name } } } }
//	      10           +        10·5      +    10·5·1             = 110
func (p *Plan) MostRecords(vars map[string]schema.Value, page int64) int64 {
	c := costs{plan: p, vars: vars, page: page, known: map[*Read][2]int64{}}
	sum := int64(0)
	for _, f := range p.Fetches {
		for _, r := range f.Reads {
			if _, records := c.of(r); records > 0 && !r.Given {
				sum += records
			}
		}
	}
	return sum
}

// Unbounded is how many there can be where nothing bounds them.
const Unbounded = -1

// Most returns how many distinct keys go into a read at most, with the given
// variables, and how many records its store sends: as limits that the store
// knows, unique keys and the reads above tell. Either is [Unbounded] if nothing
// does. A read without keys has 0.
func (p *Plan) Most(r *Read, vars map[string]schema.Value) (keys, records int64) {
	c := costs{plan: p, vars: vars, page: Unbounded, known: map[*Read][2]int64{}}
	if keys, records = c.of(r); keys >= beyond {
		keys = Unbounded
	}
	if records >= beyond {
		records = Unbounded
	}
	return keys, records
}

// Splits reports whether there can be more keys than a fetch takes in one request.
func (p *Plan) Splits(f *Fetch, vars map[string]schema.Value) bool {
	c := costs{plan: p, vars: vars, page: Unbounded, known: map[*Read][2]int64{}}
	return c.splits(f)
}

func (c *costs) splits(f *Fetch) bool {
	return f.MaxKeys > 0 && slices.ContainsFunc(f.Reads, func(r *Read) bool {
		keys, _ := c.of(r)
		switch s := r.Store; {
		case len(r.Feeds) > 0:
		case f.Statements > 1 && s.Parent >= 0 && (!s.Single || s.Limit || s.Offset): // a statement by the keys of the rows above
			_, keys = c.of(f.Reads[s.Parent])
		default:
			return false
		}
		return keys < 0 || keys > int64(f.MaxKeys)
	})
}

// lists reports whether a row can bring several keys.
func (f *Feed) lists() bool {
	columns := f.Rows.Step.Read.Store.Columns
	return len(f.Columns) > 0 && columns[f.Columns[0]].Kind == store.List
}

// costs remembers what is known of each read, since many can hang from one.
type costs struct {
	plan  *Plan
	vars  map[string]schema.Value
	page  int64 // the largest limit
	known map[*Read][2]int64
	// guesses says that what nothing bounds is guessed by how many records there are.
	guesses bool
	// instead has values for limits, by their keys.
	instead map[string]int64
}

func (c *costs) of(r *Read) (keys, records int64) {
	if known, ok := c.known[r]; ok {
		return known[0], known[1]
	}
	// Reads of one wave can be each other's, since known keys travel ahead: what
	// comes back to a read while it is counted bounds nothing.
	c.known[r] = [2]int64{Unbounded, Unbounded}
	if c.guesses {
		c.known[r] = [2]int64{1, 1}
	}
	for _, f := range r.Feeds {
		above := int64(Unbounded)
		if len(f.Rows.Path) == 0 && !f.lists() {
			_, above = c.of(f.Rows.Step.Read)
		}
		keys = add(keys, above)
	}
	for _, s := range c.plan.steps.of(r, c.plan.Steps) {
		records = add(records, c.step(s))
	}
	c.known[r] = [2]int64{keys, records}
	return keys, records
}

// stepsByRead finds the steps of a read, but for those of nested records. It is safe for concurrent use.
type stepsByRead struct {
	mu    sync.Mutex // guards what follows
	known int        // how many steps there were
	list  map[*Read][]*Step
}

// of returns the steps of a read among all, to which further ones may be appended while a plan is built.
func (b *stepsByRead) of(r *Read, all []*Step) []*Step {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.known != len(all) {
		b.known, b.list = len(all), make(map[*Read][]*Step, len(all))
		for _, s := range all {
			if s.Inner == nil {
				b.list[s.Read] = append(b.list[s.Read], s)
			}
		}
	}
	return b.list[r]
}

// step returns how many records a store sends for a step at most.
func (c *costs) step(s *Step) int64 {
	own := int64(Unbounded)
	switch limit := s.Read.Limit; {
	case s.Read.Write != nil:
		own = c.written(s.Read.Write)
	case s.One || s.Read.Store.Aggregates || s.Read.Given:
		own = 1
	case limit != nil:
		if own = c.limit(limit); own >= 0 {
			own += limit.More
			if limit.Plus != nil {
				own = add(own, c.limit(limit.Plus))
			}
		}
	}
	if c.guesses && own < 0 {
		own = c.guess(s)
	}
	if s.Parent == nil || own < 0 {
		return own
	}
	if len(s.Parent.Path) > 0 && !c.guesses {
		return Unbounded
	}
	// What the engine cuts of the records above, their store has sent all the same.
	_, above := c.of(s.Parent.Step.Read)
	switch {
	case above < 0:
		return Unbounded
	case own > 0 && above > beyond/own:
		return beyond
	}
	return above * own
}

// beyond is more records than anybody counts.
const beyond = 1 << 40

// limit returns the value of a limit, or Unbounded.
func (c *costs) limit(a *Arg) int64 {
	if len(c.instead) > 0 {
		if n, ok := c.instead[a.key()]; ok {
			return n
		}
	}
	if a.Largest || a.Written || !a.Fixed && c.vars == nil {
		return c.page
	}
	if v, err := a.Resolve(c.vars); err == nil {
		if n, ok := v.(int64); ok && n >= 0 {
			if c.page >= 0 {
				return min(n, c.page) // beyond it, nothing is asked
			}
			return n
		}
	}
	return Unbounded
}

// written returns how many records a write is of at most.
func (c *costs) written(w *Write) int64 {
	if w.Found != nil {
		_, records := c.of(w.Found.Read)
		return records
	}
	if w.Above != nil {
		return c.page
	}
	if w.List == nil {
		return 1
	}
	if w.List.Fixed || c.vars != nil {
		if v, err := w.List.Resolve(c.vars); err == nil {
			list, _ := v.([]schema.Value)
			return int64(len(list))
		}
	}
	return c.page
}

func add(a, b int64) int64 {
	if a < 0 || b < 0 {
		return Unbounded
	}
	return a + b
}
