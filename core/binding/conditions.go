package binding

import (
	"slices"
	"strings"

	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file finds out what of a rule's condition a store can be asked.

// conditions binds the parts of a condition on the records of a type.
type conditions struct {
	*binder
	on   schema.Named
	at   place
	base string // of nested records: where they are, for a condition, with a dot
}

// cond binds a part. One that the store cannot be asked is a Rest; where none of several parts is asked
// then, the whole is.
func (c *conditions) cond(of *expression.Condition) *Cond {
	bound := c.asked(of)
	if bound == nil {
		return c.rest(of)
	}
	return bound
}

// rest returns that a part is decided on the rows.
func (c *conditions) rest(of *expression.Condition) *Cond {
	inputs := map[string]*expression.Type{"caller": expression.Caller, "record": c.recordOf(c.on, false)}
	program, err := expression.CompileRule(textOf(of), inputs)
	if err != nil { // which the whole would have told
		return &Cond{Op: expression.CondAny}
	}
	return &Cond{Op: expression.CondRest, Expr: program, Given: textOf(of), Needs: c.needsOf(program)}
}

// textOf returns a part as an expression that is true where the part holds.
func textOf(of *expression.Condition) string {
	if of.False {
		return "!(" + of.Text + ")"
	}
	return of.Text
}

// needsOf returns what an expression looks at of the records.
func (c *conditions) needsOf(program *expression.Program) *language.SelectionSet {
	var text strings.Builder
	c.writeNeeds(&text, c.on, program.Needs["record"])
	set, _, _ := c.parseSelection(text.String(), c.on.(schema.Composite))
	return set
}

// asked binds a part; nil if the store cannot be asked it.
func (c *conditions) asked(of *expression.Condition) *Cond {
	bound := &Cond{Op: of.Op, Not: of.Not}
	switch of.Op {
	case expression.CondAll:
		for _, part := range of.Of {
			bound.Of = append(bound.Of, c.cond(part))
		}
		return bound
	case expression.CondAny, expression.CondNone:
		for _, part := range of.Of {
			inner := c.asked(part)
			if inner == nil || inner.Rests() {
				return nil
			}
			bound.Of = append(bound.Of, inner)
		}
		return bound
	case expression.CondKnown:
		var err error
		bound.Expr, err = expression.CompileRule(textOf(of), map[string]*expression.Type{"caller": expression.Caller})
		bound.Given = textOf(of)
		if err != nil {
			return nil
		}
		return bound
	case expression.CondRest:
		return nil
	}
	return c.walk(of, of.Path, bound)
}

// walk follows the names of a path to what is compared, or to the records of an Exists.
func (c *conditions) walk(of *expression.Condition, path []string, bound *Cond) *Cond {
	f, def := c.fieldAt(path[0])
	if f == nil {
		return nil
	}
	last := len(path) == 1
	switch {
	case last && of.Op == expression.CondExists:
		return c.exists(of, f, def, bound)
	case last:
		return c.leaf(of, f, def, bound)
	case f.How == Nested && !f.Many:
		if c.at.prefix == "" && !c.at.opens(f.Wanted.Path) || c.at.prefix != "" && c.at.source.Capabilities.Link {
			return nil
		}
		inner := *c
		inner.on = schema.NamedOf(def.Type)
		inner.at.prefix += f.Wanted.Path + "."
		inner.base += f.Wanted.Path + "."
		return inner.walk(of, path[1:], bound)
	case f.How == Related && !f.Many:
		inner := c.related(f)
		if inner == nil {
			return nil
		}
		if bound = inner.walk(of, path[1:], bound); bound == nil {
			return nil
		}
		return &Cond{Op: expression.CondExists, Link: linkOf(f), Narrows: f.Narrows(), Of: []*Cond{bound}}
	}
	return nil
}

// related returns the conditions of the records that a relationship leads to; nil if the store cannot
// look at them.
func (c *conditions) related(f *Field) *conditions {
	if f.Parts != nil || f.Page != nil || f.Aggregate != nil || f.ListHere || f.ListThere || f.Target.Source != c.at.source || !c.at.source.Capabilities.Link || c.at.prefix != "" {
		return nil
	}
	return &conditions{binder: c.binder, on: schema.NamedOf(f.Def.Type), at: place{records: f.Target, source: f.Target.Source}}
}

// exists binds what is said of one of several records.
func (c *conditions) exists(of *expression.Condition, f *Field, def *schema.Field, bound *Cond) *Cond {
	var inner *conditions
	switch {
	case f.How == Related && f.Many:
		if inner = c.related(f); inner == nil {
			return nil
		}
		bound.Link, bound.Narrows = linkOf(f), f.Narrows()
	case f.How == Nested && f.Many && !c.at.source.Capabilities.Link && schema.Depth(def.Type) == 1:
		own := *c
		inner = &own
		inner.on = schema.NamedOf(def.Type)
		inner.at.prefix += f.Wanted.Path + "."
		bound.Path, inner.base = c.base+f.Wanted.Path, ""
	default:
		return nil
	}
	one := inner.asked(of.Of[0])
	if one == nil || one.Rests() {
		return nil
	}
	bound.Of = []*Cond{one}
	return bound
}

// fieldAt returns the field called name of the records at hand, which all of their types have in one
// place; nil otherwise.
func (c *conditions) fieldAt(name string) (*Field, *schema.Field) {
	var found *Field
	for _, o := range c.bound.Schema.Possible(c.on) {
		def := o.Field(name)
		if def == nil || directive(def, "computed") != nil || directive(def, "total") != nil || c.at.records == nil {
			return nil, nil
		}
		if c.at.prefix == "" && c.bound.records[o] != c.at.records {
			return nil, nil
		}
		f := c.field(c.at, def)
		if f == nil || found != nil && (f.How != found.How || f.Wanted.Path != found.Wanted.Path || !slices.Equal(f.Here, found.Here) || f.Target != found.Target) {
			return nil, nil
		}
		found = f
	}
	if found == nil {
		return nil, nil
	}
	return found, fieldOf(c.bound.Schema, c.on, name)
}

var conditionOps = map[string]store.Op{"==": store.Is, "in": store.Is, "<": store.Below, "<=": store.AtMost, ">": store.Above, ">=": store.AtLeast,
	"contains": store.Contains, "startsWith": store.StartsWith, "endsWith": store.EndsWith}

// leaf binds a comparison of a stored field.
func (c *conditions) leaf(of *expression.Condition, f *Field, def *schema.Field, bound *Cond) *Cond {
	named := schema.NamedOf(def.Type)
	if of.Op == expression.CondMissing && f.How == Related && !f.Many && c.related(f) != nil {
		return &Cond{Op: expression.CondExists, Link: linkOf(f), Narrows: f.Narrows(), Not: !of.Not}
	}
	if _, isList := schema.ListElem(def.Type); isList || f.How != Column || !schema.IsLeaf(named) || isAny(named) {
		return nil
	}
	path := f.Wanted.Path
	info := c.at.records.infoOf(c.at.prefix + path)
	kind, codec, err := fitCompared(named, info)
	if err != nil {
		return nil
	}
	bound.Path, bound.Kind, bound.Enum = c.base+path, kind, f.Enum
	if of.Op == expression.CondMissing {
		return bound
	}
	bound.Is, bound.Many = conditionOps[of.Is], of.Is == "in"
	holds := expressionKind(named)
	bound.Holds = holds
	switch {
	case codec == scalar.DayOfMoment || codec == scalar.FloatAsNumber:
		return nil // what is stored is not what is compared
	case strings.Contains("< <= > >=", of.Is) && (!ordered(kind) || f.Enum != nil || holds == expression.Text):
		return nil // texts have another order in many a store
	case bound.Is >= store.Contains && bound.Is <= store.EndsWith && (kind != store.Text || f.Enum != nil):
		return nil
	}
	want := &expression.Type{Nullable: true}
	if bound.Value, err = expression.Compile(of.Value, map[string]*expression.Type{"caller": expression.Caller}, want); err != nil {
		return nil
	}
	bound.Given = of.Value
	return bound
}

// infoOf returns what the catalogue says of a stored field; nil for nothing.
func (r *Records) infoOf(path string) *store.Field {
	if r == nil || r.Info == nil {
		return nil
	}
	return r.Info.Field(path)
}
