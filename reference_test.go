package osprey_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/project"
)

var update = flag.Bool("update", false, "write the pages of docs that are made from the sources")

// keep holds a file of docs to what the sources say, or writes it.
func keep(t *testing.T, file, text string) {
	t.Helper()
	if *update {
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if string(have) != text {
		t.Errorf("%s is not what the sources say; make it again with: go test . ./cmd/osprey -run Reference -update", file)
	}
}

const madeBy = "\n<!-- Made from the sources by: go test . ./cmd/osprey -run Reference -update -->\n"

// A configPart is a part of osprey.yaml.
type configPart struct {
	title, about string
	of           reflect.Type
}

var configParts = []configPart{
	{"The file", "`osprey.yaml` stands in the project's folder. All keys may be left out.", reflect.TypeFor[project.Config]()},
	{"limits", "Bounds of one operation, under `limits:`.", reflect.TypeFor[project.Limits]()},
	{"records", "Records of Osprey's own, under `records:`.", reflect.TypeFor[project.RecordsConfig]()},
	{"access", "How callers are known, under `access:`.", reflect.TypeFor[project.AccessConfig]()},
	{"A key", "A key of a client program, under `keys:` and its id.", reflect.TypeFor[project.KeyConfig]()},
	{"tokens", "Tokens that somebody else has signed, under `tokens:`.", reflect.TypeFor[project.TokensConfig]()},
	{"header", "A header of a trusted proxy, under `header:`.", reflect.TypeFor[project.HeaderConfig]()},
	{"A source", "Under `sources:` and the source's name. A key that the kind does not have is an error.", reflect.TypeFor[project.SourceConfig]()},
	{"A set", "A resource of a source of the kind `rest`, under `sets:` and its name.", reflect.TypeFor[project.SetConfig]()},
	{"A read", "One way to read a resource, in an entry of `reads:`.", reflect.TypeFor[project.ReadConfig]()},
	{"pages", "How the answer of a read goes on, under `pages:`.", reflect.TypeFor[project.PagesConfig]()},
}

// fieldComments returns the comments of the fields of the structs in a file, by struct
// and field.
func fieldComments(t *testing.T, file string) map[string]string {
	t.Helper()
	parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
	if err != nil {
		t.Fatal(err)
	}
	comments := map[string]string{}
	ast.Inspect(parsed, func(n ast.Node) bool {
		spec, ok := n.(*ast.TypeSpec)
		if !ok {
			return true
		}
		if s, ok := spec.Type.(*ast.StructType); ok {
			for _, f := range s.Fields.List {
				for _, name := range f.Names {
					comments[spec.Name.Name+"."+name.Name] = strings.Join(strings.Fields(f.Doc.Text()), " ")
				}
			}
		}
		return false
	})
	return comments
}

// formOf says how the value of a key is written.
func formOf(f reflect.StructField) string {
	if form := f.Tag.Get("form"); form != "" {
		return form
	}
	t := f.Type
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t {
	case reflect.TypeFor[project.Size]():
		return "bytes: 512KB, 16MB, 1GB; above 0"
	case reflect.TypeFor[project.Span]():
		return "time: 500ms, 3s, 2m"
	case reflect.TypeFor[project.Count]():
		return "0 to 2147483647"
	}
	switch t.Kind() {
	case reflect.Bool:
		return "true, false"
	case reflect.Struct:
		return "see below"
	}
	return "text"
}

// TestReferenceOfConfiguration keeps docs/osprey-yaml.md and the JSON Schema for editors
// as the configuration's structure is.
func TestReferenceOfConfiguration(t *testing.T) {
	comments := fieldComments(t, "project/config.go")
	var b strings.Builder
	b.WriteString("# osprey.yaml\n" + madeBy + `
Every key, with its form, default and meaning. How each kind of store behaves stands in
[Sources](sources.md). Editors that know JSON Schema complete and check the file by
[osprey.schema.json](osprey.schema.json): ` + "`osprey new`" + ` writes it beside the file, whose first
line names it:

` + "```yaml\n# yaml-language-server: $schema=osprey.schema.json\n```" + `

` + "`${NAME}`" + ` in any value stands for an environment variable, ` + "`${NAME:-default}`" + ` for one with a
default. Without quotes the result is whatever YAML takes it for, so that ` + "`pool: ${POOL:-4}`" + `
is a number. Addresses and secrets belong there, not into the file.
`)
	for _, part := range configParts {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n", part.title, part.about)
		source := part.of == reflect.TypeFor[project.SourceConfig]()
		if source {
			b.WriteString("| Key | Form | Default | Kinds | |\n|---|---|---|---|---|\n")
		} else {
			b.WriteString("| Key | Form | Default | |\n|---|---|---|---|\n")
		}
		for i := range part.of.NumField() {
			f := part.of.Field(i)
			if f.Tag.Get("yaml") == "" {
				continue
			}
			about := comments[part.of.Name()+"."+f.Name]
			if about == "" {
				t.Errorf("%s.%s has no comment", part.of.Name(), f.Name)
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |", f.Tag.Get("yaml"), formOf(f), f.Tag.Get("default"))
			if source {
				fmt.Fprintf(&b, " %s |", orAll(f.Tag.Get("kinds")))
			}
			fmt.Fprintf(&b, " %s |\n", strings.ReplaceAll(about, "|", "\\|"))
		}
	}
	keep(t, "docs/osprey-yaml.md", b.String())

	text, err := json.MarshalIndent(schemaOf(reflect.TypeFor[project.Config](), comments), "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	keep(t, "docs/osprey.schema.json", string(text)+"\n")
}

func orAll(kinds string) string {
	if kinds == "" {
		return "all"
	}
	list := strings.Fields(kinds)
	if left := slices.DeleteFunc(project.Kinds(), func(k string) bool { return slices.Contains(list, k) }); len(left) < len(list) {
		return "all but " + strings.Join(left, ", ")
	}
	return strings.Join(list, ", ")
}

// schemaOf writes a type as JSON Schema (2020-12). Wherever a value may be an
// environment variable, a text will do.
func schemaOf(t reflect.Type, comments map[string]string) map[string]any {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	variable := map[string]any{"type": "string", "pattern": `\$\{`}
	switch t {
	case reflect.TypeFor[project.Size]():
		return map[string]any{"anyOf": []any{map[string]any{"type": "integer", "minimum": 1}, map[string]any{"type": "string", "pattern": `^[0-9_]+ ?([KkMmGg]?[Bb])?$`}, variable}}
	case reflect.TypeFor[project.Span]():
		return map[string]any{"type": "string", "pattern": `^([0-9.]+(ns|us|µs|ms|s|m|h))+$|\$\{`}
	case reflect.TypeFor[project.Count]():
		return map[string]any{"anyOf": []any{map[string]any{"type": "integer", "minimum": 0, "maximum": 1<<31 - 1}, variable}}
	case reflect.TypeFor[project.Strings]():
		return map[string]any{"anyOf": []any{map[string]any{"type": "string"}, map[string]any{"type": "array", "items": map[string]any{"type": "string"}}}}
	}
	switch t.Kind() {
	case reflect.Bool:
		return map[string]any{"anyOf": []any{map[string]any{"type": "boolean"}, variable}}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem(), comments)}
	case reflect.Slice:
		if t.Name() == "MapSlice" {
			return map[string]any{"type": "object"}
		}
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), comments)}
	case reflect.Struct:
		return objectSchema(t, comments)
	}
	return map[string]any{"type": "string"}
}

func objectSchema(t reflect.Type, comments map[string]string) map[string]any {
	properties := map[string]any{}
	var all []string
	byKind := map[string][]string{}
	for i := range t.NumField() {
		f := t.Field(i)
		name := f.Tag.Get("yaml")
		if name == "" {
			continue
		}
		all = append(all, name)
		property := schemaOf(f.Type, comments)
		property["description"] = comments[t.Name()+"."+f.Name]
		if preset := f.Tag.Get("default"); preset != "" {
			property["description"] = fmt.Sprintf("%s Default: %s.", property["description"], preset)
		}
		if words := strings.Split(f.Tag.Get("form"), ", "); f.Type.Kind() == reflect.String && len(words) > 1 {
			property["anyOf"] = []any{map[string]any{"enum": words}, map[string]any{"type": "string", "pattern": `\$\{`}}
			delete(property, "type")
		}
		for _, kind := range strings.Fields(f.Tag.Get("kinds")) {
			byKind[kind] = append(byKind[kind], name)
		}
		properties[name] = property
	}
	schema := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
	if t == reflect.TypeFor[project.Config]() {
		schema["$schema"], schema["title"] = "https://json-schema.org/draft/2020-12/schema", "osprey.yaml"
	}
	if t != reflect.TypeFor[project.SourceConfig]() {
		return schema
	}
	schema["required"] = []string{"kind"}
	var conditions []any
	for _, kind := range project.Kinds() {
		may := []string{"kind", "naming"}
		for _, name := range all {
			if slices.Contains(byKind[kind], name) {
				may = append(may, name)
			}
		}
		conditions = append(conditions, map[string]any{
			"if":   map[string]any{"properties": map[string]any{"kind": map[string]any{"const": kind}}},
			"then": map[string]any{"propertyNames": map[string]any{"enum": may}},
		})
	}
	schema["allOf"] = conditions
	return schema
}

// TestReferenceOfDirectives keeps docs/directives.md as the definitions are: every
// argument with its type, its default and a use of it in the harbour.
func TestReferenceOfDirectives(t *testing.T) {
	doc, problems := language.Parse(language.NewSource("directives", binding.Directives.Body))
	if problems.Failed() {
		t.Fatal(problems)
	}
	var b strings.Builder
	b.WriteString("# Directives\n" + madeBy + "\nEvery directive by which a schema says where its data is, with each argument. What they\nmean together stands in [Bindings](bindings.md). The examples are of the\n[harbour](../demo/harbour/schema).\n")
	uses := harbourUses(t)
	for _, d := range doc.Definitions {
		def, ok := d.(*language.DirectiveDefinition)
		if !ok {
			continue
		}
		var places []string
		for _, p := range def.Locations {
			places = append(places, strings.ToLower(strings.ReplaceAll(p.Text, "_", " ")))
		}
		fmt.Fprintf(&b, "\n## @%s\n\n%s\n\nOn: %s", def.Name.Text, def.Description.Text, strings.Join(places, ", "))
		if def.Repeatable {
			b.WriteString("; it may stand several times")
		}
		b.WriteString(".\n")
		if len(def.Arguments) > 0 {
			b.WriteString("\n| Argument | Type | Default | |\n|---|---|---|---|\n")
		}
		var examples []string
		for _, a := range def.Arguments {
			if a.Description == nil {
				t.Errorf("@%s(%s:) has no description", def.Name.Text, a.Name.Text)
				continue
			}
			about, preset, _ := strings.Cut(a.Description.Text, " Default: ")
			fmt.Fprintf(&b, "| `%s` | `%s` | %s | %s |\n", a.Name.Text, a.Type, strings.TrimSuffix(preset, "."), about)
			used := false
			for _, place := range []string{"type", "field", "argument", "value"} {
				example := uses[def.Name.Text+"."+a.Name.Text+" on a "+place]
				used = used || example != ""
				if example != "" && !slices.Contains(examples, example) {
					examples = append(examples, example)
				}
			}
			if !used {
				t.Errorf("the harbour does not use @%s(%s:)", def.Name.Text, a.Name.Text)
			}
		}
		if len(def.Arguments) == 0 {
			if examples = []string{uses[def.Name.Text+" on a field"]}; examples[0] == "" {
				t.Errorf("the harbour does not use @%s", def.Name.Text)
			}
		}
		fmt.Fprintf(&b, "\n```graphql\n%s\n```\n", strings.Join(examples, "\n"))
	}
	keep(t, "docs/directives.md", b.String())
}

// harbourUses returns, for each directive and each of its arguments, the shortest element of the
// harbour that uses it, as it stands there.
func harbourUses(t *testing.T) map[string]string {
	t.Helper()
	files, err := filepath.Glob("demo/harbour/schema/*.graphql")
	if err != nil {
		t.Fatal(err)
	}
	uses := map[string]string{}
	for _, f := range append(files, "docs/examples/embed/main.go") {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		if _, program, ok := strings.Cut(string(text), "const moor = `"); ok { // what a program adds
			own, _, _ := strings.Cut(program, "`")
			text = []byte(own)
		}
		doc, problems := language.Parse(language.NewSource(f, string(text)))
		if problems.Failed() {
			t.Fatal(problems)
		}
		for _, d := range doc.Definitions {
			if def, ok := d.(*language.TypeDefinition); ok {
				noteUses(uses, doc.Source, def)
			}
		}
	}
	return uses
}

// noteUses adds the uses of directives in a type: on the type alone, on each field with
// its arguments, and on each value of an enum.
func noteUses(uses map[string]string, src *language.Source, def *language.TypeDefinition) {
	bare := *def
	bare.Description, bare.Fields, bare.Values, bare.Inputs = nil, nil, nil, nil
	note := func(place string, list []*language.Directive, text string) {
		for _, d := range list {
			names := []string{d.Name.Text}
			for _, a := range d.Arguments {
				names = append(names, d.Name.Text+"."+a.Name.Text)
			}
			for _, name := range names {
				key := name + " on a " + place
				if have := uses[key]; have == "" || len(text) < len(have) {
					uses[key] = text
				}
			}
		}
	}
	note("type", def.Directives, tidied(src, bare))
	for _, f := range def.Fields {
		alone, one := bare, *f
		one.Description = nil
		alone.Fields = []*language.FieldDefinition{&one}
		text := inside(tidied(src, alone))
		note("field", f.Directives, text)
		for _, a := range f.Arguments {
			note("argument", a.Directives, text)
		}
	}
	for _, v := range def.Values {
		alone, one := bare, *v
		one.Description = nil
		alone.Values = []*language.EnumValueDefinition{&one}
		note("value", v.Directives, inside(tidied(src, alone)))
	}
}

func tidied(src *language.Source, def language.TypeDefinition) string {
	return strings.TrimSpace(language.Tidy(&language.Document{Source: src, Definitions: []language.Definition{&def}}))
}

// inside returns what stands in the braces of a type, at the left.
func inside(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.HasSuffix(line, "{") && !strings.HasPrefix(line, " ") {
			lines = lines[i+1 : len(lines)-1]
			break
		}
	}
	for i := range lines {
		lines[i] = strings.TrimPrefix(lines[i], "  ")
	}
	return strings.Join(lines, "\n")
}
