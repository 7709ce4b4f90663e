// Package editing helps to write a project: what can be written at a place of a schema file,
// what a word means in any of the project's texts, where else it is used, and how it is called
// otherwise without changing what is stored where.
//
// The texts need not be sound. What can be read of them is held together with what the stores
// tell and with the last schema that was sound. Places are byte offsets.
package editing

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// A File is one text of a project, with the tree that could be read of it.
type File struct {
	Name, Text string
	// Schema says that it is one of types, and not of operations.
	Schema bool

	doc      *language.Document
	mentions []Mention // made when they are first asked for
	looked   bool
}

// A Site is the texts of a project at one time, and what is known of its stores. It is not
// safe for concurrent use.
type Site struct {
	// Last is the last schema that was sound, and Bound how it is bound; nil if there was none.
	Last    *schema.Schema
	Bound   *binding.Bound
	Sources map[string]*binding.Source

	files    []*File
	types    map[string]*typ
	sorted   []string          // the names of types
	families map[string]string // by type and field
	places   map[string]place  // by type
}

// A typ is a type as the texts have it, with its extensions.
type typ struct {
	name       string
	kind       language.TypeKind
	def        *language.TypeDefinition // the first that is no extension, or nil
	file       *File                    // of def
	about      string
	interfaces []string
	directives []*language.Directive
	fields     map[string]*field
	order      []string // the names of fields
	inputs     []*language.InputValueDefinition
	values     []*language.EnumValueDefinition
	members    []string
}

// A field is a field of a type, where it is written.
type field struct {
	*language.FieldDefinition
	file *File
}

// NewSite reads the texts of a project. Files that before has with the same text are taken
// from it; before may be nil.
func NewSite(before *Site, types, operations []schema.Text, last *schema.Schema, bound *binding.Bound, sources map[string]*binding.Source) *Site {
	s := &Site{Last: last, Bound: bound, Sources: sources, types: map[string]*typ{}, families: map[string]string{}, places: map[string]place{}}
	add := func(t schema.Text, isSchema bool) {
		f := &File{Name: t.Name, Text: t.Body, Schema: isSchema}
		if before != nil {
			if known := before.File(t.Name); known != nil && known.Text == t.Body && known.Schema == isSchema {
				f.doc = known.doc
			}
		}
		if f.doc == nil {
			f.doc, _ = language.Parse(language.NewSource(t.Name, t.Body))
		}
		s.files = append(s.files, f)
	}
	for _, t := range types {
		add(t, true)
	}
	for _, t := range operations {
		add(t, false)
	}
	for _, f := range s.files {
		if f.Schema {
			s.note(f)
		}
	}
	s.sorted = slices.Sorted(maps.Keys(s.types))
	return s
}

// File returns the file of a name, or nil.
func (s *Site) File(name string) *File {
	if i := slices.IndexFunc(s.files, func(f *File) bool { return f.Name == name }); i >= 0 {
		return s.files[i]
	}
	return nil
}

// note notes the types of a file.
func (s *Site) note(f *File) {
	for _, d := range f.doc.Definitions {
		def, ok := d.(*language.TypeDefinition)
		if !ok || def.Name.Text == "" {
			continue
		}
		t := s.types[def.Name.Text]
		if t == nil {
			t = &typ{name: def.Name.Text, kind: def.Kind, fields: map[string]*field{}}
			s.types[def.Name.Text] = t
		}
		if !def.Extend && t.def == nil {
			t.def, t.file, t.kind = def, f, def.Kind
			if def.Description != nil {
				t.about = def.Description.Text
			}
		}
		for _, i := range def.Interfaces {
			t.interfaces = append(t.interfaces, i.Text)
		}
		for _, m := range def.Members {
			t.members = append(t.members, m.Text)
		}
		t.directives = append(t.directives, def.Directives...)
		t.inputs, t.values = append(t.inputs, def.Inputs...), append(t.values, def.Values...)
		for _, m := range def.Fields {
			if m.Name.Text != "" && t.fields[m.Name.Text] == nil {
				t.fields[m.Name.Text] = &field{m, f}
				t.order = append(t.order, m.Name.Text)
			}
		}
	}
}

// typeOf returns the type that a text writes, without lists and "!"; "" if it is not there.
func typeOf(t *language.TypeRef) string {
	if t == nil {
		return ""
	}
	return t.Innermost().Name
}

// recordType returns the type of the records that a field of a type leads to: of a page, that
// of its nodes.
func (s *Site) recordType(name string) string {
	if t := s.types[name]; t != nil {
		if edges := t.fields["edges"]; edges != nil {
			if edge := s.types[typeOf(edges.Type)]; edge != nil && edge.fields["node"] != nil {
				return typeOf(edge.fields["node"].Type)
			}
		}
		return name
	}
	base, suffix := s.supplied(name)
	if suffix == "Connection" || suffix == "Edge" {
		return base
	}
	return name
}

// supplied parts the name of a type that is supplied; suffix is "" of any other.
func (s *Site) supplied(name string) (base, suffix string) {
	if s.types[name] != nil {
		return name, ""
	}
	return binding.SuppliedOf(name, func(base string) bool { return s.types[base] != nil })
}

// implementing returns the types that implement an interface, in any order.
func (s *Site) implementing(name string) (list []string) {
	for other, t := range s.types {
		if slices.Contains(t.interfaces, name) {
			list = append(list, other)
		}
	}
	return list
}

// family returns the owner that stands for all types that have a field in common since an
// interface says so: the first of their names.
func (s *Site) family(owner, name string) string {
	key := owner + "." + name
	if first, ok := s.families[key]; ok {
		return first
	}
	has := func(t string) bool { return s.types[t] != nil && s.types[t].fields[name] != nil }
	if !has(owner) {
		return owner
	}
	list := []string{owner}
	for i := 0; i < len(list); i++ {
		var near []string
		if t := s.types[list[i]]; t != nil {
			near = append(near, t.interfaces...)
			if t.kind == language.InterfaceKind {
				near = append(near, s.implementing(list[i])...)
			}
		}
		for _, n := range near {
			if has(n) && !slices.Contains(list, n) {
				list = append(list, n)
			}
		}
	}
	first := slices.Min(list)
	for _, member := range list {
		s.families[member+"."+name] = first
	}
	return first
}

// directive returns a directive of a type's field, or of the same field of an interface that
// the type implements, which holds for it, too.
func (s *Site) directive(owner, name, directive string) *language.Directive {
	var look func(owner string, on []string) *language.Directive
	look = func(owner string, on []string) *language.Directive {
		t := s.types[owner]
		if t == nil || slices.Contains(on, owner) {
			return nil
		}
		if f := t.fields[name]; f != nil {
			if d := named(f.Directives, directive); d != nil {
				return d
			}
		}
		for _, i := range t.interfaces {
			if d := look(i, append(on, owner)); d != nil {
				return d
			}
		}
		return nil
	}
	return look(owner, nil)
}

func named(list []*language.Directive, name string) *language.Directive {
	for _, d := range list {
		if d.Name.Text == name {
			return d
		}
	}
	return nil
}

// text returns an argument of a directive that is a string, or "".
func text(d *language.Directive, name string) string {
	if d == nil {
		return ""
	}
	if v, ok := d.Argument(name).(*language.StringValue); ok {
		return v.Text
	}
	return ""
}

// A place is where records of a type are: in a record set, or nested in those of one, behind
// a prefix.
type place struct {
	source *binding.Source
	set    string
	prefix string
}

// info returns what the store tells of the set, or nil.
func (p place) info() *store.Set {
	if p.source == nil || p.source.Catalogue == nil {
		return nil
	}
	return p.source.Catalogue.Sets[p.set]
}

// at returns the place of a set of a source.
func (s *Site) at(source, set string) place {
	if s.Sources[source] == nil {
		return place{}
	}
	return place{source: s.Sources[source], set: set}
}

// stored returns the directive that says where the records of a type are.
func (s *Site) stored(name string) (d *language.Directive, of string) {
	t := s.types[name]
	if t == nil {
		return nil, ""
	}
	if d := named(t.directives, "stored"); d != nil {
		return d, name
	}
	for _, i := range t.interfaces {
		if other := s.types[i]; other != nil {
			if d := named(other.directives, "stored"); d != nil {
				return d, i
			}
		}
	}
	return nil, ""
}

// maxNested is how deep records are looked for in others.
const maxNested = 6

// place returns where records of a type are; its source is nil if nothing says so.
func (s *Site) place(name string) place {
	p, known := s.places[name]
	if !known {
		p = s.nested(name, nil)
		s.places[name] = p
	}
	return p
}

func (s *Site) nested(name string, inside []string) place {
	if d, of := s.stored(name); d != nil {
		p := s.at(text(d, "in"), text(d, "as"))
		if p.source != nil && p.set == "" {
			p.set = p.source.Naming.Apply(of)
		}
		return p
	}
	if len(inside) == maxNested || slices.Contains(inside, name) {
		return place{}
	}
	if of := s.watchedIn(name); of != "" {
		return s.nested(of, append(inside, name))
	}
	for _, owner := range s.names() {
		t := s.types[owner]
		for _, f := range t.order {
			if typeOf(t.fields[f].Type) != name || s.directive(owner, f, "related") != nil || s.directive(owner, f, "computed") != nil {
				continue
			}
			if p := s.nested(owner, append(inside, name)); p.source != nil {
				p.prefix += s.column(p, owner, f) + "."
				return p
			}
		}
	}
	return place{}
}

// watchedIn returns of which records a type tells what has happened, or how they were; "" of any other type.
func (s *Site) watchedIn(name string) string {
	root := s.types["Subscription"]
	if root == nil {
		return ""
	}
	for _, field := range root.order {
		d, payload := s.directive(root.name, field, "watch"), s.types[typeOf(root.fields[field].Type)]
		if d == nil || payload == nil {
			continue
		}
		of, before := text(d, "type"), ""
		for _, f := range payload.order {
			if t := typeOf(payload.fields[f].Type); s.isStored(t) {
				of = cmp.Or(of, t)
			} else if own := s.types[t]; own != nil && own.kind == language.ObjectKind {
				before = t
			}
		}
		if !s.isStored(payload.name) && (name == payload.name || name == before) {
			return of
		}
	}
	return ""
}

// isStored reports whether a type has records of its own.
func (s *Site) isStored(name string) bool {
	d, _ := s.stored(name)
	return d != nil
}

// column returns the stored name of a field, without the prefix of its place.
func (s *Site) column(p place, owner, name string) string {
	if path := text(s.directive(owner, name, "at"), "path"); path != "" {
		return path
	}
	return p.source.Naming.Apply(name)
}

// names returns the names of all types, sorted.
func (s *Site) names() []string { return s.sorted }

// inner returns the fields of a place: those below its prefix, without that.
func (p place) inner() (names []string, fields map[string]*store.Field) {
	info := p.info()
	fields = map[string]*store.Field{}
	if info == nil {
		return nil, fields
	}
	for i := range info.Fields {
		if name, ok := strings.CutPrefix(info.Fields[i].Name, p.prefix); ok && name != "" {
			names = append(names, name)
			fields[name] = &info.Fields[i]
		}
	}
	return names, fields
}
