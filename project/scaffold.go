package project

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/scaffold"
	"osprey/core/schema"
)

// A Scaffold is the fields of some types that a project does not have yet, as a file of its
// own.
type Scaffold struct {
	File string
	Text string
	Made []string // the coordinates of its fields
	// Left are the fields that are not in it, with why.
	Left []string
}

// Scaffold makes the fields by which the records of some types are read and written. What
// there is, it does not make again, and what a store cannot do, it leaves out: with its file,
// the project has no more errors than without.
func (p *Project) Scaffold(types []string) (*Scaffold, error) {
	bound := p.Revision().Bound
	var fields []scaffold.Field
	made := &Scaffold{}
	for _, name := range types {
		t := bound.Schema.Type(name)
		if t == nil || bound.Records(t) == nil {
			var known []string
			for _, t := range bound.Schema.Types() {
				if bound.Records(t) != nil {
					known = append(known, t.String())
				}
			}
			return nil, fmt.Errorf("%s is no type of the schema whose records are stored%s", name, language.DidYouMean(name, known))
		}
		for _, f := range scaffold.Fields(bound, t) {
			if root := rootOf(bound.Schema, f.Root); root != nil && root.Field(f.Name) != nil {
				made.Left = append(made.Left, f.Root+"."+f.Name+": it is there already")
				continue
			}
			fields = append(fields, f)
		}
	}
	made.File = filepath.Join(p.Dir, "schema", "scaffold-"+strings.ToLower(strings.Join(types, "-"))+".graphql")
	if _, err := os.Stat(made.File); !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s is there already; nothing was written", made.File)
	}
	var err error
	if made.Text, fields, err = p.settled(made.File, "", bound.Schema, types, fields, &made.Left); err != nil {
		return nil, err
	}
	for _, f := range fields {
		made.Made = append(made.Made, f.Root+"."+f.Name)
	}
	if len(fields) == 0 {
		made.Text = ""
	}
	return made, nil
}

// settled writes a text and fields of root types behind it, without those that would be wrong in
// a file of the project, which are told.
func (p *Project) settled(file, before string, known *schema.Schema, types []string, fields []scaffold.Field, left *[]string) (text string, kept []scaffold.Field, err error) {
	for len(fields) > 0 {
		text = before + scaffoldText(known, fields)
		s, wrong := p.wrongFields(file, text)
		if withoutSort(s, types, fields) {
			continue
		}
		if len(wrong) == 0 {
			return text, fields, nil
		}
		before := len(fields)
		fields = slices.DeleteFunc(fields, func(f scaffold.Field) bool {
			why := wrong[f.Root+"."+f.Name]
			if why != "" {
				*left = append(*left, f.Root+"."+f.Name+": "+why)
			}
			return why != ""
		})
		for _, name := range types {
			for _, suffix := range []string{"Add", "Change", "Filter", "Connection"} {
				if s.Type(name+suffix) == nil {
					fields = slices.DeleteFunc(fields, func(f scaffold.Field) bool { return mentions(f.Text, name+suffix) })
				}
			}
		}
		if len(fields) == before { // what is wrong is of none of them
			return "", nil, fmt.Errorf("the fields of %s cannot be made: %v", strings.Join(types, ", "), slices.Sorted(maps.Values(wrong)))
		}
	}
	return before, nil, nil
}

// mentions reports whether a text has a name, and not just as a part of a longer one.
func mentions(text, name string) bool {
	for {
		i := strings.Index(text, name)
		if i < 0 {
			return false
		}
		isPart := func(c byte) bool {
			return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		}
		end := i + len(name)
		if (i == 0 || !isPart(text[i-1])) && (end == len(text) || !isPart(text[end])) {
			return true
		}
		text = text[end:]
	}
}

// withoutSort takes the order out of fields of types that have no sort keys, and reports
// whether there were any.
func withoutSort(s *schema.Schema, types []string, fields []scaffold.Field) (some bool) {
	for _, name := range types {
		argument := ", sort: [" + name + "Sort!]"
		for i := range fields {
			if s.Type(name+"Sort") == nil && strings.Contains(fields[i].Text, argument) {
				fields[i].Text, some = strings.ReplaceAll(fields[i].Text, argument, ""), true
			}
		}
	}
	return some
}

func rootOf(s *schema.Schema, name string) *schema.Object {
	if name == "Query" {
		return s.Query
	}
	return s.Mutation
}

// scaffoldText writes fields as extensions of the root types, or as these.
func scaffoldText(s *schema.Schema, fields []scaffold.Field) string {
	var b strings.Builder
	for _, root := range []string{"Query", "Mutation"} {
		var list []string
		for _, f := range fields {
			if f.Root == root {
				list = append(list, f.Text)
			}
		}
		if len(list) == 0 {
			continue
		}
		head := "type " + root
		if own := rootOf(s, root); own != nil {
			head = "extend type " + own.Name
		}
		b.WriteString(head + " {\n" + strings.Join(list, "\n") + "\n}\n\n")
	}
	text, _ := Tidy("", b.String())
	return text
}

// wrongFields returns what is wrong with the fields of a text, by their coordinates, if it were
// one of the project's, and the schema that it would have.
func (p *Project) wrongFields(file, text string) (*schema.Schema, map[string]string) {
	sources := map[string]*binding.Source{}
	for name, source := range p.Sources {
		sources[name] = source.bind()
	}
	s, _, problems := binding.Resolve(append(p.all(), schema.Text{Name: file, Body: text}), sources)
	wrong := map[string]string{}
	for _, problem := range problems {
		if s.Position(problem.Pos).Name != file || problem.Severity != language.Error {
			continue
		}
		coordinate, _, _ := strings.Cut(problem.Coordinate, "(")
		if root, name, ok := strings.Cut(coordinate, "."); ok {
			for _, kind := range []string{"Query", "Mutation"} {
				if own := rootOf(s, kind); own != nil && own.Name == root {
					coordinate = kind + "." + name
				}
			}
		}
		if wrong[coordinate] == "" {
			wrong[coordinate] = problem.Msg
		}
	}
	return s, wrong
}
