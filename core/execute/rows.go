package execute

import (
	"fmt"
	"time"

	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file resolves what a write is asked with: a row for each record.

// A filling is the rows of a write while they are made.
type filling struct {
	run      *run
	write    *plan.Write
	resolved map[*plan.Arg]schema.Value
	items    []schema.Value // of the list that is added; one that is nil of anything else
	above    []int          // of records that are added with others: the row of those, for each item
	found    *store.Table   // whose rows are the records, or nil
}

// itemsOf returns the input objects of the records of a write, and the rows above that they
// belong to: of records that are added with others, those in a field of their objects.
func (f *filling) itemsOf(w *plan.Write) (items []schema.Value, above []int, err error) {
	var v schema.Value
	var list []schema.Value
	switch {
	case w.Above != nil && w.Arg != nil:
		v, err = f.resolve(w.Arg)
		list = []schema.Value{v}
	case w.Above != nil:
		list, _, err = f.itemsOf(w.Above.Read.Write)
	case w.List != nil:
		v, err = f.resolve(w.List)
		items, _ = v.([]schema.Value)
	default:
		items = []schema.Value{nil}
	}
	for row, object := range list {
		switch v := fieldOf(object, w.Within).(type) {
		case nil:
		case []schema.Value:
			for _, item := range v {
				items, above = append(items, item), append(above, row)
			}
		default:
			items, above = append(items, v), append(above, row)
		}
	}
	if most := f.run.opts.MaxWrites; err == nil && most > 0 && int64(len(items)) > most {
		return nil, nil, &store.Error{Code: store.BadValue, Msg: fmt.Sprintf(msgArgument, nameOf(w)) + fmt.Sprintf(msgTooManyWritten, most, len(items))}
	}
	return items, above, err
}

// fieldOf returns the value of a field of an input object; nil if there is none.
func fieldOf(object schema.Value, name string) schema.Value {
	fields, _ := object.(schema.InputFields)
	for _, f := range fields {
		if f.Name == name {
			return f.Value
		}
	}
	return nil
}

// nameOf names the argument, or the field of one, that is the list of records of a write.
func nameOf(w *plan.Write) string {
	if w.List != nil {
		return w.List.Name
	}
	return w.Within
}

// rowsOf resolves what is written. Of records that are found first, and are not yet, it is
// what would be written to one.
func (r *run) rowsOf(w *plan.Write) (*store.Rows, error) {
	f := &filling{run: r, write: w, resolved: map[*plan.Arg]schema.Value{}}
	var err error
	if f.items, f.above, err = f.itemsOf(w); err != nil {
		return nil, err
	}
	n := len(f.items)
	if w.Found != nil {
		if f.found = r.table(&plan.Rows{Step: w.Found}); f.found != nil {
			n = f.found.Len
		}
	}
	rows := &store.Rows{Len: n, Columns: make([]store.Column, len(w.Values)), Absent: make([][]bool, len(w.Values))}
	for c := range w.Values {
		of, into := &w.Values[c], &rows.Columns[c]
		*into = shapeOf(of)
		for row := range n {
			given, err := f.value(of, into, row)
			if err != nil {
				return nil, err
			}
			rows.Absent[c] = append(rows.Absent[c], !given)
		}
	}
	return rows, nil
}

// value adds the value of a row to a column, and reports whether it is given.
func (f *filling) value(of *plan.WriteValue, into *store.Column, row int) (given bool, err error) {
	var v schema.Value
	switch {
	case of.Found:
		if f.found == nil || !f.found.Columns[f.column(of.Path)].Null[row] && into.AppendAs(&f.found.Columns[f.column(of.Path)], row) {
			if f.found == nil {
				into.AppendNull()
			}
			return true, nil
		}
		return false, &store.Error{Code: store.BadAnswer, Msg: "has given a record without its key"}
	case of.Above != "":
		t := f.run.table(&plan.Rows{Step: f.write.Above})
		for i, c := range f.write.Above.Read.Store.Columns {
			if c.Path == of.Above && f.above[row] < t.Len && !t.Columns[i].Null[f.above[row]] && into.AppendAs(&t.Columns[i], f.above[row]) {
				return true, nil
			}
		}
		return false, &store.Error{Code: store.BadAnswer, Msg: "has added a record without telling its key"}
	case of.Const != "":
		v, given = of.Const, true
	case of.Set != nil && len(of.Set.Needs) > 0 && f.found == nil: // it is not known yet
		given = true
	case of.Set != nil:
		if v, err = f.express(of, row); err != nil {
			return false, err
		}
		given = true
	case of.Together:
		if v, err = f.together(of); err != nil {
			return false, err
		}
		given = true
	case of.Item:
		v, given = of.Of(f.items[row])
	case of.Arg != nil || of.Null:
		whole, err := f.resolve(of.Arg)
		if err != nil {
			return false, err
		}
		if of.Arg != nil && of.Arg == f.write.List {
			whole = f.items[row]
		}
		v, given = of.Of(whole)
	}
	if err := put(into, of, v); err != nil {
		return false, &store.Error{Code: store.BadValue, Msg: fmt.Sprintf(msgWriteValue, placeOf(f.write, of, row), err)}
	}
	return given, nil
}

// together returns a record whose fields are arguments.
func (f *filling) together(of *plan.WriteValue) (schema.Value, error) {
	var record schema.InputFields
	for i := range of.Fields {
		if of.Fields[i].Arg == nil {
			continue
		}
		v, err := f.resolve(of.Fields[i].Arg)
		if err != nil {
			return nil, err
		}
		record = append(record, schema.InputField{Name: of.Fields[i].Name, Value: v})
	}
	return record, nil
}

// shapeOf returns an empty column for a value.
func shapeOf(of *plan.WriteValue) store.Column {
	c := store.Column{Kind: of.Kind}
	if of.Kind == store.Record {
		c.Rows = &store.Table{Columns: make([]store.Column, len(of.Fields))}
		for i := range of.Fields {
			c.Rows.Columns[i] = shapeOf(&of.Fields[i])
			c.Rows.Names = append(c.Rows.Names, of.Fields[i].Path)
		}
	}
	if of.Many && (of.Kind != store.JSON || len(of.Fields) == 0) {
		return store.Column{Kind: store.List, Elem: &c}
	}
	return c
}

// column returns the column of the records found that has a field of their key.
func (f *filling) column(path string) int {
	for i, c := range f.write.Found.Read.Store.Columns {
		if c.Path == path {
			return i
		}
	}
	panic("execute: no column " + path)
}

func (f *filling) resolve(a *plan.Arg) (schema.Value, error) {
	v, known := f.resolved[a]
	if known || a == nil {
		return v, nil
	}
	v, err := a.Resolve(f.run.vars)
	if err != nil {
		return nil, badArgument(a, msgDoesNotFit, err)
	}
	f.resolved[a] = v
	return v, nil
}

// express evaluates the expression of a value.
func (f *filling) express(of *plan.WriteValue, row int) (schema.Value, error) {
	record := recordOf{f.run, of.Set.Needs, f.found, row}
	v, err := of.Set.Expr.Run(map[string]any{"args": argumentsOf{f.run, of.Set.Args}, "now": f.run.now, "record": record, "caller": f.run.who()})
	if err != nil {
		if known, ok := err.(*told); ok {
			return nil, known
		}
		return nil, &store.Error{Code: store.BadValue, Msg: fmt.Sprintf(msgSetFailed, of.About, err)}
	}
	return asGiven(v, of), nil
}

// asGiven returns what an expression gives as if a caller had given it. Of a moment, it is
// as much as the field holds.
func asGiven(v any, of *plan.WriteValue) schema.Value {
	switch v := v.(type) {
	case time.Time:
		v = v.UTC()
		if of.Set.Scale != nil {
			v = v.Truncate(time.Second / time.Duration(pow10(min(9, max(0, *of.Set.Scale)))))
		}
		switch of.Kind {
		case store.Date:
			return v.Format(time.DateOnly)
		case store.Clock:
			return v.Format("15:04:05.999999")
		}
		return v.Format("2006-01-02T15:04:05.999999Z07:00")
	case string:
		if of.Enum != nil {
			return schema.Symbol(v)
		}
		return v
	case []any:
		list := make([]schema.Value, len(v))
		for i := range v {
			list[i] = asGiven(v[i], of)
		}
		return list
	}
	return v
}

func pow10(n int) int {
	p := 1
	for range n {
		p *= 10
	}
	return p
}
