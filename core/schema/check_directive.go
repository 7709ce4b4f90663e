package schema

import (
	"fmt"

	"slices"
	"strings"

	"osprey/core/language"
)

// checkDirective applies the rules of section 3.13 to a definition.
func (b *builder) checkDirective(d *Directive) {
	b.reserved(d.Name, "@"+d.Name, d.Pos, "directive")
	for i, l := range d.Locations {
		if slices.Contains(d.Locations[:i], l) {
			twice := b.problems.Add(ruleDirective, d.Pos, msgNamesPlaceTwice, d.Name, l)
			twice.Severity, twice.Coordinate = language.Warning, "@"+d.Name // no rule forbids it
		}
	}
	for _, a := range d.Args {
		b.checkInputValue(a, "ARGUMENT_DEFINITION", "argument")
		if b.directiveNeeds(a, "@"+d.Name, map[string]bool{}) {
			b.problems.Add(ruleDirective, a.Pos, msgDirectiveCannotUsedOwn, d.Name).Coordinate = "@" + d.Name
		}
	}
}

// directiveNeeds reports whether the definition of an argument uses the
// directive target, directly or through types and other directives.
func (b *builder) directiveNeeds(in *Input, target string, seen map[string]bool) bool {
	through := func(uses []*language.Directive) bool {
		for _, u := range uses {
			name := "@" + u.Name.Text
			if name == target {
				return true
			}
			if d := b.schema.directives[u.Name.Text]; d != nil && !seen[name] {
				seen[name] = true
				for _, a := range d.Args {
					if b.directiveNeeds(a, target, seen) {
						return true
					}
				}
			}
		}
		return false
	}
	if through(in.Directives) {
		return true
	}
	named := NamedOf(in.Type)
	if named == nil || seen[named.String()] {
		return false
	}
	seen[named.String()] = true
	if through(named.About().Directives) {
		return true
	}
	switch t := named.(type) {
	case *InputObject:
		return slices.ContainsFunc(t.Fields, func(f *Input) bool { return b.directiveNeeds(f, target, seen) })
	case *Enum:
		return slices.ContainsFunc(t.Values, func(v *EnumValue) bool { return through(v.Directives) })
	}
	return false
}

// uses checks directives where they are used in the schema.
func (b *builder) uses(list []*language.Directive, location, coordinate string) {
	CheckDirectives(b.schema, list, location, func(rule string, pos language.Pos, msg string) {
		if coordinate != "" && !strings.Contains(msg, coordinate) {
			msg = coordinate + ": " + msg
		}
		b.problems.Add(rule, pos, "%s", msg).Coordinate = coordinate
	}, nil)
}

// CheckDirectives checks directives where they are used, in a schema or an
// operation: that they are defined, may stand there, are not repeated, and that
// their arguments fit (section 5.7). Variables are told to variable, which may
// be nil where none can be.
func CheckDirectives(s *Schema, list []*language.Directive, location string,
	report func(rule string, pos language.Pos, msg string), variable VariableUse) {
	var seen map[string]bool
	if len(list) > 1 {
		seen = map[string]bool{}
	}
	for _, use := range list {
		d := s.directives[use.Name.Text]
		if d == nil {
			var names []string
			for name := range s.directives {
				names = append(names, name)
			}
			report("Directives Are Defined", use.Pos, fmt.Sprintf(msgDirectiveNotDefined, use.Name.Text, language.DidYouMean(use.Name.Text, names)))
			continue
		}
		if !slices.Contains(d.Locations, location) {
			report("Directives Are in Valid Locations", use.Pos, fmt.Sprintf(msgCannotStandCan, d.Name, location, language.OneOf(d.Locations)))
		}
		if !d.Repeatable && seen[d.Name] {
			report("Directives Are Unique per Location", use.Pos, fmt.Sprintf(msgStandsTwiceNotRepeatable, d.Name))
		}
		if seen != nil {
			seen[d.Name] = true
		}
		CheckArguments("@"+d.Name, d.Args, use.Name.Pos, use.Arguments, report, variable)
	}
}

// CheckArguments checks the arguments given to a field or directive called
// what: section 5.4. Variables are told to variable.
func CheckArguments(what string, defs []*Input, pos language.Pos, given []*language.Argument,
	report func(rule string, pos language.Pos, msg string), variable VariableUse) {
	seen := make(map[string]bool, min(len(given), len(defs)))
	for _, a := range given {
		if seen[a.Name.Text] {
			report("Argument Uniqueness", a.Name.Pos, fmt.Sprintf(msgArgumentGivenTwice, a.Name.Text))
			continue
		}
		seen[a.Name.Text] = true
		def := inputNamed(defs, a.Name.Text)
		if def == nil {
			VisitVariables(a.Value, variable)
			report("Argument Names", a.Name.Pos, fmt.Sprintf(msgHasNoArgument, what, a.Name.Text, language.DidYouMean(a.Name.Text, InputNames(defs))))
			continue
		}
		if use, ok := a.Value.(*language.Variable); ok {
			if variable != nil {
				variable(use, def.Type, def.Default != nil)
			}
			continue
		}
		CheckLiteral(def.Type, a.Value, func(pos language.Pos, msg string) {
			report("Values of Correct Type", pos, fmt.Sprintf(msgArgumentDoesNotFit, a.Name.Text, what, msg))
		}, variable)
	}
	for _, def := range defs {
		if def.Required() && !seen[def.Name] {
			report("Required Arguments", pos, fmt.Sprintf(msgNeedsArgumentType, what, def.Name, def.Type.String()))
		}
	}
}
