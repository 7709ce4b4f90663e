package binding

import (
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
)

// This file warns of required fields whose value comes from another store than
// the record that they are of. When that store does not answer, null cuts back to
// the nearest place where it may stand, and takes with it what was answered:
//
//	portCalls: [PortCall!]!                    registry
//	  inspections: [Inspection!]!              inspections, which is down
//	→ neither the calls nor anything beside them is in the answer

// crossings looks at the fields of all records, and at those of the query type.
func (b *binder) crossings() {
	told := map[*schema.Field]bool{}
	for _, t := range b.bound.Schema.Types() {
		if r := b.bound.records[t]; r != nil && r.Type == t {
			for _, object := range r.objects {
				b.crossing(object, r.Source, r, told)
			}
		}
	}
	for at, object := range b.nested {
		b.crossing(object, at.source, at.records, told)
	}
	if b.bound.Schema.Query == nil {
		return
	}
	all := map[string]bool{}
	fields := slices.Clone(b.bound.Schema.Query.Fields)
	for _, t := range b.bound.Schema.Types() {
		if o, ok := t.(*schema.Object); ok && b.groups[o] {
			fields = append(fields, o.Fields...)
		}
	}
	for _, def := range fields {
		for _, name := range b.sourcesOf(b.bound.roots[def], nil, 0) {
			all[name] = true
		}
	}
	if len(all) < 2 {
		return // without the one store there is no answer anyway
	}
	for _, def := range fields {
		if sources := b.sourcesOf(b.bound.roots[def], nil, 0); schema.IsNonNull(def.Type) && len(sources) > 0 {
			b.crosses(def, msgRequiredOfMany, def.Coordinate(), language.OneOf(sources))
		}
	}
}

// crossing looks at the fields of an object of a source that were not told yet.
func (b *binder) crossing(object *Object, source *Source, of *Records, told map[*schema.Field]bool) {
	for _, def := range object.Type.Fields {
		f, own := object.Fields[def.Name], definedIn(def)
		if f == nil || !schema.IsNonNull(def.Type) || told[own] {
			continue
		}
		told[own] = true
		if others := without(b.sourcesOf(f, of, 0), source.Name); len(others) > 0 {
			b.crosses(own, msgRequiredElsewhere, own.Coordinate(), language.OneOf(others), own.Owner)
		}
	}
}

func (b *binder) crosses(f *schema.Field, format string, args ...any) {
	b.warn(ruleCrossing, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), format, args...)
}

// definedIn returns the field of the interface from which a field has its binding,
// or the field itself.
func definedIn(f *schema.Field) *schema.Field {
	for _, d := range []string{"related", "total", "computed"} {
		if slices.ContainsFunc(f.Directives, func(own *language.Directive) bool { return own.Name.Text == d }) {
			return f
		}
	}
	for _, i := range schema.InterfacesOf(f.Owner) {
		if above := i.Field(f.Name); above != nil && len(above.Directives) > 0 {
			return above
		}
	}
	return f
}

// maxLookedAt is how far what a computed field looks at is followed.
const maxLookedAt = 8

// sourcesOf returns the sources that a field's value comes from; of is the records
// that it is of.
func (b *binder) sourcesOf(f *Field, of *Records, depth int) []string {
	if f == nil || depth > maxLookedAt {
		return nil
	}
	var names []string
	add := func(list ...string) {
		for _, name := range list {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	for _, part := range f.Each() {
		if part.Target != nil {
			add(part.Target.Source.Name)
		}
	}
	if f.Source != nil {
		add(f.Source.Name)
	}
	if f.Needs != nil && of != nil {
		add(b.sourcesNeeded(f.Needs, of, depth+1)...)
	}
	return names
}

// sourcesNeeded returns the sources of what a selection on records looks at.
func (b *binder) sourcesNeeded(set *language.SelectionSet, of *Records, depth int) []string {
	var names []string
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.InlineFragment:
			names = append(names, b.sourcesNeeded(sel.Selections, of, depth)...)
		case *language.Field:
			for _, object := range of.objects {
				f := object.Fields[sel.Name.Text]
				if f == nil {
					continue
				}
				names = append(names, b.sourcesOf(f, of, depth)...)
				for _, part := range f.Each() {
					if part.Target != nil && sel.Selections != nil && depth <= maxLookedAt {
						names = append(names, b.sourcesNeeded(sel.Selections, part.Target, depth+1)...)
					}
				}
				break
			}
		}
	}
	return names
}

func without(names []string, one string) []string {
	names = slices.DeleteFunc(names, func(name string) bool { return name == one })
	slices.Sort(names)
	return slices.Compact(names)
}
