package binding

import (
	"errors"
	"slices"
	"strings"

	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
)

// reads binds the fields of a root type. A mutation can read too: its root
// fields run one after the other.
func (b *binder) reads(root *schema.Object) {
	if root == nil {
		return
	}
	for _, f := range root.Fields {
		d := directive(f, "read")
		if computed := directive(f, "computed"); computed != nil {
			if bound := b.computed(place{}, f, computed); bound != nil {
				b.bound.roots[f] = bound
			}
			continue
		}
		if total := directive(f, "total"); total != nil && d == nil {
			if bound := b.totalField(place{}, f, total); bound != nil {
				b.bound.roots[f] = bound
			}
			continue
		}
		if group := b.group(f); group != nil {
			b.bound.roots[f] = b.grouped(f, group)
			continue
		}
		if by, action := writing(f); by != nil {
			if bound := b.write(f, by, action); bound != nil {
				b.bound.roots[f] = bound
			}
			continue
		}
		if d == nil {
			fix := "write @read behind it"
			if f.Owner == schema.Named(b.bound.Schema.Mutation) {
				fix = "write @add, @change, @remove, @pair or @unpair behind it, or @computed(by: …) with a function that makes the change"
			}
			b.fail(ruleUnbound, f.Pos, f.Coordinate(), fix, msgNothingSaysWhereComes, f.Coordinate())
			continue
		}
		if bound := b.rootRead(f, d); bound != nil {
			b.bound.roots[f] = bound
		}
	}
}

// rootRead binds a root field with @read; nil after telling why not.
func (b *binder) rootRead(f *schema.Field, d *language.Directive) *Field {
	var parts []*Field
	for _, t := range b.targets(f, d.Pos) {
		part := &Field{Def: f, How: Read, Target: t.records, Only: t.only}
		_, part.Page = b.recordType(f)
		_, part.Many = schema.ListElem(f.Type)
		if part.Page != nil {
			part.Many = true
			b.page(f, part)
		}
		part.Sort = b.sorts(language.Texts(d.Argument("sort")), part.Target, d.Pos, f.Coordinate())
		b.arguments(f, part)
		b.had(f, d, part)
		b.checkOne(f, part)
		b.keyReader(nil, f, d.Pos, part, nil)
		parts = append(parts, part)
	}
	if len(parts) == 0 {
		return nil
	}
	return b.merged(place{}, f, parts)
}

// checkOne checks that a root field which promises one record gets a unique key.
func (b *binder) checkOne(f *schema.Field, bound *Field) {
	if bound.Many {
		return
	}
	if schema.IsNonNull(f.Type) {
		b.warn(ruleNullable, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), msgRequiredWhenNoRecord, f.Coordinate())
	}
	var given []string
	for _, c := range bound.Has {
		given = append(given, c.Path)
	}
	for _, a := range bound.Args {
		if a.Role == Equal && !a.Many && !a.Day && schema.IsNonNull(a.Def.Type) {
			given = append(given, a.Path)
		}
	}
	unique := len(bound.Target.Key) > 0
	for _, key := range bound.Target.Key {
		unique = unique && slices.Contains(given, key)
	}
	info := bound.Target.Info
	if info != nil && info.Unique(given) {
		unique = true
	}
	if !unique && info != nil {
		b.fail(ruleUnique, f.Pos, f.Coordinate(), "make it a list, or give it a required argument for every field of a unique key", msgPromisesOneArgumentsDo, f.Coordinate(), schema.NamedOf(f.Type), bound.Target.Set)
	}
	bound.Single = unique
}

// had binds what the records of a read have by who asks.
func (b *binder) had(f *schema.Field, d *language.Directive, bound *Field) {
	for _, item := range language.Texts(d.Argument("where")) {
		name, expr, ok := strings.Cut(item, ":")
		if name = strings.TrimSpace(name); !ok {
			b.fail(ruleArgument, d.Pos, f.Coordinate(), "write \"field: expression\", such as \"id: caller.id\"", msgSetForm, f.Coordinate(), item)
			continue
		}
		if _, err := expression.Compile(strings.TrimSpace(expr), map[string]*expression.Type{"caller": expression.Caller}, &expression.Type{Nullable: true}); err != nil {
			msg, fix := err.Error(), ""
			if m := (*expression.Mistake)(nil); errors.As(err, &m) {
				msg, fix = m.Msg, m.Fix
			}
			b.fail(ruleArgument, d.Pos, f.Coordinate(), fix, msgSetExpression, name, f.Coordinate(), msg)
			continue
		}
		on := schema.Named(bound.Target.Type)
		if len(bound.Only) == 1 {
			on = bound.Only[0]
		}
		c := &conditions{binder: b, on: on, at: place{records: bound.Target, source: bound.Target.Source}}
		cond := c.asked(&expression.Condition{Op: expression.CondCompare, Path: []string{name}, Is: "==", Value: strings.TrimSpace(expr)})
		if cond == nil {
			b.fail(ruleArgument, d.Pos, f.Coordinate(), "", msgSetNoField, f.Coordinate(), name, on, language.DidYouMean(name, leafNames(on)))
			continue
		}
		bound.Has = append(bound.Has, cond)
	}
}

// arguments binds the arguments of a read or relationship.
func (b *binder) arguments(f *schema.Field, bound *Field) {
	of := schema.Named(bound.Target.Type)
	if len(bound.Only) == 1 {
		of = bound.Only[0]
	}
	for _, a := range f.Args {
		arg := Arg{Def: a}
		d := a.Directive("at")
		role, pages := bound.pagingRole(a)
		switch {
		case d == nil && pages:
			arg.Role = role
		case d == nil && bound.Many && bound.Aggregate == nil && a.Name == "sort":
			arg.Role = SortBy
			if !b.sortArgument(a, bound.Target, of, &arg) {
				continue
			}
		case d == nil && bound.Many && a.Name == "filter":
			arg.Role = FilterBy
			if !b.filterArgument(a, bound.Target, of, &arg) {
				continue
			}
		default:
			if !b.equalArgument(f, a, d, bound.Target, &arg) {
				continue
			}
		}
		bound.Args = append(bound.Args, arg)
	}
}

// pagingRole returns what an argument of its name and type says of a page, and
// whether it says anything.
func (f *Field) pagingRole(a *schema.Input) (Role, bool) {
	typ := schema.Nullable(a.Type).String()
	switch isInt, isText := typ == "Int", typ == "String" || typ == "ID"; {
	case !f.Many || f.Aggregate != nil:
	case f.Page == nil && a.Name == "limit" && isInt:
		return Limit, true
	case f.Page == nil && a.Name == "offset" && isInt:
		return Offset, true
	case f.Page == nil:
	case a.Name == "first" && isInt:
		return First, true
	case a.Name == "last" && isInt:
		return Last, true
	case a.Name == "after" && isText:
		return Behind, true
	case a.Name == "before" && isText:
		return Ahead, true
	}
	return 0, false
}

// equalArgument binds an argument that narrows by equality or membership.
func (b *binder) equalArgument(f *schema.Field, a *schema.Input, d *language.Directive, target *Records, arg *Arg) bool {
	named := schema.NamedOf(a.Type)
	if !schema.IsLeaf(named) {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
		return false
	}
	if d != nil {
		arg.Path = text(d, "path")
		b.tellsOfPath(a.Coordinate, target, arg.Path)
	} else {
		b.tellsOf(a.Coordinate, fieldOf(b.bound.Schema, target.Type, a.Name))
		path, _, ok := b.leafPath(target, a.Name)
		if !ok {
			b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out, or say with @at(path: \"…\") which stored field it narrows", msgNothingUsesArgumentNo, a.Name, f.Coordinate(), target.Type, language.DidYouMean(a.Name, leafNames(target.Type)))
			return false
		}
		arg.Path = path
	}
	info := b.info(d, target, arg.Path, a.Coordinate, "the field narrowed by "+a.Coordinate)
	kind, codec, err := fitCompared(named, valueOf(info))
	if err != nil {
		b.fail(ruleFits, a.Pos, a.Coordinate, "", msgArgumentType, a.Coordinate, named, target.Set, arg.Path, info.Type, err)
		return false
	}
	arg.Kind, arg.Day = kind, codec == scalar.DayOfMoment
	_, arg.Many = schema.ListElem(a.Type)
	if e, ok := named.(*schema.Enum); ok {
		arg.Enum = b.enum(e, target, target.Source, info)
	}
	return true
}
