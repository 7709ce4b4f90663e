package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// A place is where an object's fields are stored: a record set, or below a
// prefix inside its records.
type place struct {
	records *Records // nil inside JSON, whose fields no catalogue tells
	source  *Source
	prefix  string // with a dot at its end, or ""
	// kinds is the interface or union whose types are told apart here; nil if all
	// records are of one.
	kinds schema.Named
}

// A nestedKey tells the bindings of a nested type apart: the naming rule and
// the catalogue differ from place to place.
type nestedKey struct {
	t       *schema.Object
	source  *Source
	records *Records
	prefix  string
}

// directive returns a directive of a field, or that of the same field of an
// interface of its type: a binding there holds for every type.
func directive(f *schema.Field, name string) *language.Directive {
	if d := f.Directive(name); d != nil {
		return d
	}
	for _, i := range schema.InterfacesOf(f.Owner) {
		if above := i.Field(f.Name); above != nil {
			if d := above.Directive(name); d != nil {
				return d
			}
		}
	}
	return nil
}

// field binds a field of a stored or nested object; nil after telling why not.
func (b *binder) field(p place, f *schema.Field) *Field {
	if d := directive(f, "computed"); d != nil {
		return b.computed(p, f, d)
	}
	if d := directive(f, "related"); d != nil {
		return b.related(p, f)
	}
	if d := directive(f, "total"); d != nil {
		return b.totalField(p, f, d)
	}
	if d := f.Directive("read"); d != nil {
		b.fail(ruleUnbound, d.Pos, f.Coordinate(), "use @related", msgReadFieldsRootType)
		return nil
	}
	if d, _ := writing(f); d != nil {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "", msgWriteElsewhere, f.Coordinate(), d.Name.Text)
		return nil
	}
	named := schema.NamedOf(f.Type)
	if !schema.IsLeaf(named) {
		return b.nestedField(p, f, named)
	}
	for _, a := range f.Args {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
	}
	path := b.pathOf(p, f)
	bound := &Field{Def: f, How: Column}
	info := b.columnInfo(p, f, path)
	kind, codec, err := fitField(named, valueOf(info))
	elem, isList := schema.ListElem(f.Type)
	if isList && info != nil && info.Kind != store.List && !mayBeJSON(info) && info.Kind != store.Unknown {
		b.fail(ruleFits, f.Pos, f.Coordinate(), "", msgListHoldsOneValue, f.Coordinate(), p.records.Set, path, info.Type)
		return nil
	}
	if !isList && info != nil && info.Kind == store.List {
		b.fail(ruleFits, f.Pos, f.Coordinate(), "write ["+named.String()+"]", msgOneValueHoldsList, f.Coordinate(), p.records.Set, path)
		return nil
	}
	if isList && info != nil && mayBeJSON(info) && !isAny(named) {
		kind, codec, err = fit(named, store.Unknown)
	}
	if err != nil {
		b.fail(ruleFits, f.Pos, f.Coordinate(), "", msgType, f.Coordinate(), named, p.records.Set, path, info.Type, err)
		return nil
	}
	bound.Codec = codec
	b.warnOfType(p, f, named, path, info, codec)
	bound.Wanted = wantedOf(path, kind, elem, isList)
	if e, ok := named.(*schema.Enum); ok {
		if bound.Enum = enumNames(e); p.source.Capabilities.CanCall == nil {
			bound.Enum = b.enum(e, p.records, p.source, info)
		}
	}
	b.checkNullable(p, f, path, info)
	return bound
}

// mayBeJSON reports whether a field holds JSON, or a text that may be JSON.
func mayBeJSON(info *store.Field) bool { return info.Kind == store.JSON || info.Opens != nil }

// warnOfType tells of values that cannot be answered as they are stored.
func (b *binder) warnOfType(p place, f *schema.Field, named schema.Named, path string, info *store.Field, codec scalar.Codec) {
	switch {
	case info == nil:
	case info.AsText:
		b.warn(ruleFits, f.Pos, f.Coordinate(), "use a view that casts it, if its text is not what you want", msgReadAsText, f.Coordinate(), p.records.Set, path, info.Type)
	case info.Wide && codec == scalar.Number32:
		b.warn(ruleFits, f.Pos, f.Coordinate(), "make it Int64, which holds them all, unless none is so large", msgBeyondInt, f.Coordinate(), named, p.records.Set, path, info.Type)
	case codec == scalar.FloatAsNumber:
		b.warn(ruleFits, f.Pos, f.Coordinate(), "make it Float", msgFractionAsInt, f.Coordinate(), named, p.records.Set, path, info.Type)
	}
}

// wantedOf describes a column, a list of any depth included.
func wantedOf(path string, kind store.Kind, elem schema.Type, isList bool) store.Wanted {
	if !isList {
		return store.Wanted{Path: path, Kind: kind}
	}
	inner, innerList := schema.ListElem(elem)
	w := wantedOf("", kind, inner, innerList)
	return store.Wanted{Path: path, Kind: store.List, Elem: &w}
}

// pathOf returns the path of a field in its record: @at, or the field's name
// under the naming rule, or the name as it is if only that exists.
func (b *binder) pathOf(p place, f *schema.Field) string {
	if d := directive(f, "at"); d != nil {
		return text(d, "path")
	}
	ruled := p.source.Naming.Apply(f.Name)
	if p.records != nil && p.records.Info != nil {
		info := p.records.Info
		if info.Field(p.prefix+ruled) == nil && !info.Nested(p.prefix+ruled) && info.Field(p.prefix+f.Name) != nil {
			return f.Name
		}
	}
	return ruled
}

// columnInfo returns what the catalogue says of a field's column, or nil. It
// tells of a column that does not exist.
func (b *binder) columnInfo(p place, f *schema.Field, path string) *store.Field {
	if p.records == nil {
		return nil
	}
	pos := f.Pos
	if d := directive(f, "at"); d != nil {
		pos = d.Pos
	}
	return b.mustExist(p.records, p.prefix+path, pos, f.Coordinate(), "the column of "+f.Coordinate())
}

func (b *binder) checkNullable(p place, f *schema.Field, path string, info *store.Field) {
	if info == nil || !info.Nullable || info.Column != "" || !schema.IsNonNull(f.Type) {
		return // what is inside JSON is taken on trust, since no catalogue tells
	}
	fix := "make it " + schema.Nullable(f.Type).String() + ", or forbid NULL in the store"
	stored := p.records.Set + "." + p.prefix + path
	switch own := p.ofOneKind(f); {
	case p.records.Info.Sampled && own:
		// records of other types need not have it
	case p.records.Info.Sampled:
		b.warn(ruleNullable, f.Pos, f.Coordinate(), fix, msgMissingInSample, f.Coordinate(), stored, p.source.Name)
	case own:
		b.warn(ruleNullable, f.Pos, f.Coordinate(), fix, msgTrusted, f.Coordinate(), stored, p.source.Name, f.Owner)
	default:
		b.fail(ruleNullable, f.Pos, f.Coordinate(), fix, msgMayBeNull, f.Coordinate(), stored, p.source.Name)
	}
}

// ofOneKind reports whether a field is of one of several types that are told apart,
// and not required of all of them.
func (p place) ofOneKind(f *schema.Field) bool {
	if p.kinds == nil {
		return false
	}
	c, ok := p.kinds.(schema.Composite)
	if !ok {
		return true
	}
	of := c.Field(f.Name)
	return of == nil || !schema.IsNonNull(of.Type)
}

// enum returns the stored spellings of an enum: @at of each value; or the name
// itself; or, where the catalogue tells the stored values, the one that equals
// the name but for case.
func (b *binder) enum(e *schema.Enum, of *Records, source *Source, info *store.Field) *Enum {
	var labels []string
	if info != nil {
		labels = info.Values
	}
	if known := b.enums[e]; known != nil && len(labels) == 0 {
		return known
	}
	bound := &Enum{Type: e, Stored: map[string]string{}, Names: map[string]string{}}
	for _, v := range e.Values {
		stored := v.Name
		for _, label := range labels {
			if strings.EqualFold(label, v.Name) {
				stored = label
			}
		}
		pos := v.Pos
		if d := v.Directive("at"); d != nil {
			stored, pos = text(d, "path"), d.Pos
		}
		if len(labels) > 0 && !slices.Contains(labels, stored) {
			b.fail(ruleColumn, pos, e.Name+"."+v.Name, "the stored values are "+strings.Join(labels, ", "), msgValueStoredAsNever, e.Name+"."+v.Name, stored, of.Set+"."+info.Name, source.Name, language.DidYouMean(stored, labels))
		}
		if other, taken := bound.Names[stored]; taken {
			b.fail(ruleColumn, pos, e.Name+"."+v.Name, "", msgValuesAreBothStored, e.Name+"."+other, e.Name+"."+v.Name, stored)
		}
		bound.Stored[v.Name], bound.Names[stored] = stored, v.Name
	}
	for _, label := range labels {
		if _, ok := bound.Names[label]; !ok {
			b.warn(ruleColumn, e.Pos, e.Name, "add a value with @at(path: \""+label+"\")", msgStoredValueNoValue, e.Name, label, of.Set+"."+info.Name, source.Name)
		}
	}
	b.enums[e] = bound
	return bound
}

// nestedField binds a field whose value is a record nested in this one.
func (b *binder) nestedField(p place, f *schema.Field, named schema.Named) *Field {
	if b.bound.records[named] != nil {
		b.fail(ruleUnbound, f.Pos, f.Coordinate(), "write @related, with here and there where the names do not say it", msgNothingSaysBelong, named, f.Coordinate())
		return nil
	}
	path := b.pathOf(p, f)
	info := b.columnInfo(p, f, path)
	inner := place{records: p.records, source: p.source, prefix: p.prefix + path + "."}
	if info != nil || p.records != nil && p.records.Info != nil && !p.records.Info.Nested(p.prefix+path) {
		if info != nil && !mayBeJSON(info) && info.Kind != store.Unknown {
			b.fail(ruleFits, f.Pos, f.Coordinate(), "", msgTypeHasNoFields, f.Coordinate(), named, p.records.Set, path, info.Type)
			return nil
		}
		inner.records = nil // a JSON column: what is inside no catalogue tells
	}
	b.checkNullable(p, f, path, info)
	elem, isList := schema.ListElem(f.Type)
	bound := &Field{Def: f, How: Nested, Many: schema.Depth(f.Type) == 1, Wanted: wantedOf(path, store.Record, elem, isList)}
	if bound.Nested = b.nestedType(inner, f, named); bound.Nested == nil {
		return nil
	}
	b.nestedArguments(f, bound, filterPlace{place: inner, of: named, flat: true})
	return bound
}

// nestedArguments binds the arguments of a list of nested records, which filter,
// sort and cut it.
func (b *binder) nestedArguments(f *schema.Field, bound *Field, p filterPlace) {
	for _, a := range f.Args {
		arg := Arg{Def: a}
		role, pages := bound.pagingRole(a)
		input, isInput := schema.NamedOf(a.Type).(*schema.InputObject)
		switch {
		case pages:
			arg.Role = role
		case bound.Many && a.Name == "filter" && isInput:
			arg.Role, arg.Filter = FilterBy, b.filter(input, p)
		case bound.Many && a.Name == "sort" && isInput && input.OneOf:
			arg.Role, arg.Sorts = SortBy, b.sortKeys(input, p)
		default:
			b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
			continue
		}
		bound.Args = append(bound.Args, arg)
	}
}

// nestedType binds the types that a nested record can have, and what tells
// them apart; nil after telling why not.
func (b *binder) nestedType(p place, f *schema.Field, named schema.Named) *NestedType {
	nested := &NestedType{Type: named}
	if o, ok := named.(*schema.Object); ok {
		nested.Objects = []*Object{b.nestedObject(p, o)}
		return nested
	}
	possible := b.bound.Schema.Possible(named)
	d := named.About().Directive("kind")
	if d == nil || text(d, "by") == "" {
		b.fail(ruleKind, f.Pos, f.Coordinate(), "write @kind(by: \"…\") behind "+named.String()+", with the field of the nested record that holds it", msgNestedKind, f.Coordinate(), named, typeNames(possible))
		return nil
	}
	k := &Kind{Path: text(d, "by"), Types: map[string]*schema.Object{}, Stored: map[*schema.Object]string{}, Column: store.Text}
	if p.records != nil {
		k.Path = strings.TrimPrefix(b.path(p.source, p.records.Info, p.prefix+k.Path), p.prefix)
		b.mustExist(p.records, p.prefix+k.Path, d.Pos, named.String(), "what tells the types of "+named.String())
	}
	for _, o := range possible {
		if b.bound.records[o] != nil {
			b.fail(ruleUnbound, f.Pos, f.Coordinate(), "write @related, with here and there where the names do not say it", msgNothingSaysBelong, o, f.Coordinate())
			return nil
		}
		b.claim(k, o, p.source, p.stored(k.Path))
		p.kinds = named
		nested.Objects = append(nested.Objects, b.nestedObject(p, o))
	}
	nested.Kind = k
	return nested
}

// claim notes by which stored value a type is told, at the place that is named; false
// after telling that another type has it.
func (b *binder) claim(k *Kind, o *schema.Object, source *Source, at string) (value string, pos language.Pos, ok bool) {
	value, pos = source.Naming.Apply(o.Name), o.Pos
	if own := o.Directive("kind"); own != nil && text(own, "is") != "" {
		value, pos = text(own, "is"), own.Pos
	}
	if other := k.Types[value]; other != nil {
		b.fail(ruleKind, pos, o.Name, "", msgBothAreToldValue, other.Name, o.Name, value, at)
		return value, pos, false
	}
	k.Types[value], k.Stored[o] = o, value
	return value, pos, true
}

// nestedObject binds a type where it is nested. What is nested deep is bound once,
// wherever it is, so that types nested in themselves come to an end; no catalogue is
// asked about it.
func (b *binder) nestedObject(p place, t *schema.Object) *Object {
	if strings.Count(p.prefix, ".") > MaxNested {
		p.records, p.prefix = nil, ""
	}
	key := nestedKey{t, p.source, p.records, p.prefix}
	if p.records == nil {
		key.prefix = ""
	}
	if known := b.nested[key]; known != nil {
		return known
	}
	object := &Object{Type: t, Fields: map[string]*Field{}}
	b.nested[key] = object
	for _, f := range t.Fields {
		if bound := b.field(p, f); bound != nil {
			object.Fields[f.Name] = bound
		}
	}
	return object
}
