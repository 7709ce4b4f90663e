package validate

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// This file implements Field Selection Merging, section 5.3.2.
//
// The specification compares every two fields of the same response name. This
// does the same work in a number of steps near the size of the document: a
// group of fields is compared with its first field only, since both relations
// (same shape, same name and arguments) are equivalences; and a combination of
// selection sets that was looked at once is not looked at again.
//
//	{ craft { ... on Ferry { size: cars } ... on Tanker { size: deadweightT } imo imo } }
//
//	group size   cars on Ferry, deadweightT on Tanker   never meet on one object, so
//	                                                    only their shapes are compared
//	group imo    imo, imo                           the second with the first

const ruleMerging = "Field Selection Merging"

// merging checks every operation.
func (c *checker) merging() {
	for _, op := range c.operations {
		if root := c.schema.Root(op.Kind); root != nil {
			c.mergeable(op.Selections, root)
		}
	}
}

// mergeable checks a selection set on a type.
func (c *checker) mergeable(set *language.SelectionSet, on schema.Composite) {
	m := &merger{
		checker: c, ids: map[*language.SelectionSet]uint32{}, shapes: map[string]bool{}, same: map[string]bool{}, told: map[*language.Field]bool{},
	}
	sets := []typedSet{{set, on}}
	m.sameFields(sets)
	m.sameShape(sets)
}

type merger struct {
	*checker
	ids    map[*language.SelectionSet]uint32
	shapes map[string]bool // combinations looked at for shape
	same   map[string]bool // combinations looked at for names and arguments
	told   map[*language.Field]bool
}

// A typedSet is a selection set and the type it is on.
type typedSet struct {
	set *language.SelectionSet
	on  schema.Composite
}

// A use is a field with the type it is selected on.
type use struct {
	field *language.Field
	def   *schema.Field
	on    schema.Composite
}

// seen reports whether the combination of sets was looked at, and notes it.
func (m *merger) seen(memo map[string]bool, sets []typedSet) bool {
	key := make([]byte, 0, len(sets)*4)
	ids := make([]uint32, 0, len(sets))
	for _, s := range sets {
		id, ok := m.ids[s.set]
		if !ok {
			id = uint32(len(m.ids))
			m.ids[s.set] = id
		}
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range slices.Compact(ids) {
		key = binary.LittleEndian.AppendUint32(key, id)
	}
	if memo[string(key)] {
		return true
	}
	memo[string(key)] = true
	return false
}

// groups collects the fields of sets, fragments included, by response name, in
// the order of the text.
func (m *merger) groups(sets []typedSet) [][]use {
	index := map[string]int{}
	var groups [][]use
	visited := map[string]bool{}
	seenSets := map[*language.SelectionSet]bool{}
	var walk func(set *language.SelectionSet, on schema.Composite)
	walk = func(set *language.SelectionSet, on schema.Composite) {
		if seenSets[set] {
			return
		}
		seenSets[set] = true
		for _, sel := range set.List {
			switch sel := sel.(type) {
			case *language.Field:
				m.spend(2)
				name := sel.ResponseName()
				i, ok := index[name]
				if !ok {
					i = len(groups)
					index[name] = i
					groups = append(groups, nil)
				}
				groups[i] = append(groups[i], use{sel, FieldOf(m.schema, on, sel.Name.Text), on})
			case *language.InlineFragment:
				inner := on
				if sel.On.Text != "" {
					inner = m.schema.Type(sel.On.Text).(schema.Composite)
				}
				walk(sel.Selections, inner)
			case *language.FragmentSpread:
				f := m.fragments[sel.Name.Text]
				if !visited[f.Name.Text] {
					visited[f.Name.Text] = true
					walk(f.Selections, m.schema.Type(f.On.Text).(schema.Composite))
				}
			}
		}
	}
	for _, s := range sets {
		walk(s.set, s.on)
	}
	return groups
}

// subsets returns the selection sets of the fields of a group.
func subsets(group []use) []typedSet {
	var sets []typedSet
	for _, u := range group {
		if u.field.Selections != nil {
			sets = append(sets, typedSet{u.field.Selections, schema.NamedOf(u.def.Type).(schema.Composite)})
		}
	}
	return sets
}

// sameShape is SameResponseShape for all fields of sets.
func (m *merger) sameShape(sets []typedSet) {
	if m.seen(m.shapes, sets) {
		return
	}
	for _, group := range m.groups(sets) {
		first := group[0]
		for _, u := range group[1:] {
			if !shapesFit(first.def.Type, u.def.Type) {
				m.conflict(first, u, fmt.Sprintf("%s is of the type %s and %s of the type %s", first.def.Coordinate(), first.def.Type, u.def.Coordinate(), u.def.Type))
			}
		}
		if inner := subsets(group); len(inner) > 0 {
			m.sameShape(inner)
		}
	}
}

func shapesFit(a, b schema.Type) bool {
	if schema.IsNonNull(a) != schema.IsNonNull(b) {
		return false
	}
	a, b = schema.Nullable(a), schema.Nullable(b)
	la, okA := a.(*schema.List)
	lb, okB := b.(*schema.List)
	if okA || okB {
		return okA && okB && shapesFit(la.Elem, lb.Elem)
	}
	if schema.IsLeaf(a.(schema.Named)) || schema.IsLeaf(b.(schema.Named)) {
		return a == b
	}
	return true
}

// sameFields checks that fields that can meet on one object are the same
// field with the same arguments.
func (m *merger) sameFields(sets []typedSet) {
	if m.seen(m.same, sets) {
		return
	}
	for _, group := range m.groups(sets) {
		// Fields on two different object types never meet; one on an abstract
		// type can meet any other.
		var abstract []use
		byObject := map[*schema.Object][]use{}
		var objects []*schema.Object
		for _, u := range group {
			o, ok := u.on.(*schema.Object)
			if !ok {
				abstract = append(abstract, u)
				continue
			}
			if byObject[o] == nil {
				objects = append(objects, o)
			}
			byObject[o] = append(byObject[o], u)
		}
		if len(objects) == 0 {
			m.meet(abstract)
		}
		for _, o := range objects {
			m.meet(slices.Concat(abstract, byObject[o]))
		}
	}
}

func (m *merger) meet(group []use) {
	first := group[0]
	same := group[:1:1]
	arguments := ""
	if len(group) > 1 {
		arguments = m.canonical(first.field.Arguments)
	}
	for _, u := range group[1:] {
		switch {
		case u.field.Name.Text != first.field.Name.Text:
			m.conflict(first, u, fmt.Sprintf("it would stand for both %q and %q", first.field.Name.Text, u.field.Name.Text))
		case m.canonical(u.field.Arguments) != arguments:
			m.conflict(first, u, fmt.Sprintf("%q is asked for with different arguments", u.field.Name.Text))
		default:
			same = append(same, u)
		}
	}
	if inner := subsets(same); len(inner) > 0 {
		m.sameFields(inner)
	}
}

// canonical writes arguments so that they can be compared regardless of their
// order.
func (m *merger) canonical(args []*language.Argument) string {
	text := canonical(args)
	m.spend(len(text) / 32)
	return text
}

// canonical writes arguments, or the fields of an input object, in the order of
// their names.
func canonical(args []*language.Argument) string {
	sorted := slices.SortedFunc(slices.Values(args), func(a, b *language.Argument) int { return cmp.Compare(a.Name.Text, b.Name.Text) })
	var b strings.Builder
	for _, a := range sorted {
		b.WriteString(a.Name.Text + ":" + canonicalValue(a.Value) + ",")
	}
	return b.String()
}

func canonicalValue(v language.Value) string {
	switch v := v.(type) {
	case *language.ObjectValue:
		return "{" + canonical(v.Fields) + "}"
	case *language.ListValue:
		var b strings.Builder
		for _, item := range v.Values {
			b.WriteString(canonicalValue(item) + ",")
		}
		return "[" + b.String() + "]"
	}
	return language.PrintValue(v)
}

// conflict tells of two fields under one response name, once for each field.
func (m *merger) conflict(a, b use, why string) {
	if m.told[b.field] {
		return
	}
	m.told[b.field] = true
	name := b.field.ResponseName()
	p := m.add(ruleMerging, b.field.Start(), msgNameUsedTwoFields, name, why)
	p.Others = []language.Pos{a.field.Start()}
	p.Coordinate = b.def.Coordinate()
	p.Fix = "give one of them an alias, such as other: " + b.field.Name.Text
}
