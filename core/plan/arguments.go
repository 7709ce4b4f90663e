package plan

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// arguments is what a field's arguments ask of a read.
type arguments struct {
	where         []store.Predicate
	values        []*Arg // of where
	sort          []store.Order
	limit, offset *Arg
	behind, ahead *Arg // cursors
	pages         bool // the rows are a page, with a sort key for each record
	backward      bool // from the end
	totals        bool // only totals of the rows are wanted
	counts        bool // and of those only how many there are
	keys          int  // how many sort keys at the end only tell records apart
	part          *partUse
	// Of rules: what must be true of the rows beyond what the store is asked, and that nothing can be.
	allow   []allowance
	nothing bool
	ruled   bool // there are rules, whatever came of them
}

// equals adds the condition that a field equals the argument's value.
func (use *arguments) equals(arg *Arg) {
	arg.Column = len(use.values)
	use.where = append(use.where, store.Predicate{Path: arg.Path, Kind: arg.Kind, Many: arg.Many, Value: arg.Column})
	use.values = append(use.values, arg)
}

// refuse makes the read an error.
func (use *arguments) refuse(arg *Arg, why string) {
	use.values = append(use.values, &Arg{Name: arg.Name, Pos: arg.Pos, Column: len(use.values), Kind: store.Text, Err: why})
}

// asks reports whether anything but all records is asked for.
func (use *arguments) asks() bool {
	return len(use.values) > 0 || len(use.where) > 0 || len(use.sort) > 0 || use.limit != nil || use.offset != nil
}

// arguments sorts out the arguments of a field. An argument that is absent or
// null asks nothing.
func (b *builder) arguments(f *language.Field, bound *binding.Field) arguments {
	use := arguments{sort: bound.Sort, pages: bound.Page != nil, totals: bound.Aggregate != nil}
	use.counts = use.totals && bound.Aggregate.Of == store.Count
	for _, n := range bound.Narrows() {
		use.equals(narrowed(n))
	}
	for i := range bound.Args {
		a := &bound.Args[i]
		arg := b.arg(f, a)
		if arg == nil {
			if (a.Role == binding.Limit || a.Role == binding.First) && b.isNull(f, a) {
				use.limit = &Arg{Name: a.Def.Name, Pos: f.Name.Pos, Literal: &language.NullValue{}, Fixed: true, Largest: true, More: more(a.Role)}
			}
			continue
		}
		switch a.Role {
		case binding.Equal:
			if a.Day {
				use.where = append(use.where, b.onDay(arg, a, &use.values)...)
			} else {
				use.equals(arg)
			}
		case binding.FilterBy:
			use.where = append(use.where, b.filter(arg, a.Filter, &use.values)...)
		case binding.Limit:
			use.limit = arg
		case binding.Offset:
			use.offset = arg
		case binding.SortBy:
			use.sort = b.sortBy(arg, a, &use)
		case binding.First:
			arg.More, use.limit = more(a.Role), arg
		case binding.Behind:
			use.behind = arg
		case binding.Ahead:
			use.ahead = arg
		}
	}
	for i := range bound.Args { // last, since a default of first gives way to it
		if a := &bound.Args[i]; a.Role == binding.Last {
			arg := b.arg(f, a)
			switch {
			case arg != nil:
				if use.limit != nil && !use.limit.ByDefault && !use.limit.Largest {
					use.refuse(use.limit, msgFirstAndLast)
				}
				arg.More, use.limit, use.backward = 1, arg, true
			case use.limit == nil && b.isNull(f, a):
				use.limit = &Arg{Name: a.Def.Name, Pos: f.Name.Pos, Literal: &language.NullValue{}, Fixed: true, Largest: true, More: 1}
				use.backward = true
			}
		}
	}
	for _, c := range bound.Has {
		is, p := b.compared(c, bound.Def.Coordinate(), &use.values)
		if is == isFalse {
			p, use.nothing = store.Predicate{Op: store.Any}, true
		}
		use.where = append(use.where, p)
	}
	if bound.Target != nil {
		b.rule(&use, bound.Target, bound.Only)
	}
	if slices.ContainsFunc(use.values, func(a *Arg) bool { return a.Err != "" }) {
		use.where = append(use.where, store.Predicate{Op: store.Any}) // what is refused finds nothing
	}
	if use.pages {
		for _, path := range bound.Page.Key {
			if !slices.ContainsFunc(use.sort, func(o store.Order) bool { return o.Path == path && len(o.Via) == 0 }) {
				use.sort = append(slices.Clip(use.sort), store.Order{Path: path})
				use.keys++
			}
		}
	}
	return use
}

// more returns what is asked for beyond a bound: a page wants to know whether
// there is another record.
func more(role binding.Role) int64 {
	if role == binding.First {
		return 1
	}
	return 0
}

// isNull reports whether the operation gives null for an argument, or leaves it to a
// default of null.
func (b *builder) isNull(f *language.Field, a *binding.Arg) bool {
	given := f.Argument(a.Def.Name)
	if v, ok := given.(*language.Variable); ok {
		value, has := b.vars[v.Name]
		if has {
			return value == nil
		}
		given = nil
	}
	if given == nil {
		given = a.Def.Default
	}
	_, null := given.(*language.NullValue)
	return null
}

// narrowed makes the value of a condition that holds whatever is asked.
func narrowed(n binding.Narrow) *Arg {
	a := &Arg{Path: n.Path, Kind: n.Kind, Fixed: true, Many: len(n.Values) != 1}
	if !a.Many {
		a.Value, a.Literal = n.Values[0], &language.StringValue{Text: n.Values[0]}
		return a
	}
	values, literals := []schema.Value{}, &language.ListValue{}
	for _, v := range n.Values {
		values, literals.Values = append(values, v), append(literals.Values, &language.StringValue{Text: v})
	}
	a.Value, a.Literal = values, literals
	return a
}

// arg returns an argument that is given, by the operation or a default, and
// not null; otherwise nil.
func (b *builder) arg(f *language.Field, a *binding.Arg) *Arg {
	arg := &Arg{Name: a.Def.Name, Pos: f.Name.Pos, Path: a.Path, Kind: a.Kind, Many: a.Many, Enum: a.Enum, Type: a.Def.Type, Literal: a.Def.Default, ByDefault: true}
	if given := f.Argument(a.Def.Name); given != nil {
		arg.Literal, arg.Pos, arg.ByDefault = given, given.Start(), false
	}
	if v, ok := arg.Literal.(*language.Variable); ok {
		b.plan.Depends.byPresence(v.Name)
		value, given := b.vars[v.Name]
		if !given {
			arg.Literal, arg.ByDefault = a.Def.Default, true
		} else if value == nil && !schema.IsNonNull(a.Def.Type) {
			return nil
		}
	}
	if arg.Literal == nil {
		return nil
	}
	if !usesVariables(arg.Literal) {
		value, _, err := schema.CoerceLiteral(arg.Type, arg.Literal, nil)
		if err == nil {
			arg.Fixed, arg.Value = true, value
			if value == nil {
				return nil
			}
		}
	}
	return arg
}

// usesVariables reports whether a literal holds a variable.
func usesVariables(v language.Value) bool {
	switch v := v.(type) {
	case *language.Variable:
		return true
	case *language.ListValue:
		return slices.ContainsFunc(v.Values, usesVariables)
	case *language.ObjectValue:
		return slices.ContainsFunc(v.Fields, func(f *language.Argument) bool { return usesVariables(f.Value) })
	}
	return false
}

// sortBy reads a sort argument. Its value changes the request, so the plan
// holds for this value only.
func (b *builder) sortBy(arg *Arg, a *binding.Arg, use *arguments) []store.Order {
	for _, name := range variablesIn(arg.Literal) {
		b.plan.Depends.byValue(name)
	}
	value, err := arg.Resolve(b.vars)
	if err != nil {
		return nil // the variables do not fit, which is told before anything runs
	}
	var orders []store.Order
	items, ok := value.([]schema.Value)
	if !ok {
		items = []schema.Value{value}
	}
	for _, item := range items {
		sorts := a.Sorts
		var via []store.Link
		for sorts != nil {
			fields, ok := item.(schema.InputFields)
			if !ok || len(fields) != 1 {
				break
			}
			key := sorts[fields[0].Name]
			if key == nil {
				use.refuse(arg, fmt.Sprintf(msgFilterTooDeep, binding.MaxNested))
				break
			}
			if key.Inner == nil {
				direction, _ := fields[0].Value.(schema.Symbol)
				order := binding.Directions[direction]
				order.Path, order.Kind, order.Via = key.Path, key.Kind, via
				orders = append(orders, order)
				break
			}
			if key.Link != nil {
				link := *key.Link
				var ok bool
				if link.Where, ok = b.linked(key.Target, key.Only, &use.values); !ok {
					use.refuse(arg, fmt.Sprintf(msgSortRule, key.Target.Type))
				}
				via = append(slices.Clip(via), link)
			}
			sorts, item = key.Inner, fields[0].Value
		}
	}
	return orders
}

// variablesIn returns the names of the variables in a literal.
func variablesIn(v language.Value) []string {
	switch v := v.(type) {
	case *language.Variable:
		return []string{v.Name}
	case *language.ListValue:
		var names []string
		for _, item := range v.Values {
			names = append(names, variablesIn(item)...)
		}
		return names
	case *language.ObjectValue:
		var names []string
		for _, f := range v.Fields {
			names = append(names, variablesIn(f.Value)...)
		}
		return names
	}
	return nil
}

// signature tells uses apart that ask for different records: the types of an
// interface may give an argument other defaults, or sort otherwise.
func (use arguments) signature() string {
	var s strings.Builder
	s.WriteString(use.predicates())
	s.WriteString(sortText(use.sort))
	for _, a := range []*Arg{use.limit, use.offset, use.behind, use.ahead} {
		s.WriteString(" |")
		if a != nil {
			s.WriteString(language.PrintValue(a.Literal))
		}
	}
	fmt.Fprintf(&s, " %t %t %t", use.pages, use.backward, use.totals)
	for _, a := range use.allow {
		fmt.Fprintf(&s, " %s %p", a.object.Type.Name, a.any[0].program)
	}
	if use.part != nil {
		fmt.Fprintf(&s, " %d %v %s", use.part.rank, use.part.is, use.part.list)
	}
	return s.String()
}

// predicates writes what a record must fit.
func (use arguments) predicates() string {
	var s strings.Builder
	for i := range use.where {
		s.WriteString(" & " + predicateText(&use.where[i], use.values))
	}
	for _, a := range use.values {
		s.WriteString(a.Err) // one that cannot be used has no condition
	}
	return s.String()
}
