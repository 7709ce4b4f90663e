package assist

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/validate"
)

// This file helps to write the variables of an operation, which are a text of JSON beside it. The text is followed token
// by token (RFC 8259), as far as it goes.

// Variables are the variables of an operation that is being written.
type Variables struct {
	schema *schema.Schema
	known  map[string]bool // what any operation of the text declares
	own    []*schema.Input // those of the one that is meant
}

// VariablesOf returns the variables of an operation of a text, by its name; "" stands for the first. It returns nil for a
// text that cannot be read or has no such operation.
func VariablesOf(s *schema.Schema, text, name string) *Variables {
	doc, problems := language.Parse(language.NewSource("", text))
	if problems.Failed() {
		return nil
	}
	v := &Variables{schema: s, known: map[string]bool{}}
	found := false
	for _, d := range doc.Definitions {
		op, ok := d.(*language.Operation)
		if !ok {
			continue
		}
		meant := !found && (name == "" || op.Name.Text == name)
		found = found || meant
		for _, def := range op.Variables {
			v.known[def.Name.Text] = true
			if t := validate.VariableType(s, def.Type); meant && t != nil {
				v.own = append(v.own, &schema.Input{Name: def.Name.Text, Type: t, Default: def.Default})
			}
		}
	}
	if !found {
		return nil
	}
	return v
}

// named returns the variable of a name, or nil.
func (v *Variables) named(name string) *schema.Input { return inputOf(v.own, name) }

func inputOf(list []*schema.Input, name string) *schema.Input {
	for _, in := range list {
		if in.Name == name {
			return in
		}
	}
	return nil
}

// A VariableProblem is something wrong with a text of variables.
type VariableProblem struct {
	At       int    // offset in the text, in bytes
	Variable string // of which it is told; "" of none
	Msg, Fix string
}

// mostVariableProblems is how many are told of one text.
const mostVariableProblems = 100

// Problems returns what is wrong with a text of variables, in the order of their places. An empty text gives none.
func (v *Variables) Problems(text string) []VariableProblem {
	c := &variableCheck{of: v, text: text, dec: jsontext.NewDecoder(strings.NewReader(text))}
	given := map[string]bool{}
	if strings.TrimSpace(text) != "" {
		if kind := c.dec.PeekKind(); kind != '{' && kind != 0 {
			c.tell(0, "the variables are %s, and not an object\n→ write {\"name\": value}", kindNames[kind])
			return c.list
		}
		c.object(func(name string, at int) schema.Type {
			c.variable, given[name] = name, true
			if own := v.named(name); own != nil {
				return own.Type
			}
			if !v.known[name] {
				var names []string
				for _, own := range v.own {
					names = append(names, own.Name)
				}
				c.tell(at, "the operation has no variable $%s%s\n→ declare it behind the operation's name, or leave it out", name, language.DidYouMean(name, names))
			}
			return nil
		})
		if c.variable = ""; c.err == nil {
			if _, err := c.dec.ReadToken(); !errors.Is(err, io.EOF) {
				c.fail(errors.New("more follows its end"))
			}
		}
	}
	if c.err == nil {
		for _, own := range v.own {
			if c.variable = own.Name; own.Required() && !given[own.Name] {
				c.tell(strings.IndexByte(text, '{'), "the variable $%s of the type %s is missing\n→ give it a value", own.Name, own.Type)
			}
		}
	}
	return c.list
}

var kindNames = map[jsontext.Kind]string{'[': "an array", '"': "a string", '0': "a number", 't': "a boolean", 'f': "a boolean", 'n': "null"}

// A variableCheck reads a text of JSON and holds it against types; a type that is nil fits all.
type variableCheck struct {
	of       *Variables
	text     string
	dec      *jsontext.Decoder
	variable string // that is being read
	list     []VariableProblem
	err      error // why it cannot be read on
}

func (c *variableCheck) tell(at int, format string, args ...any) {
	if len(c.list) < mostVariableProblems {
		msg, fix := language.Parted(fmt.Sprintf(format, args...))
		c.list = append(c.list, VariableProblem{max(at, 0), c.variable, msg, fix})
	}
}

// fail tells why the text cannot be read on.
func (c *variableCheck) fail(err error) {
	at := len(strings.TrimRight(c.text, " \t\r\n"))
	what := err.Error()
	var syntax *jsontext.SyntacticError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		what = "it ends early"
	case errors.Is(err, jsontext.ErrDuplicateName):
		at, what = c.next(), "a name stands twice in one object"
	case errors.As(err, &syntax) && syntax.Err != nil:
		at, what = int(syntax.ByteOffset), syntax.Err.Error()
	default:
		at = c.next()
	}
	c.err = err
	c.tell(min(at, len(c.text)), "the variables are no JSON: %s", what)
}

// next returns where the next token begins.
func (c *variableCheck) next() int {
	at := int(c.dec.InputOffset())
	for at < len(c.text) && strings.IndexByte(" \t\r\n,:", c.text[at]) >= 0 {
		at++
	}
	return at
}

// token reads a token, or fails.
func (c *variableCheck) token() (jsontext.Token, bool) {
	t, err := c.dec.ReadToken()
	if err != nil {
		c.fail(err)
	}
	return t, err == nil
}

// object reads an object, whose members have the types that typeOf returns.
func (c *variableCheck) object(typeOf func(name string, at int) schema.Type) {
	if _, ok := c.token(); !ok {
		return
	}
	for c.err == nil {
		if c.dec.PeekKind() == '}' {
			c.token()
			return
		}
		at := c.next()
		name, ok := c.token()
		if !ok {
			return
		}
		c.value(typeOf(name.String(), at))
	}
}

// value reads a value and holds it against a type.
func (c *variableCheck) value(t schema.Type) {
	kind := c.dec.PeekKind()
	at := c.next()
	if kind == 'n' || t == nil {
		if _, err := c.dec.ReadValue(); err != nil {
			c.fail(err)
		} else if t != nil && schema.IsNonNull(t) {
			c.tell(at, "null is given where %s is expected\n→ give a value", t)
		}
		return
	}
	t = schema.Nullable(t)
	if list, ok := t.(*schema.List); ok {
		if kind != '[' { // section 3.11: one value is a list of one
			c.value(list.Elem)
			return
		}
		c.token()
		for c.err == nil && c.dec.PeekKind() != ']' {
			c.value(list.Elem)
		}
		if c.err == nil {
			c.token()
		}
		return
	}
	if input, ok := t.(*schema.InputObject); ok && kind == '{' {
		c.input(input, at)
		return
	}
	raw, err := c.dec.ReadValue()
	if err != nil {
		c.fail(err)
		return
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var value any
	if dec.Decode(&value) != nil {
		return
	}
	var wrong *schema.CoercionError
	if _, err := schema.CoerceJSON(t, value); errors.As(err, &wrong) {
		msg := wrong.Error()
		if wrong.Fix != "" {
			msg += "\n→ " + wrong.Fix
		}
		c.tell(at, "%s", msg)
	}
}

// input reads an object that is given for an input object: section 3.10.
func (c *variableCheck) input(t *schema.InputObject, at int) {
	given := map[string]bool{}
	c.object(func(name string, at int) schema.Type {
		given[name] = true
		if f := t.Field(name); f != nil {
			if t.OneOf && c.dec.PeekKind() == 'n' {
				c.tell(at, "the field %q of %s cannot be null, since exactly one field is given\n→ give it a value, or give another field", name, t.Name)
			}
			return f.Type
		}
		c.tell(at, "the input object %s has no field %q%s\n→ leave it out", t.Name, name, language.DidYouMean(name, schema.InputNames(t.Fields)))
		return nil
	})
	if c.err != nil {
		return
	}
	if t.OneOf && len(given) != 1 {
		c.tell(at, "exactly one field of %s must be given, found %d\n→ leave all but one out", t.Name, len(given))
	}
	for _, f := range t.Fields {
		if f.Required() && !given[f.Name] {
			c.tell(at, "the field %q of %s is required\n→ give it", f.Name, t.Name)
		}
	}
}
