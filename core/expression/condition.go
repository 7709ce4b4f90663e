package expression

import (
	"slices"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/parser"
)

// This file takes conditions apart, so that a store can be asked what of them it can tell:
//
//	"clerk" in caller.roles || record.owner == caller.id && record.name.size() > 3
//
//	Any
//	  Known    "clerk" in caller.roles
//	  All
//	    Compare  owner == caller.id
//	    Rest     record.name.size() > 3
//
// A condition is true, false, or neither, where something of it is missing. Negation goes down to the
// leaves, since what is neither is not true of the one nor of the other: !(a < 5) is a >= 5.

// A ConditionOp is what a [Condition] is.
type ConditionOp uint8

const (
	CondAll     ConditionOp = iota // each of Of
	CondAny                        // one of Of
	CondNone                       // Of[0] is not true
	CondKnown                      // Text, which looks at no record
	CondCompare                    // the field at Path, by Is, with Value; if Not, that it is not so
	CondMissing                    // the field at Path has no value; if Not, that it has
	CondExists                     // of the records at Path, one is as Of[0] says, whose paths begin there
	CondRest                       // Text, of which no part is one of the others
)

// A Condition is an expression that gives true or false, taken apart.
type Condition struct {
	Op ConditionOp
	Of []*Condition
	// Text is what this part is, as an expression; of a part of Exists, in terms of its item. If False,
	// that it is false is what must hold.
	Text  string
	False bool
	Path  []string
	Not   bool   // of Compare and Missing
	Is    string // "==", "<", "<=", ">", ">=", "in", "contains", "startsWith" or "endsWith"
	Value string // an expression that looks at no record
}

// Apart takes an expression apart that gives true or false. It was compiled before.
func Apart(text string) (*Condition, error) {
	env, err := dialect()
	if err != nil {
		return nil, err
	}
	parsed, issues := env.Parse(text)
	if issues.Err() != nil {
		return nil, issues.Err()
	}
	p := &parting{info: parsed.NativeRep().SourceInfo(), item: "record"}
	return p.part(parsed.NativeRep().Expr(), true), nil
}

// A parting is an expression while it is taken apart.
type parting struct {
	info *ast.SourceInfo
	item string // the name of the record that paths begin at
}

func (p *parting) text(e ast.Expr) string {
	text, err := parser.Unparse(e, p.info)
	if err != nil {
		return ""
	}
	return text
}

// mirrored are the comparisons with their sides changed, and opposite those that are true where one is
// false.
var (
	mirrored = map[string]string{operators.Less: ">", operators.LessEquals: ">=", operators.Greater: "<", operators.GreaterEquals: "<="}
	straight = map[string]string{operators.Less: "<", operators.LessEquals: "<=", operators.Greater: ">", operators.GreaterEquals: ">="}
	opposite = map[string]string{"<": ">=", "<=": ">", ">": "<=", ">=": "<"}
)

// part returns that an expression is true, or that it is false.
func (p *parting) part(e ast.Expr, is bool) *Condition {
	whole := func(op ConditionOp, of ...*Condition) *Condition {
		return &Condition{Op: op, Of: of, Text: p.text(e), False: !is}
	}
	if !p.mentions(e, p.item) && !p.mentions(e, "record") {
		return whole(CondKnown)
	}
	if path := p.path(e); len(path) > 0 {
		return &Condition{Op: CondCompare, Path: path, Is: "==", Value: map[bool]string{true: "true", false: "false"}[is], Text: p.text(e), False: !is}
	}
	if call, ok := p.info.GetMacroCall(e.ID()); ok {
		if c := p.macro(call.AsCall(), is); c != nil {
			c.Text, c.False = p.text(e), !is
			return c
		}
		return whole(CondRest)
	}
	if e.Kind() != ast.CallKind {
		return whole(CondRest)
	}
	call := e.AsCall()
	args := call.Args()
	both := func(a, b ConditionOp) *Condition {
		op := a
		if !is {
			op = b
		}
		return whole(op, p.part(args[0], is), p.part(args[1], is))
	}
	switch call.FunctionName() {
	case operators.LogicalNot:
		return p.part(args[0], !is)
	case operators.LogicalAnd:
		return both(CondAll, CondAny)
	case operators.LogicalOr:
		return both(CondAny, CondAll)
	case operators.Conditional:
		return whole(CondAny, whole(CondAll, p.part(args[0], true), p.part(args[1], is)), whole(CondAll, p.part(args[0], false), p.part(args[2], is)))
	}
	if c := p.comparison(call, is); c != nil {
		c.Text, c.False = p.text(e), !is
		return c
	}
	return whole(CondRest)
}

// comparison returns a comparison of a field with what looks at no record; nil of anything else.
func (p *parting) comparison(call ast.CallExpr, is bool) *Condition {
	name, args := call.FunctionName(), call.Args()
	if call.IsMemberFunction() {
		path := p.path(call.Target())
		if !slices.Contains([]string{"contains", "startsWith", "endsWith"}, name) || len(path) == 0 || len(args) != 1 || !p.known(args[0]) {
			return nil
		}
		return &Condition{Op: CondCompare, Not: !is, Path: path, Is: name, Value: p.text(args[0])}
	}
	if len(args) != 2 {
		return nil
	}
	field, value, swapped := args[0], args[1], false
	if len(p.path(field)) == 0 {
		field, value, swapped = value, field, true
	}
	path := p.path(field)
	if len(path) == 0 || !p.known(value) {
		return nil
	}
	c := &Condition{Op: CondCompare, Path: path, Value: p.text(value)}
	switch name {
	case operators.Equals, operators.NotEquals:
		c.Is, c.Not = "==", is == (name == operators.NotEquals)
		if value.Kind() == ast.LiteralKind && value.AsLiteral() == types.NullValue {
			c.Op = CondMissing
		}
		return c
	case operators.In:
		c.Is, c.Not = "in", !is
		if swapped {
			return nil
		}
		return c
	}
	if c.Is = straight[name]; swapped {
		c.Is = mirrored[name]
	}
	if c.Is == "" {
		return nil
	}
	if !is {
		c.Is = opposite[c.Is]
	}
	return c
}

// macro returns has, exists and all of a field; nil of other macros, and where what is said of an item
// looks at anything else than that, or cannot be taken apart.
func (p *parting) macro(call ast.CallExpr, is bool) *Condition {
	args := call.Args()
	switch {
	case call.FunctionName() == operators.Has && len(args) == 1:
		if path := p.path(args[0]); len(path) > 0 {
			return &Condition{Op: CondMissing, Not: is, Path: path}
		}
		return nil
	case len(args) != 2 || args[0].Kind() != ast.IdentKind || !call.IsMemberFunction():
		return nil
	}
	path := p.path(call.Target())
	item := &parting{info: p.info, item: args[0].AsIdent()}
	if len(path) == 0 || item.item == "caller" || item.item == p.item || item.mentions(args[1], p.item) {
		return nil
	}
	none := func(c *Condition) *Condition { return &Condition{Op: CondNone, Of: []*Condition{c}} }
	exists := func(c *Condition) *Condition { return &Condition{Op: CondExists, Path: path, Of: []*Condition{c}} }
	var c *Condition
	switch name := call.FunctionName(); {
	case name == operators.Exists && is:
		c = exists(item.part(args[1], true))
	case name == operators.Exists:
		c = none(exists(none(item.part(args[1], false))))
	case name == operators.All && is:
		c = none(exists(none(item.part(args[1], true))))
	case name == operators.All:
		c = exists(item.part(args[1], false))
	}
	if c == nil || c.rests() {
		return nil
	}
	return c
}

// rests reports whether some part of a condition could not be taken apart.
func (c *Condition) rests() bool {
	return c.Op == CondRest || slices.ContainsFunc(c.Of, (*Condition).rests)
}

// path returns the names of the fields that lead from the record to what an expression is; nil if it is
// none of its fields.
func (p *parting) path(e ast.Expr) []string {
	switch e.Kind() {
	case ast.IdentKind:
		if e.AsIdent() == p.item {
			return []string{}
		}
	case ast.SelectKind:
		s := e.AsSelect()
		if above := p.path(s.Operand()); above != nil && !s.IsTestOnly() {
			return append(above, s.FieldName())
		}
	}
	return nil
}

// known reports whether an expression looks at no record.
func (p *parting) known(e ast.Expr) bool { return !p.mentions(e, p.item) && !p.mentions(e, "record") }

// mentions reports whether an expression has a name in it.
func (p *parting) mentions(e ast.Expr, name string) bool {
	found := false
	ast.PreOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		found = found || e.Kind() == ast.IdentKind && e.AsIdent() == name
		if call, ok := p.info.GetMacroCall(e.ID()); ok && call != e && e.Kind() == ast.UnspecifiedExprKind {
			found = found || p.mentions(call, name)
		}
	}))
	return found
}
