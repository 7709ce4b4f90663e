package plan

import (
	"osprey/core/schema"
)

// This file estimates what an operation costs, before anything is asked.

// costOfRequest is what a store request costs, of which ten records cost one.
const costOfRequest = 10

// Cost estimates what an operation costs: ten for each store request, and one for each ten records that are
// expected. Of a list that nothing bounds, as many are expected as its store says that there are, or, below
// others, as there are of them for each; where it says nothing, page, or ten.
//
//	{ berths(limit: 10) { calls(limit: 5) { craft { name } } } }
//	one request: 10    10 + 50 + 50 records: 11    21 in all
func (p *Plan) Cost(vars map[string]schema.Value, page int64) int64 {
	cost, _ := p.costAt(vars, page, nil)
	return cost
}

// costAt returns what an operation costs with other limits, by their keys, and how many records are expected.
func (p *Plan) costAt(vars map[string]schema.Value, page int64, instead map[string]int64) (cost, records int64) {
	c := costs{plan: p, vars: vars, page: page, known: map[*Read][2]int64{}, guesses: true, instead: instead}
	for _, f := range p.Fetches {
		for _, r := range f.Reads {
			if r.Nothing || r.Given {
				continue
			}
			_, n := c.of(r)
			records = min(records+max(n, 0), beyond)
		}
	}
	return costOfRequest*int64(p.Requests()) + (records+9)/10, records
}

// guess returns how many records a step is expected to have, for each of its parent's.
func (c *costs) guess(s *Step) int64 {
	own := s.Read.Rows
	if s.Parent == nil {
		if own > 0 {
			return own
		}
		return max(c.page, 1)
	}
	if above := s.Parent.Step.Read.Rows; own > 0 && above > 0 {
		return max(1, (own+above-1)/above)
	}
	return 10
}

// Depth returns how deep the fields of an operation are nested, from 1.
func (p *Plan) Depth() int { return p.Data.depth() }

func (o *Object) depth() int {
	deepest := 0
	for _, c := range o.Cases {
		for _, f := range c.Fields {
			deepest = max(deepest, f.depth())
		}
	}
	return deepest
}

func (f *Field) depth() int {
	deepest := 0
	if f.Object != nil {
		deepest = f.Object.depth()
	}
	for _, part := range f.Parts {
		deepest = max(deepest, part.depth()-1)
	}
	return 1 + deepest
}

// Aliases returns how often one field is asked for at most in one place, under several names.
func (p *Plan) Aliases() int { return p.Data.aliases() }

func (o *Object) aliases() int {
	most := 0
	for _, c := range o.Cases {
		times := map[string]int{}
		for _, f := range c.Fields {
			times[f.At]++
			most = max(most, times[f.At])
			if f.Object != nil {
				most = max(most, f.Object.aliases())
			}
			for _, part := range f.Parts {
				if part.Object != nil {
					most = max(most, part.Object.aliases())
				}
			}
		}
	}
	return most
}
