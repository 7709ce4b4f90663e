package binding

import (
	"strings"

	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds functions of the program that take part in the transaction of a write:
//
//	arrive(call: Arrival!): PortCall @add @within(by: "port.admit", needs: "id craft { lengthM }")

// within binds the function in the transaction of a field that writes, if it has one.
func (b *binder) within(f *schema.Field, bound *Field) {
	d := f.Directive("within")
	if d == nil {
		return
	}
	w, by := bound.Write, text(d, "by")
	if source := w.Records.Source; source.Capabilities.Write == nil || !source.Capabilities.Write.Shares {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWithinNoStore, f.Coordinate(), source.Name)
		return
	}
	source, function := b.functionOf(f, d, by, msgWithinNoFunction)
	if source == nil {
		return
	}
	called := &Field{Def: f, How: Called, Source: source, Function: function}
	signature := store.Signature{Args: &store.ValueType{}, Record: &store.ValueType{}, Within: true}
	if needs := text(d, "needs"); needs != "" {
		of := schema.Named(bound.Target.Type)
		if len(bound.Only) == 1 {
			of = bound.Only[0]
		}
		var msg, fix string
		called.NeedsOn = of
		called.Needs, msg, fix = b.parseSelection("{ "+needs+"\n}", of.(schema.Composite))
		if called.Needs == nil {
			b.fail(ruleWrite, d.Pos, f.Coordinate(), fix, msgNeeds, f.Coordinate(), msg)
			return
		}
		signature.Record = b.selectedType(of, called.Needs)
	}
	b.passed(f, called, signature.Args)
	if err := source.Capabilities.CanCall(function, signature); err != nil {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWithin, f.Coordinate(), by, err)
		return
	}
	w.Within = called
}

// withins tells of functions in transactions that there are not, or that need what is not in
// their source. It is done when all fields are bound.
func (b *binder) withins() {
	for _, t := range b.bound.Schema.Types() {
		o, isObject := t.(*schema.Object)
		if !isObject {
			continue
		}
		for _, def := range o.Fields {
			d := def.Directive("within")
			if d == nil {
				continue
			}
			if by, _ := writing(def); by == nil {
				b.fail(ruleWrite, d.Pos, def.Coordinate(), "", msgWithinNoWrite, def.Coordinate())
				continue
			}
			f := b.bound.roots[def]
			if f == nil || f.Write == nil || f.Write.Within == nil || f.Write.Within.Needs == nil {
				continue
			}
			if others := without(b.sourcesNeeded(f.Write.Within.Needs, f.Target, 0), f.Target.Source.Name); len(others) > 0 {
				b.fail(ruleWrite, d.Pos, def.Coordinate(), "", msgWithinElsewhere, def.Coordinate(), strings.Join(others, ", "))
			}
		}
	}
}
