package assist

import (
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"osprey/core/schema"
)

// This file tells what can be written at a place of a text of variables.

// Complete returns what can be written at an offset of a text of variables, and the offset where what is being written
// there begins. Labels are as they stand in JSON: names with their colon, values as a whole.
func (v *Variables) Complete(text string, offset int) (list []Completion, from int) {
	offset = min(max(offset, 0), len(text))
	at := v.place(text[:offset])
	if at == nil {
		return nil, offset
	}
	if at.names != nil {
		for _, in := range at.names {
			if !at.given[in.Name] {
				list = append(list, Completion{strconv.Quote(in.Name) + ": ", at.kind, in.Type.String(), in.Description})
			}
		}
		return list, at.from
	}
	return valuesOf(at.of), at.from
}

// valuesOf returns values of a type, as they are written in JSON.
func valuesOf(t schema.Type) []Completion {
	if t == nil {
		return nil
	}
	var list []Completion
	switch own := schema.Nullable(t).(type) {
	case *schema.Enum:
		for _, value := range own.Values {
			list = append(list, Completion{strconv.Quote(value.Name), "value", "", value.Description})
		}
	case *schema.Scalar:
		if own.Name == "Boolean" {
			list = append(list, Completion{"true", "value", "", ""}, Completion{"false", "value", "", ""})
		}
	case *schema.InputObject:
		list = append(list, Completion{"{}", "value", own.Name, own.Description})
	case *schema.List:
		list = append(list, Completion{"[]", "value", own.String(), ""})
		for _, item := range valuesOf(own.Elem) {
			if item.Label != "null" {
				list = append(list, item)
			}
		}
	}
	if !schema.IsNonNull(t) {
		list = append(list, Completion{"null", "value", "", ""})
	}
	return list
}

// A variablePlace is where a text of variables ends: where a name can be written, or a value.
type variablePlace struct {
	from  int
	names []*schema.Input // that can be written; nil where a value is
	kind  string          // "variable" or "argument"
	given map[string]bool
	of    schema.Type // of the value
}

// place returns where a text ends; nil where nothing can be written, or nothing is known of what can.
func (v *Variables) place(text string) *variablePlace {
	// An unfinished word at the end is what is being written; of a string, its quote is.
	from, inString := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case inString && c == '\\':
			i++
		case c == '"':
			if inString = !inString; inString {
				from = i
			}
		case !inString && !isWord(c):
			from = i + 1
		case !inString && i > 0 && text[i-1] == '"':
			from = i
		}
	}
	type level struct {
		fields []*schema.Input // of an object; nil if nothing is known of it
		object bool
		kind   string
		given  map[string]bool
		of     schema.Type // of what follows: the member, or each item
		named  bool        // of an object: a name was read, and its value comes
	}
	var stack []*level
	// inner returns the level that a bracket begins.
	inner := func(open jsontext.Kind) *level {
		if len(stack) == 0 {
			return &level{fields: v.own, object: true, kind: "variable", given: map[string]bool{}}
		}
		own := &level{object: open == '{', kind: "argument", given: map[string]bool{}}
		t := stack[len(stack)-1].of
		if t != nil {
			t = schema.Nullable(t)
		}
		if list, ok := t.(*schema.List); ok {
			if t = schema.Nullable(list.Elem); open == '[' {
				own.of = list.Elem
			}
		}
		if input, ok := t.(*schema.InputObject); ok && open == '{' {
			own.fields = input.Fields
		}
		return own
	}
	dec := jsontext.NewDecoder(strings.NewReader(text[:from]))
	for {
		t, err := dec.ReadToken()
		if err != nil {
			break
		}
		var top *level
		if len(stack) > 0 {
			top = stack[len(stack)-1]
		}
		switch kind := t.Kind(); {
		case kind == '{' || kind == '[':
			stack = append(stack, inner(kind))
			if top != nil {
				top.named = false
			}
		case kind == '}' || kind == ']':
			stack = stack[:len(stack)-1]
		case top == nil:
			return nil
		case top.object && !top.named:
			top.named, top.of = true, nil
			top.given[t.String()] = true
			if f := inputOf(top.fields, t.String()); f != nil {
				top.of = f.Type
			}
		default:
			top.named = false
		}
	}
	if len(stack) == 0 {
		return nil
	}
	top := stack[len(stack)-1]
	before := strings.TrimRight(text[:from], " \t\r\n")
	last := before[len(before)-1]
	switch {
	case top.object && !top.named && (last == '{' || last == ',') && len(top.fields) > 0:
		return &variablePlace{from: from, names: top.fields, kind: top.kind, given: top.given}
	case top.object && top.named && last == ':', !top.object && (last == '[' || last == ','):
		return &variablePlace{from: from, of: top.of}
	}
	return nil
}
