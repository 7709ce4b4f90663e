package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds fields whose type is an interface or union with records in
// several sets: each set is a part, a field of its own, and the parts' records
// are merged.

// A target is one record set that a field's records come from.
type target struct {
	records *Records
	only    []*schema.Object // the types wanted, if the set has others too
	types   []*schema.Object // the types wanted
}

// targets returns the record sets of a field's type; none after telling why not.
func (b *binder) targets(f *schema.Field, pos language.Pos) []target {
	named, _ := b.recordType(f)
	return b.targetsOf(named, f, pos)
}

// targetsOf returns the record sets of a type, which a field has, or names.
func (b *binder) targetsOf(named schema.Named, f *schema.Field, pos language.Pos) []target {
	if schema.Depth(f.Type) > 1 {
		b.fail(ruleRelated, f.Pos, f.Coordinate(), "write ["+named.String()+"]", msgListOfLists, f.Coordinate())
		return nil
	}
	var list []target
	for _, o := range b.bound.Schema.Possible(named) {
		r := b.bound.records[o]
		if r == nil {
			if storedIn(o) == "" {
				what := "add @stored to " + o.Name
				if named != schema.Named(o) {
					what += ", or leave it out of " + named.String()
				}
				b.fail(ruleUnbound, pos, f.Coordinate(), what, msgTypeNothingSaysWhere, f.Coordinate(), o)
			}
			return nil
		}
		i := slices.IndexFunc(list, func(t target) bool { return t.records == r })
		if i < 0 {
			i = len(list)
			list = append(list, target{records: r})
		}
		list[i].types = append(list[i].types, o)
	}
	for i := range list {
		if t := &list[i]; t.records.Kind != nil && len(t.types) < len(t.records.Kind.Types) {
			t.only = t.types
		}
	}
	if len(list) == 0 {
		b.fail(ruleUnbound, pos, f.Coordinate(), "add @stored to "+named.String(), msgTypeNothingSaysWhere, f.Coordinate(), named)
	}
	return list
}

// named reports whether a type's name means just the records of a target.
func (t target) named(name string) bool {
	return t.records.Type.String() == name || len(t.types) == 1 && t.types[0].Name == name
}

// partDirectives returns the @related of each target: that which names it with
// "of", or the one that names none; nil after telling that there is none.
func (b *binder) partDirectives(f *schema.Field, targets []target) []*language.Directive {
	var names []string
	for _, t := range targets {
		names = append(names, t.records.Type.String())
	}
	found := make([]*language.Directive, len(targets))
	var others *language.Directive
	for _, d := range relatedDirectives(f) {
		of := text(d, "of")
		i := slices.IndexFunc(targets, func(t target) bool { return t.named(of) })
		switch {
		case of == "" && others != nil:
			b.fail(ruleRelated, d.Pos, f.Coordinate(), "say with of: \"…\" which type each is about", msgRelatedTwice, f.Coordinate())
		case of == "":
			others = d
		case i < 0 && len(targets) > 0:
			b.fail(ruleRelated, d.Pos, f.Coordinate(), "the types are "+strings.Join(names, ", "), msgRelatedNoPart, f.Coordinate(), of, language.DidYouMean(of, names))
		case i >= 0 && found[i] != nil:
			b.fail(ruleRelated, d.Pos, f.Coordinate(), "leave one out", msgRelatedTwice, f.Coordinate())
		case i >= 0:
			found[i] = d
		}
	}
	for i := range found {
		if found[i] == nil {
			found[i] = others
		}
		if found[i] == nil {
			b.fail(ruleRelated, f.Pos, f.Coordinate(), "add @related(of: \""+names[i]+"\", …)", msgRelatedNotPart, f.Coordinate(), names[i])
		}
	}
	return found
}

// relatedDirectives returns the @related of a field, or those of the same field
// of an interface.
func relatedDirectives(f *schema.Field) []*language.Directive {
	first := directive(f, "related")
	for _, owner := range append([]*schema.Interface{nil}, schema.InterfacesOf(f.Owner)...) {
		field := f
		if owner != nil {
			field = owner.Field(f.Name)
		}
		if field != nil && slices.Contains(field.Directives, first) {
			return slices.DeleteFunc(slices.Clone(field.Directives), func(d *language.Directive) bool { return d.Name.Text != "related" })
		}
	}
	return nil
}

// merged makes one field of parts.
func (b *binder) merged(p place, f *schema.Field, parts []*Field) *Field {
	if len(parts) == 1 && !isReference(f) {
		return parts[0]
	}
	first := parts[0]
	bound := &Field{Def: f, How: first.How, Many: first.Many, Page: first.Page, Parts: parts, Single: !first.Many}
	if isReference(f) {
		b.reference(p, f, bound)
	}
	for _, part := range parts[1:] {
		b.sameOrder(f, first, part)
	}
	b.mergeSorts(bound)
	if bound.Page != nil {
		for name, t := range bound.Page.Aggregates {
			if t != nil && t.Of != store.Count {
				at := bound.Page.Connection.Field(name)
				b.fail(ruleNotYet, at.Pos, at.Coordinate(), "make a total of each of its types", msgTotalOfParts, at.Coordinate(), f.Coordinate())
			}
		}
	}
	return bound
}

// mergeSorts keeps of the sort keys of each part those that all parts have, with
// values that can be put in one order, and tells of the others.
func (b *binder) mergeSorts(f *Field) {
	var sorts []*Arg
	for _, part := range f.Parts {
		i := slices.IndexFunc(part.Args, func(a Arg) bool { return a.Role == SortBy })
		if i < 0 {
			return
		}
		sorts = append(sorts, &part.Args[i])
	}
	kept := make([]Sorts, len(sorts))
	for i := range kept {
		kept[i] = Sorts{}
	}
	for _, in := range schema.NamedOf(sorts[0].Def.Type).(*schema.InputObject).Fields {
		if !b.sortsParts(f, in, sorts) {
			continue
		}
		for i, a := range sorts {
			kept[i][in.Name] = a.Sorts[in.Name]
		}
	}
	for i, a := range sorts {
		a.Sorts = kept[i]
	}
}

// sortsParts reports whether all parts of a field can be sorted by a key, in one order.
// It tells why not, but of a part that has no such key, which is told already.
func (b *binder) sortsParts(f *Field, in *schema.Input, sorts []*Arg) bool {
	unknown := slices.ContainsFunc(f.Parts, func(part *Field) bool { return part.Target.unknown() })
	first := sorts[0].Sorts[in.Name]
	for i, a := range sorts {
		key := a.Sorts[in.Name]
		switch {
		case first == nil || key == nil:
			return false
		case key.Inner != nil:
			b.fail(ruleArgument, in.Pos, in.Coordinate, "leave it out", msgSortKeyOfParts, in.Coordinate, f.Def.Coordinate())
			return false
		case !unknown && (!comparable(first.Kind, key.Kind) || f.Page != nil && first.Kind != key.Kind):
			b.fail(ruleArgument, in.Pos, in.Coordinate, "leave it out", msgSortKeyApart, in.Coordinate,
				f.Parts[0].Target.Set, first.Path, first.Kind, f.Parts[i].Target.Set, key.Path, key.Kind)
			return false
		}
	}
	return true
}

// sameOrder checks that the records of two parts can be put in one order.
func (b *binder) sameOrder(f *schema.Field, first, part *Field) {
	if first.Target.unknown() || part.Target.unknown() {
		return // of what kinds they are, nobody has told yet
	}
	apart := len(first.Sort) != len(part.Sort)
	for i := 0; !apart && i < len(first.Sort); i++ {
		x, y := first.Sort[i], part.Sort[i]
		apart = x.Desc != y.Desc || !comparable(x.Kind, y.Kind) || first.Page != nil && x.Kind != y.Kind
	}
	if apart {
		b.fail(ruleRelated, f.Pos, f.Coordinate(), "sort all of them by as many fields, of the same kinds and in the same directions", msgPartsOrder,
			f.Coordinate(), first.Target.Type, orderText(first.Sort), part.Target.Type, orderText(part.Sort))
	}
}

// comparable reports whether values of two kinds can be put in one order.
func comparable(a, b store.Kind) bool {
	return a == b || store.Numeric(a) && store.Numeric(b) || store.Moment(a) && store.Moment(b)
}

func orderText(sort []store.Order) string {
	var list []string
	for _, o := range sort {
		word := o.Path + " (" + o.Kind.String() + ")"
		if o.Desc {
			word += " desc"
		}
		list = append(list, word)
	}
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

// isReference reports whether a field's own record tells the type of the record
// that it refers to.
func isReference(f *schema.Field) bool {
	d := directive(f, "kind")
	return d != nil && text(d, "is") == ""
}

// reference binds what tells which of its parts a reference leads to.
func (b *binder) reference(p place, f *schema.Field, bound *Field) {
	d := directive(f, "kind")
	if bound.Many {
		b.fail(ruleKind, d.Pos, f.Coordinate(), "say with is: \"…\" which value the records of the list have there", msgReferenceList, f.Coordinate())
		return
	}
	bound.By = b.told(p.records, p.prefix, text(d, "by"), d, f.Coordinate(), "what tells the type of "+f.Coordinate())
	claimed := map[string]*Field{}
	for _, part := range bound.Parts {
		types := part.Only
		if types == nil {
			types = b.bound.Schema.Possible(part.Target.Type)
		}
		names := []schema.Named{part.Target.Type}
		for _, o := range types {
			names = append(names, o)
		}
		for _, t := range names {
			for _, value := range b.toldBy(p.source, t) {
				switch other := claimed[value]; other {
				case part:
				case nil:
					claimed[value] = part
					part.Is = append(part.Is, value)
				default:
					b.fail(ruleKind, d.Pos, f.Coordinate(), "", msgReferenceTwice, f.Coordinate(), other.Target.Type, part.Target.Type, value, p.stored(bound.By.Path))
				}
			}
		}
	}
	if p.records == nil || p.records.Info == nil {
		return
	}
	if info := p.records.Info.Field(p.prefix + bound.By.Path); info != nil {
		for _, v := range info.Values {
			if claimed[v] == nil {
				b.warn(ruleKind, d.Pos, f.Coordinate(), "add a type with @kind(is: \""+v+"\") to "+schema.NamedOf(f.Type).String(), msgReferenceUntold, f.Coordinate(), schema.NamedOf(f.Type), p.records.Set, p.prefix+bound.By.Path, v)
			}
		}
	}
}

// toldBy returns the values beside a reference that mean a type: what its @kind
// says, or its name under the naming rule, with a small first letter too.
func (b *binder) toldBy(source *Source, t schema.Named) []string {
	if own := t.About().Directive("kind"); own != nil && text(own, "is") != "" {
		return []string{text(own, "is")}
	}
	name := source.Naming.Apply(t.String())
	if small := lowerFirst(name); small != name {
		return []string{name, small}
	}
	return []string{name}
}

// told binds a field whose value tells types apart, of records that may be nil.
func (b *binder) told(r *Records, prefix, name string, d *language.Directive, coordinate, what string) *Told {
	t := &Told{Path: name, Kind: store.Text}
	if name == "" {
		b.fail(ruleKind, d.Pos, coordinate, "write @kind(by: \"…\")", msgKindNeedsBy, coordinate)
	}
	if r == nil {
		return t
	}
	t.Path = strings.TrimPrefix(b.path(r.Source, r.Info, prefix+name), prefix)
	if info := b.mustExist(r, prefix+t.Path, d.Pos, coordinate, what); info != nil && info.Kind != store.Unknown {
		t.Kind = info.Usual()
	}
	return t
}

// A Narrow is what the related records of a field must have, whatever is asked:
// one of some values.
type Narrow struct {
	Path   string
	Kind   store.Kind
	Values []string
}

// Narrows returns what the records of a field of one record set must have.
func (f *Field) Narrows() []Narrow {
	var list []Narrow
	if f.Only != nil && f.Target.Kind != nil {
		n := Narrow{Path: f.Target.Kind.Path, Kind: f.Target.Kind.Column}
		for _, o := range f.Only {
			n.Values = append(n.Values, f.Target.Kind.Stored[o])
		}
		list = append(list, n)
	}
	if f.Where != nil {
		list = append(list, Narrow{f.Where.Path, f.Where.Kind, []string{f.Where.Is}})
	}
	return list
}

// OnlyType returns the one object type of the records of a field of one record
// set, or nil if there are several.
func (f *Field) OnlyType() *schema.Object {
	if len(f.Only) == 1 {
		return f.Only[0]
	}
	o, _ := f.Target.Type.(*schema.Object)
	if f.Only != nil {
		return nil
	}
	return o
}
