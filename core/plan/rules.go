package plan

import (
	"slices"

	"osprey/core/binding"
	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file applies rules. Those of types are applied where the arguments of a read become conditions,
// which every read of a record set goes through; where a filter or a sort key looks at another set; and
// where a join table has records of its own. What a rule says of the caller alone is decided here, so that
// of
//
//	@for(when: "'clerk' in caller.roles || record.operator == caller.claims.operator")
//
// nothing is left for a clerk, and for others one condition, whose value is that of each run.

// An allowance is what must be true of the rows of one type beyond what their store is asked: one of it.
type allowance struct {
	object *binding.Object
	any    []rest
	on     string // what the rule stands on
}

// A rest is an expression on a row, with what it looks at.
type rest struct {
	program *expression.Program
	needs   *language.SelectionSet
}

// outcome is what came of an expression that looks at the caller.
type outcome byte

const (
	isTrue  outcome = 't'
	isFalse outcome = 'f'
	isNull  outcome = 'n'
	isValue outcome = 'v'
	failed  outcome = 'e'
)

// decide evaluates an expression that looks at the caller alone.
func decide(p *expression.Program, who *store.Identity) (outcome, error) {
	v, err := p.Run(map[string]any{"caller": who})
	switch {
	case err != nil:
		return failed, err
	case v == nil:
		return isNull, nil
	case v == true:
		return isTrue, nil
	case v == false:
		return isFalse, nil
	}
	return isValue, nil
}

// guard decides an expression that looks at the caller alone, on which the plan then depends.
func (b *builder) guard(p *expression.Program, on string) outcome {
	is, err := decide(p, b.viewer.Who)
	if !slices.Contains(b.plan.Depends.guards, p) {
		b.plan.Depends.guards = append(b.plan.Depends.guards, p)
		if err != nil && !expression.Absent(err) {
			b.plan.Failed = append(b.plan.Failed, RuleError{on, err})
		}
	}
	return is
}

// open returns the ways of a rule that are open to the caller by its roles, or that one of them asks
// nothing more.
func (b *builder) open(r *binding.Rule) (ways []*binding.When, always bool) {
	for _, w := range r.Ways {
		if w.Roles != nil && (b.viewer.Who == nil || !slices.ContainsFunc(w.Roles, func(role string) bool { return slices.Contains(b.viewer.Who.Roles, role) })) {
			continue
		}
		if w.When == nil {
			return nil, true
		}
		ways = append(ways, w.When)
	}
	return ways, false
}

// A verdict is what a rule comes to: never, or some conditions and rests, all of which must hold.
type verdict struct {
	never bool
	where []store.Predicate
	rests [][]rest
}

// rule adds the rules of the records of a set to what a read asks.
func (b *builder) rule(use *arguments, records *binding.Records, only []*schema.Object) {
	if b.raw > 0 || !b.bound.HasRules() {
		return
	}
	where := b.ruled(records, only, &use.values, func(a allowance) { use.allow = append(use.allow, a) }, &use.nothing)
	for _, p := range where { // what is asked anyhow is asked once
		if !slices.Contains(texts(use.where, use.values), texts([]store.Predicate{p}, use.values)[0]) {
			use.where = append(slices.Clip(use.where), p)
		}
	}
	use.ruled = len(where) > 0 || len(use.allow) > 0
}

// ruled returns the conditions that rules set to records; rests takes what is decided on the rows.
func (b *builder) ruled(records *binding.Records, only []*schema.Object, values *[]*Arg, rests func(allowance), nothing *bool) (where []store.Predicate) {
	objects := only
	if objects == nil {
		objects = b.bound.Schema.Possible(records.Type)
	}
	objects = slices.DeleteFunc(slices.Clone(objects), func(o *schema.Object) bool { return records.Object(o) == nil })
	if len(objects) == 0 || !slices.ContainsFunc(objects, func(o *schema.Object) bool { return len(b.bound.TypeRules(o)) > 0 }) {
		return nil
	}
	alike := !slices.ContainsFunc(objects, func(o *schema.Object) bool { return !slices.Equal(b.bound.TypeRules(o), b.bound.TypeRules(objects[0])) })
	all := true
	for i, o := range objects {
		before := len(*values)
		v := b.verdict(b.bound.TypeRules(o), o.Name, values)
		all = all && v.never
		for _, any := range v.rests {
			rests(allowance{records.Object(o), any, o.Name})
		}
		switch {
		case alike && i > 0:
			*values = (*values)[:before] // they are those of the first
		case alike && v.never:
			where = append(where, store.Predicate{Op: store.Any})
		case alike:
			where = append(where, v.where...)
		case v.never || len(v.where) > 0:
			kind := narrowed(binding.Narrow{Path: records.Kind.Path, Kind: records.Kind.Column, Values: []string{records.Kind.Stored[o]}})
			kind.Column = len(*values)
			*values = append(*values, kind)
			other := not(store.Predicate{Path: kind.Path, Kind: kind.Kind, Value: kind.Column})
			if !v.never {
				other = store.Predicate{Op: store.Any, Of: []store.Predicate{other, one(v.where)}}
			}
			where = append(where, other)
		}
	}
	if all && nothing != nil {
		*nothing = true
	}
	return where
}

// verdict decides rules, all of which must hold.
func (b *builder) verdict(rules []*binding.Rule, on string, values *[]*Arg) (v verdict) {
	for _, r := range rules {
		ways, always := b.open(r)
		if always {
			continue
		}
		if len(ways) == 1 {
			b.require(&v, ways[0].Cond, on, values)
		} else {
			b.requireAny(&v, ways, on, values)
		}
		if v.never {
			return v
		}
	}
	return v
}

// requireAny adds that one of several conditions holds.
func (b *builder) requireAny(v *verdict, ways []*binding.When, on string, values *[]*Arg) {
	var any []store.Predicate
	var rests []rest
	before := len(*values)
	rested := false
	for _, w := range ways {
		var own verdict
		if b.require(&own, w.Cond, on, values); own.never {
			continue
		}
		rests = append(rests, rest{w.Expr, w.Needs})
		switch {
		case len(own.rests) > 0:
			rested = true
		case len(own.where) == 0:
			*values = (*values)[:before]
			return // it holds anyhow
		default:
			any = append(any, one(own.where))
		}
	}
	switch {
	case len(rests) == 0:
		v.never = true
	case rested: // the store cannot be asked one of them, and so none
		*values = (*values)[:before]
		v.rests = append(v.rests, rests)
	case len(any) == 1:
		v.where = append(v.where, any[0])
	default:
		v.where = append(v.where, store.Predicate{Op: store.Any, Of: any})
	}
}

// require adds a condition.
func (b *builder) require(v *verdict, c *binding.Cond, on string, values *[]*Arg) {
	switch c.Op {
	case expression.CondAll:
		for _, part := range c.Of {
			b.require(v, part, on, values)
		}
	case expression.CondRest:
		v.rests = append(v.rests, []rest{{c.Expr, c.Needs}})
	default:
		switch is, p := b.asked(c, on, values); is {
		case isFalse:
			v.never = true
		case isValue:
			v.where = append(v.where, p)
		}
	}
}

// asked returns what a store is asked for a condition without rests; or that it holds, or does not,
// whatever the record.
func (b *builder) asked(c *binding.Cond, on string, values *[]*Arg) (outcome, store.Predicate) {
	switch c.Op {
	case expression.CondKnown:
		if b.guard(c.Expr, on) == isTrue {
			return isTrue, store.Predicate{}
		}
		return isFalse, store.Predicate{}
	case expression.CondAll, expression.CondAny:
		return b.askedOf(c, on, values)
	case expression.CondNone:
		switch is, p := b.asked(c.Of[0], on, values); is {
		case isTrue:
			return isFalse, p
		case isFalse:
			return isTrue, p
		default:
			return is, not(p)
		}
	case expression.CondMissing:
		p := store.Predicate{Op: store.Missing, Path: c.Path, Kind: c.Kind}
		if c.Not {
			p = not(p)
		}
		return isValue, p
	case expression.CondExists:
		with := store.Predicate{Op: store.With, Path: c.Path, Link: c.Link}
		for _, n := range c.Narrows {
			arg := narrowed(n)
			arg.Column = len(*values)
			*values = append(*values, arg)
			with.Of = append(with.Of, store.Predicate{Path: n.Path, Kind: n.Kind, Many: arg.Many, Value: arg.Column})
		}
		if len(c.Of) > 0 {
			switch is, p := b.asked(c.Of[0], on, values); is {
			case isFalse:
				return isFalse, p
			case isValue:
				with.Of = append(with.Of, p)
			}
		}
		if c.Not {
			with = not(with)
		}
		return isValue, with
	}
	return b.compared(c, on, values)
}

// askedOf returns several conditions as one.
func (b *builder) askedOf(c *binding.Cond, on string, values *[]*Arg) (outcome, store.Predicate) {
	p := store.Predicate{Op: store.All}
	decides := isFalse // what one of them decides for all
	if c.Op == expression.CondAny {
		p.Op, decides = store.Any, isTrue
	}
	for _, part := range c.Of {
		switch is, own := b.asked(part, on, values); is {
		case decides:
			return decides, own
		case isValue:
			p.Of = append(p.Of, own)
		}
	}
	switch len(p.Of) {
	case 0:
		return map[outcome]outcome{isFalse: isTrue, isTrue: isFalse}[decides], p
	case 1:
		return isValue, p.Of[0]
	}
	return isValue, p
}

// compared returns a comparison with a value that the caller gives.
func (b *builder) compared(c *binding.Cond, on string, values *[]*Arg) (outcome, store.Predicate) {
	equals := c.Is == store.Is && !c.Many
	switch is := b.guard(c.Value, on); {
	case is == isNull && equals && c.Not:
		return isTrue, store.Predicate{} // null equals nothing
	case is == isNull || is == failed:
		return isFalse, store.Predicate{}
	}
	arg := &Arg{Name: on, Rule: c.Value, Literal: &language.EnumValue{Name: c.Given}, Column: len(*values), Path: c.Path, Kind: c.Kind, Many: c.Many, Enum: c.Enum, Holds: c.Holds, Op: c.Is}
	*values = append(*values, arg)
	p := store.Predicate{Op: c.Is, Path: c.Path, Kind: c.Kind, Many: c.Many, Value: arg.Column}
	switch {
	case c.Not && c.Is != store.Is:
		there := not(store.Predicate{Op: store.Missing, Path: c.Path, Kind: c.Kind})
		p = store.Predicate{Op: store.All, Of: []store.Predicate{there, not(p)}}
	case c.Not:
		p = not(p)
	}
	return isValue, p
}

// linked returns what the records of another set that a filter or a sort key looks at must have by rules;
// false if a store cannot be asked it.
func (b *builder) linked(records *binding.Records, only []*schema.Object, values *[]*Arg) (where []store.Predicate, ok bool) {
	if b.raw > 0 || !b.bound.HasRules() {
		return nil, true
	}
	ok = true
	where = b.ruled(records, only, values, func(allowance) { ok = false }, nil)
	return where, ok
}

// paired returns a link with what the rules of the types whose records are the rows of its join table set
// to these; false if a store cannot be asked it.
func (b *builder) paired(source *binding.Source, link *store.Link, values *[]*Arg) (*store.Link, bool) {
	if link.JoinTable == nil || b.raw > 0 || !b.bound.HasRules() {
		return link, true
	}
	where, ok := []store.Predicate(nil), true
	for _, records := range b.bound.RecordsIn(source, link.JoinTable.Set) {
		more, asked := b.linked(records, nil, values)
		where, ok = append(where, more...), ok && asked
	}
	if len(where) == 0 {
		return link, ok
	}
	own, pairs := *link, *link.JoinTable
	pairs.Where = where
	own.JoinTable = &pairs
	return &own, ok
}

// allow plans what is looked at of the rows of a step before they are taken.
func (b *builder) allow(step *Step, r *rows, list []allowance) {
	if len(list) == 0 {
		return
	}
	b.raw++
	defer func() { b.raw-- }()
	kind, only := -1, r.only
	records := r.node.records
	if records.Kind != nil && len(list) > 0 {
		kind = r.column(store.Wanted{Path: records.Kind.Path, Kind: records.Kind.Column})
	}
	for _, a := range list {
		of := Only{Kind: kind}
		if kind >= 0 {
			of.Stored = records.Kind.Stored[a.object.Type]
		}
		r.only = of
		step.Allow = append(step.Allow, b.rests(a.any, a.on, r, a.object, nil))
	}
	r.only = only
}

// rests plans expressions, one of which must be true of a row.
func (b *builder) rests(any []rest, on string, r *rows, object *binding.Object, args []*Arg) (fields []*Field) {
	for _, e := range any {
		f := &Field{What: Expression, At: on, Expr: e.program, Args: args, Only: Only{Kind: -1}, Result: store.Wanted{Kind: store.Bool}}
		if r != nil {
			f.Only = r.only
			if e.needs != nil {
				f.Needs = b.fields(r, object, []*language.SelectionSet{e.needs})
			}
		}
		fields = append(fields, f)
	}
	return fields
}

// fieldRules applies the rules of a field. It reports whether nothing more is planned of it, since the
// caller may not read it.
func (b *builder) fieldRules(f *Field, r *rows, g group, bound *binding.Field, object *binding.Object) (denied bool) {
	if b.raw > 0 || b.trusted > 0 {
		return false
	}
	for _, rule := range b.bound.FieldRules(bound.Def) {
		ways, always := b.open(rule)
		if always {
			continue
		}
		var any []rest
		var looked []*Arg
		holds := false
		for _, w := range ways {
			if w.Needs == nil && len(w.Args) == 0 {
				holds = holds || b.guard(w.Expr, rule.On) == isTrue
				continue
			}
			any = append(any, rest{w.Expr, w.Needs})
			looked = b.passedOf(g, w.Args, looked)
		}
		switch {
		case holds:
		case len(any) == 0:
			f.What = Denied
			return true
		default:
			b.raw++
			var only Only
			if r != nil {
				only = r.only
			}
			f.Allow = append(f.Allow, b.rests(any, rule.On, r, object, looked))
			if r != nil {
				r.only = only
			}
			b.raw--
		}
	}
	return false
}

// passedOf adds arguments that an expression looks at to a list, as they are given.
func (b *builder) passedOf(g group, list []*schema.Input, into []*Arg) []*Arg {
	for _, in := range list {
		of := &binding.Arg{Def: in, Role: binding.Passed}
		if a := b.arg(g.fields[0], of); a != nil {
			into = append(into, a)
		}
	}
	return into
}

// seen returns what records that were written must be for the caller to see them.
func (b *builder) seen(def *binding.Field) (use arguments) {
	b.rule(&use, def.Target, def.Only)
	return use
}

// held has what was written looked at in its transaction: the caller may write only what it may see, before
// and after. Of a pair, both records are looked at.
func (b *builder) held(u *unit, def *binding.Field, written *rows) {
	w := def.Write
	switch {
	case w.Pair:
		b.check(u, def, written, writtenStep)
		if other := w.Other; other != nil {
			b.check(u, other, written, "paired")
		}
	case w.Action != store.Remove:
		b.check(u, def, written, writtenStep)
	}
}

// check looks whether records that were written, or that a pair is of, are what the caller may see.
func (b *builder) check(u *unit, def *binding.Field, written *rows, name string) {
	use := b.seen(def)
	if !use.ruled {
		return
	}
	keyed := *def
	keyed.How, keyed.Many, keyed.Args = binding.Related, false, nil
	u.checks = append(u.checks, b.readFor(written, name, &keyed, use).step)
}
