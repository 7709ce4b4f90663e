package binding

import (
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// reads binds the fields of a root type. A mutation can read too: its root
// fields run one after the other.
func (b *binder) reads(root *schema.Object) {
	if root == nil {
		return
	}
	for _, f := range root.Fields {
		d := directive(f, "read")
		if d == nil {
			b.fail(ruleUnbound, f.Pos, f.Coordinate(), "write @read behind it", msgNothingSaysWhereComes, f.Coordinate())
			continue
		}
		target, only := b.target(f, d.Pos)
		if target == nil {
			continue
		}
		bound := &Field{Def: f, How: Read, Target: target, Only: only}
		_, bound.Many = schema.ListElem(f.Type)
		b.arguments(f, bound)
		b.checkOne(f, bound)
		b.keyReader(f, d.Pos, bound, nil)
		b.bound.roots[f] = bound
	}
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
	for _, a := range bound.Args {
		if a.Role == Equal && !a.Many && schema.IsNonNull(a.Def.Type) {
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

// arguments binds the arguments of a read or relationship.
func (b *binder) arguments(f *schema.Field, bound *Field) {
	for _, a := range f.Args {
		arg := Arg{Def: a}
		d := a.Directive("at")
		switch {
		case d == nil && bound.Many && (a.Name == "limit" || a.Name == "offset") && schema.Nullable(a.Type).String() == "Int":
			arg.Role = Limit
			if a.Name == "offset" {
				arg.Role = Offset
			}
		case d == nil && bound.Many && a.Name == "sort":
			arg.Role = SortBy
			if !b.sortArgument(a, bound.Target, &arg) {
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

// equalArgument binds an argument that narrows by equality or membership.
func (b *binder) equalArgument(f *schema.Field, a *schema.Input, d *language.Directive, target *Records, arg *Arg) bool {
	pos, kind := a.Pos, store.Unknown
	named := schema.NamedOf(a.Type)
	if !schema.IsLeaf(named) {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
		return false
	}
	if d != nil {
		arg.Path, pos = text(d, "path"), d.Pos
	} else {
		path, ok := b.sortPath(target, a.Name)
		if !ok {
			b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out, or say with @at(path: \"…\") which stored field it narrows", msgNothingUsesArgumentNo, a.Name, f.Coordinate(), target.Type, language.DidYouMean(a.Name, leafNames(target.Type)))
			return false
		}
		arg.Path = path
	}
	info := b.mustExist(target, arg.Path, pos, a.Coordinate, "the field narrowed by "+a.Coordinate)
	if info != nil {
		kind = info.Kind
		if kind == store.List {
			kind = info.Elem
		}
	}
	kind, _, err := fit(named, kind)
	if err != nil {
		b.fail(ruleFits, pos, a.Coordinate, "", msgArgumentType, a.Coordinate, named, target.Set, arg.Path, info.Type, err)
		return false
	}
	arg.Kind = kind
	_, arg.Many = schema.ListElem(a.Type)
	if e, ok := named.(*schema.Enum); ok {
		arg.Enum = b.enum(e, target.Source, info)
	}
	return true
}

// sortArgument binds an argument "sort": a list of one-of inputs whose fields
// are the target's and whose values are an enum with ASC and DESC.
func (b *binder) sortArgument(a *schema.Input, target *Records, arg *Arg) bool {
	input, ok := schema.NamedOf(a.Type).(*schema.InputObject)
	if !ok || !input.OneOf {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "declare it as [<Type>Sort!] with input <Type>Sort @oneOf { field: Direction … }", msgArgumentMustListOne, a.Coordinate)
		return false
	}
	arg.Sorts = map[string]string{}
	for _, f := range input.Fields {
		e, ok := schema.NamedOf(f.Type).(*schema.Enum)
		if !ok || e.Value("ASC") == nil || e.Value("DESC") == nil {
			b.fail(ruleArgument, f.Pos, f.Coordinate, "use an enum with the values ASC and DESC", msgSortKeyTypeDoes, f.Coordinate, f.Type)
			continue
		}
		path, ok := b.sortPath(target, f.Name)
		if d := f.Directive("at"); d != nil {
			path, ok = text(d, "path"), true
		}
		if !ok {
			b.fail(ruleArgument, f.Pos, f.Coordinate, "", msgSortKeyNoField, f.Coordinate, target.Type, language.DidYouMean(f.Name, leafNames(target.Type)))
			continue
		}
		b.mustExist(target, path, f.Pos, f.Coordinate, "the sort key "+f.Coordinate)
		arg.Sorts[f.Name] = path
	}
	return true
}
