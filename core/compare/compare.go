// Package compare tells in what two schemas differ, as clients see them, and whom it concerns.
package compare

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// A Class says whom a difference concerns.
type Class uint8

const (
	Safe     Class = iota // every client can go on as it is
	Risky                 // a client that is sound can meet what it does not expect
	Breaking              // an operation that was sound can be none any more, or be answered with what it was not promised
)

// String returns the class's name.
func (c Class) String() string { return [...]string{"safe", "risky", "breaking"}[c] }

// A Difference is one, at a coordinate of the schema ("Schema Coordinates" of the specification,
// section 3.14).
type Difference struct {
	Class      Class
	Coordinate string
	What       string // a sentence without its subject: "is gone"
}

// String returns it on one line.
func (d Difference) String() string { return d.Coordinate + " " + d.What }

// Schemas compares two schemas. The differences that break come first, and then those that are
// risky; within a class they are in the order of their coordinates.
func Schemas(old, now *schema.Schema) []Difference {
	c := &comparison{old: old, now: now}
	for _, kind := range []language.OperationKind{language.Query, language.Mutation, language.Subscription} {
		was, is := old.Root(kind), now.Root(kind)
		switch {
		case was != nil && is == nil:
			c.add(Breaking, string(kind), "can be asked no more")
		case was == nil && is != nil:
			c.add(Safe, string(kind), "can be asked")
		case was != nil && is != nil && was.Name != is.Name:
			c.add(Risky, string(kind), "is of the type %s now, and was of %s", is.Name, was.Name)
		}
	}
	for _, t := range old.Types() {
		if is := now.Visible(t.String()); is != nil {
			c.types(t, is)
		} else if !predeclared(t) {
			c.add(Breaking, t.String(), "is gone")
		}
	}
	for _, t := range now.Types() {
		if old.Visible(t.String()) == nil && !predeclared(t) {
			c.add(Safe, t.String(), "is new")
		}
	}
	c.directives()
	slices.SortStableFunc(c.list, func(a, b Difference) int {
		if a.Class != b.Class {
			return int(b.Class) - int(a.Class)
		}
		return strings.Compare(a.Coordinate, b.Coordinate)
	})
	return c.list
}

type comparison struct {
	old, now *schema.Schema
	list     []Difference
}

func (c *comparison) add(class Class, coordinate, format string, args ...any) {
	c.list = append(c.list, Difference{class, coordinate, fmt.Sprintf(format, args...)})
}

// predeclared reports whether a type is there wherever it is used: section 3.5.
func predeclared(t schema.Named) bool {
	return slices.Contains([]string{"Int", "Float", "String", "Boolean", "ID"}, t.String()) || strings.HasPrefix(t.String(), "__")
}

// types compares two types of the same name.
func (c *comparison) types(was, is schema.Named) {
	if what(was) != what(is) {
		c.add(Breaking, was.String(), "is %s now, and was %s", what(is), what(was))
		return
	}
	c.rules(was.String(), was.About().Directives, is.About().Directives)
	switch was := was.(type) {
	case *schema.Object, *schema.Interface:
		c.fields(was, is)
		c.interfaces(was, is)
	case *schema.Union:
		c.members(was, is.(*schema.Union))
	case *schema.Enum:
		c.values(was, is.(*schema.Enum))
	case *schema.InputObject:
		own := is.(*schema.InputObject)
		c.inputs(was.Fields, own.Fields)
		if was.OneOf != own.OneOf {
			class, how := Safe, "several"
			if own.OneOf {
				class, how = Breaking, "just one"
			}
			c.add(class, was.Name, "takes %s of its fields now", how)
		}
	}
}

// what names the kind of a type.
func what(t schema.Named) string {
	switch t.(type) {
	case *schema.Object:
		return "an object"
	case *schema.Interface:
		return "an interface"
	case *schema.Union:
		return "a union"
	case *schema.Enum:
		return "an enum"
	case *schema.InputObject:
		return "an input object"
	}
	return "a scalar"
}

// fields compares the fields of two types.
func (c *comparison) fields(was, is schema.Named) {
	now := map[string]*schema.Field{}
	for _, f := range schema.FieldsOf(is) {
		now[f.Name] = f
	}
	for _, f := range schema.FieldsOf(was) {
		own := now[f.Name]
		if own == nil {
			c.add(Breaking, f.Coordinate(), "is gone")
			continue
		}
		delete(now, f.Name)
		switch before, after := f.Type.String(), own.Type.String(); {
		case before == after:
		case gives(c.now, own.Type, f.Type):
			c.add(Safe, f.Coordinate(), "is %s now, and was %s", after, before)
		default:
			c.add(Breaking, f.Coordinate(), "is %s now, and was %s", after, before)
		}
		c.inputs(f.Args, own.Args)
		c.rules(f.Coordinate(), f.Directives, own.Directives)
		c.deprecated(f.Coordinate(), f.Deprecated, own.Deprecated)
	}
	for _, f := range schema.FieldsOf(is) {
		if now[f.Name] != nil {
			c.add(Safe, f.Coordinate(), "is new")
		}
	}
}

// rules compares for whom something is. Schemas as clients read them do not say it.
func (c *comparison) rules(coordinate string, was, is []*language.Directive) {
	if !asWritten(c.old) || !asWritten(c.now) {
		return
	}
	if before, after := whom(was), whom(is); before != after {
		c.add(Risky, coordinate, "is for %s now, and was for %s", after, before)
	}
}

// asWritten reports whether a schema says where its data is, as its authors write it and no client reads it.
func asWritten(s *schema.Schema) bool {
	return slices.ContainsFunc(s.Types(), func(t schema.Named) bool { return t.About().Directive("stored") != nil })
}

// rule is the directive that says for whom something is.
const rule = "for"

// whom says for whom something is.
func whom(list []*language.Directive) string {
	var ways []string
	for _, d := range list {
		if d.Name.Text != rule {
			continue
		}
		var parts []string
		if roles, ok := d.Argument("roles").(*language.ListValue); ok && len(roles.Values) == 0 {
			parts = append(parts, "nobody")
		} else if ok {
			parts = append(parts, strings.Trim(language.PrintValue(roles), "[]"))
		}
		if when := d.Argument("when"); when != nil {
			parts = append(parts, "those of whom it is true that "+strings.Trim(language.PrintValue(when), `"`))
		}
		ways = append(ways, strings.Join(parts, " and "))
	}
	if len(ways) == 0 {
		return "everybody"
	}
	slices.Sort(ways)
	return strings.Join(ways, ", or ")
}

// gives reports whether what is given as one type can stand where another one, of the schema
// before, was promised.
func gives(now *schema.Schema, is, was schema.Type) bool {
	if n, ok := is.(*schema.NonNull); ok {
		if m, ok := was.(*schema.NonNull); ok {
			return gives(now, n.Elem, m.Elem)
		}
		return gives(now, n.Elem, was)
	}
	if l, ok := is.(*schema.List); ok {
		m, ok := was.(*schema.List)
		return ok && gives(now, l.Elem, m.Elem)
	}
	named, ok := was.(schema.Named)
	if !ok {
		return false
	}
	other := now.Visible(named.String())
	return is.String() == named.String() || other != nil && now.IsSubType(is, other)
}

// takes reports whether all that one type took is taken by another one.
func takes(is, was schema.Type) bool {
	if n, ok := was.(*schema.NonNull); ok {
		if m, ok := is.(*schema.NonNull); ok {
			return takes(m.Elem, n.Elem)
		}
		return takes(is, n.Elem)
	}
	if l, ok := was.(*schema.List); ok {
		m, ok := is.(*schema.List)
		return ok && takes(m.Elem, l.Elem)
	}
	if m, ok := is.(*schema.List); ok { // one is a list of one (section 3.11)
		return takes(m.Elem, was)
	}
	return is.String() == was.String()
}

// inputs compares arguments, or the fields of an input object.
func (c *comparison) inputs(was, is []*schema.Input) {
	for _, in := range was {
		i := slices.IndexFunc(is, func(own *schema.Input) bool { return own.Name == in.Name })
		if i < 0 {
			c.add(Breaking, in.Coordinate, "is gone")
			continue
		}
		own := is[i]
		c.rules(in.Coordinate, in.Directives, own.Directives)
		switch before, after := in.Type.String(), own.Type.String(); {
		case before == after && !in.Required() && own.Required():
			c.add(Breaking, in.Coordinate, "must be given now")
		case before == after:
		case takes(own.Type, in.Type) && (in.Required() || !own.Required()):
			c.add(Safe, in.Coordinate, "takes %s now, and took %s", after, before)
		default:
			c.add(Breaking, in.Coordinate, "takes %s now, and took %s", after, before)
		}
		if before, after := preset(in), preset(own); before != after {
			c.add(Risky, in.Coordinate, "is %s where it is left out, and was %s", after, before)
		}
		c.deprecated(in.Coordinate, in.Deprecated, own.Deprecated)
	}
	for _, in := range is {
		if !slices.ContainsFunc(was, func(own *schema.Input) bool { return own.Name == in.Name }) {
			if in.Required() {
				c.add(Breaking, in.Coordinate, "is new, and must be given")
			} else {
				c.add(Safe, in.Coordinate, "is new")
			}
		}
	}
}

// preset writes what stands for an argument that is left out.
func preset(in *schema.Input) string {
	if in.Default == nil {
		return "nothing"
	}
	return language.PrintValue(in.Default)
}

// interfaces compares what two types implement.
func (c *comparison) interfaces(was, is schema.Named) {
	names := func(t schema.Named) (list []string) {
		for _, i := range schema.InterfacesOf(t) {
			list = append(list, i.Name)
		}
		return list
	}
	before, after := names(was), names(is)
	for _, name := range before {
		if !slices.Contains(after, name) {
			c.add(Breaking, was.String(), "implements %s no more", name)
		}
	}
	for _, name := range after {
		if !slices.Contains(before, name) {
			class := Risky // where the interface is given, it can be this
			if c.old.Visible(name) == nil {
				class = Safe
			}
			c.add(class, was.String(), "implements %s", name)
		}
	}
}

// members compares two unions.
func (c *comparison) members(was, is *schema.Union) {
	has := func(u *schema.Union, name string) bool {
		return slices.ContainsFunc(u.Members, func(o *schema.Object) bool { return o.Name == name })
	}
	for _, o := range was.Members {
		if !has(is, o.Name) {
			c.add(Breaking, was.Name, "has %s no more", o.Name)
		}
	}
	for _, o := range is.Members {
		if !has(was, o.Name) {
			c.add(Risky, was.Name, "can be %s now", o.Name)
		}
	}
}

// values compares two enums.
func (c *comparison) values(was, is *schema.Enum) {
	for _, v := range was.Values {
		own := is.Value(v.Name)
		if own == nil {
			c.add(Breaking, was.Name+"."+v.Name, "is gone")
			continue
		}
		c.rules(was.Name+"."+v.Name, v.Directives, own.Directives)
		c.deprecated(was.Name+"."+v.Name, v.Deprecated, own.Deprecated)
	}
	for _, v := range is.Values {
		if was.Value(v.Name) == nil {
			c.add(Risky, was.Name+"."+v.Name, "is new, and can be answered")
		}
	}
}

// deprecated compares whether something should not be used any more.
func (c *comparison) deprecated(coordinate string, was, is *string) {
	switch {
	case was != nil && is == nil:
		c.add(Safe, coordinate, "is deprecated no more")
	case was == nil && is != nil:
		c.add(Safe, coordinate, "is deprecated")
	}
}

// directives compares the directives that operations can have.
func (c *comparison) directives() {
	for _, d := range c.old.DirectiveList() {
		own := c.now.Directive(d.Name)
		if own == nil {
			c.add(Breaking, "@"+d.Name, "is gone")
			continue
		}
		c.inputs(d.Args, own.Args)
	}
	for _, d := range c.now.DirectiveList() {
		if c.old.Directive(d.Name) == nil {
			c.add(Safe, "@"+d.Name, "is new")
		}
	}
}
