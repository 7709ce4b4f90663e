package schema

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
)

// A Text is one file of a schema.
type Text struct {
	Name string // the file's name
	Body string
	// Hidden says that what the text defines is for the schema's authors: it
	// can be used in the schema and is not shown to clients.
	Hidden bool
	// Codings are those of scalars that the text defines, by name.
	Codings map[string]*Coding
}

// Build makes a schema of texts, in any order, and checks it. The problems
// have their places in the returned schema's texts (see [Schema.Position]);
// the schema can be used only if none of them is an error.
func Build(texts ...Text) (*Schema, language.Problems) { return NewDraft(texts...).Build() }

// A Draft is texts of a schema that is being put together: each is parsed once, however often a
// schema is made of it and more. It does not change.
type Draft struct {
	sources *language.Sources
	texts   []parsedText
}

type parsedText struct {
	Text
	doc      *language.Document
	problems language.Problems
}

// NewDraft returns a draft of texts.
func NewDraft(texts ...Text) *Draft {
	return (&Draft{sources: &language.Sources{}}).With(append([]Text{{Body: predeclared}}, texts...)...)
}

// With returns a draft of the same texts and further ones.
func (d *Draft) With(texts ...Text) *Draft {
	more := &Draft{sources: d.sources.Clone(), texts: slices.Clone(d.texts)}
	for _, t := range texts {
		doc, problems := language.Parse(more.sources.Add(t.Name, t.Body))
		more.texts = append(more.texts, parsedText{t, doc, problems})
	}
	return more
}

// Look returns the schema as far as it goes, to be looked at and not to be used: it is not checked.
func (d *Draft) Look() *Schema { return d.builder().schema }

// Build makes the schema and checks it, as the function of this name does.
func (d *Draft) Build() (*Schema, language.Problems) {
	b := d.builder()
	b.guess()
	// Built-in scalars that nothing refers to are no part of what introspection
	// shows (section 3.5).
	for _, s := range scalar.Predeclared() {
		b.schema.types[s.Name].About().hidden = !b.referred[s.Name]
	}
	if !b.problems.Failed() || b.schema.Query != nil {
		b.check()
	}
	b.problems.Sort()
	return b.schema, b.problems
}

// builder puts the types together.
func (d *Draft) builder() *builder {
	b := &builder{
		schema: &Schema{
			types:      map[string]Named{},
			directives: map[string]*Directive{},
			sources:    d.sources,
		},
		defined:    map[string]*language.TypeDefinition{},
		extensions: map[string][]*language.TypeDefinition{},
		unknown:    map[string]bool{},
		referred:   map[string]bool{},
	}
	for i, text := range d.texts {
		b.read(text)
		if i == 0 {
			b.ownTypes = len(b.order)
		}
	}
	for _, text := range d.texts {
		for name, coding := range text.Codings {
			if t, ok := b.schema.types[name].(*Scalar); ok {
				t.Coding = coding
			}
		}
	}
	b.extend()
	b.resolve()
	b.schemaRoots()
	return b
}

// The rules that build itself reports under; those of the checks stand there.
const (
	ruleUniqueType      = "Unique Type Names"
	ruleUniqueDirective = "Unique Directive Names"
	ruleUniqueMember    = "Unique Member Names"
	ruleExtension       = "Possible Type Extensions"
	ruleKnownType       = "Known Type Names"
	ruleRoot            = "Root Operation Types"
	ruleDocument        = "Type System Documents"
)

type builder struct {
	schema     *Schema
	order      []*language.TypeDefinition // definitions in the order of the texts
	ownTypes   int                        // how many of order are predeclared
	defined    map[string]*language.TypeDefinition
	extensions map[string][]*language.TypeDefinition
	directives []*language.DirectiveDefinition
	schemas    []*language.SchemaDefinition
	unknown    map[string]bool // names told as unknown already
	referred   map[string]bool // names that some part of the schema refers to
	problems   language.Problems
	guesses    []guess
}

// read collects the definitions of one text.
func (b *builder) read(text parsedText) {
	b.problems = append(b.problems, text.problems...)
	for _, d := range text.doc.Definitions {
		switch d := d.(type) {
		case *language.TypeDefinition:
			b.typeDefinition(d, text.Hidden)
		case *language.DirectiveDefinition:
			// A schema may repeat the predeclared directives (section 3.13), and
			// name its own as it likes.
			if first := b.schema.directives[d.Name.Text]; first != nil && !first.hidden && first.Pos >= b.firstOwnPos() {
				b.problems.Add(ruleUniqueDirective, d.Name.Pos, msgDirectiveDefinedAlready, d.Name.Text)
				continue
			}
			b.schema.directives[d.Name.Text] = &Directive{Declared: Declared{Name: d.Name.Text, Description: describe(d.Description), Pos: d.Name.Pos, hidden: text.Hidden}}
			b.directives = append(b.directives, d)
		case *language.SchemaDefinition:
			b.schemas = append(b.schemas, d)
		default:
			b.problems.Add(ruleDocument, d.Start(), msgSchemaHoldsDefinitionsTypes).
				Fix = "move it to the folder operations/"
		}
	}
}

func (b *builder) typeDefinition(d *language.TypeDefinition, hidden bool) {
	name := d.Name.Text
	if name == "" {
		return // told by the parser
	}
	if d.Extend {
		b.extensions[name] = append(b.extensions[name], d)
		return
	}
	if first := b.defined[name]; first != nil {
		p := b.problems.Add(ruleUniqueType, d.Name.Pos, msgTypeDefinedAlready, name)
		p.Coordinate = name
		p.Others = []language.Pos{first.Name.Pos}
		p.Fix = "rename one of them, or write \"extend " + d.Kind.Keyword() + " " + name + "\" to add to it"
		return
	}
	b.defined[name] = d
	b.order = append(b.order, d)
	about := Declared{Name: name, Description: describe(d.Description), Pos: d.Name.Pos, hidden: hidden}
	var t Named
	switch d.Kind {
	case language.ScalarKind:
		t = &Scalar{Declared: about}
	case language.ObjectKind:
		t = &Object{Declared: about, FieldSet: FieldSet{byName: map[string]*Field{}}}
	case language.InterfaceKind:
		t = &Interface{Declared: about, FieldSet: FieldSet{byName: map[string]*Field{}}}
	case language.UnionKind:
		t = &Union{Declared: about}
	case language.EnumKind:
		t = &Enum{Declared: about}
	case language.InputKind:
		t = &InputObject{Declared: about}
	}
	b.schema.types[name] = t
}

func describe(v *language.StringValue) string {
	if v == nil {
		return ""
	}
	return v.Text
}

// extend checks that each extension has a definition of its kind.
func (b *builder) extend() {
	for name, list := range b.extensions {
		d := b.defined[name]
		for i, e := range list {
			switch {
			case d == nil:
				b.problems.Add(ruleExtension, e.Name.Pos, msgTypeExtendedNotDefined, name, b.nearType(name)).Coordinate = name
			case d.Kind != e.Kind:
				p := b.problems.Add(ruleExtension, e.Name.Pos, msgCannotExtendedAs, name, kindWords[d.Kind], kindWords[e.Kind])
				p.Coordinate = name
				p.Others = []language.Pos{d.Name.Pos}
				list[i] = &language.TypeDefinition{Kind: d.Kind}
			}
		}
	}
}

var kindWords = [...]string{"a scalar", "an object type", "an interface", "a union", "an enum", "an input object"}

// nearType returns a "did you mean" for the name of a type.
func (b *builder) nearType(name string) string {
	names := b.schema.TypeNames(func(t Named) bool { return !strings.HasPrefix(t.String(), "__") })
	return language.DidYouMean(name, names)
}

// resolve fills the types and directives from their definitions.
func (b *builder) resolve() {
	for _, d := range b.directives {
		def := b.schema.directives[d.Name.Text]
		if def.Pos != d.Name.Pos {
			continue // defined again by the schema
		}
		def.Repeatable = d.Repeatable
		for _, l := range d.Locations {
			def.Locations = append(def.Locations, l.Text)
		}
		def.Args = b.inputs("@"+def.Name+"(%:)", d.Arguments)
	}
	for _, d := range b.order {
		b.fill(d)
		for _, e := range b.extensions[d.Name.Text] {
			b.fill(e)
		}
	}
	for _, d := range b.order {
		t, ok := b.schema.types[d.Name.Text].(*Object)
		if !ok {
			continue
		}
		for _, i := range t.Interfaces {
			i.possible = append(i.possible, t)
		}
	}
}

// typeOf resolves a reference; nil if its name is unknown.
func (b *builder) typeOf(ref *language.TypeRef) Type {
	var t Type
	if ref.Elem != nil {
		elem := b.typeOf(ref.Elem)
		if elem == nil {
			return nil
		}
		t = &List{elem}
	} else {
		named := b.lookup(language.Name{Pos: ref.Pos, Text: ref.Name})
		if named == nil {
			return nil
		}
		t = named
	}
	if ref.NonNull {
		return &NonNull{t}
	}
	return t
}

// lookup returns the type called name, or nil after telling that there is none.
func (b *builder) lookup(name language.Name) Named {
	if t, ok := b.schema.types[name.Text]; ok {
		b.referred[name.Text] = true
		return t
	}
	if s := scalar.Named(name.Text); s != nil {
		t := &Scalar{Declared: Declared{Name: s.Name, Description: s.Description}, SpecifiedBy: s.SpecifiedBy}
		b.schema.types[name.Text] = t
		return t
	}
	if name.Text != "" && !b.unknown[name.Text] {
		b.unknown[name.Text] = true
		b.schema.undefined = append(b.schema.undefined, name.Text)
		b.guesses = append(b.guesses, guess{name.Text, b.problems.Add(ruleKnownType, name.Pos, msgTypeNotDefined, name.Text, "")})
	}
	return nil
}

// A guess is the problem of a name that means no type, to which a name that does is added.
type guess struct {
	name    string
	problem *language.Problem
}

// maxGuesses is how many names may mean no type for the others to be searched for what was meant:
// where there are more, it is no slip of the pen.
const maxGuesses = 50

// guess adds what may have been meant.
func (b *builder) guess() {
	for _, g := range b.guesses {
		near := ""
		if len(b.guesses) <= maxGuesses {
			near = b.nearType(g.name)
		}
		msg, fix := language.Parted(fmt.Sprintf(msgTypeNotDefined, g.name, near))
		g.problem.Msg, g.problem.Fix = language.Clip(msg), fix
	}
}

// schemaRoots finds the root types: by the schema definition, or by their
// standard names where there is none (section 3.3.1).
func (b *builder) schemaRoots() {
	s := b.schema
	explicit := false
	roots := map[language.OperationKind]*language.RootDefinition{}
	for _, d := range b.schemas {
		s.Directives = append(s.Directives, d.Directives...)
		if !d.Extend {
			if explicit {
				b.problems.Add(ruleRoot, d.Pos, msgSchemaDefinedAlready).Fix = `write "extend schema" to add to it`
			}
			explicit = true
			s.Description = describe(d.Description)
		}
		for _, r := range d.Roots {
			if first := roots[r.Kind]; first != nil {
				b.problems.Add(ruleRoot, r.Pos, msgRootTypeGivenAlready, r.Kind, first.Type.Text)
				continue
			}
			roots[r.Kind] = r
		}
	}
	set := func(kind language.OperationKind, standard string, to **Object) {
		r := roots[kind]
		if r == nil {
			if o, ok := s.types[standard].(*Object); ok && !explicit {
				*to = o
			}
			return
		}
		named := b.lookup(r.Type)
		o, ok := named.(*Object)
		if named != nil && !ok {
			b.problems.Add(ruleRoot, r.Type.Pos, msgRootTypeMustObject, kind, r.Type.Text, KindOf(named))
		}
		*to = o
	}
	set(language.Query, "Query", &s.Query)
	set(language.Mutation, "Mutation", &s.Mutation)
	set(language.Subscription, "Subscription", &s.Subscription)
	if s.Query == nil && !b.problems.Failed() {
		b.problems.Add(ruleRoot, language.NoPos, msgSchemaHasNoType).
			Fix = "add one, such as: type Query { craft(imo: ID!): Craft @read }"
	}
	for a, b2 := range map[language.OperationKind]language.OperationKind{
		language.Query: language.Mutation, language.Mutation: language.Subscription, language.Subscription: language.Query} {
		if s.Root(a) != nil && s.Root(a) == s.Root(b2) {
			b.problems.Add(ruleRoot, s.Root(a).Pos, msgCannotRootTypeBoth, s.Root(a).Name, a, b2)
		}
	}
}

// KindOf says what kind of type t is, with its article.
func KindOf(t Named) string {
	switch t.(type) {
	case *Scalar:
		return kindWords[language.ScalarKind]
	case *Object:
		return kindWords[language.ObjectKind]
	case *Interface:
		return kindWords[language.InterfaceKind]
	case *Union:
		return kindWords[language.UnionKind]
	case *Enum:
		return kindWords[language.EnumKind]
	}
	return kindWords[language.InputKind]
}
