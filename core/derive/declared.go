package derive

import (
	"strings"

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
}

// A DeclaredField is a field of an object.
type DeclaredField struct {
	Name   string
	Always bool // every object has it
	Value  *Declared
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
	if len(t.Fields) == 0 { // nothing of it can be told
		d.declared[s] = "JSON"
		d.made.Types = d.made.Types[:len(d.made.Types)-1]
		delete(d.taken, t.Name)
	}
	return d.declared[s]
}
