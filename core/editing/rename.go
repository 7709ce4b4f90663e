package editing

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
)

// This file calls things otherwise, and keeps them where they are stored. A name says two things:
// how callers ask for it, and, where no directive says otherwise, how the store has it. Only the
// first changes:
//
//	lengthM: Float!   →   length: Float! @at(path: "length_m")

// An Edit puts With in place of the bytes From to To of a file.
type Edit struct {
	File     *File
	From, To int
	With     string
}

var nameForm = regexp.MustCompile(`^[_A-Za-z][_0-9A-Za-z]*$`)

// Renamable returns the word at a place if it can be called otherwise, and what it is called; or
// says why not.
func (s *Site) Renamable(f *File, offset int) (*Mention, string, error) {
	m := s.At(f, offset)
	if m == nil {
		return nil, "", fmt.Errorf("there is nothing here that has a name of this project")
	}
	word := f.Text[m.From:m.To]
	switch m.Symbol.Kind {
	case Source, Set, Column:
		return nil, "", fmt.Errorf("%s is what the store calls it; rename it there, or in osprey.yaml", word)
	case Directive, Option:
		if s.Last == nil || bare.Directive(strings.TrimPrefix(m.Symbol.Name, "@")) != nil || m.Symbol.Kind == Option {
			return nil, "", fmt.Errorf("%s belongs to the language, and cannot be renamed", word)
		}
	case Type:
		if s.types[m.Symbol.Name] == nil {
			return nil, "", fmt.Errorf("%s is defined in none of the project's files", word)
		}
		if s.isRoot(m.Symbol.Name) {
			return nil, "", fmt.Errorf("%s is what a root type is called", word)
		}
	case Operation:
		return m, word, nil
	}
	return m, word, nil
}

// Rename returns the edits by which the symbol at a place is called otherwise everywhere, and
// stays where it is stored.
func (s *Site) Rename(f *File, offset int, to string) ([]Edit, error) {
	m, word, err := s.Renamable(f, offset)
	if err != nil {
		return nil, err
	}
	to = strings.TrimPrefix(strings.TrimPrefix(to, "$"), "@")
	switch {
	case !nameForm.MatchString(to):
		return nil, fmt.Errorf("%q is no name: letters, digits and underscores, with no digit first", to)
	case strings.HasPrefix(to, "__"):
		return nil, fmt.Errorf("names that begin with two underscores are for introspection")
	case to == word:
		return nil, nil
	}
	r := &renaming{Site: s, from: word, to: to, links: s.links()}
	if err := r.call(r.meant(m.Symbol)); err != nil {
		return nil, err
	}
	slices.SortStableFunc(r.edits, func(a, b Edit) int {
		return cmp.Or(strings.Compare(a.File.Name, b.File.Name), cmp.Compare(a.From, b.From))
	})
	return r.edits, nil
}

// call has a symbol called otherwise.
func (r *renaming) call(symbol Symbol) error {
	if slices.Contains(r.done, symbol) {
		return nil
	}
	r.done = append(r.done, symbol)
	if err := r.free(symbol, r.to); err != nil {
		return err
	}
	r.each(symbol, func(in *File, other Mention) {
		r.edits = append(r.edits, Edit{in, other.From, other.To, r.to})
	})
	switch symbol.Kind {
	case Type:
		r.keepType(symbol.Name)
	case Field:
		r.keepGiver(symbol.Name)
		return r.keepField(symbol)
	case Argument:
		r.keepGiver(symbol.Name)
	case Value:
		r.keepValue(symbol)
	}
	return nil
}

// free says whether a name is taken where a symbol would have it.
func (s *Site) free(symbol Symbol, to string) error {
	taken := ""
	switch symbol.Kind {
	case Type:
		if s.types[to] != nil || s.Last != nil && s.Last.Type(to) != nil {
			taken = "the type " + to
		}
	case Field, Value:
		owner, name, _ := strings.Cut(symbol.Name, ".")
		for _, other := range s.names() {
			t := s.types[other]
			if other != owner && s.family(other, name) != owner || t.fields[to] == nil && !hasValue(t, to) {
				continue
			}
			if other == owner || t.fields[name] != nil {
				taken = other + "." + to
			}
		}
	case Argument:
		owner, rest, _ := strings.Cut(symbol.Name, ".")
		name, _, _ := strings.Cut(rest, "(")
		if f := s.fieldAt(owner, name); f != nil && slices.ContainsFunc(f.Arguments, func(a *language.InputValueDefinition) bool { return a.Name.Text == to }) {
			taken = owner + "." + name + "(" + to + ":)"
		}
	case Variable, Fragment, Operation:
		for _, m := range s.mentionsOf(s.File(symbol.In)) {
			if m.Symbol.Kind == symbol.Kind && m.Symbol.Name == to {
				taken = "another " + to
			}
		}
	}
	if taken != "" {
		return fmt.Errorf("there is %s already", taken)
	}
	return nil
}

func hasValue(t *typ, name string) bool {
	return slices.ContainsFunc(t.values, func(v *language.EnumValueDefinition) bool { return v.Name.Text == name }) ||
		slices.ContainsFunc(t.inputs, func(v *language.InputValueDefinition) bool { return v.Name.Text == name })
}

// A renaming is the edits of one name.
type renaming struct {
	*Site
	from, to string
	links    []link
	done     []Symbol
	edits    []Edit
}

// put adds a text at a place.
func (r *renaming) put(f *File, at int, text string) {
	r.edits = append(r.edits, Edit{f, at, at, text})
}

// tokenEnd returns where the token ends that begins at a place.
func tokenEnd(f *File, pos language.Pos) int {
	at := f.doc.Source.Offset(pos)
	for _, t := range language.Tokens(f.Text[at:]) {
		return at + t.End
	}
	return at
}

// typeEnd returns where a type as written ends, with its brackets.
func typeEnd(f *File, t *language.TypeRef) int {
	at := f.doc.Source.Offset(t.Pos)
	open := 0
	for _, tok := range language.Tokens(f.Text[at:]) {
		switch tok.Kind {
		case language.BracketL:
			open++
			continue
		case language.BracketR:
			open--
		case language.NameToken, language.Bang:
		default:
			return at
		}
		end := at + tok.End
		if open == 0 {
			if strings.HasPrefix(f.Text[end:], "!") {
				end++
			}
			return end
		}
	}
	return at
}

// head returns where more directives of a definition can be put: in front of its brace.
func head(f *File, d *language.TypeDefinition) int {
	at := f.doc.Source.Offset(d.Name.Pos)
	open := 0
	end := at + len(d.Name.Text)
	for _, t := range language.Tokens(f.Text[at:]) {
		switch t.Kind {
		case language.ParenL:
			open++
		case language.ParenR:
			open--
		case language.BraceL:
			if open == 0 {
				return end
			}
		}
		end = at + t.End
	}
	return end
}

// keepType keeps the records of a type where they are, and their kind.
func (r *renaming) keepType(name string) {
	t := r.types[name]
	if d := named(t.directives, "stored"); d != nil && text(d, "as") == "" && t.file != nil {
		p := r.place(name)
		if in, ok := d.Argument("in").(*language.StringValue); ok && p.set != "" && p.source.Naming.Apply(r.to) != p.set {
			f := r.fileOf(d.Pos, t)
			r.put(f, tokenEnd(f, in.Pos), fmt.Sprintf(", as: %q", p.set))
		}
	}
	if t.def == nil {
		return
	}
	if named(t.directives, "kind") == nil && t.kind == language.ObjectKind {
		for _, base := range r.bases(name) {
			if by := named(r.types[base].directives, "kind"); text(by, "by") != "" {
				if p := r.place(base); p.source != nil && p.source.Naming.Apply(r.to) != p.source.Naming.Apply(name) {
					r.put(t.file, head(t.file, t.def), fmt.Sprintf(" @kind(is: %q)", p.source.Naming.Apply(name)))
				}
				break
			}
		}
	}
	// Lists of the type name it where the others say to whom they belong: craft_imo.
	for _, field := range t.order {
		f := t.fields[field]
		d := named(f.Directives, "related")
		if d == nil || d.Argument("there") != nil || d.Argument("through") != nil {
			continue
		}
		if bound := r.boundTo(name, field); bound != nil && bound.Many && bound.JoinTable == nil {
			r.option(f.file, d, "there", bound.There)
		}
	}
}

// fileOf returns the file of a type in which a directive stands.
func (r *renaming) fileOf(pos language.Pos, t *typ) *File {
	for _, f := range r.files {
		for _, d := range f.doc.Definitions {
			if def, ok := d.(*language.TypeDefinition); ok && def.Name.Text == t.name {
				for _, one := range def.Directives {
					if one.Pos == pos {
						return f
					}
				}
			}
		}
	}
	return t.file
}

// option adds an argument to a directive.
func (r *renaming) option(f *File, d *language.Directive, name string, values []string) {
	var quotes []string
	for _, v := range values {
		quotes = append(quotes, language.Quote(v))
	}
	value := strings.Join(quotes, ", ")
	if len(values) != 1 {
		value = "[" + value + "]"
	}
	at := tokenEnd(f, d.Name.Pos)
	if len(d.Arguments) == 0 {
		r.put(f, at, "("+name+": "+value+")")
		return
	}
	r.put(f, f.doc.Source.Offset(d.Arguments[0].Name.Pos), name+": "+value+", ")
}

// keepField keeps the values of a field where they are: of each type that says it by itself.
func (r *renaming) keepField(symbol Symbol) error {
	owner, name, _ := strings.Cut(symbol.Name, ".")
	for _, other := range r.names() {
		t := r.types[other]
		f := t.fields[name]
		if f == nil || r.family(other, name) != owner || r.promised(other, name) {
			continue
		}
		if d := named(f.Directives, "related"); d != nil {
			if bound := r.boundTo(other, name); bound != nil && !bound.Many && bound.JoinTable == nil && d.Argument("here") == nil {
				r.option(f.file, d, "here", bound.Here)
			}
			continue
		}
		p := r.place(other)
		if p.source == nil || named(f.Directives, "at") != nil || named(f.Directives, "computed") != nil || named(f.Directives, "total") != nil {
			continue
		}
		if r.watchedIn(other) != "" && (isList(f.Type) || !r.isLeaf(typeOf(f.Type)) || typeOf(f.Type) == binding.ChangeKind) {
			continue // which its type tells
		}
		if stored := p.source.Naming.Apply(name); p.source.Naming.Apply(r.to) != stored {
			r.put(f.file, typeEnd(f.file, f.Type), fmt.Sprintf(" @at(path: %q)", stored))
		}
	}
	r.keepArguments(owner, name)
	return r.keepGivers(owner, name)
}

// promised reports whether an interface has a field of a type, too, and so says where it is.
func (r *renaming) promised(owner, name string) bool {
	return slices.ContainsFunc(r.types[owner].interfaces, func(i string) bool {
		d, _ := r.stored(i)
		return d != nil && r.fieldAt(i, name) != nil
	})
}

// keepArguments keeps what arguments and given fields mean that have the name of the field.
func (r *renaming) keepArguments(owner, name string) {
	for _, other := range r.names() {
		t := r.types[other]
		for _, in := range t.order {
			f := t.fields[in]
			of := r.recordType(typeOf(f.Type))
			if r.fieldAt(of, name) == nil || r.family(of, name) != owner {
				continue
			}
			bound := r.boundTo(other, in)
			for _, a := range f.Arguments {
				if a.Name.Text == name && named(a.Directives, "at") == nil && bound != nil && narrows(bound, name) {
					if p := r.place(of); p.source != nil && a.Type != nil {
						r.put(f.file, typeEnd(f.file, a.Type), fmt.Sprintf(" @at(path: %q)", p.prefix+r.column(p, of, name)))
					}
				}
			}
		}
	}
}

// narrows reports whether an argument of a field is compared with a stored field.
func narrows(f *binding.Field, name string) bool {
	for _, part := range f.Each() {
		for _, a := range part.Args {
			if a.Def.Name == name && a.Role == binding.Equal {
				return true
			}
		}
	}
	return false
}

// keepValue keeps how a value of an enum is stored.
func (r *renaming) keepValue(symbol Symbol) {
	enum, name, _ := strings.Cut(symbol.Name, ".")
	t := r.types[enum]
	if t == nil {
		return
	}
	sl := r.spelling(enum)
	if sl.what == nothing {
		return // it is stored nowhere
	}
	for _, v := range t.values {
		if v.Name.Text != name || named(v.Directives, "at") != nil {
			continue
		}
		stored := name
		for _, label := range sl.in.values(sl.column) {
			if strings.EqualFold(label, name) {
				stored = label
			}
		}
		for _, f := range r.files {
			for _, m := range r.mentionsOf(f) {
				if m.Symbol == symbol && m.Defines {
					r.put(f, m.To, fmt.Sprintf(" @at(path: %q)", stored))
				}
			}
		}
	}
}
