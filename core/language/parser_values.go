package language

// This file implements references to types and values: sections 2.9 and 2.11.

// Type = ( Name | "[" Type "]" ) "!"? .
func (p *parser) typeRef() *TypeRef {
	p.deeper()
	defer func() { p.depth-- }()
	t := &TypeRef{Pos: p.pos()}
	if p.got(BracketL) {
		t.Elem = p.typeRef()
		p.want(BracketR, "after the type of a list's items")
	} else {
		t.Name = p.name("a type").Text
	}
	t.NonNull = p.got(Bang)
	if p.at(Bang) {
		p.fail(msgOneEnough)
	}
	return t
}

// Value = Variable | Int | Float | String | Boolean | Null | Enum | List | Object .
func (p *parser) value() Value {
	p.deeper()
	defer func() { p.depth-- }()
	pos := p.pos()
	if p.lost {
		return &NullValue{pos}
	}
	switch p.tok.kind {
	case Dollar:
		if p.constant {
			p.fail(msgVariableCannotStandExpected)
			return &NullValue{pos}
		}
		p.next()
		return &Variable{pos, p.name("a variable's name").Text}
	case IntToken:
		v := &IntValue{pos, p.text()}
		p.next()
		return v
	case FloatToken:
		v := &FloatValue{pos, p.text()}
		p.next()
		return v
	case StringToken, BlockToken:
		return p.stringValue()
	case NameToken:
		word := p.text()
		p.next()
		switch word {
		case "true", "false":
			return &BooleanValue{pos, word == "true"}
		case "null":
			return &NullValue{pos}
		}
		return &EnumValue{pos, word}
	case BracketL:
		p.next()
		list := &ListValue{Pos: pos}
		for !p.lost && !p.at(BracketR) && !p.at(EOF) {
			list.Values = append(list.Values, p.value())
		}
		p.want(BracketR, "after the items of a list")
		return list
	case BraceL:
		p.next()
		object := &ObjectValue{Pos: pos}
		for p.at(NameToken) {
			f := &Argument{Name: p.name("a field's name")}
			p.want(Colon, "between an input field and its value")
			f.Value = p.value()
			object.Fields = append(object.Fields, f)
		}
		p.want(BraceR, "after the fields of an input object")
		return object
	}
	p.fail(msgExpectedValueFound, p.found())
	return &NullValue{pos}
}
