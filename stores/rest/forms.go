package rest

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/ohler55/ojg/jp"

	"osprey/core/store"
)

// This file implements the choice of a way to read a resource.

type set struct {
	Set
	forms   []*form
	writers map[string]*writer
}

// A form is a checked [ReadForm].
type form struct {
	template *template
	needs    []string // variables without which there is no address
	takes    []string // all variables
	many     string
	maxKeys  int
	pick     jp.Expr // nil for the whole answer
	tests    []test
	pages    *pages // nil if an answer is whole

	sort, limit, offset string
	sortKeys            map[string]string
}

// A test is a variable that makes a comparison.
type test struct {
	variable, path string
	op             store.Op
}

// operators are the comparisons that a variable can make.
var operators = map[string]store.Op{
	"is": store.Is, "above": store.Above, "atLeast": store.AtLeast, "below": store.Below, "atMost": store.AtMost,
	"contains": store.Contains, "startsWith": store.StartsWith, "endsWith": store.EndsWith,
}

// newSet returns a resource, or all that is wrong with its reads and writes.
func newSet(c Set, jsonAPI bool) (*set, error) {
	s := &set{Set: c}
	var wrong []error
	for i := range c.Reads {
		f, err := newForm(&c.Reads[i], jsonAPI)
		if err != nil {
			wrong = append(wrong, fmt.Errorf("set %s: %w", c.Name, err))
			continue
		}
		s.forms = append(s.forms, f)
	}
	var err error
	if s.writers, err = newWriters(&c, jsonAPI); err != nil {
		wrong = append(wrong, fmt.Errorf("set %s: %w", c.Name, err))
	}
	return s, errors.Join(wrong...)
}

func newForm(r *ReadForm, jsonAPI bool) (*form, error) {
	template, err := newTemplate(r.Get)
	if err != nil {
		return nil, fmt.Errorf("%q is not a URI template (RFC 6570): %w", r.Get, err)
	}
	f := &form{template: template, takes: template.variables(false), needs: template.variables(true), many: r.Many, maxKeys: r.MaxKeys,
		sort: r.Sort, limit: r.Limit, offset: r.Offset, sortKeys: r.SortKeys}
	if f.maxKeys <= 0 {
		f.maxKeys = defaultMaxKeys
	}
	if r.Many != "" && !slices.Contains(f.takes, r.Many) {
		return nil, fmt.Errorf("%q has no variable %q to take many values", r.Get, r.Many)
	}
	if r.Pick != "" {
		if f.pick, err = jsonPath(r.Pick); err != nil {
			return nil, err
		}
	}
	if err := f.finish(r, jsonAPI); err != nil {
		return nil, fmt.Errorf("%q: %w", r.Get, err)
	}
	return f, nil
}

// jsonPath reads a JSONPath. What the library says of one that is none, speaks of its
// own parser.
func jsonPath(text string) (jp.Expr, error) {
	path, err := jp.ParseString(text)
	if err != nil {
		return nil, fmt.Errorf("%q is not a JSONPath (RFC 9535) such as $.results[*]", text)
	}
	return path, nil
}

// defaultMaxKeys is how many keys go into one request: addresses of more than
// some thousand bytes are refused by many servers.
const defaultMaxKeys = 100

// finish checks and adds what a form says beyond its template.
func (f *form) finish(r *ReadForm, jsonAPI bool) error {
	for _, name := range []string{r.Sort, r.Limit, r.Offset} {
		if name != "" && !slices.Contains(f.takes, name) {
			return fmt.Errorf("the template has no variable %q", name)
		}
	}
	for variable, words := range r.Takes {
		path, op, _ := strings.Cut(words, " ")
		known, ok := operators[strings.TrimSpace(op)]
		if !ok || !slices.Contains(f.takes, variable) {
			return fmt.Errorf("takes: %s: %q is not a variable of the template with a field and one of is, above, atLeast, below, atMost, contains, startsWith, endsWith", variable, words)
		}
		f.tests = append(f.tests, test{variable, path, known})
	}
	if jsonAPI && r.Pages == nil {
		r.Pages = &Pages{Next: "$.links.next"}
	}
	if r.Pages != nil {
		var err error
		if f.pages, err = newPages(r.Pages, f.takes); err != nil {
			return err
		}
	}
	return nil
}

// taker returns the variable by which the service is asked a predicate, or "".
func (f *form) taker(c *store.Predicate) string {
	for _, t := range f.tests {
		if t.path == c.Path && t.op == c.Op && !c.Many {
			return t.variable
		}
	}
	if c.Op == store.Is && slices.Contains(f.takes, c.Path) && !slices.ContainsFunc(f.tests, func(t test) bool { return t.variable == c.Path }) {
		return c.Path
	}
	return ""
}

// needsOf flattens the predicates that must all hold.
func needsOf(where []store.Predicate) []*store.Predicate {
	var list []*store.Predicate
	for i := range where {
		if where[i].Op == store.All {
			list = append(list, needsOf(where[i].Of)...)
		} else {
			list = append(list, &where[i])
		}
	}
	return list
}

// choose returns the best way to read by keys under predicates: one that takes
// many keys before one that takes one, and one that takes more of the
// predicates before one that takes fewer.
func (s *set) choose(keys []string, where []store.Predicate) (*form, error) {
	needed := needsOf(where)
	var best *form
	score := -1
	for _, f := range s.forms {
		given := slices.Clone(keys)
		n := 0
		for _, c := range needed {
			if variable := f.taker(c); variable != "" {
				given = append(given, variable)
				n++
			}
		}
		given = append(given, f.sort, f.limit, f.offset)
		if f.pages != nil {
			given = append(given, f.pages.Number, f.pages.Cursor)
		}
		if slices.ContainsFunc(f.needs, func(n string) bool { return !slices.Contains(given, n) }) ||
			slices.ContainsFunc(keys, func(k string) bool { return !slices.Contains(f.takes, k) }) {
			continue
		}
		if len(keys) == 1 && f.many == keys[0] {
			n += 1000
		}
		if n > score {
			best, score = f, n
		}
	}
	if best == nil {
		var can []string
		for _, f := range s.forms {
			can = append(can, f.template.shown())
		}
		if len(can) == 0 {
			return nil, fmt.Errorf("the set %s has no reads: its records come with others alone", s.Name)
		}
		if len(keys) == 0 {
			return nil, fmt.Errorf("the set %s cannot be read as a whole; its reads are %s", s.Name, strings.Join(can, " and "))
		}
		return nil, fmt.Errorf("no read of the set %s takes %s; its reads are %s", s.Name, strings.Join(keys, ", "), strings.Join(can, " and "))
	}
	return best, nil
}

// canRead reports how a resource can be read by fields.
func (s *Source) canRead(name string, keys, where []string) (many bool, err error) {
	set := s.sets[name]
	if set == nil {
		return false, fmt.Errorf("there is no set %s", name)
	}
	predicates := make([]store.Predicate, len(where))
	for i, path := range where {
		predicates[i].Path = path
	}
	f, err := set.choose(keys, predicates)
	if err != nil {
		return false, err
	}
	return len(keys) == 0 || len(keys) == 1 && f.many == keys[0], nil
}
