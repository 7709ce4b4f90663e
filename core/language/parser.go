package language

import (
	"fmt"
	"slices"
	"strings"
)

// maxNesting is how deep selection sets, values and types may nest. A document
// people write has fewer than twenty levels; the bound keeps the stack small
// for one that is made to hurt.
const maxNesting = 400

// ruleSyntax is the rule of every problem of this package.
const ruleSyntax = "syntax"

// Parse reads a document of any kind. It reports all faults it finds, in the
// order of the text; the tree then holds what could be read. A document
// without problems has a complete tree.
func Parse(src *Source) (*Document, Problems) {
	p := &parser{src: src}
	p.lex = lexer{text: src.Text, fail: p.lexicalFault}
	p.next()
	doc := p.document()
	doc.Comments = p.comments
	p.problems.Sort()
	if p.more {
		p.problems.More()
	}
	return doc, p.problems
}

// A parser reads tokens one ahead. After a fault it is lost: every method
// returns at once, without consuming or reporting, until a loop over
// definitions, selections or members finds a place to go on (resync).
type parser struct {
	src      *Source
	lex      lexer
	tok      token
	lastEnd  int32 // where the token before tok ended
	lost     bool
	constant bool // variables cannot stand here: Value[Const] of the grammar
	depth    int
	comments []Comment
	problems Problems
	more     bool // there are more than MaxProblems
}

func (p *parser) next() {
	p.lastEnd = p.tok.end
	for {
		p.tok = p.lex.next()
		if p.tok.kind != CommentToken {
			return
		}
		p.comments = append(p.comments, Comment{p.pos(), strings.TrimRight(p.text(), " \t"), p.lastEnd == 0 || p.newLine()})
	}
}

func (p *parser) lexicalFault(offset int, format string, args ...any) {
	p.tell(p.src.Pos(offset), format, args)
}

func (p *parser) tell(pos Pos, format string, args []any) {
	if len(p.problems) == MaxProblems {
		p.more = true
		return
	}
	p.problems.Add(ruleSyntax, pos, format, args...)
}

// fail reports a fault at the current token and loses the way. A token that
// is itself a fault has been told already.
func (p *parser) fail(format string, args ...any) {
	if p.lost {
		return
	}
	p.lost = true
	if n := len(p.problems); n > 0 && (p.problems[n-1].Pos == p.pos() || p.tok.kind == EOF) {
		return // what is missing at the end may well be missing for a fault before
	}
	if p.tok.kind != Invalid {
		p.tell(p.pos(), format, args)
	}
}

// found describes the current token for a message.
func (p *parser) found() string {
	switch p.tok.kind {
	case NameToken, IntToken, FloatToken:
		return fmt.Sprintf("%q", p.text())
	case StringToken, BlockToken:
		return "the string " + firstOf(p.text()[1:], 20)
	}
	return p.tok.kind.String()
}

func (p *parser) pos() Pos     { return p.src.Pos(int(p.tok.start)) }
func (p *parser) text() string { return p.src.Text[p.tok.start:p.tok.end] }
func (p *parser) at(kind Kind) bool {
	return !p.lost && p.tok.kind == kind
}
func (p *parser) atWord(word string) bool {
	return p.at(NameToken) && p.text() == word
}

// got consumes the current token if it is of the kind.
func (p *parser) got(kind Kind) bool {
	if !p.at(kind) {
		return false
	}
	p.next()
	return true
}

func (p *parser) gotWord(word string) bool {
	if !p.atWord(word) {
		return false
	}
	p.next()
	return true
}

// want consumes a token of the kind, or reports that it is missing where.
func (p *parser) want(kind Kind, where string) Pos {
	pos := p.pos()
	if !p.got(kind) {
		p.fail(msgExpectedFound, kind, where, p.found())
	}
	return pos
}

// name consumes a name; what says whose.
func (p *parser) name(what string) Name {
	if !p.at(NameToken) {
		p.fail(msgExpectedFound2, what, p.found())
		return Name{Pos: p.pos()}
	}
	n := Name{p.pos(), p.text()}
	p.next()
	return n
}

// deeper enters one level of nesting; the caller leaves it with p.depth--.
func (p *parser) deeper() {
	p.depth++
	if p.depth > maxNesting {
		p.fail(msgNestedMoreThanLevels, maxNesting)
	}
}

// resync passes tokens until one at this level of braces where stop says that
// reading can go on, or until a closing brace, the end, or a definition at the
// start of a line. It does nothing unless the parser is lost.
func (p *parser) resync(stop func() bool) {
	if !p.lost {
		return
	}
	p.lost = false
	for open := 0; p.tok.kind != EOF; p.next() {
		if p.atLineStart() && p.startsDefinition() {
			return
		}
		switch p.tok.kind {
		case BraceL, ParenL, BracketL:
			open++
			continue
		case BraceR:
			if open == 0 {
				return
			}
			open--
			continue
		case ParenR, BracketR:
			open = max(open-1, 0)
			continue
		}
		if open == 0 && stop() {
			return
		}
	}
}

// atLineStart reports whether the current token begins a line.
func (p *parser) atLineStart() bool {
	i := int(p.tok.start)
	return i == 0 || p.src.Text[i-1] == '\n' || p.src.Text[i-1] == '\r'
}

// newLine reports whether a line ends between the last token and this one.
func (p *parser) newLine() bool {
	for _, c := range p.src.Text[p.lastEnd:p.tok.start] {
		if c == '\n' || c == '\r' {
			return true
		}
	}
	return false
}

// startsDefinition reports whether the current token can begin a definition.
func (p *parser) startsDefinition() bool {
	switch p.tok.kind {
	case NameToken:
		return slices.Contains(definitionWords, p.text())
	case BlockToken, StringToken, BraceL:
		return true
	}
	return false
}

var definitionWords = []string{
	"query", "mutation", "subscription", "fragment", "schema", "scalar", "type",
	"interface", "union", "enum", "input", "directive", "extend",
}

// Document = Definition+ .
func (p *parser) document() *Document {
	doc := &Document{Source: p.src}
	if p.at(EOF) {
		p.fail(msgDocumentEmptyExpectedDefinition)
	}
	for p.tok.kind != EOF && len(p.problems) < MaxProblems {
		start := p.tok.start
		if d := p.definitionOrNil(); d != nil {
			doc.Definitions = append(doc.Definitions, d)
		}
		if p.lost {
			if p.tok.start == start && p.tok.kind != EOF {
				p.next()
			}
			p.resync(func() bool { return p.startsDefinition() && p.newLine() })
			if p.tok.kind == BraceR {
				p.next() // it closes what was not understood
			}
		}
	}
	p.more = p.more || p.tok.kind != EOF
	return doc
}

// Definition = Description? ( Operation | Fragment | TypeSystemDefinition ) | TypeSystemExtension .
func (p *parser) definitionOrNil() Definition {
	p.constant, p.depth = false, 0
	start := p.pos()
	description := p.descriptionOrNil()
	if p.at(BraceL) {
		if description != nil {
			p.fail(msgDescriptionNeedsOperationS)
			return nil
		}
		return &Operation{Pos: start, Kind: Query, Shorthand: true, Selections: p.selectionSet()}
	}
	if !p.at(NameToken) {
		p.fail(msgExpectedDefinitionSuchAs, p.found())
		return nil
	}
	switch word := p.text(); word {
	case "query", "mutation", "subscription":
		return p.operation(start, description)
	case "fragment":
		return p.fragment(start, description)
	case "extend":
		if description != nil {
			p.fail(msgExtensionHasNoDescription)
			return nil
		}
		p.next()
		return p.typeSystemOrNil(start, nil, true)
	default:
		return p.typeSystemOrNil(start, description, false)
	}
}

// Description = StringValue .
func (p *parser) descriptionOrNil() *StringValue {
	if p.at(StringToken) || p.at(BlockToken) {
		return p.stringValue()
	}
	return nil
}

func (p *parser) stringValue() *StringValue {
	v := &StringValue{Pos: p.pos(), Block: p.tok.kind == BlockToken}
	if v.Block {
		v.Text = blockValue(p.text())
	} else {
		v.Text = stringValue(p.text())
	}
	p.next()
	return v
}

// Operation = OperationType Name? VariablesDefinition? Directives? SelectionSet .
func (p *parser) operation(start Pos, description *StringValue) *Operation {
	op := &Operation{Pos: start, Description: description, Kind: OperationKind(p.text())}
	p.next()
	if p.at(NameToken) {
		op.Name = p.name("the operation's name")
	}
	if p.at(ParenL) {
		op.Variables, op.VariablesEnd = p.variableDefinitions()
	}
	op.Directives = p.directives()
	op.Selections = p.selectionSet()
	return op
}

// VariablesDefinition = "(" VariableDefinition+ ")" .
func (p *parser) variableDefinitions() ([]*VariableDefinition, Pos) {
	var list []*VariableDefinition
	p.constant = true
	defer func() { p.constant = false }()
	p.want(ParenL, "before the variables")
	for !p.lost && !p.at(ParenR) {
		d := &VariableDefinition{Description: p.descriptionOrNil()}
		d.Pos = p.want(Dollar, "before a variable's name")
		d.Name = p.name("a variable's name")
		p.want(Colon, "between a variable and its type")
		d.Type = p.typeRef()
		if p.got(Equals) {
			d.Default = p.value()
		}
		d.Directives = p.directives()
		list = append(list, d)
	}
	if len(list) == 0 {
		p.fail(msgExpectedVariableSuchAs)
	}
	return list, p.want(ParenR, "after the variables")
}

// Fragment = "fragment" Name "on" Name Directives? SelectionSet .
func (p *parser) fragment(start Pos, description *StringValue) *Fragment {
	f := &Fragment{Pos: start, Description: description}
	p.next()
	if p.atWord("on") {
		p.fail(msgExpectedFragmentSName)
	}
	f.Name = p.name("the fragment's name")
	if !p.gotWord("on") {
		p.fail(msgExpectedTypeAfterFragment, p.found())
	}
	f.On = p.name("the type that the fragment is on")
	f.Directives = p.directives()
	f.Selections = p.selectionSet()
	return f
}

// SelectionSet = "{" Selection+ "}" .
func (p *parser) selectionSet() *SelectionSet {
	p.deeper()
	defer func() { p.depth-- }()
	set := &SelectionSet{Pos: p.want(BraceL, "before the selected fields")}
	if p.lost {
		return set
	}
	if p.at(BraceR) {
		p.fail(msgExpectedFieldFoundSelection)
	}
	for !p.at(BraceR) && p.tok.kind != EOF {
		if s := p.selectionOrNil(); s != nil {
			set.List = append(set.List, s)
		}
		if p.lost {
			if p.depth > maxNesting {
				return set
			}
			p.resync(func() bool {
				return (p.tok.kind == NameToken || p.tok.kind == Spread) && p.newLine()
			})
			if p.tok.kind != BraceR && p.atLineStart() && p.startsDefinition() {
				p.lost = true // the set was never closed; go on with the next definition
				return set
			}
		}
	}
	set.End = p.pos()
	p.want(BraceR, "after the selected fields")
	return set
}

// Selection = Field | FragmentSpread | InlineFragment .
func (p *parser) selectionOrNil() Selection {
	switch {
	case p.at(NameToken):
		return p.field()
	case p.at(Spread):
		return p.spread()
	}
	p.fail(msgExpectedFieldOrFragment, p.found())
	return nil
}

// Field = [ Name ":" ] Name Arguments? Directives? SelectionSet? .
func (p *parser) field() *Field {
	f := &Field{Name: p.name("a field")}
	if p.got(Colon) {
		f.Alias = f.Name
		f.Name = p.name("a field's name after its alias")
	}
	if p.at(ParenL) {
		f.Arguments, f.ArgumentsEnd = p.arguments()
	}
	f.Directives = p.directives()
	if p.at(BraceL) {
		f.Selections = p.selectionSet()
	}
	return f
}

// FragmentSpread = "..." Name Directives? . InlineFragment = "..." [ "on" Name ] Directives? SelectionSet .
func (p *parser) spread() Selection {
	pos := p.pos()
	p.next()
	if p.at(NameToken) && p.text() != "on" {
		return &FragmentSpread{Pos: pos, Name: p.name("a fragment's name"), Directives: p.directives()}
	}
	f := &InlineFragment{Pos: pos}
	if p.gotWord("on") {
		f.On = p.name("the type that the fragment is on")
	}
	f.Directives = p.directives()
	if !p.at(BraceL) {
		p.fail(msgExpectedFragmentSName2, p.found())
	}
	f.Selections = p.selectionSet()
	return f
}

// Arguments = "(" ( Name ":" Value )+ ")" .
func (p *parser) arguments() ([]*Argument, Pos) {
	var list []*Argument
	p.want(ParenL, "before the arguments")
	for !p.lost && !p.at(ParenR) {
		a := &Argument{Name: p.name("an argument's name")}
		p.want(Colon, "between an argument and its value")
		a.Value = p.value()
		list = append(list, a)
	}
	if len(list) == 0 {
		p.fail(msgExpectedArgumentFoundLeave)
	}
	return list, p.want(ParenR, "after the arguments")
}

// Directives = ( "@" Name Arguments? )+ .
func (p *parser) directives() []*Directive {
	var list []*Directive
	for p.at(At) {
		d := &Directive{Pos: p.pos()}
		p.next()
		d.Name = p.name("a directive's name")
		if p.at(ParenL) {
			d.Arguments, _ = p.arguments()
		}
		list = append(list, d)
	}
	return list
}
