// Package executetest holds answers against the operations that they answer,
// by the specification alone: it knows nothing of plans and stores.
package executetest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"

	"osprey/core/language"
	"osprey/core/schema"
)

// Fits says in what way data is not an answer to an operation whose document is
// valid, or returns nil: whether it is one JSON text, has the fields that were
// selected and no others, in their order (section 6.3.2), values of their types
// (section 6.4.3), and null only where the types allow it (section 6.4.4).
// Without data there must be errors; and where an error is told, there is null
// (section 7.1.2).
func Fits(s *schema.Schema, doc *language.Document, op *language.Operation, vars map[string]schema.Value, data []byte, errors [][]any) error {
	value, err := decode(data)
	if err != nil {
		return fmt.Errorf("is not JSON: %w", err)
	}
	for _, path := range errors {
		if err := nullAt(value, path); err != nil {
			return err
		}
	}
	if value == nil {
		if len(errors) == 0 {
			return fmt.Errorf("has neither data nor errors")
		}
		return nil
	}
	c := checker{s, doc, vars}
	return c.object(s.Root(op.Kind), []*language.SelectionSet{op.Selections}, value, "data")
}

// An object is a JSON object with its members in their order.
type object []member

type member struct {
	name  string
	value any
}

func (o object) get(name string) (any, bool) {
	i := slices.IndexFunc(o, func(m member) bool { return m.name == name })
	if i < 0 {
		return nil, false
	}
	return o[i].value, true
}

func decode(text []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	v, err := decodeValue(d)
	if err != nil {
		return nil, err
	}
	if d.More() || !json.Valid(text) {
		return nil, fmt.Errorf("more follows its end")
	}
	return v, nil
}

func decodeValue(d *json.Decoder) (any, error) {
	token, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch token {
	case json.Delim('{'):
		o := object{}
		for d.More() {
			name, err := d.Token()
			if err != nil {
				return nil, err
			}
			v, err := decodeValue(d)
			if err != nil {
				return nil, err
			}
			o = append(o, member{name.(string), v})
		}
		_, err = d.Token()
		return o, err
	case json.Delim('['):
		list := []any{}
		for d.More() {
			v, err := decodeValue(d)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err = d.Token()
		return list, err
	}
	return token, nil
}

// nullAt reports whether a path leads to null, or to something in null.
func nullAt(v any, path []any) error {
	for i, step := range path {
		if v == nil {
			return nil
		}
		ok := false
		switch step := step.(type) {
		case string:
			o, _ := v.(object)
			v, ok = o.get(step)
		case int:
			if list, _ := v.([]any); step < len(list) {
				v, ok = list[step], true
			}
		}
		if !ok {
			return fmt.Errorf("an error is at %v, and there is no %v", path, path[:i+1])
		}
	}
	if v != nil {
		return fmt.Errorf("an error is at %v, and there is a value", path)
	}
	return nil
}

type checker struct {
	schema *schema.Schema
	doc    *language.Document
	vars   map[string]schema.Value
}

// A selected is the fields of one response name.
type selected struct {
	name   string
	fields []*language.Field
}

// collect is CollectFields: section 6.3.2.
func (c *checker) collect(t *schema.Object, sets []*language.SelectionSet) []*selected {
	var list []*selected
	visited := map[string]bool{}
	var add func(set *language.SelectionSet)
	add = func(set *language.SelectionSet) {
		for _, s := range set.List {
			switch s := s.(type) {
			case *language.Field:
				if !c.included(s.Directives) {
					continue
				}
				name := s.ResponseName()
				i := slices.IndexFunc(list, func(g *selected) bool { return g.name == name })
				if i < 0 {
					list = append(list, &selected{name: name})
					i = len(list) - 1
				}
				list[i].fields = append(list[i].fields, s)
			case *language.InlineFragment:
				if c.included(s.Directives) && (s.On.Text == "" || c.applies(t, s.On.Text)) {
					add(s.Selections)
				}
			case *language.FragmentSpread:
				if !c.included(s.Directives) || visited[s.Name.Text] {
					continue
				}
				visited[s.Name.Text] = true
				if f := c.fragment(s.Name.Text); f != nil && c.applies(t, f.On.Text) {
					add(f.Selections)
				}
			}
		}
	}
	for _, set := range sets {
		add(set)
	}
	return list
}

func (c *checker) fragment(name string) *language.Fragment {
	for _, d := range c.doc.Definitions {
		if f, ok := d.(*language.Fragment); ok && f.Name.Text == name {
			return f
		}
	}
	return nil
}

func (c *checker) included(directives []*language.Directive) bool {
	for _, d := range directives {
		for _, a := range d.Arguments {
			if a.Name.Text != "if" {
				continue
			}
			is := false
			switch v := a.Value.(type) {
			case *language.BooleanValue:
				is = v.Is
			case *language.Variable:
				is, _ = c.vars[v.Name].(bool)
			}
			if d.Name.Text == "skip" && is || d.Name.Text == "include" && !is {
				return false
			}
		}
	}
	return true
}

func (c *checker) applies(t *schema.Object, condition string) bool {
	return slices.Contains(c.schema.Possible(c.schema.Type(condition)), t)
}

// object checks an object of one type.
func (c *checker) object(t *schema.Object, sets []*language.SelectionSet, v any, at string) error {
	o, ok := v.(object)
	if !ok {
		return fmt.Errorf("%s is %v, and not an object", at, v)
	}
	groups := c.collect(t, sets)
	if len(groups) != len(o) {
		return fmt.Errorf("%s has %d fields, and %d were selected", at, len(o), len(groups))
	}
	for i, g := range groups {
		if o[i].name != g.name {
			return fmt.Errorf("%s has %q where %q was selected", at, o[i].name, g.name)
		}
		at := at + "." + g.name
		name := g.fields[0].Name.Text
		if name == "__typename" {
			if o[i].value != t.Name {
				return fmt.Errorf("%s is %v, and the record is of the type %s", at, o[i].value, t.Name)
			}
			continue
		}
		def := t.Field(name)
		if def == nil {
			def = c.schema.Meta(name)
		}
		var inner []*language.SelectionSet
		for _, f := range g.fields {
			if f.Selections != nil {
				inner = append(inner, f.Selections)
			}
		}
		if err := c.value(def.Type, inner, o[i].value, at); err != nil {
			return err
		}
	}
	return nil
}

func (c *checker) value(t schema.Type, sets []*language.SelectionSet, v any, at string) error {
	if v == nil {
		if schema.IsNonNull(t) {
			return fmt.Errorf("%s is null, and its type is %s", at, t)
		}
		return nil
	}
	if elem, ok := schema.ListElem(t); ok {
		list, ok := v.([]any)
		if !ok {
			return fmt.Errorf("%s is %v, and its type is %s", at, v, t)
		}
		for i, item := range list {
			if err := c.value(elem, sets, item, at+"."+strconv.Itoa(i)); err != nil {
				return err
			}
		}
		return nil
	}
	named := schema.NamedOf(t)
	if len(sets) == 0 {
		if !leafFits(named, v) {
			return fmt.Errorf("%s is %v, and its type is %s", at, v, named)
		}
		return nil
	}
	// Of an interface or union, the record fits one of the possible types.
	var why error
	for _, possible := range c.schema.Possible(named) {
		if why = c.object(possible, sets, v, at); why == nil {
			return nil
		}
	}
	return why
}

// leafFits reports whether a value can be one of a scalar or enum: section 3.5.
func leafFits(t schema.Named, v any) bool {
	if e, ok := t.(*schema.Enum); ok {
		return slices.ContainsFunc(e.Values, func(value *schema.EnumValue) bool { return value.Name == v })
	}
	switch t.String() {
	case "Int":
		n, err := strconv.ParseInt(fmt.Sprint(v), 10, 64)
		_, is := v.(json.Number)
		return is && err == nil && n >= math.MinInt32 && n <= math.MaxInt32
	case "Float":
		_, is := v.(json.Number)
		return is
	case "Boolean":
		_, is := v.(bool)
		return is
	case "String", "ID":
		_, is := v.(string)
		return is
	}
	return true
}
