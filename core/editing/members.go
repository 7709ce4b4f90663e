package editing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/store"
	"osprey/core/words"
)

// This file offers what a definition can have more: what its interfaces promise, and what the store
// has that no field is for yet.

// members returns what can be added to a definition: the fields that an interface promises,
// and a field for each stored field that none is for.
func (s *Site) members(v *sight) (list []Completion) {
	t := s.types[v.name]
	if t == nil {
		return nil
	}
	switch v.keyword {
	case "enum":
		at := s.spelling(v.name)
		taken := map[string]bool{}
		for _, value := range t.values {
			taken[cmp.Or(text(named(value.Directives, "at"), "path"), value.Name.Text)] = true
		}
		for _, value := range at.in.values(at.column) {
			name := words.Constant(words.Of(value))
			if name == "" || taken[value] {
				continue
			}
			c := is(name, "value", value, "")
			if !strings.EqualFold(name, value) {
				c.Insert = fmt.Sprintf("%s @at(path: %q)", name, value)
			}
			list = append(list, c)
		}
		return list
	case "type", "interface":
	default:
		return nil
	}
	offered := map[string]bool{}
	for _, i := range t.interfaces {
		other := s.types[i]
		if other == nil {
			continue
		}
		for _, name := range other.order {
			if t.fields[name] == nil && !offered[name] {
				offered[name] = true
				f := other.fields[name]
				c := is(name, "field", typeText(f.Type)+", of "+i, about(f.Description))
				c.Insert = name + argumentsText(f) + ": " + typeText(f.Type)
				list = append(list, c)
			}
		}
	}
	p := s.place(v.name)
	names, fields := p.inner()
	taken := map[string]bool{}
	for name := range t.fields {
		if p.source != nil {
			taken[s.column(p, v.name, name)] = true
		}
	}
	for _, stored := range names {
		if taken[stored] || strings.Contains(stored, ".") {
			continue
		}
		list = append(list, s.leading(t, p, stored, fields[stored])...)
		name := words.Camel(words.Of(stored))
		if name == "" || t.fields[name] != nil || offered[name] {
			continue
		}
		typ := s.typeFor(p, stored, fields[stored])
		c := is(name, "field", typ+", of "+stored+" "+columnType(fields[stored]), fields[stored].About)
		c.Insert = name + ": " + typ
		if p.source.Naming.Apply(name) != stored {
			c.Insert += fmt.Sprintf(" @at(path: %q)", stored)
		}
		list = append(list, c)
	}
	return list
}

// leading returns the relationships that a foreign key leads to, if there is a type there.
func (s *Site) leading(t *typ, p place, stored string, f *store.Field) (list []Completion) {
	for _, c := range p.info().Constraints {
		if !c.Foreign() || !slices.Equal(c.Fields, []string{p.prefix + stored}) {
			continue
		}
		for _, other := range s.names() {
			d, of := s.stored(other)
			if d == nil || of != other || s.place(other).source != p.source || s.place(other).set != c.Set {
				continue
			}
			parts := words.Of(stored)
			if n := len(words.Of(c.There[0])); len(parts) > n && strings.EqualFold(strings.Join(parts[len(parts)-n:], "_"), strings.Join(words.Of(c.There[0]), "_")) {
				parts = parts[:len(parts)-n]
			}
			name := words.Camel(parts)
			if name == "" || t.fields[name] != nil {
				continue
			}
			typ := other
			if !f.Nullable {
				typ += "!"
			}
			one := is(name, "field", typ+", by the foreign key "+stored, s.types[other].about)
			one.Insert = fmt.Sprintf("%s: %s @related(here: %q)", name, typ, stored)
			list = append(list, one)
		}
	}
	return list
}

// typeFor returns the type of a stored field: as another type has it that is stored there, or
// the natural one.
func (s *Site) typeFor(p place, stored string, f *store.Field) string {
	for _, owner := range s.names() {
		t := s.types[owner]
		if d, _ := s.stored(owner); d == nil {
			continue
		}
		other := s.place(owner)
		if other.source != p.source || other.set != p.set || p.prefix != "" {
			continue
		}
		for _, name := range t.order {
			if m := t.fields[name]; s.isLeaf(typeOf(m.Type)) && !made(m) && s.column(other, owner, name) == stored {
				return typeText(m.Type)
			}
		}
	}
	if info := p.info(); len(info.Keys) > 0 && slices.Equal(info.Keys[0], []string{p.prefix + stored}) && !f.Nullable {
		return "ID!"
	}
	return natural(f)
}

// natural returns the type by which a stored field is answered without a word on it.
func natural(f *store.Field) string {
	kind := f.Kind
	if kind == store.List {
		kind = f.Elem
	}
	typ := cmp.Or(scalar.Holding(kind, f), "JSON")
	if f.Kind == store.List {
		typ = "[" + typ + "!]"
	}
	if !f.Nullable {
		typ += "!"
	}
	return typ
}

func argumentsText(f *field) string {
	var parts []string
	for _, a := range f.Arguments {
		part := a.Name.Text + ": " + typeText(a.Type)
		if a.Default != nil {
			part += " = " + language.PrintValue(a.Default)
		}
		parts = append(parts, part)
	}
	if parts == nil {
		return ""
	}
	return "(" + strings.Join(parts, ", ") + ")"
}
