package binding

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
)

// This file supplies the types of filters, sort keys and pages that a schema
// refers to and does not define.

// SuppliedName is the name of the text that holds what was supplied.
const SuppliedName = "(supplied)"

// Resolve builds a schema and binds it. What turns out not to be possible in a
// supplied type is left out of it, and the schema built and bound anew, so that a
// supplied type has nothing that is refused, and no finding is about one:
//
//	LegFilter { number: IntFilter  stops: StopRelated }   but stops is inside JSON
//	LegFilter { number: IntFilter }
//
// The schema is nil, or has errors, if it cannot be bound.
func Resolve(texts []schema.Text, sources map[string]*Source) (*schema.Schema, *Bound, language.Problems) {
	return ResolveFor(Unruled{}, texts, sources)
}

// ResolveFor is [Resolve] where types without a rule have one, or must have one.
func ResolveFor(unruled Unruled, texts []schema.Text, sources map[string]*Source) (*schema.Schema, *Bound, language.Problems) {
	knows := abilities{
		folds: func(source string) bool {
			known := sources[source]
			return known != nil && known.Capabilities.Link
		},
		tells: func(source string) bool {
			known := sources[source]
			return known != nil && known.Catalogue != nil
		},
	}
	without := map[string]bool{}
	d := newDraft(texts)
	for {
		s, problems := d.build(knows, without)
		if problems.Failed() {
			return s, nil, problems
		}
		bound, more, refused := bind(unruled, s, sources)
		before := len(without)
		for _, coordinate := range refused {
			without[coordinate] = true
		}
		if len(without) == before { // nothing, or nothing that could be left out
			return s, bound, append(problems, more...)
		}
	}
}

// Build builds a schema with the binding directives, and with the types of
// filters, sort keys and pages that it refers to by their names and does not
// define. folds tells of a source by name whether it can look at related
// records of its own while it reads; nil stands for any.
func Build(texts []schema.Text, folds func(source string) bool) (*schema.Schema, language.Problems) {
	if folds == nil {
		folds = func(string) bool { return true }
	}
	return newDraft(texts).build(abilities{folds, func(string) bool { return false }}, nil)
}

// abilities are what is known of sources while types are supplied: whether one can look at
// related records of its own while it reads, and whether it has told what it fills by itself.
type abilities struct{ folds, tells func(source string) bool }

// A draft is a schema to which what it refers to and does not define is to be supplied.
type draft struct {
	texts *schema.Draft // with the pages
	known *schema.Schema
	pages map[string]bool // types that are supplied in them
}

// newDraft reads texts, and supplies their pages, which are the same whatever binding refuses. Until
// they are defined, a field whose type is a page has no type, and a filter cannot tell what it leads
// to.
func newDraft(texts []schema.Text) *draft {
	d := &draft{texts: schema.NewDraft(append([]schema.Text{Directives}, texts...)...), pages: map[string]bool{}}
	if d.known = d.texts.Look(); d.known.Mutation != nil {
		d.texts = d.texts.With(Executable)
		d.known = d.texts.Look()
	}
	isPage := func(name string) bool {
		return strings.HasSuffix(name, "Connection") || strings.HasSuffix(name, "Edge")
	}
	sup := &supplier{schema: d.known, done: d.pages}
	if body := sup.supply(slices.DeleteFunc(slices.Clone(d.known.Undefined()), func(name string) bool { return !isPage(name) })); body != "" {
		d.texts = d.texts.With(schema.Text{Name: SuppliedName, Body: body})
		d.known = d.texts.Look()
	}
	return d
}

// build is [Build] without some fields of supplied types, by their coordinates.
func (d *draft) build(knows abilities, without map[string]bool) (*schema.Schema, language.Problems) {
	sup := &supplier{schema: d.known, abilities: knows, without: without, done: maps.Clone(d.pages)}
	texts := d.texts
	if body := sup.supply(d.known.Undefined()); body != "" {
		texts = texts.With(schema.Text{Name: SuppliedName, Body: body})
	}
	return texts.Build()
}

type supplier struct {
	schema *schema.Schema
	abilities
	without map[string]bool // coordinates of fields that are left out
	done    map[string]bool
	wanted  []string
	text    strings.Builder
}

func (s *supplier) supply(names []string) string {
	s.text.Reset()
	s.wanted = slices.Clone(names)
	for i := 0; i < len(s.wanted); i++ { // what is supplied refers to more
		name := s.wanted[i]
		if s.done[name] || s.schema.Type(name) != nil {
			continue
		}
		s.done[name] = true
		s.define(name)
	}
	return s.text.String()
}

// define writes the definition of a type by its name, if it is one that is
// supplied.
func (s *supplier) define(name string) {
	switch name {
	case "Direction":
		s.text.WriteString(`
"In which direction records are sorted. Those without a value are the least, unless it says otherwise."
enum Direction { ASC DESC ASC_NULLS_LAST DESC_NULLS_FIRST }
`)
		return
	case ChangeKind:
		s.text.WriteString(`
"What happened to a record."
enum ChangeKind { ADDED CHANGED REMOVED }
`)
		return
	case "PageInfo":
		s.text.WriteString(`
"Where a page stands in its list."
type PageInfo {
  hasNextPage: Boolean!
  hasPreviousPage: Boolean!
  startCursor: String
  endCursor: String
}
`)
		return
	}
	defines := map[string]func(string, schema.Named){"Filter": s.filter, "EqualityFilter": s.equality, "OrderFilter": s.order,
		"Sort": s.sort, "Connection": s.connection, "Edge": s.edge, "Related": s.related, "Add": s.add, "Change": s.change}
	base, suffix := SuppliedOf(name, func(base string) bool { return s.schema.Type(base) != nil })
	if suffix != "" {
		defines[suffix](name, s.schema.Type(base))
	}
}

// SuppliedOf parts the name of a type that is supplied where a schema refers to it and does not
// define it: PortCallFilter is of PortCall, and a Filter. The suffix is "" of other names.
func SuppliedOf(name string, defined func(base string) bool) (base, suffix string) {
	for _, suffix := range []string{"Filter", "EqualityFilter", "OrderFilter", "Sort", "Connection", "Edge", "Related", "Add", "Change"} {
		if base, ok := strings.CutSuffix(name, suffix); ok && defined(base) {
			return base, suffix
		}
	}
	return name, ""
}

func (s *supplier) want(name string) string {
	s.wanted = append(s.wanted, name)
	return name
}

// filter writes the filter of a record's type, or the comparisons of a scalar
// or enum.
func (s *supplier) filter(name string, t schema.Named) {
	switch t := t.(type) {
	case *schema.Scalar, *schema.Enum:
		s.comparisons(name, t, true, true)
		return
	case *schema.Object, *schema.Interface:
	default:
		return
	}
	fmt.Fprintf(&s.text, "\n\"What records of %s must fit: all that is given.\"\ninput %s {\n  all: [%s!]\n  any: [%s!]\n  not: %s\n", t, name, name, name, name)
	for _, f := range schema.FieldsOf(t) {
		if f.Name == "all" || f.Name == "any" || f.Name == "not" || directive(f, "total") != nil || directive(f, "computed") != nil {
			continue
		}
		if typ := s.testType(t, f); typ != "" && !s.without[name+"."+f.Name] {
			fmt.Fprintf(&s.text, "  %s: %s\n", f.Name, s.want(typ))
		}
	}
	s.text.WriteString("}\n")
}

// testType returns the type of a filter's field, or "" if it has none.
func (s *supplier) testType(owner schema.Named, f *schema.Field) string {
	named := schema.NamedOf(f.Type)
	_, isList := schema.ListElem(f.Type)
	related := directive(f, "related") != nil
	switch {
	case schema.IsLeaf(named):
		if isList || isAny(named) {
			return ""
		}
		return s.comparisonsOf(named, owner.String()+"Filter."+f.Name)
	case related && s.sameStore(owner, s.node(named)):
		return s.node(named).String() + "Related"
	case related || isList && s.foldable(owner) || schema.Depth(f.Type) > 1 || named.About().Directive("stored") != nil:
		return "" // elsewhere, or a list inside a column of JSON
	}
	if _, ok := named.(*schema.Object); !ok {
		return ""
	}
	if isList {
		return named.String() + "Related"
	}
	return named.String() + "Filter"
}

// node returns the type of the records of a connection that is to be supplied
// or is defined, or the type itself.
func (s *supplier) node(t schema.Named) schema.Named {
	if o, ok := t.(*schema.Object); ok {
		if edges := o.Field("edges"); edges != nil {
			if edge, ok := schema.NamedOf(edges.Type).(*schema.Object); ok && edge.Field("node") != nil {
				return schema.NamedOf(edge.Field("node").Type)
			}
		}
	}
	return t
}

// storedIn returns the source in which records of a type live, or "".
func storedIn(t schema.Named) string {
	if d := t.About().Directive("stored"); d != nil {
		return text(d, "in")
	}
	for _, i := range schema.InterfacesOf(t) {
		if d := i.Directive("stored"); d != nil {
			return text(d, "in")
		}
	}
	return ""
}

// isAny reports whether a type is JSON, whose values have no order and no parts that
// a store is asked about.
func isAny(t schema.Named) bool {
	known := scalar.Named(t.String())
	return known != nil && known.Form == scalar.AsAny
}

func (s *supplier) foldable(t schema.Named) bool { return storedIn(t) != "" && s.folds(storedIn(t)) }

func (s *supplier) sameStore(a, b schema.Named) bool {
	return s.foldable(a) && storedIn(a) == storedIn(b)
}

// comparisonsOf returns the type of the comparisons of a leaf that a filter's field
// has: without those that its stored field turned out not to allow.
func (s *supplier) comparisonsOf(t schema.Named, coordinate string) string {
	allowed := func(comparisons []string) bool {
		return !slices.ContainsFunc(comparisons, func(c string) bool { return s.without[coordinate+" "+c] })
	}
	switch {
	case !allowed(orders):
		return t.String() + "EqualityFilter"
	case !allowed(searches):
		return t.String() + "OrderFilter"
	}
	return t.String() + "Filter"
}

// equality writes the comparisons of a scalar whose stored values have no order.
func (s *supplier) equality(name string, t schema.Named) { s.comparisons(name, t, false, false) }

// order writes the comparisons of a scalar whose stored values are not text.
func (s *supplier) order(name string, t schema.Named) { s.comparisons(name, t, true, false) }

// comparisons writes the comparisons of a scalar or enum: those that it can have, and
// that its stored values allow.
func (s *supplier) comparisons(name string, t schema.Named, ordered, searched bool) {
	if !schema.IsLeaf(t) {
		return
	}
	fmt.Fprintf(&s.text, "\n\"What a value must fit: all that is given.\"\ninput %s {\n  is: %s\n  isNot: %s\n  in: [%s!]\n  notIn: [%s!]\n", name, t, t, t, t)
	known := scalar.Named(t.String())
	if ordered && known != nil && known.Ordered {
		fmt.Fprintf(&s.text, "  above: %s\n  atLeast: %s\n  below: %s\n  atMost: %s\n", t, t, t, t)
	}
	if searched && known != nil && known.Searched {
		s.text.WriteString("  contains: String\n  startsWith: String\n  endsWith: String\n")
	}
	s.text.WriteString("  missing: Boolean\n}\n")
}

// related writes the tests of several records.
func (s *supplier) related(name string, t schema.Named) {
	if _, ok := t.(schema.Composite); !ok {
		return
	}
	filter := s.want(t.String() + "Filter")
	fmt.Fprintf(&s.text, `
input %s {
  "Some record fits."
  with: %s
  "No record fits."
  without: %s
  "Every record fits, if there is any."
  only: %s
}
`, name, filter, filter, filter)
}

// sort writes the sort keys of a type.
func (s *supplier) sort(name string, t schema.Named) {
	if _, ok := t.(*schema.Union); ok || schema.IsLeaf(t) {
		return
	}
	var keys []string
	for _, f := range schema.FieldsOf(t) {
		named := schema.NamedOf(f.Type)
		_, isList := schema.ListElem(f.Type)
		related := directive(f, "related") != nil
		_, composite := named.(schema.Composite)
		switch {
		case s.without[name+"."+f.Name]:
		case isList || directive(f, "total") != nil || directive(f, "computed") != nil || isAny(named) || s.node(named) != named:
		case schema.IsLeaf(named):
			keys = append(keys, "  "+f.Name+": "+s.want("Direction"))
		case related && s.sameStore(t, named), composite && !related && named.About().Directive("stored") == nil:
			if _, isUnion := named.(*schema.Union); !isUnion {
				keys = append(keys, "  "+f.Name+": "+s.want(named.String()+"Sort"))
			}
		}
	}
	if len(keys) > 0 {
		fmt.Fprintf(&s.text, "\n\"One key to sort by.\"\ninput %s @oneOf {\n%s\n}\n", name, strings.Join(keys, "\n"))
	}
}

// add writes what a new record of a type is given.
func (s *supplier) add(name string, t schema.Named) {
	in := storedIn(t) // nothing fills what is nested in other records
	s.given(name, t, "What a new "+t.String()+" is given.", in == "" || s.tells(in))
}

// change writes what a record of a type can be changed in: what is absent is left alone.
func (s *supplier) change(name string, t schema.Named) {
	s.given(name, t, "What changes of a "+t.String()+": what is absent is left alone, and null clears.", false)
}

// given writes the fields of a type that can be given: leaves, nested records, and
// relationships to one record by its key. Binding leaves out what cannot be written, and what need not be
// given.
func (s *supplier) given(name string, t schema.Named, about string, required bool) {
	var fields []string
	for _, f := range schema.FieldsOf(t) {
		named := schema.NamedOf(f.Type)
		_, isList := schema.ListElem(f.Type)
		typ := ""
		switch {
		case s.without[name+"."+f.Name] || directive(f, "total") != nil || directive(f, "computed") != nil:
		case schema.IsLeaf(named):
			typ = schema.Nullable(f.Type).String()
		case directive(f, "related") != nil && !isList && named.About().Directive("stored") != nil:
			typ = "ID"
		case directive(f, "related") == nil && storedIn(named) == "" && schema.Depth(f.Type) < 2:
			if o, ok := named.(*schema.Object); ok && s.node(o) == named { // nested in the record
				if typ = s.want(o.Name + "Add"); isList {
					typ = "[" + typ + "!]"
				}
			}
		}
		if typ == "" {
			continue
		}
		if required && schema.IsNonNull(f.Type) && !s.without[name+"."+f.Name+"!"] {
			typ += "!"
		}
		fields = append(fields, "  "+f.Name+": "+typ)
	}
	if len(fields) > 0 {
		fmt.Fprintf(&s.text, "\n%q\ninput %s {\n%s\n}\n", about, name, strings.Join(fields, "\n"))
	}
}

// connection writes a page of records.
func (s *supplier) connection(name string, t schema.Named) {
	if _, ok := t.(schema.Composite); !ok {
		return
	}
	fmt.Fprintf(&s.text, "\n\"A page of %s.\"\ntype %s {\n  edges: [%s!]!\n  pageInfo: %s!\n  \"How many there are on all pages.\"\n  totalCount: Int!\n}\n",
		t, name, s.want(t.String()+"Edge"), s.want("PageInfo"))
}

// edge writes an item of a page.
func (s *supplier) edge(name string, t schema.Named) {
	if _, ok := t.(schema.Composite); !ok {
		return
	}
	fmt.Fprintf(&s.text, "\n\"One of a page of %s.\"\ntype %s {\n  \"Where it stands, for after and before.\"\n  cursor: String!\n  node: %s!\n}\n", t, name, t)
}
