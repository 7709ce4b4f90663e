package schema

import (
	"slices"
	"strings"

	"osprey/core/language"
)

// The rules that the checks report under: titles of section 3.
const (
	ruleNames      = "Reserved Names"
	ruleFields     = "Type Validation"
	ruleImplements = "Interface Implementation"
	ruleUnion      = "Union Type Validation"
	ruleEnum       = "Enum Type Validation"
	ruleInput      = "Input Object Type Validation"
	ruleInputTypes = "IsInputType"
	ruleOutput     = "IsOutputType"
	ruleDefault    = "Default Values"
	ruleDeprecated = "Deprecation"
	ruleDirective  = "Directive Definition Validation"
	ruleUse        = "Directive Use"
)

// check applies the rules that need the whole schema.
func (b *builder) check() {
	for _, d := range b.order[b.ownTypes:] {
		t := b.schema.types[d.Name.Text]
		b.reserved(t.About().Name, t.About().Name, t.About().Pos, "type")
		switch t := t.(type) {
		case *Scalar:
			b.uses(t.Directives, "SCALAR", t.Name)
		case *Object:
			b.uses(t.Directives, "OBJECT", t.Name)
			b.checkFields(t, t.Fields, len(d.Fields))
			b.checkInterfaces(t, t.Interfaces)
		case *Interface:
			b.uses(t.Directives, "INTERFACE", t.Name)
			b.checkFields(t, t.Fields, len(d.Fields))
			b.checkInterfaces(t, t.Interfaces)
		case *Union:
			b.uses(t.Directives, "UNION", t.Name)
			if len(t.Members) == 0 && len(d.Members) == 0 {
				b.problems.Add(ruleUnion, t.Pos, msgUnionHasNoTypes, t.Name).Coordinate = t.Name
			}
		case *Enum:
			b.checkEnum(t)
		case *InputObject:
			b.checkInput(t, len(d.Inputs))
		}
	}
	b.checkInputCircles()
	b.checkDefaultCircles()
	for _, d := range b.directives {
		if def := b.schema.directives[d.Name.Text]; d.Name.Pos >= b.firstOwnPos() && def.Pos == d.Name.Pos {
			b.checkDirective(def)
		}
	}
	b.uses(b.schema.Directives, "SCHEMA", "")
}

// firstOwnPos returns the place where the schema's own texts begin.
func (b *builder) firstOwnPos() language.Pos { return language.Pos(len(predeclared) + 2) }

// reserved tells of names that begin with "__": section 2.1.9, Reserved Names.
func (b *builder) reserved(name, coordinate string, pos language.Pos, what string) {
	if strings.HasPrefix(name, "__") {
		b.problems.Add(ruleNames, pos, msgCannotBeginTwoUnderscores, what, coordinate).Coordinate = coordinate
	}
}

// checkFields applies the rules of sections 3.6 and 3.7 to the fields of an
// object or interface type; written is how many fields its definition has.
func (b *builder) checkFields(t Named, fields []*Field, written int) {
	if len(fields) == 0 && written == 0 {
		p := b.problems.Add(ruleFields, t.About().Pos, msgHasNoFields, t)
		p.Coordinate = t.String()
		p.Fix = "give it at least one field in braces"
	}
	for _, f := range fields {
		b.reserved(f.Name, f.Coordinate(), f.Pos, "field")
		if !IsOutput(f.Type) {
			b.problems.Add(ruleOutput, f.Pos, msgFieldCannotHaveType, f.Coordinate(), f.Type).Coordinate = f.Coordinate()
		}
		for _, a := range f.Args {
			b.checkInputValue(a, "ARGUMENT_DEFINITION", "argument")
		}
		b.uses(f.Directives, "FIELD_DEFINITION", f.Coordinate())
	}
}

// checkEnum applies the rules of section 3.9.
func (b *builder) checkEnum(t *Enum) {
	b.uses(t.Directives, "ENUM", t.Name)
	if len(t.Values) == 0 {
		b.problems.Add(ruleEnum, t.Pos, msgEnumHasNoValues, t.Name).Coordinate = t.Name
	}
	for _, v := range t.Values {
		b.reserved(v.Name, t.Name+"."+v.Name, v.Pos, "enum value")
		b.uses(v.Directives, "ENUM_VALUE", t.Name+"."+v.Name)
	}
}

// checkInput applies the rules of section 3.10.
func (b *builder) checkInput(t *InputObject, written int) {
	b.uses(t.Directives, "INPUT_OBJECT", t.Name)
	if len(t.Fields) == 0 && written == 0 {
		b.problems.Add(ruleInput, t.Pos, msgInputObjectHasNo, t.Name).Coordinate = t.Name
	}
	for _, f := range t.Fields {
		b.checkInputValue(f, "INPUT_FIELD_DEFINITION", "input field")
		if t.OneOf && IsNonNull(f.Type) {
			b.problems.Add(ruleInput, f.Pos, msgFieldOneInputObject, f.Name, t.Name).Coordinate = f.Coordinate
		}
		if t.OneOf && f.Default != nil {
			b.problems.Add(ruleInput, f.Pos, msgFieldOneInputObject2, f.Name, t.Name).Coordinate = f.Coordinate
		}
	}
}

// checkInputValue applies the rules for an argument or input field.
func (b *builder) checkInputValue(in *Input, location, what string) {
	b.reserved(in.Name, in.Coordinate, in.Pos, what)
	b.uses(in.Directives, location, in.Coordinate)
	if !IsInput(in.Type) {
		b.problems.Add(ruleInputTypes, in.Pos, msgCannotHaveTypeOnly, what, in.Coordinate, in.Type).Coordinate = in.Coordinate
		return
	}
	if in.Deprecated != nil && in.Required() {
		b.problems.Add(ruleDeprecated, in.Pos, msgRequiredCannotDeprecatedMake, what, in.Coordinate).Coordinate = in.Coordinate
	}
	if in.Default != nil {
		CheckLiteral(in.Type, in.Default, func(pos language.Pos, msg string) {
			b.problems.Add(ruleDefault, pos, msgDefaultDoesNotFit, in.Coordinate, msg).Coordinate = in.Coordinate
		}, nil)
	}
}

// checkInputCircles tells of input objects that can never be given, since they
// require themselves: section 3.10, Circular References.
func (b *builder) checkInputCircles() {
	const (
		unseen = iota
		open
		done
	)
	state := map[*InputObject]int{}
	var path []*Input
	var visit func(t *InputObject)
	visit = func(t *InputObject) {
		state[t] = open
		for _, f := range t.Fields {
			n, ok := f.Type.(*NonNull)
			if !ok {
				continue
			}
			next, ok := n.Elem.(*InputObject)
			if !ok {
				continue
			}
			path = append(path, f)
			switch state[next] {
			case unseen:
				visit(next)
			case open:
				var steps []string
				for i := len(path) - 1; i >= 0; i-- {
					steps = append([]string{path[i].Coordinate}, steps...)
					if strings.HasPrefix(path[i].Coordinate, next.Name+".") {
						break
					}
				}
				b.problems.Add(ruleInput, f.Pos, msgInputObjectRequiresItself, next.Name, strings.Join(steps, " → ")).Coordinate = f.Coordinate
			}
			path = path[:len(path)-1]
		}
		state[t] = done
	}
	for _, d := range b.order {
		if t, ok := b.schema.types[d.Name.Text].(*InputObject); ok && state[t] == unseen {
			visit(t)
		}
	}
}

// checkDefaultCircles tells of input fields whose default needs itself: a value
// of the type that leaves the field out would never end
// (InputObjectDefaultValueHasCycle of section 3.10).
func (b *builder) checkDefaultCircles() {
	const (
		open = iota + 1
		done
	)
	state := map[*Input]int{}
	var path []string
	var ofField func(f *Input)
	// ofValue follows the defaults that a value of the type t takes in.
	var ofValue func(t Type, v language.Value)
	ofField = func(f *Input) {
		switch state[f] {
		case open:
			first := slices.Index(path, f.Coordinate)
			circle := strings.Join(append(slices.Clone(path[first:]), f.Coordinate), " → ")
			b.problems.Add(ruleInput, f.Pos, msgDefaultNeedsItselfNever, f.Coordinate, circle).Coordinate = f.Coordinate
			return
		case done:
			return
		}
		state[f] = open
		path = append(path, f.Coordinate)
		if f.Default != nil {
			ofValue(f.Type, f.Default)
		}
		path = path[:len(path)-1]
		state[f] = done
	}
	ofValue = func(t Type, v language.Value) {
		t = Nullable(t)
		if l, ok := t.(*List); ok {
			if list, ok := v.(*language.ListValue); ok {
				for _, item := range list.Values {
					ofValue(l.Elem, item)
				}
			} else {
				ofValue(l.Elem, v)
			}
			return
		}
		object, isObject := v.(*language.ObjectValue)
		in, ok := t.(*InputObject)
		if !ok || !isObject {
			return
		}
		for _, f := range in.Fields {
			i := slices.IndexFunc(object.Fields, func(a *language.Argument) bool { return a.Name.Text == f.Name })
			if i >= 0 {
				ofValue(f.Type, object.Fields[i].Value)
			} else {
				ofField(f)
			}
		}
	}
	for _, d := range b.order {
		if t, ok := b.schema.types[d.Name.Text].(*InputObject); ok {
			for _, f := range t.Fields {
				ofField(f)
			}
		}
	}
}
