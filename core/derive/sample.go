package derive

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"

	"osprey/core/store"
	"osprey/core/words"
)

// This file makes types of values of JSON, of which some were looked at:
//
//	{"cranes": 2, "thrusters": [{"place": "bow", "kW": 400.5}]}      type Fittings { cranes: Int  thrusters: [Thruster!] }
//	{"cranes": null}                                                 type Thruster { place: String! kW: Float! @at(path: "kW") }

// A shape is what some values are together.
type shape struct {
	seen     int  // values
	null     bool // some are null
	scalar   string
	list     *shape
	fields   map[string]*shape
	order    []string
	mixed    bool
	nonsense bool // there is a name that is no path
}

// add adds a value, as package encoding/json decodes it with numbers.
func (s *shape) add(v any) {
	s.seen++
	scalar := ""
	switch v := v.(type) {
	case nil:
		s.null = true
		return
	case map[string]any:
		if s.fields == nil {
			s.fields = map[string]*shape{}
		}
		names := make([]string, 0, len(v))
		for name := range v {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			if s.fields[name] == nil {
				s.fields[name] = &shape{}
				s.order = append(s.order, name)
				s.nonsense = s.nonsense || name == "" || strings.Contains(name, ".")
			}
			s.fields[name].add(v[name])
		}
	case []any:
		if s.list == nil {
			s.list = &shape{}
		}
		for _, item := range v {
			s.list.add(item)
		}
	case string:
		scalar = "String"
	case bool:
		scalar = "Boolean"
	case json.Number:
		scalar = "Float"
		if n, err := v.Int64(); err == nil && n >= math.MinInt32 && n <= math.MaxInt32 {
			scalar = "Int"
		}
	}
	switch {
	case scalar == "":
	case s.scalar == "" || s.scalar == scalar:
		s.scalar = scalar
	case s.scalar != "String" && s.scalar != "Boolean" && scalar != "String" && scalar != "Boolean":
		s.scalar = "Float"
	default:
		s.mixed = true
	}
	kinds := 0
	for _, is := range []bool{s.scalar != "", s.list != nil, s.fields != nil} {
		if is {
			kinds++
		}
	}
	s.mixed = s.mixed || kinds > 1
}

// maxFields is how many names an object has that is a record: one with more is taken for a map.
const maxFields = 60

// isRecord reports whether values are objects that a type can be made of.
func (s *shape) isRecord() bool {
	return s.fields != nil && !s.mixed && len(s.fields) > 0 && len(s.fields) <= maxFields && !s.nonsense
}

// sampleOf returns the shape of the values of a column that were looked at; nil if none were, or
// they are no records, nor lists of them.
func (d *deriver) sampleOf(set *store.Set, column string) *shape {
	s := &shape{}
	for _, v := range d.Samples[set.Name+"."+column] {
		s.add(v)
	}
	if s.isRecord() || s.list != nil && !s.mixed && s.list.isRecord() {
		return s
	}
	return nil
}

// sampledType returns the type of values of a shape: of records, one that is made for them.
func (d *deriver) sampledType(s *shape, set *store.Set, path, name string) string {
	switch {
	case s.mixed || s.seen == 0 || s.scalar == "" && s.list == nil && s.fields == nil:
		return "JSON"
	case s.scalar != "":
		return s.scalar
	case s.list != nil:
		list := words.Of(name)
		if n := len(list); n > 0 {
			list[n-1] = words.Singular(list[n-1])
		}
		inner := d.sampledType(s.list, set, path, words.Camel(list))
		if inner == "JSON" || strings.HasPrefix(inner, "[") {
			return "JSON"
		}
		return "[" + required(inner, !s.list.null) + "]"
	case !s.isRecord():
		return "JSON"
	}
	own := start(words.Pascal(words.Of(name)), "Part")
	t := &Type{Name: d.free(d.Before.typeAt(set.Name, path), own, own+"Part")}
	t.Notes = append(t.Notes, fmt.Sprintf("Values looked at: %d", s.seen))
	for _, name := range s.order {
		f := s.fields[name]
		if isSecret(name) {
			t.Notes = append(t.Notes, "Left out, since it looks secret: "+name)
			d.made.Left = append(d.made.Left, set.Name+"."+path+"."+name+": it looks secret")
			continue
		}
		typ := d.sampledType(f, set, path+"."+name, name)
		always := f.seen == s.seen && !f.null && typ != "JSON"
		t.Fields = append(t.Fields, &Field{Name: fieldName(name), Type: required(typ, always), of: "at " + name})
	}
	d.names(t)
	d.made.Types = append(d.made.Types, t)
	return t.Name
}
