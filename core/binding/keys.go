package binding

import (
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file finds out what the fields hold by which records are related: single
// values, or lists of keys; and whether they can be equal at all.
//
//	logs: [Log!]! @related(here: "id", there: "craft")          id 4        craft 4
//	members: [Collector!]! @related(here: "members")            [7, 4, 7]   id 4, id 7
//	boards: [Board!]! @related(here: "id", there: "members")    id 4        [7, 4, 7]

// A key is what a field holds by which records are related.
type key struct {
	kind store.Kind // Unknown if nothing tells
	list bool       // a list of keys; or, if nothing tells, perhaps one
	what string     // the store's own name of the type, for messages
}

// keyOf returns what the field at a path holds, of records that are r and of the
// type t; r is nil inside JSON, whose fields no catalogue tells.
func (b *binder) keyOf(p place, t schema.Named, path string, many bool) key {
	var info *store.Field
	if p.records != nil && p.records.Info != nil {
		info = p.records.Info.Field(p.prefix + path)
	}
	if info != nil && info.Column == "" {
		switch info.Kind {
		case store.List:
			return key{info.Elem, true, info.Type}
		case store.JSON:
			if many {
				return key{store.Unknown, true, info.Type}
			}
			return key{store.JSON, false, info.Type}
		case store.Unknown:
		default:
			return key{info.Kind, false, info.Type}
		}
	}
	if f := b.leafAt(p, t, path); f != nil {
		return key{store.Unknown, schema.Depth(f.Type) > 0, f.Type.String()}
	}
	relational := p.source.Capabilities.Fold && p.source.Capabilities.CanFold == nil
	return key{store.Unknown, many && (!relational || p.records == nil || info != nil), ""}
}

// leafAt returns the field of a type, or of the one record that is nested in it, whose
// values are at a path; nil if no field says what is there.
func (b *binder) leafAt(p place, t schema.Named, path string) *schema.Field {
	c, ok := t.(schema.Composite)
	if !ok {
		return nil
	}
	for _, f := range schema.FieldsOf(t) {
		named, own := schema.NamedOf(f.Type), c.Field(f.Name)
		if directive(own, "computed") != nil || directive(own, "related") != nil || directive(own, "total") != nil {
			continue
		}
		at := b.pathOf(p, f)
		switch rest, inside := strings.CutPrefix(path, at+"."); {
		case at == path && schema.IsLeaf(named) && !isAny(named):
			return f
		case inside && !schema.IsLeaf(named) && schema.Depth(f.Type) == 0 && b.bound.records[named] == nil:
			within := p
			within.prefix += at + "."
			if found := b.leafAt(within, named, rest); found != nil {
				return found
			}
		}
	}
	return nil
}

// keys finds out what a relationship's fields hold, and tells where they cannot be
// equal or are lists in a place where that says nothing.
func (b *binder) keys(p place, f *schema.Field, pos language.Pos, bound *Field) {
	target := place{records: bound.Target, source: bound.Target.Source}
	for i := range bound.Here {
		if i >= len(bound.There) {
			return
		}
		single := bound.Many && len(bound.Here) == 1
		here := b.keyOf(p, f.Owner, bound.Here[i], single)
		there := b.keyOf(target, bound.Target.Type, bound.There[i], single)
		if bound.JoinTable != nil || p.source.Capabilities.CanFold != nil && p.records != nil && p.source.Folds(p.records.Set, bound) {
			continue // the pairs have keys of their own, or the source knows what belongs together
		}
		if !store.Meet(here.kind, there.kind) {
			b.fail(ruleRelated, pos, f.Coordinate(), "relate fields of the same kind, or a text field to any", msgNeverMeet,
				f.Coordinate(), p.stored(bound.Here[i]), here.what, bound.Target.Set+"."+bound.There[i], there.what)
			continue
		}
		bound.ListHere, bound.ListThere = bound.ListHere || here.list, bound.ListThere || there.list
		switch lists := here.list || there.list; {
		case lists && len(bound.Here) > 1:
			b.fail(ruleNotYet, pos, f.Coordinate(), "relate it by one field", msgListAmongKeys, f.Coordinate(),
				p.stored(bound.Here...), place{records: bound.Target}.stored(bound.There...))
			return
		case lists && !bound.Many:
			b.fail(ruleUnique, pos, f.Coordinate(), "make it a list", msgListOfKeys, f.Coordinate(), schema.NamedOf(f.Type), p.stored(bound.Here[i]), bound.Target.Set+"."+bound.There[i])
		}
	}
}

// stored names stored fields of a place, each with its record set.
func (p place) stored(paths ...string) string {
	var list []string
	for _, path := range paths {
		if path = p.prefix + path; p.records != nil {
			path = p.records.Set + "." + path
		}
		list = append(list, path)
	}
	return strings.Join(list, ", ")
}
