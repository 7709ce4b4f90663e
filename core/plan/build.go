package plan

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// Prepare makes a request of reads of one source, as [store.Source.Prepare].
type Prepare func(source string, reads []*store.Read) (store.Request, error)

// Build plans an operation of a valid document. The variables are coerced and
// hold the defaults; only those of the resulting plan's shape matter. With a
// nil prepare the plan can be printed and not run.
func Build(bound *binding.Bound, doc *language.Document, op *language.Operation, vars map[string]schema.Value, prepare Prepare) *Plan {
	return BuildFor(&Viewer{Schema: bound.Schema}, bound, doc, op, vars, prepare)
}

// A Viewer is for whom an operation is planned.
type Viewer struct {
	Schema *schema.Schema  // as it is for the caller; the document was checked by it
	Who    *store.Identity // nil for nobody
}

// BuildFor is [Build] for a caller. Of who it is, only what the plan's dependencies tell matters.
func BuildFor(viewer *Viewer, bound *binding.Bound, doc *language.Document, op *language.Operation, vars map[string]schema.Value, prepare Prepare) *Plan {
	b := &builder{
		viewer: viewer, bound: bound, vars: vars, plan: &Plan{Kind: op.Kind, Name: op.Name.Text},
		fragments: map[string]*language.Fragment{}, steps: map[string]*stepNode{}, origins: map[*Field]origin{},
	}
	for _, d := range doc.Definitions {
		if f, ok := d.(*language.Fragment); ok {
			b.fragments[f.Name.Text] = f
		}
	}
	asked := slices.ContainsFunc(op.Directives, func(d *language.Directive) bool { return d.Name.Text == binding.Together })
	b.together = op.Kind == language.Mutation && (bound.Together || asked)
	root := bound.Schema.Root(op.Kind)
	b.plan.Data = &Object{Kind: -1, Type: root.Name, Cases: []Case{{Type: root.Name, Fields: b.rootFields(root, []*language.SelectionSet{op.Selections})}}}
	b.fetches(prepare)
	b.writeUnits()
	if b.together && (asked || len(b.plan.Data.Cases[0].Fields) > 1) {
		b.join()
	}
	return b.plan
}

type builder struct {
	viewer    *Viewer
	bound     *binding.Bound
	vars      map[string]schema.Value
	fragments map[string]*language.Fragment
	plan      *Plan
	reads     []*readNode          // in the order they were needed
	path      []string             // response names down to the field under way
	steps     map[string]*stepNode // of root fields
	done      int                  // the wave after which root fields can run
	told      *told                // of the schema; nil until it is asked for
	origins   map[*Field]origin
	units     []unit
	unitOf    map[*Read]*readNode // by own
	together  bool                // all root fields are one transaction
	raw       int                 // above 0: what rules themselves look at, to which none applies
	trusted   int                 // above 0: what expressions and functions look at, to which no rule of a field applies
	watched   *stepNode           // of a subscription: the records that have changed
	turn      int                 // which root field of a mutation is planned: none shares the reads of another
}

// An origin is where the records of a field are.
type origin struct {
	rows  *rows
	bound *binding.Field
}

// A readNode is a read under construction.
type readNode struct {
	read    *Read
	source  *binding.Source
	records *binding.Records
	wave    int
	above   *readNode // the read it is folded into, or nil
	wants   []*want
	of      string // equal for reads of one record set by the same keys
	// predicates and asks tell apart what is asked of the set: its filter, and all of it.
	predicates, asks string
	pages            bool // the store bounds it, or puts it in order
	steps            []*sharing
	rest             bool // the step that is about to share it asks more than it does
}

// A want is a wanted column under construction.
type want struct {
	store.Wanted
	fields []*want
}

// rows is a table under construction.
type rows struct {
	public *Rows
	node   *readNode
	wants  *[]*want
	nested bool
	prefix string               // of nested records: where they are in the record, with a dot
	steps  map[string]*stepNode // by response name and binding
	only   Only                 // the rows of the type under way
	picked *Field               // by which rows are meant; nil for all
	since  int                  // the wave after which it is known which rows are meant
}

// A stepNode is a step and its rows.
type stepNode struct {
	step   *Step
	rows   *rows
	parent *rows // nil for a root field
}

// column returns the position of a wanted column, adding it if it is new.
func (r *rows) column(w store.Wanted) int {
	for i, have := range *r.wants {
		if have.Path == w.Path && have.Kind == w.Kind && have.Aggregate == w.Aggregate && have.OneOrMany == w.OneOrMany && sameVia(have.Via, w.Via) && (w.Elem == nil || sameElem(have.Elem, w.Elem)) {
			return i
		}
	}
	*r.wants = append(*r.wants, &want{Wanted: w})
	return len(*r.wants) - 1
}

func sameVia(a, b []store.Link) bool {
	return slices.EqualFunc(a, b, func(x, y store.Link) bool {
		return x.Set == y.Set && slices.Equal(x.Here, y.Here) && slices.Equal(x.There, y.There)
	})
}

func sameElem(a, b *store.Wanted) bool {
	for a != nil && b != nil {
		if a.Kind != b.Kind {
			return false
		}
		a, b = a.Elem, b.Elem
	}
	return a == b
}

// A group is the fields of one response name on one object.
type group struct {
	name   string
	fields []*language.Field
}

// collect is CollectFields of section 6.3.2 for an object type, with the
// conditions of @skip and @include resolved.
func (b *builder) collect(sets []*language.SelectionSet, object *schema.Object) []group {
	var groups []group
	index := map[string]int{}
	visited := map[string]bool{}
	var walk func(set *language.SelectionSet)
	walk = func(set *language.SelectionSet) {
		for _, sel := range set.List {
			switch sel := sel.(type) {
			case *language.Field:
				if !b.included(sel.Directives) {
					continue
				}
				name := sel.ResponseName()
				i, ok := index[name]
				if !ok {
					i = len(groups)
					index[name] = i
					groups = append(groups, group{name: name})
				}
				groups[i].fields = append(groups[i].fields, sel)
			case *language.InlineFragment:
				if b.included(sel.Directives) && (sel.On.Text == "" || b.applies(sel.On.Text, object)) {
					walk(sel.Selections)
				}
			case *language.FragmentSpread:
				name := sel.Name.Text
				if visited[name] || !b.included(sel.Directives) {
					continue
				}
				visited[name] = true
				if f := b.fragments[name]; b.applies(f.On.Text, object) {
					walk(f.Selections)
				}
			}
		}
	}
	for _, set := range sets {
		if set != nil {
			walk(set)
		}
	}
	return groups
}

func (b *builder) applies(on string, object *schema.Object) bool {
	return b.bound.Schema.IsPossible(b.bound.Schema.Type(on), object)
}

// included evaluates @skip and @include: sections 3.13.1 and 3.13.2.
func (b *builder) included(list []*language.Directive) bool {
	for _, d := range list {
		if d.Name.Text != "skip" && d.Name.Text != "include" {
			continue
		}
		is := false
		switch v := d.Argument("if").(type) {
		case *language.BooleanValue:
			is = v.Is
		case *language.Variable:
			b.plan.Depends.byValue(v.Name)
			is, _ = b.vars[v.Name].(bool)
		}
		if is == (d.Name.Text == "skip") {
			return false
		}
	}
	return true
}

// subsets returns the selection sets of the fields of a group.
func (g group) subsets() []*language.SelectionSet {
	sets := make([]*language.SelectionSet, len(g.fields))
	for i, f := range g.fields {
		sets[i] = f.Selections
	}
	return sets
}

// newField starts a field of the answer.
func (b *builder) newField(g group, def *schema.Field) *Field {
	f := &Field{ID: len(b.plan.Fields), Name: g.name, At: def.Coordinate(), Pos: g.fields[0].Start(), Null: nullness(def.Type), Scalar: scalar.Named(schema.NamedOf(def.Type).String())}
	if t, ok := schema.NamedOf(def.Type).(*schema.Scalar); ok && t.Coding != nil {
		f.Format = t.Coding.Format
	}
	b.plan.Fields = append(b.plan.Fields, f)
	return f
}

// lead gives the fields of an object what stands before their values.
func lead(fields []*Field) []*Field {
	for i, f := range fields {
		f.Lead = []byte{','}
		if i == 0 {
			f.Lead[0] = '{'
		}
		f.Lead = append(append(f.Lead, quoted(f.Name)...), ':')
	}
	return fields
}

func (b *builder) here() string { return strings.Join(b.path, ".") }

// rootFields plans the fields of a root type, or of an object that groups such.
func (b *builder) rootFields(root *schema.Object, sets []*language.SelectionSet) []*Field {
	groups := b.collect(sets, root)
	fields := make([]*Field, len(groups))
	for _, i := range b.planOrder(root, groups) {
		g := groups[i]
		if name := g.fields[0].Name.Text; strings.HasPrefix(name, "__") {
			fields[i] = b.meta(g, root)
			continue
		}
		b.path = append(b.path, g.name)
		fields[i] = b.rootField(root, g)
		b.path = b.path[:len(b.path)-1]
		if root == b.bound.Schema.Mutation && !b.together {
			b.finishField()
		}
		if root == b.bound.Schema.Mutation {
			b.turn++
		}
	}
	return lead(fields)
}

// planOrder returns in which order root fields are planned: those of a query that ask
// a store for less after those that may ask it for all, so that they share their reads.
func (b *builder) planOrder(root *schema.Object, groups []group) []int {
	order := make([]int, len(groups))
	narrows := make([]bool, len(groups))
	for i, g := range groups {
		order[i] = i
		bound := b.bound.Root(root.Field(g.fields[0].Name.Text))
		narrows[i] = len(g.fields[0].Arguments) > 0 && bound != nil && bound.Target != nil && bound.Target.Source.Capabilities.Group != store.BySource
	}
	if root != b.bound.Schema.Mutation {
		slices.SortStableFunc(order, func(i, j int) int {
			switch {
			case narrows[i] == narrows[j]:
				return 0
			case narrows[j]:
				return -1
			}
			return 1
		})
	}
	return order
}

// rootField plans a field of a root type.
func (b *builder) rootField(root *schema.Object, g group) *Field {
	def := root.Field(g.fields[0].Name.Text)
	bound := b.bound.Root(def)
	f := b.newField(g, def)
	if b.fieldRules(f, nil, g, bound, nil) {
		return f
	}
	switch bound.How {
	case binding.Computed:
		b.expression(f, nil, g, bound, nil)
	case binding.Called:
		b.call(f, nil, g, bound, nil)
	case binding.Written:
		b.write(f, g, bound)
	case binding.Watched:
		b.watch(f, g, bound)
	case binding.Grouped:
		f.What = Grouped
		group := schema.NamedOf(def.Type).(*schema.Object)
		f.Object = &Object{Kind: -1, Type: group.Name, Cases: []Case{{Type: group.Name, Fields: b.rootFields(group, g.subsets())}}}
	default:
		b.follow(f, nil, g, bound)
	}
	return f
}

// finishField makes the next root field of a mutation wait for this one:
// section 6.2.2, root fields of a mutation run one after the other.
func (b *builder) finishField() {
	for _, n := range b.reads {
		b.done = max(b.done, n.wave)
	}
}

// follow plans the records that a field leads to from the rows r, or from the
// root if r is nil, and what is selected of them.
func (b *builder) follow(f *Field, r *rows, g group, bound *binding.Field) {
	if bound.Parts != nil {
		b.merged(f, r, g, bound)
		return
	}
	node := b.read(r, g, bound)
	if bound.Aggregate != nil {
		b.total(f, node, bound.Aggregate)
		return
	}
	if bound.Page != nil {
		b.connection(f, g, bound, []*stepNode{node})
		return
	}
	f.What = One
	if bound.Many {
		f.What = Many
	}
	f.Step, f.Single = node.step, bound.Single
	b.origins[f] = origin{node.rows, bound}
	f.Object = b.object(node.rows, g.subsets(), bound.Target, bound.Only)
}

// object plans the records of a record set, of one type or of several.
func (b *builder) object(r *rows, sets []*language.SelectionSet, records *binding.Records, only []*schema.Object) *Object {
	o := &Object{Kind: -1, Type: records.Type.String()}
	types := b.bound.Schema.Possible(records.Type)
	if only != nil {
		types = only
	}
	if len(only) == 1 {
		o.Type = only[0].Name
	} else if records.Kind != nil {
		o.Kind = r.column(store.Wanted{Path: records.Kind.Path, Kind: records.Kind.Column})
	}
	for _, t := range types {
		bound := records.Object(t)
		if bound == nil {
			continue
		}
		c := Case{Type: t.Name}
		if records.Kind != nil {
			c.Stored = records.Kind.Stored[t]
		}
		r.only = Only{o.Kind, c.Stored}
		c.Fields = b.fields(r, bound, sets)
		o.Cases = append(o.Cases, c)
	}
	return o
}

// fields plans the fields of one object type.
func (b *builder) fields(r *rows, object *binding.Object, sets []*language.SelectionSet) []*Field {
	var fields []*Field
	for _, g := range b.collect(sets, object.Type) {
		name := g.fields[0].Name.Text
		if name == "__typename" {
			fields = append(fields, b.typeName(g, object.Type))
			continue
		}
		b.path = append(b.path, g.name)
		fields = append(fields, b.field(r, g, object.Fields[name], object))
		b.path = b.path[:len(b.path)-1]
	}
	return lead(fields)
}

// typeName plans __typename of an object type.
func (b *builder) typeName(g group, t *schema.Object) *Field {
	f := b.newField(g, b.bound.Schema.TypeName(t))
	f.What, f.Text = Constant, quoted(t.Name)
	return f
}

func quoted(s string) []byte {
	text, _ := json.Marshal(s)
	return text
}

func (b *builder) field(r *rows, g group, bound *binding.Field, object *binding.Object) *Field {
	f := b.newField(g, bound.Def)
	if b.fieldRules(f, r, g, bound, object) {
		return f
	}
	switch bound.How {
	case binding.Column:
		f.What = Leaf
		f.Column = r.column(bound.Wanted)
		b.leaf(f, bound)
	case binding.Computed:
		b.expression(f, r, g, bound, object)
	case binding.Called:
		b.call(f, r, g, bound, object)
	case binding.Watched:
		b.watchedRecord(f, g, bound)
	case binding.Nested:
		f.What = Inner
		f.Column = r.column(bound.Wanted)
		inner := r.inner(f.Column)
		if use := b.arguments(g.fields[0], bound); use.asks() {
			f.What, f.Step = Many, b.innerStep(r, inner, use)
			inner = inner.cut(f.Step)
		}
		b.origins[f] = origin{inner, bound}
		f.Object = b.nested(inner, g, bound.Nested)
	default:
		b.follow(f, r, g, bound)
	}
	return f
}

// leaf says how the values of a leaf are written.
func (b *builder) leaf(f *Field, bound *binding.Field) {
	f.Codec = bound.Codec
	if bound.Enum != nil {
		f.Names = make(map[string][]byte, len(bound.Enum.Names))
		for stored, name := range bound.Enum.Names {
			f.Names[stored] = quoted(name)
		}
		for stored := range b.bound.HiddenValues(b.viewer.Schema, bound.Enum) {
			f.Names[stored] = nil
		}
	}
}

// nested plans nested records, of one type or of several.
func (b *builder) nested(r *rows, g group, nested *binding.NestedType) *Object {
	o := &Object{Kind: -1, Type: nested.Type.String()}
	if nested.Kind != nil {
		o.Kind = r.column(store.Wanted{Path: nested.Kind.Path, Kind: nested.Kind.Column})
	}
	for _, t := range nested.Objects {
		c := Case{Type: t.Type.Name}
		if nested.Kind != nil {
			c.Stored = nested.Kind.Stored[t.Type]
		}
		r.only = Only{o.Kind, c.Stored}
		c.Fields = b.fields(r, t, g.subsets())
		o.Cases = append(o.Cases, c)
	}
	return o
}

// cut returns nested rows as a step leaves them: what is asked of them is asked of those
// that it leaves.
func (r *rows) cut(s *Step) *rows {
	own, public := *r, *r.public
	public.Cut = s
	own.public, own.steps = &public, map[string]*stepNode{}
	return &own
}

// inner returns the rows of the records nested in a column.
func (r *rows) inner(column int) *rows {
	key := "nested " + strconv.Itoa(column)
	if n := r.steps[key]; n != nil {
		return n.rows
	}
	in := &rows{
		public: &Rows{Step: r.public.Step, Path: append(slices.Clone(r.public.Path), column), Above: r.public},
		node:   r.node, wants: &(*r.wants)[column].fields, nested: true, picked: r.picked, since: r.since, prefix: r.prefix + (*r.wants)[column].Path + ".", steps: map[string]*stepNode{},
	}
	r.steps[key] = &stepNode{rows: in}
	return in
}
