package plan

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/schema"
)

// A Shape is the variables that a plan depends on: by their value, or only by
// whether they are absent, null or given.
type Shape struct {
	values    []string
	presences []string
}

// Key returns what the shape sees of the variables. A plan can be used again
// for every run in which the key of its shape is the same.
func (s *Shape) Key(vars map[string]schema.Value) string {
	if len(s.values)+len(s.presences) == 0 {
		return ""
	}
	var b strings.Builder
	for _, name := range s.values {
		v, ok := vars[name]
		fmt.Fprintf(&b, "%s=%t:%#v;", name, ok, v)
	}
	for _, name := range s.presences {
		// Absent, a default may stand for it; null, none does.
		v, ok := vars[name]
		fmt.Fprintf(&b, "%s:%t,%t;", name, ok, v != nil)
	}
	return b.String()
}

func (s *Shape) byValue(name string) {
	if !slices.Contains(s.values, name) {
		s.values = append(s.values, name)
	}
}

func (s *Shape) byPresence(name string) {
	if !slices.Contains(s.presences, name) {
		s.presences = append(s.presences, name)
	}
}
