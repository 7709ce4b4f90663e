package binding

import "osprey/core/schema"

// This file binds objects that are no records: they group the fields of a root type,
// to any depth, and their fields are bound as those of the root type are.
//
//	type Query { harbour: Harbour! }
//	type Harbour { quays: [Quay!]! @read   busy: Boolean @computed(expr: "…") }

// group returns the object type that a root field groups others by; nil if it does
// something else.
func (b *binder) group(f *schema.Field) *schema.Object {
	o, ok := schema.NamedOf(f.Type).(*schema.Object)
	if !ok || schema.Depth(f.Type) > 0 || b.bound.records[o] != nil || o.Directive("stored") != nil {
		return nil
	}
	for _, name := range []string{"read", "computed", "total", "related"} {
		if directive(f, name) != nil {
			return nil
		}
	}
	if _, page := b.recordType(f); page != nil || !b.groups[o] {
		return nil
	}
	return o
}

// findGroups notes the types that group fields of a root type: those none of whose
// values a store has, since some field of theirs says itself where it comes from.
func (b *binder) findGroups(t *schema.Object, seen map[*schema.Object]bool) bool {
	if t == nil || seen[t] {
		return b.groups[t]
	}
	seen[t] = true
	for _, f := range t.Fields {
		o, ok := schema.NamedOf(f.Type).(*schema.Object)
		if !ok || schema.Depth(f.Type) > 0 || o.Directive("stored") != nil || b.bound.records[o] != nil {
			continue
		}
		if b.findGroups(o, seen) || saysWhere(o) {
			b.groups[o] = true
		}
	}
	return b.groups[t] || saysWhere(t)
}

// saysWhere reports whether a field of a type says where it comes from, as only those
// of a root type, and of what groups them, do.
func saysWhere(t *schema.Object) bool {
	for _, f := range t.Fields {
		if f.Directive("read") != nil || f.Directive("computed") != nil {
			return true
		}
	}
	return false
}

// grouped binds a root field that groups others.
func (b *binder) grouped(f *schema.Field, t *schema.Object) *Field {
	for _, a := range f.Args {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
	}
	if !b.bindsGroup[t] { // a type can group itself
		b.bindsGroup[t] = true
		b.reads(t)
	}
	return &Field{Def: f, How: Grouped}
}
