package plan

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/cursor"
	"osprey/core/expression"
	"osprey/core/schema"
	"osprey/core/store"
)

// Dependencies is the variables that a plan depends on: by their value, by the form
// of their value, or only by whether they are absent, null or given.
type Dependencies struct {
	values    []string
	forms     []string
	presences []string
	parts     []string              // cursors: of which part of a merged list
	guards    []*expression.Program // of the caller
}

// Key returns what a plan depends on of the variables, and of the caller. A plan can be used again
// for every run in which their key is the same.
func (s *Dependencies) Key(vars map[string]schema.Value, who *store.Identity) string {
	if len(s.values)+len(s.forms)+len(s.presences)+len(s.parts)+len(s.guards) == 0 {
		return ""
	}
	var b strings.Builder
	for _, g := range s.guards {
		is, _ := decide(g, who)
		b.WriteByte(byte(is))
	}
	for _, name := range s.values {
		v, ok := vars[name]
		fmt.Fprintf(&b, "%s=%t:%#v;", name, ok, v)
	}
	for _, name := range s.forms {
		v, ok := vars[name]
		fmt.Fprintf(&b, "%s?%t:", name, ok)
		writeForm(&b, v)
	}
	for _, name := range s.presences {
		// Absent, a default may stand for it; null, none does.
		v, ok := vars[name]
		fmt.Fprintf(&b, "%s:%t,%t;", name, ok, v != nil)
	}
	for _, name := range s.parts {
		text, _ := vars[name].(string)
		fmt.Fprintf(&b, "%s#%d;", name, cursor.Part(text))
	}
	return b.String()
}

// writeForm writes what of a value decides the conditions of a filter: which
// fields are given, how long lists of filters are, and what is true, false or
// null; no other value.
func writeForm(b *strings.Builder, v schema.Value) {
	switch v := v.(type) {
	case nil:
		b.WriteString("null;")
	case bool:
		fmt.Fprintf(b, "%t;", v)
	case []schema.Value:
		if len(v) == 0 {
			break
		}
		if _, ok := v[0].(schema.InputFields); !ok {
			break
		}
		b.WriteByte('[')
		for _, item := range v {
			writeForm(b, item)
		}
		b.WriteString("];")
	case schema.InputFields:
		b.WriteByte('{')
		for _, f := range v {
			b.WriteString(f.Name + ":")
			writeForm(b, f.Value)
		}
		b.WriteString("};")
	}
	b.WriteByte(';')
}

func (s *Dependencies) byForm(name string) { note(&s.forms, name) }

func (s *Dependencies) byValue(name string) { note(&s.values, name) }

func (s *Dependencies) byPresence(name string) { note(&s.presences, name) }

func (s *Dependencies) byPart(name string) { note(&s.parts, name) }

// note adds the name to the list, once.
func note(list *[]string, name string) {
	if !slices.Contains(*list, name) {
		*list = append(*list, name)
	}
}
