package expression

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"

	"osprey/core/language"
)

// This file says what is wrong with an expression in words of its author: those of the
// library speak of its own grammar and of overloads.

// A Mistake is why an expression cannot be used.
type Mistake struct {
	Msg string
	Fix string // or ""
}

// Error returns the message and the fix.
func (m *Mistake) Error() string {
	if m.Fix == "" {
		return m.Msg
	}
	return m.Msg + " → " + m.Fix
}

func mistake(fix, format string, args ...any) *Mistake {
	return &Mistake{fmt.Sprintf(format, args...), fix}
}

var (
	early      = regexp.MustCompile(`input '<EOF>'`)
	misplaced  = regexp.MustCompile(`(?:mismatched|extraneous) input '(.*?)' expecting`)
	unknown    = regexp.MustCompile(`token recognition error at: '(.*)'`)
	undeclared = regexp.MustCompile(`undeclared reference to '([^']*)'`)
	undefined  = regexp.MustCompile(`undefined field '([^']*)'`)
	overload   = regexp.MustCompile(`no matching overload for '([^']*)' applied to '([^']*)'`)
	noRange    = regexp.MustCompile(`expression of type '([^']*)' cannot be range`)
	noFields   = regexp.MustCompile(`type '([^']*)' does not support field selection`)
	another    = regexp.MustCompile(`expected type '?([^']*?)'? but found '?([^']*?)'?$`)
)

// mistakes returns what is wrong with an expression, each with its place; the fix is that
// of the first.
func (p *provider) mistakes(issues *cel.Issues, inputs map[string]*Type) *Mistake {
	all := &Mistake{}
	var list []string
	for _, e := range issues.Errors() {
		m := p.inWords(e.Message, inputs)
		if all.Fix == "" {
			all.Fix = m.Fix
		}
		list = append(list, fmt.Sprintf("%s (at character %d)", m.Msg, e.Location.Column()+1))
	}
	all.Msg = strings.Join(list, "; ")
	return all
}

// misfit is the mistake of an expression that gives another type than its field has.
func misfit(gives string, want *Type) *Mistake {
	fix := "make the field of the type that the expression gives"
	switch {
	case want.Kind == Text && strings.HasPrefix(gives, "double"), want.Kind == Text && strings.HasPrefix(gives, "bool"):
		fix = "write string(…) around it"
	case want.Kind == Int && strings.HasPrefix(gives, "double"):
		fix = "write int(…) around it"
	case !want.Nullable && strings.HasSuffix(gives, "null"):
		fix = "make the field nullable"
	}
	return mistake(fix, "it gives %s, and %s is wanted", gives, want)
}

// inWords returns what a message of the library says, without the place.
func (p *provider) inWords(msg string, inputs map[string]*Type) *Mistake {
	msg = plain.Replace(msg)
	switch {
	case strings.HasPrefix(msg, "Syntax error"):
		return syntax(msg)
	case undeclared.MatchString(msg):
		name := undeclared.FindStringSubmatch(msg)[1]
		known := names(inputs)
		return mistake("an expression has "+strings.Join(known, " and ")+", and the functions of CEL", "there is no %s%s", name, language.DidYouMean(name, known))
	case undefined.MatchString(msg):
		name := undefined.FindStringSubmatch(msg)[1]
		var known []string
		if of := p.missed[name]; of != nil && of.Fields != nil {
			known = of.Fields()
		}
		return mistake("an expression sees the fields of a type that need no arguments", "there is no field %s%s", name, language.DidYouMean(name, known))
	case overload.MatchString(msg):
		m := overload.FindStringSubmatch(msg)
		return applied(m[1], strings.Trim(m[2], "()"))
	case noRange.MatchString(msg):
		return mistake("", "%s is no list to go through", noRange.FindStringSubmatch(msg)[1])
	case noFields.MatchString(msg):
		return mistake("", "%s has no fields", noFields.FindStringSubmatch(msg)[1])
	case another.MatchString(msg):
		m := another.FindStringSubmatch(msg)
		return mistake("", "%s is wanted, and %s is there", m[1], m[2])
	}
	return mistake("", "it is not what CEL allows")
}

func syntax(msg string) *Mistake {
	switch {
	case early.MatchString(msg):
		return mistake("write what is missing at its end", "it ends too early")
	case misplaced.MatchString(msg):
		return mistake("", "%s cannot stand there", misplaced.FindStringSubmatch(msg)[1])
	case unknown.MatchString(msg):
		return mistake("texts stand in single quotes", "%s has no meaning there", unknown.FindStringSubmatch(msg)[1])
	}
	return mistake("", "it is no expression from there on")
}

// applied tells of a function or operator that is not for the types it is given.
func applied(name, types string) *Mistake {
	fix := ""
	switch {
	case strings.Contains(types, "double") && strings.Contains(types, "int") && !strings.Contains(types, "or null"):
		fix = "int and double do not mix: write 2.0 for 2, or double(…)"
	case strings.Contains(types, "string") && strings.Contains(types, "int"), strings.Contains(types, "string") && strings.Contains(types, "double"):
		fix = "write string(…) around the number"
	}
	op := strings.Trim(name, "_@")
	if bracketed, ok := strings.CutPrefix(name, "_["); ok {
		op = "[" + bracketed
	}
	if op == "?_:" {
		op = "? :"
	}
	return mistake(fix, "%s is not for (%s)", op, types)
}

func names(inputs map[string]*Type) []string {
	return slices.Sorted(maps.Keys(inputs))
}

// failures are what can go wrong when an expression is evaluated, by the library's
// words.
var failures = []struct{ part, msg string }{
	{"division by zero", "it divides by zero"}, {"divide by zero", "it divides by zero"}, {"modulus by zero", "it divides by zero"},
	{"no such key", "a key is not there"},
	{"overflow", "a number becomes too large"},
	{"out of range", "a number becomes too large"},
	{"cost limit", "it takes too many steps"},
	{"conversion", "a value cannot be converted"}, {"invalid", "a value cannot be converted"}, {"strconv", "a value cannot be converted"}, {"parsing time", "a value cannot be converted"},
	{"no such overload", "a function is given what it is not for"},
}

var beyond = regexp.MustCompile(`index out of bounds: (-?\d+)`)

// failed returns why an evaluation failed.
func failed(err error) error {
	text := strings.ToLower(err.Error())
	if m := beyond.FindStringSubmatch(text); m != nil {
		return mistake("", "the index %s is beyond its list", m[1])
	}
	for _, f := range failures {
		if strings.Contains(text, f.part) {
			return mistake("", "%s", f.msg)
		}
	}
	return mistake("", "it cannot be evaluated for these values")
}
