package assist

import (
	"maps"
	"slices"

	"osprey/core/schema"
)

// completions returns what can be written where the walk is.
func (w *walk) completions() []Completion {
	f := w.top()
	switch w.state {
	case directiveName:
		return w.directives()
	case variableName:
		if f != nil && f.vars {
			return nil // a new name
		}
		return w.variableNames("")
	case variableType:
		return w.types(func(t schema.Named) bool { return schema.IsInput(t) })
	case condition:
		var around schema.Composite
		if f != nil {
			around = f.on
		}
		return w.types(func(t schema.Named) bool {
			_, ok := t.(schema.Composite)
			return ok && (around == nil || w.schema.Overlap(t, around))
		})
	case spread:
		return w.spreads(f)
	case value:
		return w.values(f)
	}
	switch {
	case f == nil:
		if w.state != start {
			return nil
		}
		return keywords
	case f.on != nil:
		return w.fields(f.on)
	}
	return w.argumentNames(f)
}

var keywords = []Completion{
	{Label: "query", Kind: "keyword"}, {Label: "mutation", Kind: "keyword"}, {Label: "subscription", Kind: "keyword"}, {Label: "fragment", Kind: "keyword"},
}

func (w *walk) fields(on schema.Composite) []Completion {
	var list []Completion
	add := func(f *schema.Field) {
		list = append(list, Completion{f.Name, "field", f.Type.String(), f.Description})
	}
	for _, f := range schema.FieldsOf(on) {
		add(f)
	}
	add(w.schema.TypeName(on))
	if o, ok := on.(*schema.Object); ok && o == w.schema.Query {
		add(w.schema.Meta("__schema"))
		add(w.schema.Meta("__type"))
	}
	return list
}

func (w *walk) argumentNames(f *frame) []Completion {
	if w.state == afterName && f.typ != nil && len(f.given) == 0 {
		return nil
	}
	var list []Completion
	for _, in := range f.args {
		if !f.given[in.Name] {
			list = append(list, Completion{in.Name, "argument", in.Type.String(), in.Description})
		}
	}
	return list
}

// values returns the values of an enum or Boolean, and fitting variables.
func (w *walk) values(f *frame) []Completion {
	if f == nil || f.typ == nil {
		return nil
	}
	var list []Completion
	switch t := schema.NamedOf(f.typ).(type) {
	case *schema.Enum:
		for _, v := range t.Values {
			list = append(list, Completion{v.Name, "value", t.Name, v.Description})
		}
	case *schema.Scalar:
		if t.Name == "Boolean" {
			list = append(list, Completion{Label: "true", Kind: "value", Detail: t.Name}, Completion{Label: "false", Kind: "value", Detail: t.Name})
		}
	}
	return append(list, w.variableNames("$")...)
}

func (w *walk) variableNames(prefix string) []Completion {
	var list []Completion
	for _, name := range slices.Sorted(maps.Keys(w.variables)) {
		list = append(list, Completion{Label: prefix + name, Kind: "variable", Detail: w.variables[name].typ})
	}
	return list
}

// spreads returns what can follow "...": "on", and the fragments that can
// apply.
func (w *walk) spreads(f *frame) []Completion {
	list := []Completion{{Label: "on", Kind: "keyword"}}
	for _, name := range slices.Sorted(maps.Keys(w.fragments)) {
		d := w.fragments[name]
		t, ok := w.schema.Type(d.on).(schema.Composite)
		if ok && (f == nil || f.on == nil || w.schema.Overlap(t, f.on)) {
			list = append(list, Completion{Label: name, Kind: "fragment", Detail: "on " + d.on})
		}
	}
	return list
}

func (w *walk) directives() []Completion {
	var list []Completion
	for _, d := range w.schema.DirectiveList() {
		if slices.Contains(d.Locations, w.location) {
			list = append(list, Completion{Label: d.Name, Kind: "directive", Text: d.Description})
		}
	}
	return list
}

func (w *walk) types(keep func(schema.Named) bool) []Completion {
	var list []Completion
	for _, t := range w.schema.Types() {
		if keep(t) {
			list = append(list, Completion{t.String(), "type", schema.KindOf(t), t.About().Description})
		}
	}
	return list
}
