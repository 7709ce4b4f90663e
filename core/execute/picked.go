package execute

import (
	"errors"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file has the records that expressions give: rows of a table that was read, which
// are written as what is selected of them wants it.

// pick adds a row of which the expression gives records: those of the rows of a table.
func (e *expressed) pick(v any, from *store.Table) error {
	list, isList := v.([]any)
	if !isList {
		list = []any{v}
	}
	rows := []int32{}
	for _, item := range list {
		record, ok := item.(recordOf)
		switch {
		case item == nil:
			rows = append(rows, -1)
		case !ok || record.table != from:
			e.picked = append(e.picked, nil)
			return errors.New("it gives records that are not those of the list it looks at")
		default:
			rows = append(rows, int32(record.row))
		}
	}
	e.picked = append(e.picked, rows)
	return nil
}

// pickedRows returns which rows of its table a field picks, whatever they belong to.
func (r *run) pickedRows(f *plan.Field) []bool {
	from := r.table(f.From)
	if from == nil {
		return nil
	}
	is := make([]bool, from.Len)
	var t *store.Table
	if f.Rows != nil {
		if t = r.table(f.Rows); t == nil {
			return is
		}
	}
	for _, rows := range r.expression(f, t).picked {
		for _, row := range rows {
			if row >= 0 {
				is[row] = true
			}
		}
	}
	return is
}

// picked writes the records that an expression gives for a row.
func (r *run) picked(b []byte, f *plan.Field, t *store.Table, row int) ([]byte, bool) {
	rows, ok := r.pickedOf(f, t, row)
	if !ok {
		return b, false
	}
	from := r.table(f.From)
	if f.Null.Item != nil {
		return r.items(b, f.Null.Item, len(rows), func(b []byte, i int) ([]byte, bool) {
			return r.pickedOne(b, f, f.Null.Item, from, rows[i])
		})
	}
	return r.pickedOne(b, f, &f.Null, from, rows[0])
}

func (r *run) pickedOne(b []byte, f *plan.Field, null *plan.Nullness, from *store.Table, row int32) ([]byte, bool) {
	if row < 0 {
		if null.NonNull {
			r.missing(f)
		}
		return b, false
	}
	return r.object(b, f, from, int(row))
}

// pickedOf returns the rows that an expression gives for a row, or tells why there are
// none.
func (r *run) pickedOf(f *plan.Field, t *store.Table, row int) ([]int32, bool) {
	if t == nil {
		row = 0
	}
	e := r.expression(f, t)
	if err := e.failed[row]; err != nil {
		r.expressionFailed(f, err)
		return nil, false
	}
	rows := e.picked[row]
	if rows == nil && f.Null.NonNull {
		r.missing(f)
	}
	return rows, rows != nil
}

// pickedValue returns the records that an expression gives for a row.
func (r *run) pickedValue(f *plan.Field, t *store.Table, row int) any {
	rows, ok := r.pickedOf(f, t, row)
	if !ok {
		return nil
	}
	from := r.table(f.From)
	list := []any{}
	for _, row := range rows {
		if row < 0 {
			list = append(list, nil)
		} else {
			list = append(list, r.objectValue(f, from, int(row)))
		}
	}
	return oneOrAll(f, list)
}
