package project

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"osprey/core/derive"
)

// This file reads what a JSON Schema (draft 2020-12, or one before) says of values.

// declared reads the JSON Schemas that a source's derive names.
func (p *Project) declared(name string) (map[string]*derive.Declared, error) {
	c := p.Config.Sources[name].Derive
	if c == nil || len(c.Schemas) == 0 {
		return nil, nil
	}
	r := newSchemas(func(name string) ([]byte, error) { return readWithin(p.Dir, name) })
	list := map[string]*derive.Declared{}
	for _, of := range sortedNames(c.Schemas) {
		s, err := r.read(c.Schemas[of])
		if err != nil {
			return nil, fmt.Errorf("the schema of %s cannot be used: %w", of, err)
		}
		list[of] = s
	}
	return list, nil
}

// readWithin reads a file of a folder, and nothing that is not in it.
func readWithin(dir, name string) ([]byte, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	text, err := root.ReadFile(filepath.FromSlash(name))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, errors.Unwrap(err))
	}
	return text, nil
}

// schemas are the files of JSON Schemas of a project.
type schemas struct {
	load     func(name string) ([]byte, error)
	compiler *jsonschema.Compiler
	texts    map[string]any // by address, with the order of their keys
	made     map[*jsonschema.Schema]*derive.Declared
}

func newSchemas(load func(name string) ([]byte, error)) *schemas {
	r := &schemas{load: load, texts: map[string]any{}, made: map[*jsonschema.Schema]*derive.Declared{}}
	r.compiler = jsonschema.NewCompiler()
	r.compiler.AssertFormat()
	r.compiler.UseLoader(r)
	return r
}

// base stands for the project's folder in the addresses of schemas: what is elsewhere is not read.
const base = "file:///project/"

// Load reads a file of the project's folder.
func (r *schemas) Load(url string) (any, error) {
	name, ok := strings.CutPrefix(url, base)
	if !ok {
		return nil, fmt.Errorf("%s is not in the project's folder", url)
	}
	text, err := r.load(name)
	if err != nil {
		return nil, err
	}
	var ordered yaml.MapSlice // JSON is YAML
	if err := yaml.UnmarshalWithOptions(text, &ordered, yaml.UseOrderedMap()); err != nil {
		return nil, fmt.Errorf("%s is no JSON, nor YAML", name)
	}
	r.texts[url] = ordered
	json, err := yaml.YAMLToJSON(text)
	if err != nil {
		return nil, fmt.Errorf("%s is no JSON, nor YAML", name)
	}
	return jsonschema.UnmarshalJSON(strings.NewReader(string(json)))
}

// read reads a schema by its file and the pointer into it.
func (r *schemas) read(file string) (*derive.Declared, error) {
	s, err := r.compiler.Compile(base + filepath.ToSlash(file))
	if err != nil {
		var load *jsonschema.LoadURLError
		if errors.As(err, &load) {
			return nil, load.Err
		}
		line, _, _ := strings.Cut(strings.ReplaceAll(err.Error(), base, ""), "\n")
		return nil, fmt.Errorf("%s is no sound JSON Schema: %s", file, line)
	}
	return r.declared(s), nil
}

// declared returns what a schema says of values.
func (r *schemas) declared(s *jsonschema.Schema) *derive.Declared {
	if known := r.made[s]; known != nil {
		return known
	}
	d := &derive.Declared{About: s.Description, At: s.Location}
	r.made[s] = d
	if s.Ref != nil {
		to := r.declared(s.Ref)
		if s.Description == "" || len(to.Fields) > 0 || to.Enum != nil { // the same type
			r.made[s] = to
			return to
		}
		about := d.About
		*d = *to
		d.About = about
		return d
	}
	if _, name, ok := strings.Cut(s.Location, "/$defs/"); ok && !strings.Contains(name, "/") {
		d.Name = name
	} else if _, name, ok := strings.Cut(s.Location, "/components/schemas/"); ok && !strings.Contains(name, "/") {
		d.Name = name
	} else if s.Title != "" && len(s.Title) < 40 {
		d.Name = s.Title
	}
	var types []string
	if s.Types != nil {
		types = s.Types.ToStrings()
	}
	raw := r.raw(s.Location)
	d.Null = slices.Contains(types, "null") || flag(raw, "nullable")
	types = slices.DeleteFunc(types, func(t string) bool { return t == "null" })
	if slices.Contains(types, "number") {
		types = slices.DeleteFunc(types, func(t string) bool { return t == "integer" })
	}
	if alternatives := append(slices.Clone(s.OneOf), s.AnyOf...); len(alternatives) > 0 {
		r.alternatives(d, alternatives)
		return d
	}
	r.fields(d, s, nil)
	switch {
	case len(d.Fields) > 0 && (len(types) == 0 || slices.Equal(types, []string{"object"})):
	case s.Enum != nil && texts(s.Enum.Values) != nil:
		d.Enum, d.Fields = texts(s.Enum.Values), nil
	case len(types) != 1:
		d.Fields = nil
	case types[0] == "array":
		if s.Items2020 != nil {
			d.Items = r.declared(s.Items2020)
		} else if items, ok := s.Items.(*jsonschema.Schema); ok {
			d.Items = r.declared(items)
		}
	case types[0] == "object": // without fields, or with any
	default:
		d.Scalar = scalarFor(types[0], word(raw, "format"), s.Maximum)
	}
	return d
}

// alternatives makes of "this or null" this, and of several what can be anything.
func (r *schemas) alternatives(d *derive.Declared, list []*jsonschema.Schema) {
	var one *jsonschema.Schema
	for _, s := range list {
		if s.Types != nil && slices.Equal(s.Types.ToStrings(), []string{"null"}) {
			d.Null = true
			continue
		}
		if one != nil {
			return
		}
		one = s
	}
	if one == nil {
		return
	}
	of := r.declared(one)
	about, null := d.About, d.Null
	*d = *of
	d.Null = null || of.Null
	if about != "" {
		d.About = about
	}
}

// fields adds the fields that a schema, and all that it is made of, says an object has.
// Within are the schemas on the way, which may lead in a circle.
func (r *schemas) fields(d *derive.Declared, s *jsonschema.Schema, within []*jsonschema.Schema) {
	if slices.Contains(within, s) {
		return
	}
	within = append(within, s)
	if s.Ref != nil {
		r.fields(d, s.Ref, within)
	}
	for _, part := range s.AllOf {
		r.fields(d, part, within)
	}
	for _, name := range r.order(s) {
		if slices.ContainsFunc(d.Fields, func(f derive.DeclaredField) bool { return f.Name == name }) {
			continue
		}
		d.Fields = append(d.Fields, derive.DeclaredField{Name: name, Always: slices.Contains(s.Required, name), Value: r.declared(s.Properties[name]), At: s.Location + "/properties/" + escaped.Replace(name)})
	}
}

// escaped writes a name in a pointer (RFC 6901, section 3).
var escaped = strings.NewReplacer("~", "~0", "/", "~1")

// order returns the names of a schema's properties in the order of the file.
func (r *schemas) order(s *jsonschema.Schema) (names []string) {
	if properties, ok := member(r.raw(s.Location), "properties").(yaml.MapSlice); ok {
		for _, item := range properties {
			if name, ok := item.Key.(string); ok && s.Properties[name] != nil {
				names = append(names, name)
			}
		}
	}
	for _, name := range sortedNames(s.Properties) {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// raw returns the text of a schema, by its address and the pointer into it (RFC 6901).
func (r *schemas) raw(location string) any {
	url, pointer, _ := strings.Cut(location, "#")
	v := r.texts[url]
	for _, part := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		if part == "" {
			continue
		}
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		if list, ok := v.([]any); ok {
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(list) {
				return nil
			}
			v = list[i]
			continue
		}
		v = member(v, part)
	}
	return v
}

func member(v any, name string) any {
	object, _ := v.(yaml.MapSlice)
	for _, item := range object {
		if item.Key == name {
			return item.Value
		}
	}
	return nil
}

func word(v any, name string) string {
	text, _ := member(v, name).(string)
	return text
}

func flag(v any, name string) bool {
	is, _ := member(v, name).(bool)
	return is
}

// texts returns values if all of them are texts, but for null.
func texts(values []any) (list []string) {
	for _, v := range values {
		text, ok := v.(string)
		if !ok && v != nil || text == "" && ok {
			return nil
		}
		if ok {
			list = append(list, text)
		}
	}
	return list
}

// scalarFor returns the scalar of a type and format of JSON Schema ("Validation", section 7.3).
func scalarFor(typ, format string, most *big.Rat) string {
	switch typ {
	case "boolean":
		return "Boolean"
	case "integer":
		if format == "int64" || most != nil && most.Cmp(new(big.Rat).SetInt64(math.MaxInt32)) > 0 {
			return "Int64"
		}
		return "Int"
	case "number":
		return "Float"
	case "string":
		switch format {
		case "date-time":
			return "DateTime"
		case "date":
			return "Date"
		case "uuid":
			return "UUID"
		}
		return "String"
	}
	return ""
}
