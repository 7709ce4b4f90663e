package derive

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/store"
	"osprey/core/words"
)

// This file makes relationships of foreign keys, in both directions.

// A join is a table that pairs the records of two others.
type join struct {
	one, other *store.Constraint
	bare       bool // it has nothing but the keys of the two
}

// joinOf returns the join that a set is: it has two foreign keys, which are together its key; nil
// if it is none.
func joinOf(set *store.Set) *join {
	var foreign []*store.Constraint
	for i := range set.Constraints {
		if c := &set.Constraints[i]; c.Foreign() {
			foreign = append(foreign, c)
		}
	}
	if len(foreign) != 2 || slices.ContainsFunc(foreign[0].Fields, func(f string) bool { return slices.Contains(foreign[1].Fields, f) }) {
		return nil
	}
	both := slices.Concat(foreign[0].Fields, foreign[1].Fields)
	bare := len(both) == len(set.Fields)
	// A key of one of them alone means that each record has one other, and pairs none.
	pairs := func(key []string) bool {
		return len(key) == len(both) && !slices.ContainsFunc(key, func(f string) bool { return !slices.Contains(both, f) })
	}
	if !bare && !slices.ContainsFunc(set.Keys, pairs) {
		return nil
	}
	return &join{foreign[0], foreign[1], bare}
}

// relations adds the relationships that the foreign keys of a type's set are, on both sides, and
// those over join tables.
func (d *deriver) relations(t *Type, set *store.Set) {
	for i := range set.Constraints {
		c := &set.Constraints[i]
		if !c.Foreign() || d.typeOf(c.Set) == "" || len(c.Fields) != len(c.There) || slices.Contains(d.Omit, set.Name+"."+strings.Join(c.Fields, ",")) {
			continue
		}
		d.toOne(t, set, c)
	}
	for _, name := range d.catalogue.Names() { // what refers to it
		other := d.catalogue.Sets[name]
		for i := range other.Constraints {
			if c := &other.Constraints[i]; c.Foreign() && c.Set == set.Name && d.types[name] != nil && len(c.Fields) == len(c.There) {
				d.toMany(t, set, other, c)
			}
		}
		if j := d.joins[name]; j != nil {
			d.through(t, set, other, j.one, j.other)
			d.through(t, set, other, j.other, j.one)
		}
	}
}

// relationName makes a name of the columns of a foreign key: what is before the name of the key
// that it leads to.
//
//	craft_imo → craft.imo     craft
//	sender_id → people.id     sender
//	parent    → groups.id     parent
func (d *deriver) relationName(c *store.Constraint) string {
	target := words.Lower(d.typeOf(c.Set))
	if len(c.Fields) > 1 {
		return target
	}
	list := words.Of(c.Fields[0])
	key := words.Of(c.There[0])
	switch n := len(list); {
	case n > len(key) && slices.Equal(list[n-len(key):], key):
		list = list[:n-len(key)]
	case n > 1 && slices.Contains(ends, list[n-1]):
		list = list[:n-1]
	case n > 1 && (list[0] == "id" || list[0] == "fk"):
		list = list[1:]
	case slices.Equal(list, key):
		return target
	}
	return start(words.Camel(list), "to")
}

// ends are words at the end of a column that say no more than that it is a key.
var ends = []string{"id", "key", "code", "no", "nr", "number", "num", "fk", "ref", "uuid", "guid"}

// toOne adds the relationship of a foreign key to the record that it leads to. One by a single
// column stands where the column does.
func (d *deriver) toOne(t *Type, set *store.Set, c *store.Constraint) {
	target := d.catalogue.Sets[c.Set]
	directive := "@related(here: " + names(c.Fields)
	if target == nil || len(target.Keys) == 0 || !slices.Equal(target.Keys[0], c.There) || several(set, c) {
		directive += ", there: " + names(c.There)
	}
	nullable := slices.ContainsFunc(c.Fields, func(name string) bool { f := set.Field(name); return f == nil || f.Nullable })
	typ := d.typeOf(c.Set)
	if several(set, c) {
		typ = "[" + typ + "!]"
	}
	f := &Field{Name: d.relationName(c), Type: required(typ, !nullable), Directive: directive + ")", of: "to " + c.Set + " by " + strings.Join(c.Fields, ",")}
	if len(c.Fields) == 1 {
		if column := set.Field(c.Fields[0]); column != nil {
			f.About = column.About
		}
	}
	same := func(other *Field) bool { return other.Name == f.Name && other.of != f.of }
	if slices.ContainsFunc(t.Fields, same) { // a column has its name
		f.Name += d.typeOf(c.Set)
	}
	t.Fields = append(t.Fields, f)
}

// several reports whether a foreign key is a list of keys, as services and documents have them.
func several(set *store.Set, c *store.Constraint) bool {
	f := set.Field(c.Fields[0])
	return f != nil && f.Kind == store.List
}

// toMany adds the relationship to the records that have a foreign key to those of a type.
func (d *deriver) toMany(t *Type, set, other *store.Set, c *store.Constraint) {
	from := d.types[other.Name]
	several := 0
	for i := range other.Constraints {
		if o := &other.Constraints[i]; o.Foreign() && o.Set == set.Name {
			several++
		}
	}
	single := other.Unique(c.Fields)
	name, by := words.Lower(from.Name), d.relationName(c)
	if !single {
		name = words.Plural(name)
	}
	switch {
	case other == set && by == "parent":
		if name = "children"; single {
			name = "child"
		}
	case other == set || several > 1:
		name += "By" + strings.ToUpper(by[:1]) + by[1:]
	}
	directive := "@related("
	if len(set.Keys) == 0 || !slices.Equal(set.Keys[0], c.There) || single {
		directive += "here: " + names(c.There) + ", "
	}
	f := &Field{Name: name, Type: "[" + from.Name + "!]!", Directive: directive + "there: " + names(c.Fields) + ")", of: "of " + other.Name + " by " + strings.Join(c.Fields, ",")}
	if single {
		f.Type = from.Name
	}
	t.Fields = append(t.Fields, f)
}

// through adds the relationship over a join table from the records that one of its keys leads to,
// to those of the other.
func (d *deriver) through(t *Type, set, join *store.Set, here, there *store.Constraint) {
	target := d.typeOf(there.Set)
	if here.Set != set.Name || target == "" {
		return
	}
	name := words.Plural(words.Lower(target))
	if here.Set == there.Set { // a record is paired with others of its kind
		name = words.Plural(d.relationName(there))
	}
	same := func(f *Field) bool { return f.Name == name }
	if slices.ContainsFunc(t.Fields, same) {
		name += "By" + start(words.Pascal(words.Of(join.Name)), "Set")
	}
	directive := "@related("
	if len(set.Keys) == 0 || !slices.Equal(set.Keys[0], here.There) {
		directive += "here: " + names(here.There) + ", "
	}
	if other := d.catalogue.Sets[there.Set]; other == nil || len(other.Keys) == 0 || !slices.Equal(other.Keys[0], there.There) {
		directive += "there: " + names(there.There) + ", "
	}
	directive += "through: {set: " + quoted(join.Name) + ", here: " + listed(here.Fields) + ", there: " + listed(there.Fields) + "})"
	t.Fields = append(t.Fields, &Field{Name: name, Type: "[" + target + "!]!", Directive: directive, of: "over " + join.Name + " by " + strings.Join(here.Fields, ",") + " to " + there.Set})
}

// hints adds comments to fields that lead to records of another type by their values, or look by
// their names as if they did, where the store tells of no foreign key: it is for people to say
// whether they do.
//
//	# 98 % of 120 values are keys of Craft: craft: Craft @related(here: "craftImo")
//	craftImo: String
//	# as it seems, this leads to Station: station: Station @related(here: "stationId")
//	stationId: String
func (d *deriver) hints(t *Type, set *store.Set) {
	if slices.ContainsFunc(set.Constraints, func(c store.Constraint) bool { return c.Foreign() }) {
		return
	}
	for _, f := range t.Fields {
		path, ok := strings.CutPrefix(f.of, "at ")
		if !ok {
			continue
		}
		note := d.lead(set, path)
		if note == "" {
			note = d.hint(t, path)
		}
		switch {
		case note == "":
		case f.Note == "":
			f.Note = note
		default:
			f.Note += "; " + note
		}
	}
	for i := range set.Fields { // of records nested in these
		if path := set.Fields[i].Name; paths(set) && strings.Contains(path, ".") {
			if note := d.lead(set, path); note != "" {
				t.Notes = append(t.Notes, path+": "+note)
			}
		}
	}
}

// lead offers the relationship of a field whose values were found to be keys; "" if they were not.
func (d *deriver) lead(set *store.Set, path string) string {
	l, ok := d.Leads[set.Name+"."+path]
	if !ok {
		return ""
	}
	typ, directive := l.Type, "@related(here: "+quoted(path)
	if typ == "" {
		typ = d.typeOf(l.Set)
	}
	if typ == "" {
		return ""
	}
	list := words.Of(path[strings.LastIndexByte(path, '.')+1:])
	if n := len(list); n > 1 && (slices.Contains(ends, list[n-1]) || strings.EqualFold(list[n-1], l.There)) {
		list = list[:n-1]
	} else {
		list = words.Of(typ)
	}
	of := typ
	if l.Source != "" {
		of += " in " + l.Source
	}
	return fmt.Sprintf("%d %% of %d values are keys of %s: %s: %s %s)", l.Share, l.Looked, of, words.Camel(list), typ, directive)
}

// hint offers the relationship of a field that is called as a key of another type would be.
func (d *deriver) hint(t *Type, path string) string {
	list := words.Of(path)
	n := len(list)
	if n < 2 || !slices.Contains(ends, list[n-1]) || slices.Contains(t.Key, path) {
		return ""
	}
	for _, other := range d.made.Types {
		if other != t && other.Set != "" && len(other.Key) == 1 && slices.Equal(words.Of(other.Name), list[:n-1]) {
			return "as it seems, this leads to " + other.Name + ": " + words.Camel(list[:n-1]) + ": " + other.Name + " @related(here: " + quoted(path) + ")"
		}
	}
	return ""
}

// names writes stored fields as an argument: one as it is, several as a list.
func names(fields []string) string {
	if len(fields) == 1 {
		return quoted(fields[0])
	}
	return listed(fields)
}

func listed(fields []string) string {
	list := make([]string, len(fields))
	for i, f := range fields {
		list[i] = quoted(f)
	}
	return "[" + strings.Join(list, ", ") + "]"
}
