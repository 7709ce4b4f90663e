package binding

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// The rules of binding, by the name under which problems are told.
const (
	ruleSource   = "source"        // the source and record set exist
	ruleColumn   = "column"        // the column or path exists
	ruleFits     = "type-fits"     // the stored type fits the field's
	ruleNullable = "nullable"      // a required field over what may be missing
	ruleUnique   = "unique"        // one record is promised
	ruleIndex    = "index"         // a relationship can be looked up fast
	ruleArgument = "argument"      // every argument does something
	ruleKind     = "kind"          // concrete types are told apart
	ruleUnbound  = "unbound"       // every field has a source
	ruleRelated  = "relationship"  // a relationship's fields agree
	ruleOneKey   = "one-key"       // a resource takes one key at a time
	ruleFilter   = "filter"        // every test of a filter tests something
	rulePage     = "page"          // the types of a connection are as its specification says
	ruleTotal    = "total"         // a total is made of something
	ruleApart    = "apart"         // what is written together is one transaction
	ruleWrite    = "write"         // what is written can be
	ruleComputed = "computed"      // expressions and functions have what they need
	ruleCrossing = "crossing"      // required, and of another store
	ruleFor      = "for"           // rules say for whom, and can be decided
	ruleWatch    = "watch"         // it is clear whose changes are told, and what of them
	ruleNotYet   = "not-supported" // what this version cannot bind
)

// Bind reads the binding directives of a schema. The bound schema can be used
// if none of the problems is an error.
func Bind(s *schema.Schema, sources map[string]*Source) (*Bound, language.Problems) {
	bound, problems, _ := bind(Unruled{}, s, sources)
	return bound, problems
}

// bind is [Bind]. It also returns the coordinates of what supplied types have and
// cannot be.
func bind(unruled Unruled, s *schema.Schema, sources map[string]*Source) (*Bound, language.Problems, []string) {
	b := &binder{
		bound:   &Bound{Schema: s, Sources: sources, records: map[schema.Named]*Records{}, roots: map[*schema.Field]*Field{}},
		unruled: unruled,
		apart:   map[*schema.Input]bool{},
		shows:   map[string][][]*schema.Field{},
		enums:   map[*schema.Enum]*Enum{},
		nested:  map[nestedKey]*Object{},
		filters: map[filterKey]*Filter{},
		sorted:  map[filterKey]Sorts{},
		problem: map[string]bool{},
		needs:   map[*schema.Field]*language.SelectionSet{},
		groups:  map[*schema.Object]bool{}, bindsGroup: map[*schema.Object]bool{},
	}
	for _, name := range []string{"stored", "at", "related", "kind", "read", "total", "computed", "add", "change", "remove", "pair", "unpair", "within", "for", "watch"} {
		if d := s.Directive(name); d != nil && s.Position(d.Pos).Name != Directives.Name {
			b.fail(ruleNotYet, d.Pos, "@"+name, "rename yours", msgDirectiveOspreySOwn, name)
			return b.bound, b.problems, nil
		}
	}
	for _, t := range s.Types() {
		b.stored(t)
	}
	for _, t := range s.Types() {
		b.kinds(t)
	}
	for _, t := range s.Types() {
		if r := b.bound.records[t]; r != nil && r.Type == t {
			b.objects(r)
		}
	}
	for _, root := range []*schema.Object{s.Query, s.Mutation} {
		b.findGroups(root, map[*schema.Object]bool{})
	}
	b.rules()
	b.reads(s.Query)
	b.reads(s.Mutation)
	b.watches(s.Subscription)
	b.withins()
	b.around()
	b.cycles()
	b.crossings()
	b.bound.shows = b.shows
	b.problems.Sort()
	return b.bound, b.problems, b.refused
}

type binder struct {
	bound    *Bound
	unruled  Unruled
	enums    map[*schema.Enum]*Enum
	nested   map[nestedKey]*Object
	filters  map[filterKey]*Filter
	sorted   map[filterKey]Sorts
	shows    map[string][][]*schema.Field
	problem  map[string]bool // findings told already, since types share fields
	problems language.Problems
	apart    map[*schema.Input]bool                   // fields of input objects of which is told that they are not in one transaction
	refused  []string                                 // coordinates in supplied types
	needs    map[*schema.Field]*language.SelectionSet // of computed fields
	// groups are the types that group fields of a root type; bindsGroup, those whose
	// fields are bound, or are being bound.
	groups, bindsGroup map[*schema.Object]bool
}

// add reports a finding once for a place and message.
func (b *binder) add(severity language.Severity, rule string, pos language.Pos, coordinate, fix, format string, args ...any) {
	if b.bound.Schema.Position(pos).Name == SuppliedName {
		b.refused = append(b.refused, coordinate)
		return
	}
	msg, remedy := language.Parted(fmt.Sprintf(format, args...))
	fix = cmp.Or(fix, remedy)
	if own := b.shared(coordinate); own != nil { // the same of every type is one mistake
		msg, pos, coordinate = strings.ReplaceAll(msg, coordinate, own.Coordinate()), own.Pos, own.Coordinate()
	}
	key := fmt.Sprint(pos, msg)
	if b.problem[key] {
		return
	}
	b.problem[key] = true
	b.problems = append(b.problems, &language.Problem{Severity: severity, Rule: rule, Pos: pos, Coordinate: coordinate, Msg: msg, Fix: fix})
}

// shared returns the field of the interface in whose record set a field is stored,
// and which gives it its binding; nil if there is none. What is wrong with the one
// is wrong with the field of each of its types.
func (b *binder) shared(coordinate string) *schema.Field {
	owner, name, _ := strings.Cut(coordinate, ".")
	object, ok := b.bound.Schema.Type(owner).(*schema.Object)
	if !ok || b.bound.records[object] == nil {
		return nil
	}
	above, ok := b.bound.records[object].Type.(*schema.Interface)
	if !ok || above.Field(name) == nil || object.Field(name) == nil || len(object.Field(name).Directives) > 0 {
		return nil
	}
	return above.Field(name)
}

func (b *binder) fail(rule string, pos language.Pos, coordinate, fix, format string, args ...any) {
	b.add(language.Error, rule, pos, coordinate, fix, format, args...)
}

func (b *binder) warn(rule string, pos language.Pos, coordinate, fix, format string, args ...any) {
	b.add(language.Warning, rule, pos, coordinate, fix, format, args...)
}

// declaredSources says which sources there are, and how one more is declared.
func declaredSources(names []string) string {
	fix := "declare it under sources: in osprey.yaml, or, if a Go program brings it, as { kind: program }"
	if len(names) > 0 {
		fix += "; declared are " + strings.Join(names, ", ")
	}
	return fix
}

// stored binds a type with @stored to its record set.
func (b *binder) stored(t schema.Named) {
	d := t.About().Directive("stored")
	if d == nil {
		return
	}
	name := t.String()
	source := b.bound.Sources[text(d, "in")]
	if source == nil {
		var names []string
		for n := range b.bound.Sources {
			names = append(names, n)
		}
		slices.Sort(names)
		b.fail(ruleSource, d.Pos, name, declaredSources(names), msgStoredNoSource, name, text(d, "in"), language.DidYouMean(text(d, "in"), names))
		return
	}
	r := &Records{Type: t, Source: source, Set: text(d, "as"), Key: language.Texts(d.Argument("key")), objects: map[*schema.Object]*Object{}}
	if r.Set == "" {
		r.Set = source.Naming.Apply(name)
	}
	if source.Catalogue != nil {
		r.Info = source.Catalogue.Sets[r.Set]
		if r.Info == nil {
			b.fail(ruleSource, d.Pos, name, "", msgSourceHasNoRecord, "the record set of "+name, r.Set, source.Name, language.DidYouMean(r.Set, source.Catalogue.Names()))
			return
		}
	}
	for i, key := range r.Key {
		r.Key[i] = b.path(source, r.Info, key)
		b.mustExist(r, r.Key[i], d.Pos, name, "the key of "+name)
	}
	if len(r.Key) == 0 && r.Info != nil && len(r.Info.Keys) > 0 {
		r.Key = r.Info.Keys[0]
	}
	b.bound.records[t] = r
}

// path returns the stored name that a name in a directive means: the name
// itself, or what the naming rule makes of it if only that exists.
func (b *binder) path(source *Source, info *store.Set, name string) string {
	if info != nil && info.Field(name) == nil && !info.Nested(name) {
		if ruled := applyPath(source.Naming, name); info.Field(ruled) != nil || info.Nested(ruled) {
			return ruled
		}
	}
	return name
}

func applyPath(n Naming, path string) string {
	parts := strings.Split(path, ".")
	for i := range parts {
		parts[i] = n.Apply(parts[i])
	}
	return strings.Join(parts, ".")
}

// mustExist tells of a field that the record set lacks. It returns what the
// catalogue says of the field, or nil.
func (b *binder) mustExist(r *Records, path string, pos language.Pos, coordinate, what string) *store.Field {
	if r.Info == nil {
		return nil
	}
	f := r.Info.Field(path)
	if f != nil || r.Info.Nested(path) {
		return f
	}
	hint := language.DidYouMean(path, r.Info.FieldNames())
	if r.Info.Sampled {
		b.warn(ruleColumn, pos, coordinate, "", msgNoneSampledRecordsHas, what, path, r.Set, r.Source.Name, hint)
		return nil
	}
	fix := ""
	if names := r.Info.FieldNames(); len(names) <= 12 {
		fix = r.Set + " has " + strings.Join(names, ", ")
	}
	b.fail(ruleColumn, pos, coordinate, fix, msgDoesNotHave, what, path, r.Info.What, r.Set, r.Source.Name, hint)
	return nil
}

// info returns what the catalogue says of a field that a directive names, telling
// if there is none; of one that another field of the schema names, that one tells.
func (b *binder) info(d *language.Directive, r *Records, path, coordinate, what string) *store.Field {
	if d != nil {
		return b.mustExist(r, path, d.Pos, coordinate, what)
	}
	if r.Info == nil {
		return nil
	}
	return r.Info.Field(path)
}

// kinds finds out how the concrete types of an interface's records are told.
func (b *binder) kinds(t schema.Named) {
	r := b.bound.records[t]
	i, abstract := t.(*schema.Interface)
	if !abstract || r == nil {
		return
	}
	d := t.About().Directive("kind")
	possible := b.bound.Schema.Possible(i)
	if d == nil || text(d, "by") == "" {
		b.fail(ruleKind, t.About().Pos, t.String(), "write @kind(by: \"…\") with the field that holds it", msgStoredOneRecordSet, t, typeNames(possible))
		return
	}
	k := &Kind{Path: b.path(r.Source, r.Info, text(d, "by")), Types: map[string]*schema.Object{}, Stored: map[*schema.Object]string{}, Column: store.Text}
	info := b.mustExist(r, k.Path, d.Pos, t.String(), "what tells the types of "+t.String())
	if info != nil && info.Kind != store.Unknown {
		k.Column = info.Usual()
	}
	for _, o := range possible {
		if o.Directive("stored") != nil {
			continue // its records are elsewhere
		}
		value, pos, ok := b.claim(k, o, r.Source, r.Set+"."+k.Path)
		if ok && info != nil && len(info.Values) > 0 && !slices.Contains(info.Values, value) {
			b.fail(ruleKind, pos, o.Name, "the values are "+strings.Join(info.Values, ", "), msgToldValueNeverHas, o.Name, value, r.Set, k.Path, language.DidYouMean(value, info.Values))
		}
		if b.bound.records[o] == nil {
			b.bound.records[o] = r
		}
	}
	if info != nil {
		for _, v := range info.Values {
			if k.Types[v] == nil && !b.problem["kind "+t.String()] {
				b.warn(ruleKind, d.Pos, t.String(), unclaimedFix(v), msgRecordsWhoseAreNo, t, r.Set, k.Path, v)
			}
		}
	}
	r.Kind = k
}

// Unclaimed tells of records whose kind no type claims.
func Unclaimed(r *Records, pos language.Pos, value string) *language.Problem {
	return &language.Problem{Severity: language.Warning, Rule: ruleKind, Pos: pos, Coordinate: r.Type.String(),
		Msg: fmt.Sprintf(msgRecordsWhoseAreNo, r.Type, r.Set, r.Kind.Path, value), Fix: unclaimedFix(value)}
}

func unclaimedFix(value string) string { return "add a type with @kind(is: \"" + value + "\")" }

func typeNames(list []*schema.Object) string {
	names := make([]string, len(list))
	for i, o := range list {
		names[i] = o.Name
	}
	return strings.Join(names, ", ")
}

// objects binds the fields of every object type of a record set.
func (b *binder) objects(r *Records) {
	for _, o := range b.bound.Schema.Possible(r.Type) {
		if b.bound.records[o] != r {
			continue // it is stored elsewhere
		}
		object := &Object{Type: o, Fields: map[string]*Field{}}
		r.objects[o] = object
		for _, f := range o.Fields {
			at := place{records: r, source: r.Source}
			if r.Kind != nil {
				at.kinds = r.Type
			}
			if bound := b.field(at, f); bound != nil {
				object.Fields[f.Name] = bound
			}
		}
	}
}
