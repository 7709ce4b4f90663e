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

// This file binds values that callers do not choose: those that set and adjust give.
//
//	@add(set: ["id: uuid()", "arrivedAt: now"])
//	@change(adjust: ["visits: 1"])

// A Set is an expression that gives a value.
type Set struct {
	Expr *expression.Program
	Args []*schema.Input // that it looks at
	// Needs is what it looks at of the record as it was; nil for nothing.
	Needs *language.SelectionSet
	// Scale is how many digits of a second the field holds; nil for as many as there are.
	Scale *int
}

// moment is the type of now.
var moment = &expression.Type{Kind: expression.Moment}

// settings binds the expressions of a directive, each a value that is written.
func (b *binder) settings(f *schema.Field, w *Write, d *language.Directive) (values []WriteValue) {
	for _, name := range []string{"set", "adjust"} {
		for _, item := range language.Texts(d.Argument(name)) {
			field, expr, ok := strings.Cut(item, ":")
			if !ok && name == "adjust" {
				continue // an argument
			}
			if !ok {
				b.fail(ruleWrite, d.Pos, f.Coordinate(), "write \"field: expression\", such as \"arrivedAt: now\"", msgSetForm, f.Coordinate(), item)
				continue
			}
			if v := b.setting(f, w, d, strings.TrimSpace(field), expr); v != nil {
				if name == "adjust" {
					v.How = store.Adjusted
				}
				if v.How == store.Adjusted && (v.Many || v.Kind != store.Int && v.Kind != store.Float && v.Kind != store.Decimal) {
					b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave it out of adjust", msgSetAdjust, f.Coordinate(), v.About)
					continue
				}
				values = append(values, *v)
			}
		}
	}
	return values
}

// onlyLooked reports whether an argument is no field of the type, and an expression looks at it,
// or a function in the transaction.
func (b *binder) onlyLooked(f *schema.Field, w *Write, a *schema.Input, values []WriteValue) bool {
	if a.Directive("at") != nil || b.writtenPath(w.Records, a.Name) != "" || b.holder(w.Records, a.Name) != nil {
		return false
	}
	if _, isInput := schema.NamedOf(a.Type).(*schema.InputObject); isInput {
		return false
	}
	return f.Directive("within") != nil || slices.ContainsFunc(values, func(v WriteValue) bool { return slices.Contains(v.Set.Args, a) })
}

// set adds the value of an expression, which nothing else may give.
func (b *binder) set(f *schema.Field, w *Write, v WriteValue, d *language.Directive) {
	if w.Action == store.Change && slices.Contains(w.Records.Key, v.Path) {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave it out", msgSetKey, f.Coordinate(), v.About, w.Records.Type)
		return
	}
	if i := slices.IndexFunc(w.Values, func(other WriteValue) bool { return other.Path == v.Path }); i >= 0 {
		other := w.Values[i]
		if other.Input != nil && b.bound.Schema.Position(other.Input.Pos).Name == SuppliedName {
			w.Values[i] = v // what is supplied leaves it to the directive
			b.refused = append(b.refused, other.Input.Coordinate)
			return
		}
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave one of them out", msgWriteTwice, f.Coordinate(), w.Records.Set, v.Path, other.About, "an expression")
		return
	}
	w.Values = append(w.Values, v)
}

// setting binds an expression that gives the value of a field of the type, or of a stored
// field that the type does not have; nil after telling why not.
func (b *binder) setting(f *schema.Field, w *Write, d *language.Directive, name, expr string) *WriteValue {
	r := w.Records
	v := &WriteValue{Path: b.writtenPath(r, name), About: r.Type.String() + "." + name, Set: &Set{}}
	want := &expression.Type{Nullable: true}
	of := fieldOf(b.bound.Schema, r.Type, name)
	switch {
	case v.Path != "" && of != nil && schema.IsLeaf(schema.NamedOf(of.Type)):
		want = b.expressionType(schema.Nullable(of.Type))
	case v.Path == "" && r.Info != nil && r.Info.Field(name) != nil:
		v.Path, v.About = name, r.Set+"."+name
	case v.Path == "":
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgSetNoField, f.Coordinate(), name, r.Type, language.DidYouMean(name, leafNames(r.Type)))
		return nil
	}
	info := b.info(nil, r, v.Path, f.Coordinate(), "")
	if info == nil && r.Info != nil && r.Info.Sampled && of != nil { // in none of the records that were looked at
		info = &store.Field{Name: v.Path}
		info.Kind, _, _ = fit(schema.NamedOf(of.Type), store.Unknown)
	}
	switch {
	case info == nil:
		return nil // nothing is known of the set yet, or it is told
	case info.Generated:
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave it out", msgWriteGenerated, f.Coordinate(), r.Set, v.Path)
		return nil
	case info.Column != "":
		b.fail(ruleNotYet, d.Pos, f.Coordinate(), "give the column as a whole", msgWriteInside, f.Coordinate(), r.Set, v.Path)
		return nil
	}
	known := valueOf(info)
	v.Kind, v.Set.Scale = known.Kind, info.Scale
	if v.Set.Scale == nil {
		v.Set.Scale = r.Source.Capabilities.Write.Scale
	}
	switch {
	case v.Kind == store.Unknown:
		v.Kind = store.Text
	case v.Kind == store.Binary && slices.Contains(known.Also, store.UUID): // uuid() gives it as text
		v.Kind = store.UUID
	}
	if v.Many = info.Kind == store.List; v.Many {
		v.Kind = info.Elem
	}
	if of != nil {
		if e, ok := schema.NamedOf(of.Type).(*schema.Enum); ok {
			v.Enum = b.enum(e, r, r.Source, info)
		}
	}
	inputs := map[string]*expression.Type{"args": b.argsType(f), "now": moment, "caller": expression.Caller}
	if d.Name.Text == "change" {
		inputs["record"] = b.recordOf(r.Type, false)
	}
	program, err := expression.Compile(strings.TrimSpace(expr), inputs, want, expression.UUID, expression.ObjectID)
	if err != nil {
		msg, fix := err.Error(), ""
		if m := (*expression.Mistake)(nil); errors.As(err, &m) {
			msg, fix = m.Msg, m.Fix
		}
		b.fail(ruleWrite, d.Pos, f.Coordinate(), fix, msgSetExpression, name, f.Coordinate(), msg)
		return nil
	}
	v.Set.Expr = program
	for _, n := range program.Needs["args"] {
		if a := f.Arg(n.Name); a != nil {
			v.Set.Args = append(v.Set.Args, a)
		}
	}
	if needs := program.Needs["record"]; len(needs) > 0 && !b.looksAt(f, w, d, name, v.Set, needs) {
		return nil
	}
	return v
}

// looksAt notes what an expression looks at of the record as it was, which is then read, and
// locked, before it is written; false after telling that it cannot be.
func (b *binder) looksAt(f *schema.Field, w *Write, d *language.Directive, name string, set *Set, needs []*expression.Need) bool {
	if can := w.Records.Source.Capabilities.Write; can != nil && can.Apart {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave it out, or count by adjust", msgSetRecordApart, name, f.Coordinate(), w.Records.Source.Name)
		return false
	}
	for _, n := range needs {
		for _, o := range b.bound.Schema.Possible(w.Records.Type) {
			object := w.Records.Object(o)
			if object == nil {
				continue
			}
			if of := object.Fields[n.Name]; of == nil || of.How != Column && of.How != Nested || len(of.Wanted.Via) > 0 || of.Wanted.Aggregate != store.NoAggregate {
				b.fail(ruleWrite, d.Pos, f.Coordinate(), "leave it out, or let a function in the transaction do it", msgSetRecord, name, f.Coordinate(), n.Name)
				return false
			}
		}
	}
	var text strings.Builder
	b.writeNeeds(&text, w.Records.Type, needs)
	var msg string
	if set.Needs, msg, _ = b.parseSelection(text.String(), w.Records.Type.(schema.Composite)); set.Needs == nil {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgSetExpression, name, f.Coordinate(), msg)
		return false
	}
	w.Looks = true
	return true
}
