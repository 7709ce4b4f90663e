package schema

import (
	"errors"
	"fmt"

	"osprey/core/language"
)

// A VariableUse is told of each variable in a literal, with the type expected
// at its place and whether that place has a default.
type VariableUse func(v *language.Variable, expected Type, hasDefault bool)

// CheckLiteral reports every part of a literal that does not fit t: sections
// 5.6.1 to 5.6.4 (Values of Correct Type, Input Object Field Names, Field
// Uniqueness, Required Fields). Variables are told to variable; where it is
// nil, they are faults.
func CheckLiteral(t Type, v language.Value, report func(pos language.Pos, msg string), variable VariableUse) {
	c := literalCheck{report, variable}
	c.value(t, v, false)
}

// VisitVariables tells variable of every variable in a literal of which nothing
// is expected, since what it is given to is not known.
func VisitVariables(v language.Value, variable VariableUse) {
	if variable != nil {
		c := literalCheck{variable: variable}
		c.variablesIn(v)
	}
}

type literalCheck struct {
	report   func(pos language.Pos, msg string)
	variable VariableUse
}

func (c *literalCheck) value(t Type, v language.Value, hasDefault bool) {
	switch v := v.(type) {
	case *language.Variable:
		if c.variable == nil {
			c.report(v.Pos, msgVariableCannotStand)
		} else {
			c.variable(v, t, hasDefault)
		}
		return
	case *language.NullValue:
		if IsNonNull(t) {
			c.report(v.Pos, fmt.Sprintf(msgExpectedValueTypeFound, t))
		}
		return
	}
	t = Nullable(t)
	switch t := t.(type) {
	case *List:
		list, ok := v.(*language.ListValue)
		if !ok {
			c.value(t.Elem, v, false)
			return
		}
		for _, item := range list.Values {
			c.value(t.Elem, item, false)
		}
	case *InputObject:
		object, ok := v.(*language.ObjectValue)
		if !ok {
			c.report(v.Start(), fmt.Sprintf(msgExpectedInputObjectFound, t.Name, clip(language.PrintValue(v))))
			return
		}
		c.object(t, object)
	case *Scalar:
		if isFree(t) {
			c.variablesIn(v)
			return
		}
		c.leaf(t, v)
	case *Enum:
		c.leaf(t, v)
	}
}

// leaf checks a value of a scalar or enum by coercing it.
func (c *literalCheck) leaf(t Named, v language.Value) {
	switch v.(type) {
	case *language.ListValue, *language.ObjectValue:
		c.report(v.Start(), fmt.Sprintf(msgExpectedValueTypeFound2, t, clip(language.PrintValue(v))))
		return
	}
	if s, ok := v.(*language.StringValue); ok {
		if e, ok := t.(*Enum); ok {
			fix := "write one of its values, without quotes"
			if e.Value(s.Text) != nil {
				fix = "write it without quotes"
			}
			c.report(v.Start(), language.WithRemedy(fmt.Sprintf(msgExpectedEnumString, e.Name, clip(language.PrintValue(v))), fix))
			return
		}
	}
	if _, err := coerce(t, v, literals{}); err != nil {
		fix := ""
		if misfit := (*CoercionError)(nil); errors.As(err, &misfit) {
			fix = misfit.Fix
		}
		c.report(v.Start(), language.WithRemedy(err.Error(), fix))
	}
}

// variablesIn visits the variables inside a scalar that may hold anything.
func (c *literalCheck) variablesIn(v language.Value) {
	switch v := v.(type) {
	case *language.ListValue:
		for _, item := range v.Values {
			c.variablesIn(item)
		}
	case *language.ObjectValue:
		for _, f := range v.Fields {
			c.variablesIn(f.Value)
		}
	case *language.Variable:
		if c.variable == nil {
			c.report(v.Pos, msgVariableCannotStand)
		} else {
			c.variable(v, nil, false)
		}
	}
}

func (c *literalCheck) object(t *InputObject, object *language.ObjectValue) {
	given := map[string]bool{}
	for _, f := range object.Fields {
		name := f.Name.Text
		if given[name] {
			c.report(f.Name.Pos, fmt.Sprintf(msgFieldGivenTwice, name))
			continue
		}
		given[name] = true
		def := t.Field(name)
		if def == nil {
			c.report(f.Name.Pos, fmt.Sprintf(msgInputObjectHasNo2, t.Name, name, language.DidYouMean(name, InputNames(t.Fields))))
			continue
		}
		expected := def.Type
		if t.OneOf {
			expected = &NonNull{def.Type} // section 5.6.5: a variable here must be non-null too
		}
		c.value(expected, f.Value, def.Default != nil)
	}
	for _, def := range t.Fields {
		if def.Required() && !given[def.Name] {
			c.report(object.Pos, fmt.Sprintf(msgFieldRequired, def.Name, t.Name))
		}
	}
	if t.OneOf && len(object.Fields) != 1 {
		c.report(object.Pos, fmt.Sprintf(msgExactlyOneFieldMust, t.Name, len(object.Fields)))
	}
}
