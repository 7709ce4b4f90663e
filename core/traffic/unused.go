package traffic

import "osprey/core/schema"

// Unused returns what of a schema is not among the coordinates that were used, in the order of its
// types: fields, arguments, and values of enums, which could be removed. A field that an object has
// by an interface is used where the interface's is. Types that are not kept are left out.
func Unused(s *schema.Schema, used []string, keep func(schema.Named) bool) []string {
	at := map[string]bool{}
	for _, c := range used {
		at[c] = true
	}
	list := []string{}
	for _, t := range s.Types() {
		if !keep(t) {
			continue
		}
		if e, ok := t.(*schema.Enum); ok && !at[e.Name] { // one that is answered can have any of its values
			for _, v := range e.Values {
				if c := e.Name + "." + v.Name; !at[c] {
					list = append(list, c)
				}
			}
		}
		for _, f := range schema.FieldsOf(t) {
			if !usedAt(at, t, f.Name) {
				list = append(list, f.Coordinate())
				continue // and so are its arguments
			}
			for _, a := range f.Args {
				if !argumentUsed(at, t, f.Name, a.Name) {
					list = append(list, a.Coordinate)
				}
			}
		}
	}
	return list
}

func usedAt(at map[string]bool, t schema.Named, field string) bool {
	if at[t.String()+"."+field] {
		return true
	}
	for _, i := range schema.InterfacesOf(t) {
		if i.Field(field) != nil && usedAt(at, i, field) {
			return true
		}
	}
	return false
}

func argumentUsed(at map[string]bool, t schema.Named, field, argument string) bool {
	if at[t.String()+"."+field+"("+argument+":)"] {
		return true
	}
	for _, i := range schema.InterfacesOf(t) {
		if f := i.Field(field); f != nil && f.Arg(argument) != nil && argumentUsed(at, i, field, argument) {
			return true
		}
	}
	return false
}
