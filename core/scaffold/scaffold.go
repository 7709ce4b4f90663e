// Package scaffold writes the fields by which the records of a type are read and written: the
// ones that most projects want, so that a type can be used at once.
package scaffold

import (
	"strings"
	"unicode"

	"osprey/core/binding"
	"osprey/core/schema"
)

// A Field is a field of a root type, as text.
type Field struct {
	Root string // Query or Mutation
	Name string
	Text string // its description and definition
}

// Fields returns the fields of a type whose records are stored: of one record by its key, of
// all that a filter finds as a list and as pages; and of those that add, change and remove
// records.
//
//	pilot(id: ID!): Pilot @read
//	pilots(filter: PilotFilter, sort: [PilotSort!], limit: Int = 20, offset: Int): [Pilot!] @read
//	…
//	removePilots(filter: PilotFilter!): Int @remove(of: "Pilot")
//
// Whether a store can do what each says, is for binding to tell.
func Fields(bound *binding.Bound, t schema.Named) []Field {
	r := bound.Records(t)
	if r == nil {
		return nil
	}
	name := t.String()
	one, many := lower(name), plural(lower(name))
	key := keyArguments(bound, r, t)
	var fields []Field
	add := func(root, field, about, arguments, typ, directive string) {
		fields = append(fields, Field{root, field, "\"" + about + "\"\n" + field + "(" + arguments + "): " + typ + " " + directive})
	}
	filter := "filter: " + name + "Filter"
	if key != "" {
		add("Query", one, "The "+spoken(name)+" of a key.", key, name, "@read")
	}
	add("Query", many, "The "+spoken(plural(name))+" that fit.", filter+", sort: ["+name+"Sort!], limit: Int = 20, offset: Int", "["+name+"!]", "@read")
	add("Query", one+"Pages", "The "+spoken(plural(name))+" that fit, page by page.", filter+", sort: ["+name+"Sort!], first: Int = 20, after: String, last: Int, before: String", name+"Connection", "@read")
	add("Mutation", "add"+name, "Adds one.", one+": "+name+"Add!", name, "@add")
	add("Mutation", "add"+plural(name), "Adds several, or none.", many+": ["+name+"Add!]!", "["+name+"!]", "@add")
	if key != "" {
		add("Mutation", "change"+name, "Changes one: what is absent is left alone, and null clears.", key+", change: "+name+"Change!", name, "@change")
	}
	add("Mutation", "change"+plural(name), "Changes all that fit; the answer is how many.", filter+"!, change: "+name+"Change!", "Int", "@change(of: \""+name+"\")")
	if key != "" {
		add("Mutation", "remove"+name, "Removes one; the answer is what it was.", key, name, "@remove")
	}
	add("Mutation", "remove"+plural(name), "Removes all that fit; the answer is how many.", filter+"!", "Int", "@remove(of: \""+name+"\")")
	return fields
}

// keyArguments writes the arguments that are the key of a record; "" if nothing tells it.
func keyArguments(bound *binding.Bound, r *binding.Records, t schema.Named) string {
	var list []string
	for _, path := range r.Key {
		text := camel(path) + ": ID! @at(path: \"" + path + "\")"
		for _, o := range bound.Schema.Possible(t) {
			object := r.Object(o)
			if object == nil {
				continue
			}
			for _, f := range o.Fields {
				if own := object.Fields[f.Name]; own != nil && own.How == binding.Column && own.Wanted.Path == path && len(own.Wanted.Via) == 0 {
					text = f.Name + ": " + schema.Nullable(f.Type).String() + "!"
				}
			}
		}
		list = append(list, text)
	}
	return strings.Join(list, ", ")
}

func lower(name string) string {
	r := []rune(name)
	r[0] = unicode.ToLower(r[0])
	return string(r)
}

// plural returns the plural of an English word.
func plural(name string) string {
	for _, end := range []string{"s", "x", "ch", "sh"} {
		if strings.HasSuffix(name, end) {
			return name + "es"
		}
	}
	if inner, ok := strings.CutSuffix(name, "y"); ok && inner != "" && !strings.ContainsAny(inner[len(inner)-1:], "aeiou") {
		return inner + "ies"
	}
	return name + "s"
}

// spoken writes a name as words: PortCalls as port calls.
func spoken(name string) string {
	var b strings.Builder
	for i, c := range name {
		if unicode.IsUpper(c) && i > 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(unicode.ToLower(c))
	}
	return b.String()
}

// camel writes a stored name as that of an argument: quay_code as quayCode.
func camel(path string) string {
	var b strings.Builder
	up := false
	for _, c := range path {
		if !unicode.IsLetter(c) && !unicode.IsDigit(c) {
			up = b.Len() > 0
			continue
		}
		if up {
			c = unicode.ToUpper(c)
		}
		up = false
		b.WriteRune(c)
	}
	return b.String()
}
