package tables

import (
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// This file reads off what the root fields ask of tables: a field that finds one record needs a
// unique key, and what is given to a new record where the caller says nothing is a default.
//
//	pilot(licence: String!): Pilot @read              pilots has a unique key, licence
//	board(role: PilotRole! = LEAD): Pilotage @add     pilotage.role is by default 'lead'

// roots adds what root fields ask of the tables.
func (m *maker) roots() {
	for _, root := range []*schema.Object{m.schema.Query, m.schema.Mutation} {
		if root == nil {
			continue
		}
		for _, f := range root.Fields {
			switch {
			case f.Directive("read") != nil:
				m.found(f, schema.NamedOf(f.Type), nil)
			case f.Directive("remove") != nil:
				d := f.Directive("remove")
				m.found(f, m.written(f, d), language.Texts(d.Argument("expect")))
			case f.Directive("add") != nil:
				m.added(f, f.Directive("add"))
			}
		}
	}
}

// written returns the type of the records that a field writes, or nil.
func (m *maker) written(f *schema.Field, d *language.Directive) schema.Named {
	named := schema.NamedOf(f.Type)
	if of := text(d, "of"); of != "" {
		named = m.schema.Type(of)
	}
	if named == nil || m.tableOf(named) != nil {
		return named
	}
	for _, inner := range schema.FieldsOf(named) { // a payload
		if t := schema.NamedOf(inner.Type); m.tableOf(t) != nil {
			return t
		}
	}
	return nil
}

// tableOf returns the table of a type of this source, or nil.
func (m *maker) tableOf(t schema.Named) *Table {
	if t == nil {
		return nil
	}
	d := stored(t)
	if d == nil || text(d, "in") != m.source {
		return nil
	}
	return m.tables[m.setOf(t)]
}

// found adds the unique key by which a field finds its one record: its required arguments, if they
// are not the key.
func (m *maker) found(f *schema.Field, t schema.Named, but []string) {
	table := m.tableOf(t)
	if _, list := schema.ListElem(f.Type); table == nil || list || f.Directive("total") != nil {
		return
	}
	var columns []string
	for _, a := range f.Args {
		if slices.Contains(but, a.Name) || !schema.IsNonNull(a.Type) {
			continue
		}
		if _, list := schema.ListElem(a.Type); list || !schema.IsLeaf(schema.NamedOf(a.Type)) {
			continue
		}
		path, ok := m.given(t, a)
		if !ok {
			return
		}
		columns = append(columns, path)
	}
	m.unique(table, columns)
}

// given returns the column that an argument, or a field of an input object, is of.
func (m *maker) given(t schema.Named, in *schema.Input) (string, bool) {
	if d := in.Directive("at"); d != nil {
		path := text(d, "path")
		return path, !strings.Contains(path, ".")
	}
	for _, f := range schema.FieldsOf(t) {
		if f.Name == in.Name && f.Directive("related") == nil && f.Directive("computed") == nil {
			path := m.pathOf(f)
			return path, !strings.Contains(path, ".")
		}
	}
	return "", false
}

// unique adds a unique key, unless columns hold the key of the table, or another one, already.
func (m *maker) unique(table *Table, columns []string) {
	holds := func(key []string) bool {
		return len(key) > 0 && !slices.ContainsFunc(key, func(c string) bool { return !slices.Contains(columns, c) })
	}
	if len(columns) == 0 || holds(table.Key) || slices.ContainsFunc(table.Unique, holds) ||
		slices.ContainsFunc(columns, func(c string) bool { return table.column(c) == nil }) {
		return
	}
	table.Unique = append(table.Unique, columns)
	table.Indexes = slices.DeleteFunc(table.Indexes, func(index []string) bool {
		return len(index) <= len(columns) && slices.Equal(index, columns[:len(index)])
	})
}

// added reads what a field adds: its defaults, and the key by which it changes a record instead.
func (m *maker) added(f *schema.Field, d *language.Directive) {
	t := m.written(f, d)
	table := m.tableOf(t)
	if table == nil {
		return
	}
	var replaced []string
	for _, name := range language.Texts(d.Argument("replaces")) {
		if c, ok := t.(schema.Composite); ok && c.Field(name) != nil {
			name = m.pathOf(c.Field(name))
		}
		replaced = append(replaced, name)
	}
	m.unique(table, replaced)
	for _, a := range f.Args {
		m.fallback(t, a, nil)
	}
}

// fallback takes the default of an argument, or those of the fields of its input object.
func (m *maker) fallback(t schema.Named, in *schema.Input, within []*schema.InputObject) {
	if object, ok := schema.NamedOf(in.Type).(*schema.InputObject); ok {
		if slices.Contains(within, object) {
			return
		}
		inner := t
		if len(within) > 0 { // records that are added with it
			c, _ := t.(schema.Composite)
			if c == nil || c.Field(in.Name) == nil || m.tableOf(schema.NamedOf(c.Field(in.Name).Type)) == nil {
				return
			}
			inner = schema.NamedOf(c.Field(in.Name).Type)
		}
		for _, field := range object.Fields {
			m.fallback(inner, field, append(within, object))
		}
		return
	}
	path, ok := m.given(t, in)
	column := m.tableOf(t).column(path)
	if !ok || column == nil || in.Default == nil || column.Type.List || column.Type.Scalar == "JSON" || column.Counted || slices.Contains(m.tableOf(t).Key, path) {
		return
	}
	value := ""
	switch v := in.Default.(type) {
	case *language.StringValue:
		value = v.Text
	case *language.IntValue:
		value = v.Text
	case *language.FloatValue:
		value = v.Text
	case *language.BooleanValue:
		value = map[bool]string{true: "true", false: "false"}[v.Is]
	case *language.EnumValue:
		e, _ := schema.NamedOf(in.Type).(*schema.Enum)
		if e == nil || e.Value(v.Name) == nil || column.Type.Enum == "" {
			return
		}
		value = v.Name
		if d := e.Value(v.Name).Directive("at"); d != nil {
			value = text(d, "path")
		}
	default:
		return
	}
	if column.Default != nil && *column.Default != value { // two fields do not agree
		m.undecided = append(m.undecided, column)
	}
	column.Default = &value
}
