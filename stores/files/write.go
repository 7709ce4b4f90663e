package files

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file writes records. A session works on copies of the records; at its end the files
// that have changed are written anew beside the old ones, and take their places:
//
//	port_calls.jsonl        the records as they were, until the last moment
//	.port_calls.jsonl-4711  as they will be; renamed to port_calls.jsonl
//
// One session writes at a time. Of several files of one session, each is whole; a process that
// is killed between two has replaced one of them.

// writing is how the source is written to.
func (s *Source) writing() *store.Writing {
	return &store.Writing{Begin: s.begin, Prepare: s.prepareWrite, Nests: true, Single: true, Free: true}
}

// A session is the records of files as they will be.
type session struct {
	source  *Source
	changed map[string][]any // by path
	seen    map[string]any   // what the file of each was when it was read, to notice another writer
	over    bool
}

func (s *Source) begin(ctx context.Context, _ *store.Caller) (store.Session, error) {
	select {
	case s.writes <- struct{}{}:
		return &session{source: s, changed: map[string][]any{}, seen: map[string]any{}}, nil
	case <-ctx.Done():
		return nil, store.Fail(ctx, ctx.Err(), "")
	}
}

// records returns the records of a file as the session has them.
func (x *session) records(path string) ([]any, error) {
	if records, ok := x.changed[path]; ok {
		return records, nil
	}
	return x.source.records(path)
}

// Run runs a request.
func (x *session) Run(ctx context.Context, r store.Request, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	switch r := r.(type) {
	case *request:
		return r.runOn(ctx, x, in)
	case *write:
		return r.runOn(x, in[0].Rows)
	}
	return nil, fmt.Errorf("a request of the type %T, which is another source's", r)
}

// Rollback forgets what was changed.
func (x *session) Rollback() {
	if !x.over {
		x.over = true
		<-x.source.writes
	}
}

// Commit writes the files that have changed: first all of them beside the old ones.
func (x *session) Commit(ctx context.Context) error {
	defer x.Rollback()
	var made []madeFile
	defer func() {
		for _, m := range made {
			os.Remove(m.beside) // those that have not taken their places
		}
	}()
	for _, path := range slices.Sorted(maps.Keys(x.changed)) {
		if now, err := stamp(path); err != nil || now != x.seen[path] {
			return &store.Error{Code: store.Conflict, Msg: "has a file that another program has changed meanwhile", Err: errors.Join(err, errors.New(path))}
		}
		old, err := os.ReadFile(path)
		if err != nil {
			return cannotWrite(err)
		}
		text, err := writers[filepath.Ext(path)](x.changed[path], old)
		if err != nil {
			return &store.Error{Code: store.BadValue, Msg: fmt.Sprintf("%s: %v", filepath.Base(path), err), Err: err}
		}
		beside, err := besides(path, text)
		if err != nil {
			return cannotWrite(err)
		}
		made = append(made, madeFile{beside, path, text})
	}
	if err := ctx.Err(); err != nil {
		return store.Fail(ctx, err, "")
	}
	for len(made) > 0 {
		if err := os.Rename(made[0].beside, made[0].path); err != nil {
			return cannotWrite(err)
		}
		x.source.renew(made[0].path, made[0].text)
		made = made[1:]
	}
	return nil
}

// A madeFile is a file that is to take the place of another one.
type madeFile struct {
	beside, path string
	text         []byte
}

// renew reads what was written to a file: by its time alone, two writes at once are not told
// apart.
func (s *Source) renew(path string, text []byte) {
	records, err := readers[filepath.Ext(path)](text)
	info, missing := os.Stat(path)
	s.mu.Lock()
	defer s.mu.Unlock()
	if delete(s.read, path); err == nil && missing == nil {
		s.read[path] = &contents{info.ModTime(), info.Size(), records}
	}
}

func cannotWrite(err error) error {
	return &store.Error{Code: store.Down, Msg: "has a file that cannot be written", Err: err}
}

// besides writes a file beside the one that it is to replace, and waits until it is on the disk.
func besides(path string, text []byte) (string, error) {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-")
	if err != nil {
		return "", err
	}
	mode := os.FileMode(0o644)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	_, err = f.Write(text)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		os.Remove(f.Name())
	}
	return f.Name(), err
}

// stamp tells whether a file is another than before.
func stamp(path string) (any, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	return fmt.Sprint(info.ModTime().UnixNano(), info.Size()), nil
}

// A write is a prepared write.
type write struct {
	*store.Write
	source *Source
	set    *store.Set
	path   string
}

func (s *Source) prepareWrite(catalogue *store.Catalogue, w *store.Write) (store.Request, error) {
	sets, err := s.sets()
	if err != nil {
		return nil, err
	}
	if sets[w.Set] == "" || catalogue.Sets[w.Set] == nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "has no file of the set " + w.Set}
	}
	return &write{Write: w, source: s, set: catalogue.Sets[w.Set], path: sets[w.Set]}, nil
}

// Describe names the file.
func (r *write) Describe() store.Description {
	return store.Description{Asks: r.Action.String() + " " + r.Set, Statement: "write " + filepath.Base(r.path)}
}

// Run is for sessions only.
func (r *write) Run(context.Context, *store.Caller, []store.Input) (*store.Answer, error) {
	return nil, &store.Error{Code: store.BadAnswer, Msg: "is not written to outside of a session"}
}

// runOn writes the rows in a session.
func (r *write) runOn(x *session, rows *store.Rows) (*store.Answer, error) {
	if _, ok := x.seen[r.path]; !ok {
		now, err := stamp(r.path)
		if err != nil {
			return nil, &store.Error{Code: store.Down, Msg: "has no file to write", Err: err}
		}
		x.seen[r.path] = now
	}
	known, err := x.records(r.path)
	if err != nil {
		return nil, err
	}
	t := store.NewTable(r.Returning)
	w := &working{write: r, records: slices.Clone(known), table: t}
	for row := range rows.Len {
		if err := w.row(rows, row); err != nil {
			return nil, err
		}
	}
	x.changed[r.path] = w.records
	return &store.Answer{Requests: 1, Tables: []*store.Table{t}}, nil
}

// A working is the records of a file while they are written.
type working struct {
	*write
	records []any
	table   *store.Table
}

// row writes one row.
func (w *working) row(rows *store.Rows, row int) error {
	if w.Action == store.Add {
		return w.add(rows, row)
	}
	at, err := w.find(rows, row)
	if at < 0 || err != nil {
		return err
	}
	if w.Action == store.Remove {
		w.tell(w.records[at])
		w.records = slices.Delete(w.records, at, at+1)
		return nil
	}
	record, err := w.changed(w.records[at], rows, row)
	if err != nil {
		return err
	}
	if w.taken(record, at) {
		return w.breaks(store.Taken, w.key()...)
	}
	w.records[at] = record
	w.tell(record)
	return nil
}

// add adds a record, or changes the one that has the same.
func (w *working) add(rows *store.Rows, row int) error {
	record, err := w.changed(map[string]any{}, rows, row)
	if err != nil {
		return err
	}
	if at := w.same(record, w.Replaces, -1); len(w.Replaces) > 0 && at >= 0 {
		is := w.records[at].(map[string]any)
		if record, err = w.changed(is, rows, row); err != nil {
			return err
		}
		for _, f := range w.Kept {
			if v := store.JSONPath(is, f); v != nil {
				store.PutPath(record, f, v)
			}
		}
		w.records[at] = record
		w.tell(record)
		return nil
	}
	w.number(record)
	if w.taken(record, -1) {
		return w.breaks(store.Taken, w.key()...)
	}
	w.records = append(w.records, record)
	w.tell(record)
	return nil
}

// key is the first of the keys that the catalogue tells: what it was seen to be unique by
// beside that, new records need not be.
func (w *working) key() []string {
	if len(w.set.Keys) == 0 {
		return nil
	}
	return w.set.Keys[0]
}

// number gives a record the next number of its file, if that has numbers as its key.
func (w *working) number(record map[string]any) {
	key := w.key()
	if len(key) != 1 || record[key[0]] != nil || w.set.Field(key[0]) == nil || w.set.Field(key[0]).Kind != store.Int {
		return
	}
	last := int64(0)
	for _, r := range w.records {
		if n, ok := r.(map[string]any)[key[0]].(json.Number); ok {
			if n, err := n.Int64(); err == nil {
				last = max(last, n)
			}
		}
	}
	record[key[0]] = json.Number(fmt.Sprint(last + 1))
}

// taken reports whether another record than that at a position has the key.
func (w *working) taken(record map[string]any, at int) bool {
	key := w.key()
	return len(key) > 0 && w.same(record, key, at) >= 0
}

// same returns the position of a record that has the same in some fields, but for one; -1 if
// there is none.
func (w *working) same(record map[string]any, fields []string, but int) int {
	want, ok := keyOf(record, fields)
	if !ok {
		return -1
	}
	for i, r := range w.records {
		if is, ok := keyOf(r, fields); ok && i != but && is == want {
			return i
		}
	}
	return -1
}

// keyOf returns what a record has in some fields; false if it lacks one.
func keyOf(record any, fields []string) (string, bool) {
	var list []any
	for _, f := range fields {
		v := store.JSONPath(record, f)
		if v == nil {
			return "", false
		}
		list = append(list, v)
	}
	text, _ := json.Marshal(list)
	return string(text), len(fields) > 0
}

// find returns the position of the record that has the keys of a row, and what is expected;
// -1 if there is none.
func (w *working) find(rows *store.Rows, row int) (int, error) {
	first := len(w.Columns)
	for at, record := range w.records {
		if !w.has(record, w.Keys, rows, first, row) {
			continue
		}
		if !w.hasSought(record, rows, row) {
			return -1, nil
		}
		var gone []string
		for i, g := range w.Expect {
			if column := first + len(w.Keys) + i; !rows.IsAbsent(column, row) && !w.has(record, w.Expect[i:i+1], rows, column, row) {
				gone = append(gone, g.Field)
			}
		}
		if len(gone) > 0 {
			return -1, &store.Error{Code: store.Conflict, Msg: "no longer has the record as it is expected", Broken: &store.Broken{Rule: store.Outdated, Set: w.Set, Fields: gone}}
		}
		return at, nil
	}
	return -1, nil
}

// hasSought reports whether the list of a record has one of those that are sought in it, if any
// are.
func (w *working) hasSought(record any, rows *store.Rows, row int) bool {
	for c, g := range w.Columns {
		if list, _ := store.JSONPath(record, g.Field).([]any); g.How == store.Sought && !slices.ContainsFunc(list, func(item any) bool { return w.fits(item, &rows.Columns[c], row) }) {
			return false
		}
	}
	return true
}

// fits reports whether a nested record has the values that are given of one.
func (w *working) fits(item any, given *store.Column, row int) bool {
	var fields []store.Given
	for i, name := range given.Rows.Names {
		fields = append(fields, store.Given{Field: name, Kind: given.Rows.Columns[i].Kind})
	}
	_, isRecord := item.(map[string]any)
	return isRecord && w.has(item, fields, &store.Rows{Columns: given.Rows.Columns}, 0, row)
}

// has reports whether a record has the values of columns from a position on.
func (w *working) has(record any, fields []store.Given, rows *store.Rows, first, row int) bool {
	for i, g := range fields {
		given := &rows.Columns[first+i]
		stored := store.Column{Kind: given.Kind}
		stored.AppendJSON(&store.Wanted{Kind: given.Kind}, store.JSONPath(record, g.Field))
		if stored.Null[0] || given.Null[row] {
			if stored.Null[0] != given.Null[row] {
				return false
			}
			continue
		}
		a, _ := store.AppendKey(nil, &stored, 0)
		b, _ := store.AppendKey(nil, given, row)
		if !bytes.Equal(a, b) {
			return false
		}
	}
	return true
}

// changed returns a copy of a record with what a row changes.
func (w *working) changed(of any, rows *store.Rows, row int) (map[string]any, error) {
	record := deepCopy(of).(map[string]any)
	var sought []any // of a list in it, and what these get
	within, inside := "", map[string]any{}
	for c, g := range w.Columns {
		if rows.IsAbsent(c, row) {
			continue
		}
		v := rows.Columns[c].JSON(row)
		stored := store.JSONPath(record, g.Field)
		switch g.How {
		case store.Adjusted:
			sum, ok := added(stored, v)
			if !ok {
				return nil, w.breaks(store.OutOfRange, g.Field)
			}
			v = sum
		case store.Appended:
			list, _ := stored.([]any)
			more, _ := v.([]any)
			v = append(slices.Clone(list), more...)
		case store.Dropped:
			list, _ := stored.([]any)
			v = slices.DeleteFunc(slices.Clone(list), func(item any) bool { return w.fits(item, &rows.Columns[c], row) })
		case store.Sought:
			list, _ := stored.([]any)
			sought = slices.DeleteFunc(slices.Clone(list), func(item any) bool { return !w.fits(item, &rows.Columns[c], row) })
			within = g.Field + "."
			continue
		case store.Inside:
			inside[strings.TrimPrefix(g.Field, within)] = v
			continue
		}
		if v == nil {
			v = nothing
		}
		store.PutPath(record, g.Field, v)
	}
	for path, v := range inside {
		for _, item := range sought {
			if v == nil {
				v = nothing
			}
			store.PutPath(item.(map[string]any), path, v)
		}
	}
	return without(record).(map[string]any), nil
}

// tell answers with a record that was written.
func (w *working) tell(record any) {
	w.table.Len++
	for i := range w.Returning {
		w.table.Columns[i].AppendJSON(&w.Returning[i], store.JSONPath(record, w.Returning[i].Path))
	}
}

func (w *working) breaks(rule store.Rule, fields ...string) error {
	return &store.Error{Code: store.BadWrite, Msg: fmt.Sprintf("refuses to %s a record", w.Action), Broken: &store.Broken{Rule: rule, Set: w.Set, Fields: fields}}
}
