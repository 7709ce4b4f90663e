package binding

import (
	"slices"

	"osprey/core/schema"
)

// This file tells what of a schema there is for callers with some roles. It depends on nothing else of
// them, so that there are few such views.

// Open reports whether a rule is open to callers with some roles whatever else is asked, and whether it
// may be open to them at all.
func (r *Rule) Open(roles []string) (always, maybe bool) {
	for _, w := range r.Ways {
		if w.Roles == nil || slices.ContainsFunc(w.Roles, func(role string) bool { return slices.Contains(roles, role) }) {
			maybe = true
			always = always || w.When == nil
		}
	}
	return always, maybe
}

// Roles returns the roles that rules name, sorted.
func (b *Bound) Roles() []string {
	var list []string
	for _, r := range b.rules {
		for _, w := range r.Ways {
			list = append(list, w.Roles...)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// View returns the schema as callers with some roles see it.
func (b *Bound) View(roles []string) *schema.Schema {
	hidden := map[string]bool{}
	may := func(r *Rule) bool {
		_, maybe := r.Open(roles)
		return maybe
	}
	for coordinate, r := range b.rules {
		if !may(r) {
			hidden[coordinate] = true
		}
	}
	for o, rules := range b.typeRules {
		if slices.ContainsFunc(rules, func(r *Rule) bool { return !may(r) }) {
			hidden[o.Name] = true
		}
	}
	for f, rules := range b.fieldRules {
		if slices.ContainsFunc(rules, func(r *Rule) bool { return !may(r) }) {
			hidden[f.Coordinate()] = true
		}
	}
	b.hidePages(hidden)
	// A field that may be read of some records only is no way to find others by.
	for coordinate, of := range b.shows {
		closed := func(f *schema.Field) bool {
			return hidden[f.Coordinate()] || hidden[schema.NamedOf(f.Type).String()] || slices.ContainsFunc(b.rulesOf(f), func(r *Rule) bool { always, _ := r.Open(roles); return !always })
		}
		for _, alike := range of {
			if !slices.ContainsFunc(alike, func(f *schema.Field) bool { return !closed(f) }) {
				hidden[coordinate] = true
			}
		}
	}
	if len(hidden) == 0 {
		return b.Schema
	}
	return b.Schema.Without(func(coordinate string) bool { return hidden[coordinate] })
}

// rulesOf returns the rules of a field of any type.
func (b *Bound) rulesOf(f *schema.Field) []*Rule {
	if rules := b.fieldRules[f]; rules != nil {
		return rules
	}
	if r := b.rules[f.Coordinate()]; r != nil {
		return []*Rule{r}
	}
	return nil
}

// hidePages hides the pages of types that are hidden, and all fields of these types.
func (b *Bound) hidePages(hidden map[string]bool) {
	for _, t := range b.Schema.Types() {
		o, ok := t.(*schema.Object)
		if !ok {
			continue
		}
		if edges := o.Field("edges"); edges != nil {
			if edge, ok := schema.NamedOf(edges.Type).(*schema.Object); ok && edge.Field("node") != nil && hidden[schema.NamedOf(edge.Field("node").Type).String()] {
				hidden[o.Name], hidden[edge.Name] = true, true
			}
		}
	}
}

// tellsOf notes that what has a coordinate tells something of the values of a field.
func (b *binder) tellsOf(coordinate string, f *schema.Field) {
	if f != nil {
		b.tellsOfOne(coordinate, []*schema.Field{f})
	}
}

// tellsOfOne notes that what has a coordinate tells something of the values of fields that are stored in one
// place: who may see one of them may see these.
func (b *binder) tellsOfOne(coordinate string, fields []*schema.Field) {
	same := func(known []*schema.Field) bool { return slices.Equal(known, fields) }
	if len(fields) > 0 && !slices.ContainsFunc(b.shows[coordinate], same) {
		b.shows[coordinate] = append(b.shows[coordinate], fields)
	}
}

// tellsOfPath notes that what has a coordinate tells something of the values that a set has at a path.
func (b *binder) tellsOfPath(coordinate string, r *Records, path string) {
	if r == nil {
		return
	}
	var fields []*schema.Field
	for _, o := range b.bound.Schema.Possible(r.Type) {
		if r.objects[o] == nil {
			continue
		}
		for _, f := range o.Fields {
			if directive(f, "related") == nil && directive(f, "computed") == nil && directive(f, "total") == nil && b.pathOf(place{records: r, source: r.Source}, f) == path {
				fields = append(fields, f)
			}
		}
	}
	b.tellsOfOne(coordinate, fields)
}

// hiddenValues returns the stored spellings of an enum's values that a view does not have.
func (b *Bound) HiddenValues(view *schema.Schema, e *Enum) map[string]bool {
	seen, _ := view.Type(e.Type.Name).(*schema.Enum)
	if view == b.Schema || seen == nil {
		return nil
	}
	var list map[string]bool
	for stored, name := range e.Names {
		if seen.Value(name) == nil {
			if list == nil {
				list = map[string]bool{}
			}
			list[stored] = true
		}
	}
	return list
}
