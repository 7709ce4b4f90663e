package traffic

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// This file makes the normal form of an operation: the same for all who ask the same, however they
// lay it out and with whatever values, and without those values, which may be anybody's. It is a
// sound operation, whose written values are variables:
//
//	query Find {                     query Find($given1: String!) {
//	  search(text: "mast", first: 9)   search(text: $given1, first: $given2) { … }
//
// Enums, booleans and null stay, since they are of the schema and not of a record. Variables that
// are given stand behind those that are declared; of these, one whose default is a value must be
// given instead.

// normal returns the normal form of a document of one operation and its fragments.
func normal(s *schema.Schema, doc *language.Document) string {
	n := &normalizer{schema: s}
	op := doc.Definitions[0].(*language.Operation)
	n.directives(op.Directives)
	if root := s.Root(op.Kind); root != nil {
		n.selections(root, op.Selections)
	}
	for _, d := range doc.Definitions[1:] {
		f := d.(*language.Fragment)
		n.write("\nfragment " + f.Name.Text + " on " + f.On.Text)
		n.directives(f.Directives)
		n.selections(s.Type(f.On.Text), f.Selections)
	}
	return n.head(op) + n.named(op) + "\n"
}

type normalizer struct {
	schema *schema.Schema
	given  []schema.Type // of the variables that stand for values
	b      []byte
}

// unnamed stands in the text for the name of a variable, until it is known which of them stay.
const unnamed = "\x00"

func (n *normalizer) write(text string) { n.b = append(n.b, text...) }

// head returns how the operation begins.
func (n *normalizer) head(op *language.Operation) string {
	head := string(op.Kind)
	if op.Name.Text != "" {
		head += " " + op.Name.Text
	}
	var vars []string
	for _, v := range op.Variables {
		text := "$" + v.Name.Text + ": " + v.Type.String()
		switch {
		case v.Default == nil:
		case !hasWritten(v.Default):
			text += " = " + language.PrintValue(v.Default)
		case !v.Type.NonNull: // which fits wherever the variable does by its default
			text += "!"
		}
		vars = append(vars, text)
	}
	for i, name := range n.names(op) {
		vars = append(vars, fmt.Sprintf("$%s: %s", name, n.given[i]))
	}
	if len(vars) > 0 {
		head += "(" + strings.Join(vars, ", ") + ")"
	}
	return head
}

// named returns the rest, in which the variables have their names.
func (n *normalizer) named(op *language.Operation) string {
	var text strings.Builder
	parts := strings.Split(string(n.b), unnamed)
	text.WriteString(parts[0])
	for i, name := range n.names(op) {
		text.WriteString(name + parts[i+1])
	}
	return text.String()
}

// names returns names for the variables that stand for values.
func (n *normalizer) names(op *language.Operation) (names []string) {
	taken := map[string]bool{}
	for _, v := range op.Variables {
		taken[v.Name.Text] = true
	}
	for i := range n.given {
		name := fmt.Sprintf("given%d", i+1)
		for taken[name] {
			name += "_"
		}
		names = append(names, name)
	}
	return names
}

func (n *normalizer) selections(on schema.Named, set *language.SelectionSet) {
	if set == nil {
		return
	}
	n.write(" {")
	for _, sel := range set.List {
		n.write(" ")
		switch sel := sel.(type) {
		case *language.Field:
			n.field(on, sel)
		case *language.FragmentSpread:
			n.write("..." + sel.Name.Text)
			n.directives(sel.Directives)
		case *language.InlineFragment:
			n.write("...")
			inner := on
			if sel.On.Text != "" {
				n.write(" on " + sel.On.Text)
				inner = n.schema.Type(sel.On.Text)
			}
			n.directives(sel.Directives)
			n.selections(inner, sel.Selections)
		}
	}
	n.write(" }")
}

func (n *normalizer) field(on schema.Named, f *language.Field) {
	if f.Alias.Text != "" && f.Alias.Text != f.Name.Text {
		n.write(f.Alias.Text + ": ")
	}
	n.write(f.Name.Text)
	def := n.schema.Meta(f.Name.Text)
	if c, ok := on.(schema.Composite); ok && c.Field(f.Name.Text) != nil {
		def = c.Field(f.Name.Text)
	}
	n.arguments(f.Arguments, func(name string) schema.Type {
		if def != nil && def.Arg(name) != nil {
			return def.Arg(name).Type
		}
		return nil
	})
	n.directives(f.Directives)
	if def != nil {
		n.selections(schema.NamedOf(def.Type), f.Selections)
	}
}

func (n *normalizer) directives(list []*language.Directive) {
	for _, d := range list {
		n.write(" @" + d.Name.Text)
		def := n.schema.Directive(d.Name.Text)
		n.arguments(d.Arguments, func(name string) schema.Type {
			if def != nil {
				for _, in := range def.Args {
					if in.Name == name {
						return in.Type
					}
				}
			}
			return nil
		})
	}
}

func (n *normalizer) arguments(list []*language.Argument, typeOf func(name string) schema.Type) {
	for i, a := range list {
		n.write([]string{"(", ", "}[min(i, 1)] + a.Name.Text + ": ")
		n.value(typeOf(a.Name.Text), a.Value)
	}
	if len(list) > 0 {
		n.write(")")
	}
}

// value writes a value at a place of a type; nil if that is not known.
func (n *normalizer) value(t schema.Type, v language.Value) {
	if t != nil && written(v) {
		n.given = append(n.given, t)
		n.write("$" + unnamed)
		return
	}
	switch v := v.(type) {
	case *language.ListValue:
		n.list(t, v)
	case *language.ObjectValue:
		input, _ := innermost(t).(*schema.InputObject)
		n.write("{")
		for i, f := range v.Fields {
			n.write([]string{"", ", "}[min(i, 1)] + f.Name.Text + ": ")
			n.value(fieldOf(input, f.Name.Text), f.Value)
		}
		n.write("}")
	case *language.IntValue, *language.FloatValue:
		n.write("0")
	case *language.StringValue:
		n.write(`""`)
	default:
		n.write(language.PrintValue(v))
	}
}

// list writes a list. Items that are the same but for their values are written once: how many there
// are is of the values, too.
func (n *normalizer) list(t schema.Type, list *language.ListValue) {
	var elem schema.Type
	if t != nil {
		if l, ok := schema.Nullable(t).(*schema.List); ok {
			elem = l.Elem
		}
	}
	n.write("[")
	before := ""
	for i, item := range list.Values {
		end, given := len(n.b), len(n.given)
		if i > 0 {
			n.write(", ")
		}
		from := len(n.b)
		n.value(elem, item)
		if is := string(n.b[from:]); i > 0 && is == before {
			n.b, n.given = n.b[:end], n.given[:given]
		} else {
			before = is
		}
	}
	n.write("]")
}

// innermost returns the named type in a type; nil of none.
func innermost(t schema.Type) schema.Named {
	if t == nil {
		return nil
	}
	return schema.NamedOf(t)
}

// fieldOf returns the type at which the field of an input object is given; nil if it is not known.
// Where one field is given of several, a variable must have a value.
func fieldOf(input *schema.InputObject, name string) schema.Type {
	if input == nil || input.Field(name) == nil {
		return nil
	}
	t := input.Field(name).Type
	if input.OneOf && !schema.IsNonNull(t) {
		return &schema.NonNull{Elem: t}
	}
	return t
}

// hasWritten reports whether a written value is in a value.
func hasWritten(v language.Value) bool {
	switch v := v.(type) {
	case *language.ListValue:
		return slices.ContainsFunc(v.Values, hasWritten)
	case *language.ObjectValue:
		return slices.ContainsFunc(v.Fields, func(f *language.Argument) bool { return hasWritten(f.Value) })
	}
	return written(v)
}

// written reports whether a value is made of written values alone: numbers, strings, and lists of
// them.
func written(v language.Value) bool {
	switch v := v.(type) {
	case *language.IntValue, *language.FloatValue, *language.StringValue:
		return true
	case *language.ListValue:
		for _, item := range v.Values {
			if !written(item) {
				return false
			}
		}
		return len(v.Values) > 0
	}
	return false
}
