package plan

import (
	"fmt"
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
)

// This file tells what an operation would cost with other limits.

// A Limited is a limit of an operation's lists, and what the operation costs with each of some values of it.
type Limited struct {
	Field    string    `json:"field"`              // the path of response names of the list, of several the first
	Argument string    `json:"argument"`           // its name
	Variable string    `json:"variable,omitempty"` // whose value it is
	Value    int64     `json:"value"`              // that it has
	Costs    []CostsAt `json:"costs"`              // by values, that of today among them
}

// CostsAt is what an operation costs with one value of a limit, if all else stays.
type CostsAt struct {
	Value   int64 `json:"value"`
	Cost    int64 `json:"cost"`
	Records int64 `json:"records"` // that are expected
}

// mostLimits is how many limits are told of an operation.
const mostLimits = 20

// otherLimits are the values that are tried, as far as they are allowed.
var otherLimits = []int64{1, 10, 50, 100, 500, 1000}

// Limits returns the limits of an operation, as they are first met, up to 20, with what it costs with others; page is the
// largest that is allowed.
func (p *Plan) Limits(vars map[string]schema.Value, page int64) []Limited {
	var list []Limited
	var known []string
	now := costs{vars: vars, page: page}
	for _, s := range p.Steps {
		limit := s.Read.Limit
		if len(list) == mostLimits {
			break
		}
		if limit == nil || limit.Written || s.Read.Given || s.Read.Nothing || slices.Contains(known, limit.key()) {
			continue
		}
		known = append(known, limit.key())
		value := now.limit(limit)
		if value < 0 {
			continue // it is wrong, and told when it is asked
		}
		l := Limited{Field: s.Field, Argument: limit.Name, Variable: limit.variable(), Value: value}
		tried := append([]int64{value}, otherLimits...)
		slices.Sort(tried)
		for _, other := range slices.Compact(tried) {
			if other > page && page > 0 {
				break
			}
			cost, records := p.costAt(vars, page, map[string]int64{limit.key(): other})
			l.Costs = append(l.Costs, CostsAt{other, cost, records})
		}
		list = append(list, l)
	}
	return list
}

// variable returns the name of the variable whose value the argument is, or "".
func (a *Arg) variable() string {
	if v, ok := a.Literal.(*language.Variable); ok {
		return v.Name
	}
	return ""
}

// key tells limits apart: what a variable gives is one, wherever it is used, and so is what a fragment has.
func (a *Arg) key() string {
	if name := a.variable(); name != "" {
		return "$" + name
	}
	return fmt.Sprint(a.Name, "@", a.Pos)
}
