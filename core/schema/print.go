package schema

import (
	"strings"

	"osprey/core/language"
	"osprey/core/scalar"
)

// Print returns the schema in the schema language, without predeclared types
// and with only those directives that mean something to a client: deprecated,
// specifiedBy and oneOf.
func (s *Schema) Print() string {
	p := &printer{}
	p.roots(s)
	for _, t := range s.Types() {
		if isPredeclared(t) {
			continue
		}
		p.blank()
		p.named(t)
	}
	return p.b.String()
}

func isPredeclared(t Named) bool {
	s := scalar.Named(t.String())
	return s != nil && s.Predeclared || strings.HasPrefix(t.String(), "__")
}

type printer struct{ b strings.Builder }

// blank writes an empty line between definitions.
func (p *printer) blank() {
	if p.b.Len() > 0 {
		p.b.WriteByte('\n')
	}
}

func (p *printer) write(parts ...string) {
	for _, part := range parts {
		p.b.WriteString(part)
	}
}

func (p *printer) description(text, indent string) {
	if text != "" {
		p.write(indent, language.QuoteDescription(text, indent), "\n")
	}
}

// roots writes the schema definition where the root types' names or a
// description make one necessary.
func (p *printer) roots(s *Schema) {
	standard := s.Description == "" && s.Query != nil && s.Query.Name == "Query" &&
		(s.Mutation == nil || s.Mutation.Name == "Mutation") && (s.Subscription == nil || s.Subscription.Name == "Subscription")
	if standard {
		return
	}
	p.description(s.Description, "")
	p.write("schema {\n")
	for _, kind := range []language.OperationKind{language.Query, language.Mutation, language.Subscription} {
		if t := s.Root(kind); t != nil {
			p.write("  ", string(kind), ": ", t.Name, "\n")
		}
	}
	p.write("}\n")
}

func (p *printer) named(t Named) {
	p.description(t.About().Description, "")
	switch t := t.(type) {
	case *Scalar:
		p.write("scalar ", t.Name)
		if t.SpecifiedBy != "" {
			p.write(" @specifiedBy(url: ", language.Quote(t.SpecifiedBy), ")")
		}
		p.write("\n")
	case *Object:
		p.write("type ", t.Name)
		p.fields(t.Interfaces, t.Fields)
	case *Interface:
		p.write("interface ", t.Name)
		p.fields(t.Interfaces, t.Fields)
	case *Union:
		p.write("union ", t.Name, " =")
		for i, m := range t.Members {
			if i > 0 {
				p.write(" |")
			}
			p.write(" ", m.Name)
		}
		p.write("\n")
	case *Enum:
		p.write("enum ", t.Name, " {\n")
		for _, v := range t.Values {
			p.description(v.Description, "  ")
			p.write("  ", v.Name)
			p.deprecated(v.Deprecated)
			p.write("\n")
		}
		p.write("}\n")
	case *InputObject:
		p.write("input ", t.Name)
		if t.OneOf {
			p.write(" @oneOf")
		}
		p.write(" {\n")
		for _, f := range t.Fields {
			p.description(f.Description, "  ")
			p.write("  ")
			p.input(f)
			p.write("\n")
		}
		p.write("}\n")
	}
}

func (p *printer) fields(interfaces []*Interface, fields []*Field) {
	for i, t := range interfaces {
		if i == 0 {
			p.write(" implements ", t.Name)
		} else {
			p.write(" & ", t.Name)
		}
	}
	p.write(" {\n")
	for _, f := range fields {
		p.description(f.Description, "  ")
		p.write("  ", f.Name)
		p.arguments(f.Args)
		p.write(": ", f.Type.String())
		p.deprecated(f.Deprecated)
		p.write("\n")
	}
	p.write("}\n")
}

// arguments writes arguments on one line, or on a line each if one of them has
// a description.
func (p *printer) arguments(args []*Input) {
	if len(args) == 0 {
		return
	}
	lines := false
	for _, a := range args {
		lines = lines || a.Description != ""
	}
	p.write("(")
	for i, a := range args {
		switch {
		case lines:
			p.write("\n")
			p.description(a.Description, "    ")
			p.write("    ")
		case i > 0:
			p.write(", ")
		}
		p.input(a)
	}
	if lines {
		p.write("\n  ")
	}
	p.write(")")
}

func (p *printer) input(in *Input) {
	p.write(in.Name, ": ", in.Type.String())
	if in.Default != nil {
		p.write(" = ", language.PrintValue(in.Default))
	}
	p.deprecated(in.Deprecated)
}

func (p *printer) deprecated(reason *string) {
	if reason == nil {
		return
	}
	p.write(" @deprecated")
	if *reason != "No longer supported" {
		p.write("(reason: ", language.Quote(*reason), ")")
	}
}
