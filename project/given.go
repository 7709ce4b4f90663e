package project

import (
	"fmt"
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file holds what a request gives, to arguments and in the fields of their objects, to rules that depend on more
// of the caller than its roles. Those that depend on roles alone have made them not exist.

// given says which of what a request gives is not for its caller; nil if all is.
func (r *Revision) given(x *asked, q *Request) *Fault {
	if !r.Bound.GivenRules() {
		return nil
	}
	g := &giving{revision: r, schema: x.view.schema, who: q.who(), variables: q.Variables, presets: map[string]language.Value{}, fragments: map[string]*language.Fragment{}}
	for _, d := range x.doc.Definitions {
		if f, ok := d.(*language.Fragment); ok {
			g.fragments[f.Name.Text] = f
		}
	}
	for _, v := range x.def.Variables {
		if v.Default != nil {
			g.presets[v.Name.Text] = v.Default
		}
	}
	g.selections(x.def.Selections, x.view.schema.Root(x.def.Kind))
	if g.denied == nil {
		return nil
	}
	return &Fault{Message: fmt.Sprintf("%s is not for this caller", g.denied.Coordinate), Code: CodeDenied, Fix: "leave it out", Locations: []language.Position{x.source.Position(g.at)}}
}

// A giving is a request while it is looked at what it gives.
type giving struct {
	revision  *Revision
	schema    *schema.Schema
	who       *store.Identity
	variables map[string]any            // as they were sent: what is not there is not given
	presets   map[string]language.Value // what stands in the text for those
	fragments map[string]*language.Fragment
	denied    *schema.Input // the first that is not for the caller
	at        language.Pos
}

func (g *giving) selections(set *language.SelectionSet, on schema.Named) {
	c, ok := on.(schema.Composite)
	if set == nil || !ok {
		return
	}
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.InlineFragment:
			of := on
			if sel.On.Text != "" {
				of = g.schema.Type(sel.On.Text)
			}
			g.selections(sel.Selections, of)
		case *language.FragmentSpread:
			if f := g.fragments[sel.Name.Text]; f != nil {
				g.selections(f.Selections, g.schema.Type(f.On.Text))
			}
		case *language.Field:
			def := c.Field(sel.Name.Text)
			if def == nil {
				continue // of introspection
			}
			for _, a := range sel.Arguments {
				if in := def.Arg(a.Name.Text); in != nil {
					g.literal(in, a.Value)
				}
			}
			g.selections(sel.Selections, schema.NamedOf(def.Type))
		}
	}
}

// literal looks at what a text gives.
func (g *giving) literal(in *schema.Input, v language.Value) {
	if name, ok := v.(*language.Variable); ok {
		if value, sent := g.variables[name.Name]; sent {
			g.allow(in, v.Start())
			g.value(in.Type, value, v.Start())
		} else if preset := g.presets[name.Name]; preset != nil {
			g.allow(in, v.Start())
			g.inLiteral(in.Type, preset)
		}
		return
	}
	g.allow(in, v.Start())
	g.inLiteral(in.Type, v)
}

func (g *giving) inLiteral(t schema.Type, v language.Value) {
	switch v := v.(type) {
	case *language.Variable:
		if value, sent := g.variables[v.Name]; sent {
			g.value(t, value, v.Start())
		} else if preset := g.presets[v.Name]; preset != nil {
			g.inLiteral(t, preset)
		}
	case *language.ListValue:
		for _, item := range v.Values {
			g.inLiteral(t, item)
		}
	case *language.ObjectValue:
		object, ok := schema.NamedOf(t).(*schema.InputObject)
		for _, f := range v.Fields {
			if ok && object.Field(f.Name.Text) != nil {
				g.literal(object.Field(f.Name.Text), f.Value)
			}
		}
	}
}

// value looks at what a variable gives, as it was sent.
func (g *giving) value(t schema.Type, v any, at language.Pos) {
	switch v := v.(type) {
	case []any:
		for _, item := range v {
			g.value(t, item, at)
		}
	case map[string]any:
		object, ok := schema.NamedOf(t).(*schema.InputObject)
		for name, inner := range v {
			if ok && object.Field(name) != nil {
				g.allow(object.Field(name), at)
				g.value(object.Field(name).Type, inner, at)
			}
		}
	}
}

// allow notes what is not for the caller.
func (g *giving) allow(in *schema.Input, at language.Pos) {
	rule := g.revision.Bound.RuleOf(in.Coordinate)
	if rule == nil || g.denied != nil {
		return
	}
	for _, w := range rule.Ways {
		if w.Roles != nil && (g.who == nil || !slices.ContainsFunc(w.Roles, func(role string) bool { return slices.Contains(g.who.Roles, role) })) {
			continue
		}
		if w.When == nil {
			return
		}
		if v, err := w.When.Expr.Run(map[string]any{"caller": g.who}); err == nil && v == true {
			return
		}
	}
	g.denied, g.at = in, at
}
