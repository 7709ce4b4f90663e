package plan

import (
	"fmt"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// This file plans introspection (section 4). The schema does not change while
// a plan lives, so the answer is written while planning and is a constant
// afterwards.

// meta plans __typename, __schema or __type of the root type.
func (b *builder) meta(g group, root *schema.Object) *Field {
	name := g.fields[0].Name.Text
	if name == "__typename" {
		f := b.newField(g, b.bound.Schema.TypeName(root))
		f.What, f.Text = Constant, quoted(root.Name)
		return f
	}
	f := b.newField(g, b.bound.Schema.Meta(name))
	f.What = Constant
	var value any = b.bound.Schema
	if name == "__type" {
		value = nil
		wanted, _ := b.metaArg(g.fields[0], "name").(string)
		if t := b.bound.Schema.Visible(wanted); t != nil {
			value = t
		}
	}
	if b.told == nil {
		b.told = &told{most: tellAtLeast + tellForEach*elements(b.bound.Schema)}
	}
	f.Text = b.metaValue(nil, value, schema.NamedOf(b.bound.Schema.Meta(name).Type), g.subsets())
	b.told.bytes += len(f.Text)
	return f
}

// What is told of a schema is bounded by the size of the schema: what clients ask
// of each element, with its texts, takes some hundred bytes, while selections
// inside one another can ask for the same again and again.
const (
	tellAtLeast = 1 << 20
	tellForEach = 2 << 10
)

// told is what was written of the schema so far, and how much may be.
type told struct{ bytes, most int }

// elements counts the types, fields, arguments and values of a schema.
func elements(s *schema.Schema) int {
	n := len(s.DirectiveList())
	for _, t := range s.Types() {
		n++
		switch t := t.(type) {
		case *schema.Enum:
			n += len(t.Values)
		case *schema.InputObject:
			n += len(t.Fields)
		case schema.Composite:
			for _, f := range schema.FieldsOf(t) {
				n += 1 + len(f.Args)
			}
		}
	}
	return n
}

// metaArg returns the value of an argument of an introspection field. Its
// variable decides what the constant holds.
func (b *builder) metaArg(f *language.Field, name string) schema.Value {
	for _, a := range f.Arguments {
		if a.Name.Text != name {
			continue
		}
		switch v := a.Value.(type) {
		case *language.Variable:
			b.plan.Depends.byValue(v.Name)
			return b.vars[v.Name]
		case *language.BooleanValue:
			return v.Is
		case *language.StringValue:
			return v.Text
		}
	}
	return nil
}

// metaValue appends a value of the introspection type named.
func (b *builder) metaValue(buf []byte, value any, named schema.Named, sets []*language.SelectionSet) []byte {
	switch v := value.(type) {
	case nil:
		return append(buf, "null"...)
	case bool:
		if v {
			return append(buf, "true"...)
		}
		return append(buf, "false"...)
	case string:
		return append(buf, quoted(v)...)
	case schema.Symbol:
		return append(buf, quoted(string(v))...)
	case []any:
		buf = append(buf, '[')
		for i, item := range v {
			if i > 0 {
				buf = append(buf, ',')
			}
			buf = b.metaValue(buf, item, named, sets)
		}
		return append(buf, ']')
	}
	if len(buf)+b.told.bytes > b.told.most {
		b.plan.Refused = fmt.Sprintf(msgIntrospectionTooLarge, b.told.most)
	}
	if b.plan.Refused != "" {
		return append(buf, "null"...) // nobody will see it
	}
	object := named.(*schema.Object)
	buf = append(buf, '{')
	for i, g := range b.collect(sets, object) {
		if i > 0 {
			buf = append(buf, ',')
		}
		buf = append(append(buf, quoted(g.name)...), ':')
		name := g.fields[0].Name.Text
		if strings.HasPrefix(name, "__") {
			buf = append(buf, quoted(object.Name)...)
			continue
		}
		deprecated, _ := b.metaArg(g.fields[0], "includeDeprecated").(bool)
		def := object.Field(name)
		buf = b.metaValue(buf, b.bound.Schema.Introspect(value, name, deprecated), schema.NamedOf(def.Type), g.subsets())
	}
	return append(buf, '}')
}
