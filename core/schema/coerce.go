package schema

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
)

// A CoercionError says which part of a value does not fit its type.
type CoercionError struct {
	Path []any // field names (string) and list positions (int) from the outermost value
	Msg  string
	Fix  string // what to do about it, or ""
}

// Error returns the message with the path in front, if there is one.
func (e *CoercionError) Error() string {
	if len(e.Path) == 0 {
		return e.Msg
	}
	var b strings.Builder
	for _, step := range e.Path {
		switch step := step.(type) {
		case int:
			fmt.Fprintf(&b, "[%d]", step)
		case string:
			b.WriteString("." + step)
		}
	}
	return "at " + strings.TrimPrefix(b.String(), ".") + ": " + e.Msg
}

func fault(format string, args ...any) error {
	msg, fix := language.Parted(fmt.Sprintf(format, args...))
	return &CoercionError{Msg: msg, Fix: fix}
}

// within puts a step in front of the path of a coercion error.
func within(step any, err error) error {
	var c *CoercionError
	if errors.As(err, &c) {
		c.Path = append([]any{step}, c.Path...)
		return c
	}
	return &CoercionError{Path: []any{step}, Msg: err.Error()}
}

// A shape is what a reader sees of a value before it is coerced.
type shape uint8

const (
	isScalar shape = iota
	isNull
	isList
	isObject
	isAbsent // a variable that was not given
	isDone   // a variable, whose value is coerced already
)

// CoerceLiteral coerces a literal to t. A variable stands for its value in
// vars, which is coerced already; one that is absent from vars is not given:
// present is then false. The literal must have passed validation.
func CoerceLiteral(t Type, v language.Value, vars map[string]Value) (value Value, present bool, err error) {
	if use, ok := v.(*language.Variable); ok {
		value, present = vars[use.Name]
		if present && value == nil && IsNonNull(t) {
			return nil, true, fault(msgVariableNullWhereExpected, use.Name, t)
		}
		return value, present, nil
	}
	value, err = coerce(t, v, literals{vars})
	return value, true, err
}

// CoerceJSON coerces a value decoded from JSON (with json.Decoder.UseNumber)
// to t: the coercion of variables, section 6.1.2.
func CoerceJSON(t Type, v any) (Value, error) { return coerce(t, v, decoded{}) }

// A reader looks into a value in one of its two forms.
type reader interface {
	shape(v any) shape
	// scalar returns a string, bool, int64, float64, Symbol or json.Number.
	scalar(v any, t Named) any
	items(v any) []any
	// fields calls yield for every field, in any order.
	fields(v any, yield func(name string, v any))
	// done returns the value of a variable.
	done(v any) Value
}

func coerce(t Type, v any, in reader) (Value, error) {
	shape := in.shape(v)
	if shape == isDone {
		value := in.done(v)
		if value == nil && IsNonNull(t) {
			return nil, fault(msgNullGivenWhereExpected, t)
		}
		return value, nil
	}
	if n, ok := t.(*NonNull); ok {
		if shape == isNull || shape == isAbsent {
			return nil, fault(msgExpectedValueTypeFound, t)
		}
		t = n.Elem
	}
	if shape == isNull || shape == isAbsent {
		return nil, nil
	}
	switch t := t.(type) {
	case *List:
		if shape != isList { // section 3.11: one value is a list of one
			item, err := coerce(t.Elem, v, in)
			return []Value{item}, err
		}
		items := in.items(v)
		list := make([]Value, len(items))
		for i, item := range items {
			var err error
			if list[i], err = coerce(t.Elem, item, in); err != nil {
				return nil, within(i, err)
			}
		}
		return list, nil
	case *InputObject:
		if shape != isObject {
			return nil, fault(msgExpectedInputObjectFound, t.Name, show(in.scalar(v, nil)))
		}
		return coerceObject(t, v, in)
	case *Enum:
		s, ok := in.scalar(v, t).(Symbol)
		if shape != isScalar || !ok {
			return nil, fault(msgExpectedValueEnumFound, t.Name, show(in.scalar(v, nil)))
		}
		if t.Value(string(s)) == nil {
			return nil, fault(msgEnumHasNoValue, t.Name, clip(string(s)), valueHint(t, string(s)))
		}
		return s, nil
	case *Scalar:
		found := in.scalar(v, t)
		if shape != isScalar && !isFree(t) {
			return nil, fault(msgExpectedValueTypeFound2, t.Name, show(found))
		}
		value, err := parseScalar(t, found)
		if err != nil {
			return nil, &CoercionError{Msg: err.Error(), Fix: likeThis(t)}
		}
		return value, nil
	}
	return nil, fault(msgNotInputType, t)
}

// likeThis says how a value of a scalar is written, of one that is known.
func likeThis(t *Scalar) string {
	if s := scalar.Named(t.Name); s != nil && s.Example != "" && (t.Coding == nil || t.Coding.Parse == nil) {
		return "write it like " + s.Example
	}
	return ""
}

// isFree reports whether a scalar may be given as a list or an object: JSON,
// and those that Osprey does not know.
func isFree(t *Scalar) bool {
	return scalar.IsFree(t.Name) && (t.Coding == nil || t.Coding.Parse == nil)
}

// valueHint returns the nearest values of an enum, or all of them if none is
// near and there are few.
func valueHint(t *Enum, written string) string {
	names := enumNames(t)
	if hint := language.DidYouMean(written, names); hint != "" || len(names) > 8 {
		return hint
	}
	return ": it has " + strings.Join(names, ", ")
}

func enumNames(t *Enum) []string {
	names := make([]string, len(t.Values))
	for i, v := range t.Values {
		names[i] = v.Name
	}
	return names
}

// coerceObject coerces an input object: section 3.10, Input Coercion.
func coerceObject(t *InputObject, v any, in reader) (Value, error) {
	given := map[string]any{}
	var unknown string
	in.fields(v, func(name string, v any) {
		if t.Field(name) == nil {
			unknown = name
		}
		given[name] = v
	})
	if unknown != "" {
		return nil, fault(msgInputObjectHasNo2, t.Name, clip(unknown), language.DidYouMean(unknown, InputNames(t.Fields)))
	}
	var object InputFields
	for _, f := range t.Fields {
		v, ok := given[f.Name]
		if ok && in.shape(v) == isAbsent {
			ok = false
		}
		if !ok {
			if f.Default != nil {
				value, _, err := CoerceLiteral(f.Type, f.Default, nil)
				if err != nil {
					return nil, within(f.Name, err)
				}
				object = append(object, InputField{f.Name, value})
			} else if IsNonNull(f.Type) {
				return nil, fault(msgFieldRequired, f.Name, t.Name)
			}
			continue
		}
		value, err := coerce(f.Type, v, in)
		if err != nil {
			return nil, within(f.Name, err)
		}
		object = append(object, InputField{f.Name, value})
	}
	if t.OneOf {
		if len(given) != 1 || len(object) != 1 {
			return nil, fault(msgExactlyOneFieldMust, t.Name, len(given))
		}
		if object[0].Value == nil {
			return nil, fault(msgFieldCannotNullSince, object[0].Name, t.Name)
		}
	}
	return object, nil
}

// literals reads syntax trees.
type literals struct{ vars map[string]Value }

func (l literals) shape(v any) shape {
	switch v := v.(type) {
	case *language.NullValue:
		return isNull
	case *language.ListValue:
		return isList
	case *language.ObjectValue:
		return isObject
	case *language.Variable:
		if _, ok := l.vars[v.Name]; ok {
			return isDone
		}
		return isAbsent
	}
	return isScalar
}

func (l literals) done(v any) Value { return l.vars[v.(*language.Variable).Name] }

func (l literals) scalar(v any, t Named) any {
	switch v := v.(type) {
	case *language.IntValue:
		if n, err := strconv.ParseInt(v.Text, 10, 64); err == nil {
			return n
		}
		return json.Number(v.Text)
	case *language.FloatValue:
		if f, err := strconv.ParseFloat(v.Text, 64); err == nil {
			return f
		}
		return json.Number(v.Text)
	case *language.StringValue:
		return v.Text
	case *language.BooleanValue:
		return v.Is
	case *language.EnumValue:
		return Symbol(v.Name)
	case *language.ListValue:
		items := make([]any, len(v.Values))
		for i, item := range v.Values {
			items[i] = l.free(item, t)
		}
		return items
	case *language.ObjectValue:
		object := map[string]any{}
		for _, f := range v.Fields {
			object[f.Name.Text] = l.free(f.Value, t)
		}
		return object
	}
	return nil
}

// free returns a value inside a scalar that may hold anything.
func (l literals) free(v language.Value, t Named) any {
	if use, ok := v.(*language.Variable); ok {
		return l.vars[use.Name]
	}
	return l.scalar(v, t)
}

func (l literals) items(v any) []any {
	list := v.(*language.ListValue)
	items := make([]any, len(list.Values))
	for i, item := range list.Values {
		items[i] = item
	}
	return items
}

func (l literals) fields(v any, yield func(string, any)) {
	for _, f := range v.(*language.ObjectValue).Fields {
		yield(f.Name.Text, f.Value)
	}
}

// decoded reads what encoding/json decodes, numbers as json.Number.
type decoded struct{}

func (decoded) shape(v any) shape {
	switch v.(type) {
	case nil:
		return isNull
	case []any:
		return isList
	case map[string]any:
		return isObject
	}
	return isScalar
}

func (decoded) done(any) Value { return nil }

func (decoded) scalar(v any, t Named) any {
	switch v := v.(type) {
	case string:
		if _, ok := t.(*Enum); ok { // enums are given as text in JSON
			return Symbol(v)
		}
	case json.Number:
		return number(v)
	}
	return v
}

// number reads a number of JSON: a whole one, 1.0 and 1e3 included, as int64.
func number(n json.Number) any {
	if i, err := strconv.ParseInt(string(n), 10, 64); err == nil {
		return i
	}
	f, err := strconv.ParseFloat(string(n), 64)
	switch {
	case err != nil || math.IsInf(f, 0):
		return n
	case f == math.Trunc(f) && strings.ContainsAny(string(n), ".eE") && math.Abs(f) < 1<<53:
		return int64(f)
	case f == math.Trunc(f) && !strings.ContainsAny(string(n), ".eE"):
		return n // a whole number beyond 64 bits
	}
	return f
}

func (decoded) items(v any) []any { return v.([]any) }

func (decoded) fields(v any, yield func(string, any)) {
	for name, f := range v.(map[string]any) {
		yield(name, f)
	}
}
