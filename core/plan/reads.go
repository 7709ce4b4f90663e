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

// read plans the records that a field leads to from the rows r, or from the
// root if r is nil. The same field asked for several types of one record set
// is one step.
func (b *builder) read(r *rows, g group, bound *binding.Field) *stepNode {
	use := b.arguments(g.fields[0], bound)
	key := ""
	if r != nil {
		key = fmt.Sprintf("%s %p %p", g.name, bound.Target, bound.Through) + strings.Join(bound.Here, ",") + "/" + strings.Join(bound.There, ",") + use.signature()
		if n := r.steps[key]; n != nil {
			return n
		}
	}
	source := bound.Target.Source
	step := &Step{ID: len(b.plan.Steps), Field: b.here()}
	b.plan.Steps = append(b.plan.Steps, step)
	n := &stepNode{step: step}
	switch {
	case r == nil:
		n.rows = b.rootRead(step, bound, use)
	case source.Abilities.Fold && r.node.source == source && !r.nested:
		n.rows = b.foldedRead(r, step, bound, use)
	default:
		n.rows = b.keyedRead(r, step, bound, use)
	}
	read := n.rows.node.read
	if !slices.Contains(read.Covers, step.Field) {
		read.Covers = append(read.Covers, step.Field)
	}
	if r != nil {
		r.steps[key] = n
	}
	return n
}

// signature tells uses apart that ask for different records: the types of an
// interface may give an argument other defaults, or sort otherwise.
func (use arguments) signature() string {
	var s strings.Builder
	for _, a := range use.where {
		s.WriteString(" " + a.Path + "=" + language.PrintValue(a.Literal))
	}
	s.WriteString(sortText(use.sort))
	for _, a := range []*Arg{use.limit, use.offset} {
		s.WriteString(" |")
		if a != nil {
			s.WriteString(language.PrintValue(a.Literal))
		}
	}
	return s.String()
}

// newRead starts a read of a record set.
func (b *builder) newRead(bound *binding.Field, wave int) *readNode {
	n := &readNode{
		read:   &Read{Store: &store.Read{Set: bound.Target.Set, Parent: -1}},
		source: bound.Target.Source, records: bound.Target, wave: wave,
	}
	b.reads = append(b.reads, n)
	return n
}

func (n *readNode) rows(step *Step) *rows {
	step.Read = n.read
	return &rows{public: &Rows{Step: step}, node: n, wants: &n.wants, steps: map[string]*stepNode{}}
}

// narrow gives a read its conditions.
func (n *readNode) narrow(use arguments) {
	n.read.Where = use.where
	for _, a := range use.where {
		n.read.Store.Where = append(n.read.Store.Where, store.Condition{Path: a.Path, Kind: a.Kind, Many: a.Many})
	}
}

// page leaves sorting and paging to the store if it can, and otherwise to the
// engine.
func (n *readNode) page(r *rows, step *Step, use arguments, needs store.Paging) {
	if n.source.Abilities.Page >= needs {
		n.read.Store.Sort = use.sort
		n.read.Limit, n.read.Offset = use.limit, use.offset
		n.read.Store.Limit, n.read.Store.Offset = use.limit != nil, use.offset != nil
		return
	}
	for _, o := range use.sort {
		step.Sort = append(step.Sort, Order{r.column(store.Wanted{Path: o.Path, Kind: kindOf(n.records, o.Path)}), o.Desc})
	}
	step.Limit, step.Offset = use.limit, use.offset
}

// kindOf returns the kind of a stored field, or Text where nothing tells it.
func kindOf(r *binding.Records, path string) store.Kind {
	if r != nil && r.Info != nil {
		if f := r.Info.Field(path); f != nil && f.Kind != store.Unknown && f.Kind != store.List {
			return f.Kind
		}
	}
	return store.Text
}

func (b *builder) rootRead(step *Step, bound *binding.Field, use arguments) *rows {
	n := b.newRead(bound, b.done+1)
	n.narrow(use)
	r := n.rows(step)
	n.page(r, step, use, store.PageWhole)
	n.pages = true
	return r
}

// foldedRead plans a read that is part of its parent's request.
func (b *builder) foldedRead(parent *rows, step *Step, bound *binding.Field, use arguments) *rows {
	n := b.newRead(bound, parent.node.wave)
	n.above = parent.node
	n.narrow(use)
	n.read.Store.Here, n.read.Store.There = bound.Here, bound.There
	n.read.Store.Through = bound.Through
	n.read.Store.Single = bound.Single && bound.Through == nil
	r := n.rows(step)
	step.Parent, step.Folded = parent.public, true
	n.page(r, step, use, store.PagePerKey)
	return r
}

// keyedRead plans a read whose keys are values of the parent's rows.
func (b *builder) keyedRead(parent *rows, step *Step, bound *binding.Field, use arguments) *rows {
	step.Parent = parent.public
	for _, path := range bound.Here {
		at := path
		if parent.nested {
			step.Here = append(step.Here, parent.column(store.Wanted{Path: at, Kind: store.Text}))
		} else {
			step.Here = append(step.Here, parent.column(store.Wanted{Path: at, Kind: kindOf(parent.node.records, at)}))
		}
	}
	step.feed = Feed{parent.public, step.Here}
	wave := parent.node.wave + 1
	if ahead, ok := knownAhead(parent, step.Here); ok {
		step.feed = ahead
		wave = parent.node.wave
	}
	n := b.sharedRead(step, bound, use, wave)
	r := n.rows(step)
	for _, path := range bound.There {
		step.There = append(step.There, r.column(store.Wanted{Path: path, Kind: kindOf(bound.Target, path)}))
	}
	n.read.Store.Keys = step.There
	n.page(r, step, use, store.PagePerKey)
	n.pages = n.read.Store.Limit || n.read.Store.Offset || len(n.read.Store.Sort) > 0
	return r
}

// knownAhead finds the values of the parent's columns where the parent itself
// got them: if they are the keys it is found by, nobody needs to wait for the
// record only to read them back.
func knownAhead(parent *rows, here []int) (Feed, bool) {
	above := parent.public.Step
	if above.Folded || above.feed.Rows == nil || parent.nested {
		return Feed{}, false
	}
	feed := Feed{Rows: above.feed.Rows}
	for _, column := range here {
		i := slices.Index(above.There, column)
		if i < 0 {
			return Feed{}, false
		}
		feed.Columns = append(feed.Columns, above.feed.Columns[i])
	}
	return feed, true
}

// sharedRead returns a read of the wave that already asks for the same records
// under the same conditions, or a new one.
func (b *builder) sharedRead(step *Step, bound *binding.Field, use arguments, wave int) *readNode {
	sig := fmt.Sprintf("%p %s", bound.Target, strings.Join(bound.There, ","))
	for _, a := range use.where {
		sig += " " + a.Path + "=" + language.PrintValue(a.Literal)
	}
	for _, n := range b.reads {
		if n.sig == sig && n.wave == wave && n.above == nil && !n.pages && n.source.Abilities.Page < store.PagePerKey {
			if !slices.ContainsFunc(n.read.Feeds, func(f Feed) bool {
				return f.Rows == step.feed.Rows && slices.Equal(f.Columns, step.feed.Columns)
			}) {
				n.read.Feeds = append(n.read.Feeds, step.feed)
			}
			return n
		}
	}
	n := b.newRead(bound, wave)
	n.sig = sig
	n.narrow(use)
	n.read.Feeds = []Feed{step.feed}
	return n
}

// arguments is what a field's arguments ask of a read.
type arguments struct {
	where         []*Arg
	sort          []store.Order
	limit, offset *Arg
}

// arguments sorts out the arguments of a field. An argument that is absent or
// null asks nothing.
func (b *builder) arguments(f *language.Field, bound *binding.Field) arguments {
	use := arguments{sort: bound.Sort}
	if bound.Only != nil && bound.Target.Kind != nil {
		k := bound.Target.Kind
		stored := k.Stored[bound.Only]
		use.where = append(use.where, &Arg{Path: k.Path, Kind: k.Column, Fixed: true, Value: stored,
			Literal: &language.StringValue{Text: stored}})
	}
	for i := range bound.Args {
		a := &bound.Args[i]
		arg := b.arg(f, a)
		if arg == nil {
			continue
		}
		switch a.Role {
		case binding.Equal:
			use.where = append(use.where, arg)
		case binding.Limit:
			use.limit = arg
		case binding.Offset:
			use.offset = arg
		case binding.SortBy:
			use.sort = b.sortBy(arg, a)
		}
	}
	return use
}

// arg returns an argument that is given, by the operation or a default, and
// not null; otherwise nil.
func (b *builder) arg(f *language.Field, a *binding.Arg) *Arg {
	arg := &Arg{Name: a.Def.Name, Pos: f.Name.Pos, Path: a.Path, Kind: a.Kind, Many: a.Many, Enum: a.Enum, Type: a.Def.Type, Literal: a.Def.Default}
	for _, given := range f.Arguments {
		if given.Name.Text == a.Def.Name {
			arg.Literal, arg.Pos = given.Value, given.Value.Start()
		}
	}
	if v, ok := arg.Literal.(*language.Variable); ok {
		b.plan.Shape.byPresence(v.Name)
		value, given := b.vars[v.Name]
		if !given {
			arg.Literal = a.Def.Default
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
func (b *builder) sortBy(arg *Arg, a *binding.Arg) []store.Order {
	for _, name := range variablesIn(arg.Literal) {
		b.plan.Shape.byValue(name)
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
		if fields, ok := item.(schema.InputFields); ok && len(fields) == 1 {
			orders = append(orders, store.Order{Path: a.Sorts[fields[0].Name], Desc: fields[0].Value == schema.Symbol("DESC")})
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
