package plan

import (
	"fmt"
	"strconv"
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
		f := b.newField(g, b.viewer.Schema.TypeName(root))
		f.What, f.Text = Constant, quoted(root.Name)
		return f
	}
	f := b.newField(g, b.viewer.Schema.Meta(name))
	f.What = Constant
	var value any = b.viewer.Schema
	if name == "__type" {
		value = nil
		wanted, _ := b.metaArg(g.fields[0], "name").(string)
		if t := b.viewer.Schema.Visible(wanted); t != nil {
			value = t
		}
	}
	if b.told == nil {
		b.told = &told{most: tellAtLeast + tellForEach*elements(b.viewer.Schema)}
	}
	f.Text = b.metaValue(nil, value, b.metaFields(schema.NamedOf(b.viewer.Schema.Meta(name).Type), g.subsets()))
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

// A metaField is a field that is selected of an object of the introspection. It is
// made once for all objects that are told, so that what one of them costs is what
// is written of it: a selection set can be as long as the document, and lead there
// from each of some thousand fields.
type metaField struct {
	lead       []byte // what stands before the value, but for a comma
	name       string // of the field; empty for __typename
	typeName   []byte // the value of __typename
	deprecated bool   // those that are deprecated are wanted, too
	below      []metaField
}

// metaFields returns what is selected of a type of the introspection.
func (b *builder) metaFields(named schema.Named, sets []*language.SelectionSet) []metaField {
	object, ok := named.(*schema.Object)
	if !ok {
		return nil
	}
	var fields []metaField
	for _, g := range b.collect(sets, object) {
		f := metaField{lead: append(quoted(g.name), ':')}
		if name := g.fields[0].Name.Text; strings.HasPrefix(name, "__") {
			f.typeName = quoted(object.Name)
		} else {
			f.name = name
			f.deprecated, _ = b.metaArg(g.fields[0], "includeDeprecated").(bool)
			f.below = b.metaFields(schema.NamedOf(object.Field(name).Type), g.subsets())
		}
		fields = append(fields, f)
	}
	return fields
}

// metaValue appends a value of the introspection, of an object these fields.
func (b *builder) metaValue(buf []byte, value any, fields []metaField) []byte {
	switch v := value.(type) {
	case nil:
		return append(buf, "null"...)
	case bool:
		return strconv.AppendBool(buf, v)
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
			buf = b.metaValue(buf, item, fields)
		}
		return append(buf, ']')
	}
	if len(buf)+b.told.bytes > b.told.most {
		b.plan.Refused = fmt.Sprintf(msgIntrospectionTooLarge, b.told.most)
	}
	if b.plan.Refused != "" {
		return append(buf, "null"...) // nobody will see it
	}
	buf = append(buf, '{')
	for i, f := range fields {
		if i > 0 {
			buf = append(buf, ',')
		}
		buf = append(buf, f.lead...)
		if f.name == "" {
			buf = append(buf, f.typeName...)
			continue
		}
		buf = b.metaValue(buf, b.viewer.Schema.Introspect(value, f.name, f.deprecated), f.below)
	}
	return append(buf, '}')
}
