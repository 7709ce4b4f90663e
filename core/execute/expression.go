package execute

import (
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"osprey/core/plan"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file evaluates expressions: for all rows of a table when the first is
// asked for, into a column that is then written as a stored one is.

// expressed is what an expression gave for the rows of a table.
type expressed struct {
	column store.Column
	picked [][]int32     // of a field that gives records: by row, -1 for null; nil for none
	failed map[int]error // by row
}

// expression returns what an expression gives for the rows of a table; nil is
// the one row of a root.
func (r *run) expression(f *plan.Field, t *store.Table) *expressed {
	if known := r.expressed[f]; known != nil {
		return known
	}
	e := &expressed{failed: map[int]error{}}
	if r.expressed == nil {
		r.expressed = map[*plan.Field]*expressed{}
	}
	r.expressed[f] = e
	if f.What != plan.Picked {
		e.column = store.NewTable([]store.Wanted{f.Result}).Columns[0]
	}
	args := argumentsOf{r, f.Args}
	rows := 1
	var shown []bool
	if t != nil {
		if rows = t.Len; f.Rows != nil { // nil of a rule, which is told of all rows
			shown = r.shown(f.Rows)
		}
	}
	for row := range rows {
		if t != nil && !isOnly(t, f.Only, row) || shown != nil && !shown[row] {
			e.null(f)
			continue
		}
		v, err := f.Expr.Run(map[string]any{"record": recordOf{r, f.Needs, t, row}, "args": args, "caller": r.who()})
		if err != nil {
			e.failed[row] = err
		}
		switch {
		case v == nil:
			e.null(f)
		case f.What == plan.Picked:
			if err := e.pick(v, r.table(f.From)); err != nil {
				e.failed[row] = err
			}
		default:
			e.column.AppendJSON(&f.Result, jsonValue(v))
		}
	}
	return e
}

// who returns who asks; nil for nobody.
func (r *run) who() *store.Identity {
	if r.opts.Caller == nil {
		return nil
	}
	return r.opts.Caller.Who
}

// null adds a row of which the expression gives nothing.
func (e *expressed) null(f *plan.Field) {
	if f.What == plan.Picked {
		e.picked = append(e.picked, nil)
		return
	}
	e.column.AppendNull()
}

// express writes what an expression gives for a row.
func (r *run) express(b []byte, f *plan.Field, t *store.Table, row int) ([]byte, bool) {
	c, at, ok := r.expressionValue(f, t, row)
	return r.given(b, f, c, at, ok)
}

// expressionValue returns what an expression gives for a row as a value of a
// column, or tells why there is none.
func (r *run) expressionValue(f *plan.Field, t *store.Table, row int) (*store.Column, int, bool) {
	if t == nil {
		row = 0
	}
	e := r.expression(f, t)
	if err := e.failed[row]; err != nil {
		r.enter(f)
		r.expressionFailed(f, err)
		r.leave()
		return nil, 0, false
	}
	return &e.column, row, true
}

// expressionFailed tells why an expression gives nothing.
func (r *run) expressionFailed(f *plan.Field, err error) {
	if known, ok := err.(*told); ok {
		r.fail(f, nil, known.code, known.source, known.msg)
		return
	}
	r.fail(f, nil, BadResult, "", fmt.Sprintf(msgExpression, f.At, err))
}

// jsonValue returns the result of an expression as decoded JSON.
func jsonValue(v any) any {
	switch v := v.(type) {
	case int64:
		return json.Number(strconv.FormatInt(v, 10))
	case float64:
		text := strconv.FormatFloat(v, 'g', -1, 64)
		return json.Number(text)
	case time.Time:
		return v.UTC().Format(time.RFC3339Nano)
	case []any:
		list := make([]any, len(v))
		for i, item := range v {
			list[i] = jsonValue(item)
		}
		return list
	case map[string]any:
		object := make(map[string]any, len(v))
		for name, item := range v {
			object[name] = jsonValue(item)
		}
		return object
	}
	return v
}

// recordOf is a row as an expression looks at it: the fields that were planned
// for it.
type recordOf struct {
	run    *run
	fields []*plan.Field
	table  *store.Table
	row    int
}

// Field returns the value of a field of the record.
func (o recordOf) Field(name string) (any, error) {
	for _, f := range o.fields {
		if f.Name == name {
			return o.run.fieldValue(f, o.table, o.row)
		}
	}
	return nil, fmt.Errorf("%s was not asked for", name)
}

// ExpressionValue returns what is given to an argument or a field of an input type as an expression looks at it.
func ExpressionValue(t schema.Type, v schema.Value) any {
	return typed(scalar.Named(schema.NamedOf(t).String()), plainValue(v))
}

// argumentsOf is the arguments of a field as an expression looks at them.
type argumentsOf struct {
	run  *run
	args []*plan.Arg
}

// Field returns the value of an argument.
func (o argumentsOf) Field(name string) (any, error) {
	for _, a := range o.args {
		if a.Name != name {
			continue
		}
		v, err := a.Resolve(o.run.vars)
		if err != nil {
			bad := badArgument(a, msgDoesNotFit, err).(*store.Error)
			return nil, &told{string(bad.Code), "", bad.Msg}
		}
		return ExpressionValue(a.Type, v), nil
	}
	return nil, nil // it is not given
}
