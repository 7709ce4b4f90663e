package language

import (
	"strconv"
	"strings"
)

// This file implements printing: trees back to text that parses to the same
// tree. It prints values and types; the printers of whole documents build on it.

// PrintValue returns a value as the language writes it, on one line.
func PrintValue(v Value) string {
	var b strings.Builder
	printValue(&b, v)
	return b.String()
}

func printValue(b *strings.Builder, v Value) {
	switch v := v.(type) {
	case *Variable:
		b.WriteString("$" + v.Name)
	case *IntValue:
		b.WriteString(v.Text)
	case *FloatValue:
		b.WriteString(v.Text)
	case *StringValue:
		b.WriteString(Quote(v.Text))
	case *BooleanValue:
		b.WriteString(strconv.FormatBool(v.Is))
	case *NullValue:
		b.WriteString("null")
	case *EnumValue:
		b.WriteString(v.Name)
	case *ListValue:
		b.WriteByte('[')
		for i, item := range v.Values {
			if i > 0 {
				b.WriteString(", ")
			}
			printValue(b, item)
		}
		b.WriteByte(']')
	case *ObjectValue:
		b.WriteByte('{')
		for i, f := range v.Fields {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(f.Name.Text + ": ")
			printValue(b, f.Value)
		}
		b.WriteByte('}')
	default:
		panic("language: unknown value")
	}
}

// Quote returns text as a string in quotes.
func Quote(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7F:
			b.WriteString(`\u00` + string("0123456789ABCDEF"[r>>4]) + string("0123456789ABCDEF"[r&15]))
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// QuoteDescription returns a description as a schema shows it: a block string,
// or a quoted one where a block string could not hold the text.
func QuoteDescription(text, indent string) string {
	escaped := strings.ReplaceAll(text, `"""`, `\"""`)
	if text == "" || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' }) ||
		blockValue(`"""`+"\n"+escaped+"\n"+`"""`) != text {
		return Quote(text)
	}
	var b strings.Builder
	b.WriteString(`"""` + "\n")
	for _, line := range strings.Split(escaped, "\n") {
		if line != "" {
			b.WriteString(indent + line)
		}
		b.WriteByte('\n')
	}
	b.WriteString(indent + `"""`)
	return b.String()
}

// String returns the type as the language writes it.
func (t *TypeRef) String() string {
	s := t.Name
	if t.Elem != nil {
		s = "[" + t.Elem.String() + "]"
	}
	if t.NonNull {
		s += "!"
	}
	return s
}
