package execute

import (
	"fmt"
	"slices"

	"osprey/core/plan"
	"osprey/core/store"
)

// A writer walks the shape of the answer and appends its bytes. A method that
// returns false has met null where the schema forbids it: what it wrote is cut
// back by the nearest caller whose place may be null (section 6.4.4).
type writer struct {
	run    *run
	buf    []byte
	path   []step
	errs   []*Error
	causes map[any]*Error // the last error told of each cause
	counts map[any]int
}

// A step of the path: a response name, or a list position if name is empty.
type step struct {
	name  string
	index int
}

// pathNow returns a copy of the current path.
func (w *writer) pathNow() []any {
	path := make([]any, len(w.path))
	for i, s := range w.path {
		if s.name != "" {
			path[i] = s.name
		} else {
			path[i] = s.index
		}
	}
	return path
}

// data writes the whole answer.
func (w *writer) data(o *plan.Object) {
	if !w.fields(o.Cases[0].Fields, nil, 0) {
		w.buf = append(w.buf[:0], "null"...)
	}
}

// fields writes an object of the fields for a row.
func (w *writer) fields(fields []*plan.Field, t *store.Table, row int) bool {
	w.buf = append(w.buf, '{')
	for i, f := range fields {
		if i > 0 {
			w.buf = append(w.buf, ',')
		}
		w.buf = append(w.buf, f.Label...)
		mark := len(w.buf)
		if !w.field(f, t, row) {
			if f.Null.NonNull {
				return false
			}
			w.buf = append(w.buf[:mark], "null"...)
		}
	}
	w.buf = append(w.buf, '}')
	return true
}

// field writes the value of a field; false if it is null.
func (w *writer) field(f *plan.Field, t *store.Table, row int) bool {
	switch f.What {
	case plan.Leaf:
		return w.leaf(f, &f.Null, &t.Columns[f.Column], row, false)
	case plan.Constant:
		w.buf = append(w.buf, f.Text...)
		return string(f.Text) != "null"
	}
	w.path = append(w.path, step{name: f.Name})
	var ok bool
	if f.What == plan.Inner {
		ok = w.inner(f, &t.Columns[f.Column], row)
	} else {
		ok = w.records(f, row)
	}
	w.path = w.path[:len(w.path)-1]
	return ok
}

// missing tells of null where the schema promises a value.
func (w *writer) missing(f *plan.Field) {
	w.fail(f, nil, Missing, "", fmt.Sprintf(msgRequiredNoValue, f.At))
}

// records writes the records that a field leads to.
func (w *writer) records(f *plan.Field, row int) bool {
	l := w.run.link(f.Step)
	source := f.Step.Read.Fetch.Source
	if l.err != nil {
		code, msg := describe(f.Step.Read.Fetch, l.err)
		w.fail(f, f.Step.Read.Fetch, code, source, msg)
		return false
	}
	if f.Step.Parent == nil {
		row = 0
	}
	rows := l.rows(row)
	if f.What == plan.Many {
		return w.list(f, len(rows), func(i int) bool { return w.object(f, l.table, int(rows[i])) })
	}
	switch {
	case len(rows) == 0:
		if f.Null.NonNull {
			w.missing(f)
		}
		return false
	case len(rows) > 1:
		w.fail(f, nil, NotUnique, source, fmt.Sprintf(msgPromisesOneRecordWere, f.At, len(rows)))
		return false
	}
	return w.object(f, l.table, int(rows[0]))
}

// list writes n items; item is false for one that is null.
func (w *writer) list(f *plan.Field, n int, item func(i int) bool) bool {
	w.buf = append(w.buf, '[')
	w.path = append(w.path, step{})
	ok := true
	for i := 0; i < n && ok; i++ {
		if i > 0 {
			w.buf = append(w.buf, ',')
		}
		w.path[len(w.path)-1].index = i
		mark := len(w.buf)
		if !item(i) {
			if f.Null.Item.NonNull {
				ok = false
				break
			}
			w.buf = append(w.buf[:mark], "null"...)
		}
	}
	w.path = w.path[:len(w.path)-1]
	w.buf = append(w.buf, ']')
	return ok
}

// object writes one record as its type wants it.
func (w *writer) object(f *plan.Field, t *store.Table, row int) bool {
	o := f.Object
	if o.Kind < 0 {
		return w.fields(o.Cases[0].Fields, t, row)
	}
	kind := &t.Columns[o.Kind]
	if kind.Null[row] {
		w.fail(f, nil, BadResult, "", fmt.Sprintf(msgRecordHasNothingTells, o.Type))
		return false
	}
	stored := kind.At(row)
	i := slices.IndexFunc(o.Cases, func(c plan.Case) bool { return c.Stored == string(stored) })
	if i < 0 {
		w.fail(f, nil, BadResult, "", fmt.Sprintf(msgRecordKindNoType, o.Type, stored))
		return false
	}
	return w.fields(o.Cases[i].Fields, t, row)
}

// inner writes a nested record, or a list of them.
func (w *writer) inner(f *plan.Field, c *store.Column, row int) bool {
	if c.Null[row] {
		if why, bad := c.Bad[row]; bad {
			w.fail(f, nil, BadResult, "", f.At+": "+why)
		} else if f.Null.NonNull {
			w.missing(f)
		}
		return false
	}
	first, _ := slices.BinarySearch(c.Rows.Parent, int32(row))
	n := 0
	for first+n < c.Rows.Len && c.Rows.Parent[first+n] == int32(row) {
		n++
	}
	if f.Null.Item != nil {
		return w.list(f, n, func(i int) bool { return w.object(f, c.Rows, first+i) })
	}
	if n == 0 {
		return false
	}
	return w.object(f, c.Rows, first)
}
