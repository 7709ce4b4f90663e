package editing

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"osprey/core/assist"
	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// A Completion is a word that can be written at a place.
type Completion struct {
	assist.Completion
	// Insert is what is written, where that is more than the word; with Snippet, $0 in it is
	// where one goes on.
	Insert string
}

// Complete returns what can be written at a place of a file, in a useful order, and where the
// word begins that is being written there.
func (s *Site) Complete(f *File, offset int) (list []Completion, from int) {
	offset = min(max(offset, 0), len(f.Text))
	if !f.Schema {
		if s.Last == nil {
			return nil, offset
		}
		words, from := assist.Complete(s.Last, f.Text, offset)
		for _, w := range words {
			list = append(list, Completion{Completion: w})
		}
		return list, from
	}
	before := f.Text[:offset]
	if strings.Count(before, `"""`)%2 == 1 {
		return nil, offset
	}
	line := before[strings.LastIndexAny(before, "\r\n")+1:]
	quotes, comment := quoted(line)
	switch {
	case comment:
		return nil, offset
	case quotes >= 0:
		start := len(before) - len(line) + quotes
		v := see(before[:start])
		return s.completeText(v, before[start+1:], start+1, offset)
	}
	for from = offset; from > 0 && isWord(f.Text[from-1]); from-- {
	}
	return s.completeWord(see(before[:from])), from
}

func isWord(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// quoted returns where the string begins in which a line ends, or -1, and whether the line ends
// in a comment.
func quoted(line string) (at int, comment bool) {
	at = -1
	for i := 0; i < len(line); i++ {
		switch {
		case at >= 0 && line[i] == '\\':
			i++
		case line[i] == '"' && at >= 0:
			at = -1
		case line[i] == '"':
			at = i
		case line[i] == '#' && at < 0:
			return -1, true
		}
	}
	return at, false
}

// is makes a completion.
func is(label, kind, detail, about string) Completion {
	return Completion{Completion: assist.Completion{Label: label, Kind: kind, Detail: detail, Text: about}}
}

var definitionWords = []string{"type", "interface", "union", "enum", "input", "scalar", "directive", "extend", "schema"}

// completeWord returns the words that can stand at a place outside of strings.
func (s *Site) completeWord(v *sight) (list []Completion) {
	word := func(kind string, words ...string) {
		for _, w := range words {
			list = append(list, is(w, kind, "", ""))
		}
	}
	types := func(keep func(t *typ) bool) {
		for _, name := range s.names() {
			if t := s.types[name]; keep(t) {
				list = append(list, is(name, "type", t.kind.Keyword(), t.about))
			}
		}
	}
	switch v.want {
	case wantDefinition:
		word("keyword", definitionWords...)
	case wantExtended:
		word("keyword", "type", "interface", "union", "enum", "input", "scalar", "schema")
	case wantName:
		types(func(t *typ) bool { return t.kind.Keyword() == v.keyword })
	case wantInterface:
		types(func(t *typ) bool {
			return t.kind == language.InterfaceKind && t.name != v.name && !slices.Contains(v.implied, t.name)
		})
	case wantMemberType:
		types(func(t *typ) bool {
			return t.kind == language.ObjectKind && !s.isRoot(t.name) && !slices.Contains(v.implied, t.name)
		})
	case wantAfterName:
		if (v.keyword == "type" || v.keyword == "interface") && len(v.implied) == 0 {
			word("keyword", "implements")
		}
	case wantMember:
		return s.members(v)
	case wantOutput:
		types(func(t *typ) bool { return t.kind != language.InputKind && !s.isRoot(t.name) })
		list = append(list, s.scalars()...)
		for _, name := range s.names() {
			if d, of := s.stored(name); d != nil && of != "" && s.types[name+"Connection"] == nil {
				list = append(list, is(name+"Connection", "type", "supplied: a page of "+name, ""))
			}
		}
	case wantInput:
		types(func(t *typ) bool {
			return t.kind == language.InputKind || t.kind == language.EnumKind || t.kind == language.ScalarKind
		})
		list = append(list, s.scalars()...)
		for _, name := range s.names() {
			if d, _ := s.stored(name); d == nil {
				continue
			}
			for _, supplied := range []struct{ suffix, is string }{{"Filter", "what records must fit"}, {"Sort", "keys to sort by"}, {"Add", "what a new record is given"}, {"Change", "what changes of a record"}} {
				if s.types[name+supplied.suffix] == nil {
					list = append(list, is(name+supplied.suffix, "type", "supplied: "+supplied.is, ""))
				}
			}
		}
	case wantDirective:
		for _, d := range s.directiveList() {
			if slices.Contains(d.Locations, v.location) {
				c := is(d.Name, "directive", "", d.Description)
				if slices.ContainsFunc(d.Args, (*schema.Input).Required) {
					c.Insert = d.Name + "(" + required(d) + ")"
				}
				list = append(list, c)
			}
		}
	case wantOption:
		for _, in := range s.options(v) {
			if len(v.path) > 0 || !slices.Contains(v.written, in.Name) {
				c := is(in.Name, "argument", in.Type.String(), in.Description)
				c.Insert = in.Name + ": " + starts(in.Type)
				list = append(list, c)
			}
		}
	case wantText:
		return s.completeValue(v)
	case wantLocation:
		word("keyword", strings.Fields("OBJECT INTERFACE UNION ENUM INPUT_OBJECT SCALAR FIELD_DEFINITION ARGUMENT_DEFINITION INPUT_FIELD_DEFINITION ENUM_VALUE SCHEMA QUERY MUTATION SUBSCRIPTION FIELD FRAGMENT_DEFINITION FRAGMENT_SPREAD INLINE_FRAGMENT VARIABLE_DEFINITION")...)
	}
	return list
}

// required writes the required arguments of a directive, to be filled in.
func required(d *schema.Directive) string {
	var parts []string
	for _, a := range d.Args {
		if a.Required() {
			parts = append(parts, a.Name+": "+starts(a.Type))
		}
	}
	text := strings.Join(parts, ", ")
	if i := strings.Index(text, "$0"); i >= 0 { // one place to go on at
		text = text[:i+2] + strings.ReplaceAll(text[i+2:], "$0", "")
	}
	return text
}

// starts writes the brackets of a value of a type, with the place to go on at.
func starts(t schema.Type) string {
	switch named := schema.NamedOf(t); {
	case named.String() == "OspreyThrough":
		return "{$0}"
	case named.String() == "String" || named.String() == "ID":
		return `"$0"`
	}
	return "$0"
}

func (s *Site) isRoot(name string) bool {
	return name == "Query" || name == "Mutation" || name == "Subscription"
}

// scalars returns the scalars that there are without being defined.
func (s *Site) scalars() (list []Completion) {
	for _, name := range scalar.Names() {
		if s.types[name] == nil {
			list = append(list, is(name, "type", "scalar", ""))
		}
	}
	return list
}

// bare is the schema of the binding directives alone.
var bare = func() *schema.Schema {
	s, _ := schema.Build(schema.Text{Body: "type Query { osprey: Int }"}, schema.Text{Body: binding.Directives.Body})
	return s
}()

// directiveOf returns the definition of a directive: of the project, or Osprey's.
func (s *Site) directiveOf(name string) *schema.Directive {
	if s.Last != nil {
		if d := s.Last.Directive(name); d != nil {
			return d
		}
	}
	return bare.Directive(name)
}

func (s *Site) directiveList() []*schema.Directive {
	list := bare.DirectiveList()
	if s.Last != nil {
		for _, d := range s.Last.DirectiveList() {
			if bare.Directive(d.Name) == nil {
				list = append(list, d)
			}
		}
	}
	return list
}

// options returns the arguments of a directive, or the fields of an object in one.
func (s *Site) options(v *sight) []*schema.Input {
	d := s.directiveOf(v.directive)
	if d == nil {
		return nil
	}
	list := d.Args
	for _, name := range v.path {
		i := slices.IndexFunc(list, func(in *schema.Input) bool { return in.Name == name })
		if i < 0 {
			return nil
		}
		object, ok := schema.NamedOf(list[i].Type).(*schema.InputObject)
		if !ok {
			return nil
		}
		list = object.Fields
	}
	return list
}

// completeValue returns values that are no strings, and strings with their quotes.
func (s *Site) completeValue(v *sight) (list []Completion) {
	texts, _ := s.completeText(v, "", 0, 0)
	for _, c := range texts {
		c.Insert = `"` + cmp.Or(c.Insert, c.Label) + `"`
		list = append(list, c)
	}
	return list
}

// spot returns where the directive of a sight stands.
func (v *sight) spot(s *Site) spot {
	at := spot{owner: v.name, field: v.member, of: v.of, argument: v.argument != "", input: v.keyword == "input" && v.member != "", value: v.keyword == "enum" && v.member != "",
		given: func(path ...string) string { return v.texts[strings.Join(path, ".")] }}
	if f := s.fieldAt(v.name, v.member); f != nil {
		at.args, at.of = f.Arguments, cmp.Or(typeOf(f.Type), at.of)
	}
	if t := s.types[v.name]; at.input && t != nil {
		at.args = t.inputs
	}
	return at
}

// completeText returns what can stand in a string; before is what of it stands before the
// place.
func (s *Site) completeText(v *sight, before string, start, offset int) (list []Completion, from int) {
	if v.want != wantText {
		return nil, offset
	}
	at := v.spot(s)
	sl := s.slot(at, v.directive, v.path...)
	from = start
	behind := func(set string) { // the word begins behind the last of these
		from = start + strings.LastIndexAny(before, set) + 1
	}
	switch sl.what {
	case aSource:
		for _, name := range slices.Sorted(maps.Keys(s.Sources)) {
			list = append(list, is(name, "source", s.Sources[name].Kind, ""))
		}
	case aSet:
		list = sets(sl.in)
	case aColumn:
		list = columns(sl.in)
	case aStored:
		for _, value := range sl.in.values(sl.column) {
			list = append(list, is(value, "value", "", ""))
		}
	case anOrder:
		behind(" ")
		if from > start {
			return []Completion{is("asc", "keyword", "", ""), is("desc", "keyword", "", "")}, from
		}
		list = s.fieldsOf(sl.on, func(f *field) bool { return s.isLeaf(typeOf(f.Type)) && !isList(f.Type) && !made(f) })
	case aField:
		lists := v.directive == "total" && v.path[0] == "of" || slices.Contains([]string{"into", "in", "from"}, v.path[0])
		list = s.fieldsOf(sl.on, func(f *field) bool { return lists == (isList(f.Type) || s.isPage(typeOf(f.Type))) })
	case aPair:
		list = s.fieldsOf(sl.on, func(f *field) bool {
			d := named(f.Directives, "related")
			return d != nil && d.Argument("through") != nil
		})
	case aType:
		for _, name := range s.names() {
			if d, _ := s.stored(name); d != nil {
				list = append(list, is(name, "type", s.types[name].kind.Keyword(), s.types[name].about))
			}
		}
	case aWord:
		for _, w := range sl.words {
			list = append(list, is(w, "value", "", ""))
		}
	case anArgument:
		for _, a := range sl.args {
			list = append(list, is(a.Name.Text, "argument", typeText(a.Type), about(a.Description)))
		}
	case aFunction:
		for _, name := range slices.Sorted(maps.Keys(s.Sources)) {
			if s.Sources[name].Capabilities.CanCall != nil {
				list = append(list, is(name+".", "source", s.Sources[name].Kind, ""))
			}
		}
	case aSetting:
		if !strings.Contains(before, ":") {
			list = s.fieldsOf(sl.on, func(f *field) bool { return s.isLeaf(typeOf(f.Type)) && !made(f) })
			for i := range list {
				list[i].Insert = list[i].Label + ": "
			}
			return list, from
		}
		return s.completeExpression(sl, before, start)
	case anExpression:
		return s.completeExpression(sl, before, start)
	case aSelection:
		return s.completeSelection(sl, before, start)
	}
	return list, from
}

// completeSelection returns the fields that can be selected at the end of a selection.
func (s *Site) completeSelection(sl slot, before string, start int) (list []Completion, from int) {
	end := len(before)
	for end > 0 && isWord(before[end-1]) {
		end--
	}
	on, name := []string{sl.on}, ""
	for _, t := range language.Tokens(before[:end]) {
		switch t.Kind {
		case language.NameToken:
			name = before[t.Start:t.End]
		case language.BraceL:
			next := ""
			if f := s.fieldAt(on[len(on)-1], name); f != nil {
				next = s.recordType(typeOf(f.Type))
			}
			on = append(on, next)
		case language.BraceR:
			if len(on) > 1 {
				on = on[:len(on)-1]
			}
		}
	}
	return s.fieldsOf(on[len(on)-1], func(*field) bool { return true }), start + end
}

// completeExpression returns what can stand at the end of an expression.
func (s *Site) completeExpression(sl slot, before string, start int) (list []Completion, from int) {
	end := len(before)
	for end > 0 && (isWord(before[end-1]) || before[end-1] == '.') {
		end--
	}
	parts := strings.Split(before[end:], ".")
	last := parts[len(parts)-1]
	from = start + len(before) - len(last)
	switch {
	case len(parts) == 1:
		if sl.on != "" {
			list = append(list, is("record", "variable", sl.on, ""))
		}
		list = append(list, is("args", "variable", "", "what is given: the arguments of the field, or the fields of the object"), is("caller", "variable", "", "who asks: id, name, roles, claims"))
	case parts[0] == "args":
		for _, a := range sl.args {
			list = append(list, is(a.Name.Text, "argument", typeText(a.Type), about(a.Description)))
		}
	case parts[0] == "record":
		on := sl.on
		for _, name := range parts[1 : len(parts)-1] {
			f := s.fieldAt(on, name)
			if f == nil {
				return nil, from
			}
			on = typeOf(f.Type)
		}
		list = s.fieldsOf(on, func(*field) bool { return true })
	}
	return list, from
}

// sets returns the record sets of a source.
func sets(p place) (list []Completion) {
	if p.source == nil || p.source.Catalogue == nil {
		return nil
	}
	for _, name := range p.source.Catalogue.Names() {
		set := p.source.Catalogue.Sets[name]
		list = append(list, is(name, "set", set.What, set.About))
	}
	return list
}

// columns returns the stored fields of a place.
func columns(p place) (list []Completion) {
	names, fields := p.inner()
	for _, name := range names {
		list = append(list, is(name, "column", columnType(fields[name]), fields[name].About))
	}
	return list
}

// columnType says of which type a stored field is.
func columnType(f *store.Field) string {
	if f.Nullable {
		return f.Type
	}
	return f.Type + ", not null"
}

func about(d *language.StringValue) string {
	if d == nil {
		return ""
	}
	return d.Text
}

func typeText(t *language.TypeRef) string {
	switch {
	case t == nil:
		return ""
	case t.Elem != nil:
		inner := "[" + typeText(t.Elem) + "]"
		if t.NonNull {
			inner += "!"
		}
		return inner
	case t.NonNull:
		return t.Name + "!"
	}
	return t.Name
}

func isList(t *language.TypeRef) bool { return t != nil && t.Elem != nil }

// made reports whether a field is computed, or an aggregate, and so stored nowhere.
func made(f *field) bool {
	return named(f.Directives, "computed") != nil || named(f.Directives, "total") != nil
}

// isPage reports whether a type is that of a page of records.
func (s *Site) isPage(name string) bool { return s.recordType(name) != name }

// isLeaf reports whether a type has no fields.
func (s *Site) isLeaf(name string) bool {
	if t := s.types[name]; t != nil {
		return t.kind == language.ScalarKind || t.kind == language.EnumKind
	}
	return slices.Contains(scalar.Names(), name)
}

// fieldsOf returns fields of a type.
func (s *Site) fieldsOf(owner string, keep func(*field) bool) (list []Completion) {
	t := s.types[owner]
	if t == nil {
		return nil
	}
	for _, name := range t.order {
		if f := t.fields[name]; keep(f) {
			list = append(list, is(name, "field", typeText(f.Type), about(f.Description)))
		}
	}
	return list
}
