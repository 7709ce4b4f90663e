package relational

import (
	"slices"
	"strings"

	"osprey/core/store"
)

// This file writes the statements that add records.

// insert writes an INSERT: of the columns that some row has a value for.
func (r *write) insert(b *strings.Builder, rows *store.Rows, from, to int) {
	w := r.source.dialect.writing
	var columns []int
	var names []string
	for c := range r.Columns {
		if r.given(rows, c, from, to) {
			columns, names = append(columns, c), append(names, r.quoted(r.fields[c].Name))
		}
	}
	if len(columns) == 0 && len(r.Columns) > 0 && w.filled() != "" { // all of them are as the database fills them
		columns, names = []int{0}, []string{r.quoted(r.fields[0].Name)}
	}
	b.WriteString("INSERT INTO " + r.quoted(r.Set))
	if len(columns) == 0 {
		if w.filled() == "DEFAULT" && r.source.dialect.union == nil {
			b.WriteString(" () VALUES" + strings.Repeat(" (),", to-from-1) + " ()") // of MariaDB and MySQL
		} else {
			b.WriteString(" DEFAULT VALUES")
		}
		return
	}
	b.WriteString(" (" + strings.Join(names, ", ") + ") ")
	if _, text := r.unnested(rows, from, to); text != "" {
		b.WriteString(text)
		if len(r.Replaces) > 0 {
			b.WriteString(" WHERE true") // or ON belongs to what is selected from
		}
	} else {
		r.values(b, rows, columns, from, to)
	}
	if len(r.Replaces) > 0 {
		changed := slices.DeleteFunc(r.names(columns), func(n string) bool { return slices.Contains(r.Replaces, n) || slices.Contains(r.Kept, n) })
		b.WriteString(w.replace(r.Replaces, changed, len(r.returns) > 0))
	}
}

// values writes rows of columns.
func (r *write) values(b *strings.Builder, rows *store.Rows, columns []int, from, to int) {
	w := r.source.dialect.writing
	b.WriteString("VALUES ")
	n := 0
	for row := from; row < to; row++ {
		if row > from {
			b.WriteString(", ")
		}
		for i, c := range columns {
			b.WriteString(map[bool]string{true: "(", false: ", "}[i == 0])
			if rows.IsAbsent(c, row) {
				b.WriteString(w.filled())
				continue
			}
			n++
			b.WriteString(w.put(n, r.fields[c], r.Columns[c].Kind))
		}
		b.WriteString(")")
	}
}

// names returns the names of columns.
func (r *write) names(columns []int) []string {
	var names []string
	for _, c := range columns {
		names = append(names, r.fields[c].Name)
	}
	return names
}

// unnested returns the columns of new records and the text of them as rows, if the database
// takes each as one parameter, so that the text is the same for any number of records; ""
// if some of them leave out what others give.
func (r *write) unnested(rows *store.Rows, from, to int) (columns []int, text string) {
	if r.Action != store.Add || to-from < 2 {
		return nil, ""
	}
	var fields []*store.Field
	for c := range r.Columns {
		absent := 0
		for row := from; row < to; row++ {
			if rows.IsAbsent(c, row) {
				absent++
			}
		}
		switch absent {
		case 0:
			columns, fields = append(columns, c), append(fields, r.fields[c])
		case to - from:
		default:
			return nil, ""
		}
	}
	if len(columns) == 0 {
		return nil, ""
	}
	return columns, r.source.dialect.writing.unnested(fields)
}

// gives reports whether a row has a value for some column.
func (r *write) gives(rows *store.Rows, row int) bool {
	for c := range r.Columns {
		if !rows.IsAbsent(c, row) {
			return true
		}
	}
	return false
}

// given reports whether some of the rows have a value for a column.
func (r *write) given(rows *store.Rows, column, from, to int) bool {
	for row := from; row < to; row++ {
		if !rows.IsAbsent(column, row) {
			return true
		}
	}
	return false
}
