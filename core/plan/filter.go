package plan

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// maxFilterDepth bounds how deep a filter may be nested.
const maxFilterDepth = 32

// maxComparisons bounds how many comparisons a read may make: each is a part of
// the plan, and of what the store is sent. Long lists of values belong into in.
const maxComparisons = 500

// A filterBuilder turns the value of a filter's argument into conditions. What
// is compared with what is part of the plan; the values are those of each run.
//
//	fleet(filter: {lengthM: {above: $m}, any: [{builtOn: {missing: true}}, {operator: {with: {country: {is: "Norvik"}}}}]})
//
//	Above length_m, value 0
//	Any
//	  Missing built_on
//	  With operators by operator_id
//	    Is country, value 1
//
//	values   0  $m, within lengthM above   1  "Norvik", within any 1 operator with country is
//
// The plan holds for every $m, and for every filter of this form in a variable.
type filterBuilder struct {
	*builder
	arg     *Arg
	depends *Dependencies
	depth   int     // of the filter under way in its argument
	full    bool    // no more comparisons are taken
	args    *[]*Arg // the values of the read so far
	within  []any   // to the value under way: field names (string) and positions (int)
}

// filter returns the conditions of a filter's argument, and adds their values
// to those of the read.
func (b *builder) filter(arg *Arg, f *binding.Filter, args *[]*Arg) []store.Predicate {
	for _, name := range variablesIn(arg.Literal) {
		b.plan.Depends.byForm(name)
	}
	value, err := arg.Resolve(b.vars)
	if err != nil {
		return nil // the variables do not fit, which is told before anything runs
	}
	fb := &filterBuilder{builder: b, arg: arg, depends: &b.plan.Depends, args: args}
	return fb.tests(f, value)
}

// onDay returns the conditions of an argument that gives days for a moment.
func (b *builder) onDay(arg *Arg, a *binding.Arg, args *[]*Arg) []store.Predicate {
	value, err := arg.Resolve(b.vars)
	if err != nil {
		return nil // the variables do not fit, which is told before anything runs
	}
	name := "is"
	if a.Many {
		name = "in"
		if _, list := value.([]schema.Value); !list {
			name = "is" // one value stands for a list of one
		}
	}
	fb := &filterBuilder{builder: b, arg: arg, depends: &b.plan.Depends, args: args}
	return fb.day(&binding.Test{Path: a.Path, Kind: a.Kind, Day: true}, name, value)
}

// refuse adds a value that cannot be used, so that the read is an error.
func (fb *filterBuilder) refuse(format string, args ...any) {
	*fb.args = append(*fb.args, &Arg{Name: fb.arg.Name, Pos: fb.arg.Pos, Column: len(*fb.args), Kind: store.Text, Err: fmt.Sprintf(format, args...)})
}

// tests returns the conditions of the fields of a filter's value.
func (fb *filterBuilder) tests(f *binding.Filter, value schema.Value) []store.Predicate {
	fields, _ := value.(schema.InputFields)
	var list []store.Predicate
	if fb.depth++; fb.depth > maxFilterDepth {
		fb.full = true
		fb.refuse(msgFilterTooDeep, maxFilterDepth)
	}
	defer func() { fb.depth-- }()
	for _, given := range fields {
		if fb.full {
			return nil
		}
		if len(*fb.args) > maxComparisons {
			fb.full = true
			fb.refuse(msgFilterTooWide, maxComparisons)
			return nil
		}
		t := f.Tests[given.Name]
		if t == nil || given.Value == nil {
			continue // null asks nothing
		}
		fb.within = append(fb.within, given.Name)
		list = append(list, fb.test(t, given.Value)...)
		fb.within = fb.within[:len(fb.within)-1]
	}
	return list
}

func (fb *filterBuilder) test(t *binding.Test, value schema.Value) []store.Predicate {
	switch t.How {
	case binding.TestAll:
		return []store.Predicate{{Op: store.All, Of: fb.each(t, value)}}
	case binding.TestAny:
		return []store.Predicate{{Op: store.Any, Of: fb.each(t, value)}}
	case binding.TestNot:
		return []store.Predicate{not(one(fb.tests(t.Filter, value)))}
	case binding.Deeper:
		return fb.tests(t.Filter, value)
	case binding.Among:
		return fb.among(t, value)
	case binding.TooDeep:
		fb.refuse(msgFilterTooDeep, binding.MaxNested)
		return nil
	}
	return fb.compare(t, value)
}

// each returns a condition for each item of a list of filters.
func (fb *filterBuilder) each(t *binding.Test, value schema.Value) []store.Predicate {
	var list []store.Predicate
	items, _ := value.([]schema.Value)
	for i, item := range items {
		fb.within = append(fb.within, i)
		list = append(list, one(fb.tests(t.Filter, item)))
		fb.within = fb.within[:len(fb.within)-1]
	}
	return list
}

// one makes one condition of several that must all hold.
func one(list []store.Predicate) store.Predicate {
	if len(list) == 1 {
		return list[0]
	}
	return store.Predicate{Op: store.All, Of: list}
}

func not(c store.Predicate) store.Predicate {
	return store.Predicate{Op: store.Not, Of: []store.Predicate{c}}
}

func (fb *filterBuilder) among(t *binding.Test, value schema.Value) []store.Predicate {
	fields, _ := value.(schema.InputFields)
	var list []store.Predicate
	for _, given := range fields {
		if given.Value == nil {
			continue
		}
		fb.within = append(fb.within, given.Name)
		of := fb.tests(t.Filter, given.Value)
		fb.within = fb.within[:len(fb.within)-1]
		if given.Name == "only" { // none does not fit
			of = []store.Predicate{not(one(of))}
		}
		for _, n := range t.Narrows {
			arg := narrowed(n)
			arg.Column = len(*fb.args)
			of = append(of, store.Predicate{Path: n.Path, Kind: n.Kind, Many: arg.Many, Value: arg.Column})
			*fb.args = append(*fb.args, arg)
		}
		link := t.Link
		if link != nil {
			where, ok := fb.linked(t.Target, t.Only, fb.args)
			if !ok {
				fb.refuse(msgFilterRule, t.Target.Type)
			}
			of = append(of, where...)
			if link, ok = fb.paired(t.Target.Source, link, fb.args); !ok {
				fb.refuse(msgFilterRule, t.Target.Type)
			}
		}
		with := store.Predicate{Op: store.With, Path: t.Path, Link: link, Of: of}
		if given.Name == "with" {
			list = append(list, with)
		} else {
			list = append(list, not(with))
		}
	}
	return list
}

var comparisonOps = map[string]store.Op{
	"is": store.Is, "isNot": store.Is, "in": store.Is, "notIn": store.Is,
	"above": store.Above, "atLeast": store.AtLeast, "below": store.Below, "atMost": store.AtMost,
	"contains": store.Contains, "startsWith": store.StartsWith, "endsWith": store.EndsWith,
}

func (fb *filterBuilder) compare(t *binding.Test, value schema.Value) []store.Predicate {
	fields, _ := value.(schema.InputFields)
	var list []store.Predicate
	for _, given := range fields {
		name := given.Name
		missing := store.Predicate{Op: store.Missing, Path: t.Path, Kind: t.Kind}
		switch {
		case name == "missing" && given.Value == true, name == "is" && given.Value == nil:
			list = append(list, missing)
			continue
		case name == "missing" && given.Value == false, name == "isNot" && given.Value == nil:
			list = append(list, not(missing))
			continue
		case given.Value == nil && name == "missing":
			continue
		}
		if given.Value == nil {
			fb.refuse(msgComparedWithNull, fb.within[len(fb.within)-1], name)
			continue
		}
		fb.within = append(fb.within, name)
		if t.Day {
			list = append(list, fb.day(t, name, given.Value)...)
			fb.within = fb.within[:len(fb.within)-1]
			continue
		}
		c := store.Predicate{Op: comparisonOps[name], Path: t.Path, Kind: t.Kind, Many: name == "in" || name == "notIn", Value: len(*fb.args)}
		*fb.args = append(*fb.args, fb.value(t, c, given.Value))
		fb.within = fb.within[:len(fb.within)-1]
		if name == "isNot" || name == "notIn" {
			c = not(c)
		}
		list = append(list, c)
	}
	return list
}

// day returns what compares a moment with a day, from its beginning to that of
// the next.
func (fb *filterBuilder) day(t *binding.Test, name string, now schema.Value) []store.Predicate {
	compare := func(op store.Op, day Day, now schema.Value) store.Predicate {
		c := store.Predicate{Op: op, Path: t.Path, Kind: t.Kind, Value: len(*fb.args)}
		a := fb.value(t, c, now)
		a.Day = day
		*fb.args = append(*fb.args, a)
		return c
	}
	within := func(now schema.Value) store.Predicate {
		return one([]store.Predicate{compare(store.AtLeast, DayBegins, now), compare(store.Below, DayEnds, now)})
	}
	switch name {
	case "above":
		return []store.Predicate{compare(store.AtLeast, DayEnds, now)}
	case "atLeast":
		return []store.Predicate{compare(store.AtLeast, DayBegins, now)}
	case "below":
		return []store.Predicate{compare(store.Below, DayBegins, now)}
	case "atMost":
		return []store.Predicate{compare(store.Below, DayEnds, now)}
	case "is":
		return []store.Predicate{within(now)}
	case "isNot":
		return []store.Predicate{not(within(now))}
	}
	// in and notIn: each day is a condition, so the plan holds for these only.
	for _, name := range variablesIn(fb.arg.Literal) {
		fb.depends.byValue(name)
	}
	var any []store.Predicate
	days, _ := now.([]schema.Value)
	for i, day := range days {
		fb.within = append(fb.within, i)
		any = append(any, within(day))
		fb.within = fb.within[:len(fb.within)-1]
	}
	c := store.Predicate{Op: store.Any, Of: any}
	if name == "notIn" {
		c = not(c)
	}
	return []store.Predicate{c}
}

// value returns where the value under way comes from in each run: a constant,
// a variable, or a place in a variable's value.
func (fb *filterBuilder) value(t *binding.Test, c store.Predicate, now schema.Value) *Arg {
	a := &Arg{Name: fb.arg.Name, Pos: fb.arg.Pos, Column: c.Value, Path: t.Path, Kind: t.Kind, Many: c.Many, Enum: t.Enum, Strict: c.Op != store.Is}
	lit, within := fb.arg.Literal, fb.within
	typ := fb.arg.Type
	for len(within) > 0 {
		if _, ok := lit.(*language.Variable); ok {
			break
		}
		lit, typ = step(lit, typ, within[0])
		within = within[1:]
	}
	a.Literal, a.Type = lit, typ
	switch {
	case lit == nil: // a default of an input field
		a.Fixed, a.Value = true, now
		a.Literal = &language.EnumValue{Name: fmt.Sprint(now)}
	case !usesVariables(lit):
		a.Fixed, a.Value = true, now
	default:
		a.Within = slices.Clone(within)
	}
	return a
}

// step follows a path into a literal and its type.
func step(lit language.Value, typ schema.Type, at any) (language.Value, schema.Type) {
	switch at := at.(type) {
	case int:
		elem, _ := schema.ListElem(typ)
		if list, ok := lit.(*language.ListValue); ok {
			return list.Values[at], elem
		}
		return lit, elem // one value stands for a list of one
	case string:
		input := schema.NamedOf(typ).(*schema.InputObject).Field(at)
		if object, ok := lit.(*language.ObjectValue); ok {
			for _, f := range object.Fields {
				if f.Name.Text == at {
					return f.Value, input.Type
				}
			}
		}
		return nil, input.Type
	}
	return nil, typ
}

// follow returns the part of a value that a path leads to.
func follow(v schema.Value, path []any) schema.Value {
	for _, at := range path {
		switch at := at.(type) {
		case int:
			list, _ := v.([]schema.Value)
			if at >= len(list) {
				return nil
			}
			v = list[at]
		case string:
			fields, _ := v.(schema.InputFields)
			v, _ = fields.Get(at)
		}
	}
	return v
}

// predicateText writes a condition as explanations show it.
func predicateText(c *store.Predicate, args []*Arg) string {
	value := func() string {
		a := args[slices.IndexFunc(args, func(a *Arg) bool { return a.Column == c.Value })]
		text := language.PrintValue(a.Literal)
		for _, at := range a.Within {
			text += fmt.Sprintf(".%v", at)
		}
		if a.Day == DayEnds {
			text += " + 1 day"
		}
		return text
	}
	list := func(separator string) string {
		parts := make([]string, len(c.Of))
		for i := range c.Of {
			parts[i] = predicateText(&c.Of[i], args)
		}
		if len(parts) == 1 {
			return parts[0]
		}
		return "(" + strings.Join(parts, separator) + ")"
	}
	switch c.Op {
	case store.All:
		if len(c.Of) == 0 {
			return "anything"
		}
		return list(" and ")
	case store.Any:
		if len(c.Of) == 0 {
			return "nothing"
		}
		return list(" or ")
	case store.Not:
		return "not " + list("")
	case store.With:
		set := c.Path
		if c.Link != nil {
			set = c.Link.Set
		}
		if len(c.Of) == 0 {
			return "with " + set
		}
		return "with " + set + " where " + list(" and ")
	case store.Missing:
		return c.Path + " missing"
	case store.After:
		if c.Also {
			return "at or behind " + value()
		}
		return "behind " + value()
	}
	return c.Path + " " + opText[c.Op] + " " + value()
}

var opText = map[store.Op]string{
	store.Is: "=", store.Above: ">", store.AtLeast: ">=", store.Below: "<", store.AtMost: "<=",
	store.Contains: "contains", store.StartsWith: "starts with", store.EndsWith: "ends with",
}
