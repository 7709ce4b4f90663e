package binding

import (
	"slices"

	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds records that are added together with one that they refer to:
//
//	arrive(call: Arrival!): PortCall @add
//	input Arrival { craft: ID! …  pilotage: [Escort!] }
//	input Escort { pilot: ID!  role: PilotRole! }
//
// pilotage is a list of the type PortCall, and its records have call_id, which is the id that
// the port call gets. What is in another source, or in one without transactions, is written behind
// the rest, and not in one transaction with it.

// A NestedWrite is records that are added with those of a write above.
type NestedWrite struct {
	*Write
	Arg    *schema.Input // the argument whose objects have these; nil within others
	Within *schema.Input // the field of the input object above that has them
}

// nest binds a field of an input object that is records which refer to the one that is
// added; false if it is none.
func (b *binder) nest(f *schema.Field, w *Write, a, in *schema.Input, within []*schema.InputObject) bool {
	input, ok := schema.NamedOf(in.Type).(*schema.InputObject)
	if !ok || w.Action != store.Add {
		return false
	}
	related := b.referring(w.Records, in.Name)
	if related == nil || w.elsewhere && related.Target.Source != w.Records.Source {
		return false
	}
	if can := related.Target.Source.Capabilities.Write; can == nil && !related.Target.unknown() {
		b.fail(ruleNotYet, in.Pos, in.Coordinate, "", msgWriteNotYet, in.Coordinate, related.Target.Source.Name, related.Target.Source.Kind)
		return true
	} else if apart := related.Target.Source != w.Records.Source || can != nil && can.Apart; apart && !b.apart[in] {
		b.apart[in] = true
		b.warn(ruleApart, in.Pos, in.Coordinate, "leave it out, where the one must not be without the other", msgNestsApart, in.Coordinate, related.Target.Source.Name, f.Coordinate())
	}
	if slices.Contains(within, input) {
		b.fail(ruleWrite, in.Pos, in.Coordinate, "leave it out", msgNestsItself, in.Coordinate, input)
		return true
	}
	own := &Write{Action: store.Add, Records: related.Target, elsewhere: w.elsewhere || related.Target.Source != w.Records.Source}
	if _, own.Several = schema.ListElem(in.Type); own.Several != related.Many {
		fix := "make it " + input.Name
		if related.Many {
			fix = "make it [" + input.Name + "!]"
		}
		b.fail(ruleWrite, in.Pos, in.Coordinate, fix, msgWriteList, in.Coordinate)
		return true
	}
	for i, path := range related.There {
		own.Values = append(own.Values, WriteValue{Above: related.Here[i], Path: path, Kind: b.kindOfField(related.Target, path)})
	}
	b.writeFields(f, own, in, input, append(within, input))
	bound := &Field{Def: f, Target: related.Target, Only: related.Only, Write: own}
	b.tellType(f, in.Pos, bound)
	b.allFilled(f, own)
	nested := &NestedWrite{Write: own, Within: in}
	if f.Arg(a.Name) == a {
		nested.Arg = a
	}
	w.Nested = append(w.Nested, nested)
	return true
}

// referring returns the relationship of a name whose records refer to those of a set; nil if there
// is none.
func (b *binder) referring(r *Records, name string) *Field {
	for _, o := range b.bound.Schema.Possible(r.Type) {
		object := r.Object(o)
		if object == nil || object.Fields[name] == nil {
			continue
		}
		f := object.Fields[name]
		if f.How == Related && f.Parts == nil && f.JoinTable == nil && f.Aggregate == nil && f.Page == nil && f.Where == nil && !f.ListHere && !f.ListThere &&
			(f.Target.Info == nil || f.Target.Info.ReadOnly == "") && (!slices.Equal(f.There, f.Target.Key) || slices.Equal(f.Here, r.Key) && !r.refers(f)) {
			return f
		}
	}
	return nil
}

// refers reports whether records have a foreign key by which a relationship leads away.
func (r *Records) refers(f *Field) bool {
	return r.Info != nil && slices.ContainsFunc(r.Info.Constraints, func(c store.Constraint) bool {
		return c.Foreign() && c.Set == f.Target.Set && slices.Equal(c.Fields, f.Here)
	})
}

// kindOfField returns the kind of a stored field, as far as it is known.
func (b *binder) kindOfField(r *Records, path string) store.Kind {
	if r.Info != nil {
		if f := r.Info.Field(path); f != nil && f.Kind != store.Unknown {
			return f.Kind
		}
	}
	return store.Text
}
