package binding

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// comparisons are the operators of a field in a filter.
var comparisons = slices.Concat(equalities, orders, searches, []string{"missing"})

// The comparisons that need a value to be equal, above or below another, or a text.
var (
	equalities = []string{"is", "isNot", "in", "notIn"}
	orders     = []string{"above", "atLeast", "below", "atMost"}
	searches   = []string{"contains", "startsWith", "endsWith"}
)

// among are the operators of a relationship, or of a list of nested records.
var among = []string{"with", "without", "only"}

// A filterKey tells the bindings of a filter's type apart: what its fields mean
// differs from place to place.
type filterKey struct {
	input   *schema.InputObject
	records *Records
	prefix  string
}

// A filterPlace is what a filter's fields are fields of: records of a set, or
// records nested in them, whose stored paths begin with base to the condition
// and with the place's prefix to the catalogue.
type filterPlace struct {
	place
	of   schema.Named
	base string
	flat bool // conditions cannot look into further lists of nested records
}

// filterArgument binds an argument "filter".
func (b *binder) filterArgument(a *schema.Input, target *Records, of schema.Named, arg *Arg) bool {
	input, ok := schema.NamedOf(a.Type).(*schema.InputObject)
	if _, isList := schema.ListElem(a.Type); !ok || isList {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "declare it as "+a.Name+": "+of.String()+"Filter, which Osprey supplies", msgFilterMustBeInput, a.Coordinate)
		return false
	}
	arg.Filter = b.filter(input, filterPlace{place: place{records: target, source: target.Source}, of: of})
	return true
}

// filter binds an input object whose fields are tests of a record.
func (b *binder) filter(input *schema.InputObject, p filterPlace) *Filter {
	key := filterKey{input, p.records, p.prefix + " " + p.base + " " + p.of.String()}
	if known := b.filters[key]; known != nil {
		return known
	}
	f := &Filter{Tests: map[string]*Test{}}
	b.filters[key] = f // before its fields, since filters hold themselves
	for _, in := range input.Fields {
		if t := b.test(f, input, in, p); t != nil {
			f.Tests[in.Name] = t
		}
	}
	return f
}

// test binds one field of a filter; nil after telling why not.
func (b *binder) test(whole *Filter, input *schema.InputObject, in *schema.Input, p filterPlace) *Test {
	_, isList := schema.ListElem(in.Type)
	if in.Directive("at") == nil && schema.NamedOf(in.Type) == schema.Named(input) {
		switch {
		case in.Name == "all" && isList:
			return &Test{How: TestAll, Filter: whole}
		case in.Name == "any" && isList:
			return &Test{How: TestAny, Filter: whole}
		case in.Name == "not" && !isList:
			return &Test{How: TestNot, Filter: whole}
		}
	}
	operators, ok := schema.NamedOf(in.Type).(*schema.InputObject)
	if !ok || isList {
		b.fail(ruleFilter, in.Pos, in.Coordinate, "use an input object with fields such as is, in and above, or leave the type to Osprey", msgTestMustBeInput, in.Coordinate)
		return nil
	}
	def := fieldOf(b.bound.Schema, p.of, in.Name)
	if d := in.Directive("at"); d != nil {
		b.tellsOfPath(in.Coordinate, p.records, p.prefix+text(d, "path"))
		return b.compare(in, operators, p, text(d, "path"))
	}
	if def == nil {
		b.fail(ruleFilter, in.Pos, in.Coordinate, "leave it out, or say with @at(path: \"…\") which stored field it tests", msgTestNoField, in.Coordinate, p.of, language.DidYouMean(in.Name, schema.FieldNames(p.of)))
		return nil
	}
	b.tellsOf(in.Coordinate, def)
	if directive(def, "computed") != nil || directive(def, "total") != nil {
		b.fail(ruleFilter, in.Pos, in.Coordinate, "leave it out", msgTestOfComputed, in.Coordinate, def.Coordinate())
		return nil
	}
	if d := directive(def, "related"); d != nil {
		return b.among(in, operators, p, def)
	}
	named := schema.NamedOf(def.Type)
	if schema.IsLeaf(named) {
		if _, list := schema.ListElem(def.Type); list {
			b.fail(ruleFilter, in.Pos, in.Coordinate, "leave it out", msgTestOfList, in.Coordinate, def.Coordinate())
			return nil
		}
		return b.compare(in, operators, p, b.pathOf(p.place, def))
	}
	return b.deeper(in, operators, p, def, named)
}

// fieldOf returns the field of a type, or of one of the types that share its
// records.
func fieldOf(s *schema.Schema, t schema.Named, name string) *schema.Field {
	for _, t := range append([]schema.Named{t}, objectsOf(s, t)...) {
		if c, ok := t.(schema.Composite); ok {
			if f := c.Field(name); f != nil {
				return f
			}
		}
	}
	return nil
}

// compare binds an object of comparisons of a stored field.
func (b *binder) compare(in *schema.Input, operators *schema.InputObject, p filterPlace, path string) *Test {
	var info *store.Field
	if p.records != nil {
		info = b.info(in.Directive("at"), p.records, p.prefix+path, in.Coordinate, "the field tested by "+in.Coordinate)
	}
	t := &Test{How: Compare, Path: p.base + path}
	for _, op := range operators.Fields {
		if !slices.Contains(comparisons, op.Name) {
			b.fail(ruleFilter, op.Pos, op.Coordinate, "the comparisons are "+language.OneOf(comparisons), msgNoComparison, op.Coordinate, language.DidYouMean(op.Name, comparisons))
			return nil
		}
		_, isList := schema.ListElem(op.Type)
		if isList != (op.Name == "in" || op.Name == "notIn") {
			b.fail(ruleFilter, op.Pos, op.Coordinate, "", msgComparisonType, op.Coordinate, op.Type)
			return nil
		}
		named := schema.NamedOf(op.Type)
		if op.Name == "missing" {
			if named.String() != "Boolean" {
				b.fail(ruleFilter, op.Pos, op.Coordinate, "declare it as Boolean", msgComparisonType, op.Coordinate, op.Type)
				return nil
			}
			continue
		}
		if !schema.IsLeaf(named) {
			b.fail(ruleFilter, op.Pos, op.Coordinate, "", msgComparisonType, op.Coordinate, op.Type)
			return nil
		}
		kind, codec, err := fitCompared(named, info)
		if err != nil {
			b.fail(ruleFits, in.Pos, in.Coordinate, "", msgArgumentType, in.Coordinate, named, p.records.Set, path, info.Type, err)
			return nil
		}
		t.Kind, t.Day = kind, codec == scalar.DayOfMoment
		if e, ok := named.(*schema.Enum); ok {
			t.Enum = b.enum(e, p.records, p.source, info)
		}
		able := true
		switch {
		case slices.Contains(orders, op.Name) && (!ordered(kind) || t.Enum != nil):
			able = b.cannot(in, op, "EqualityFilter", msgComparisonNoOrder, in.Coordinate, op.Name, p.stored(path))
		case slices.Contains(searches, op.Name) && kind != store.Text:
			able = b.cannot(in, op, "OrderFilter", msgComparisonNeedsText, in.Coordinate, op.Name, p.stored(path), kind)
		}
		if !able {
			return nil
		}
	}
	return t
}

// cannot tells that the stored field of a test does not allow a comparison. Where
// Osprey supplied both, the test gets narrower comparisons, and binding goes on; a
// test that the schema wrote can name these by itself.
func (b *binder) cannot(in, op *schema.Input, narrower, format string, args ...any) (goOn bool) {
	supplied := func(pos language.Pos) bool { return b.bound.Schema.Position(pos).Name == SuppliedName }
	switch {
	case !supplied(op.Pos):
		b.fail(ruleFilter, op.Pos, in.Coordinate, "leave it out", format, args...)
		return true
	case supplied(in.Pos):
		b.refused = append(b.refused, in.Coordinate+" "+op.Name)
		return true
	}
	scalar := schema.NamedOf(op.Type).String()
	b.fail(ruleFilter, in.Pos, in.Coordinate, "declare it as "+scalar+narrower+", which Osprey supplies", format, args...)
	return false
}

// ordered reports whether one value of a kind can be above another.
func ordered(kind store.Kind) bool {
	switch kind {
	case store.Int, store.Float, store.Text, store.Decimal, store.Time, store.Date, store.Clock:
		return true
	}
	return false
}

// among binds a filter on related records.
func (b *binder) among(in *schema.Input, operators *schema.InputObject, p filterPlace, def *schema.Field) *Test {
	// What the relationship is, its own binding tells.
	related := b.field(p.place, def)
	if related == nil {
		return nil
	}
	if related.Parts != nil || related.ListHere || related.ListThere || related.Target.Source != p.source || !p.source.Capabilities.Link || p.prefix != "" {
		b.fail(ruleNotYet, in.Pos, in.Coordinate, "leave it out", msgFilterAcross, in.Coordinate, def.Coordinate())
		return nil
	}
	t := &Test{How: Among, Link: linkOf(related), Narrows: related.Narrows(), Target: related.Target, Only: related.Only}
	of, _ := b.recordType(def)
	t.Filter = b.amongFilter(in, operators, filterPlace{place: place{records: related.Target, source: p.source}, of: of})
	if t.Filter == nil {
		return nil
	}
	return t
}

func linkOf(f *Field) *store.Link {
	return &store.Link{Set: f.Target.Set, Here: f.Here, There: f.There, JoinTable: f.JoinTable}
}

// amongFilter binds the filter inside with, without and only.
func (b *binder) amongFilter(in *schema.Input, operators *schema.InputObject, p filterPlace) *Filter {
	var inner *Filter
	for _, op := range operators.Fields {
		input, ok := schema.NamedOf(op.Type).(*schema.InputObject)
		if _, isList := schema.ListElem(op.Type); !ok || isList || !slices.Contains(among, op.Name) {
			b.fail(ruleFilter, op.Pos, op.Coordinate, "use fields named with, without and only whose type is a filter of "+p.of.String(), msgAmongType, in.Coordinate, p.of, op.Coordinate)
			return nil
		}
		inner = b.filter(input, p)
	}
	return inner
}

// opens reports whether the source can look at values inside the record at a path.
func (p place) opens(path string) bool {
	if !p.source.Capabilities.Link || p.records == nil || p.records.Info == nil {
		return !p.source.Capabilities.Link || p.records.unknown()
	}
	info := p.records.Info.Field(p.prefix + path)
	return info != nil && (info.Opens != nil || info.Column != "")
}

// deeper binds a filter on nested records.
func (b *binder) deeper(in *schema.Input, operators *schema.InputObject, p filterPlace, def *schema.Field, named schema.Named) *Test {
	if strings.Count(p.prefix, ".") >= MaxNested {
		return &Test{How: TooDeep}
	}
	nested := b.field(p.place, def)
	if nested == nil {
		return nil
	}
	if !p.flat && (nested.Many && p.source.Capabilities.Link || !p.opens(nested.Wanted.Path)) || p.flat && nested.Many || schema.Depth(def.Type) > 1 {
		b.fail(ruleNotYet, in.Pos, in.Coordinate, "leave it out", msgFilterJSON, in.Coordinate, def.Coordinate())
		return nil
	}
	path := nested.Wanted.Path
	inner := filterPlace{place: p.place, of: named, base: p.base + path + "."}
	if p.records != nil && p.records.Info != nil {
		if info := p.records.Info.Field(p.prefix + path); info != nil && info.Opens == nil && info.Column == "" {
			inner.records = nil // a value of JSON, of which no catalogue tells what is inside
		}
	}
	inner.prefix += path + "."
	if nested.Many {
		inner.base = ""
		t := &Test{How: Among, Path: p.base + path}
		if t.Filter = b.amongFilter(in, operators, inner); t.Filter == nil {
			return nil
		}
		return t
	}
	return &Test{How: Deeper, Filter: b.filter(operators, inner)}
}
