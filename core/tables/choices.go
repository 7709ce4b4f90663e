package tables

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file does what people have chosen: tables and columns go, or are called otherwise.

// copied returns a catalogue that can be changed as the database will be.
func copied(c *store.Catalogue) *store.Catalogue {
	own := &store.Catalogue{Sets: maps.Clone(c.Sets)}
	for name, set := range own.Sets {
		s := *set
		s.Fields = slices.Clone(set.Fields)
		s.Constraints = slices.Clone(set.Constraints)
		own.Sets[name] = &s
	}
	return own
}

func (p *planner) choose(tables []*Table, chosen Choices) error {
	for _, old := range slices.Sorted(maps.Keys(chosen.Rename)) {
		if err := p.rename(tables, old, chosen.Rename[old]); err != nil {
			return err
		}
	}
	for _, name := range chosen.Drop {
		if err := p.drop(tables, name); err != nil {
			return err
		}
	}
	for _, name := range slices.Concat(chosen.Require, chosen.Retype) {
		table, column, _ := strings.Cut(name, ".")
		t, set := tableOf(tables, table), p.catalogue.Sets[table]
		if t == nil || t.column(column) == nil || set == nil || set.Field(column) == nil {
			return fmt.Errorf("there is no column %q in which a field is stored", name)
		}
		if set.What != "table" {
			return fmt.Errorf("%s is a %s, and is left alone", table, set.What)
		}
		if p.dialect.name == "sqlite" {
			return fmt.Errorf("SQLite changes no column that is there: make %s anew in a file of your own", table)
		}
	}
	for _, name := range chosen.Require {
		table, column, _ := strings.Cut(name, ".")
		if !tableOf(tables, table).column(column).NotNull {
			return fmt.Errorf("%s may be NULL by the types: write \"!\" behind the field's type first", name)
		}
	}
	return nil
}

func tableOf(tables []*Table, name string) *Table {
	for _, t := range tables {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// rename calls a table or column otherwise.
func (p *planner) rename(tables []*Table, old, now string) error {
	table, column, isColumn := strings.Cut(old, ".")
	set := p.catalogue.Sets[table]
	if set == nil || set.What != "table" {
		return fmt.Errorf("there is no table %q to be called otherwise", table)
	}
	alter := "ALTER TABLE " + p.dialect.quote(table)
	if !isColumn {
		if tableOf(tables, now) == nil || tableOf(tables, old) != nil || p.catalogue.Sets[now] != nil {
			return fmt.Errorf("%s cannot be called %s: a type must be stored in the new one, none in the old one, and the new one must not be there", old, now)
		}
		p.step(Step{"that " + old + " is called " + now, []string{alter + " RENAME TO " + p.dialect.quote(now)}, []string{"ALTER TABLE " + p.dialect.quote(now) + " RENAME TO " + p.dialect.quote(old)}})
		delete(p.catalogue.Sets, old)
		set.Name = now
		p.catalogue.Sets[now] = set
		return nil
	}
	now = strings.TrimPrefix(now, table+".")
	t := tableOf(tables, table)
	if set.Field(column) == nil || t == nil || t.column(now) == nil || t.column(column) != nil || set.Field(now) != nil {
		return fmt.Errorf("%s cannot be called %s: a field must be stored in the new one, none in the old one, and the new one must not be there", old, now)
	}
	p.step(Step{"that " + old + " is called " + now, []string{alter + " RENAME COLUMN " + p.dialect.quote(column) + " TO " + p.dialect.quote(now)},
		[]string{alter + " RENAME COLUMN " + p.dialect.quote(now) + " TO " + p.dialect.quote(column)}})
	for i := range set.Fields {
		if set.Fields[i].Name == column {
			set.Fields[i].Name = now
		}
	}
	// Keys and indexes go with their columns.
	set.Keys, set.Index = called(set.Keys, column, now), called(set.Index, column, now)
	for i := range set.Constraints {
		set.Constraints[i].Fields = called([][]string{set.Constraints[i].Fields}, column, now)[0]
	}
	return nil
}

// called returns lists of columns, one of which is called otherwise.
func called(lists [][]string, old, now string) [][]string {
	out := make([][]string, len(lists))
	for i, list := range lists {
		out[i] = slices.Clone(list)
		if at := slices.Index(list, old); at >= 0 {
			out[i][at] = now
		}
	}
	return out
}

// drop takes a table or column away, with what is in it.
func (p *planner) drop(tables []*Table, name string) error {
	table, column, isColumn := strings.Cut(name, ".")
	set, t := p.catalogue.Sets[table], tableOf(tables, table)
	switch {
	case set == nil || set.What != "table" || isColumn && set.Field(column) == nil:
		return fmt.Errorf("there is no %q to be dropped", name)
	case !isColumn && t != nil || isColumn && t != nil && t.column(column) != nil:
		return fmt.Errorf("%q is not dropped: the types are stored there", name)
	case !isColumn:
		p.step(Step{"that " + name + " goes, with what is in it, which undoing does not bring back", []string{"DROP TABLE " + p.dialect.quote(table)}, nil})
		delete(p.catalogue.Sets, table)
		return nil
	}
	alter := "ALTER TABLE " + p.dialect.quote(table)
	p.step(Step{"that " + name + " goes, with what is in it, which undoing does not bring back", []string{alter + " DROP COLUMN " + p.dialect.quote(column)},
		[]string{alter + " ADD COLUMN " + p.dialect.quote(column) + " " + set.Field(column).Type}})
	set.Fields = slices.DeleteFunc(set.Fields, func(f store.Field) bool { return f.Name == column })
	return nil
}
