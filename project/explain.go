package project

import (
	"fmt"
	"strings"

	"osprey/core/plan"
)

// An Explanation tells what an operation would ask the stores.
type Explanation struct {
	Operation string    `json:"operation,omitempty"`
	Requests  int       `json:"requests"`        // store requests, whatever the number of records
	EachKey   bool      `json:"eachKey"`         // a store takes one key at a time: Requests is a least number
	Limit     int       `json:"limit,omitempty"` // how many are allowed; 0 if there is no bound
	Waves     []WaveOut `json:"waves"`
}

// A WaveOut is the requests that are made at the same time.
type WaveOut struct {
	Wave     int          `json:"wave"`
	Requests []RequestOut `json:"requests"`
}

// A RequestOut is one store request.
type RequestOut struct {
	Source    string    `json:"source"`
	Kind      string    `json:"kind"`
	Asks      string    `json:"asks"`
	Statement string    `json:"statement,omitempty"`
	EachKey   bool      `json:"eachKey,omitempty"` // up to one request for each distinct key
	Problem   string    `json:"problem,omitempty"` // why it cannot be made now
	Reads     []ReadOut `json:"reads"`
}

// A ReadOut is one record set of a request.
type ReadOut struct {
	Asks   string   `json:"asks"`
	Fields []string `json:"fields"` // the places of the answer it is for
	Depth  int      `json:"depth"`  // how many reads of the request it is folded into
}

// Explain plans a question and tells what it would ask. Nothing is run.
func (r *Revision) Explain(q *Question) (*Explanation, []Fault) {
	p, _, faults := r.Plan(q)
	if faults != nil {
		return nil, faults
	}
	e := &Explanation{Operation: p.Name, Requests: len(p.Fetches), Limit: r.project.Config.Limits.StoreRequests, Waves: []WaveOut{}}
	for _, f := range p.Fetches {
		if len(e.Waves) < f.Wave {
			e.Waves = append(e.Waves, WaveOut{Wave: f.Wave})
		}
		w := &e.Waves[f.Wave-1]
		out := RequestOut{Source: f.Source, Kind: r.project.Sources[f.Source].Kind}
		if f.Err != nil {
			out.Problem = fmt.Sprintf("the source %s cannot be asked now; see the service's log", f.Source)
		} else {
			d := f.Request.Describe()
			out.Asks, out.Statement, out.EachKey = d.Asks, d.Statement, d.EachKey
			e.EachKey = e.EachKey || d.EachKey
		}
		for _, read := range f.Reads {
			out.Reads = append(out.Reads, ReadOut{Asks: read.String(), Fields: read.Covers, Depth: read.Depth()})
		}
		w.Requests = append(w.Requests, out)
	}
	return e, nil
}

// Summary says on one line what the operation costs.
func (e *Explanation) Summary() string {
	least := ""
	if e.EachKey {
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
	for _, w := range e.Waves {
		fmt.Fprintf(&b, "\nwave %d\n", w.Wave)
		for _, r := range w.Requests {
			fmt.Fprintf(&b, "  %s (%s)  %s\n", r.Source, r.Kind, r.Asks)
			if r.EachKey {
				b.WriteString("    one request for each distinct key: the store takes one at a time\n")
			}
			if r.Problem != "" {
				fmt.Fprintf(&b, "    %s\n", r.Problem)
			}
			for _, read := range r.Reads {
				indent := strings.Repeat("  ", read.Depth)
				fmt.Fprintf(&b, "    %s• %s\n    %s    for %s\n", indent, read.Asks, indent, strings.Join(read.Fields, ", "))
			}
			if statements && r.Statement != "" {
				for _, line := range strings.Split(r.Statement, "\n") {
					fmt.Fprintf(&b, "      │ %s\n", line)
				}
			}
		}
	}
	return b.String()
}
