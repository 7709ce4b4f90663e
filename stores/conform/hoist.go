package conform

import (
	"encoding/json"
	"fmt"
	"strings"

	"osprey/core/language"
)

// hoisted returns an operation with its filters given as variables, as a client
// gives them that builds them, and the variables.
func hoisted(text string) (string, map[string]any) {
	const mark = "filter: {"
	var out, declared strings.Builder
	variables := map[string]any{}
	rest := text
	for {
		before, after, found := strings.Cut(rest, mark)
		out.WriteString(before)
		if !found {
			break
		}
		literal, behind := object("{" + after)
		name := fmt.Sprintf("f%d", len(variables))
		variables[name] = valueOf(literal)
		fmt.Fprintf(&declared, "$%s: %s ", name, filterType(before))
		out.WriteString("filter: $" + name)
		rest = behind
	}
	if len(variables) == 0 {
		return text, nil
	}
	return "query (" + declared.String() + ") " + out.String(), variables
}

// object cuts the object literal off the beginning of a text.
func object(text string) (literal, rest string) {
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{':
			depth++
		case c == '}':
			if depth--; depth == 0 {
				return text[:i+1], text[i+1:]
			}
		}
	}
	return text, ""
}

// filterType returns the type of a filter by the field that it is given to.
func filterType(before string) string {
	call := before[:strings.LastIndexByte(before, '(')]
	field := call[strings.LastIndexAny(call, " :")+1:]
	switch field {
	case "owners", "children", "crew", "crewPages", "crewSize":
		return "OwnerFilter"
	}
	return "VesselFilter"
}

// valueOf returns a literal as a client sends it.
func valueOf(literal string) any {
	doc, _ := language.Parse(language.NewSource("", "{ f(filter: "+literal+") }"))
	field := doc.Definitions[0].(*language.Operation).Selections.List[0].(*language.Field)
	return plain(field.Arguments[0].Value)
}

func plain(v language.Value) any {
	switch v := v.(type) {
	case *language.StringValue:
		return v.Text
	case *language.IntValue:
		return json.Number(v.Text)
	case *language.FloatValue:
		return json.Number(v.Text)
	case *language.BooleanValue:
		return v.Is
	case *language.EnumValue:
		return v.Name
	case *language.ListValue:
		list := []any{}
		for _, item := range v.Values {
			list = append(list, plain(item))
		}
		return list
	case *language.ObjectValue:
		object := map[string]any{}
		for _, f := range v.Fields {
			object[f.Name.Text] = plain(f.Value)
		}
		return object
	}
	return nil
}
