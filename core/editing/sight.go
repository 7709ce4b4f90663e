package editing

import (
	"slices"
	"strings"

	"osprey/core/language"
)

// A sight is what is seen of a schema file from a place in it: the definition, the field and
// the directive that the place is in, and what can stand there. The text before the place is
// read token by token; what is behind it is not looked at.
type sight struct {
	text   string
	tokens []language.Token
	next   int

	want want
	// The definition around, and the word that begins it.
	keyword string
	extends bool
	name    string
	// The member around: a field, an input field or a value of an enum.
	member   string
	of       string // its type
	argument string // the argument of the member
	implied  []string
	// The directive around, its arguments that have a text, by path, and those that are
	// written already.
	location  string
	directive string
	path      []string
	texts     map[string]string
	written   []string
}

// A want is what can stand at a place.
type want uint8

const (
	wantNothing want = iota
	wantDefinition
	wantExtended   // a keyword, behind "extend"
	wantName       // the name of a type that is extended
	wantNewName    // a name that is made
	wantInterface  // the name of an interface
	wantAfterName  // implements, directives or braces
	wantMember     // a field, a value or an input field
	wantOutput     // the type of a field
	wantInput      // the type of an argument or input field
	wantMemberType // the name of a type of a union
	wantDirective  // the name of a directive
	wantOption     // an argument of a directive
	wantText       // the value of one
	wantLocation
)

// see looks at a schema file from a place.
func see(text string) *sight {
	v := &sight{text: text, tokens: language.Tokens(text)}
	for !v.end() {
		v.definition()
	}
	if v.want == wantNothing && v.next == len(v.tokens) && v.keyword == "" {
		v.want = wantDefinition
	}
	return v
}

func (v *sight) end() bool { return v.next >= len(v.tokens) }

func (v *sight) kind() language.Kind {
	if v.end() {
		return language.EOF
	}
	return v.tokens[v.next].Kind
}

func (v *sight) word() string {
	if v.end() {
		return ""
	}
	return v.text[v.tokens[v.next].Start:v.tokens[v.next].End]
}

// got passes a token of a kind.
func (v *sight) got(kind language.Kind) bool {
	if v.kind() != kind {
		return false
	}
	v.next++
	return true
}

// at says what can stand at the place, if this is it.
func (v *sight) at(w want) bool {
	if v.end() {
		v.want = w
		return true
	}
	return false
}

// definition passes a definition, and forgets it if the place is behind it.
func (v *sight) definition() {
	v.keyword, v.extends, v.name, v.implied = "", false, "", nil
	for v.kind() == language.StringToken || v.kind() == language.BlockToken {
		v.next++
	}
	if v.at(wantDefinition) {
		return
	}
	v.keyword = v.word()
	v.next++
	if v.keyword == "extend" {
		if v.at(wantExtended) {
			return
		}
		v.extends, v.keyword = true, v.word()
		v.next++
	}
	switch v.keyword {
	case "type", "interface", "union", "enum", "input", "scalar":
		v.typeDefinition()
	case "directive":
		v.directiveDefinition()
	case "schema":
		v.directives("SCHEMA")
		if v.got(language.BraceL) {
			for !v.end() && !v.got(language.BraceR) {
				if v.got(language.Colon) {
					if v.at(wantMemberType) {
						return
					}
					continue
				}
				v.next++
			}
		}
		v.done()
	default:
		v.keyword = ""
	}
}

// done forgets a definition whose end was passed.
func (v *sight) done() {
	if v.want == wantNothing {
		v.keyword = ""
	}
}

// locations has where a directive of a definition of a kind stands.
var locations = map[string]string{"type": "OBJECT", "interface": "INTERFACE", "union": "UNION", "enum": "ENUM", "input": "INPUT_OBJECT", "scalar": "SCALAR"}

func (v *sight) typeDefinition() {
	if v.at(wantNewName) {
		if v.extends {
			v.want = wantName
		}
		return
	}
	v.name = v.word()
	v.next++
	if v.at(wantAfterName) {
		return
	}
	if v.word() == "implements" && (v.keyword == "type" || v.keyword == "interface") {
		v.next++
		if v.list(language.Amp, wantInterface) {
			return
		}
	}
	if v.directives(locations[v.keyword]) {
		return
	}
	switch {
	case v.keyword == "union" && v.got(language.Equals):
		if !v.list(language.Pipe, wantMemberType) {
			v.done()
		}
	case v.got(language.BraceL):
		v.members()
	case v.at(wantAfterName):
	default:
		v.done()
	}
}

// list passes names of types with a sign between them; true if the place is there.
func (v *sight) list(sign language.Kind, w want) bool {
	for {
		v.got(sign)
		if v.at(w) {
			return true
		}
		v.implied = append(v.implied, v.word())
		v.next++
		if v.at(wantAfterName) {
			return true
		}
		if v.kind() != sign {
			return false
		}
	}
}

// members passes the fields or values of a definition.
func (v *sight) members() {
	for {
		v.member, v.of, v.argument = "", "", ""
		for v.kind() == language.StringToken || v.kind() == language.BlockToken {
			v.next++
		}
		if v.at(wantMember) {
			return
		}
		if v.got(language.BraceR) || v.begins() {
			v.done()
			return
		}
		if v.kind() != language.NameToken {
			v.next++
			continue
		}
		v.member = v.word()
		v.next++
		if v.got(language.ParenL) && v.arguments() {
			return
		}
		if v.got(language.Colon) {
			typ := wantOutput
			if v.keyword == "input" {
				typ = wantInput
			}
			if v.typeRef(typ) {
				return
			}
			if v.got(language.Equals) {
				v.value()
			}
		}
		location := map[string]string{"enum": "ENUM_VALUE", "input": "INPUT_FIELD_DEFINITION"}[v.keyword]
		if location == "" {
			location = "FIELD_DEFINITION"
		}
		if v.directives(location) {
			return
		}
	}
}

// begins reports whether a definition begins at a line: the one before lacks its brace.
func (v *sight) begins() bool {
	start := v.tokens[v.next].Start
	_, isType := locations[v.word()]
	return (isType || v.word() == "extend" || v.word() == "directive") && (start == 0 || v.text[start-1] == '\n')
}

// arguments passes what is in the parentheses of a field; true if the place is there.
func (v *sight) arguments() bool {
	for {
		v.argument = ""
		for v.kind() == language.StringToken || v.kind() == language.BlockToken {
			v.next++
		}
		if v.at(wantNewName) {
			return true
		}
		if v.got(language.ParenR) {
			return false
		}
		if v.kind() != language.NameToken {
			v.next++
			continue
		}
		v.argument = v.word()
		v.next++
		if v.got(language.Colon) {
			of := v.of
			if v.typeRef(wantInput) {
				return true
			}
			v.of = of
			if v.got(language.Equals) {
				v.value()
			}
		}
		if v.directives("ARGUMENT_DEFINITION") {
			return true
		}
	}
}

// typeRef passes a type; true if the place is there.
func (v *sight) typeRef(w want) bool {
	for v.got(language.BracketL) {
	}
	if v.at(w) {
		return true
	}
	if v.kind() != language.NameToken {
		return false
	}
	v.of = v.word()
	v.next++
	for v.got(language.Bang) || v.got(language.BracketR) {
	}
	return false
}

// value passes a value.
func (v *sight) value() {
	open := 0
	for !v.end() {
		switch v.kind() {
		case language.BracketL, language.BraceL:
			open++
		case language.BracketR, language.BraceR:
			if open == 0 {
				return
			}
			open--
		}
		v.next++
		if open == 0 {
			return
		}
	}
}

// directives passes directives; true if the place is in one of them, or behind its "@".
func (v *sight) directives(location string) bool {
	for v.kind() == language.At {
		v.next++
		v.location, v.directive, v.written, v.texts = location, "", nil, map[string]string{}
		if v.at(wantDirective) {
			return true
		}
		v.directive = v.word()
		v.next++
		if v.got(language.ParenL) && v.options(nil, language.ParenR) {
			return true
		}
	}
	return false
}

// options passes the arguments of a directive, or the fields of an object in one.
func (v *sight) options(path []string, closing language.Kind) bool {
	for {
		if v.at(wantOption) {
			v.path = path
			return true
		}
		if v.got(closing) {
			return false
		}
		if v.kind() != language.NameToken {
			v.next++
			continue
		}
		inner := append(slices.Clone(path), v.word())
		if len(path) == 0 {
			v.written = append(v.written, v.word())
		}
		v.next++
		if v.got(language.Colon) && v.option(inner) {
			return true
		}
	}
}

// option passes the value of an argument of a directive.
func (v *sight) option(path []string) bool {
	switch {
	case v.at(wantText):
		v.path = path
		return true
	case v.got(language.BracketL):
		for !v.got(language.BracketR) {
			if v.option(path) {
				return true
			}
		}
	case v.got(language.BraceL):
		return v.options(path, language.BraceR)
	case v.kind() == language.StringToken:
		v.texts[strings.Join(path, ".")] = strings.Trim(v.word(), `"`)
		v.next++
	default:
		v.next++
	}
	return false
}

func (v *sight) directiveDefinition() {
	v.got(language.At)
	if v.at(wantNewName) {
		return
	}
	v.next++
	if v.got(language.ParenL) && v.arguments() {
		return
	}
	for !v.end() && v.word() != "on" {
		if !slices.Contains([]string{"repeatable"}, v.word()) {
			return
		}
		v.next++
	}
	v.next++
	for {
		v.got(language.Pipe)
		if v.at(wantLocation) {
			return
		}
		v.next++
		if v.kind() != language.Pipe {
			break
		}
	}
	v.done()
}
