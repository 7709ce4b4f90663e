package conform

import (
	"fmt"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// Least returns how many requests each source needs for an operation at least, told
// from the operation and the bindings alone: a request for each level at which the
// source is needed, where a record's level is that of what leads to it, or one more.
// What is listed here needs requests of its own:
//
//	of documents    a find for each collection; for each list of the root type with
//	                bounds of its own; for each count of the root type
//	of services     a request for each resource, each field by which it is read, and
//	and files       each filter
//	of functions    a call for each function
func Least(bound *binding.Bound, op *language.Operation) map[string]int {
	l := &least{bound: bound, asked: map[string]map[string]bool{}}
	l.root(bound.Schema.Root(op.Kind), op.Selections)
	n := map[string]int{}
	for source, keys := range l.asked {
		n[source] = len(keys)
	}
	return n
}

type least struct {
	bound *binding.Bound
	asked map[string]map[string]bool // by source: what tells its requests apart
}

// A spot is the records that a selection is about.
type spot struct {
	source *binding.Source
	set    string
	level  int
	found  []string // the fields by which they were found; nil if nothing is known by them
	folded bool     // they are part of the request for what leads to them
	nested bool
}

func (l *least) ask(source, key string) {
	if l.asked[source] == nil {
		l.asked[source] = map[string]bool{}
	}
	l.asked[source][key] = true
}

// root walks a selection of a root type and returns the last level that it needs.
func (l *least) root(t *schema.Object, set *language.SelectionSet) int {
	last := 0
	for _, f := range l.fields(t, set) {
		if bound := l.bound.Root(t.Field(f.Name.Text)); bound != nil {
			last = max(last, l.field(nil, f, bound, nil))
		}
	}
	return last
}

// fields returns the fields of a selection that are asked of an object type.
func (l *least) fields(t *schema.Object, set *language.SelectionSet) []*language.Field {
	var list []*language.Field
	if set == nil {
		return nil
	}
	for _, s := range set.List {
		switch s := s.(type) {
		case *language.Field:
			list = append(list, s)
		case *language.InlineFragment:
			if s.On.Text == "" || l.bound.Schema.IsPossible(l.bound.Schema.Type(s.On.Text), t) {
				list = append(list, l.fields(t, s.Selections)...)
			}
		}
	}
	return list
}

// field walks a field of records, or of the root if at is nil, and returns the last
// level that it needs.
func (l *least) field(at *spot, f *language.Field, bound *binding.Field, object *binding.Object) int {
	level := 0
	if at != nil {
		level = at.level
	}
	switch bound.How {
	case binding.Column:
		return level
	case binding.Nested:
		inner := *at
		inner.nested = true
		return max(level, l.objects(&inner, f.Selections, bound.Nested.Objects))
	case binding.Computed, binding.Called:
		if bound.Needs != nil && object != nil {
			level = max(level, l.object(at, bound.Needs, object))
		}
		if bound.How == binding.Called {
			level++
			l.ask(bound.Source.Name, fmt.Sprint(level, bound.Function))
		}
		return level
	}
	last := level
	for _, part := range bound.Each() {
		if bound.By != nil && !l.wants(f.Selections, part) {
			continue // the type is told beside the reference
		}
		last = max(last, l.read(at, f, part, bound))
	}
	return last
}

// wants reports whether anything but the type's name is selected of a part's records.
func (l *least) wants(set *language.SelectionSet, part *binding.Field) bool {
	for _, o := range l.bound.Schema.Possible(part.Target.Type) {
		for _, f := range l.fields(o, set) {
			if f.Name.Text != "__typename" {
				return true
			}
		}
	}
	return false
}

func (l *least) read(at *spot, f *language.Field, part, whole *binding.Field) int {
	source := part.Target.Source
	to := &spot{source: source, set: part.Target.Set, level: 1, found: part.There}
	switch {
	case at == nil || part.ListThere: // one of several keys does not tell the others
		to.found = nil
	}
	switch {
	case at == nil:
	case !at.nested && at.source == source && source.Folds(at.set, part):
		to.level, to.folded = at.level, true
	case whole.By == nil && !at.nested && !at.folded && !part.ListHere && subset(part.Here, at.found):
		to.level = at.level
	default:
		to.level = at.level + 1
	}
	filter, bounds := arguments(f)
	switch can := source.Capabilities; {
	case to.folded:
	case can.Group == store.BySource:
		l.ask(source.Name, fmt.Sprint(to.level))
	case can.Group == store.BySet && at == nil && l.counts(f, part):
		l.ask(source.Name, fmt.Sprint(to.level, to.set, "count", filter))
		if part.Page == nil || l.onlyTotals(f) {
			return to.level
		}
		fallthrough
	case can.Group == store.BySet && at == nil && bounds != "":
		l.ask(source.Name, fmt.Sprint(to.level, to.set, filter, bounds, f.Alias.Text))
	case can.Group == store.BySet:
		l.ask(source.Name, fmt.Sprint(to.level, to.set))
	default:
		l.ask(source.Name, fmt.Sprint(to.level, to.set, part.There, filter))
	}
	if part.Aggregate != nil {
		return to.level
	}
	set := f.Selections
	if part.Page != nil {
		set = nodes(set)
	}
	return max(to.level, l.objectsOf(to, set, part))
}

func subset(a, b []string) bool {
	for _, x := range a {
		found := false
		for _, y := range b {
			found = found || x == y
		}
		if !found {
			return false
		}
	}
	return len(b) > 0
}

// counts reports whether a field counts records, which a document server does by
// itself.
func (l *least) counts(f *language.Field, part *binding.Field) bool {
	if part.Aggregate != nil {
		return part.Aggregate.Of == store.Count
	}
	return part.Page != nil && has(f.Selections, "totalCount")
}

func (l *least) onlyTotals(f *language.Field) bool {
	return !has(f.Selections, "edges") && !has(f.Selections, "pageInfo")
}

func has(set *language.SelectionSet, name string) bool {
	for _, s := range set.List {
		if f, ok := s.(*language.Field); ok && f.Name.Text == name {
			return true
		}
	}
	return false
}

// nodes returns what is selected of the records of a page.
func nodes(set *language.SelectionSet) *language.SelectionSet {
	for _, s := range set.List {
		if f, ok := s.(*language.Field); ok && (f.Name.Text == "edges" || f.Name.Text == "node") {
			if f.Name.Text == "node" {
				return f.Selections
			}
			return nodes(f.Selections)
		}
	}
	return nil
}

// arguments returns a field's arguments that say which records it wants, and those
// that bound a list of them.
func arguments(f *language.Field) (filter, bounds string) {
	for _, a := range f.Arguments {
		text := a.Name.Text + ": " + language.PrintValue(a.Value) + " "
		switch a.Name.Text {
		case "limit", "offset", "first", "last", "after", "before":
			bounds += text
		case "sort":
		default:
			filter += text
		}
	}
	if bounds != "" {
		for _, a := range f.Arguments {
			if a.Name.Text == "sort" {
				bounds += language.PrintValue(a.Value)
			}
		}
	}
	return strings.TrimSpace(filter), bounds
}

func (l *least) objectsOf(at *spot, set *language.SelectionSet, part *binding.Field) int {
	last := at.level
	for _, o := range l.bound.Schema.Possible(part.Target.Type) {
		if object := part.Target.Object(o); object != nil {
			last = max(last, l.object(at, set, object))
		}
	}
	return last
}

func (l *least) objects(at *spot, set *language.SelectionSet, objects []*binding.Object) int {
	last := at.level
	for _, object := range objects {
		last = max(last, l.object(at, set, object))
	}
	return last
}

func (l *least) object(at *spot, set *language.SelectionSet, object *binding.Object) int {
	last := at.level
	for _, f := range l.fields(object.Type, set) {
		if bound := object.Fields[f.Name.Text]; bound != nil {
			last = max(last, l.field(at, f, bound, object))
		}
	}
	return last
}
