// Package scaffold writes the fields by which the records of a type are read and written: the
// ones that most projects want, so that a type can be used at once.
package scaffold

import (
	"strings"

	"osprey/core/binding"
	"osprey/core/schema"
	"osprey/core/words"
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
	one, many := words.Lower(name), words.Plural(words.Lower(name))
	key := keyArguments(bound, r, t)
	var fields []Field
	add := func(root, field, about, arguments, typ, directive string) {
		fields = append(fields, Field{root, field, "\"" + about + "\"\n" + field + "(" + arguments + "): " + typ + " " + directive})
	}
	filter := "filter: " + name + "Filter"
	if key != "" {
		add("Query", one, "The "+words.Spoken(name)+" of a key.", key, name, "@read")
	}
	add("Query", many, "The "+words.Spoken(words.Plural(name))+" that fit.", filter+", sort: ["+name+"Sort!], limit: Int = 20, offset: Int", "["+name+"!]", "@read")
	add("Query", one+"Pages", "The "+words.Spoken(words.Plural(name))+" that fit, page by page.", filter+", sort: ["+name+"Sort!], first: Int = 20, after: String, last: Int, before: String", name+"Connection", "@read")
	add("Mutation", "add"+name, "Adds one.", one+": "+name+"Add!", name, "@add")
	add("Mutation", "add"+words.Plural(name), "Adds several, or none.", many+": ["+name+"Add!]!", "["+name+"!]", "@add")
	if key != "" {
		add("Mutation", "change"+name, "Changes one: what is absent is left alone, and null clears.", key+", change: "+name+"Change!", name, "@change")
	}
	add("Mutation", "change"+words.Plural(name), "Changes all that fit; the answer is how many.", filter+"!, change: "+name+"Change!", "Int", "@change(of: \""+name+"\")")
	if key != "" {
		add("Mutation", "remove"+name, "Removes one; the answer is what it was.", key, name, "@remove")
	}
	add("Mutation", "remove"+words.Plural(name), "Removes all that fit; the answer is how many.", filter+"!", "Int", "@remove(of: \""+name+"\")")
	return fields
}

// keyArguments writes the arguments that are the key of a record; "" if nothing tells it.
func keyArguments(bound *binding.Bound, r *binding.Records, t schema.Named) string {
	var list []string
	for _, path := range r.Key {
		text := words.Camel(words.Of(path)) + ": ID! @at(path: \"" + path + "\")"
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
