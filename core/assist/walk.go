package assist

import (
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/validate"
)

// A walk follows a text token by token and knows at each place what can come
// next.
type walk struct {
	schema *schema.Schema
	text   string

	fragments map[string]fragment // of the whole text
	variables map[string]variable // of the whole text

	stack []frame
	state state
	// What the last tokens named:
	on        schema.Composite // the type of a selection set that may begin
	location  string           // where a directive would stand
	directive *schema.Directive
	kind      language.OperationKind
}

type fragment struct {
	on  string
	pos int
}

type variable struct {
	typ string
	pos int
}

// A state is what a walk expects inside its innermost frame.
type state uint8

const (
	start         state = iota // a definition; in a selection set a field
	named                      // the operation or fragment has its keyword
	afterName                  // behind a name
	afterAlias                 // behind "name:", a field
	spread                     // behind "..."
	condition                  // behind "on", a type
	directiveName              // behind "@"
	value                      // behind ":", a value
	variableName               // behind "$"
	variableType               // behind "$name:", a type
)

// A frame is an open bracket.
type frame struct {
	close language.Kind
	on    schema.Composite // of a selection set
	args  []*schema.Input  // of arguments or an input object
	given map[string]bool  // the arguments written already
	typ   schema.Type      // of a list: its items; of arguments: of the value expected
	// What the frame around goes on with.
	back     schema.Composite
	location string
	vars     bool // variable definitions
}

func newWalk(s *schema.Schema, text string) *walk {
	w := &walk{schema: s, text: text, fragments: map[string]fragment{}, variables: map[string]variable{}, location: "QUERY", kind: language.Query}
	w.on = rootOf(s, language.Query)
	tokens := language.Tokens(text)
	word := func(i int) string {
		if i < len(tokens) {
			return text[tokens[i].Start:tokens[i].End]
		}
		return ""
	}
	for i, t := range tokens {
		switch {
		case word(i) == "fragment" && word(i+2) == "on":
			w.fragments[word(i+1)] = fragment{word(i + 3), tokens[i+1].Start}
		case t.Kind == language.Dollar && word(i+2) == ":":
			typ := ""
			for j := i + 3; j < len(tokens); j++ {
				k := tokens[j].Kind
				if k != language.NameToken && k != language.BracketL && k != language.BracketR && k != language.Bang ||
					k == language.NameToken && typ != "" && !strings.HasSuffix(typ, "[") {
					break
				}
				typ += word(j)
			}
			w.variables[word(i+1)] = variable{typ, t.Start}
		}
	}
	return w
}

func rootOf(s *schema.Schema, kind language.OperationKind) schema.Composite {
	if o := s.Root(kind); o != nil {
		return o
	}
	return nil
}

func (w *walk) top() *frame {
	if len(w.stack) == 0 {
		return nil
	}
	return &w.stack[len(w.stack)-1]
}

func (w *walk) push(f frame) {
	f.back, f.location = w.on, w.location
	f.given = map[string]bool{}
	w.stack = append(w.stack, f)
	w.state, w.directive = start, nil
}

func (w *walk) pop(kind language.Kind) {
	f := w.top()
	if f == nil || f.close != kind {
		return
	}
	w.on, w.location = f.back, f.location
	w.stack = w.stack[:len(w.stack)-1]
	w.state = afterName
	if len(w.stack) == 0 && kind == language.BraceR {
		w.state, w.on, w.location, w.kind = start, rootOf(w.schema, language.Query), "QUERY", language.Query
	}
}

// token takes the next token and returns what it means, or nil.
func (w *walk) token(t language.Token) *Meaning {
	switch t.Kind {
	case language.NameToken:
		return w.name(w.text[t.Start:t.End])
	case language.BraceL:
		w.openBrace()
	case language.ParenL:
		w.openParen()
	case language.BracketL:
		if f := w.top(); f != nil && w.state == value {
			elem, _ := schema.ListElem(f.typ)
			w.push(frame{close: language.BracketR, typ: elem})
			w.state = value
		}
	case language.BraceR, language.ParenR, language.BracketR:
		w.pop(t.Kind)
	case language.Colon:
		w.colon()
	case language.Equals:
		w.state = value
	case language.Spread:
		w.state = spread
	case language.At:
		w.state = directiveName
	case language.Dollar:
		w.state = variableName
	default:
		w.valueEnds()
	}
	return nil
}

// valueEnds goes on behind a value: in a list with the next one.
func (w *walk) valueEnds() {
	if f := w.top(); f != nil && w.state == value {
		w.state = afterName
		if f.close == language.BracketR {
			w.state = value
		}
	}
}

func (w *walk) openBrace() {
	f := w.top()
	if w.state == value && f != nil {
		object, _ := schema.NamedOf(f.typ).(*schema.InputObject)
		next := frame{close: language.BraceR}
		if object != nil {
			next.args = object.Fields
		}
		w.push(next)
		return
	}
	w.push(frame{close: language.BraceR, on: w.on})
	w.location = "FIELD"
}

func (w *walk) openParen() {
	f := w.top()
	switch {
	case w.directive != nil:
		w.push(frame{close: language.ParenR, args: w.directive.Args})
	case f == nil:
		w.push(frame{close: language.ParenR, vars: true})
		w.location = "VARIABLE_DEFINITION"
	case f.on != nil:
		w.push(frame{close: language.ParenR, args: f.args}) // those of the field named last
	default:
		w.push(frame{close: language.ParenR})
	}
}

func (w *walk) colon() {
	f := w.top()
	switch {
	case f == nil:
	case f.vars:
		w.state = variableType
	case f.on != nil:
		w.state = afterAlias
	default:
		w.state = value
	}
}

// name takes a name and returns what it means there.
func (w *walk) name(word string) *Meaning {
	f := w.top()
	switch w.state {
	case directiveName:
		w.directive = w.schema.Directive(word)
		w.state = afterName
		if w.directive == nil {
			return nil
		}
		return &Meaning{Title: "@" + word, Text: w.directive.Description, Coordinate: "@" + word, Defined: -1}
	case variableName:
		w.state = afterName
		if f != nil && f.close == language.BracketR {
			w.state = value
		}
		if v, ok := w.variables[word]; ok {
			return &Meaning{Title: "$" + word + ": " + v.typ, Defined: v.pos}
		}
		return nil
	case variableType:
		w.state = afterName
		return w.typeMeaning(word)
	case condition:
		w.state = afterName
		w.on, _ = w.schema.Type(word).(schema.Composite)
		return w.typeMeaning(word)
	case spread:
		if word == "on" {
			w.state, w.location = condition, "INLINE_FRAGMENT"
			return nil
		}
		w.state, w.location = start, "FRAGMENT_SPREAD"
		if d, ok := w.fragments[word]; ok {
			return &Meaning{Title: "fragment " + word + " on " + d.on, Defined: d.pos}
		}
		return nil
	case value:
		return w.valueName(f, word)
	}
	if f == nil {
		w.keyword(word)
		return nil
	}
	if f.on != nil {
		return w.field(f, word)
	}
	for _, in := range f.args {
		if in.Name == word {
			f.given[word] = true
			f.typ = in.Type
			w.state = afterName
			return &Meaning{Title: in.Coordinate + ": " + in.Type.String(), Text: in.Description, Coordinate: in.Coordinate, Defined: -1}
		}
	}
	f.typ = nil
	w.state = afterName
	return nil
}

// keyword takes a name outside of all brackets.
func (w *walk) keyword(word string) {
	switch kind := language.OperationKind(word); {
	case w.state == start && (kind == language.Query || kind == language.Mutation || kind == language.Subscription):
		w.kind, w.on, w.location, w.state = kind, rootOf(w.schema, kind), strings.ToUpper(word), named
	case w.state == start && word == "fragment":
		w.on, w.location, w.state = nil, "FRAGMENT_DEFINITION", named
	case word == "on" && w.location == "FRAGMENT_DEFINITION":
		w.state = condition
	default:
		w.state = afterName
	}
}

func (w *walk) valueName(f *frame, word string) *Meaning {
	var m *Meaning
	if f != nil {
		if e, ok := schema.NamedOf(f.typ).(*schema.Enum); ok && f.typ != nil {
			if v := e.Value(word); v != nil {
				m = &Meaning{Title: e.Name + "." + word, Text: v.Description, Coordinate: e.Name + "." + word, Defined: -1}
			}
		}
	}
	w.valueEnds()
	return m
}

// field takes the name of a field, or of its alias, in a selection set.
func (w *walk) field(f *frame, word string) *Meaning {
	w.state, w.location, w.directive = start, "FIELD", nil
	w.on, f.args = nil, nil
	def := validate.FieldOf(w.schema, f.on, word)
	if def == nil {
		return nil
	}
	f.args = def.Args
	w.on, _ = schema.NamedOf(def.Type).(schema.Composite)
	return &Meaning{Title: def.Coordinate() + ": " + def.Type.String(), Text: def.Description, Coordinate: def.Coordinate(), Defined: -1}
}

func (w *walk) typeMeaning(word string) *Meaning {
	t := w.schema.Type(word)
	if t == nil {
		return nil
	}
	return &Meaning{Title: word + ", " + schema.KindOf(t), Text: t.About().Description, Coordinate: word, Defined: -1}
}
