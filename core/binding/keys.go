package binding

import (
	"slices"
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
	// guessed says that nothing tells whether it is a list, of a value inside JSON, which
	// the store could look for itself if it were none.
	guessed bool
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
			return key{kind: info.Elem, list: true, what: info.Type}
		case store.JSON:
			if many {
				return key{kind: store.Unknown, list: true, what: info.Type}
			}
			return key{kind: store.JSON, what: info.Type}
		case store.Unknown:
		default:
			return key{kind: info.Kind, what: info.Type}
		}
	}
	if k, told := b.keyAt(p, t, path); told {
		return k
	}
	relational := p.source.Capabilities.Fold && p.source.Capabilities.CanFold == nil
	return key{list: many && (!relational || p.records == nil || info != nil), guessed: many && info != nil}
}

// keyAt returns what a type says of the key at a path: by a field whose value it is, of
// the type or of a record that is nested in it; or by a relationship to one record, or by
// several keys, none of which can be a list.
func (b *binder) keyAt(p place, t schema.Named, path string) (k key, told bool) {
	c, ok := t.(schema.Composite)
	if !ok {
		return key{}, false
	}
	for _, f := range schema.FieldsOf(t) {
		named, own := schema.NamedOf(f.Type), c.Field(f.Name)
		if d := directive(own, "related"); d != nil {
			if here := language.Texts(d.Argument("here")); slices.Contains(here, path) && (schema.Depth(f.Type) == 0 || len(here) > 1) {
				return key{what: f.Type.String()}, true
			}
			continue
		}
		if directive(own, "computed") != nil || directive(own, "total") != nil {
			continue
		}
		at := b.pathOf(p, f)
		switch rest, inside := strings.CutPrefix(path, at+"."); {
		case at == path && schema.IsLeaf(named) && !isAny(named):
			return key{list: schema.Depth(f.Type) > 0, what: f.Type.String()}, true
		case inside && !schema.IsLeaf(named) && schema.Depth(f.Type) == 0 && b.bound.records[named] == nil:
			within := p
			within.prefix += at + "."
			if k, told = b.keyAt(within, named, rest); told {
				return k, true
			}
		}
	}
	return key{}, false
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
		if here.guessed {
			b.guessed(f, pos, p.stored(bound.Here[i]), f.Owner, bound.Here[i])
		}
		if there.guessed {
			b.guessed(f, pos, bound.Target.Set+"."+bound.There[i], bound.Target.Type, bound.There[i])
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

// guessed warns that nothing tells whether a field of a type's records is a list of keys.
func (b *binder) guessed(f *schema.Field, pos language.Pos, stored string, owner schema.Named, path string) {
	b.warn(ruleRelated, pos, f.Coordinate(), "give "+owner.String()+" a field with @at(path: \""+path+"\"): a list, if there is one", msgOneOrMany, stored, f.Coordinate())
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
