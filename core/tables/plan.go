package tables

import (
	"slices"
	"strings"

	"osprey/core/store"
)

// This file compares what types need with what a database has.

// A Step is a change of a database, with what undoes it.
type Step struct {
	What     string // in words
	Up, Down []string
}

// A Plan is what makes a database fit types.
type Plan struct {
	Steps []Step
	// Left is what the database has otherwise than the types say, and what is not done, since it
	// could lose data, or cannot be done there.
	Left []string
}

// Choices are what people say, since nobody else can know it: what goes, with what is in it, and
// what is only called otherwise. Columns are table.column.
type Choices struct {
	Drop   []string
	Rename map[string]string // new names by old ones
	// Require are columns that are never NULL from now on, and Retype those that get the type of
	// their field.
	Require, Retype []string
}

// Compare returns what is to be done. It only adds, but for what is chosen. Own are tables that are
// no type's, and of which nothing is told. The error is of a choice that cannot be.
func Compare(tables []*Table, c *store.Catalogue, d Dialect, own []string, chosen Choices) (*Plan, error) {
	p := &planner{dialect: d, catalogue: copied(c), plan: &Plan{}, enums: map[string]bool{}, chosen: chosen}
	if err := p.choose(tables, chosen); err != nil {
		return nil, err
	}
	c = p.catalogue
	for _, t := range tables {
		if set := c.Sets[t.Name]; set != nil {
			p.changed(t, set)
			continue
		}
		p.made(t)
	}
	p.late()
	for _, name := range c.Names() {
		if !slices.ContainsFunc(tables, func(t *Table) bool { return t.Name == name }) && c.Sets[name].What == "table" && !slices.Contains(own, name) {
			p.left("the table %s is in the database, and no type is stored there", name)
		}
	}
	return p.plan, nil
}

type planner struct {
	dialect   Dialect
	catalogue *store.Catalogue
	plan      *Plan
	enums     map[string]bool
	chosen    Choices
	foreign   []Step // of tables that lead to each other in a circle: behind all others
	there     []string
}

func (p *planner) left(format string, args ...any) {
	p.plan.Left = append(p.plan.Left, sprintf(format, args...))
}

func (p *planner) step(s Step) { p.plan.Steps = append(p.plan.Steps, s) }

// has reports whether a table is there when the next step is done.
func (p *planner) has(name string) bool {
	return p.catalogue.Sets[name] != nil || slices.Contains(p.there, name)
}

// enum makes the type of an enum, where databases have such.
func (p *planner) enum(t *Type) {
	if t.Enum == "" || p.enums[t.Enum] {
		return
	}
	p.enums[t.Enum] = true
	for _, set := range p.catalogue.Sets {
		for i := range set.Fields {
			if strings.Trim(set.Fields[i].Type, `"`) == t.Enum && len(set.Fields[i].Values) > 0 {
				return
			}
		}
	}
	if up, down := p.dialect.enum(t); up != "" {
		p.step(Step{"the type " + t.Enum, []string{up}, []string{down}})
	}
}

// made makes a table.
func (p *planner) made(t *Table) {
	for _, c := range t.Columns {
		p.enum(&c.Type)
	}
	var inline, behind []Foreign
	for _, f := range t.Foreign {
		if p.has(f.Table) || f.Table == t.Name || p.dialect.foreignInline() {
			inline = append(inline, f)
		} else {
			behind = append(behind, f)
		}
	}
	s := Step{What: "the table " + t.Name, Up: []string{p.dialect.create(t, inline)}, Down: []string{"DROP TABLE " + p.dialect.quote(t.Name)}}
	for _, columns := range t.Unique {
		up, _ := p.dialect.unique(t.Name, columns)
		s.Up = append(s.Up, up)
	}
	for _, columns := range t.Indexes {
		s.Up = append(s.Up, p.dialect.index(t.Name, columns))
	}
	s.Up = append(s.Up, p.dialect.comments(t)...)
	p.step(s)
	p.there = append(p.there, t.Name)
	for _, f := range behind {
		up, down := p.dialect.foreign(t.Name, f)
		p.foreign = append(p.foreign, Step{"that " + t.Name + " leads to " + f.Table, []string{up}, []string{down}})
	}
}

// late adds the foreign keys that could not be made with their tables.
func (p *planner) late() { p.plan.Steps = append(p.plan.Steps, p.foreign...) }

// changed adds what a table lacks.
func (p *planner) changed(t *Table, set *store.Set) {
	if set.What != "table" {
		p.left("%s is a %s, and is left alone", t.Name, set.What)
		return
	}
	for _, c := range t.Columns {
		if f := set.Field(c.Name); f != nil {
			p.column(t, c, f)
			continue
		}
		p.enum(&c.Type)
		own := *c
		if own.NotNull && own.Default == nil {
			own.NotNull = false
			p.left("%s.%s may be NULL, since records are there already: fill it, and then plan with --require %s.%s", t.Name, c.Name, t.Name, c.Name)
		}
		up := "ALTER TABLE " + p.dialect.quote(t.Name) + " ADD COLUMN " + p.dialect.column(t, &own)
		p.step(Step{"the column " + t.Name + "." + c.Name, []string{up}, []string{"ALTER TABLE " + p.dialect.quote(t.Name) + " DROP COLUMN " + p.dialect.quote(c.Name)}})
	}
	for i := range set.Fields {
		if f := &set.Fields[i]; f.Column == "" && t.column(f.Name) == nil {
			p.left("the column %s.%s is in the database, and no field is stored there", t.Name, f.Name)
		}
	}
	for _, columns := range t.Unique {
		if !set.Unique(columns) {
			up, down := p.dialect.unique(t.Name, columns)
			p.step(Step{"a unique key of " + t.Name + " (" + strings.Join(columns, ", ") + ")", []string{up}, []string{down}})
		}
	}
	for _, columns := range t.Indexes {
		if !set.Indexed(columns) {
			p.step(Step{"an index on " + t.Name + " (" + strings.Join(columns, ", ") + ")", []string{p.dialect.index(t.Name, columns)}, []string{p.dialect.dropIndex(t.Name, columns)}})
		}
	}
	for _, f := range t.Foreign {
		if slices.ContainsFunc(set.Constraints, func(c store.Constraint) bool { return c.Foreign() && slices.Equal(c.Fields, f.Columns) }) {
			continue
		}
		up, down := p.dialect.foreign(t.Name, f)
		if up == "" {
			p.left("%s (%s) leads to %s without a foreign key, which this database adds to new tables only", t.Name, strings.Join(f.Columns, ", "), f.Table)
			continue
		}
		p.foreign = append(p.foreign, Step{"that " + t.Name + " leads to " + f.Table, []string{up}, []string{down}})
	}
}

// column changes a column that is there, as far as it can be done without a loss, or is chosen.
func (p *planner) column(t *Table, c *Column, f *store.Field) {
	name := t.Name + "." + c.Name
	kind := p.dialect.kind(&c.Type)
	other := kind != f.Kind && !slices.Contains(f.Also, kind) && !(c.Type.Scalar == "ID" || c.Type.Scalar == "String" || kind == store.JSON)
	if slices.Contains(p.chosen.Retype, name) {
		if up, down := p.dialect.retype(t, c, f); up != "" {
			p.enum(&c.Type)
			p.step(Step{"that " + name + " is " + c.Type.name() + ", with what is in it, as far as that fits", []string{up}, []string{down}})
			other = false
		}
	}
	if other {
		p.left("%s is %s, and the type's field %s: it is left as it is; plan with --retype %s to change it, with what is in it", name, f.Type, c.Type.name(), name)
	}
	if more := lacking(c.Type.Values, f.Values); len(f.Values) > 0 && len(more) > 0 && !other {
		if up := p.dialect.values(t, c, f, more); up != nil {
			p.step(Step{"that " + name + " can be " + strings.Join(more, ", ") + ", which undoing leaves", up, nil})
		} else {
			p.left("%s cannot be %s, which this database says of new tables only", name, strings.Join(more, ", "))
		}
	}
	if c.Default != nil && !f.Filled && !f.Generated {
		if up, down := p.dialect.setDefault(t, c); up != "" {
			p.step(Step{"what " + name + " is by default", []string{up}, []string{down}})
		}
	}
	if !c.NotNull || !f.Nullable {
		return
	}
	if !slices.Contains(p.chosen.Require, name) {
		p.left("%s may be NULL, and the type says that it is not; plan with --require %s to forbid it", name, name)
		return
	}
	up, down := p.dialect.require(t, c, f)
	if up == "" {
		return
	}
	s := Step{What: "that " + name + " is never NULL", Up: []string{up}, Down: []string{down}}
	if c.Default != nil {
		s.What += ", and what is NULL gets the default"
		s.Up = []string{p.dialect.fill(t, c), up}
	}
	p.step(s)
}

// lacking returns the values that the others lack.
func lacking(values, others []string) (list []string) {
	for _, v := range values {
		if !slices.Contains(others, v) {
			list = append(list, v)
		}
	}
	return list
}
