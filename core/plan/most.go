package plan

import "osprey/core/schema"

// Unbounded is how many there can be where nothing bounds them.
const Unbounded = -1

// Most returns how many distinct keys go into a read at most, with the given
// variables, and how many records its store sends: as limits that the store
// knows, unique keys and the reads above tell. Either is [Unbounded] if nothing
// does. A read without keys has 0.
func (p *Plan) Most(r *Read, vars map[string]schema.Value) (keys, records int64) {
	c := costs{p, vars, map[*Read][2]int64{}}
	return c.of(r)
}

// costs remembers what is known of each read, since many can hang from one.
type costs struct {
	plan  *Plan
	vars  map[string]schema.Value
	known map[*Read][2]int64
}

func (c *costs) of(r *Read) (keys, records int64) {
	if known, ok := c.known[r]; ok {
		return known[0], known[1]
	}
	// Reads of one wave can be each other's, since known keys travel ahead: what
	// comes back to a read while it is counted bounds nothing.
	c.known[r] = [2]int64{Unbounded, Unbounded}
	for _, f := range r.Feeds {
		above := int64(Unbounded)
		if len(f.Rows.Path) == 0 {
			_, above = c.of(f.Rows.Step.Read)
		}
		keys = add(keys, above)
	}
	for _, s := range c.plan.Steps {
		if s.Read == r && s.Inner == nil {
			records = add(records, c.step(s))
		}
	}
	c.known[r] = [2]int64{keys, records}
	return keys, records
}

// step returns how many records a store sends for a step at most.
func (c *costs) step(s *Step) int64 {
	own := int64(Unbounded)
	switch limit := s.Read.Limit; {
	case s.One || s.Read.Store.Totals:
		own = 1
	case limit != nil:
		if v, err := limit.Resolve(c.vars); err == nil {
			if n, ok := v.(int64); ok && n >= 0 {
				own = n + limit.More
				if limit.Plus != nil {
					v, _ := limit.Plus.Resolve(c.vars)
					plus, _ := v.(int64)
					own += plus
				}
			}
		}
	}
	if s.Parent == nil || own < 0 {
		return own
	}
	if len(s.Parent.Path) > 0 {
		return Unbounded
	}
	// What the engine cuts of the records above, their store has sent all the same.
	_, above := c.of(s.Parent.Step.Read)
	if above < 0 || own > 0 && above > 1<<40/own {
		return Unbounded
	}
	return above * own
}

func add(a, b int64) int64 {
	if a < 0 || b < 0 {
		return Unbounded
	}
	return a + b
}
