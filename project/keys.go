package project

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"osprey/core/language"
)

// This file looks at osprey.yaml as it is written, before it is read: environment
// variables are put in, and what is no key, or has a value of another form than its
// key, is told in the words of the file.

// A form is a part of the configuration that has keys.
type form struct {
	what    string // in a sentence: "a source"
	under   string // where its keys are written
	example string
}

// forms are the parts of the configuration that have keys, by their types.
var forms = map[reflect.Type]form{
	reflect.TypeFor[Config]():       {"osprey.yaml", "at its beginning", ""},
	reflect.TypeFor[Limits]():       {"limits", "under limits:", ""},
	reflect.TypeFor[SourceConfig](): {"a source", "under the source's name", "{ kind: postgres, url: … }"},
	reflect.TypeFor[SetConfig]():    {"a set", "under the set's name, which is under sets:", "{ key: id, fields: { id: text }, reads: [{ get: /things }] }"},
	reflect.TypeFor[ReadConfig]():   {"a read", "in an entry of reads:", `{ get: "/things{?id*}", many: id }`},
	reflect.TypeFor[PagesConfig]():  {"pages", "under pages:", "{ link: true }"},
}

// A layoutCheck finds what is wrong with the keys of a configuration.
type layoutCheck struct {
	src      *language.Source
	problems *language.Problems
}

// check holds a value to the type that it is read into.
func (c layoutCheck) check(node ast.Node, t reflect.Type, what string) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch node := node.(type) {
	case nil, *ast.NullNode:
		return
	case *ast.AnchorNode:
		c.check(node.Value, t, what)
		return
	case *ast.AliasNode, *ast.TagNode:
		return // whatever it means is told when it is read
	}
	switch t {
	case reflect.TypeFor[Size](), reflect.TypeFor[Count](), reflect.TypeFor[Span]():
		return // which tell themselves what they are not
	case reflect.TypeFor[yaml.MapSlice]():
		c.entries(node, what, "{ name: text }")
		return
	case reflect.TypeFor[Strings]():
		if list, ok := node.(*ast.SequenceNode); ok {
			for _, item := range list.Values {
				c.scalar(item, what, "a text, or a list of texts")
			}
			return
		}
		c.scalar(node, what, "a text, or a list of texts")
		return
	}
	switch t.Kind() {
	case reflect.Struct:
		c.keys(node, t, what)
	case reflect.Map:
		for _, entry := range c.entries(node, what, forms[element(t)].example) {
			name := keyOf(entry)
			c.check(entry.Value, t.Elem(), c.named(t.Elem(), name))
		}
	case reflect.Slice:
		list, ok := node.(*ast.SequenceNode)
		if !ok {
			c.fail(node, "", "%s must be a list, and is %s", what, nodeName(node))
			return
		}
		for _, item := range list.Values {
			c.check(item, t.Elem(), c.named(t.Elem(), what))
		}
	case reflect.Bool:
		if _, ok := node.(*ast.BoolNode); !ok {
			c.fail(node, "", "%s must be true or false, and is %s", what, nodeName(node))
		}
	default:
		c.scalar(node, what, "a text")
	}
}

func element(t reflect.Type) reflect.Type {
	t = t.Elem()
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t
}

// named returns what an entry of a map is, in a sentence.
func (c layoutCheck) named(t reflect.Type, name string) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if f, ok := forms[t]; ok && strings.HasPrefix(f.what, "a ") {
		return "the " + strings.TrimPrefix(f.what, "a ") + " " + name
	}
	return name
}

// keys holds a mapping to the keys of a struct.
func (c layoutCheck) keys(node ast.Node, t reflect.Type, what string) {
	known := tagsOf(t)
	for _, entry := range c.entries(node, what, forms[t].example) {
		name := keyOf(entry)
		i := slices.Index(known, name)
		if i < 0 {
			fix := "its keys are " + strings.Join(known, ", ")
			if at := placesOf(name); len(at) > 0 {
				fix = "write it " + language.OneOf(at)
			}
			c.fail(entry.Key, fix, "%s has no key %q%s", what, name, language.DidYouMean(name, known))
			continue
		}
		inner := what + "'s " + name
		if what == "osprey.yaml" {
			inner = name
		}
		c.check(entry.Value, t.Field(i).Type, inner)
	}
}

// tagsOf returns the keys of a struct, by field.
func tagsOf(t reflect.Type) []string {
	var names []string
	for i := range t.NumField() {
		names = append(names, t.Field(i).Tag.Get("yaml"))
	}
	return names
}

// placesOf returns where a key belongs.
func placesOf(name string) []string {
	var list []string
	for t, f := range forms {
		if slices.Contains(tagsOf(t), name) {
			list = append(list, f.under)
		}
	}
	slices.Sort(list)
	return list
}

// entries returns the entries of a mapping, or tells that the value is none.
func (c layoutCheck) entries(node ast.Node, what, example string) []*ast.MappingValueNode {
	switch node := node.(type) {
	case *ast.MappingNode:
		return node.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{node}
	}
	fix := ""
	if example != "" {
		fix = "write " + example
	}
	c.fail(node, fix, "%s must have keys with values, and is %s", what, nodeName(node))
	return nil
}

func (c layoutCheck) scalar(node ast.Node, what, want string) {
	if _, ok := node.(ast.ScalarNode); !ok {
		c.fail(node, "", "%s must be %s, and is %s", what, want, nodeName(node))
	}
}

func (c layoutCheck) fail(node ast.Node, fix, format string, args ...any) {
	at := node.GetToken().Position
	if m, ok := node.(*ast.MappingNode); ok && len(m.Values) > 0 {
		at = m.Values[0].Key.GetToken().Position
	}
	c.problems.Add(ruleConfig, placeOf(c.src, at.Line, at.Column), format, args...).Fix = fix
}

func keyOf(entry *ast.MappingValueNode) string {
	return strings.Trim(entry.Key.GetToken().Value, `"'`)
}

// nodeName says what a value is.
func nodeName(node ast.Node) string {
	switch node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "keys with values"
	case *ast.SequenceNode:
		return "a list"
	case *ast.IntegerNode, *ast.FloatNode:
		return "a number"
	case *ast.BoolNode:
		return "true or false"
	}
	return "a text"
}

// An expander puts environment variables into the values of a configuration. What
// stood without quotes is then what YAML takes it for: ${POOL:-4} is a number.
type expander struct {
	getenv  func(string) (string, bool)
	missing func(name string, at *token.Position, path []string)
	path    []string
}

// value returns a value with its variables replaced.
func (e *expander) value(node ast.Node) ast.Node {
	switch node := node.(type) {
	case *ast.MappingNode:
		for _, entry := range node.Values {
			e.entry(entry)
		}
	case *ast.MappingValueNode:
		e.entry(node)
	case *ast.SequenceNode:
		for i, item := range node.Values {
			node.Values[i] = e.value(item)
		}
	case *ast.AnchorNode:
		node.Value = e.value(node.Value)
	case *ast.LiteralNode:
		e.value(node.Value)
	case *ast.StringNode:
		return e.text(node)
	}
	return node
}

func (e *expander) entry(entry *ast.MappingValueNode) {
	e.path = append(e.path, keyOf(entry))
	entry.Value = e.value(entry.Value)
	e.path = e.path[:len(e.path)-1]
}

func (e *expander) text(node *ast.StringNode) ast.Node {
	expanded := expandVariables(node.Value, e.getenv, func(name string) { e.missing(name, node.Token.Position, e.path) })
	if expanded == node.Value {
		return node
	}
	node.Value = expanded
	if node.Token.Type != token.StringType {
		return node // in quotes it is a text, whatever it says
	}
	file, err := parser.ParseBytes([]byte(expanded), 0)
	if err != nil || len(file.Docs) != 1 {
		return node
	}
	switch plain := file.Docs[0].Body.(type) {
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		plain.GetToken().Position = node.Token.Position
		return plain
	}
	return node
}

// readLayout parses the text, puts variables in and checks the keys. The node is nil
// if there is nothing to be read.
func readLayout(src *language.Source, getenv func(string) (string, bool), problems *language.Problems) ast.Node {
	file, err := parser.ParseBytes([]byte(src.Text), 0)
	if err != nil {
		addYAML(src, problems, err)
		return nil
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil
	}
	body := file.Docs[0].Body
	e := &expander{getenv: getenv, missing: func(name string, at *token.Position, path []string) {
		what := strings.Join(path, ".")
		if len(path) > 1 && path[0] == "sources" {
			what = "the source " + path[1]
		}
		pos := placeOf(src, at.Line, at.Column)
		if i := strings.Index(src.Text[src.Offset(pos):], "${"+name); i > 0 {
			pos = src.Pos(src.Offset(pos) + i)
		}
		problems.Add(ruleEnvironment, pos, "the environment variable %s, which %s needs, is not set", name, what).
			Fix = "set it, or write ${" + name + ":-…} with a default"
	}}
	body = e.value(body)
	layoutCheck{src, problems}.check(body, reflect.TypeFor[Config](), "osprey.yaml")
	return body
}

// addYAML tells an error of the YAML library, whose form is [line:column] message.
func addYAML(src *language.Source, problems *language.Problems, err error) {
	msg := strings.SplitN(err.Error(), "\n", 2)[0]
	pos := src.Pos(0)
	var line, column int
	if m := yamlPlace.FindStringSubmatch(msg); m != nil {
		fmt.Sscan(m[1], &line)
		fmt.Sscan(m[2], &column)
		msg, pos = msg[len(m[0]):], placeOf(src, line, column)
	}
	problems.Add(ruleConfig, pos, "%s", msg)
}
