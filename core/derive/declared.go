package derive

import (
	"maps"
	"strings"

	"osprey/core/binding"
	"osprey/core/store"
	"osprey/core/words"
)

// This file makes types of values of which somebody else says what they are, as a JSON Schema does.

// A Declared is what values are said to be: a scalar, one of some texts, a list, an object, or, with
// none of these, anything.
type Declared struct {
	Name, About string
	Null        bool   // it may be null
	Scalar      string // as the schema language calls it
	Enum        []string
	Items       *Declared
	Fields      []DeclaredField // may lead back to it
	At          string          // where it is said: an address and a pointer
}

// A DeclaredField is a field of an object.
type DeclaredField struct {
	Name   string
	Always bool // every object has it
	Value  *Declared
	At     string
}

// A Root is what values are said to be, with the name that their type is to have.
type Root struct {
	Name  string
	Value *Declared
}

// Described makes types of values, and of what is nested in them: they stand on their own, and say
// where each field is stored. taken are names that there are already. Places tells where each type,
// field and enum is said to be, by its coordinate.
func Described(roots []Root, taken map[string]bool) (made *Derived, places map[string]string) {
	d := &deriver{Options: Options{Naming: asStored}, made: &Derived{}, taken: maps.Clone(taken), declared: map[*Declared]string{}, places: map[string]string{}}
	for _, r := range roots {
		d.taken[r.Name] = true
	}
	for i := range roots {
		r := &roots[i]
		if d.declared[r.Value] != "" { // described under another name, too
			same := *r.Value
			r.Value = &same
		}
		d.declared[r.Value] = r.Name
	}
	for _, r := range roots {
		set := &store.Set{Name: r.Name}
		if r.Value.Enum != nil {
			d.enumOf("declared as "+r.Name, r.Name, r.Value.Enum)
			d.places[r.Name] = r.Value.At
			continue
		}
		t := &Type{Name: r.Name, About: r.Value.About}
		d.made.Types = append(d.made.Types, t)
		d.places[t.Name] = r.Value.At
		d.declaredFields(t, r.Value, set, "")
		d.names(t)
		d.placed(t, r.Value)
	}
	return d.made, d.places
}

// asStored has every field say where it is stored, whatever the names of a store are made of.
const asStored = binding.Naming("as stored")

// placed notes where the fields of a type are said to be.
func (d *deriver) placed(t *Type, s *Declared) {
	if d.places == nil {
		return
	}
	for _, f := range t.Fields {
		for _, from := range s.Fields {
			if f.of == "at "+from.Name {
				d.places[t.Name+"."+f.Name] = from.At
			}
		}
	}
}

// declaredFields adds the fields of records to a type, but for those that it has.
func (d *deriver) declaredFields(t *Type, s *Declared, set *store.Set, path string) {
	for _, f := range s.Fields {
		inner := strings.TrimPrefix(path+"."+f.Name, ".")
		if f.Name == "" || strings.Contains(f.Name, ".") || has(t, f.Name) {
			continue
		}
		if isSecret(f.Name) {
			t.Notes = append(t.Notes, "Left out, since it looks secret: "+f.Name)
			d.made.Left = append(d.made.Left, set.Name+"."+inner+": it looks secret")
			continue
		}
		typ, about := d.declaredType(f.Value, set, inner, f.Name), f.Value.About
		if len(f.Value.Fields) > 0 { // its type has it
			about = ""
		}
		t.Fields = append(t.Fields, &Field{Name: fieldName(f.Name), About: about, Type: required(typ, f.Always && !f.Value.Null), of: "at " + f.Name})
	}
}

// has reports whether a type has a field that is stored at a path.
func has(t *Type, path string) bool {
	for _, f := range t.Fields {
		if f.of == "at "+path {
			return true
		}
	}
	return false
}

// declaredType returns the type of values: of objects, and of some texts, one that is made for
// them, once.
func (d *deriver) declaredType(s *Declared, set *store.Set, path, name string) string {
	if made := d.declared[s]; made != "" {
		return made
	}
	switch {
	case s.Enum != nil:
		own := start(words.Pascal(words.Of(name)), "Value")
		e := d.enumOf("declared at "+set.Name+"."+path, d.free(d.Before.typeAt(set.Name, path), own, own+"Value"), s.Enum)
		d.declared[s] = e.Name
		if d.places != nil {
			d.places[e.Name] = s.At
		}
		return e.Name
	case s.Scalar != "":
		return s.Scalar
	case s.Items != nil:
		d.declared[s] = "JSON" // of a list whose items are such lists
		defer delete(d.declared, s)
		list := words.Of(name)
		if n := len(list); n > 0 {
			list[n-1] = words.Singular(list[n-1])
		}
		inner := d.declaredType(s.Items, set, path, words.Camel(list))
		if inner == "JSON" || strings.HasPrefix(inner, "[") {
			return "JSON"
		}
		return "[" + required(inner, !s.Items.Null) + "]"
	case len(s.Fields) == 0:
		return "JSON"
	}
	own := start(words.Pascal(words.Of(name)), "Part")
	if s.Name != "" {
		own = start(words.Pascal(words.Of(s.Name)), "Part")
	}
	t := &Type{Name: d.free(d.Before.typeAt(set.Name, path), own, own+"Part"), About: s.About}
	d.declared[s] = t.Name
	d.made.Types = append(d.made.Types, t)
	d.declaredFields(t, s, set, path)
	d.names(t)
	if d.placed(t, s); d.places != nil {
		d.places[t.Name] = s.At
	}
	if len(t.Fields) == 0 { // nothing of it can be told
		d.declared[s] = "JSON"
		d.made.Types = d.made.Types[:len(d.made.Types)-1]
		delete(d.taken, t.Name)
	}
	return d.declared[s]
}
