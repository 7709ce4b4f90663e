package project

import (
	"os"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/mend"
)

// This file mends what can be mended without changing what it means.

// A Fixed is a file that was mended.
type Fixed struct {
	File string
	Made []string // what was written into it, by coordinates
	Gone Findings // what was wrong with it
}

// Fix mends what can be mended without changing what it means, in the schema files of a project, a
// folder, or one file, and in operations: those of the project, and those below operations, if that
// is not empty. Fields of interfaces are written out in the types that implement them and lack
// them; enums lose their quotes, and operations the variables and fragments that nothing uses.
// Files with faults of syntax are left alone.
func Fix(path, operations string) ([]Fixed, error) {
	list, err := fixFields(path)
	if err != nil {
		return list, err
	}
	for range rounds { // what is mended may leave other things unused
		found, err := CheckTypes(path, operations)
		if err != nil {
			return list, err
		}
		more, err := fixFindings(found)
		list = append(list, more...)
		if err != nil || len(more) == 0 {
			return list, err
		}
	}
	return list, nil
}

// rounds is how often findings are mended at most.
const rounds = 10

// fixFindings does what findings say to do, where that changes no meaning.
func fixFindings(found Findings) (list []Fixed, err error) {
	byFile := map[string]Findings{}
	for _, f := range found {
		byFile[f.At.Name] = append(byFile[f.At.Name], f)
	}
	for _, file := range sortedNames(byFile) {
		body, err := os.ReadFile(file)
		if err != nil {
			continue // it is none
		}
		src := language.NewSource(file, string(body))
		text, end := src.Text, len(body)
		fixed := Fixed{File: file}
		for _, f := range slices.Backward(byFile[file]) { // from the end, so that places stay
			at, ok := src.At(f.At.Line, f.At.Column)
			if !ok || at > end {
				continue
			}
			for _, c := range mend.Of(text, at, f.Problem) {
				if c.Harmless && c.To <= end {
					text, end = c.Apply(text), c.From
					fixed.Gone = append(fixed.Gone, f)
					break
				}
			}
		}
		if len(fixed.Gone) == 0 {
			continue
		}
		slices.Reverse(fixed.Gone)
		if tidy, findings := Tidy(file, text); !findings.Failed() {
			text = tidy
		}
		if err := writeWhole(file, text); err != nil {
			return list, err
		}
		list = append(list, fixed)
	}
	return list, nil
}

// fixFields writes the fields of interfaces out in the types that implement them and lack them.
func fixFields(path string) ([]Fixed, error) {
	texts, _, err := readTypes(path)
	if err != nil {
		return nil, err
	}
	f := &fixing{defined: map[string]*language.TypeDefinition{}, fields: map[string][]*language.FieldDefinition{}, implements: map[string][]string{}, sources: map[*language.FieldDefinition]*language.Source{}}
	docs := make([]*language.Document, len(texts))
	for i, t := range texts {
		doc, problems := language.Parse(language.NewSource(t.Name, t.Body))
		if problems.Failed() {
			continue
		}
		docs[i] = doc
		f.note(doc)
	}
	for _, name := range sortedNames(f.defined) {
		f.complete(name, nil)
	}
	var list []Fixed
	for i, doc := range docs {
		if doc == nil {
			continue
		}
		text, made := f.written(doc)
		if len(made) == 0 {
			continue
		}
		tidy, findings := Tidy(texts[i].Name, text)
		if findings.Failed() {
			tidy = text
		}
		if err := writeWhole(texts[i].Name, tidy); err != nil {
			return list, err
		}
		list = append(list, Fixed{File: texts[i].Name, Made: made})
	}
	return list, nil
}

// fixing is types while what they lack is looked for.
type fixing struct {
	defined    map[string]*language.TypeDefinition // without extensions
	fields     map[string][]*language.FieldDefinition
	implements map[string][]string
	sources    map[*language.FieldDefinition]*language.Source
	missing    []missing
	done       []string
}

// A missing field is one of an interface that a type lacks.
type missing struct {
	of    *language.TypeDefinition
	field *language.FieldDefinition
}

// note notes the types of a document.
func (f *fixing) note(doc *language.Document) {
	for _, d := range doc.Definitions {
		def, ok := d.(*language.TypeDefinition)
		if !ok || def.Kind != language.ObjectKind && def.Kind != language.InterfaceKind {
			continue
		}
		name := def.Name.Text
		if !def.Extend && f.defined[name] == nil {
			f.defined[name] = def
		}
		f.fields[name] = append(f.fields[name], def.Fields...)
		for _, field := range def.Fields {
			f.sources[field] = doc.Source
		}
		for _, i := range def.Interfaces {
			f.implements[name] = append(f.implements[name], i.Text)
		}
	}
}

// complete gives a type the fields of its interfaces, which are given those of theirs before; on
// has the types on the way, which may lead in a circle.
func (f *fixing) complete(name string, on []string) {
	if slices.Contains(f.done, name) || slices.Contains(on, name) {
		return
	}
	for _, i := range f.implements[name] {
		f.complete(i, append(on, name))
		for _, field := range f.fields[i] {
			has := func(own *language.FieldDefinition) bool { return own.Name.Text == field.Name.Text }
			if def := f.defined[name]; def != nil && def.End != language.NoPos && !slices.ContainsFunc(f.fields[name], has) {
				f.fields[name] = append(f.fields[name], field)
				f.missing = append(f.missing, missing{def, field})
			}
		}
	}
	f.done = append(f.done, name)
}

// written returns the text of a document with what its types lack.
func (f *fixing) written(doc *language.Document) (text string, made []string) {
	text = doc.Source.Text
	for _, d := range slices.Backward(doc.Definitions) { // from the end, so that places stay
		def, ok := d.(*language.TypeDefinition)
		if !ok {
			continue
		}
		var lines []string
		for _, m := range f.missing {
			if m.of == def {
				lines = append(lines, f.fieldText(m.field))
				made = append(made, def.Name.Text+"."+m.field.Name.Text)
			}
		}
		if len(lines) > 0 {
			at := doc.Source.Offset(def.End)
			text = text[:at] + strings.Join(lines, "") + text[at:]
		}
	}
	slices.Sort(made)
	return text, made
}

// fieldText writes a field without where it is, which the interface says: what it is, and whether it
// should be used.
func (f *fixing) fieldText(field *language.FieldDefinition) string {
	one := *field
	one.Directives = slices.DeleteFunc(slices.Clone(one.Directives), func(d *language.Directive) bool { return d.Name.Text != "deprecated" })
	own := language.TypeDefinition{Kind: language.ObjectKind, Name: language.Name{Text: "X"}, Fields: []*language.FieldDefinition{&one}}
	text := language.Tidy(&language.Document{Source: f.sources[field], Definitions: []language.Definition{&own}})
	_, inner, _ := strings.Cut(text, "{\n")
	return inner[:strings.LastIndex(inner, "}")]
}
