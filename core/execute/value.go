package execute

import (
	"encoding/json"
	"time"

	"osprey/core/expression"
	"osprey/core/plan"
	"osprey/core/scalar"
	"osprey/core/store"
)

// This file gives the values of fields as expressions have them.

// fieldValue returns the value of a field as an expression has it. What would
// be an error in the answer is one here.
func (r *run) fieldValue(f *plan.Field, t *store.Table, row int) (v any, err error) {
	if f.What == plan.Denied || f.Allow != nil && !r.allows(f.Allow, t, row) {
		return nil, nil
	}
	if f.What == plan.Leaf {
		if v, ok := plainLeaf(f, &t.Columns[f.Column], row); ok {
			return v, nil
		}
	}
	outside := r.aside(nil)
	defer func() {
		if len(r.errs) > 0 {
			v, err = nil, r.takeError()
		}
		r.writer = outside
	}()
	switch f.What {
	case plan.Leaf:
		return r.leafValue(f, &t.Columns[f.Column], row), nil
	case plan.Constant:
		return jsonText(f.Text), nil
	case plan.Inner:
		return r.innerValue(f, &f.Null, &t.Columns[f.Column], row), nil
	case plan.Aggregate:
		if c, at, ok := r.aggregateValue(f, f, row); ok {
			return r.leafValue(f, c, at), nil
		}
		return nil, nil
	case plan.Expression:
		c, at, ok := r.expressionValue(f, t, row)
		switch {
		case !ok:
			return nil, nil
		case f.Object == nil:
			return r.leafValue(f, c, at), nil
		}
		return r.innerValue(f, &f.Null, c, at), nil
	case plan.Called:
		c, at, ok := r.callValue(f, f, row)
		switch {
		case !ok:
			return nil, nil
		case f.Object == nil:
			return r.leafValue(f, c, at), nil
		}
		return r.innerValue(f, &f.Null, c, at), nil
	case plan.Grouped:
		return recordOf{r, f.Object.Cases[0].Fields, t, row}, nil
	case plan.Picked:
		return r.pickedValue(f, t, row), nil
	case plan.Merged:
		return r.mergedValue(f, t, row), nil
	}
	return r.recordsValue(f, t, row), nil
}

// plainLeaf returns a stored value that needs no conversion.
func plainLeaf(f *plan.Field, c *store.Column, row int) (any, bool) {
	if c.Null[row] || c.Kind == store.List || f.Format != nil {
		return nil, false
	}
	switch {
	case f.Codec == scalar.Quoted && (f.Scalar == nil || f.Scalar.Typed == nil):
		return string(c.At(row)), true
	case f.Codec == scalar.Fraction:
		return c.Floats[row], true
	case f.Codec == scalar.Truth:
		return c.Ints[row] != 0, true
	case f.Scalar != nil && f.Scalar.Holds == expression.Int && (f.Codec == scalar.Number || f.Codec == scalar.QuotedInt):
		return c.Ints[row], true
	case f.Scalar != nil && f.Scalar.Holds == expression.Moment && f.Codec == scalar.MomentText:
		return time.UnixMicro(c.Ints[row]).UTC(), true
	}
	return nil, false
}

// leafValue returns a stored value as an expression has it.
func (r *run) leafValue(f *plan.Field, c *store.Column, row int) any {
	b, ok := r.leaf(nil, f, c, row)
	if !ok {
		return nil
	}
	return typed(f.Scalar, jsonText(b))
}

// jsonText decodes a JSON text that was written here.
func jsonText(text []byte) any {
	var v any
	_ = json.Unmarshal(text, &v)
	return v
}

// typed returns a decoded JSON value of a scalar as an expression has it.
func typed(s *scalar.Scalar, v any) any {
	if s == nil || s.Typed == nil {
		return v
	}
	if list, ok := v.([]any); ok {
		for i := range list {
			list[i] = typed(s, list[i])
		}
		return list
	}
	return s.Typed(v)
}

// objectValue returns a row as an expression looks at it; nil after telling that it
// is of no type.
func (r *run) objectValue(f *plan.Field, t *store.Table, row int) any {
	o := f.Object
	if o.Kind < 0 {
		return recordOf{r, o.Cases[0].Fields, t, row}
	}
	for _, c := range o.Cases {
		if isOnly(t, plan.Only{Kind: o.Kind, Stored: c.Stored}, row) {
			return recordOf{r, c.Fields, t, row}
		}
	}
	r.object(nil, f, t, row) // which tells it
	return nil
}

// innerValue returns a nested record, or a list of them, or of such lists.
func (r *run) innerValue(f *plan.Field, null *plan.Nullness, c *store.Column, row int) any {
	switch {
	case r.noList(f, null, c, row):
		return nil
	case c.Kind != store.List:
		return r.objectValue(f, c.Rows, row)
	}
	list := []any{}
	start, end := c.Items(row)
	for i := start; i < end; i++ {
		list = append(list, r.innerValue(f, null.Item, c.Elem, i))
	}
	return list
}

func oneOrAll(f *plan.Field, list []any) any {
	switch {
	case f.Null.Item != nil:
		return list
	case len(list) > 0:
		return list[0]
	}
	return nil
}

// recordsValue returns the records that a field leads to.
func (r *run) recordsValue(f *plan.Field, t *store.Table, row int) any {
	l, from, to, ok := r.linked(f, row)
	if !ok {
		return nil
	}
	list := []any{}
	for i := from; i < to; i++ {
		list = append(list, r.objectValue(f, l.table, l.at(i)))
	}
	if f.What == plan.One && len(list) > 1 {
		r.one(nil, f, f, l, from, to) // which tells it
		return nil
	}
	return oneOrAll(f, list)
}

// mergedValue returns the records of a merge.
func (r *run) mergedValue(f *plan.Field, t *store.Table, row int) any {
	if f.Merge.By >= 0 {
		i, ok := r.partOf(f, t, row)
		if !ok {
			return nil
		}
		part := f.Parts[i]
		if part.Step == nil {
			return recordOf{r, part.Object.Cases[0].Fields, nil, 0}
		}
		return r.recordsValue(part, t, row)
	}
	m, from, to, ok := r.mergedRange(f, t, row)
	if !ok {
		return nil
	}
	list := []any{}
	for _, at := range m.rows[from:to] {
		list = append(list, r.objectValue(f.Parts[at.part], r.link(f.Merge.Parts[at.part].Step).table, int(at.row)))
	}
	return oneOrAll(f, list)
}
