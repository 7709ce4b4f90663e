package binding

import (
	"errors"
	"slices"
	"strings"

	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds fields whose values are computed: by expressions and by
// functions.

// computed binds a field with @computed; nil after telling why not.
func (b *binder) computed(p place, f *schema.Field, d *language.Directive) *Field {
	expr, by := text(d, "expr"), text(d, "by")
	switch {
	case (expr == "") == (by == ""):
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "write expr: \"…\" or by: \"…\"", msgComputedHow, f.Coordinate())
		return nil
	case expr != "" && text(d, "needs") != "":
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "leave needs out", msgNeedsOfExpression, f.Coordinate())
		return nil
	case directive(f, "related") != nil || f.Directive("read") != nil || directive(f, "total") != nil || directive(f, "at") != nil:
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "leave one of them out", msgComputedAnd, f.Coordinate())
		return nil
	case expr != "":
		return b.expression(f, d, expr)
	}
	return b.call(f, d, by)
}

// expression binds a field that an expression gives. An object that is written out is
// made of its entries, each an expression of its own, so that one can give records:
//
//	{'both': record.quays.filter(…), 'how': 'by code'}
func (b *binder) expression(f *schema.Field, d *language.Directive, text string) *Field {
	named := schema.NamedOf(f.Type)
	made, _ := named.(*schema.Object)
	entries := expression.Entries(text)
	var bound *Field
	if made != nil && entries != nil && b.bound.records[made] == nil && schema.Depth(f.Type) == 0 {
		bound = b.written(f, d, made, entries)
	} else {
		bound = b.evaluated(f, f, d, text)
	}
	if bound == nil {
		return nil
	}
	for _, a := range f.Args {
		if !usesArg(bound, a.Name) {
			b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out, or use args."+a.Name, msgNothingUsesArgument, a.Name, f.Coordinate())
		}
		bound.Args = append(bound.Args, Arg{Def: a, Role: Passed})
	}
	return bound
}

// usesArg reports whether an expression looks at an argument.
func usesArg(f *Field, name string) bool {
	for _, entry := range f.Entries {
		if usesArg(entry, name) {
			return true
		}
	}
	return f.Expr != nil && slices.ContainsFunc(f.Expr.Needs["args"], func(n *expression.Need) bool { return n.Name == name })
}

// written binds a field whose expression writes an object out.
func (b *binder) written(f *schema.Field, d *language.Directive, made *schema.Object, entries map[string]string) *Field {
	bound := &Field{Def: f, How: Computed, Entries: map[string]*Field{}}
	for name := range entries {
		if made.Field(name) == nil {
			b.fail(ruleComputed, d.Pos, f.Coordinate(), "", msgEntryNoField, f.Coordinate(), name, made, language.DidYouMean(name, schema.FieldNames(made)))
		}
	}
	for _, of := range made.Fields {
		text, ok := entries[of.Name]
		switch {
		case !ok && schema.IsNonNull(of.Type):
			b.fail(ruleComputed, d.Pos, f.Coordinate(), "add it, or make "+of.Coordinate()+" "+schema.Nullable(of.Type).String(), msgEntryMissing, f.Coordinate(), of.Name)
			return nil
		case !ok:
			text = "null"
		case len(of.Args) > 0 || len(of.Directives) > 0:
			b.fail(ruleComputed, of.Pos, of.Coordinate(), "leave them out", msgMadeOfValues, of.Coordinate(), f.Coordinate())
			return nil
		}
		entry := b.evaluated(f, of, d, text)
		if entry == nil {
			return nil
		}
		bound.Entries[of.Name] = entry
		if entry.Needs != nil { // all of them together are what the field needs
			if b.needs[f] == nil {
				b.needs[f] = &language.SelectionSet{}
			}
			b.needs[f].List = append(b.needs[f].List, entry.Needs.List...)
		}
	}
	return bound
}

// evaluated binds an expression that stands at the field f and gives what the field of
// is: f itself, or a field of the object that f makes.
func (b *binder) evaluated(f, of *schema.Field, d *language.Directive, text string) *Field {
	on := b.rootOf(f.Owner)
	inputs := map[string]*expression.Type{"args": b.argsType(f), "record": b.recordOf(on, false), "caller": expression.Caller}
	program, err := expression.Compile(text, inputs, b.expressionType(of.Type))
	if err != nil {
		msg, fix := err.Error(), ""
		if m := (*expression.Mistake)(nil); errors.As(err, &m) {
			msg, fix = m.Msg, m.Fix
		}
		b.fail(ruleComputed, d.Pos, f.Coordinate(), fix, msgExpression, f.Coordinate(), msg)
		return nil
	}
	bound := &Field{Def: of, How: Computed, Expr: program, NeedsOn: on}
	if program.Gives != nil {
		if !b.gives(f, of, d, on, program.Gives) {
			return nil
		}
	} else if bound.Result = b.made(f, of, d); bound.Result == nil {
		return nil
	}
	if needs := program.Needs["record"]; len(needs) > 0 {
		var w strings.Builder
		b.writeNeeds(&w, on, needs)
		var msg string
		if bound.Needs, msg, _ = b.parseSelection(w.String(), on.(schema.Composite)); bound.Needs == nil {
			b.fail(ruleComputed, d.Pos, f.Coordinate(), "", msgExpression, f.Coordinate(), msg)
			return nil
		}
		if f == of {
			b.needs[f] = bound.Needs
		}
	}
	return bound
}

// gives checks that the records that an expression gives are those of one record set,
// or nested in others; false after telling why not.
func (b *binder) gives(f, of *schema.Field, d *language.Directive, on schema.Named, path []string) bool {
	named := schema.NamedOf(of.Type)
	var sets []*Records
	for _, o := range b.bound.Schema.Possible(named) {
		if r := b.bound.records[o]; !slices.Contains(sets, r) {
			sets = append(sets, r)
		}
	}
	if len(sets) > 1 || schema.Depth(of.Type) > 1 || len(path) == 0 {
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "give records of one of its types, in one list", msgGivesSeveral, f.Coordinate(), of.Type)
		return false
	}
	return true
}

// made binds what an expression makes of values.
func (b *binder) made(f, of *schema.Field, d *language.Directive) *Field {
	named := schema.NamedOf(of.Type)
	for _, o := range b.bound.Schema.Possible(named) {
		if b.bound.records[o] != nil {
			b.fail(ruleComputed, d.Pos, f.Coordinate(), "give records that it reads, or an object of another type", msgExpressionStored, f.Coordinate(), o)
			return nil
		}
		for _, inner := range o.Fields {
			if len(inner.Args) > 0 || directive(inner, "related") != nil || directive(inner, "computed") != nil || directive(inner, "total") != nil {
				b.fail(ruleComputed, inner.Pos, inner.Coordinate(), "write the object out, {'"+inner.Name+"': …}, or use a function", msgMadeOfValues, inner.Coordinate(), f.Coordinate())
				return nil
			}
		}
	}
	return b.result(of, madeHere)
}

// madeHere stands for the source of what expressions make.
var madeHere = &Source{Naming: Exact, Capabilities: store.Capabilities{CanCall: func(string, store.Signature) error { return nil }}}

func (b *binder) isRoot(t schema.Named) bool {
	for _, kind := range []language.OperationKind{language.Query, language.Mutation, language.Subscription} {
		if root := b.bound.Schema.Root(kind); root != nil && schema.Named(root) == t {
			return true
		}
	}
	o, _ := t.(*schema.Object)
	return b.groups[o]
}

// rootOf returns the type at which a computed field of a root type looks: for a
// query's, the type itself; for a mutation's, the query type.
func (b *binder) rootOf(t schema.Named) schema.Named {
	if m := b.bound.Schema.Mutation; m != nil && t == schema.Named(m) {
		return b.bound.Schema.Query
	}
	return t
}

// call binds a field that a function gives.
func (b *binder) call(f *schema.Field, d *language.Directive, by string) *Field {
	source, function := b.functionOf(f, d, by, msgNoFunction)
	if source == nil {
		return nil
	}
	bound := &Field{Def: f, How: Called, Source: source, Function: function}
	signature := store.Signature{Args: &store.ValueType{}, Result: b.valueTypeOf(f.Type, nil)}
	if root := b.isRoot(f.Owner); !root {
		signature.Record = &store.ValueType{}
	}
	if text := text(d, "needs"); text != "" {
		if !b.neededFields(f, d, bound, text) {
			return nil
		}
		signature.Record = b.selectedType(b.rootOf(f.Owner), bound.Needs)
	}
	b.passed(f, bound, signature.Args)
	if bound.Result = b.result(f, source); bound.Result == nil {
		return nil
	}
	if err := source.Capabilities.CanCall(function, signature); err != nil {
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "", msgFunction, f.Coordinate(), by, err)
		return nil
	}
	return bound
}

// functionOf returns the source of a function and its name there; nil after telling, as
// format says it, that there is none.
func (b *binder) functionOf(f *schema.Field, d *language.Directive, by, format string) (*Source, string) {
	name, function, _ := strings.Cut(by, ".")
	source := b.bound.Sources[name]
	if source == nil || source.Capabilities.CanCall == nil || function == "" {
		var names []string
		for n, s := range b.bound.Sources {
			if s.Capabilities.CanCall != nil {
				names = append(names, n)
			}
		}
		slices.Sort(names)
		fix := "declare its source under sources: in osprey.yaml, of the kind functions, or, if a Go program brings the function, as { kind: program }"
		if len(names) > 0 {
			fix += "; declared are " + strings.Join(names, ", ")
		}
		b.fail(ruleComputed, d.Pos, f.Coordinate(), fix, format, f.Coordinate(), by, language.DidYouMean(name, names))
		return nil, ""
	}
	return source, function
}

// passed gives all arguments of a field to its function.
func (b *binder) passed(f *schema.Field, bound *Field, shapes *store.ValueType) {
	for _, a := range f.Args {
		bound.Args = append(bound.Args, Arg{Def: a, Role: Passed})
		shape := b.valueTypeOf(a.Type, nil)
		shape.Name = a.Name
		shape.Nullable = shape.Nullable && a.Default == nil
		shapes.Fields = append(shapes.Fields, shape)
	}
}

// neededFields reads what a function needs of its record; false after telling
// what is wrong.
func (b *binder) neededFields(f *schema.Field, d *language.Directive, bound *Field, text string) bool {
	var msg, fix string
	bound.NeedsOn = b.rootOf(f.Owner)
	bound.Needs, msg, fix = b.parseSelection("{ "+text+"\n}", b.rootOf(f.Owner).(schema.Composite))
	if bound.Needs == nil {
		b.fail(ruleComputed, d.Pos, f.Coordinate(), fix, msgNeeds, f.Coordinate(), msg)
		return false
	}
	b.needs[f] = bound.Needs
	return true
}

// result binds what an expression or function gives. Enums have their names, and
// objects the naming rule of the function's source.
func (b *binder) result(f *schema.Field, source *Source) *Field {
	named := schema.NamedOf(f.Type)
	elem, isList := schema.ListElem(f.Type)
	bound := &Field{Def: f}
	if schema.IsLeaf(named) {
		kind, codec, _ := fit(named, store.Unknown)
		bound.How, bound.Codec, bound.Wanted = Column, codec, wantedOf("", kind, elem, isList)
		if e, ok := named.(*schema.Enum); ok {
			bound.Enum = enumNames(e)
		}
		return bound
	}
	for _, o := range b.bound.Schema.Possible(named) {
		if b.bound.records[o] != nil {
			b.fail(ruleComputed, f.Pos, f.Coordinate(), "give an object with the key of the record, and a field of it with @related", msgFunctionStored, f.Coordinate(), o)
			return nil
		}
	}
	bound.How, bound.Wanted = Nested, wantedOf("", store.Record, elem, isList)
	if bound.Nested = b.nestedType(place{source: source}, f, named); bound.Nested == nil {
		return nil
	}
	return bound
}

// enumNames returns an enum whose values are spelled as in the schema.
func enumNames(e *schema.Enum) *Enum {
	bound := &Enum{Type: e, Stored: map[string]string{}, Names: map[string]string{}}
	for _, v := range e.Values {
		bound.Stored[v.Name], bound.Names[v.Name] = v.Name, v.Name
	}
	return bound
}
