package editing

import (
	"osprey/core/language"
	"osprey/core/schema"
)

// This file reads what operations name.

func (w *reading) operation(d *language.Operation) {
	w.word(d.Name, Symbol{Kind: Operation, Name: d.Name.Text, In: w.file.Name}, true)
	for _, v := range d.Variables {
		w.word(language.Name{Pos: v.Name.Pos, Text: v.Name.Text}, Symbol{Kind: Variable, Name: v.Name.Text, In: w.file.Name}, true)
		w.typeRef(v.Type)
		w.value(typeOf(v.Type), v.Default)
	}
	w.used(d.Directives)
	w.selections(w.root(d.Kind), d.Selections)
}

// root returns the name of the type that answers operations of a kind.
func (w *reading) root(kind language.OperationKind) string {
	if w.Last != nil {
		if o := w.Last.Root(kind); o != nil {
			return o.Name
		}
	}
	return map[language.OperationKind]string{language.Query: "Query", language.Mutation: "Mutation", language.Subscription: "Subscription"}[kind]
}

func (w *reading) fragment(d *language.Fragment) {
	w.word(d.Name, Symbol{Kind: Fragment, Name: d.Name.Text, In: w.file.Name}, true)
	w.typeName(d.On)
	w.used(d.Directives)
	w.selections(d.On.Text, d.Selections)
}

// used adds the directives that an operation has.
func (w *reading) used(list []*language.Directive) {
	for _, d := range list {
		w.word(d.Name, Symbol{Kind: Directive, Name: "@" + d.Name.Text}, false)
		for _, a := range d.Arguments {
			w.word(a.Name, Symbol{Kind: Option, Name: "@" + d.Name.Text + "(" + a.Name.Text + ":)"}, false)
			w.value("", a.Value)
		}
	}
}

func (w *reading) selections(on string, set *language.SelectionSet) {
	if set == nil {
		return
	}
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.FragmentSpread:
			w.word(sel.Name, Symbol{Kind: Fragment, Name: sel.Name.Text, In: w.file.Name}, false)
			w.used(sel.Directives)
		case *language.InlineFragment:
			inner := on
			if sel.On.Text != "" {
				w.typeName(sel.On)
				inner = sel.On.Text
			}
			w.used(sel.Directives)
			w.selections(inner, sel.Selections)
		case *language.Field:
			typ := ""
			if f := w.fieldAt(on, sel.Name.Text); f != nil {
				w.shared(sel.Name, Field, on, sel.Name.Text, "", false)
				typ = typeOf(f.Type)
				for _, a := range sel.Arguments {
					for _, in := range f.Arguments {
						if in.Name.Text == a.Name.Text {
							w.shared(a.Name, Argument, on, sel.Name.Text, "("+a.Name.Text+":)", false)
							w.value(typeOf(in.Type), a.Value)
						}
					}
				}
			} else if w.Last != nil {
				typ = suppliedField(w.Last, on, sel.Name.Text)
			}
			w.used(sel.Directives)
			w.selections(typ, sel.Selections)
		}
	}
}

// fieldAt returns a field of a type of the texts, or nil.
func (s *Site) fieldAt(owner, name string) *field {
	if t := s.types[owner]; t != nil {
		return t.fields[name]
	}
	return nil
}

// suppliedField returns the type of a field of a type that is supplied, such as edges.
func suppliedField(s *schema.Schema, owner, name string) string {
	c, _ := s.Type(owner).(schema.Composite)
	if c == nil || c.Field(name) == nil {
		return ""
	}
	return schema.NamedOf(c.Field(name).Type).String()
}

// inputOf returns the type of a field of an input object that is supplied.
func inputOf(s *schema.Schema, owner, name string) string {
	in, _ := s.Type(owner).(*schema.InputObject)
	if in == nil || in.Field(name) == nil {
		return ""
	}
	return schema.NamedOf(in.Field(name).Type).String()
}
