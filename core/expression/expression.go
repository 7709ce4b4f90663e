// Package expression compiles and runs the expressions of a schema, which are
// written in CEL, the open Common Expression Language.
//
// An expression is checked against the types of its inputs when it is compiled,
// and tells which fields of them it looks at. A [Program] does not change and is
// safe for concurrent use.
package expression

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
	"cel.dev/cel-go/parser"
)

// maxCost bounds what one evaluation may do, in the steps of the language: it
// keeps an expression over long lists from holding up the service.
const maxCost = 1_000_000

// dialect is the language with its extensions, which is made once: that costs
// more than most expressions.
var dialect = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(ext.Strings(), ext.Math(), cel.OptionalTypes(), cel.EnableMacroCallTracking())
})

// An Object is a record that an expression looks at.
type Object interface {
	// Field returns the value of a field: nil, bool, int64, float64, string,
	// time.Time, an Object, []any of these, or JSON as decoded.
	Field(name string) (any, error)
}

// A Program is a compiled expression.
type Program struct {
	Needs map[string][]*Need // by input: the fields looked at
	// Gives is the field of record, and of that, and so on, whose records the
	// expression gives: some of them, or one. It is nil of an expression that gives
	// values.
	Gives []string
	run   cel.Program
}

// Entries returns the expressions of an expression that is an object written out,
// {'name': …, …}, by their names; nil of any other.
func Entries(text string) map[string]string {
	if known, ok := entries.Get(text); ok {
		return known
	}
	parts := entriesOf(text)
	entries.Add(text, parts)
	return parts
}

func entriesOf(text string) map[string]string {
	env, err := dialect()
	if err != nil {
		return nil
	}
	parsed, issues := env.Parse(text)
	if issues.Err() != nil || parsed.NativeRep().Expr().Kind() != ast.MapKind {
		return nil
	}
	parts := map[string]string{}
	for _, e := range parsed.NativeRep().Expr().AsMap().Entries() {
		entry := e.AsMapEntry()
		if entry.Key().Kind() != ast.LiteralKind || entry.IsOptional() {
			return nil
		}
		name, ok := entry.Key().AsLiteral().Value().(string)
		inner, err := parser.Unparse(entry.Value(), parsed.NativeRep().SourceInfo())
		if !ok || err != nil {
			return nil
		}
		parts[name] = inner
	}
	return parts
}

// Compile compiles an expression over inputs whose result is a value of the
// type want, and that may call the functions. The error says what is wrong and where in
// the text.
func Compile(text string, inputs map[string]*Type, want *Type, functions ...Function) (*Program, error) {
	return compile(text, inputs, want, functions, allowNull)
}

// compile compiles an expression after changing what was parsed.
func compile(text string, inputs map[string]*Type, want *Type, functions []Function, changes ...func(*ast.AST)) (*Program, error) {
	key := fmt.Sprint(len(changes), keyOf(text, inputs, want, functions))
	if known := keptProgram(key, inputs); known != nil {
		return known, nil
	}
	p := &provider{records: map[string]*Type{}, missed: map[string]*Type{}}
	program, err := p.compile(text, inputs, want, functions, changes)
	p.records, p.missed = nil, nil // a program does not look at types any more, and may be kept for long
	if err == nil {
		programs.Add(key, &kept{program, p.looked})
	}
	return program, err
}

// compile compiles an expression that is not kept.
func (p *provider) compile(text string, inputs map[string]*Type, want *Type, functions []Function, changes []func(*ast.AST)) (*Program, error) {
	base, err := dialect()
	if err != nil {
		return nil, err
	}
	p.Provider = base.CELTypeProvider()
	options := []cel.EnvOption{cel.CustomTypeProvider(p)}
	for name, t := range inputs {
		options = append(options, cel.Variable(name, p.cel(t)))
	}
	for _, f := range functions {
		options = append(options, cel.Function(f.Name, cel.Overload(f.Name, nil, cel.StringType,
			cel.FunctionBinding(func(...ref.Val) ref.Val { return types.String(f.Make()) }))))
	}
	env, err := base.Extend(options...)
	if err != nil {
		return nil, err
	}
	parsed, issues := env.Parse(text)
	for _, change := range changes {
		if issues.Err() == nil {
			change(parsed.NativeRep())
		}
	}
	var checked *cel.Ast
	if issues.Err() == nil {
		checked, issues = env.Check(parsed)
	}
	if issues.Err() != nil {
		return nil, p.mistakes(issues, inputs)
	}
	w := &walker{ast: checked.NativeRep(), scope: map[string]*Need{}}
	if wrong := w.misfit(w.ast.Expr(), want); wrong != nil {
		return nil, misfit(typeText(wrong), want)
	}
	roots := map[string]*Need{}
	for name, t := range inputs {
		if t.Kind == Record {
			roots[name] = &Need{}
			w.scope[name] = roots[name]
		}
	}
	gives := w.walk(w.ast.Expr())
	records := want.records() && w.givesRecords(w.ast.Expr())
	if records && gives == nil && w.lost == "" {
		w.lost = "the records that it gives must be some of one list of the record, or one of them"
	}
	if w.lost != "" {
		return nil, errors.New(w.lost)
	}
	bounds := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize)}
	if w.loops { // what has no loop costs what it is long, and counting is a third of that
		bounds = append(bounds, cel.CostLimit(maxCost))
	}
	run, err := env.Program(checked, bounds...)
	if err != nil {
		return nil, err
	}
	program := &Program{run: run, Needs: map[string][]*Need{}}
	if records {
		program.Gives = pathTo(roots["record"], gives)
	}
	for name, root := range roots {
		program.Needs[name] = root.Needs
	}
	return program, nil
}

// String returns the type as its author would write it.
func (t *Type) String() string {
	text := t.Kind.String()
	switch t.Kind {
	case List:
		text = "list(" + t.Elem.String() + ")"
	case Record:
		text = t.Name
	}
	if t.Nullable {
		text += " or null"
	}
	return text
}

func typeText(t *cel.Type) string {
	if t.Kind() == types.NullTypeKind {
		return "null"
	}
	return plain.Replace(t.String())
}

// plain gives types the names that expressions have for them.
var plain = strings.NewReplacer("google.protobuf.Timestamp", "timestamp", "google.protobuf.Duration", "duration",
	"wrapper(int)", "int or null", "wrapper(double)", "double or null", "wrapper(string)", "string or null", "wrapper(bool)", "bool or null")

// misfit returns the type of what an expression gives if it does not fit what is
// wanted; each side of a choice is looked at by itself.
func (w *walker) misfit(e ast.Expr, want *Type) *cel.Type {
	if e.Kind() == ast.CallKind {
		switch c := e.AsCall(); {
		case c.FunctionName() == operators.Conditional:
			if wrong := w.misfit(c.Args()[1], want); wrong != nil {
				return wrong
			}
			return w.misfit(c.Args()[2], want)
		case c.FunctionName() == "dyn" && isNull(c.Args()[0]):
			e = c.Args()[0]
		}
	}
	if out := w.ast.GetType(e.ID()); !fits(out, want) {
		return out
	}
	return nil
}

// records reports whether records are wanted, or lists of them.
func (t *Type) records() bool {
	for t.Kind == List {
		t = t.Elem
	}
	return t.Kind == Record
}

// givesRecords reports whether an expression, or one side of a choice, gives records.
func (w *walker) givesRecords(e ast.Expr) bool {
	if e.Kind() == ast.CallKind && e.AsCall().FunctionName() == operators.Conditional {
		return w.givesRecords(e.AsCall().Args()[1]) || w.givesRecords(e.AsCall().Args()[2])
	}
	return holdsRecords(w.ast.GetType(e.ID()))
}

// holdsRecords reports whether values of a type are records, or lists of them.
func holdsRecords(t *cel.Type) bool {
	for t.Kind() == types.ListKind {
		t = t.Parameters()[0]
	}
	return t.Kind() == types.StructKind
}

// pathTo returns the names that lead from a need to one below it.
func pathTo(from, to *Need) []string {
	if from == to {
		return []string{}
	}
	for _, n := range from.Needs {
		if path := pathTo(n, to); path != nil {
			return append([]string{n.Name}, path...)
		}
	}
	return nil
}

// A walker finds out which fields of its inputs an expression looks at.
type walker struct {
	ast   *ast.AST
	scope map[string]*Need // what each name stands for
	lost  string           // what cannot be followed
	loops bool             // it goes over a list
}

// walk visits an expression and returns what it stands for, or nil: a record,
// or a list of records.
func (w *walker) walk(e ast.Expr) *Need {
	switch e.Kind() {
	case ast.IdentKind:
		return w.scope[e.AsIdent()]
	case ast.SelectKind:
		s := e.AsSelect()
		of := w.walk(s.Operand())
		if of != nil {
			return of.child(s.FieldName())
		}
		if w.ast.GetType(s.Operand().ID()).Kind() == types.StructKind && w.lost == "" {
			w.lost = fmt.Sprintf("it takes %s of a record that comes out of a choice or a call; take the field inside it", s.FieldName())
		}
	case ast.CallKind:
		c := e.AsCall()
		var target *Need
		if c.IsMemberFunction() {
			w.walk(c.Target())
		}
		sides := make([]*Need, len(c.Args()))
		for i, arg := range c.Args() {
			n := w.walk(arg)
			sides[i] = n
			if i == 0 && (c.FunctionName() == operators.Index || c.FunctionName() == operators.OptIndex || c.FunctionName() == operators.OptSelect) {
				target = n
			}
		}
		if c.FunctionName() == operators.Conditional {
			return sameNeed(sides[1], sides[2], isNothing(c.Args()[1]), isNothing(c.Args()[2]))
		}
		if c.FunctionName() == operators.OptSelect && target != nil {
			if field, ok := c.Args()[1].AsLiteral().Value().(string); ok {
				return target.child(field)
			}
		}
		return target
	case ast.ListKind:
		for _, item := range e.AsList().Elements() {
			w.walk(item)
		}
	case ast.MapKind:
		for _, entry := range e.AsMap().Entries() {
			w.walk(entry.AsMapEntry().Key())
			w.walk(entry.AsMapEntry().Value())
		}
	case ast.ComprehensionKind:
		return w.comprehension(e)
	}
	return nil
}

// isNothing reports whether an expression is null, or a list of nothing.
func isNothing(e ast.Expr) bool {
	switch e.Kind() {
	case ast.ListKind:
		return e.AsList().Size() == 0
	case ast.CallKind:
		return e.AsCall().FunctionName() == "dyn" && isNull(e.AsCall().Args()[0])
	}
	return isNull(e)
}

// sameNeed returns what both sides of a choice stand for, or one where the other is
// nothing.
func sameNeed(a, b *Need, nothingA, nothingB bool) *Need {
	switch {
	case nothingA:
		return b
	case nothingB, a == b:
		return a
	}
	return nil
}

// comprehension visits a macro over a list, such as filter.
func (w *walker) comprehension(e ast.Expr) *Need {
	w.loops = true
	c := e.AsComprehension()
	over := w.walk(c.IterRange())
	w.walk(c.AccuInit())
	outer, had := w.scope[c.IterVar()]
	w.scope[c.IterVar()] = over
	for _, part := range []ast.Expr{c.LoopCondition(), c.LoopStep(), c.Result()} {
		w.walk(part)
	}
	var gives *Need
	if holdsRecords(w.ast.GetType(e.ID())) {
		gives = w.collected(c.LoopStep())
	}
	delete(w.scope, c.IterVar())
	if had {
		w.scope[c.IterVar()] = outer
	}
	return gives
}

// collected returns the records that one step of a macro adds to its list: those of the
// list itself for filter, which adds [p] or nothing, and what is found from there for
// map, which adds [p.tow].
func (w *walker) collected(step ast.Expr) *Need {
	if step.Kind() != ast.CallKind {
		return nil
	}
	c := step.AsCall()
	switch c.FunctionName() {
	case operators.Conditional:
		return w.collected(c.Args()[1])
	case operators.Add:
		if added := c.Args()[1]; added.Kind() == ast.ListKind && added.AsList().Size() == 1 {
			return w.walk(added.AsList().Elements()[0])
		}
	}
	return nil
}

// An evaluation is the state of one run of a program.
type evaluation struct {
	inputs map[string]any
	null   bool  // some value was null
	err    error // the first error of an input
}

// ResolveName returns an input, as the language asks for it.
func (r *evaluation) ResolveName(name string) (any, bool) {
	v, ok := r.inputs[name]
	if !ok {
		return nil, false
	}
	return r.value(v), true
}

// Parent returns nil: there are no names but those of the inputs.
func (*evaluation) Parent() cel.Activation { return nil }

// errNull is the error of looking into null.
var errNull = errors.New("there is no record to look into")

// value returns a Go value as the language has it.
func (r *evaluation) value(v any) ref.Val {
	switch v := v.(type) {
	case nil:
		r.null = true
		return types.NullValue
	case Object:
		return &object{v, r}
	case time.Time:
		return types.Timestamp{Time: v}
	case []any:
		list := make([]ref.Val, len(v))
		for i, item := range v {
			list[i] = r.value(item)
		}
		return types.NewRefValList(types.DefaultTypeAdapter, list)
	}
	return types.DefaultTypeAdapter.NativeToValue(v)
}

// Run evaluates the expression. Inputs are as the values of an [Object]'s fields. The result is nil, bool, int64, float64, string,
// time.Time, an [Object] of the inputs', []any of these or map[string]any. It is nil, too, where the
// expression does something with an input that is null and cannot be done with
// null. The errors of inputs are returned as they are.
func (p *Program) Run(inputs map[string]any) (any, error) {
	r := &evaluation{inputs: inputs}
	out, _, err := p.run.Eval(r)
	switch {
	case err == nil:
		return native(out, p.Gives != nil)
	case r.err != nil:
		return nil, r.err
	case r.null:
		return nil, nil
	}
	return nil, failed(err)
}

// native returns a result as a Go value; records says that it may be one, or a list of
// them.
func native(v ref.Val, records bool) (any, error) {
	switch v := v.(type) {
	case types.Null:
		return nil, nil
	case types.Uint:
		if uint64(v) > math.MaxInt64 {
			return nil, fmt.Errorf("%d is beyond the whole numbers of 64 bits", uint64(v))
		}
		return int64(v), nil
	case types.Timestamp:
		return v.Time, nil
	case types.Duration:
		return isoDuration(v.Duration), nil
	case *types.Optional:
		if !v.HasValue() {
			return nil, nil
		}
		return native(v.GetValue(), records)
	case traits.Lister:
		list := []any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			item, err := native(it.Next(), records)
			if err != nil {
				return nil, err
			}
			list = append(list, item)
		}
		return list, nil
	case traits.Mapper:
		object := map[string]any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			key := it.Next()
			item, err := native(v.Get(key), false)
			if err != nil {
				return nil, err
			}
			object[fmt.Sprint(key.Value())] = item
		}
		return object, nil
	case *object:
		if !records {
			return nil, errors.New("a record stands where it gives values")
		}
		return v.Object, nil
	}
	return v.Value(), nil
}

// isoDuration writes a length of time as RFC 3339, appendix A, has it.
func isoDuration(d time.Duration) string {
	var b strings.Builder
	nanos := uint64(d)
	if d < 0 {
		b.WriteByte('-')
		nanos = -nanos
	}
	b.WriteString("PT")
	seconds, rest := nanos/1e9, nanos%1e9
	if hours := seconds / 3600; hours > 0 {
		fmt.Fprintf(&b, "%dH", hours)
	}
	if minutes := seconds / 60 % 60; minutes > 0 {
		fmt.Fprintf(&b, "%dM", minutes)
	}
	if seconds %= 60; rest > 0 {
		b.WriteString(strings.TrimRight(fmt.Sprintf("%d.%09d", seconds, rest), "0") + "S")
	} else if seconds > 0 || nanos == 0 {
		fmt.Fprintf(&b, "%dS", seconds)
	}
	return b.String()
}

// ConvertToNative returns no other form of a record.
func (o *object) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a record cannot become %s", t)
}

// ConvertToType returns no other form of a record.
func (o *object) ConvertToType(t ref.Type) ref.Val {
	return types.NewErr("a record cannot become %s", t.TypeName())
}
