package rest

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/ohler55/ojg/jp"
	"github.com/yosida95/uritemplate/v3"
)

// This file implements the choice of a way to read a resource.

type set struct {
	Set
	forms []*form
}

// A form is a checked [ReadForm].
type form struct {
	text     string
	template *uritemplate.Template
	needs    []string // variables without which there is no address
	takes    []string // all variables
	many     string
	pick     jp.Expr // nil for the whole answer
}

// optionalPart matches the expressions of a template that are left out when
// their variables are: queries (RFC 6570, sections 3.2.8 and 3.2.9).
var optionalPart = regexp.MustCompile(`\{[?&][^}]*\}`)

func newSet(c Set) (*set, error) {
	s := &set{Set: c}
	for _, r := range c.Reads {
		template, err := uritemplate.New(r.Get)
		if err != nil {
			return nil, fmt.Errorf("set %s: %q is not a URI template (RFC 6570): %v", c.Name, r.Get, err)
		}
		f := &form{text: r.Get, template: template, takes: template.Varnames(), many: r.Many}
		must, err := uritemplate.New(optionalPart.ReplaceAllString(r.Get, ""))
		if err != nil {
			return nil, fmt.Errorf("set %s: %q is not a URI template (RFC 6570): %v", c.Name, r.Get, err)
		}
		f.needs = must.Varnames()
		if r.Many != "" && !slices.Contains(f.takes, r.Many) {
			return nil, fmt.Errorf("set %s: %q has no variable %q to take many values", c.Name, r.Get, r.Many)
		}
		if r.Pick != "" {
			if f.pick, err = jp.ParseString(r.Pick); err != nil {
				return nil, fmt.Errorf("set %s: %q is not a JSONPath (RFC 9535): %v", c.Name, r.Pick, err)
			}
		}
		s.forms = append(s.forms, f)
	}
	return s, nil
}

// choose returns the best way to read by keys under conditions on the fields
// where: one that takes many keys before one that takes one, and one that
// takes more of the conditions before one that takes fewer.
func (s *set) choose(keys, where []string) (*form, error) {
	var best *form
	score := -1
	for _, f := range s.forms {
		have := func(name string) bool { return slices.Contains(keys, name) || slices.Contains(where, name) }
		if slices.ContainsFunc(f.needs, func(n string) bool { return !have(n) }) ||
			slices.ContainsFunc(keys, func(k string) bool { return !slices.Contains(f.takes, k) }) {
			continue
		}
		n := 0
		for _, w := range where {
			if slices.Contains(f.takes, w) {
				n++
			}
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
			can = append(can, f.text)
		}
		if len(keys) == 0 {
			return nil, fmt.Errorf("the set %s cannot be read as a whole; its reads are %s", s.Name, strings.Join(can, " and "))
		}
		return nil, fmt.Errorf("no read of the set %s takes %s; its reads are %s", s.Name, strings.Join(keys, ", "), strings.Join(can, " and "))
	}
	return best, nil
}

// CanRead reports how a resource can be read by fields.
func (s *Source) CanRead(name string, keys, where []string) (many bool, err error) {
	set := s.sets[name]
	if set == nil {
		return false, fmt.Errorf("there is no set %s", name)
	}
	f, err := set.choose(keys, where)
	if err != nil {
		return false, err
	}
	return len(keys) == 0 || len(keys) == 1 && f.many == keys[0], nil
}
