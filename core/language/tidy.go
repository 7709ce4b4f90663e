package language

import (
	"strings"
	"unicode/utf8"
)

// This file implements the printing of whole documents.
//
// What is printed parses to the same tree. Comments stay where they stood: on
// a line of their own, in front of what follows; or at the end of a line. A
// selection set that was written on one line stays on one line while it fits;
// everything else has a line of its own. Blank lines between fields are kept,
// one at most; between definitions there is always one.

// lineWidth is how long a line may be before its parts get lines of their own.
const lineWidth = 100

// Tidy prints a document that parsed without problems.
func Tidy(doc *Document) string {
	p := &tidier{src: doc.Source, comments: doc.Comments}
	for i, d := range doc.Definitions {
		if i > 0 {
			p.comment(d.Start(), true)
			p.b.WriteString("\n\n")
			p.full = false
		} else {
			p.comment(d.Start(), true)
			if p.b.Len() > 0 {
				p.b.WriteString("\n")
				p.full = false
				if p.blankBefore(d.Start()) {
					p.b.WriteString("\n")
				}
			}
		}
		p.definition(d)
	}
	p.comment(Pos(1<<31-1), true)
	return strings.TrimLeft(p.b.String(), "\n") + "\n"
}

type tidier struct {
	src      *Source
	comments []Comment
	next     int // the first comment that is not printed
	b        strings.Builder
	indent   int
	full     bool // the current line ends with a comment
	// flat says that all is printed on one line, of which room runes are left; over,
	// that it does not fit, and nothing more needs to be printed. A line is tried so
	// once, however deep what stands on it is nested.
	flat, over bool
	room       int
}

// onOneLine returns what print prints on the rest of the current line; false if it
// does not fit there.
func (p *tidier) onOneLine(print func(flat *tidier)) (string, bool) {
	if p.flat {
		print(p) // whoever began the line looks whether it fits
		return "", true
	}
	flat := &tidier{src: p.src, indent: p.indent, flat: true, room: lineWidth - p.column()}
	print(flat)
	text := flat.b.String()
	return text, !flat.over && utf8.RuneCountInString(text) <= flat.room && !strings.Contains(text, "\n")
}

// tooLong reports whether a line that is tried is over.
func (p *tidier) tooLong() bool {
	p.over = p.over || p.flat && p.b.Len() > utf8.UTFMax*max(p.room, 0)
	return p.over
}

// commented reports whether a comment that is not printed stands before end.
func (p *tidier) commented(end Pos) bool {
	return p.next < len(p.comments) && p.comments[p.next].Pos < end
}

// blankBefore reports whether an empty line stands in front of a place.
func (p *tidier) blankBefore(pos Pos) bool {
	text := p.src.Text[:p.src.Offset(pos)]
	lines := 0
	for i := len(text) - 1; i >= 0; i-- {
		switch text[i] {
		case '\n':
			if lines++; lines == 2 {
				return true
			}
		case ' ', '\t', ',', '\r':
		default:
			return false
		}
	}
	return false
}

// comment prints the comments in front of pos: those that stood at the end of
// a line there, the others on lines of their own. apart says that an empty line
// may be in front of them. It returns whether the line above is now one of them.
func (p *tidier) comment(pos Pos, apart bool) (above bool) {
	for ; p.commented(pos); p.next++ {
		c := p.comments[p.next]
		switch {
		case p.b.Len() == 0:
		case !c.Own && !p.full:
			p.b.WriteByte(' ')
			p.b.WriteString(c.Text)
			p.full = true
			continue
		case p.indent == 0 && above && !p.blankBefore(c.Pos):
			p.newline()
		case p.indent == 0:
			p.b.WriteString("\n\n")
		default:
			if apart && p.blankBefore(c.Pos) {
				p.b.WriteByte('\n')
			}
			p.newline()
		}
		p.b.WriteString(c.Text)
		p.full = true
		apart, above = true, true
	}
	return above
}

func (p *tidier) newline() {
	p.full = false
	p.b.WriteByte('\n')
	for range p.indent {
		p.b.WriteString("  ")
	}
}

// line begins a new line for what stands at pos; first says that it is the
// first of its block, which no empty line comes before.
func (p *tidier) line(pos Pos, first bool) {
	above := p.comment(pos, !first)
	if (!first || above) && p.blankBefore(pos) {
		p.b.WriteByte('\n')
	}
	p.newline()
}

// column returns how far the current line reaches.
func (p *tidier) column() int {
	text := p.b.String()
	return utf8.RuneCountInString(text[strings.LastIndexByte(text, '\n')+1:])
}

// block prints members in braces, a line each.
func (p *tidier) block(n int, start func(i int) Pos, end Pos, member func(i int)) {
	if n == 0 {
		return
	}
	p.b.WriteString(" {")
	p.indent++
	for i := range n {
		p.line(start(i), i == 0)
		member(i)
	}
	p.comment(end, true)
	p.indent--
	p.newline()
	p.b.WriteByte('}')
}

func (p *tidier) definition(d Definition) {
	switch d := d.(type) {
	case *Operation:
		p.operation(d)
	case *Fragment:
		p.description(d.Description)
		p.b.WriteString("fragment " + d.Name.Text + " on " + d.On.Text)
		p.directives(d.Directives)
		p.b.WriteByte(' ')
		p.selections(d.Selections)
	case *SchemaDefinition:
		p.description(d.Description)
		p.extend(d.Extend)
		p.b.WriteString("schema")
		p.directives(d.Directives)
		p.block(len(d.Roots), func(i int) Pos { return d.Roots[i].Pos }, d.End, func(i int) {
			p.b.WriteString(string(d.Roots[i].Kind) + ": " + d.Roots[i].Type.Text)
		})
	case *TypeDefinition:
		p.typeDefinition(d)
	case *DirectiveDefinition:
		p.description(d.Description)
		p.b.WriteString("directive @" + d.Name.Text)
		p.inputs(d.Arguments, d.ArgumentsEnd)
		if d.Repeatable {
			p.b.WriteString(" repeatable")
		}
		p.b.WriteString(" on")
		p.alternatives(d.Locations)
	default:
		panic("language: unknown definition")
	}
}

// description prints a description with a line end behind it.
func (p *tidier) description(v *StringValue) {
	if v == nil {
		return
	}
	p.text(v)
	p.newline()
}

// text prints a string as it was written: as a block, or in quotes.
func (p *tidier) text(v *StringValue) {
	if v.Block {
		p.b.WriteString(QuoteDescription(v.Text, strings.Repeat("  ", p.indent)))
	} else {
		p.b.WriteString(Quote(v.Text))
	}
}

func (p *tidier) extend(is bool) {
	if is {
		p.b.WriteString("extend ")
	}
}

func (p *tidier) operation(op *Operation) {
	p.description(op.Description)
	if !op.Shorthand {
		p.b.WriteString(string(op.Kind))
		if op.Name.Text != "" {
			p.b.WriteString(" " + op.Name.Text)
		}
		p.list(len(op.Variables), func(i int) Pos { return startOf(op.Variables[i].Description, op.Variables[i].Pos) }, op.VariablesEnd,
			func(i int) bool { return op.Variables[i].Description != nil }, func(p *tidier, i int) { p.variable(op.Variables[i]) })
		p.directives(op.Directives)
		p.b.WriteByte(' ')
	}
	p.selections(op.Selections)
}

func startOf(description *StringValue, pos Pos) Pos {
	if description != nil {
		return description.Pos
	}
	return pos
}

func (p *tidier) variable(d *VariableDefinition) {
	p.description(d.Description)
	p.b.WriteString("$" + d.Name.Text + ": " + d.Type.String())
	if d.Default != nil {
		p.b.WriteString(" = ")
		p.value(d.Default)
	}
	p.uses(d.Directives)
}

// list prints items in parentheses: on one line if they fit and nothing in
// them needs lines of its own, or a line each.
func (p *tidier) list(n int, start func(i int) Pos, end Pos, tall func(i int) bool, item func(p *tidier, i int)) {
	if n == 0 {
		return
	}
	lines := p.commented(end)
	for i := range n {
		lines = lines || tall(i)
	}
	if p.over = p.over || p.flat && lines; p.over {
		return
	}
	if !lines {
		text, fits := p.onOneLine(func(flat *tidier) {
			flat.b.WriteByte('(')
			for i := 0; i < n && !flat.tooLong(); i++ {
				if i > 0 {
					flat.b.WriteString(", ")
				}
				item(flat, i)
			}
			flat.b.WriteByte(')')
		})
		if fits {
			p.b.WriteString(text)
			return
		}
	}
	p.b.WriteByte('(')
	p.indent++
	for i := range n {
		p.line(start(i), i == 0)
		item(p, i)
	}
	p.comment(end, true)
	p.indent--
	p.newline()
	p.b.WriteByte(')')
}

// uses prints directives behind what they belong to, on the same line.
func (p *tidier) uses(list []*Directive) {
	for _, d := range list {
		if p.tooLong() {
			return
		}
		p.b.WriteByte(' ')
		p.use(d)
	}
}

func (p *tidier) use(d *Directive) {
	p.b.WriteString("@" + d.Name.Text)
	if len(d.Arguments) > 0 {
		p.b.WriteByte('(')
		p.arguments(d.Arguments)
		p.b.WriteByte(')')
	}
}

// directives prints directives on the same line, or a line each if they do not
// fit there.
func (p *tidier) directives(list []*Directive) {
	if len(list) == 0 {
		return
	}
	if text, fits := p.onOneLine(func(flat *tidier) { flat.uses(list) }); fits {
		p.b.WriteString(text)
		return
	}
	p.indent++
	for _, d := range list {
		p.newline()
		p.use(d)
	}
	p.indent--
}

func (p *tidier) arguments(list []*Argument) {
	for i, a := range list {
		if p.tooLong() {
			return
		}
		if i > 0 {
			p.b.WriteString(", ")
		}
		p.b.WriteString(a.Name.Text + ": ")
		p.value(a.Value)
	}
}

// value prints a value on one line, block strings excepted.
func (p *tidier) value(v Value) {
	switch v := v.(type) {
	case *StringValue:
		p.text(v)
	case *ListValue:
		p.b.WriteByte('[')
		for i, item := range v.Values {
			if p.tooLong() {
				return
			}
			if i > 0 {
				p.b.WriteString(", ")
			}
			p.value(item)
		}
		p.b.WriteByte(']')
	case *ObjectValue:
		p.b.WriteByte('{')
		p.arguments(v.Fields)
		p.b.WriteByte('}')
	default:
		p.b.WriteString(PrintValue(v))
	}
}

// selections prints a selection set.
func (p *tidier) selections(set *SelectionSet) {
	if p.inline(set) {
		return
	}
	p.b.WriteByte('{')
	p.indent++
	for i, s := range set.List {
		p.line(s.Start(), i == 0)
		p.selection(s)
	}
	p.comment(set.End, true)
	p.indent--
	p.newline()
	p.b.WriteByte('}')
}

// inline prints a selection set on one line, if it was written on one line and
// fits.
func (p *tidier) inline(set *SelectionSet) bool {
	print := func(flat *tidier) {
		flat.b.WriteByte('{')
		for i := 0; i < len(set.List) && !flat.tooLong(); i++ {
			flat.b.WriteByte(' ')
			flat.selection(set.List[i])
		}
		flat.b.WriteString(" }")
	}
	if p.flat {
		print(p)
		return true
	}
	text := p.src.Text[p.src.Offset(set.Pos):p.src.Offset(set.End)]
	if strings.ContainsAny(text, "\r\n") || p.commented(set.End) || p.indent == 0 && p.column() == 0 && len(set.List) > 1 {
		return false
	}
	printed, fits := p.onOneLine(print)
	if fits {
		p.b.WriteString(printed)
	}
	return fits
}

func (p *tidier) selection(s Selection) {
	switch s := s.(type) {
	case *Field:
		if s.Alias.Text != "" {
			p.b.WriteString(s.Alias.Text + ": ")
		}
		p.b.WriteString(s.Name.Text)
		p.list(len(s.Arguments), func(i int) Pos { return s.Arguments[i].Name.Pos }, s.ArgumentsEnd,
			func(int) bool { return false }, func(p *tidier, i int) { p.arguments(s.Arguments[i : i+1]) })
		p.uses(s.Directives)
		if s.Selections != nil {
			p.b.WriteByte(' ')
			p.selections(s.Selections)
		}
	case *FragmentSpread:
		p.b.WriteString("..." + s.Name.Text)
		p.uses(s.Directives)
	case *InlineFragment:
		p.b.WriteString("...")
		if s.On.Text != "" {
			p.b.WriteString(" on " + s.On.Text)
		}
		p.uses(s.Directives)
		p.b.WriteByte(' ')
		p.selections(s.Selections)
	default:
		panic("language: unknown selection")
	}
}

func (p *tidier) typeDefinition(d *TypeDefinition) {
	p.description(d.Description)
	p.extend(d.Extend)
	p.b.WriteString(d.Kind.Keyword() + " " + d.Name.Text)
	for i, name := range d.Interfaces {
		if i == 0 {
			p.b.WriteString(" implements " + name.Text)
		} else {
			p.b.WriteString(" & " + name.Text)
		}
	}
	p.directives(d.Directives)
	switch {
	case len(d.Fields) > 0:
		p.block(len(d.Fields), func(i int) Pos { return startOf(d.Fields[i].Description, d.Fields[i].Name.Pos) }, d.End, func(i int) { p.fieldDefinition(d.Fields[i]) })
	case len(d.Values) > 0:
		p.block(len(d.Values), func(i int) Pos { return startOf(d.Values[i].Description, d.Values[i].Name.Pos) }, d.End, func(i int) {
			p.description(d.Values[i].Description)
			p.b.WriteString(d.Values[i].Name.Text)
			p.directives(d.Values[i].Directives)
		})
	case len(d.Inputs) > 0:
		p.block(len(d.Inputs), func(i int) Pos { return startOf(d.Inputs[i].Description, d.Inputs[i].Name.Pos) }, d.End, func(i int) { p.inputValue(d.Inputs[i]) })
	case len(d.Members) > 0:
		p.b.WriteString(" =")
		p.alternatives(d.Members)
	}
}

// alternatives prints names with "|" between them, a line each if they do not
// fit on one.
func (p *tidier) alternatives(names []Name) {
	var flat []string
	for _, n := range names {
		flat = append(flat, n.Text)
	}
	text := " " + strings.Join(flat, " | ")
	if p.column()+len(text) <= lineWidth && !p.commented(names[len(names)-1].Pos) {
		p.b.WriteString(text)
		return
	}
	p.indent++
	for _, n := range names {
		p.comment(n.Pos, false)
		p.newline()
		p.b.WriteString("| " + n.Text)
	}
	p.indent--
}

func (p *tidier) fieldDefinition(f *FieldDefinition) {
	p.description(f.Description)
	p.b.WriteString(f.Name.Text)
	p.inputs(f.Arguments, f.ArgumentsEnd)
	p.b.WriteString(": " + f.Type.String())
	p.directives(f.Directives)
}

// inputs prints the definitions of arguments.
func (p *tidier) inputs(list []*InputValueDefinition, end Pos) {
	p.list(len(list), func(i int) Pos { return startOf(list[i].Description, list[i].Name.Pos) }, end,
		func(i int) bool { return list[i].Description != nil }, func(p *tidier, i int) { p.inputValue(list[i]) })
}

func (p *tidier) inputValue(d *InputValueDefinition) {
	p.description(d.Description)
	p.b.WriteString(d.Name.Text + ": " + d.Type.String())
	if d.Default != nil {
		p.b.WriteString(" = ")
		p.value(d.Default)
	}
	p.uses(d.Directives)
}
