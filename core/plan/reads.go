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
	name := g.name
	if bound.Total != nil {
		name = "total" // those of one list are made together
	}
	return b.readFor(r, name, bound, b.arguments(g.fields[0], bound))
}

// readFor plans the records for given arguments; steps of other names are other
// steps.
func (b *builder) readFor(r *rows, name string, bound *binding.Field, use arguments) *stepNode {
	steps := b.steps
	if r != nil {
		steps = r.steps
	}
	key := fmt.Sprintf("%s %d %p %p", name, b.done, bound.Target, bound.Through) + strings.Join(bound.Here, ",") + "/" + strings.Join(bound.There, ",") + use.signature()
	if n := steps[key]; n != nil {
		n.step.Read.cover(b.here())
		return n
	}
	source := bound.Target.Source
	step := &Step{ID: len(b.plan.Steps), Field: b.here()}
	b.plan.Steps = append(b.plan.Steps, step)
	n := &stepNode{step: step, parent: r}
	switch {
	case r == nil:
		n.rows = b.rootRead(step, bound, use)
	case !r.nested && r.node.source == source && source.Folds(r.node.records.Set, bound):
		n.rows = b.foldedRead(r, step, bound, use)
	default:
		n.rows = b.keyedRead(r, step, bound, use)
	}
	step.Read.cover(step.Field)
	steps[key] = n
	return n
}

// cover notes a field whose values the read brings.
func (r *Read) cover(field string) {
	if !slices.Contains(r.Covers, field) {
		r.Covers = append(r.Covers, field)
	}
}

// signature tells uses apart that ask for different records: the types of an
// interface may give an argument other defaults, or sort otherwise.
func (use arguments) signature() string {
	var s strings.Builder
	s.WriteString(use.conditions())
	s.WriteString(sortText(use.sort))
	for _, a := range []*Arg{use.limit, use.offset, use.behind, use.ahead} {
		s.WriteString(" |")
		if a != nil {
			s.WriteString(language.PrintValue(a.Literal))
		}
	}
	fmt.Fprintf(&s, " %t %t %t", use.pages, use.backward, use.totals)
	return s.String()
}

// conditions writes what a record must fit.
func (use arguments) conditions() string {
	var s strings.Builder
	for i := range use.where {
		s.WriteString(" & " + conditionText(&use.where[i], use.values))
	}
	for _, a := range use.values {
		s.WriteString(a.Err) // one that cannot be used has no condition
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
	n.read.Where = use.values
	n.read.Store.Where = use.where
	n.read.Store.Values = columnsOf(use.values)
	n.read.Store.Totals = use.totals && n.source.Abilities.Total
}

// columnsOf returns how many columns values take.
func columnsOf(values []*Arg) int {
	n := 0
	for _, a := range values {
		n += max(1, len(a.By))
	}
	return n
}

// page leaves sorting and paging to the store if it can, and otherwise to the
// engine.
func (n *readNode) page(r *rows, step *Step, use arguments, needs store.Paging) {
	sort := use.sort
	if use.pages {
		step.Page = &Page{List: n.read.Store.Set + sortText(sort), Bound: use.limit, Backward: use.backward, Behind: use.behind != nil}
		if use.backward {
			step.Page.Behind = use.ahead != nil
		}
		for _, o := range sort {
			step.Page.Order = append(step.Page.Order, n.order(r, o))
		}
		for _, a := range []*Arg{use.behind, use.ahead} {
			if a == nil {
				continue
			}
			a.By, a.List = sort, step.Page.List
			if a == use.ahead {
				a.By = reversed(sort)
			}
			for _, o := range sort {
				a.Kinds = append(a.Kinds, n.kindOf(o))
			}
		}
		if use.backward {
			sort = reversed(sort)
		}
	}
	if n.source.Abilities.Page >= needs || needs == store.PageWhole && n.canPage(sort, use) {
		n.read.Store.Sort = sort
		n.read.Limit, n.read.Offset = use.limit, use.offset
		n.read.Store.Limit, n.read.Store.Offset = use.limit != nil, use.offset != nil
		for _, a := range []*Arg{use.behind, use.ahead} {
			if a != nil {
				a.Column = n.read.Store.Values
				n.read.Store.Where = append(slices.Clip(n.read.Store.Where), store.Condition{Op: store.After, By: a.By, Value: a.Column})
				n.read.Where = append(slices.Clip(n.read.Where), a)
				n.read.Store.Values += len(a.By)
			}
		}
		return
	}
	for _, o := range sort {
		step.Sort = append(step.Sort, n.order(r, o))
	}
	step.Limit, step.Offset, step.Behind, step.Ahead = use.limit, use.offset, use.behind, use.ahead
}

// canPage reports whether the source pages just this read as a whole, which
// must be nobody else's.
func (n *readNode) canPage(sort []store.Order, use arguments) bool {
	if n.source.Pager == nil || len(n.read.Covers) > 0 || use.pages || len(sort) == 0 && use.limit == nil && use.offset == nil {
		return false
	}
	read := *n.read.Store
	read.Sort, read.Limit, read.Offset = sort, use.limit != nil, use.offset != nil
	return n.source.Pager.CanPage(&read)
}

// order makes a sort key's values a column of the rows.
func (n *readNode) order(r *rows, o store.Order) Order {
	return Order{r.column(store.Wanted{Path: o.Path, Kind: n.kindOf(o), Via: o.Via}), o}
}

// kindOf returns the kind of a sort key's values.
func (n *readNode) kindOf(o store.Order) store.Kind {
	if o.Kind != store.Unknown {
		return o.Kind
	}
	if len(o.Via) == 0 {
		return kindOf(n.records.Info, o.Path)
	}
	if n.source.Catalogue == nil {
		return store.Text
	}
	return kindOf(n.source.Catalogue.Sets[o.Via[len(o.Via)-1].Set], o.Path)
}

// reversed returns the order from the last record to the first.
func reversed(sort []store.Order) []store.Order {
	list := slices.Clone(sort)
	for i := range list {
		list[i].Desc = !list[i].Desc // which turns where missing values stand, too
	}
	return list
}

// kindOf returns the kind of a stored field, or Text where nothing tells it.
func kindOf(set *store.Set, path string) store.Kind {
	if set != nil {
		if f := set.Field(path); f != nil && f.Kind != store.Unknown && f.Kind != store.List {
			return f.Kind
		}
	}
	return store.Text
}

func (b *builder) rootRead(step *Step, bound *binding.Field, use arguments) *rows {
	n := b.sharedRead(step, bound, use, b.done+1, nil)
	r := n.rows(step)
	if !use.totals {
		n.page(r, step, use, store.PageWhole)
	}
	n.pages = n.pages || n.source.Abilities.Page >= store.PageWhole || n.read.Store.Limit || n.read.Store.Offset
	return r
}

// foldedRead plans a read that is part of its parent's request.
func (b *builder) foldedRead(parent *rows, step *Step, bound *binding.Field, use arguments) *rows {
	n := b.newRead(bound, parent.node.wave)
	n.above = parent.node
	n.narrow(use)
	n.read.Store.Here, n.read.Store.There = bound.Here, bound.There
	n.read.Store.Through = bound.Through
	// Where a source says itself what hangs together, a list can lead to many by
	// their unique keys.
	n.read.Store.Single = bound.Single && bound.Through == nil && (n.source.Folder == nil || !bound.Many)
	r := n.rows(step)
	step.Parent, step.Folded = parent.public, true
	if !use.totals {
		n.page(r, step, use, store.PagePerKey)
	}
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
			step.Here = append(step.Here, parent.column(store.Wanted{Path: at, Kind: kindOf(parent.node.records.Info, at)}))
		}
	}
	step.feed = Feed{parent.public, step.Here}
	wave := parent.node.wave + 1
	if ahead, ok := knownAhead(parent, step.Here); ok {
		step.feed = ahead
		wave = parent.node.wave
	}
	n := b.sharedRead(step, bound, use, wave, bound.There)
	r := n.rows(step)
	for _, path := range bound.There {
		step.There = append(step.There, r.column(store.Wanted{Path: path, Kind: kindOf(bound.Target.Info, path)}))
	}
	n.read.Store.Keys = step.There
	if !use.totals {
		n.page(r, step, use, store.PagePerKey)
	}
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
// under the same conditions, or a new one. Reads that a store pages are never
// shared.
func (b *builder) sharedRead(step *Step, bound *binding.Field, use arguments, wave int, keys []string) *readNode {
	needs := store.PageWhole
	if len(keys) > 0 {
		needs = store.PagePerKey
	}
	sig := fmt.Sprintf("%p %s", bound.Target, strings.Join(keys, ",")) + use.conditions()
	for _, n := range b.reads {
		if n.sig != sig || n.wave != wave || n.above != nil || n.pages || n.source.Abilities.Page >= needs {
			continue
		}
		if len(keys) > 0 && !slices.ContainsFunc(n.read.Feeds, func(f Feed) bool {
			return f.Rows == step.feed.Rows && slices.Equal(f.Columns, step.feed.Columns)
		}) {
			n.read.Feeds = append(n.read.Feeds, step.feed)
		}
		return n
	}
	n := b.newRead(bound, wave)
	n.sig = sig
	n.narrow(use)
	if len(keys) > 0 {
		n.read.Feeds = []Feed{step.feed}
	}
	return n
}

// arguments is what a field's arguments ask of a read.
type arguments struct {
	where         []store.Condition
	values        []*Arg // of where
	sort          []store.Order
	limit, offset *Arg
	behind, ahead *Arg // cursors
	pages         bool // the rows are a page, with a sort key for each record
	backward      bool // from the end
	totals        bool // only totals of the rows are wanted
}

// equals adds the condition that a field equals the argument's value.
func (use *arguments) equals(arg *Arg) {
	arg.Column = len(use.values)
	use.where = append(use.where, store.Condition{Path: arg.Path, Kind: arg.Kind, Many: arg.Many, Value: arg.Column})
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

// innerStep plans a list of nested records that the engine filters, sorts and
// cuts.
func (b *builder) innerStep(parent, inner *rows, use arguments) *Step {
	s := &Step{ID: len(b.plan.Steps), Field: b.here(), Read: parent.node.read, Parent: parent.public, Inner: inner.public,
		Where: use.where, Values: use.values, Limit: use.limit, Offset: use.offset, Fields: map[string]int{}}
	b.plan.Steps = append(b.plan.Steps, s)
	column := func(path string, kind store.Kind) int {
		for i, w := range *inner.wants {
			if w.Path == path && w.Elem == nil {
				return i // with the kind that the field is answered with
			}
		}
		return inner.column(store.Wanted{Path: path, Kind: kind})
	}
	for i := range use.where {
		for _, c := range use.where[i].Leaves(nil) {
			s.Fields[c.Path] = column(c.Path, c.Kind)
		}
	}
	for _, o := range use.sort {
		s.Sort = append(s.Sort, Order{column(o.Path, o.Kind), o})
	}
	return s
}

// arguments sorts out the arguments of a field. An argument that is absent or
// null asks nothing.
func (b *builder) arguments(f *language.Field, bound *binding.Field) arguments {
	use := arguments{sort: bound.Sort, pages: bound.Page != nil, totals: bound.Total != nil}
	if bound.Target != nil && bound.Only != nil && bound.Target.Kind != nil {
		k := bound.Target.Kind
		stored := k.Stored[bound.Only]
		use.equals(&Arg{Path: k.Path, Kind: k.Column, Fixed: true, Value: stored, Literal: &language.StringValue{Text: stored}})
	}
	for i := range bound.Args {
		a := &bound.Args[i]
		arg := b.arg(f, a)
		if arg == nil {
			continue
		}
		switch a.Role {
		case binding.Equal:
			use.equals(arg)
		case binding.FilterBy:
			use.where = append(use.where, b.filter(arg, a.Filter, &use.values)...)
		case binding.Limit:
			use.limit = arg
		case binding.Offset:
			use.offset = arg
		case binding.SortBy:
			use.sort = b.sortBy(arg, a, &use)
		case binding.First:
			arg.More, use.limit = 1, arg
		case binding.Behind:
			use.behind = arg
		case binding.Ahead:
			use.ahead = arg
		}
	}
	for i := range bound.Args { // last, since a default of first gives way to it
		if a := &bound.Args[i]; a.Role == binding.Last {
			if arg := b.arg(f, a); arg != nil {
				if use.limit != nil && f.Argument(use.limit.Name) != nil {
					use.refuse(use.limit, msgFirstAndLast)
				}
				arg.More, use.limit, use.backward = 1, arg, true
			}
		}
	}
	if use.pages {
		for _, path := range bound.Page.Key {
			if !slices.ContainsFunc(use.sort, func(o store.Order) bool { return o.Path == path && len(o.Via) == 0 }) {
				use.sort = append(slices.Clip(use.sort), store.Order{Path: path})
			}
		}
	}
	return use
}

// arg returns an argument that is given, by the operation or a default, and
// not null; otherwise nil.
func (b *builder) arg(f *language.Field, a *binding.Arg) *Arg {
	arg := &Arg{Name: a.Def.Name, Pos: f.Name.Pos, Path: a.Path, Kind: a.Kind, Many: a.Many, Enum: a.Enum, Type: a.Def.Type, Literal: a.Def.Default}
	if given := f.Argument(a.Def.Name); given != nil {
		arg.Literal, arg.Pos = given, given.Start()
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
func (b *builder) sortBy(arg *Arg, a *binding.Arg, use *arguments) []store.Order {
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
		sorts := a.Sorts
		var via []store.Link
		for sorts != nil {
			fields, ok := item.(schema.InputFields)
			if !ok || len(fields) != 1 {
				break
			}
			name := fields[0].Name
			key := sorts[name]
			if key == nil {
				use.refuse(arg, fmt.Sprintf(msgSortKeyNot, name))
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
				via = append(slices.Clip(via), *key.Link)
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
