// Package tables tells which tables a relational database needs for the types of a schema: the way
// from a schema to stores. It asks no database itself.
//
//	type Letter @stored(in: "db", as: "letters", key: "id") {      letters
//	  id: ID!                                                        id         bigint, identity, primary key
//	  body: String!                                                  body       text NOT NULL
//	  sender: Person! @related(here: "sender_id")                    sender_id  bigint NOT NULL → people (id), indexed
//	}
package tables

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
)

// A Table is one that types need.
type Table struct {
	Name, About string
	Columns     []*Column
	Key         []string
	Foreign     []Foreign
	Unique      [][]string // keys but the primary one
	Indexes     [][]string
	Pairs       bool // it is a join table
}

// A Column is one of a table.
type Column struct {
	Name, About string
	Type        Type
	NotNull     bool
	Counted     bool // the database counts it on
	// Default is what the column has where nothing is given; nil for nothing. An enum's is as
	// it is stored.
	Default *string
}

// A Type is what a column holds.
type Type struct {
	Scalar string // Int, String … as the schema calls it; "" of an enum
	List   bool
	Enum   string
	Values []string
}

// A Foreign key leads to another table.
type Foreign struct {
	Columns []string
	Table   string
	There   []string
}

// column returns the column of a name, or nil.
func (t *Table) column(name string) *Column {
	for _, c := range t.Columns {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// A Fault is a part of a schema of which no table can be made.
type Fault struct {
	Pos        language.Pos
	Coordinate string
	Msg        string
}

// Of returns the tables that the types of a source need, by their names.
func Of(s *schema.Schema, source string, naming binding.Naming) ([]*Table, []Fault) {
	m := &maker{schema: s, source: source, naming: naming, tables: map[string]*Table{}, owners: map[string]schema.Named{}}
	var stored []schema.Named
	for _, t := range s.Types() {
		if d := t.About().Directive("stored"); d != nil && text(d, "in") == source {
			stored = append(stored, t)
			m.table(t, d)
		}
	}
	for _, t := range stored {
		m.columns(t)
	}
	for _, t := range stored {
		m.relationships(t)
	}
	m.roots()
	for _, c := range m.undecided {
		c.Default = nil
	}
	var list []*Table
	for _, t := range m.tables {
		list = append(list, t)
	}
	slices.SortFunc(list, func(a, b *Table) int { return strings.Compare(a.Name, b.Name) })
	return ordered(list), m.faults
}

// ordered puts each table behind those that it leads to, as far as they do not lead in a circle.
func ordered(list []*Table) []*Table {
	var out []*Table
	done := map[string]bool{}
	var visit func(t *Table, on []string)
	visit = func(t *Table, on []string) {
		if done[t.Name] || slices.Contains(on, t.Name) {
			return
		}
		for _, f := range t.Foreign {
			for _, other := range list {
				if other.Name == f.Table {
					visit(other, append(on, t.Name))
				}
			}
		}
		done[t.Name] = true
		out = append(out, t)
	}
	for _, t := range list {
		visit(t, nil)
	}
	return out
}

type maker struct {
	schema *schema.Schema
	source string
	naming binding.Naming
	tables map[string]*Table
	owners map[string]schema.Named // types by their tables
	faults []Fault
	// undecided are columns of which two fields have different defaults.
	undecided []*Column
}

func (m *maker) fault(pos language.Pos, coordinate, format string, args ...any) {
	m.faults = append(m.faults, Fault{pos, coordinate, fmt.Sprintf(format, args...)})
}

// table starts the table of a type.
func (m *maker) table(t schema.Named, d *language.Directive) {
	name := m.setOf(t)
	if m.tables[name] != nil {
		return // several types share it
	}
	m.tables[name] = &Table{Name: name, About: t.About().Description, Key: m.keyOf(t, d)}
	m.owners[name] = t
}

// setOf returns the table of a type.
func (m *maker) setOf(t schema.Named) string {
	if d := stored(t); d != nil {
		if as := text(d, "as"); as != "" {
			return as
		}
	}
	return m.naming.Apply(t.String())
}

// stored returns the @stored of a type, or of an interface of it.
func stored(t schema.Named) *language.Directive {
	if d := t.About().Directive("stored"); d != nil {
		return d
	}
	for _, i := range schema.InterfacesOf(t) {
		if d := i.Directive("stored"); d != nil {
			return d
		}
	}
	return nil
}

func (m *maker) keyOf(t schema.Named, d *language.Directive) []string {
	if key := language.Texts(d.Argument("key")); len(key) > 0 {
		return key
	}
	for _, f := range schema.FieldsOf(t) {
		if f.Name == "id" {
			return []string{m.pathOf(f)}
		}
	}
	m.fault(t.About().Pos, t.String(), "%s has no key: say with @stored(key: …) which fields tell its records apart", t)
	return nil
}

func (m *maker) pathOf(f *schema.Field) string {
	if d := f.Directive("at"); d != nil {
		return text(d, "path")
	}
	return m.naming.Apply(f.Name)
}

// columns adds the columns of the fields of a type, and of those that implement it, which share
// its table.
func (m *maker) columns(t schema.Named) {
	table := m.tables[m.setOf(t)]
	own := schema.FieldsOf(t)
	for _, f := range own {
		m.column(table, f, true)
	}
	if _, isInterface := t.(*schema.Interface); !isInterface {
		return
	}
	if d := t.About().Directive("kind"); d != nil && text(d, "by") != "" && table.column(text(d, "by")) == nil {
		table.Columns = append(table.Columns, &Column{Name: text(d, "by"), Type: Type{Scalar: "String"}, NotNull: true})
	}
	for _, o := range m.schema.Possible(t) {
		for _, f := range o.Fields {
			if !slices.ContainsFunc(own, func(other *schema.Field) bool { return other.Name == f.Name }) {
				m.column(table, f, false)
			}
		}
	}
}

// column adds the column of a field, if it is stored in one.
func (m *maker) column(table *Table, f *schema.Field, all bool) {
	if f.Directive("related") != nil || f.Directive("computed") != nil || f.Directive("total") != nil || f.Directive("read") != nil {
		return
	}
	path := m.pathOf(f)
	if strings.Contains(path, ".") || table.column(path) != nil {
		return // inside a column of JSON, or of another type, too
	}
	typ, ok := m.typeOf(f)
	if !ok {
		return
	}
	c := &Column{Name: path, About: f.Description, Type: typ, NotNull: all && schema.IsNonNull(f.Type) || slices.Contains(table.Key, path)}
	if c.Counted = typ.Scalar == "ID" && f.Name == "id" && slices.Equal(table.Key, []string{path}); typ.Scalar == "ID" && !c.Counted {
		c.Type.Scalar = "String" // which callers give
	}
	table.Columns = append(table.Columns, c)
}

// typeOf returns what a field's column holds; false after telling that none does.
func (m *maker) typeOf(f *schema.Field) (Type, bool) {
	named := schema.NamedOf(f.Type)
	_, list := schema.ListElem(f.Type)
	switch named := named.(type) {
	case *schema.Enum:
		t := Type{Enum: m.naming.Apply(named.Name), List: list}
		for _, v := range named.Values {
			spelled := v.Name
			if d := v.Directive("at"); d != nil {
				spelled = text(d, "path")
			}
			t.Values = append(t.Values, spelled)
		}
		return t, true
	case *schema.Scalar:
		if scalar.Named(named.Name) == nil {
			return Type{Scalar: "String", List: list}, true // of the schema's own
		}
		return Type{Scalar: named.Name, List: list}, true
	case *schema.Object:
		if stored(named) == nil {
			return Type{Scalar: "JSON"}, true // nested in it
		}
	}
	m.fault(f.Pos, f.Coordinate(), "nothing says how %s leads to %s: write @related", f.Coordinate(), named)
	return Type{}, false
}

// relationships adds what the relationships of a type need: foreign keys and their indexes, here or
// in the other table, and join tables.
func (m *maker) relationships(t schema.Named) {
	table := m.tables[m.setOf(t)]
	fields := slices.Clone(schema.FieldsOf(t))
	if _, isInterface := t.(*schema.Interface); isInterface {
		for _, o := range m.schema.Possible(t) {
			fields = append(fields, o.Fields...)
		}
	}
	own := len(schema.FieldsOf(t))
	for i, f := range fields {
		d := f.Directive("related")
		if d == nil {
			continue
		}
		must := i < own && schema.IsNonNull(f.Type) // not of one of several types that share the table
		named := schema.NamedOf(f.Type)
		other := stored(named)
		if other == nil || text(other, "in") != m.source || m.tables[m.setOf(named)] == nil {
			continue // of another source
		}
		target := m.tables[m.setOf(named)]
		_, list := schema.ListElem(f.Type)
		here, there := language.Texts(d.Argument("here")), language.Texts(d.Argument("there"))
		if through, ok := d.Argument("through").(*language.ObjectValue); ok {
			m.through(table, target, through, f)
			continue
		}
		switch {
		case list:
			if here == nil {
				here = table.Key
			}
			if there == nil {
				there = prefixed(m.naming.Apply(t.String()), table.Key)
			}
			m.leads(target, there, table, here, false)
		default:
			if there == nil {
				there = target.Key
			}
			if here == nil {
				here = prefixed(m.naming.Apply(f.Name), target.Key)
			}
			if slices.Equal(here, table.Key) && (!slices.Equal(there, target.Key) || !schema.IsNonNull(f.Type)) { // the other one refers to it
				m.leads(target, there, table, here, false)
				m.unique(target, there) // or it would be several
				continue
			}
			m.leads(table, here, target, there, must)
		}
	}
}

func prefixed(name string, key []string) []string {
	list := make([]string, len(key))
	for i, k := range key {
		list[i] = name + "_" + k
	}
	return list
}

// leads makes columns of a table lead to those of another one, which are its key.
func (m *maker) leads(table *Table, columns []string, other *Table, there []string, must bool) {
	if len(columns) != len(there) || slices.ContainsFunc(append(slices.Clone(columns), there...), func(c string) bool { return strings.Contains(c, ".") }) {
		return
	}
	for i, name := range columns {
		if c := table.column(name); c != nil {
			c.NotNull = c.NotNull || must // whichever side was looked at first
			continue
		}
		typ := Type{Scalar: "ID"}
		if c := other.column(there[i]); c != nil {
			typ = c.Type
		}
		table.Columns = append(table.Columns, &Column{Name: name, Type: typ, NotNull: must})
	}
	if slices.Equal(there, other.Key) && !slices.ContainsFunc(table.Foreign, func(f Foreign) bool { return slices.Equal(f.Columns, columns) }) {
		table.Foreign = append(table.Foreign, Foreign{columns, other.Name, there})
	}
	m.index(table, columns)
}

// index adds an index, unless one, or the key, begins so.
func (m *maker) index(table *Table, columns []string) {
	begins := func(list []string) bool {
		return len(list) >= len(columns) && slices.Equal(list[:len(columns)], columns)
	}
	if !begins(table.Key) && !slices.ContainsFunc(table.Indexes, begins) && !slices.ContainsFunc(table.Unique, begins) {
		table.Indexes = append(table.Indexes, columns)
	}
}

// through adds a join table.
func (m *maker) through(table, target *Table, d *language.ObjectValue, f *schema.Field) {
	var set string
	var here, there []string
	for _, a := range d.Fields {
		switch a.Name.Text {
		case "set":
			set = strings.Join(language.Texts(a.Value), "")
		case "here":
			here = language.Texts(a.Value)
		case "there":
			there = language.Texts(a.Value)
		}
	}
	if len(here) != len(table.Key) || len(there) != len(target.Key) {
		m.fault(f.Pos, f.Coordinate(), "the join table of %s has not as many fields as the keys that it leads to", f.Coordinate())
		return
	}
	join := m.tables[set]
	if join == nil {
		join = &Table{Name: set, Key: slices.Concat(here, there), Pairs: true}
		m.tables[set] = join
	}
	m.leads(join, here, table, table.Key, true)
	m.leads(join, there, target, target.Key, true)
	m.index(join, there)
}

// text returns a string argument of a directive, or "".
func text(d *language.Directive, name string) string {
	return strings.Join(language.Texts(d.Argument(name)), "")
}
