package editing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/schema"
)

// A Meaning is what a word of a text stands for, for people to read.
type Meaning struct {
	From, To int
	Title    string   // what it is, such as "Craft.name: String!"
	Text     string   // its description; may be empty
	Lines    []string // where its values are, and what the store tells of that
}

// At returns the mention at a place of a file, or nil: the shortest, if there are several.
func (s *Site) At(f *File, offset int) *Mention {
	var best *Mention
	list := s.mentionsOf(f)
	for i := range list {
		m := &list[i]
		if m.From <= offset && offset <= m.To && (best == nil || m.To-m.From < best.To-best.From || best.To == offset && m.From == offset) {
			best = m
		}
	}
	return best
}

// Hover returns the meaning of the word at a place, or nil.
func (s *Site) Hover(f *File, offset int) *Meaning {
	m := s.At(f, offset)
	if m == nil {
		return nil
	}
	means := s.meaning(m)
	if means != nil {
		means.From, means.To = m.From, m.To
	}
	return means
}

func (s *Site) meaning(m *Mention) *Meaning {
	switch m.Symbol.Kind {
	case Type:
		return s.typeMeaning(m.Own)
	case Field, Argument, Value:
		return s.memberMeaning(m)
	case Directive, Option:
		name, option, _ := strings.Cut(strings.TrimSuffix(strings.TrimPrefix(m.Own, "@"), ":)"), "(")
		d := s.directiveOf(name)
		if d == nil {
			return nil
		}
		if a := d.Arg(option); a != nil {
			return &Meaning{Title: m.Own[:len(m.Own)-1] + " " + a.Type.String() + ")", Text: a.Description}
		}
		return &Meaning{Title: "@" + name, Text: d.Description}
	case Source:
		if source := s.Sources[m.Own]; source != nil {
			means := &Meaning{Title: "source " + m.Own + ", " + source.Kind}
			if source.Catalogue == nil {
				means.Lines = []string{"has not told yet what it holds"}
			} else {
				means.Lines = []string{fmt.Sprintf("%d record sets", len(source.Catalogue.Sets))}
			}
			return means
		}
	case Set:
		return setMeaning(s.at(m.Symbol.In, m.Own))
	case Column:
		p := s.at(m.Symbol.In, m.Symbol.Of)
		means := &Meaning{Title: p.set + "." + m.Own}
		means.Lines, means.Text = columnLines(p, m.Own)
		if means.Lines == nil {
			return nil
		}
		return means
	}
	return nil
}

func (s *Site) typeMeaning(name string) *Meaning {
	t := s.types[name]
	if t == nil {
		if s.Last == nil || s.Last.Type(name) == nil {
			return nil
		}
		known := s.Last.Type(name)
		return &Meaning{Title: schema.KindOf(known) + " " + name, Text: known.About().Description}
	}
	means := &Meaning{Title: t.kind.Keyword() + " " + name, Text: t.about}
	if p := s.place(name); p.source != nil {
		line := p.source.Name + " · " + p.set
		if p.prefix != "" {
			line += ", nested in " + strings.TrimSuffix(p.prefix, ".")
		}
		means.Lines = append(means.Lines, line)
		if set := setMeaning(p); set != nil && p.prefix == "" {
			means.Lines = append(means.Lines, set.Lines...)
		}
	}
	return means
}

// setMeaning tells of a record set, as its store does.
func setMeaning(p place) *Meaning {
	info := p.info()
	if info == nil {
		return nil
	}
	means := &Meaning{Title: info.What + " " + p.set, Text: info.About}
	line := fmt.Sprintf("%d fields", len(info.Fields))
	if len(info.Keys) > 0 {
		line += ", key " + strings.Join(info.Keys[0], ", ")
	}
	if info.Rows > 0 {
		line += fmt.Sprintf(", about %d records", info.Rows)
	}
	means.Lines = append(means.Lines, line)
	if info.ReadOnly != "" {
		means.Lines = append(means.Lines, "cannot be written: "+info.ReadOnly)
	}
	return means
}

// columnLines tells of a stored field, as its store does.
func columnLines(p place, name string) (lines []string, text string) {
	info := p.info()
	if info == nil {
		return nil, ""
	}
	f := info.Field(name)
	if f == nil {
		if !info.Nested(name) {
			return nil, ""
		}
		return []string{p.source.Name + " · " + p.set + "." + name + ", nested records"}, ""
	}
	line := p.source.Name + " · " + p.set + "." + name + ", " + columnType(f)
	switch {
	case slices.ContainsFunc(info.Keys, func(k []string) bool { return slices.Equal(k, []string{name}) }):
		line += ", unique"
	case slices.ContainsFunc(info.Index, func(k []string) bool { return len(k) > 0 && k[0] == name }):
		line += ", indexed"
	}
	lines = append(lines, line)
	if f.Share > 0 && f.Share < 100 {
		lines = append(lines, fmt.Sprintf("in %d %% of %d records that were looked at", f.Share, info.Looked))
	}
	if len(f.Values) > 0 {
		lines = append(lines, "values: "+strings.Join(f.Values, ", "))
	}
	for _, c := range info.Constraints {
		if c.Foreign() && slices.Equal(c.Fields, []string{name}) {
			lines = append(lines, "foreign key to "+c.Set+"."+strings.Join(c.There, ", "))
		}
	}
	return lines, f.About
}

// memberMeaning tells of a field, an argument or a value of an enum.
func (s *Site) memberMeaning(m *Mention) *Meaning {
	owner, rest, _ := strings.Cut(m.Own, ".")
	name, argument, hasArgument := strings.Cut(strings.TrimSuffix(rest, ":)"), "(")
	t := s.types[owner]
	if t == nil {
		return nil
	}
	for _, v := range t.values {
		if v.Name.Text == name {
			means := &Meaning{Title: m.Own, Text: about(v.Description)}
			if path := text(named(v.Directives, "at"), "path"); path != "" {
				means.Lines = []string{"stored as " + path}
			}
			return means
		}
	}
	for _, in := range t.inputs {
		if in.Name.Text == name {
			return &Meaning{Title: m.Own + ": " + typeText(in.Type), Text: about(in.Description)}
		}
	}
	f := t.fields[name]
	if f == nil {
		return nil
	}
	if hasArgument {
		for _, a := range f.Arguments {
			if a.Name.Text == argument {
				means := &Meaning{Title: m.Own + " " + typeText(a.Type), Text: about(a.Description)}
				if bound := s.boundTo(owner, name); bound != nil {
					means.Lines = argumentLines(bound, argument)
				}
				return means
			}
		}
		return nil
	}
	means := &Meaning{Title: owner + "." + name + argumentsText(f) + ": " + typeText(f.Type), Text: about(f.Description)}
	if d := named(f.Directives, "deprecated"); d != nil {
		means.Lines = append(means.Lines, strings.TrimSpace("deprecated "+text(d, "reason")))
	}
	lines, text := s.origin(owner, name)
	means.Lines = append(means.Lines, lines...)
	if means.Text == "" {
		means.Text = text
	}
	return means
}

// argumentLines tells what an argument does.
func argumentLines(f *binding.Field, name string) []string {
	for _, part := range f.Each() {
		for _, a := range part.Args {
			if a.Def.Name != name {
				continue
			}
			switch a.Role {
			case binding.Equal:
				return []string{"narrows by " + part.Target.Source.Name + " · " + part.Target.Set + "." + a.Path}
			case binding.SortBy:
				return []string{"sorts in the store"}
			case binding.FilterBy:
				return []string{"a predicate"}
			case binding.Passed:
				return []string{"given to the function or expression"}
			}
			return []string{"bounds how many are answered"}
		}
	}
	return nil
}

// origin tells where the values of a field come from.
func (s *Site) origin(owner, name string) (lines []string, about string) {
	if d := s.directive(owner, name, "computed"); d != nil {
		switch {
		case text(d, "expr") != "":
			lines = append(lines, "computed: "+text(d, "expr"))
		case text(d, "by") != "":
			lines = append(lines, "computed by the function "+text(d, "by"))
		}
		return lines, ""
	}
	if d := s.directive(owner, name, "total"); d != nil {
		of := cmp.Or(text(d, "of"), "the list")
		for _, a := range []struct{ name, is string }{{"min", "the least"}, {"max", "the greatest"}, {"sum", "the sum of"}, {"avg", "the average"}} {
			if of := text(d, a.name); of != "" {
				return []string{"an aggregate: " + a.is + " " + of + " of " + cmp.Or(text(d, "of"), "the list")}, ""
			}
		}
		return []string{"an aggregate: how many " + of + " there are"}, ""
	}
	bound := s.boundTo(owner, name)
	if bound != nil && bound.How != binding.Column && bound.How != binding.Nested {
		for _, part := range bound.Each() {
			if line := relation(part); line != "" {
				lines = append(lines, line)
			}
		}
		return lines, ""
	}
	p := s.place(owner)
	if p.source == nil || s.directive(owner, name, "related") != nil {
		return nil, ""
	}
	return columnLines(p, p.prefix+s.column(p, owner, name))
}

// relation tells how the records of a field are found.
func relation(f *binding.Field) string {
	if f.Target == nil {
		return ""
	}
	to := f.Target.Source.Name + " · " + f.Target.Set
	switch f.How {
	case binding.Read:
		return "reads " + to
	case binding.Written:
		return "writes " + to
	case binding.Related:
		line := to + ", "
		if f.JoinTable != nil {
			return line + "over the join table " + f.JoinTable.Set
		}
		var pairs []string
		for i := range min(len(f.Here), len(f.There)) {
			pairs = append(pairs, f.There[i]+" = "+f.Here[i])
		}
		line += "whose " + strings.Join(pairs, " and ") + " of this record"
		if f.Target.Info != nil && !f.Target.Info.Indexed(f.There) && !isFound(f) {
			line += "; no index begins with it"
		}
		return line
	}
	return ""
}

// isFound reports whether a source finds records by itself, as services do.
func isFound(f *binding.Field) bool { return f.Target.Info.What == "resource" }

// boundTo returns how a field of a type is bound in the last sound schema, or nil.
func (s *Site) boundTo(owner, name string) *binding.Field {
	if s.Bound == nil {
		return nil
	}
	t := s.Bound.Schema.Type(owner)
	c, ok := t.(schema.Composite)
	if !ok || c.Field(name) == nil {
		return nil
	}
	if root := s.Bound.Root(c.Field(name)); root != nil {
		return root
	}
	for _, o := range s.Bound.Schema.Possible(t) {
		r := s.Bound.Records(o)
		if r == nil {
			r = s.Bound.Records(t)
		}
		if r == nil || r.Object(o) == nil {
			continue
		}
		if f := r.Object(o).Fields[name]; f != nil {
			return f
		}
	}
	return nil
}
