package project

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/derive"
	"osprey/core/language"
	"osprey/core/scaffold"
	"osprey/core/schema"
)

// A Derivation is the types that were made of what a source holds, as a file of the project.
type Derivation struct {
	File, Text string
	Types      []string // of record sets
	Root       []string // the fields of the query type
	Example    string   // an operation; "" if there is none
	// Left is what was left out, with why.
	Left []string
	// Changes are what is otherwise than in the file that was there.
	Changes []string
	// Broken is what in other files does not fit any more.
	Broken Findings
}

// Derive makes types of what a source of the project in a folder holds. It writes nothing. Only
// and omit are as osprey.yaml has them, which hold, too.
func Derive(ctx context.Context, dir string, log *slog.Logger, name string, only, omit []string, waiting func([]string)) (*Derivation, error) {
	p, source, err := readSource(ctx, dir, log, name, &Additions{Bare: true, Waiting: waiting})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if why := source.Unknown(); why != nil {
		return nil, fmt.Errorf("the source %s has not told what it holds: %s", name, told(why))
	}
	made := &Derivation{File: filepath.Join(dir, "schema", "derived", name+".graphql")}
	var before *language.Document
	p.texts = slices.DeleteFunc(p.texts, func(t schema.Text) bool {
		if t.Name == made.File {
			before, _ = language.Parse(language.NewSource(t.Name, t.Body))
		}
		return t.Name == made.File
	})
	o := derive.Options{Source: name, Naming: source.naming, Only: only, Omit: omit, Known: map[string]string{}, Taken: map[string]bool{}}
	if c := p.Config.Sources[name].Derive; c != nil {
		o.Only, o.Omit, o.Names = append(o.Only, c.Only...), append(o.Omit, c.Omit...), c.Names
	}
	if o.Declared, err = p.declared(name); err != nil {
		return nil, err
	}
	if err := unknownNames(source, &o); err != nil {
		return nil, err
	}
	o.Omit = append(o.Omit, p.ownSets(name)...)
	hasQuery := p.others(&o)
	if before != nil {
		o.Before = derive.Read(before, source.naming, o.Known)
	}
	c, _ := source.known()
	o.Samples = source.samples(ctx, c)
	o.Leads = p.leads(ctx, source, c, &o)
	d := derive.Types(c, o)
	if err := p.derived(made, d, hasQuery); err != nil {
		return nil, err
	}
	made.Left = append(d.Left, made.Left...)
	if before != nil {
		made.Changes = changes(before, made.Text)
	}
	made.Broken = p.broken(made)
	return made, nil
}

// unknownNames tells of record sets and fields that are chosen, and that there are not.
func unknownNames(source *Source, o *derive.Options) error {
	c, _ := source.known()
	for _, chosen := range slices.Concat(o.Only, o.Omit, slices.Sorted(maps.Keys(o.Names)), slices.Sorted(maps.Keys(o.Declared))) {
		set, field, _ := strings.Cut(chosen, ".")
		switch s := c.Sets[set]; {
		case s == nil:
			return fmt.Errorf("the source %s has no %q%s", source.Name, set, language.DidYouMean(set, c.Names()))
		case field != "" && s.Field(field) == nil && !s.Nested(field) && !strings.Contains(field, " "):
			return fmt.Errorf("%s of the source %s has no %q%s", set, source.Name, field, language.DidYouMean(field, s.FieldNames()))
		}
	}
	return nil
}

// others notes the types of the other files of the project, and reports whether one of them is
// the query type.
func (p *Project) others(o *derive.Options) (hasQuery bool) {
	for _, t := range p.texts {
		doc, problems := language.Parse(language.NewSource(t.Name, t.Body))
		if problems.Failed() {
			continue
		}
		for _, d := range doc.Definitions {
			def, ok := d.(*language.TypeDefinition)
			if !ok || def.Extend {
				continue
			}
			o.Taken[def.Name.Text] = true
			hasQuery = hasQuery || def.Name.Text == "Query"
			for _, stored := range def.Directives {
				in, _ := stored.Argument("in").(*language.StringValue)
				if stored.Name.Text != "stored" || in == nil || in.Text != o.Source {
					continue
				}
				set := o.Naming.Apply(def.Name.Text)
				if as, ok := stored.Argument("as").(*language.StringValue); ok {
					set = as.Text
				}
				o.Known[set] = def.Name.Text
			}
		}
	}
	return hasQuery
}

// derived writes the file: types, without what would be wrong, and the fields of the query type by
// which they are read.
func (p *Project) derived(made *Derivation, d *derive.Derived, hasQuery bool) error {
	source := strings.TrimSuffix(filepath.Base(made.File), ".graphql")
	head := "# Derived from the source " + source + ". It is written anew by: osprey derive " + source + "\n# Put what is yours into other files, as \"extend type …\".\n"
	stand := "type Query"
	if hasQuery {
		stand = "extend type Query"
	}
	stand += " { ospreyDerives: Boolean @computed(expr: \"true\") }\n" // a query type must have a field
	for {
		_, wrong := p.wrongFields(made.File, head+d.Text(source)+stand)
		if len(wrong) == 0 {
			break
		}
		if !d.Without(wrong) { // what is wrong is of no field of a type
			return fmt.Errorf("what %s holds cannot be made types: %v", source, slices.Sorted(maps.Values(wrong)))
		}
	}
	text := head + d.Text(source)
	sources := map[string]*binding.Source{}
	for name, s := range p.Sources {
		sources[name] = s.bind()
	}
	_, bound, problems := binding.Resolve(append(p.all(), schema.Text{Name: made.File, Body: text + stand}), sources)
	var fields []scaffold.Field
	for _, t := range d.Types {
		if t.Set != "" {
			made.Types = append(made.Types, t.Name)
		}
		if bound == nil || t.Set == "" {
			continue // what is wrong elsewhere is told by check
		}
		for _, f := range scaffold.Fields(bound, bound.Schema.Type(t.Name)) {
			if q := bound.Schema.Query; f.Root == "Query" && q.Field(f.Name) == nil {
				fields = append(fields, f)
			}
		}
	}
	if bound == nil && problems.Failed() && !hasQuery {
		return fmt.Errorf("the schema is at fault: %s", problems[0].Msg)
	}
	known := &schema.Schema{}
	if hasQuery && bound != nil {
		known = bound.Schema
	}
	fields = append(fields, p.restRoots(source, d, fields)...)
	text, fields, err := p.settled(made.File, text+"\n", known, made.Types, fields, &made.Left)
	if err != nil {
		return err
	}
	for _, f := range fields {
		made.Root = append(made.Root, f.Name)
	}
	made.Text, _ = Tidy(made.File, text)
	made.Example = d.Example(made.Root)
	return nil
}

// broken returns what in other files, and in operations, does not fit the project with the file.
func (p *Project) broken(made *Derivation) Findings {
	sources := map[string]*binding.Source{}
	for name, source := range p.Sources {
		sources[name] = source.bind()
	}
	s, bound, problems := binding.Resolve(append(p.all(), schema.Text{Name: made.File, Body: made.Text}), sources)
	findings := placed(problems, s.Source)
	if bound != nil {
		for _, op := range p.Operations {
			findings = append(findings, checkOperation(s, op)...)
		}
	}
	return slices.DeleteFunc(findings, func(f Finding) bool { return f.Severity != language.Error || f.At.Name == made.File })
}

// changes returns what is otherwise in a text than in a document, by coordinates.
func changes(before *language.Document, text string) []string {
	after, _ := language.Parse(language.NewSource("", text))
	was, is := coordinates(before), coordinates(after)
	var list []string
	for _, c := range slices.Sorted(maps.Keys(was)) {
		owner, _, _ := strings.Cut(c, ".")
		switch _, there := is[c]; {
		case !there && owner != c && is[owner] == "":
			continue // its type is gone
		case !there:
			list = append(list, "gone     "+c)
		case was[c] != is[c]:
			list = append(list, "changed  "+c+": "+was[c]+" → "+is[c])
		}
	}
	for _, c := range slices.Sorted(maps.Keys(is)) {
		owner, _, _ := strings.Cut(c, ".")
		if _, there := was[c]; !there && (owner == c || was[owner] != "") {
			list = append(list, "added    "+c)
		}
	}
	return list
}

// coordinates returns the types, fields and values of a document, with what they are.
func coordinates(doc *language.Document) map[string]string {
	list := map[string]string{}
	for _, d := range doc.Definitions {
		def, ok := d.(*language.TypeDefinition)
		if !ok {
			continue
		}
		if list[def.Name.Text] = "a type"; def.Name.Text == "Query" {
			list["Query"] = "the query type"
		}
		for _, f := range def.Fields {
			list[def.Name.Text+"."+f.Name.Text] = typeText(f.Type)
		}
		for _, v := range def.Values {
			list[def.Name.Text+"."+v.Name.Text] = "a value"
		}
	}
	return list
}

// typeText writes a type as the schema language does.
func typeText(t *language.TypeRef) string {
	text := t.Name
	if t.Elem != nil {
		text = "[" + typeText(t.Elem) + "]"
	}
	if t.NonNull {
		text += "!"
	}
	return text
}

// Write writes the file.
func (d *Derivation) Write() error {
	if err := os.MkdirAll(filepath.Dir(d.File), 0o755); err != nil {
		return err
	}
	return writeWhole(d.File, d.Text)
}

// writeWhole writes a file beside the old one, and puts it in its place.
func writeWhole(path, text string) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".osprey-*")
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Chmod(f.Name(), 0o644)
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}
