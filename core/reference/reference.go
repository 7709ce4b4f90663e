// Package reference tells what a schema has, for people to read: each type and field with its description, where its
// values come from, and how types lead to each other.
package reference

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// A Type is one of the schema's.
type Type struct {
	Name string `json:"name"`
	Kind string `json:"kind"` // as introspection names it: OBJECT, INTERFACE, …
	Text string `json:"text,omitempty"`
	// Root is of which kind of operation it is the root type: "query", "mutation" or "subscription"; "" of others.
	Root string `json:"root,omitempty"`
	// Source and Set say where its records are, if they are in one place.
	Source     string   `json:"source,omitempty"`
	Set        string   `json:"set,omitempty"`
	Implements []string `json:"implements,omitempty"`
	Members    []string `json:"members,omitempty"` // the object types of an interface or union
	Fields     []Field  `json:"fields,omitempty"`
	Values     []Value  `json:"values,omitempty"`
}

// A Field is one of an object, interface or input object type, or an argument.
type Field struct {
	Name       string  `json:"name"`
	Type       string  `json:"type"`
	Of         string  `json:"of"` // the named type in it
	Many       bool    `json:"many,omitempty"`
	Text       string  `json:"text,omitempty"`
	Default    string  `json:"default,omitempty"`
	Deprecated *string `json:"deprecated,omitempty"`
	Args       []Field `json:"args,omitempty"`
	*From
}

// A Value is one of an enum.
type Value struct {
	Name       string  `json:"name"`
	Text       string  `json:"text,omitempty"`
	Deprecated *string `json:"deprecated,omitempty"`
}

// From says where the values of a field come from.
type From struct {
	Source string `json:"source,omitempty"` // "" of what no store is asked for
	Where  string `json:"where"`            // in words, such as "craft.name, text, indexed"
}

// Of returns what there is in a view of a bound schema, in the order of the types' names, the root types first. With details, columns
// are told with what their stores say of them.
func Of(view *schema.Schema, bound *binding.Bound, details bool) []Type {
	b := &book{view: view, bound: bound, details: details, nested: map[string]*binding.Object{}, in: map[string]*binding.Records{}}
	b.look()
	var list []Type
	roots := map[string]bool{}
	for _, kind := range []language.OperationKind{language.Query, language.Mutation, language.Subscription} {
		if t := view.Root(kind); t != nil {
			own := b.of(t)
			own.Root = string(kind)
			list, roots[t.Name] = append(list, own), true
		}
	}
	for _, t := range view.Types() {
		name := t.About().Name
		if view.Visible(name) == nil || strings.HasPrefix(name, "__") || roots[name] {
			continue
		}
		list = append(list, b.of(t))
	}
	return list
}

type book struct {
	view    *schema.Schema
	bound   *binding.Bound
	details bool
	nested  map[string]*binding.Object  // of types without a record set, by their names: where they were found first
	in      map[string]*binding.Records // and in which records
}

// look finds where types are nested.
func (b *book) look() {
	for _, t := range b.bound.Schema.Types() {
		object, ok := t.(*schema.Object)
		if r := b.bound.Records(t); ok && r != nil {
			b.lookIn(r, r.Object(object))
		}
	}
}

func (b *book) lookIn(r *binding.Records, o *binding.Object) {
	if o == nil {
		return
	}
	for _, f := range o.Fields {
		if f.Nested == nil {
			continue
		}
		for _, inner := range f.Nested.Objects {
			if b.nested[inner.Type.Name] == nil {
				b.nested[inner.Type.Name], b.in[inner.Type.Name] = inner, r
				b.lookIn(r, inner)
			}
		}
	}
}

// of tells of a type.
func (b *book) of(t schema.Named) Type {
	about := t.About()
	out := Type{Name: about.Name, Text: about.Description}
	own := b.bound.Schema.Type(about.Name)
	if r := b.bound.Records(own); r != nil {
		out.Source, out.Set = r.Source.Name, r.Set
	}
	switch t := t.(type) {
	case *schema.Object:
		out.Kind, out.Implements = "OBJECT", namesOf(t.Interfaces)
		out.Fields = b.fields(t.Fields, b.objectOf(own))
	case *schema.Interface:
		out.Kind, out.Implements, out.Members = "INTERFACE", namesOf(t.Interfaces), namesOf(b.view.Possible(t))
		out.Fields = b.fields(t.Fields, nil)
	case *schema.Union:
		out.Kind, out.Members = "UNION", namesOf(t.Members)
	case *schema.Enum:
		out.Kind = "ENUM"
		for _, v := range t.Values {
			out.Values = append(out.Values, Value{v.Name, v.Description, v.Deprecated})
		}
	case *schema.InputObject:
		out.Kind, out.Fields = "INPUT_OBJECT", inputs(t.Fields)
	default:
		out.Kind = "SCALAR"
	}
	return out
}

func namesOf[T schema.Named](list []T) (names []string) {
	for _, t := range list {
		names = append(names, t.About().Name)
	}
	slices.Sort(names)
	return names
}

// objectOf returns how an object type is stored, and in which records; nil if it is not.
func (b *book) objectOf(t schema.Named) func(name string) (*binding.Field, *binding.Records) {
	object, ok := t.(*schema.Object)
	if !ok {
		return nil
	}
	r, o := b.bound.Records(t), b.nested[object.Name]
	if r != nil {
		o = r.Object(object)
	} else {
		r = b.in[object.Name]
	}
	return func(name string) (*binding.Field, *binding.Records) {
		if own := object.Field(name); own != nil {
			if root := b.bound.Root(own); root != nil {
				return root, nil
			}
		}
		if o == nil {
			return nil, nil
		}
		return o.Fields[name], r
	}
}

func (b *book) fields(list []*schema.Field, bound func(name string) (*binding.Field, *binding.Records)) (out []Field) {
	for _, f := range list {
		own := Field{Name: f.Name, Text: f.Description, Deprecated: f.Deprecated, Args: inputs(f.Args)}
		own.typed(f.Type)
		if bound != nil {
			if as, r := bound(f.Name); as != nil {
				own.From = b.from(as, r)
			}
		}
		out = append(out, own)
	}
	return out
}

func inputs(list []*schema.Input) (out []Field) {
	for _, in := range list {
		own := Field{Name: in.Name, Text: in.Description, Deprecated: in.Deprecated}
		if own.typed(in.Type); in.Default != nil {
			own.Default = language.PrintValue(in.Default)
		}
		out = append(out, own)
	}
	return out
}

func (f *Field) typed(t schema.Type) {
	f.Type, f.Of, f.Many = t.String(), schema.NamedOf(t).About().Name, schema.Depth(t) > 0
}

// Where says where the values of a field come from, as "registry · craft.name", by its coordinate; "" if nothing is known.
func Where(view *schema.Schema, bound *binding.Bound, coordinate string, details bool) string {
	owner, name, _ := strings.Cut(coordinate, ".")
	composite, _ := view.Type(owner).(schema.Composite)
	if composite == nil || composite.Field(name) == nil {
		return ""
	}
	b := &book{view: view, bound: bound, details: details, nested: map[string]*binding.Object{}, in: map[string]*binding.Records{}}
	b.look()
	find := b.objectOf(bound.Schema.Type(owner))
	if find == nil {
		return ""
	}
	f, r := find(name)
	if f == nil {
		return ""
	}
	from := b.from(f, r)
	if from.Source == "" {
		return from.Where
	}
	return from.Source + " · " + from.Where
}

// from says where the values of a field come from; r are the records that it is of, nil of a root field.
func (b *book) from(f *binding.Field, r *binding.Records) *From {
	switch f.How {
	case binding.Column, binding.Nested:
		if r == nil {
			return nil
		}
		where := r.Set + "." + f.Wanted.Path
		if f.How == binding.Nested {
			where += ", nested"
		}
		return &From{r.Source.Name, where + b.column(r, f.Wanted.Path)}
	case binding.Related, binding.Read, binding.Watched:
		return b.records(f)
	case binding.Computed:
		return &From{"", "an expression"}
	case binding.Called:
		if f.Source == nil {
			return &From{"", "the function " + f.Function}
		}
		return &From{f.Source.Name, "the function " + f.Function}
	case binding.Written, binding.Counted:
		if f.Write == nil || f.Write.Records == nil {
			return nil
		}
		return &From{f.Write.Records.Source.Name, fmt.Sprintf("%s %s", map[store.Action]string{store.Add: "adds to", store.Change: "changes", store.Remove: "removes from"}[f.Write.Action], f.Write.Records.Set)}
	case binding.Grouped:
		return &From{"", "a group of fields"}
	}
	return nil
}

// records says of which records a field is.
func (b *book) records(f *binding.Field) *From {
	var sources, sets []string
	for _, part := range f.Each() {
		if part.Target == nil {
			return nil
		}
		if !slices.Contains(sources, part.Target.Source.Name) {
			sources = append(sources, part.Target.Source.Name)
		}
		if !slices.Contains(sets, part.Target.Set) {
			sets = append(sets, part.Target.Set)
		}
	}
	from := &From{strings.Join(sources, ", "), strings.Join(sets, ", ")}
	one := f.Each()[0]
	switch {
	case f.How == binding.Watched:
		from.Where = "changes of " + from.Where
	case one.JoinTable != nil:
		from.Where += fmt.Sprintf(", through %s", one.JoinTable.Set)
	case f.How == binding.Related:
		from.Where += fmt.Sprintf(", %s = its %s", strings.Join(one.There, ", "), strings.Join(one.Here, ", "))
	}
	if f.Aggregate != nil {
		from.Where = "a total of " + from.Where
	}
	return from
}

// column tells what the store says of a column.
func (b *book) column(r *binding.Records, path string) string {
	if !b.details || r.Info == nil {
		return ""
	}
	f := r.Info.Field(path)
	if f == nil {
		return ""
	}
	text := ""
	if f.Type != "" {
		text = ", " + f.Type
	}
	switch {
	case r.Info.Unique([]string{path}):
		text += ", unique"
	case r.Info.Indexed([]string{path}):
		text += ", indexed"
	}
	return text
}
