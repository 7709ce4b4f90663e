package binding

import (
	"errors"
	"slices"
	"strings"

	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds rules: who may see what. A rule on a type is one of its record set, and holds for its
// records whatever way leads to them; what of it the store can tell becomes a condition.
//
//	type Operator @stored(in: "registry")
//	  @for(roles: ["clerk"]) @for(when: "record.id == caller.claims.operator")
//
// clerks see all operators, and others the one that their token names.

// A Rule says for whom something is there: for callers to whom one of its ways is open.
type Rule struct {
	On   string // what it stands on: a schema coordinate
	Pos  language.Pos
	Ways []*Way
}

// A Way is one @for.
type Way struct {
	Roles []string // callers must have one of them; nil for all callers
	When  *When    // and this must be true; nil if nothing must
}

// A When is an expression that must be true.
type When struct {
	Text string
	Expr *expression.Program
	// Needs is what it looks at of the record; nil for nothing. Args are the arguments that it looks at.
	Needs *language.SelectionSet
	Args  []*schema.Input
	Cond  *Cond // of a type's rule: as a store can be asked it
	far   bool  // it looks at more than comes with the records
}

// A Cond is a condition on the records of a set, or a part of one, which holds as [expression.Condition]
// says.
type Cond struct {
	Op  expression.ConditionOp
	Of  []*Cond
	Not bool
	// Expr is of Known, and of Rest, which a store cannot be asked and which looks at Needs of the record.
	Expr  *expression.Program
	Needs *language.SelectionSet
	// Of Compare and Missing.
	Path  string
	Kind  store.Kind
	Is    store.Op
	Many  bool
	Enum  *Enum
	Holds expression.Kind // what the field is to an expression: other values equal nothing
	Value *expression.Program
	Given string // Value as it is written
	// Link leads to the records of an Exists; nil for nested ones, which are at Path.
	Link    *store.Link
	Narrows []Narrow
}

// Rests reports whether a store cannot be asked all of a condition.
func (c *Cond) Rests() bool {
	return c.Op == expression.CondRest || slices.ContainsFunc(c.Of, (*Cond).Rests)
}

// TypeRules returns the rules of the records of an object type: its own, and those of the interfaces
// that it implements. All of them hold.
func (b *Bound) TypeRules(t *schema.Object) []*Rule { return b.typeRules[t] }

// FieldRules returns the rules of a field of an object, and of the same field of its interfaces. All of them
// hold.
func (b *Bound) FieldRules(f *schema.Field) []*Rule { return b.fieldRules[f] }

// GivenRules reports whether what is given to fields has rules that depend on more of a caller than its roles.
func (b *Bound) GivenRules() bool { return b.givenRules }

// RuleOf returns the rule that stands on a coordinate; nil if none does.
func (b *Bound) RuleOf(coordinate string) *Rule { return b.rules[coordinate] }

// HasRules reports whether the schema has any.
func (b *Bound) HasRules() bool { return len(b.rules) > 0 }

// RecordsIn returns the records of all types that are in a set of a source, by the names of the types.
func (b *Bound) RecordsIn(source *Source, set string) (list []*Records) {
	for _, r := range b.records {
		if r.Source == source && r.Set == set && !slices.Contains(list, r) {
			list = append(list, r)
		}
	}
	slices.SortFunc(list, func(a, b *Records) int { return strings.Compare(a.Type.String(), b.Type.String()) })
	return list
}

// rules binds all rules of the schema.
func (b *binder) rules() {
	b.bound.rules, b.bound.typeRules, b.bound.fieldRules = map[string]*Rule{}, map[*schema.Object][]*Rule{}, map[*schema.Field][]*Rule{}
	own := map[schema.Named]*Rule{}
	for _, t := range b.bound.Schema.Types() {
		own[t] = b.rule(t.String(), t.About().Directives, func(d *language.Directive) *When { return b.typeWhen(t, d) })
		switch t := t.(type) {
		case *schema.Object, *schema.Interface:
			for _, f := range schema.FieldsOf(t) {
				b.rule(f.Coordinate(), f.Directives, func(d *language.Directive) *When { return b.fieldWhen(f, d) })
				b.inputRules(f.Args, b.argsType(f))
			}
		case *schema.InputObject:
			b.inputRules(t.Fields, b.givenType("fields of "+t.Name, t.Fields))
		case *schema.Enum:
			for _, v := range t.Values {
				b.rule(t.Name+"."+v.Name, v.Directives, b.noWhen(t.Name+"."+v.Name))
			}
		}
	}
	for _, t := range b.bound.Schema.Types() {
		o, ok := t.(*schema.Object)
		if !ok {
			continue
		}
		for _, of := range append([]schema.Named{o}, interfacesOf(o)...) {
			if r := own[of]; r != nil {
				b.bound.typeRules[o] = append(b.bound.typeRules[o], r)
			}
		}
		if len(b.bound.typeRules[o]) == 0 && b.bound.records[o] != nil {
			b.noRule(o)
		}
		for _, f := range o.Fields {
			for _, of := range append([]schema.Named{o}, interfacesOf(o)...) {
				if r := b.bound.rules[of.String()+"."+f.Name]; r != nil {
					b.bound.fieldRules[f] = append(b.bound.fieldRules[f], r)
				}
			}
		}
	}
}

// Unruled says what holds for types that are stored and have no rule.
type Unruled struct {
	Roles    []string // callers must have one of them; nil for all callers
	Required bool     // it is an error
	Known    []string // the roles that callers can have; nil if nobody knows
}

// noRule gives a type that has no rule what is said of such.
func (b *binder) noRule(o *schema.Object) {
	if b.unruled.Required {
		b.fail(ruleFor, o.Pos, o.Name, "write @for(roles: …), or @for(when: \"true\") if it is for everybody", msgForNone, o)
	}
	if b.unruled.Roles != nil {
		r := b.bound.rules[o.Name]
		if r == nil {
			r = &Rule{On: o.Name, Pos: o.Pos, Ways: []*Way{{Roles: b.unruled.Roles}}}
			b.bound.rules[o.Name] = r
		}
		b.bound.typeRules[o] = []*Rule{r}
	}
}

func interfacesOf(t schema.Named) (list []schema.Named) {
	for _, i := range schema.InterfacesOf(t) {
		list = append(list, i)
	}
	return list
}

// inputRules binds the rules of what is given: their conditions are of the caller, and of all that is given beside it.
func (b *binder) inputRules(list []*schema.Input, given *expression.Type) {
	for _, in := range list {
		r := b.rule(in.Coordinate, in.Directives, func(d *language.Directive) *When {
			return b.compileWhen(d, in.Coordinate, map[string]*expression.Type{"caller": expression.Caller, "args": given})
		})
		if r != nil && slices.ContainsFunc(r.Ways, func(w *Way) bool { return w.When != nil }) {
			b.bound.givenRules = true
		}
	}
}

// noWhen refuses a condition where there is no record.
func (b *binder) noWhen(coordinate string) func(d *language.Directive) *When {
	return func(d *language.Directive) *When {
		b.fail(ruleFor, d.Pos, coordinate, "write roles, or put the condition on the field", msgForNoWhen, coordinate)
		return nil
	}
}

// rule binds the directives of one coordinate; nil if there is none.
func (b *binder) rule(coordinate string, directives []*language.Directive, when func(d *language.Directive) *When) *Rule {
	var r *Rule
	for _, d := range directives {
		if d.Name.Text != "for" {
			continue
		}
		if r == nil {
			r = &Rule{On: coordinate, Pos: d.Pos}
			b.bound.rules[coordinate] = r
		}
		way := &Way{Roles: language.Texts(d.Argument("roles"))}
		if d.Argument("roles") == nil && d.Argument("when") == nil {
			b.fail(ruleFor, d.Pos, coordinate, "write roles: [\"…\"], when: \"…\", or both", msgForWhom, coordinate)
		}
		if d.Argument("roles") != nil && way.Roles == nil {
			way.Roles = []string{} // nobody
		}
		if text(d, "when") != "" {
			if way.When = when(d); way.When == nil {
				way.Roles = []string{} // which was told
			}
		}
		r.Ways = append(r.Ways, way)
	}
	b.decidable(r)
	return r
}

// decidable tells of a rule of a type of whose ways one is decided on the rows, and so all are, and another
// looks at more than comes with these.
func (b *binder) decidable(r *Rule) {
	if r == nil {
		return
	}
	some := func(is func(w *When) bool) bool {
		return slices.ContainsFunc(r.Ways, func(w *Way) bool { return w.When != nil && w.When.Cond != nil && is(w.When) })
	}
	if some(func(w *When) bool { return w.Cond.Rests() }) && some(func(w *When) bool { return w.far }) {
		b.fail(ruleFor, r.Pos, r.On, "compare fields with values in all of them", msgForMixed, r.On)
	}
}

// compileWhen compiles the expression of a rule; nil after telling what is wrong.
func (b *binder) compileWhen(d *language.Directive, coordinate string, inputs map[string]*expression.Type) *When {
	w := &When{Text: text(d, "when")}
	program, err := expression.CompileRule(w.Text, inputs)
	if err != nil {
		msg, fix := err.Error(), ""
		if m := (*expression.Mistake)(nil); errors.As(err, &m) {
			msg, fix = m.Msg, m.Fix
		}
		b.fail(ruleFor, d.Pos, coordinate, fix, msgForExpression, coordinate, msg)
		return nil
	}
	w.Expr = program
	return w
}

// fieldWhen binds the condition of a field's rule.
func (b *binder) fieldWhen(f *schema.Field, d *language.Directive) *When {
	inputs := map[string]*expression.Type{"caller": expression.Caller, "args": b.argsType(f)}
	root := !b.hasRecords(f.Owner)
	if !root {
		inputs["record"] = b.recordOf(f.Owner, false)
	}
	w := b.compileWhen(d, f.Coordinate(), inputs)
	if w == nil {
		return nil
	}
	for _, n := range w.Expr.Needs["args"] {
		if a := f.Arg(n.Name); a != nil {
			w.Args = append(w.Args, a)
		}
	}
	if !root && !b.whenNeeds(w, f.Owner, f.Coordinate(), d) {
		return nil
	}
	return w
}

// hasRecords reports whether values of a type are records, of a set or nested in others: those of a root type, of a
// page and of what a write answers are none.
func (b *binder) hasRecords(t schema.Named) bool {
	for _, o := range b.bound.Schema.Possible(t) {
		if b.bound.records[o] != nil {
			return true
		}
		for key := range b.nested {
			if key.t == o {
				return true
			}
		}
	}
	return false
}

// whenNeeds notes what a condition looks at of its record; false after telling what is wrong.
func (b *binder) whenNeeds(w *When, on schema.Named, coordinate string, d *language.Directive) bool {
	needs := w.Expr.Needs["record"]
	if len(needs) == 0 {
		return true
	}
	var text strings.Builder
	b.writeNeeds(&text, on, needs)
	var msg string
	if w.Needs, msg, _ = b.parseSelection(text.String(), on.(schema.Composite)); w.Needs == nil {
		b.fail(ruleFor, d.Pos, coordinate, "", msgForExpression, coordinate, msg)
		return false
	}
	return true
}

// typeWhen binds the condition of a type's rule, which is one of its records.
func (b *binder) typeWhen(t schema.Named, d *language.Directive) *When {
	var sets []*Records
	for _, o := range b.bound.Schema.Possible(t) {
		r := b.bound.records[o]
		if r == nil {
			sets = nil
			break
		}
		if !slices.Contains(sets, r) {
			sets = append(sets, r)
		}
	}
	if _, isUnion := t.(*schema.Union); len(sets) == 0 || isUnion {
		b.fail(ruleFor, d.Pos, t.String(), "write roles, or put the condition on the types that are stored", msgForNotStored, t)
		return nil
	}
	if len(sets) > 1 {
		b.fail(ruleFor, d.Pos, t.String(), "put the condition on each of its types", msgForSeveral, t)
		return nil
	}
	w := b.compileWhen(d, t.String(), map[string]*expression.Type{"caller": expression.Caller, "record": b.recordOf(t, false)})
	if w == nil || !b.whenNeeds(w, t, t.String(), d) {
		return nil
	}
	parts, err := expression.Apart(w.Text)
	if err != nil {
		b.fail(ruleFor, d.Pos, t.String(), "", msgForExpression, t.String(), err)
		return nil
	}
	c := &conditions{binder: b, on: t, at: place{records: sets[0], source: sets[0].Source}}
	w.Cond = c.cond(parts)
	if w.far = !b.ownColumns(sets[0], t, w.Expr.Needs["record"]); w.far && w.Cond.Rests() {
		b.fail(ruleFor, d.Pos, t.String(), "compare a field with a value, or put the condition on a field", msgForFar, t.String(), sets[0].Source.Name)
		return nil
	}
	return w
}

// ownColumns reports whether all that is looked at of the records of a set comes with them.
func (b *binder) ownColumns(r *Records, t schema.Named, needs []*expression.Need) bool {
	for _, n := range needs {
		if n.Name == "__typename" {
			continue
		}
		for _, o := range b.bound.Schema.Possible(t) {
			if f := r.Object(o).Fields[n.Name]; f == nil || f.How != Column && f.How != Nested || len(f.Args) > 0 {
				return false
			}
		}
	}
	return true
}

// ruled reports whether records of a set have rules: they are found by these before they are written.
func (b *binder) ruled(r *Records) bool {
	return slices.ContainsFunc(b.bound.Schema.Possible(r.Type), func(o *schema.Object) bool { return b.bound.records[o] == r && len(b.bound.typeRules[o]) > 0 })
}

// writtenUnder tells where the rules of records cannot be held to what is written to them: a source that is
// written to record by record has nothing that could be undone.
func (b *binder) writtenUnder(f *schema.Field, d *language.Directive, w *Write) {
	if w.Records.objects == nil || !b.ruled(w.Records) {
		return // a join table that no type has, too
	}
	conditional := false
	for _, o := range b.bound.Schema.Possible(w.Records.Type) {
		for _, r := range b.bound.typeRules[o] {
			conditional = conditional || slices.ContainsFunc(r.Ways, func(w *Way) bool { return w.When != nil })
		}
	}
	can := w.Records.Source.Capabilities.Write
	switch {
	case !conditional || can == nil:
	case can.Apart && w.Action != store.Remove:
		b.fail(ruleFor, d.Pos, f.Coordinate(), "give the rule of the type roles alone, or leave the field out", msgForWrite, w.Records.Type, f.Coordinate(), w.Records.Source.Name)
	case len(w.Replaces) > 0: // what is there would become the caller's by being replaced
		b.fail(ruleFor, d.Pos, f.Coordinate(), "add and change in two fields", msgForReplaces, w.Records.Type, f.Coordinate())
	case w.Find != nil && w.Find.Many && b.rests(w.Records):
		b.fail(ruleFor, d.Pos, f.Coordinate(), "let it find one record by its key", msgForFilter, w.Records.Type, f.Coordinate(), w.Records.Source.Name)
	}
	for _, n := range w.Nested {
		if n.Records.Source != w.Records.Source && n.Records.objects != nil && b.ruled(n.Records) {
			b.fail(ruleFor, d.Pos, f.Coordinate(), "add them by a field of their own", msgForElsewhere, n.Records.Type, f.Coordinate(), n.Records.Source.Name)
		}
	}
}

// rests reports whether some rule of records is decided on the rows.
func (b *binder) rests(r *Records) bool {
	for _, o := range b.bound.Schema.Possible(r.Type) {
		for _, rule := range b.bound.typeRules[o] {
			if slices.ContainsFunc(rule.Ways, func(w *Way) bool { return w.When != nil && w.When.Cond != nil && w.When.Cond.Rests() }) {
				return true
			}
		}
	}
	return false
}
