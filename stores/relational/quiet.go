package relational

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"osprey/core/store"
)

// This file adds records where the server does not say what it has added, as MySQL. They are
// found by the key that they were given, or, if the server has counted it on, by what it says of
// the first: of the rows of one statement it counts on by a step that does not change.
//
//	INSERT INTO `pilots` (`name`) VALUES ('Ada'), ('Bo')         the first is 61
//	SELECT @@auto_increment_increment                            1, once for a session
//	SELECT `id`, `id`, `seen_at` FROM `pilots` WHERE `id` IN (61, 62)
//
// Where nothing but the numbers is wanted, that is all.

// takes says why a write cannot be made: of a server that does not say what it has added, nothing
// tells the key.
func (s *Source) takes(c *store.Catalogue, w *store.Write) error {
	if !s.quiet.Load() || w.Action != store.Add || len(w.Replaces) > 0 || c == nil || c.Sets[w.Set] == nil {
		return nil
	}
	set := c.Sets[w.Set]
	for _, key := range set.Keys {
		if numbered(set, key) || !slices.ContainsFunc(key, func(name string) bool {
			return !slices.ContainsFunc(w.Columns, func(g store.Given) bool { return g.Field == name })
		}) {
			return nil
		}
	}
	return fmt.Errorf("the server does not say which key it has made of a record of %s, nor can it be counted on\n→ give the key in an argument, or let Osprey make it, as in set: \"id: uuid()\"", w.Set)
}

// numbered reports whether a key is one field that the server counts on.
func numbered(set *store.Set, key []string) bool {
	if len(key) != 1 {
		return false
	}
	f := set.Field(key[0])
	return f != nil && f.Numbered
}

// addQuietly adds some rows with one statement, and reads of them what is wanted.
func (r *write) addQuietly(ctx context.Context, x *session, rows *store.Rows, from, to int, t *store.Table, a *store.Answer) error {
	a.Requests++
	first, err := x.insert(ctx, r.statement(rows, from, to), r.arguments(rows, from, to))
	if err != nil {
		return err
	}
	if len(r.returns) == 0 {
		t.Len += to - from
		return nil
	}
	find := &finding{write: r, index: map[string]int{}}
	if err := find.by(ctx, x, rows, from, to, first, a); err != nil {
		return err
	}
	if !find.known() {
		if err := find.read(ctx, x, a); err != nil {
			return err
		}
	}
	for row := range to - from {
		if find.found[row] == nil {
			return &store.Error{Code: store.BadAnswer, Msg: "does not have a record that it has just added"}
		}
		if err := r.row(t, find.found[row]); err != nil {
			return err
		}
	}
	return nil
}

// A finding is records that were just added while they are read.
type finding struct {
	*write
	fields  []*store.Field // of the key
	given   *store.Rows    // the keys, a column for each field
	index   map[string]int // rows by their keys
	found   [][][]byte     // by row: what is wanted of it
	counted bool           // the key is what the server has counted on
}

// by finds out by which key the records are found.
func (f *finding) by(ctx context.Context, x *session, rows *store.Rows, from, to int, first int64, a *store.Answer) error {
	f.found = make([][][]byte, to-from)
	keys := f.set.Keys
	if len(f.Replaces) > 0 {
		keys = [][]string{f.Replaces}
	}
	for _, key := range keys {
		if f.take(key, rows, from, to) {
			return nil
		}
	}
	for _, key := range keys {
		if !numbered(f.set, key) || first == 0 {
			continue
		}
		step := int64(1)
		if to-from > 1 {
			var err error
			if step, err = x.stepOf(ctx, a); err != nil {
				return err
			}
		}
		f.counted = true
		f.fields = []*store.Field{f.set.Field(key[0])}
		f.given = &store.Rows{Len: to - from, Columns: []store.Column{{Kind: store.Int}}}
		for row := range to - from {
			f.given.Columns[0].AppendInt(first + int64(row)*step)
		}
		return nil
	}
	return &store.Error{Code: store.BadValue, Msg: "adds a record without its key, and does not say which it has made", Err: errors.New("no key of " + f.Set + " is given")}
}

// stepOf returns by which step the server counts on.
func (x *session) stepOf(ctx context.Context, a *store.Answer) (step int64, err error) {
	if x.step == 0 {
		a.Requests++
		_, err = x.run(ctx, "SELECT @@auto_increment_increment", nil, true, true, func(values [][]byte) error {
			x.step, err = strconv.ParseInt(string(values[0]), 10, 64)
			return err
		})
	}
	return x.step, err
}

// known reports whether nothing is wanted but what was counted on, which it then notes.
func (f *finding) known() bool {
	for i := range f.returns {
		if !f.counted || f.returns[i].path != f.fields[0].Name {
			return false
		}
	}
	for row := range f.found {
		number := f.given.Columns[0].Text(row)
		for range f.returns {
			f.found[row] = append(f.found[row], slices.Clone(number))
		}
	}
	return true
}

// take takes a key that all rows are given; false if they are not.
func (f *finding) take(key []string, rows *store.Rows, from, to int) bool {
	f.fields, f.given = nil, &store.Rows{Len: to - from}
	for _, name := range key {
		column := slices.IndexFunc(f.Columns, func(g store.Given) bool { return g.Field == name })
		if column < 0 {
			return false
		}
		own := store.Column{Kind: f.Columns[column].Kind}
		for row := from; row < to; row++ {
			if rows.IsAbsent(column, row) || rows.Columns[column].Null[row] {
				return false
			}
			own.AppendFrom(&rows.Columns[column], row)
		}
		f.fields, f.given.Columns = append(f.fields, f.write.fields[column]), append(f.given.Columns, own)
	}
	return true
}

// read reads the records, all by one statement; those whose key the server has as something
// else that equals it, one by one.
func (f *finding) read(ctx context.Context, x *session, a *store.Answer) error {
	var all []int
	for row := range f.found {
		f.index[f.key(f.given.Columns, row)] = row
		all = append(all, row)
	}
	if err := f.ask(ctx, x, all, a, func(values [][]byte) error {
		own := make([]store.Column, len(f.fields))
		for i, field := range f.fields {
			own[i].Kind = f.given.Columns[i].Kind
			if err := f.source.dialect.decoder(field, &store.Wanted{Kind: own[i].Kind})(&own[i], values[i]); err != nil {
				return err
			}
		}
		if row, ok := f.index[f.key(own, 0)]; ok {
			f.found[row] = cloned(values[len(f.fields):])
		}
		return nil
	}); err != nil {
		return err
	}
	for row := range f.found {
		if f.found[row] != nil {
			continue
		}
		if err := f.ask(ctx, x, []int{row}, a, func(values [][]byte) error {
			f.found[row] = cloned(values[len(f.fields):])
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// ask reads the key and what is wanted of the records that have the keys of rows.
func (f *finding) ask(ctx context.Context, x *session, of []int, a *store.Answer, row func([][]byte) error) error {
	var names []string
	var kinds []store.Kind
	for i, field := range f.fields {
		names = append(names, f.source.dialect.sent(f.quoted(field.Name), &out{path: field.Name, field: field, kind: f.given.Columns[i].Kind, typ: field.Type}))
		kinds = append(kinds, f.given.Columns[i].Kind)
	}
	var args []any
	for _, n := range of {
		for i, field := range f.fields {
			args = append(args, f.source.dialect.writing.written(&f.given.Columns[i], n, field))
		}
	}
	where, _ := f.source.dialect.writing.among(0, f.fields, kinds, len(of))
	a.Requests++
	_, err := x.run(ctx, "SELECT "+strings.Join(names, ", ")+", "+f.returning()+" FROM "+f.quoted(f.Set)+" WHERE "+where, args, true, len(of) == 1, row)
	return err
}

// key returns the key of a row as a text that is the same for equal ones.
func (f *finding) key(columns []store.Column, row int) string {
	var key []byte
	for i := range columns {
		key, _ = store.AppendKey(key, &columns[i], row)
	}
	return string(key)
}

func cloned(values [][]byte) [][]byte {
	own := make([][]byte, len(values))
	for i, v := range values {
		own[i] = slices.Clone(v)
	}
	return own
}

// insert runs a statement that adds records, and returns the first number that was counted on.
func (x *session) insert(ctx context.Context, text string, args []any) (first int64, err error) {
	named := make([]driver.NamedValue, len(args))
	for i, v := range args {
		named[i] = driver.NamedValue{Ordinal: i + 1, Value: v}
	}
	lent := x.lend(ctx, func(own any) error {
		var result driver.Result
		if result, err = own.(driverConn).ExecContext(ctx, text, named); err == nil {
			first, err = result.LastInsertId()
		}
		return nil
	})
	return first, errors.Join(err, lent)
}
