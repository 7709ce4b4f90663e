package editing

import (
	"cmp"
	"slices"
	"strings"

	"osprey/core/language"
)

// A Kind is what a symbol is.
type Kind uint8

const (
	Type      Kind = iota // Name is its name
	Field                 // of a type or an input object: Type.name
	Argument              // Type.field(name:)
	Value                 // of an enum: Enum.NAME
	Directive             // @name
	Option                // an argument of a directive: @name(argument:)
	Source                // of osprey.yaml
	Set                   // a record set: In is its source
	Column                // a stored field: In and Of are its source and set
	Variable              // In is the file, in which all of one name are one
	Fragment              // In is the file
	Operation             // the name of an operation
)

// A Symbol is what a word of a text stands for. Two words that have the same one mean the
// same: a field that an interface has too has the symbol of that.
type Symbol struct {
	Kind         Kind
	Name, In, Of string
}

// A Mention is a word that stands for a symbol.
type Mention struct {
	From, To int
	Symbol   Symbol
	// Own is the coordinate as it is meant here, where the symbol is one that several share:
	// Tanker.name, of which Craft.name is the symbol.
	Own string
	// Defines says that the symbol is made here.
	Defines bool
}

// mentionsOf returns the mentions of a file in the order of the text.
func (s *Site) mentionsOf(f *File) []Mention {
	if f.looked {
		return f.mentions
	}
	f.looked = true
	w := &reading{Site: s, file: f, src: f.doc.Source}
	for _, d := range f.doc.Definitions {
		switch d := d.(type) {
		case *language.TypeDefinition:
			w.typeDefinition(d)
		case *language.DirectiveDefinition:
			w.word(d.Name, Symbol{Kind: Directive, Name: "@" + d.Name.Text}, true)
			for _, a := range d.Arguments {
				w.word(a.Name, Symbol{Kind: Option, Name: "@" + d.Name.Text + "(" + a.Name.Text + ":)"}, true)
				w.typeRef(a.Type)
			}
		case *language.SchemaDefinition:
			for _, r := range d.Roots {
				w.typeName(r.Type)
			}
		case *language.Operation:
			w.operation(d)
		case *language.Fragment:
			w.fragment(d)
		}
	}
	slices.SortStableFunc(w.list, func(a, b Mention) int { return cmp.Compare(a.From, b.From) })
	f.mentions = w.list
	return w.list
}

// A reading gathers the mentions of a file.
type reading struct {
	*Site
	file *File
	src  *language.Source
	list []Mention
}

// add adds a mention of bytes of the text.
func (w *reading) add(from, to int, symbol Symbol, own string, defines bool) {
	if from >= 0 && from < to && to <= len(w.src.Text) {
		w.list = append(w.list, Mention{from, to, symbol, cmp.Or(own, symbol.Name), defines})
	}
}

// word adds a mention of a name.
func (w *reading) word(n language.Name, symbol Symbol, defines bool) {
	if n.Text != "" {
		w.add(w.src.Offset(n.Pos), w.src.Offset(n.Pos)+len(n.Text), symbol, "", defines)
	}
}

// shared adds a mention of a field, or of an argument of one.
func (w *reading) shared(n language.Name, kind Kind, owner, field, rest string, defines bool) {
	if n.Text == "" {
		return
	}
	at := w.src.Offset(n.Pos)
	w.add(at, at+len(n.Text), Symbol{Kind: kind, Name: w.family(owner, field) + "." + field + rest}, owner+"."+field+rest, defines)
}

// typeName adds a mention of a type, or, in the name of one that is supplied, of that which
// it is of.
func (w *reading) typeName(n language.Name) {
	base, _ := w.supplied(n.Text)
	w.word(language.Name{Pos: n.Pos, Text: base}, Symbol{Kind: Type, Name: base}, false)
}

func (w *reading) typeRef(t *language.TypeRef) {
	if t == nil {
		return
	}
	in := t.Innermost()
	w.typeName(language.Name{Pos: in.Pos, Text: in.Name})
}

func (w *reading) typeDefinition(d *language.TypeDefinition) {
	owner := d.Name.Text
	w.word(d.Name, Symbol{Kind: Type, Name: owner}, !d.Extend)
	for _, i := range d.Interfaces {
		w.typeName(i)
	}
	for _, m := range d.Members {
		w.typeName(m)
	}
	w.directives(d.Directives, spot{owner: owner})
	for _, f := range d.Fields {
		name := f.Name.Text
		w.shared(f.Name, Field, owner, name, "", true)
		w.typeRef(f.Type)
		at := spot{owner: owner, field: name, of: typeOf(f.Type), args: f.Arguments}
		for _, a := range f.Arguments {
			w.shared(a.Name, Argument, owner, name, "("+a.Name.Text+":)", true)
			w.typeRef(a.Type)
			w.value(typeOf(a.Type), a.Default)
			on := at
			on.argument = true
			w.directives(a.Directives, on)
		}
		w.directives(f.Directives, at)
	}
	for _, v := range d.Values {
		w.word(v.Name, Symbol{Kind: Value, Name: owner + "." + v.Name.Text}, true)
		w.directives(v.Directives, spot{owner: owner, field: v.Name.Text, value: true})
	}
	for _, in := range d.Inputs {
		w.word(in.Name, Symbol{Kind: Field, Name: owner + "." + in.Name.Text}, true)
		w.typeRef(in.Type)
		w.value(typeOf(in.Type), in.Default)
		w.directives(in.Directives, spot{owner: owner, field: in.Name.Text, of: typeOf(in.Type), args: d.Inputs, input: true})
	}
}

func (w *reading) directives(list []*language.Directive, at spot) {
	for _, d := range list {
		name := d.Name.Text
		w.word(d.Name, Symbol{Kind: Directive, Name: "@" + name}, false)
		at.given = func(path ...string) string { return given(d.Arguments, path) }
		for _, a := range d.Arguments {
			w.word(a.Name, Symbol{Kind: Option, Name: "@" + name + "(" + a.Name.Text + ":)"}, false)
			w.texts(a.Value, at, name, a.Name.Text)
		}
	}
}

// given returns the text that arguments of a directive have at a path.
func given(list []*language.Argument, path []string) string {
	for _, a := range list {
		if len(path) == 0 || a.Name.Text != path[0] {
			continue
		}
		switch v := a.Value.(type) {
		case *language.StringValue:
			return v.Text
		case *language.ObjectValue:
			return given(v.Fields, path[1:])
		}
	}
	return ""
}

// texts adds what the texts of an argument of a directive name.
func (w *reading) texts(v language.Value, at spot, directive string, path ...string) {
	switch v := v.(type) {
	case *language.ListValue:
		for _, item := range v.Values {
			w.texts(item, at, directive, path...)
		}
	case *language.ObjectValue:
		for _, f := range v.Fields {
			w.texts(f.Value, at, directive, append(slices.Clone(path), f.Name.Text)...)
		}
	case *language.StringValue:
		if in := w.inside(v); in != nil {
			w.slotText(w.slot(at, directive, path...), v.Text, in, at)
		}
	}
}

// A mapping tells where a byte of a string's text stands in the file.
type mapping func(offset int) int

// behind is the mapping of what stands behind some bytes.
func (m mapping) behind(n int) mapping { return func(offset int) int { return m(offset + n) } }

// inside returns where the text of a string stands; nil where it is written with escapes. The
// lines of a block string have lost what they are indented by, each as much.
func (w *reading) inside(v *language.StringValue) mapping {
	from := w.src.Offset(v.Pos) + 1
	if v.Text == "" {
		return nil
	}
	if !v.Block {
		if !strings.HasPrefix(w.src.Text[from:], v.Text) {
			return nil
		}
		return func(offset int) int { return from + offset }
	}
	raw := from + 2
	var starts, places []int // of each line, in the text and in the file
	at := 0
	for _, line := range strings.SplitAfter(v.Text, "\n") {
		bare := strings.TrimRight(line, "\n")
		i := strings.Index(w.src.Text[raw:], bare)
		if i < 0 {
			return nil
		}
		starts, places = append(starts, at), append(places, raw+i)
		raw += i + len(bare)
		at += len(line)
	}
	return func(offset int) int {
		i := len(starts) - 1
		for i > 0 && starts[i] > offset {
			i--
		}
		return places[i] + offset - starts[i]
	}
}

// slotText adds what a text names.
func (w *reading) slotText(sl slot, text string, in mapping, at spot) {
	whole := func(symbol Symbol) { w.add(in(0), in(0)+len(text), symbol, "", false) }
	word := func(name string, offset int, on string) {
		if name != "" && w.fieldOf(on, name) {
			w.named(in, part{name, offset}, on)
		}
	}
	switch sl.what {
	case aSource:
		whole(Symbol{Kind: Source, Name: text})
	case aSet:
		if sl.in.source != nil {
			whole(Symbol{Kind: Set, Name: text, In: sl.in.source.Name})
		}
	case aColumn:
		if sl.in.source != nil {
			whole(Symbol{Kind: Column, Name: sl.in.prefix + text, In: sl.in.source.Name, Of: sl.in.set})
		}
	case aField, aPair:
		word(text, 0, sl.on)
	case anOrder:
		name, _, _ := strings.Cut(text, " ")
		word(name, 0, sl.on)
	case aSetting:
		name, expr, ok := strings.Cut(text, ":")
		word(strings.TrimSpace(name), strings.Index(text, strings.TrimSpace(name)), sl.on)
		if ok {
			w.expression(expr, in.behind(len(name)+1), sl.on, at)
		}
	case aType:
		whole(Symbol{Kind: Type, Name: text})
	case anArgument:
		name, expr, ok := strings.Cut(text, ":")
		name = strings.TrimSpace(name)
		if slices.ContainsFunc(sl.args, func(a *language.InputValueDefinition) bool { return a.Name.Text == name }) {
			i := strings.Index(text, name)
			w.add(in(i), in(i)+len(name), Symbol{Kind: Argument, Name: w.family(at.owner, at.field) + "." + at.field + "(" + name + ":)"}, sl.on+"("+name+":)", false)
		}
		if ok {
			w.expression(expr, in.behind(strings.Index(text, ":")+1), sl.on, at)
		}
	case aSelection:
		w.selection(text, in, sl.on)
	case anExpression:
		w.expression(text, in, sl.on, at)
	}
}

// fieldOf reports whether a type of the texts has a field.
func (s *Site) fieldOf(owner, name string) bool {
	t := s.types[owner]
	return t != nil && t.fields[name] != nil
}

// named adds a mention of a field of a type in a text.
func (w *reading) named(in mapping, p part, on string) {
	w.add(in(p.at), in(p.at)+len(p.name), Symbol{Kind: Field, Name: w.family(on, p.name) + "." + p.name}, on+"."+p.name, false)
}

// selection adds what a selection in a text names: fields of a type.
func (w *reading) selection(text string, in mapping, on string) {
	const before = "{ "
	doc, _ := language.Parse(language.NewSource("", before+text+" }"))
	if len(doc.Definitions) != 1 {
		return
	}
	op, ok := doc.Definitions[0].(*language.Operation)
	if !ok {
		return
	}
	var walk func(set *language.SelectionSet, on string)
	walk = func(set *language.SelectionSet, on string) {
		if set == nil {
			return
		}
		for _, sel := range set.List {
			switch sel := sel.(type) {
			case *language.Field:
				if !w.fieldOf(on, sel.Name.Text) {
					continue
				}
				w.named(in, part{sel.Name.Text, doc.Source.Offset(sel.Name.Pos) - len(before)}, on)
				walk(sel.Selections, typeOf(w.types[on].fields[sel.Name.Text].Type))
			case *language.InlineFragment:
				if sel.On.Text != "" {
					at := in(doc.Source.Offset(sel.On.Pos) - len(before))
					w.add(at, at+len(sel.On.Text), Symbol{Kind: Type, Name: sel.On.Text}, "", false)
					on = sel.On.Text
				}
				walk(sel.Selections, on)
			}
		}
	}
	walk(op.Selections, on)
}

// value adds what a literal names: values of enums, and fields of input objects.
func (w *reading) value(typ string, v language.Value) {
	switch v := v.(type) {
	case *language.ListValue:
		for _, item := range v.Values {
			w.value(typ, item)
		}
	case *language.EnumValue:
		w.word(language.Name{Pos: v.Pos, Text: v.Name}, Symbol{Kind: Value, Name: typ + "." + v.Name}, false)
	case *language.ObjectValue:
		for _, f := range v.Fields {
			w.value(w.inputField(typ, f.Name), f.Value)
		}
	case *language.Variable:
		name := language.Name{Pos: v.Pos + 1, Text: v.Name}
		w.word(name, Symbol{Kind: Variable, Name: v.Name, In: w.file.Name}, false)
	}
}

// inputField adds the mention of a field of an input object, and returns its type.
func (w *reading) inputField(typ string, name language.Name) string {
	if t := w.types[typ]; t != nil {
		for _, in := range t.inputs {
			if in.Name.Text == name.Text {
				w.word(name, Symbol{Kind: Field, Name: typ + "." + name.Text}, false)
				return typeOf(in.Type)
			}
		}
		return ""
	}
	base, suffix := w.supplied(typ)
	if suffix != "" && w.fieldOf(base, name.Text) {
		w.shared(name, Field, base, name.Text, "", false)
	}
	if w.Last == nil {
		return ""
	}
	return inputOf(w.Last, typ, name.Text)
}
