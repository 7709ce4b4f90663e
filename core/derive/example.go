package derive

import (
	"slices"
	"strings"

	"osprey/core/words"
)

// Example writes a first operation over what was derived: a few records of the type that leads to
// the most others, with some of these. Root are the fields of the query type; it is "" if none
// reads such records.
func (d *Derived) Example(root []string) string {
	var best *Type
	for _, t := range d.Types {
		if t.Set != "" && slices.Contains(root, words.Plural(words.Lower(t.Name))) && (best == nil || len(d.related(t)) > len(d.related(best))) {
			best = t
		}
	}
	if best == nil {
		return ""
	}
	var b strings.Builder
	field := words.Plural(words.Lower(best.Name))
	b.WriteString("query " + strings.ToUpper(field[:1]) + field[1:] + " {\n  " + field + "(limit: 3) {\n    " + strings.Join(d.leaves(best, 4), " ") + "\n")
	for i, f := range d.related(best) {
		if i == 3 {
			break
		}
		b.WriteString("    " + f.Name + " { " + strings.Join(d.leaves(d.named(f), 3), " ") + " }\n")
	}
	b.WriteString("  }\n}\n")
	return b.String()
}

// named returns the type of a field; nil if it is none of those.
func (d *Derived) named(f *Field) *Type {
	name := strings.Trim(f.Type, "[]!")
	for _, t := range d.Types {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// related returns the fields of a type that are other types with values of their own.
func (d *Derived) related(t *Type) []*Field {
	var list []*Field
	for _, f := range t.Fields {
		if other := d.named(f); other != nil && len(d.leaves(other, 1)) > 0 {
			list = append(list, f)
		}
	}
	return list
}

// leaves returns the names of the first fields of a type that are values.
func (d *Derived) leaves(t *Type, most int) []string {
	var list []string
	for _, f := range t.Fields {
		if d.named(f) == nil && !strings.HasPrefix(f.Directive, "@related") && len(list) < most {
			list = append(list, f.Name)
		}
	}
	return list
}
