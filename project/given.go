package project

import (
	"context"
	"fmt"
	"slices"

	"osprey/core/execute"
	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file holds what a request gives, to arguments and in the fields of their objects, to rules that depend on more
// than the caller's roles. Those that depend on roles alone have made them not exist.
//
//	type Query { calls(quay: ID!, all: Boolean @for(when: "args.quay == caller.claims.quay")): [PortCall!] @read }
//
// args is what is given beside it: the arguments of the field, or the fields of the object.

// given says which of what a request gives is not for its caller; nil if all is.
func (r *Revision) given(ctx context.Context, x *asked, q *Request) *Fault {
	if !r.Bound.GivenRules() {
		return nil
	}
	g := &giving{revision: r, schema: x.view.schema, who: q.who(), variables: q.Variables, vars: x.vars, presets: map[string]language.Value{}, fragments: map[string]*language.Fragment{}}
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
	for _, e := range g.failed {
		r.project.failed.tell(ctx, "rule "+e.Rule, "a rule failed, and so was not true", "rule", e.Rule, "request", q.RequestID(), "error", e.Err)
	}
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
	vars      map[string]schema.Value   // what they are
	presets   map[string]language.Value // what stands in the text for those
	fragments map[string]*language.Fragment
	denied    *schema.Input // the first that is not for the caller
	at        language.Pos
	failed    []plan.RuleError
}

// beside is what is given together, as an expression looks at it: the type and the value of what has a name.
type beside func(name string) (schema.Type, schema.Value, error)

// Field returns what is given by a name; nil if nothing is.
func (b beside) Field(name string) (any, error) {
	t, v, err := b(name)
	if t == nil || err != nil {
		return nil, err
	}
	return execute.ExpressionValue(t, v), nil
}

// argumentsOf returns what is given to the arguments of a field.
func (g *giving) argumentsOf(sel *language.Field, def *schema.Field) beside {
	return func(name string) (schema.Type, schema.Value, error) {
		in := def.Arg(name)
		if in == nil {
			return nil, nil, nil
		}
		for _, a := range sel.Arguments {
			if a.Name.Text != name {
				continue
			}
			if v, present, err := schema.CoerceLiteral(in.Type, a.Value, g.vars); present || err != nil {
				return in.Type, v, err
			}
		}
		if in.Default == nil {
			return nil, nil, nil
		}
		v, _, err := schema.CoerceLiteral(in.Type, in.Default, nil)
		return in.Type, v, err
	}
}

// fieldsOf returns what is given in the fields of an object, which whole coerces.
func fieldsOf(object *schema.InputObject, whole func() (schema.Value, error)) beside {
	return func(name string) (schema.Type, schema.Value, error) {
		v, err := whole()
		fields, ok := v.(schema.InputFields)
		in := object.Field(name)
		if err != nil || !ok || in == nil {
			return nil, nil, err
		}
		given, _ := fields.Get(name)
		return in.Type, given, nil
	}
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
					g.literal(in, a.Value, g.argumentsOf(sel, def))
				}
			}
			g.selections(sel.Selections, schema.NamedOf(def.Type))
		}
	}
}

// literal looks at what a text gives.
func (g *giving) literal(in *schema.Input, v language.Value, args beside) {
	if name, ok := v.(*language.Variable); ok {
		if value, sent := g.variables[name.Name]; sent {
			g.allow(in, v.Start(), args)
			g.value(in.Type, value, v.Start())
		} else if preset := g.presets[name.Name]; preset != nil {
			g.allow(in, v.Start(), args)
			g.inLiteral(in.Type, preset)
		}
		return
	}
	g.allow(in, v.Start(), args)
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
		args := fieldsOf(object, func() (schema.Value, error) {
			value, _, err := schema.CoerceLiteral(object, v, g.vars)
			return value, err
		})
		for _, f := range v.Fields {
			if ok && object.Field(f.Name.Text) != nil {
				g.literal(object.Field(f.Name.Text), f.Value, args)
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
		args := fieldsOf(object, func() (schema.Value, error) { return schema.CoerceJSON(object, v) })
		for name, inner := range v {
			if ok && object.Field(name) != nil {
				g.allow(object.Field(name), at, args)
				g.value(object.Field(name).Type, inner, at)
			}
		}
	}
}

// allow notes what is not for the caller; args is what is given beside it.
func (g *giving) allow(in *schema.Input, at language.Pos, args beside) {
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
		v, err := w.When.Expr.Run(map[string]any{"caller": g.who, "args": args})
		if err != nil && !expression.Absent(err) {
			g.failed = append(g.failed, plan.RuleError{Rule: in.Coordinate, Err: err})
		}
		if err == nil && v == true {
			return
		}
	}
	g.denied, g.at = in, at
}
