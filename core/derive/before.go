package derive

import (
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
)

// This file reads what was derived before, so that what has a name keeps it.

// Before is what was derived before.
type Before struct {
	types  map[string]string            // names of types by set
	fields map[string]map[string]string // names of fields by set, and by what they are of it
	at     map[string]string            // the types of values by set and path, with a space between
}

// Read reads a document that was derived, or one that others wrote in its form: known are types
// by their sets that are not in it.
func Read(doc *language.Document, naming binding.Naming, known map[string]string) *Before {
	b := &Before{types: map[string]string{}, fields: map[string]map[string]string{}, at: map[string]string{}}
	sets := map[string]string{} // by type
	for set, name := range known {
		sets[name] = set
	}
	defined := map[string]*language.TypeDefinition{}
	for _, d := range doc.Definitions {
		def, ok := d.(*language.TypeDefinition)
		if !ok || def.Extend {
			continue
		}
		defined[def.Name.Text] = def
		if set := argument(def.Directives, "stored", "as"); len(set) == 1 {
			sets[def.Name.Text], b.types[set[0]] = set[0], def.Name.Text
		}
	}
	for set, name := range b.types {
		b.fields[set] = map[string]string{}
		for _, f := range defined[name].Fields {
			for _, of := range whatOf(f, naming, sets) {
				if b.fields[set][of] == "" {
					b.fields[set][of] = f.Name.Text
				}
			}
		}
		b.paths(set, "", defined[name], defined, naming, 0)
	}
	return b
}

// maxNested is how deep nested types are followed.
const maxNested = 20

// paths notes the types of the values of a type's fields.
func (b *Before) paths(set, prefix string, def *language.TypeDefinition, defined map[string]*language.TypeDefinition, naming binding.Naming, depth int) {
	for _, f := range def.Fields {
		typ := f.Type.Innermost().Name
		inner := defined[typ]
		if inner == nil || directive(f.Directives, "related") != nil || depth > maxNested {
			continue
		}
		path := prefix + pathOf(f, naming)
		b.at[set+" "+path] = typ
		b.paths(set, path+".", inner, defined, naming, depth+1)
	}
}

// whatOf returns what a field may be of its set.
func whatOf(f *language.FieldDefinition, naming binding.Naming, sets map[string]string) []string {
	d := directive(f.Directives, "related")
	if d == nil {
		return []string{"at " + pathOf(f, naming)}
	}
	target := sets[f.Type.Innermost().Name]
	here, there := strings.Join(language.Texts(d.Argument("here")), ","), strings.Join(language.Texts(d.Argument("there")), ",")
	if object, ok := d.Argument("through").(*language.ObjectValue); ok {
		var set, by string
		for _, a := range object.Fields {
			switch a.Name.Text {
			case "set":
				set = strings.Join(language.Texts(a.Value), "")
			case "here":
				by = strings.Join(language.Texts(a.Value), ",")
			}
		}
		return []string{"over " + set + " by " + by + " to " + target}
	}
	if f.Type.Elem != nil {
		return []string{"of " + target + " by " + there}
	}
	// A record that refers to this one alone has both.
	return []string{"to " + target + " by " + here, "of " + target + " by " + there}
}

func pathOf(f *language.FieldDefinition, naming binding.Naming) string {
	if path := argument(f.Directives, "at", "path"); len(path) == 1 {
		return path[0]
	}
	return naming.Apply(f.Name.Text)
}

// typeOf returns the name that the type of a set had; "" if it had none.
func (b *Before) typeOf(set string) string {
	if b == nil {
		return ""
	}
	return b.types[set]
}

// fieldOf returns the name that a field had, by what it is of its set; "" if it had none.
func (b *Before) fieldOf(set, of string) string {
	if b == nil {
		return ""
	}
	return b.fields[set][of]
}

// typeAt returns the name that the type of the values at a path had; "" if it had none.
func (b *Before) typeAt(set, path string) string {
	if b == nil {
		return ""
	}
	return b.at[set+" "+path]
}

func directive(list []*language.Directive, name string) *language.Directive {
	for _, d := range list {
		if d.Name.Text == name {
			return d
		}
	}
	return nil
}

func argument(list []*language.Directive, name, of string) []string {
	d := directive(list, name)
	if d == nil {
		return nil
	}
	return language.Texts(d.Argument(of))
}
