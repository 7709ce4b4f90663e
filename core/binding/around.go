package binding

import (
	"slices"

	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/schema"
)

// This file tells of rules that do not do what they seem to: nobody fits them, there is a way around them, or
// they cost more than one would think.

// around looks at all rules.
func (b *binder) around() {
	for _, t := range b.bound.Schema.Types() {
		if r := b.bound.rules[t.String()]; r != nil {
			b.useful(r)
			b.onRows(r)
		}
		o, isObject := t.(*schema.Object)
		if !isObject {
			continue
		}
		for _, f := range o.Fields {
			if r := b.bound.rules[f.Coordinate()]; r != nil {
				b.useful(r)
				b.ofInterface(f, r)
			}
			if len(b.bound.fieldRules[f]) == 0 {
				b.looksBehind(o, f)
			}
		}
	}
}

// useful tells of a rule that nobody fits.
func (b *binder) useful(r *Rule) {
	for _, w := range r.Ways {
		for _, role := range w.Roles {
			if known := b.unruled.Known; known != nil && !slices.Contains(known, role) {
				b.warn(ruleFor, r.Pos, r.On, "", msgForRole, r.On, role, language.DidYouMean(role, known))
			}
		}
	}
	for _, w := range r.Ways {
		if w.Roles != nil && len(w.Roles) == 0 {
			continue
		}
		if w.When == nil || !isNever(w.When) {
			return
		}
	}
	b.warn(ruleFor, r.Pos, r.On, "leave out what nobody is to see", msgForNobody, r.On)
}

// isNever reports whether a condition looks at nothing, and is not true.
func isNever(w *When) bool {
	for _, needs := range w.Expr.Needs {
		if len(needs) > 0 {
			return false
		}
	}
	v, err := w.Expr.Run(map[string]any{"caller": noCaller{}, "record": noCaller{}, "args": noCaller{}})
	return err == nil && v != true
}

// noCaller has no fields.
type noCaller struct{}

// Field returns nothing.
func (noCaller) Field(string) (any, error) { return nil, nil }

// onRows tells of a rule that no store is asked: each read brings all records that it could be true of.
func (b *binder) onRows(r *Rule) {
	for _, w := range r.Ways {
		if w.When != nil && w.When.Cond != nil && w.When.Cond.Rests() {
			b.warn(ruleFor, r.Pos, r.On, "compare fields with values, as in record.owner == caller.id", msgForRows, r.On, restOf(w.When.Cond))
		}
	}
}

// restOf returns the first part of a condition that is decided on the rows.
func restOf(c *Cond) string {
	if c.Op == expression.CondRest {
		return c.Given
	}
	for _, part := range c.Of {
		if text := restOf(part); text != "" {
			return text
		}
	}
	return ""
}

// ofInterface tells of a field with a rule that its interface's field does not have: who asks the interface
// would meet null where the schema promises a value.
func (b *binder) ofInterface(f *schema.Field, r *Rule) {
	for _, i := range schema.InterfacesOf(f.Owner) {
		above := i.Field(f.Name)
		if above == nil || b.bound.rules[above.Coordinate()] != nil {
			continue
		}
		b.fail(ruleFor, r.Pos, f.Coordinate(), "write it behind "+above.Coordinate()+", too", msgForInterface, f.Coordinate(), above.Coordinate())
	}
}

// looksBehind tells of a field without a rule that shows what another is to hide: it is the same stored field,
// or is computed of it.
func (b *binder) looksBehind(o *schema.Object, f *schema.Field) {
	ruled := func(other *schema.Field) bool { return other != f && len(b.bound.fieldRules[other]) > 0 }
	if set := b.needs[f]; set != nil {
		for _, sel := range set.List {
			field, ok := sel.(*language.Field)
			if other := o.Field(nameOf(field)); ok && other != nil && ruled(other) {
				b.warn(ruleFor, f.Pos, f.Coordinate(), "give it the rule, too, if it tells too much", msgForComputed, f.Coordinate(), other.Coordinate())
			}
		}
		return
	}
	records := b.bound.records[o]
	if records == nil || records.Object(o) == nil {
		return
	}
	own := records.Object(o).Fields[f.Name]
	if own == nil || own.How != Column {
		return
	}
	for _, other := range o.Fields {
		of := records.Object(o).Fields[other.Name]
		if ruled(other) && of != nil && of.How == Column && of.Wanted.Path == own.Wanted.Path && !slices.Contains(records.Key, own.Wanted.Path) {
			b.warn(ruleFor, f.Pos, f.Coordinate(), "give both the same rule", msgForSame, f.Coordinate(), other.Coordinate(), records.Set, own.Wanted.Path)
		}
	}
}

func nameOf(f *language.Field) string {
	if f == nil {
		return ""
	}
	return f.Name.Text
}
