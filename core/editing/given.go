package editing

import (
	"fmt"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
)

// This file knows what is given to writes: an argument, or a field of an input object, is written
// into the field of the record that has its name, unless an @at says which.

// A link says that what is given at one coordinate becomes a field of a type. It is by name
// alone where path is "": nested records are.
type link struct {
	giver string // Arrival.cargoT, or Mutation.load(tonnes:)
	field string // PortCall.cargoT
	path  string // the stored field
}

// links returns what is given to the writes of the last sound schema.
func (s *Site) links() (list []link) {
	if s.Bound == nil || s.Bound.Schema.Mutation == nil {
		return nil
	}
	var fields func(values []binding.WriteValue, together string)
	fields = func(values []binding.WriteValue, together string) {
		for _, v := range values {
			giver := v.Input
			if giver == nil {
				giver = v.Arg
			}
			switch {
			case v.Together:
				inner := v.About
				if owner, name, ok := strings.Cut(v.About, "."); ok && s.fieldAt(owner, name) != nil {
					inner = typeOf(s.fieldAt(owner, name).Type)
				}
				fields(v.Fields, inner)
				continue
			case giver == nil:
			case together != "":
				list = append(list, link{giver.Coordinate, together + "." + giver.Name, ""})
			case v.Fields != nil:
				list = append(list, link{giver.Coordinate, v.About, ""})
			default:
				list = append(list, link{giver.Coordinate, v.About, v.Path})
			}
			fields(v.Fields, "")
		}
	}
	var write func(w *binding.Write)
	write = func(w *binding.Write) {
		fields(w.Values, "")
		fields(w.Keys, "")
		fields(w.Expect, "")
		for _, n := range w.Nested {
			if n.Within != nil {
				list = append(list, link{n.Within.Coordinate, w.Records.Type.String() + "." + n.Within.Name, ""})
			}
			write(n.Write)
		}
	}
	for _, f := range schema.FieldsOf(s.Bound.Schema.Mutation) {
		bound := s.Bound.Root(f)
		if bound == nil || bound.Write == nil {
			continue
		}
		write(bound.Write)
		if bound.Write.Find != nil { // what the record is found by
			for _, a := range bound.Write.Find.Args {
				if a.Role == binding.Equal {
					list = append(list, link{a.Def.Coordinate, bound.Write.Records.Type.String() + "." + a.Def.Name, a.Path})
				}
			}
		}
	}
	return list
}

// meant returns the symbol that is renamed with a symbol: what is given as a nested record has
// the name of the field that it becomes, and no other.
func (r *renaming) meant(symbol Symbol) Symbol {
	for _, l := range r.links {
		if l.giver != symbol.Name || r.hasAt(l.giver) || nameOf(l.giver) != nameOf(l.field) {
			continue
		}
		if owner, name, _ := strings.Cut(l.field, "."); l.path == "" && r.fieldOf(owner, name) {
			return Symbol{Kind: Field, Name: r.family(owner, name) + "." + name}
		}
	}
	return symbol
}

// nameOf returns the last name of a coordinate.
func nameOf(coordinate string) string {
	coordinate = strings.TrimSuffix(coordinate, ":)")
	return coordinate[strings.LastIndexAny(coordinate, ".(")+1:]
}

// giverAt returns the definition of what is given, and its file; nil of what is supplied.
func (s *Site) giverAt(coordinate string) (*File, *language.InputValueDefinition) {
	owner, rest, _ := strings.Cut(coordinate, ".")
	field, argument, isArgument := strings.Cut(strings.TrimSuffix(rest, ":)"), "(")
	if isArgument {
		if f := s.fieldAt(owner, field); f != nil {
			for _, a := range f.Arguments {
				if a.Name.Text == argument {
					return f.file, a
				}
			}
		}
		return nil, nil
	}
	for _, f := range s.files {
		for _, d := range f.doc.Definitions {
			def, ok := d.(*language.TypeDefinition)
			if !ok || def.Name.Text != owner {
				continue
			}
			for _, in := range def.Inputs {
				if in.Name.Text == field {
					return f, in
				}
			}
		}
	}
	return nil, nil
}

func (s *Site) hasAt(giver string) bool {
	_, in := s.giverAt(giver)
	return in != nil && named(in.Directives, "at") != nil
}

// keepGiver says, of what is given and is called otherwise, which stored field it is.
func (r *renaming) keepGiver(giver string) {
	for _, l := range r.links {
		if l.giver == giver && l.path != "" {
			r.putPath(l)
			return
		}
	}
}

// keepGivers says of all that is given for a field which stored field it is. What cannot be said
// so is called as the field is.
func (r *renaming) keepGivers(owner, name string) error {
	given := map[string]bool{}
	for _, l := range r.links {
		of, field, _ := strings.Cut(l.field, ".")
		if given[l.giver] || field != name || nameOf(l.giver) != name || r.family(of, name) != owner || r.hasAt(l.giver) {
			continue
		}
		given[l.giver] = true
		if l.path != "" {
			r.putPath(l)
			continue
		}
		symbol := Symbol{Kind: Field, Name: l.giver}
		if strings.HasSuffix(l.giver, ":)") {
			symbol.Kind = Argument
		}
		if err := r.call(symbol); err != nil {
			return err
		}
	}
	return nil
}

// putPath adds to what is given which stored field it is.
func (r *renaming) putPath(l link) {
	f, in := r.giverAt(l.giver)
	if in != nil && in.Type != nil && named(in.Directives, "at") == nil {
		at := typeEnd(f, in.Type)
		if in.Default != nil {
			at = valueEnd(f, in.Default)
		}
		r.put(f, at, fmt.Sprintf(" @at(path: %q)", l.path))
	}
}

// valueEnd returns where a value as written ends.
func valueEnd(f *File, v language.Value) int {
	at := f.doc.Source.Offset(v.Start())
	open := 0
	for _, t := range language.Tokens(f.Text[at:]) {
		switch t.Kind {
		case language.BracketL, language.BraceL:
			open++
		case language.BracketR, language.BraceR:
			open--
		}
		if open == 0 {
			return at + t.End
		}
	}
	return at
}
