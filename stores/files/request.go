package files

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file reads records, with those that are related to them in other files.

// Prepare makes a request of any number of reads, with the reads folded into them.
func (s *Source) Prepare(catalogue *store.Catalogue, reads []*store.Read) (store.Request, error) {
	sets, err := s.sets()
	if err != nil {
		return nil, err
	}
	r := &request{source: s, reads: reads}
	for _, read := range reads {
		path := sets[read.Set]
		if path == "" {
			return nil, &store.Error{Code: store.BadAnswer, Msg: "has no file of the set " + read.Set}
		}
		r.paths = append(r.paths, path)
		var here, there []store.Wanted
		if read.Parent >= 0 {
			here, there = wanted(catalogue, reads[read.Parent].Set, read.Here), wanted(catalogue, read.Set, read.There)
		}
		r.here, r.there = append(r.here, here), append(r.there, there)
	}
	return r, nil
}

// wanted describes the fields of a key, as the catalogue has them.
func wanted(c *store.Catalogue, set string, paths []string) []store.Wanted {
	list := make([]store.Wanted, len(paths))
	for i, path := range paths {
		list[i] = store.Wanted{Path: path, Kind: store.Text}
		if c != nil && c.Sets[set] != nil {
			if f := c.Sets[set].Field(path); f != nil {
				list[i].Kind = f.Kind
			}
		}
	}
	return list
}

type request struct {
	source *Source
	reads  []*store.Read
	paths  []string // the file of each read
	// By read: the fields by which its records belong to those above, there and here.
	here, there [][]store.Wanted
}

// Describe names the files.
func (r *request) Describe() store.Description {
	var asks, files, with []string
	for i, read := range r.reads {
		name := filepath.Base(r.paths[i])
		if !slices.Contains(files, name) {
			files = append(files, name)
		}
		if read.Parent >= 0 {
			if !slices.Contains(with, name) {
				with = append(with, name)
			}
			continue
		}
		if by := fieldsOf(read); len(by) > 0 {
			name += " by " + strings.Join(by, ", ")
		}
		if !slices.Contains(asks, name) {
			asks = append(asks, name)
		}
	}
	text := strings.Join(asks, " and ")
	if len(with) > 0 {
		text += " with " + strings.Join(with, ", ")
	}
	return store.Description{Asks: text, Statement: "read " + strings.Join(files, ", ")}
}

// fieldsOf returns the fields that a read looks at to choose records.
func fieldsOf(read *store.Read) (by []string) {
	for _, k := range read.Keys {
		by = append(by, read.Columns[k].Path)
	}
	for i := range read.Where {
		for _, path := range read.Where[i].Paths(nil) {
			if !slices.Contains(by, path) {
				by = append(by, path)
			}
		}
	}
	return by
}

// A part is the records of the rows of a read, as they become its table.
type part struct {
	table   *store.Table
	read    *store.Read
	records []any // of each row
}

func (p *part) add(record any) int32 {
	p.records = append(p.records, record)
	p.table.Len++
	for i := range p.read.Columns {
		w := &p.read.Columns[i]
		p.table.Columns[i].AppendJSON(w, store.JSONPath(record, w.Path))
	}
	return int32(p.table.Len - 1)
}

// Run looks at every record of the files.
func (r *request) Run(ctx context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	return r.runOn(ctx, r.source, in)
}

// A holder has the records of files: the source, or a session.
type holder interface {
	records(path string) ([]any, error)
}

func (r *request) runOn(ctx context.Context, from holder, in []store.Input) (*store.Answer, error) {
	answer := &store.Answer{Requests: 1}
	var parts []*part
	rows := 0
	for n, read := range r.reads {
		if err := ctx.Err(); err != nil {
			return nil, store.Fail(ctx, err, "was not read to its end")
		}
		records, err := from.records(r.paths[n])
		if err != nil {
			return nil, err
		}
		p := &part{table: store.NewTable(read.Columns), read: read}
		if read.Parent < 0 {
			members := store.NewMembers(read, &in[n])
			for _, record := range records {
				if members.Has(store.JSONSubject{Value: record}) {
					p.add(record)
				}
			}
		} else {
			r.relate(p, parts[read.Parent], n, records, &in[n])
		}
		parts, answer.Tables = append(parts, p), append(answer.Tables, p.table)
		if rows += p.table.Len; rows > r.source.config.MaxRecords {
			return nil, store.TooMany(r.source.config.MaxRecords)
		}
	}
	return answer, nil
}

// relate finds the records that belong to those of the rows above: in the order of the
// file, and each a row only once, however many rows above it belongs to.
//
//	craft      rows 0 1    operator_id  7 7
//	operators  row  0      id           7      Child 0 0
func (r *request) relate(p, above *part, n int, records []any, in *store.Input) {
	var index store.Index
	groups := [][]any{} // the records of each key
	key := newKey(r.there[n])
	for _, record := range records {
		if text, ok := key.of(record); ok {
			group, isNew := index.Add(text)
			if isNew {
				groups = append(groups, nil)
			}
			groups[group] = append(groups[group], record)
		}
	}
	rows := make([][]int32, len(groups)) // of each key that was asked for
	known := make([]bool, len(groups))
	t := p.table
	if p.read.Single {
		t.Child = []int32{}
	} else {
		t.Parent = []int32{}
	}
	key = newKey(r.here[n])
	for parent, record := range above.records {
		var own []int32
		if text, ok := key.of(record); ok {
			if group := index.Find(text); group >= 0 {
				if !known[group] {
					known[group] = true
					for _, record := range groups[group] {
						if p.read.FitsAll(in, store.JSONSubject{Value: record}) {
							rows[group] = append(rows[group], p.add(record))
						}
					}
				}
				own = rows[group]
			}
		}
		switch {
		case !p.read.Single:
			for _, row := range own {
				t.Order, t.Parent = append(t.Order, row), append(t.Parent, int32(parent))
			}
		case len(own) > 0:
			t.Child = append(t.Child, own[0])
		default:
			t.Child = append(t.Child, -1)
		}
	}
}

// A key reads the values of a key, in a form that is the same of those that are equal.
type key struct {
	fields  []store.Wanted
	columns *store.Table
	all     []int
	text    []byte
}

func newKey(fields []store.Wanted) *key {
	k := &key{fields: fields, columns: store.NewTable(fields)}
	for i := range fields {
		k.all = append(k.all, i)
	}
	return k
}

// of returns the key of a record, until the next call; false if a value is missing.
func (k *key) of(record any) ([]byte, bool) {
	k.columns.Reset()
	for i := range k.fields {
		k.columns.Columns[i].AppendJSON(&k.fields[i], store.JSONPath(record, k.fields[i].Path))
	}
	text, ok := k.columns.AppendKey(k.text[:0], k.all, 0)
	k.text = text
	return text, ok
}
