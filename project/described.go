package project

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"osprey/core/derive"
	"osprey/core/language"
	"osprey/core/schema"
)

// This file makes types of the JSON Schemas that osprey.yaml names: the types of columns of JSON, and
// of records that are nested in documents. What is wrong with them is told at its place in their
// files, and not in the text that is made of them.
//
//	osprey.yaml                       schemas/fittings.json            the text that is made
//	types:                            { "type": "object",              type Fittings {
//	  Fittings: schemas/fittings.json   "properties": {                  cranes: Int @at(path: "cranes")
//	                                      "cranes": {"type": "integer"} }}  }

// describedName is the name of the text that is made.
const describedName = "(described)"

// described is the types that JSON Schemas describe.
type described struct {
	text   schema.Text
	places map[string]string // addresses with pointers, by the coordinates of the types
	files  Files
	dir    string
}

// texts returns the text, if there is one.
func (d *described) texts() []schema.Text {
	if d == nil || d.text.Body == "" {
		return nil
	}
	return []schema.Text{d.text}
}

// describe makes the types that osprey.yaml describes by JSON Schemas, which are among the files.
func (f Files) describe(config *Config, src *language.Source, dir string) (*described, language.Problems) {
	if len(config.Types) == 0 {
		return nil, nil
	}
	var problems language.Problems
	r := newSchemas(func(name string) ([]byte, error) {
		if text, has := f[name]; has {
			return []byte(text), nil
		}
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	})
	taken := f.typeNames()
	var roots []derive.Root
	for _, name := range sortedNames(config.Types) {
		pos := findText(src, name+":")
		file := config.Types[name]
		switch {
		case !isName(name):
			problems.Add(ruleDescribed, pos, "%q is no name of a type", language.Clip(name)).Fix = "write letters, digits and _, such as Fittings"
			continue
		case taken[name]:
			problems.Add(ruleDescribed, pos, "the type %s is described by %s, and defined in schema/, too", name, file).Fix = `leave one of them out, or write "extend type" there`
			continue
		}
		s, err := r.read(file)
		switch {
		case err != nil:
			problems.Add(ruleDescribed, pos, "the type %s cannot be made: %v", name, err)
		case len(s.Fields) == 0 && s.Enum == nil:
			problems.Add(ruleDescribed, pos, "the type %s cannot be made: %s describes no object with properties, nor some texts", name, file).
				Fix = `name a part of it with a pointer, such as schemas/log.json#/$defs/Entry`
		default:
			roots = append(roots, derive.Root{Name: name, Value: s})
		}
	}
	made, places := derive.Described(roots, taken)
	d := &described{places: places, files: f, dir: dir, text: schema.Text{Name: describedName, Body: made.Text("")}}
	for _, left := range made.Left {
		p := problems.Add(ruleDescribed, findText(src, "types:"), "%s is left out of the types that are described", left)
		p.Severity, p.Fix = language.Warning, `if it is meant, say "extend type" with a field for it in schema/`
	}
	return d, problems
}

// ruleDescribed is the rule of types that JSON Schemas describe.
const ruleDescribed = "described"

func isName(text string) bool {
	tokens := language.Tokens(text)
	return len(tokens) > 0 && tokens[0].Kind == language.NameToken && tokens[0].Start == 0 && tokens[0].End == len(text) && !strings.HasPrefix(text, "__")
}

// isDescription reports whether a path can be that of a JSON Schema.
func isDescription(path string) bool {
	return path != ConfigFile && filepath.IsLocal(filepath.FromSlash(path)) && slices.Contains([]string{".json", ".yaml", ".yml"}, filepath.Ext(path)) && !strings.ContainsRune(path, 0)
}

// gather reads the files of the JSON Schemas that osprey.yaml names, as far as it can be read, and those
// that they refer to. It returns their paths, also of those that could not be read.
func (f Files) gather(dir string) (paths []string) {
	var config struct{ Types map[string]string }
	if err := yaml.Unmarshal([]byte(f[ConfigFile]), &config); err != nil {
		return nil // which is told when it is read
	}
	r := newSchemas(func(name string) ([]byte, error) {
		if !isDescription(name) {
			return nil, fmt.Errorf("%s is no file of JSON or YAML in the project's folder", name)
		}
		paths = append(paths, name)
		text, err := readWithin(dir, name)
		if err == nil {
			f[name] = string(text)
		}
		return text, err
	})
	for _, name := range sortedNames(config.Types) {
		_, _ = r.read(config.Types[name]) // what is wrong is told when types are made of it
	}
	return paths
}

// typeNames returns the names of the types that the files of schema/ define.
func (f Files) typeNames() map[string]bool {
	names := map[string]bool{}
	for _, path := range f.below("schema") {
		doc, _ := language.Parse(language.NewSource(path, f[path]))
		for _, d := range doc.Definitions {
			if t, ok := d.(*language.TypeDefinition); ok && !t.Extend {
				names[t.Name.Text] = true
			}
		}
	}
	return names
}

// place moves findings that are in the text that is made to where their types and fields are
// described.
func (d *described) place(findings Findings) {
	if d == nil {
		return
	}
	lines := strings.Split(d.text.Body, "\n")
	for i := range findings {
		f := &findings[i]
		if f.At.Name != describedName {
			continue
		}
		at := d.places[coordinateAt(lines, f.At.Line)]
		file, pointer, _ := strings.Cut(strings.TrimPrefix(at, base), "#")
		f.At, f.Line = language.Position{Name: filepath.Join(d.dir, filepath.FromSlash(file))}, ""
		if line, column := lineOf(d.files[file], pointer); line > 0 {
			f.At.Line, f.At.Column = line, column
			f.Line = language.NewSource(file, d.files[file]).Line(line)
		}
	}
}

// coordinateAt returns the coordinate of the type or field on a line.
func coordinateAt(lines []string, line int) string {
	owner := ""
	for i := line - 1; i >= 0 && i < len(lines); i-- {
		words := strings.Fields(lines[i])
		if len(words) > 1 && (words[0] == "type" || words[0] == "enum") && !strings.HasPrefix(lines[i], " ") {
			owner = words[1]
			break
		}
	}
	name, _, isField := strings.Cut(strings.TrimSpace(lines[max(line-1, 0)]), ":")
	if isField && strings.HasPrefix(lines[line-1], "  ") && !strings.HasPrefix(strings.TrimSpace(lines[line-1]), `"`) {
		return owner + "." + name
	}
	return owner
}

// lineOf returns where in a text of JSON or YAML the value is that a pointer leads to (RFC 6901), or
// rather its key; 0 if that is not known.
func lineOf(text, pointer string) (line, column int) {
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil || len(file.Docs) == 0 {
		return 0, 0
	}
	node, at := file.Docs[0].Body, ast.Node(nil)
	for _, part := range strings.Split(strings.Trim(pointer, "/"), "/") {
		if part == "" {
			continue
		}
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		var next ast.Node
		for _, v := range entriesOf(node) {
			if v.Key.GetToken().Value == part {
				next, at = v.Value, v.Key
			}
		}
		if next == nil {
			break
		}
		node = next
	}
	if at == nil {
		return 1, 1
	}
	p := at.GetToken().Position
	return p.Line, p.Column
}

func entriesOf(node ast.Node) []*ast.MappingValueNode {
	switch n := node.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	return nil
}
