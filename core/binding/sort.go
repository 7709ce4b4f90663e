package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// Directions has what the values of a sort key's enum mean. A schema's own enum
// may have the first two only.
var Directions = map[schema.Symbol]store.Order{
	"ASC":              {},
	"DESC":             {Desc: true},
	"ASC_NULLS_LAST":   {Nulls: store.NullsGreatest},
	"DESC_NULLS_FIRST": {Desc: true, Nulls: store.NullsGreatest},
}

// sortArgument binds an argument "sort": a list of one-of inputs whose fields
// are the target's, and whose values say in which direction.
func (b *binder) sortArgument(a *schema.Input, target *Records, of schema.Named, arg *Arg) bool {
	input, ok := schema.NamedOf(a.Type).(*schema.InputObject)
	if !ok || !input.OneOf {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "declare it as "+a.Name+": ["+of.String()+"Sort!], which Osprey supplies", msgArgumentMustListOne, a.Coordinate)
		return false
	}
	arg.Sorts = b.sortKeys(input, filterPlace{place: place{records: target, source: target.Source}, of: of})
	return true
}

// sortKeys binds the fields of a one-of input of sort keys.
func (b *binder) sortKeys(input *schema.InputObject, p filterPlace) Sorts {
	key := filterKey{input, p.records, p.prefix + " " + p.base + " " + p.of.String()}
	if known := b.sorted[key]; known != nil {
		return known
	}
	sorts := Sorts{}
	b.sorted[key] = sorts
	for _, f := range input.Fields {
		if k := b.sortKey(f, p); k != nil {
			sorts[f.Name] = k
		}
	}
	return sorts
}

func (b *binder) sortKey(f *schema.Input, p filterPlace) *SortKey {
	def := fieldOf(b.bound.Schema, p.of, f.Name)
	at := f.Directive("at")
	if at != nil {
		b.tellsOfPath(f.Coordinate, p.records, p.prefix+text(at, "path"))
	} else {
		b.tellsOf(f.Coordinate, def)
	}
	if inner, ok := schema.NamedOf(f.Type).(*schema.InputObject); ok && inner.OneOf && def != nil && at == nil {
		return b.innerSort(f, inner, p, def)
	}
	if e, ok := schema.NamedOf(f.Type).(*schema.Enum); !ok || !isDirection(e) {
		b.fail(ruleArgument, f.Pos, f.Coordinate, "use an enum with the values ASC and DESC, or leave Direction to Osprey", msgSortKeyTypeDoes, f.Coordinate, f.Type)
		return nil
	}
	var path string
	switch {
	case at != nil:
		path = text(at, "path")
	case def == nil || !isSingleLeaf(def) || directive(def, "related") != nil:
		b.fail(ruleArgument, f.Pos, f.Coordinate, "", msgSortKeyNoField, f.Coordinate, p.of, language.DidYouMean(f.Name, leafNames(p.of)))
		return nil
	default:
		path = b.pathOf(p.place, def)
	}
	var info *store.Field
	if p.records != nil {
		info = b.info(at, p.records, p.prefix+path, f.Coordinate, "the sort key "+f.Coordinate)
	}
	kind := b.leafKind(def, info)
	if info != nil && !sortable(info, kind) {
		b.fail(ruleArgument, f.Pos, f.Coordinate, "leave it out", msgSortKeyNoOrder, f.Coordinate, p.records.Set, path, info.Type)
		return nil
	}
	return &SortKey{Path: p.base + path, Kind: kind}
}

// sortable reports whether records can be sorted by the values of a field that is used
// as of a kind.
func sortable(info *store.Field, kind store.Kind) bool {
	if info.Column == "" {
		kind = info.Kind
	}
	return ordered(kind) || kind == store.Bool || kind == store.UUID || kind == store.Unknown
}

func isSingleLeaf(f *schema.Field) bool {
	_, isList := schema.ListElem(f.Type)
	return !isList && schema.IsLeaf(schema.NamedOf(f.Type)) && directive(f, "computed") == nil && directive(f, "total") == nil
}

func isDirection(e *schema.Enum) bool {
	return e.Value("ASC") != nil && e.Value("DESC") != nil && !slices.ContainsFunc(e.Values, func(v *schema.EnumValue) bool {
		_, known := Directions[schema.Symbol(v.Name)]
		return !known
	})
}

// innerSort binds sort keys of the one nested or related record.
func (b *binder) innerSort(f *schema.Input, inner *schema.InputObject, p filterPlace, def *schema.Field) *SortKey {
	if strings.Count(p.prefix, ".") >= MaxNested {
		return nil // refused where it is used
	}
	bound := b.field(p.place, def)
	if bound == nil {
		return nil
	}
	named := schema.NamedOf(def.Type)
	switch {
	case bound.How == Nested && schema.Depth(def.Type) == 0 && (p.flat || p.opens(bound.Wanted.Path)):
		within := p
		within.of, within.prefix, within.base = named, p.prefix+bound.Wanted.Path+".", p.base+bound.Wanted.Path+"."
		return &SortKey{Inner: b.sortKeys(inner, within)}
	case bound.How == Related && !p.flat && bound.Parts == nil && bound.Single && len(bound.Narrows()) == 0 && bound.Target.Source == p.source && p.source.Capabilities.Link:
		return &SortKey{Link: linkOf(bound), Target: bound.Target, Only: bound.Only, Inner: b.sortKeys(inner, filterPlace{place: place{records: bound.Target, source: p.source}, of: named})}
	}
	b.fail(ruleArgument, f.Pos, f.Coordinate, "leave it out", msgSortKeyNotOne, f.Coordinate, def.Coordinate())
	return nil
}

// sorts reads sort keys such as "arrivedAt desc": fields of the target type.
func (b *binder) sorts(list []string, target *Records, pos language.Pos, coordinate string) []store.Order {
	var orders []store.Order
	for _, item := range list {
		words := strings.Fields(item)
		if len(words) == 0 || len(words) > 2 || len(words) == 2 && words[1] != "asc" && words[1] != "desc" {
			b.fail(ruleRelated, pos, coordinate, "", msgSortKeyNotField, coordinate, item)
			continue
		}
		path, kind, ok := b.leafPath(target, words[0])
		if !ok {
			b.fail(ruleRelated, pos, coordinate, "", msgSortedNoFieldColumn, coordinate, words[0], target.Type, language.DidYouMean(words[0], leafNames(target.Type)))
			continue
		}
		orders = append(orders, store.Order{Path: path, Kind: kind, Desc: len(words) == 2 && words[1] == "desc"})
	}
	return orders
}

// leafPath returns the stored path of a leaf field of the target, and the kind
// of its values.
func (b *binder) leafPath(target *Records, name string) (path string, kind store.Kind, ok bool) {
	f := fieldOf(b.bound.Schema, target.Type, name)
	if f == nil || !isSingleLeaf(f) {
		return "", store.Unknown, false
	}
	path = b.pathOf(place{records: target, source: target.Source}, f)
	var info *store.Field
	if target.Info != nil {
		info = target.Info.Field(path)
	}
	return path, b.leafKind(f, info), true
}

// leafKind returns how the values of a field are held: as the store says, or
// where it does not, as the field's type wants it.
func (b *binder) leafKind(f *schema.Field, info *store.Field) store.Kind {
	switch {
	case info != nil && info.Kind != store.Unknown && (f == nil || len(info.Also) == 0):
		return info.Usual()
	case f == nil:
		return store.Text
	}
	kind, _, _ := fitField(schema.NamedOf(f.Type), info)
	return kind
}

func objectsOf(s *schema.Schema, t schema.Named) []schema.Named {
	var list []schema.Named
	for _, o := range s.Possible(t) {
		list = append(list, o)
	}
	return list
}

func leafNames(t schema.Named) []string {
	var names []string
	for _, f := range schema.FieldsOf(t) {
		if schema.IsLeaf(schema.NamedOf(f.Type)) {
			names = append(names, f.Name)
		}
	}
	return names
}
