package assist

import (
	"strings"

	"osprey/core/schema"
)

// First returns an operation to begin with, which a schema answers as it is: a few fields of the first list of records
// that asks for no arguments, or of the first field that does; "" if there is none.
func First(s *schema.Schema) string {
	query := s.Query
	if query == nil {
		return ""
	}
	best, most := "", 0
	for _, f := range query.Fields {
		if needs(f) || f.Deprecated != nil {
			continue
		}
		text, worth := "  "+f.Name, 1
		if of, ok := schema.NamedOf(f.Type).(schema.Composite); ok {
			inner := some(of, "    ", 1)
			if inner == "" {
				continue
			}
			if worth = 2; schema.Depth(f.Type) > 0 {
				worth = 3
			}
			if a := f.Arg("limit"); a != nil {
				text += "(limit: 5)"
			}
			text += " {\n" + inner + "  }"
		}
		if worth > most {
			best, most = text, worth
		}
	}
	if best == "" {
		return ""
	}
	return "query First {\n" + best + "\n}\n"
}

// needs reports whether a field cannot be asked for without arguments.
func needs(f *schema.Field) bool {
	for _, a := range f.Args {
		if a.Required() {
			return true
		}
	}
	return false
}

// some selects a few fields: up to five leaves, and one object with its leaves.
func some(t schema.Composite, indent string, deep int) string {
	var b strings.Builder
	leaves, objects := 0, 0
	if _, isUnion := t.(*schema.Union); isUnion {
		return indent + "__typename\n"
	}
	for _, f := range schema.FieldsOf(t) {
		of, isObject := schema.NamedOf(f.Type).(schema.Composite)
		switch {
		case needs(f) || f.Deprecated != nil:
		case !isObject && leaves < 5:
			leaves++
			b.WriteString(indent + f.Name + "\n")
		case isObject && objects == 0 && deep > 0 && schema.Depth(f.Type) == 0:
			if inner := some(of, indent+"  ", deep-1); inner != "" {
				objects++
				b.WriteString(indent + f.Name + " {\n" + inner + indent + "}\n")
			}
		}
	}
	return b.String()
}
