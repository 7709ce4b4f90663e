package language

import (
	"slices"
	"strings"
)

// This file implements the grammar of the type system: section 3.

// TypeSystemDefinition = SchemaDefinition | TypeDefinition | DirectiveDefinition ;
// TypeSystemExtension = "extend" ( SchemaExtension | TypeExtension ) .
func (p *parser) typeSystemOrNil(start Pos, description *StringValue, extend bool) Definition {
	if !p.at(NameToken) {
		p.fail(msgExpectedWhatExtendedSuch, p.found())
		return nil
	}
	p.constant = true
	word := p.text()
	if word == "schema" {
		return p.schema(start, description, extend)
	}
	if word == "directive" && !extend {
		return p.directiveDefinition(start, description)
	}
	for kind, keyword := range typeKeywords {
		if word == keyword {
			return p.typeDefinition(start, description, TypeKind(kind), extend)
		}
	}
	switch {
	case extend:
		p.fail(msgCannotExtendedSchemaScalar, word)
	default:
		p.fail(msgExpectedDefinitionSuchAs2, word, DidYouMean(word, definitionWords))
	}
	return nil
}

// SchemaDefinition = Description? "schema" Directives? "{" RootDefinition+ "}" .
func (p *parser) schema(start Pos, description *StringValue, extend bool) *SchemaDefinition {
	d := &SchemaDefinition{Pos: start, Extend: extend, Description: description}
	p.next()
	d.Directives = p.directives()
	if extend && !p.at(BraceL) {
		if len(d.Directives) == 0 {
			p.fail(msgExpectedDirectivesOrRoot, p.found())
		}
		return d
	}
	d.End = p.members("the root types", func() {
		r := &RootDefinition{Pos: p.pos()}
		r.Kind = OperationKind(p.name("query, mutation or subscription").Text)
		switch r.Kind {
		case Query, Mutation, Subscription, "":
		default:
			p.lost = true
			p.problems.Add(ruleSyntax, r.Pos, msgExpectedQueryMutationOr, r.Kind)
		}
		p.want(Colon, "between the kind of operation and its type")
		r.Type = p.name("a type")
		d.Roots = append(d.Roots, r)
	})
	return d
}

// members reads "{" member+ "}" and goes on after a faulty member. It returns
// the place of the "}".
func (p *parser) members(what string, member func()) (end Pos) {
	p.want(BraceL, "before "+what)
	if p.at(BraceR) {
		p.fail(msgExpectedFoundLeaveBraces, what)
	}
	if p.lost {
		return NoPos
	}
	for !p.at(BraceR) && p.tok.kind != EOF {
		member()
		if p.lost {
			p.resync(func() bool {
				return (p.tok.kind == NameToken || p.tok.kind == StringToken || p.tok.kind == BlockToken) && p.newLine()
			})
			if p.tok.kind != BraceR && p.atLineStart() && p.startsDefinition() {
				p.lost = true
				return NoPos
			}
		}
	}
	return p.want(BraceR, "after "+what)
}

func (p *parser) typeDefinition(start Pos, description *StringValue, kind TypeKind, extend bool) *TypeDefinition {
	d := &TypeDefinition{Pos: start, Kind: kind, Extend: extend, Description: description}
	p.next()
	d.Name = p.name("the type's name")
	if (kind == ObjectKind || kind == InterfaceKind) && p.gotWord("implements") {
		d.Interfaces = p.names(Amp, "an interface")
	}
	d.Directives = p.directives()
	switch {
	case (kind == ObjectKind || kind == InterfaceKind) && p.at(BraceL):
		d.End = p.members("the fields", func() { d.Fields = append(d.Fields, p.fieldDefinition()) })
	case kind == UnionKind && p.got(Equals):
		d.Members = p.names(Pipe, "a type of the union")
	case kind == EnumKind && p.at(BraceL):
		d.End = p.members("the enum's values", func() { d.Values = append(d.Values, p.enumValue()) })
	case kind == InputKind && p.at(BraceL):
		d.End = p.members("the input fields", func() { d.Inputs = append(d.Inputs, p.inputValue("an input field")) })
	default:
		if extend && len(d.Interfaces) == 0 && len(d.Directives) == 0 {
			p.fail(msgExtensionAddsNothingExpected, d.Name.Text, p.found())
		}
	}
	return d
}

// names reads separator? Name ( separator Name )* .
func (p *parser) names(separator Kind, what string) []Name {
	p.got(separator)
	list := []Name{p.name(what)}
	for p.got(separator) {
		list = append(list, p.name(what))
	}
	return list
}

// FieldDefinition = Description? Name ArgumentsDefinition? ":" Type Directives? .
func (p *parser) fieldDefinition() *FieldDefinition {
	f := &FieldDefinition{Description: p.descriptionOrNil()}
	f.Name = p.name("a field")
	if p.at(ParenL) {
		f.Arguments, f.ArgumentsEnd = p.argumentDefinitions()
	}
	p.want(Colon, "between a field and its type")
	f.Type = p.typeRef()
	f.Directives = p.directives()
	return f
}

// ArgumentsDefinition = "(" InputValueDefinition+ ")" .
func (p *parser) argumentDefinitions() ([]*InputValueDefinition, Pos) {
	var list []*InputValueDefinition
	p.want(ParenL, "before the arguments")
	for !p.lost && !p.at(ParenR) {
		list = append(list, p.inputValue("an argument"))
	}
	if len(list) == 0 {
		p.fail(msgExpectedArgumentFoundLeave)
	}
	return list, p.want(ParenR, "after the arguments")
}

// InputValueDefinition = Description? Name ":" Type [ "=" Value ] Directives? .
func (p *parser) inputValue(what string) *InputValueDefinition {
	d := &InputValueDefinition{Description: p.descriptionOrNil()}
	d.Name = p.name(what)
	p.want(Colon, "between "+what+" and its type")
	d.Type = p.typeRef()
	if p.got(Equals) {
		d.Default = p.value()
	}
	d.Directives = p.directives()
	return d
}

// EnumValueDefinition = Description? Name Directives? .
func (p *parser) enumValue() *EnumValueDefinition {
	v := &EnumValueDefinition{Description: p.descriptionOrNil()}
	switch word := p.text(); {
	case p.at(NameToken) && (word == "true" || word == "false" || word == "null"):
		p.fail(msgEnumSValueCannot, word)
	}
	v.Name = p.name("an enum's value")
	v.Directives = p.directives()
	return v
}

// DirectiveDefinition = Description? "directive" "@" Name ArgumentsDefinition? "repeatable"? "on" Locations .
func (p *parser) directiveDefinition(start Pos, description *StringValue) *DirectiveDefinition {
	d := &DirectiveDefinition{Pos: start, Description: description}
	p.next()
	p.want(At, "before the directive's name")
	d.Name = p.name("the directive's name")
	if p.at(ParenL) {
		d.Arguments, d.ArgumentsEnd = p.argumentDefinitions()
	}
	d.Repeatable = p.gotWord("repeatable")
	if !p.gotWord("on") {
		p.fail(msgExpectedPlacesWhereDirective, p.found())
	}
	p.got(Pipe)
	for more := true; more; more = p.got(Pipe) {
		d.Locations = append(d.Locations, p.location())
	}
	return d
}

// directiveLocations has every place where a directive may stand: section 3.13.
var directiveLocations = strings.Fields(`QUERY MUTATION SUBSCRIPTION FIELD FRAGMENT_DEFINITION FRAGMENT_SPREAD
	INLINE_FRAGMENT VARIABLE_DEFINITION SCHEMA SCALAR OBJECT FIELD_DEFINITION ARGUMENT_DEFINITION INTERFACE
	UNION ENUM ENUM_VALUE INPUT_OBJECT INPUT_FIELD_DEFINITION`)

func (p *parser) location() Name {
	if p.at(NameToken) && !slices.Contains(directiveLocations, p.text()) {
		p.fail(msgDirectiveCannotStand, p.text(), DidYouMean(p.text(), directiveLocations))
	}
	return p.name("a place such as FIELD or OBJECT")
}
