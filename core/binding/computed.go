package binding

import (
	"slices"
	"strings"

	"osprey/core/expression"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/validate"
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

// expression binds a field that an expression gives.
func (b *binder) expression(f *schema.Field, d *language.Directive, text string) *Field {
	named := schema.NamedOf(f.Type)
	if !schema.IsLeaf(named) {
		b.fail(ruleComputed, f.Pos, f.Coordinate(), "make a field for each of its values, or write a function", msgExpressionLeaf, f.Coordinate(), f.Type)
		return nil
	}
	inputs := map[string]*expression.Type{"args": b.argsType(f)}
	root := b.isRoot(f.Owner)
	if !root {
		inputs["record"] = b.recordOf(f.Owner, false)
	}
	program, err := expression.Compile(text, inputs, b.expressionType(f.Type))
	if err != nil {
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "", msgExpression, f.Coordinate(), err)
		return nil
	}
	bound := &Field{Def: f, How: Computed, Expr: program, Result: b.result(f, nil)}
	for _, a := range f.Args {
		if !slices.ContainsFunc(program.Needs["args"], func(n *expression.Need) bool { return n.Name == a.Name }) {
			b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out, or use args."+a.Name, msgNothingUsesArgument, a.Name, f.Coordinate())
		}
		bound.Args = append(bound.Args, Arg{Def: a, Role: Passed})
	}
	if needs := program.Needs["record"]; len(needs) > 0 {
		var w strings.Builder
		b.writeNeeds(&w, f.Owner, needs)
		bound.Needs = parseSelection(w.String())
		b.needs[f] = bound.Needs
	}
	return bound
}

func (b *binder) isRoot(t schema.Named) bool {
	for _, kind := range []language.OperationKind{language.Query, language.Mutation, language.Subscription} {
		if root := b.bound.Schema.Root(kind); root != nil && schema.Named(root) == t {
			return true
		}
	}
	return false
}

// writeNeeds writes what an expression looks at of a type as a selection.
func (b *binder) writeNeeds(w *strings.Builder, t schema.Named, needs []*expression.Need) {
	w.WriteString("{")
	if len(needs) == 0 {
		w.WriteString(" __typename")
	}
	for _, n := range needs {
		w.WriteString(" " + n.Name)
		if n.Name == "__typename" {
			continue
		}
		if named := schema.NamedOf(t.(schema.Composite).Field(n.Name).Type); !schema.IsLeaf(named) {
			b.writeNeeds(w, named, n.Needs)
		}
	}
	w.WriteString(" }")
}

// parseSelection parses a selection; nil if it is none.
func parseSelection(text string) *language.SelectionSet {
	doc, problems := language.Parse(language.NewSource("", text))
	if problems.Failed() || len(doc.Definitions) != 1 {
		return nil
	}
	op, ok := doc.Definitions[0].(*language.Operation)
	if !ok {
		return nil
	}
	return op.Selections
}

// expressionType returns what values of a type are to an expression.
func (b *binder) expressionType(t schema.Type) *expression.Type {
	nullable := !schema.IsNonNull(t)
	if elem, ok := schema.ListElem(t); ok {
		return &expression.Type{Kind: expression.List, Elem: b.expressionType(elem), Nullable: nullable}
	}
	named := schema.NamedOf(t)
	if !schema.IsLeaf(named) {
		if _, ok := named.(schema.Composite); ok {
			return b.recordOf(named, nullable)
		}
		return &expression.Type{Nullable: nullable}
	}
	return &expression.Type{Kind: expressionKind(named), Nullable: nullable}
}

func expressionKind(t schema.Named) expression.Kind {
	if _, ok := t.(*schema.Enum); ok {
		return expression.Text // by their names
	}
	switch t.String() {
	case "Int", "Int64":
		return expression.Int
	case "Float", "Decimal":
		return expression.Float
	case "Boolean":
		return expression.Bool
	case "DateTime", "Date":
		return expression.Moment
	case "String", "ID", "UUID", "URL", "Time", "Duration":
		return expression.Text
	}
	return expression.Any
}

// recordOf returns records of a type as an expression sees them: its fields but
// for those that must be given arguments, and pages.
func (b *binder) recordOf(t schema.Named, nullable bool) *expression.Type {
	return &expression.Type{Kind: expression.Record, Name: t.String(), Nullable: nullable, Field: func(name string) *expression.Type {
		c, ok := t.(schema.Composite)
		if ok && name == "__typename" {
			return &expression.Type{Kind: expression.Text}
		}
		if !ok || c.Field(name) == nil {
			return nil
		}
		f := c.Field(name)
		_, page := b.recordType(f)
		if page != nil || slices.ContainsFunc(f.Args, (*schema.Input).Required) {
			return nil
		}
		return b.expressionType(f.Type)
	}}
}

func (b *binder) argsType(f *schema.Field) *expression.Type {
	return &expression.Type{Kind: expression.Record, Name: "arguments of " + f.Coordinate(), Field: func(name string) *expression.Type {
		a := f.Arg(name)
		if a == nil {
			return nil
		}
		t := b.expressionType(a.Type)
		t.Nullable = t.Nullable && a.Default == nil
		return t
	}}
}

// call binds a field that a function gives.
func (b *binder) call(f *schema.Field, d *language.Directive, by string) *Field {
	name, function, _ := strings.Cut(by, ".")
	source := b.bound.Sources[name]
	if source == nil || source.Functions == nil || function == "" {
		var names []string
		for n, s := range b.bound.Sources {
			if s.Functions != nil {
				names = append(names, n)
			}
		}
		slices.Sort(names)
		fix := "add a source of the kind functions to osprey.yaml"
		if len(names) > 0 {
			fix = "sources of functions are " + strings.Join(names, ", ")
		}
		b.fail(ruleComputed, d.Pos, f.Coordinate(), fix, msgNoFunction, f.Coordinate(), by, language.DidYouMean(name, names))
		return nil
	}
	bound := &Field{Def: f, How: Called, Source: source, Function: function}
	signature := store.Signature{Args: &store.Shape{}, Result: b.shapeOf(f.Type, nil)}
	if root := b.isRoot(f.Owner); !root {
		signature.Record = &store.Shape{}
	}
	if text := text(d, "needs"); text != "" {
		if !b.neededFields(f, d, bound, text) {
			return nil
		}
		signature.Record = b.selectionShape(f.Owner, bound.Needs)
	}
	for _, a := range f.Args {
		bound.Args = append(bound.Args, Arg{Def: a, Role: Passed})
		shape := b.shapeOf(a.Type, nil)
		shape.Name = a.Name
		shape.Nullable = shape.Nullable && a.Default == nil
		signature.Args.Fields = append(signature.Args.Fields, shape)
	}
	if bound.Result = b.result(f, source); bound.Result == nil {
		return nil
	}
	if err := source.Functions.CheckFunction(function, signature); err != nil {
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "", msgFunction, f.Coordinate(), by, err)
		return nil
	}
	return bound
}

// neededFields reads what a function needs of its record; false after telling
// what is wrong.
func (b *binder) neededFields(f *schema.Field, d *language.Directive, bound *Field, text string) bool {
	if b.isRoot(f.Owner) {
		b.fail(ruleComputed, d.Pos, f.Coordinate(), "leave needs out, and give it arguments", msgNeedsOfRoot, f.Coordinate())
		return false
	}
	src := language.NewSource("", "{ "+text+" }")
	_, problems := language.Parse(src)
	if bound.Needs = parseSelection("{ " + text + " }"); bound.Needs != nil {
		problems = validate.Selections(b.bound.Schema, bound.Needs, f.Owner.(schema.Composite))
	}
	if len(problems) > 0 {
		b.fail(ruleComputed, d.Pos, f.Coordinate(), problems[0].Fix, msgNeeds, f.Coordinate(), problems[0].Msg)
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
	bound := &Field{Def: f, Many: isList}
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
	bound.How, bound.Wanted = Nested, store.Wanted{Kind: store.Record}
	if isList {
		bound.Wanted.Kind = store.Records
	}
	if bound.Nested = b.nestedShape(place{source: source}, f, named); bound.Nested == nil {
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

// selectionShape returns what a selection of a type gives.
func (b *binder) selectionShape(t schema.Named, set *language.SelectionSet) *store.Shape {
	shape := &store.Shape{}
	for _, sel := range set.List {
		f, ok := sel.(*language.Field)
		if !ok {
			shape.Open = true
			continue
		}
		def := b.bound.Schema.TypeName(t)
		if f.Name.Text != "__typename" {
			def = t.(schema.Composite).Field(f.Name.Text)
		}
		field := b.shapeOf(def.Type, f.Selections)
		field.Name = f.ResponseName()
		shape.Fields = append(shape.Fields, field)
	}
	return shape
}

// shapeOf returns the values of a type as JSON has them; of an object the fields
// that are selected, or those that are stored in it.
func (b *binder) shapeOf(t schema.Type, set *language.SelectionSet) *store.Shape {
	nullable := !schema.IsNonNull(t)
	if elem, ok := schema.ListElem(t); ok {
		return &store.Shape{Elem: b.shapeOf(elem, set), Nullable: nullable}
	}
	named := schema.NamedOf(t)
	switch named := named.(type) {
	case *schema.Enum:
		return &store.Shape{Scalar: "String", Nullable: nullable}
	case *schema.Scalar:
		return &store.Shape{Scalar: named.Name, Nullable: nullable}
	}
	if set != nil {
		shape := b.selectionShape(named, set)
		shape.Nullable = nullable
		return shape
	}
	return &store.Shape{Fields: b.givenFields(named, map[schema.Named]bool{}), Nullable: nullable, Open: !isObject(named)}
}

func isObject(t schema.Named) bool {
	switch t.(type) {
	case *schema.Object, *schema.InputObject:
		return true
	}
	return false
}

// givenFields returns the fields that an object of a type holds itself. Those
// of a type inside itself are left out.
func (b *binder) givenFields(t schema.Named, above map[schema.Named]bool) []*store.Shape {
	if above[t] {
		return nil
	}
	above[t] = true
	defer delete(above, t)
	var list []*store.Shape
	add := func(name string, typ schema.Type) {
		shape := &store.Shape{Name: name, Nullable: !schema.IsNonNull(typ)}
		inner := shape
		for elem, ok := schema.ListElem(typ); ok; elem, ok = schema.ListElem(typ) {
			inner.Elem = &store.Shape{Nullable: !schema.IsNonNull(elem)}
			inner, typ = inner.Elem, elem
		}
		switch named := schema.NamedOf(typ).(type) {
		case *schema.Enum:
			inner.Scalar = "String"
		case *schema.Scalar:
			inner.Scalar = named.Name
		default:
			inner.Fields, inner.Open = b.givenFields(named, above), !isObject(named) || above[named]
		}
		list = append(list, shape)
	}
	if in, ok := t.(*schema.InputObject); ok {
		for _, f := range in.Fields {
			add(f.Name, f.Type)
		}
	}
	if o, ok := t.(*schema.Object); ok {
		for _, f := range o.Fields {
			if directive(f, "related") == nil && directive(f, "computed") == nil && directive(f, "total") == nil {
				add(f.Name, f.Type)
			}
		}
	}
	return list
}

// cycles tells of computed fields that need themselves.
func (b *binder) cycles() {
	state := map[*schema.Field]int{} // 1 while it is looked at, 2 when done
	var path []*schema.Field
	var visit func(f *schema.Field)
	visit = func(f *schema.Field) {
		switch state[f] {
		case 2:
			return
		case 1:
			var names []string
			for _, on := range path[slices.Index(path, f):] {
				names = append(names, on.Coordinate())
			}
			b.fail(ruleComputed, f.Pos, f.Coordinate(), "leave one of them out of what the other needs", msgNeedsItself, f.Coordinate(), strings.Join(append(names, f.Coordinate()), " → "))
			return
		}
		state[f] = 1
		path = append(path, f)
		for _, needed := range b.neededBy(f.Owner, b.needs[f], nil) {
			visit(needed)
		}
		path = path[:len(path)-1]
		state[f] = 2
	}
	for _, t := range b.bound.Schema.Types() {
		if o, ok := t.(*schema.Object); ok {
			for _, f := range o.Fields {
				if b.needs[f] != nil {
					visit(f)
				}
			}
		}
	}
}

// neededBy adds the computed fields in a selection of a type to a list.
func (b *binder) neededBy(t schema.Named, set *language.SelectionSet, list []*schema.Field) []*schema.Field {
	if set == nil {
		return list
	}
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.InlineFragment:
			on := t
			if sel.On.Text != "" {
				on = b.bound.Schema.Type(sel.On.Text)
			}
			list = b.neededBy(on, sel.Selections, list)
		case *language.Field:
			for _, o := range b.bound.Schema.Possible(t) {
				f := o.Field(sel.Name.Text)
				if f == nil {
					continue
				}
				if b.needs[f] != nil {
					list = append(list, f)
				}
				list = b.neededBy(schema.NamedOf(f.Type), sel.Selections, list)
			}
		}
	}
	return list
}
