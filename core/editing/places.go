package editing

import (
	"slices"

	"osprey/core/language"
)

// This file finds where names are defined and used.

// A Found is a place where a symbol is mentioned.
type Found struct {
	File     *File
	From, To int
}

// Definitions returns where the symbol at a place is defined. What a store tells is defined in
// no file.
func (s *Site) Definitions(f *File, offset int) []Found {
	m := s.At(f, offset)
	if m == nil {
		return nil
	}
	var exact, all []Found
	s.each(m.Symbol, func(in *File, other Mention) {
		if other.Defines {
			found := Found{in, other.From, other.To}
			all = append(all, found)
			if other.Own == m.Own {
				exact = append(exact, found)
			}
		}
	})
	if exact != nil {
		return exact
	}
	return all
}

// References returns where the symbol at a place is mentioned.
func (s *Site) References(f *File, offset int, definitions bool) (list []Found) {
	m := s.At(f, offset)
	if m == nil {
		return nil
	}
	s.each(m.Symbol, func(in *File, other Mention) {
		if definitions || !other.Defines {
			list = append(list, Found{in, other.From, other.To})
		}
	})
	return list
}

// each calls do for each mention of a symbol.
func (s *Site) each(symbol Symbol, do func(*File, Mention)) {
	for _, f := range s.files {
		if (symbol.Kind == Variable || symbol.Kind == Fragment) && f.Name != symbol.In {
			continue
		}
		for _, m := range s.mentionsOf(f) {
			if m.Symbol == symbol {
				do(f, m)
			}
		}
	}
}

// An Entry is a definition of a file, or a member of one, for an outline.
type Entry struct {
	Name, Detail string
	Kind         Kind
	From, To     int // of the name
	End          int // of the whole
	Inner        []Entry
}

// Outline returns the definitions of a file.
func Outline(f *File) (list []Entry) {
	src := f.doc.Source
	entry := func(n language.Name, detail string, kind Kind) Entry {
		at := src.Offset(n.Pos)
		return Entry{Name: n.Text, Detail: detail, Kind: kind, From: at, To: at + len(n.Text), End: at + len(n.Text)}
	}
	for _, d := range f.doc.Definitions {
		switch d := d.(type) {
		case *language.TypeDefinition:
			if d.Name.Text == "" {
				continue
			}
			e := entry(d.Name, d.Kind.Keyword(), Type)
			if d.Extend {
				e.Detail = "extend " + e.Detail
			}
			for _, m := range d.Fields {
				e.Inner = append(e.Inner, entry(m.Name, typeText(m.Type), Field))
			}
			for _, m := range d.Inputs {
				e.Inner = append(e.Inner, entry(m.Name, typeText(m.Type), Field))
			}
			for _, m := range d.Values {
				e.Inner = append(e.Inner, entry(m.Name, "", Value))
			}
			e.Inner = slices.DeleteFunc(e.Inner, func(e Entry) bool { return e.Name == "" })
			if d.End != language.NoPos {
				e.End = src.Offset(d.End) + 1
			}
			list = append(list, e)
		case *language.DirectiveDefinition:
			if d.Name.Text != "" {
				list = append(list, entry(d.Name, "directive", Directive))
			}
		case *language.Operation:
			if d.Name.Text != "" {
				list = append(list, entry(d.Name, string(d.Kind), Operation))
			}
		case *language.Fragment:
			if d.Name.Text != "" {
				list = append(list, entry(d.Name, "fragment on "+d.On.Text, Fragment))
			}
		}
	}
	return list
}

// Unknown returns the sources that have not told what they hold.
func (s *Site) Unknown() (names []string) {
	for name, source := range s.Sources {
		if source.Catalogue == nil {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
