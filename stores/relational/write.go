package relational

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"osprey/core/store"
)

// This file writes records. A list of them is one statement, as long as it has no more
// parameters than the database takes:
//
//	INSERT INTO "pilots" ("name", "licence") VALUES ($1, $2), ($3, DEFAULT) RETURNING "id"
//	UPDATE "pilots" SET "name" = $1 WHERE "id" = $2 RETURNING "id"
//	DELETE FROM "pilots" WHERE "id" = $1 RETURNING "id"

// A writeDialect is how a database is written to.
type writeDialect interface {
	// pool is the connections on which it is written, and begin how a transaction begins.
	pool(s *Source) (*sqlx.DB, error)
	begin() string
	commit(ctx context.Context, conn execer) error
	// put writes the n-th parameter as a value of a field, and written is that in the
	// driver's form.
	put(n int, f *store.Field, kind store.Kind) string
	written(c *store.Column, row int, f *store.Field) any
	// unnested writes rows of fields, each of which is one parameter with its values; "" if
	// it has no such form. values is such a parameter.
	unnested(fields []*store.Field) string
	values(c *store.Column, from, to int) any
	// filled stands for what the database fills; "" if it has no word for that.
	filled() string
	// lock is what a read says at its end of rows that are about to be written.
	lock() string
	// among writes that a record has the keys of one of some rows, behind n parameters; arrays
	// says that each field of the key is one parameter with the values of all rows.
	among(n int, fields []*store.Field, kinds []store.Kind, rows int) (text string, arrays bool)
	// replace writes, behind an INSERT, that a record which has the same fields gets the
	// values of columns instead; gives says that it is wanted, though nothing changes.
	replace(fields, columns []string, gives bool) string
	// anyKey reports whether replace changes the record that has any unique key.
	anyKey() bool
	// gives reports whether a statement can give columns of what it wrote.
	gives(a store.Action) bool
	// misfit tells in what way a field cannot hold a value, beyond what all databases
	// look at alike.
	misfit(c *store.Column, row int, f *store.Field) (store.Rule, bool)
	// broken is the rule that an error says is broken, or nil.
	broken(err error, set *store.Set, c *store.Catalogue, a store.Action) *store.Broken
	// conflict reports whether an error says that another transaction was in the way.
	conflict(err error) bool
}

// maxParams is how many parameters a statement may have; PostgreSQL takes 65,535, SQLite
// 32,766.
const maxParams = 30_000

// A write is a prepared write.
type write struct {
	source    *Source
	catalogue *store.Catalogue
	set       *store.Set
	*store.Write
	fields  []*store.Field // of Columns, Keys and Expect
	returns []out
	decode  []decoder
}

// prepareWrite makes a request of a write.
func (s *Source) prepareWrite(catalogue *store.Catalogue, w *store.Write) (store.Request, error) {
	set := catalogue.Sets[w.Set]
	if set == nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "does not have " + w.Set}
	}
	r := &write{source: s, catalogue: catalogue, set: set, Write: w}
	for _, g := range slices.Concat(w.Columns, w.Keys, w.Expect) {
		f := set.Field(g.Field)
		if f == nil || f.Column != "" {
			return nil, &store.Error{Code: store.BadAnswer, Msg: "does not have " + w.Set + "." + g.Field}
		}
		r.fields = append(r.fields, f)
	}
	for i := range w.Returning {
		wanted := &w.Returning[i]
		f := set.Field(wanted.Path)
		if f == nil {
			return nil, &store.Error{Code: store.BadAnswer, Msg: "does not have " + w.Set + "." + wanted.Path}
		}
		o := out{path: f.Name, field: f, kind: wanted.Kind, typ: f.Type}
		if s.dialect.union != nil {
			o.typ = s.dialect.union.typeOf(store.NoAggregate, f)
		}
		r.returns, r.decode = append(r.returns, o), append(r.decode, s.dialect.decoder(f, wanted))
	}
	return r, nil
}

// Describe tells what is written.
func (r *write) Describe() store.Description {
	one := &store.Rows{Len: 1, Columns: make([]store.Column, len(r.fields))}
	text := r.statement(one, 0, 1)
	return store.Description{Asks: r.Action.String() + " " + r.Set, Statement: text}
}

// Run is for sessions only.
func (r *write) Run(context.Context, *store.Caller, []store.Input) (*store.Answer, error) {
	return nil, &store.Error{Code: store.BadAnswer, Msg: "is not written to outside of a session"}
}

// runOn writes the rows in a session.
func (r *write) runOn(ctx context.Context, x *session, rows *store.Rows) (*store.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, r.source.timeout)
	defer cancel()
	t := store.NewTable(r.Returning)
	a := &store.Answer{Tables: []*store.Table{t}}
	for row := range rows.Len {
		if err := r.check(rows, row); err != nil {
			return nil, err
		}
	}
	for from := 0; from < rows.Len; {
		to := r.upTo(rows, from)
		if err := r.part(ctx, x, rows, from, to, t, a); err != nil {
			return nil, r.fail(ctx, err)
		}
		from = to
	}
	return a, nil
}

// upTo returns how many rows go into one statement: of changes one, of new records as
// many as the database takes, which say the same of what it fills where it has no word
// for that, or where a record that is there is left alone in it.
func (r *write) upTo(rows *store.Rows, from int) int {
	switch {
	case r.Alike:
		return min(rows.Len, from+max(1, (maxParams-len(r.Columns))/len(r.Keys)))
	case r.Action != store.Add:
		return from + 1
	}
	to := min(rows.Len, from+max(1, maxParams/max(1, len(r.Columns))))
	if r.source.dialect.writing.filled() != "" && len(r.Columns) > 0 && len(r.Replaces) == 0 && !r.source.quiet.Load() {
		return to
	}
	if !r.gives(rows, from) { // of which a statement makes one
		return from + 1
	}
	for next := from + 1; next < to; next++ {
		for c := range r.Columns {
			if rows.IsAbsent(c, next) != rows.IsAbsent(c, from) {
				return next
			}
		}
	}
	return to
}

// part writes some rows with one statement; of a database that does not say what it
// changed, it asks for that first.
func (r *write) part(ctx context.Context, x *session, rows *store.Rows, from, to int, t *store.Table, a *store.Answer) error {
	row := func(values [][]byte) error { return r.row(t, values) }
	gives := r.tells()
	if !gives && r.Action == store.Add {
		return r.addQuietly(ctx, x, rows, from, to, t, a)
	}
	if !gives && !r.Alike {
		a.Requests++
		found, err := x.run(ctx, "SELECT "+r.returning()+" FROM "+r.quoted(r.Set)+r.where(rows, from, 0, true)+" FOR UPDATE", r.keys(rows, from, true), true, true, row)
		if err == nil && found == 0 {
			err = r.outdated(ctx, x, rows, from, a)
		}
		if err != nil || found == 0 {
			return err
		}
	}
	a.Requests++
	text := r.statement(rows, from, to)
	if text == "" {
		return nil
	}
	often := to-from == 1 // or the text depends on how many there are
	if _, unnested := r.unnested(rows, from, to); unnested != "" {
		often = true
	}
	if r.Alike {
		_, often = r.among(0, to-from)
	}
	found, err := x.run(ctx, text, r.arguments(rows, from, to), gives && len(r.returns) > 0, often, row)
	if err == nil && gives && found == 0 {
		err = r.outdated(ctx, x, rows, from, a)
	}
	return err
}

// tells reports whether the statement can give columns of what it wrote.
func (r *write) tells() bool {
	return r.source.dialect.writing.gives(r.Action) && !r.source.quiet.Load()
}

// row adds a row of what a statement gives.
func (r *write) row(t *store.Table, values [][]byte) error {
	t.Len++
	for i, v := range values[:len(t.Columns)] {
		if v == nil {
			t.Columns[i].AppendNull()
		} else if err := r.decode[i](&t.Columns[i], v); err != nil {
			return err
		}
	}
	return nil
}

// outdated looks why no record was found: because there is none, or because it has no
// longer what is expected, which is an error.
func (r *write) outdated(ctx context.Context, x *session, rows *store.Rows, row int, a *store.Answer) error {
	if len(r.Expect) == 0 {
		return nil
	}
	a.Requests++
	found, err := x.run(ctx, "SELECT 1 FROM "+r.quoted(r.Set)+r.where(rows, row, 0, false), r.keys(rows, row, false), true, true, func([][]byte) error { return nil })
	if err != nil || found == 0 {
		return err
	}
	broken := &store.Broken{Rule: store.Outdated, Set: r.Set}
	for i, g := range r.Expect {
		if !rows.IsAbsent(len(r.Columns)+len(r.Keys)+i, row) {
			broken.Fields = append(broken.Fields, g.Field)
		}
	}
	return &store.Error{Code: store.Conflict, Msg: "no longer has the record as it is expected", Broken: broken}
}

func (r *write) quoted(name string) string { return r.source.dialect.quote(name) }

func (r *write) returning() string {
	var list []string
	for i := range r.returns {
		o := &r.returns[i]
		list = append(list, r.source.dialect.sent(r.quoted(o.path), o))
	}
	if len(list) == 0 {
		return "1" // nothing is wanted but that the record is there
	}
	return strings.Join(list, ", ")
}

// statement writes the statement for some rows; "" if it would change nothing.
func (r *write) statement(rows *store.Rows, from, to int) string {
	w := r.source.dialect.writing
	var b strings.Builder
	n := 0
	switch r.Action {
	case store.Add:
		r.insert(&b, rows, from, to)
	case store.Change:
		var sets []string
		for c := range r.Columns {
			if !rows.IsAbsent(c, from) {
				n++
				name, value := r.quoted(r.fields[c].Name), w.put(n, r.fields[c], r.Columns[c].Kind)
				if r.Columns[c].How == store.Adjusted {
					value = "COALESCE(" + name + ", 0) + " + value
				}
				sets = append(sets, name+" = "+value)
			}
		}
		if len(sets) == 0 && (r.Alike || !w.gives(store.Change)) {
			return ""
		}
		if len(sets) == 0 { // it is found, and left as it is
			key := r.quoted(r.fields[len(r.Columns)].Name)
			sets = []string{key + " = " + key}
		}
		b.WriteString("UPDATE " + r.quoted(r.Set) + " SET " + strings.Join(sets, ", ") + r.which(rows, from, to, n))
	case store.Remove:
		b.WriteString("DELETE FROM " + r.quoted(r.Set) + r.which(rows, from, to, 0))
	}
	if r.tells() && len(r.returns) > 0 {
		b.WriteString(" RETURNING " + r.returning())
	}
	return b.String()
}

// which writes which records a statement is about, behind n parameters.
func (r *write) which(rows *store.Rows, from, to, n int) string {
	if !r.Alike {
		return r.where(rows, from, n, true)
	}
	text, _ := r.among(n, to-from)
	return " WHERE " + text
}

func (r *write) among(n, rows int) (text string, arrays bool) {
	first := len(r.Columns)
	var kinds []store.Kind
	for _, g := range r.Keys {
		kinds = append(kinds, g.Kind)
	}
	return r.source.dialect.writing.among(n, r.fields[first:first+len(r.Keys)], kinds, rows)
}

// where writes that a record has the keys of a row, and what is expected of it, behind n
// parameters.
func (r *write) where(rows *store.Rows, row, n int, expected bool) string {
	var list []string
	put := func(column int, sign string, g store.Given) {
		n++
		f := r.fields[column]
		list = append(list, r.quoted(f.Name)+sign+r.source.dialect.writing.put(n, f, g.Kind))
	}
	for i, g := range r.Keys {
		put(len(r.Columns)+i, " = ", g)
	}
	for i, g := range r.Expect {
		if column := len(r.Columns) + len(r.Keys) + i; expected && !rows.IsAbsent(column, row) {
			put(column, r.source.dialect.same(), g)
		}
	}
	return " WHERE " + strings.Join(list, " AND ")
}

// arguments returns the parameters of a statement.
func (r *write) arguments(rows *store.Rows, from, to int) []any {
	var args []any
	if columns, text := r.unnested(rows, from, to); text != "" {
		for _, c := range columns {
			args = append(args, r.source.dialect.writing.values(&rows.Columns[c], from, to))
		}
		return args
	}
	last := to
	if r.Alike {
		last = from + 1
	}
	for row := from; row < last; row++ {
		for c := range r.Columns {
			if !rows.IsAbsent(c, row) {
				args = append(args, r.value(rows, c, row))
			}
		}
	}
	switch {
	case r.Alike:
		args = append(args, r.allKeys(rows, from, to)...)
	case r.Action != store.Add:
		args = append(args, r.keys(rows, from, true)...)
	}
	return args
}

// allKeys returns the parameters of among.
func (r *write) allKeys(rows *store.Rows, from, to int) []any {
	var args []any
	if _, arrays := r.among(0, to-from); arrays {
		for i := range r.Keys {
			args = append(args, r.source.dialect.writing.values(&rows.Columns[len(r.Columns)+i], from, to))
		}
		return args
	}
	for row := from; row < to; row++ {
		args = append(args, r.keys(rows, row, false)...)
	}
	return args
}

// keys returns the parameters of where.
func (r *write) keys(rows *store.Rows, row int, expected bool) []any {
	var args []any
	for i := range r.Keys {
		args = append(args, r.value(rows, len(r.Columns)+i, row))
	}
	for i := range r.Expect {
		if column := len(r.Columns) + len(r.Keys) + i; expected && !rows.IsAbsent(column, row) {
			args = append(args, r.value(rows, column, row))
		}
	}
	return args
}

func (r *write) value(rows *store.Rows, column, row int) any {
	c := &rows.Columns[column]
	if c.Null[row] {
		return nil
	}
	return r.source.dialect.writing.written(c, row, r.fields[column])
}

// fail turns an error of the driver into one of the port.
func (r *write) fail(ctx context.Context, err error) error {
	w := r.source.dialect.writing
	if broken := w.broken(err, r.set, r.catalogue, r.Action); broken != nil {
		return r.refused(broken, err)
	}
	if w.conflict(err) {
		return store.IsConflict(err)
	}
	return r.source.fail(ctx, err)
}

func (r *write) refused(broken *store.Broken, err error) error {
	return &store.Error{Code: store.BadWrite, Msg: fmt.Sprintf("refuses to %s a record", r.Action), Err: err, Broken: broken}
}

// constraintNamed returns the set and the constraint that has a name.
func constraintNamed(c *store.Catalogue, set, name string) *store.Constraint {
	if s := c.Sets[set]; s != nil {
		for i := range s.Constraints {
			if strings.EqualFold(s.Constraints[i].Name, name) {
				return &s.Constraints[i]
			}
		}
	}
	return nil
}
