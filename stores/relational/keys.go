package relational

import (
	"fmt"
	"strings"

	"osprey/core/store"
)

// This file writes by which keys rows are asked for.

// keyValue writes the values of one key as an array parameter.
func (s *statement) keyValue(read, k int) string {
	r := s.reads[read]
	c := r.Columns[r.Keys[k]]
	f := s.field(read, c.Path)
	return s.one(param{read: read, what: keyParam, n: k, field: f, kind: c.Kind, many: true})
}

// hasKey writes that a row has one of the keys of a read of one key, or a list that
// holds one.
func (s *statement) hasKey(read int) string {
	r := s.reads[read]
	c := &r.Columns[r.Keys[0]]
	own := s.column("t", read, c.Path)
	if c.Kind == store.List {
		return s.dialect.holds(own, s.field(read, c.Path), param{read: read, what: keyParam, kind: c.Elem.Kind, many: true}, s.one)
	}
	return s.dialect.anyOf(own, s.keyValue(read, 0), s.field(read, c.Path), c.Kind)
}

// keySets writes the combinations of key values as a table k.
func (s *statement) keySets(read int) string {
	var values, names []string
	for k := range s.reads[read].Keys {
		values = append(values, s.keyValue(read, k))
		names = append(names, fmt.Sprintf("k%d", k))
	}
	return "unnest(" + strings.Join(values, ", ") + ") AS k(" + strings.Join(names, ", ") + ")"
}

func (s *statement) keyed(read int) string {
	r := s.reads[read]
	var terms []string
	for k, c := range r.Keys {
		terms = append(terms, fmt.Sprintf("%s = k.k%d", s.column("t", read, r.Columns[c].Path), k))
	}
	return strings.Join(terms, " AND ")
}

// A keyField is a field by which rows are asked for.
type keyField struct {
	own   string // as it is written
	field *store.Field
	kind  store.Kind // of the values that are given
}

// keyFields returns the fields by which the rows of a branch are asked for; none if
// all of them are.
func (s *statement) keyFields(b *branch) []keyField {
	var list []keyField
	r := s.reads[b.read]
	if b.host == nil {
		for _, k := range r.Keys {
			c := &r.Columns[k]
			list = append(list, keyField{s.column("t", b.read, c.Path), s.field(b.read, c.Path), c.Kind})
		}
		return list
	}
	alias := "t"
	if r.JoinTable != nil {
		alias = "m"
	}
	fields, set := s.linkFields(b.read)
	for _, path := range fields {
		f := set.Field(path)
		list = append(list, keyField{s.column(alias, b.read, path), f, linkKind(f)})
	}
	return list
}

// stageKeys writes " AND …" for the keys by which the rows of a branch are asked for.
func (s *statement) stageKeys(b *branch) string {
	fields := s.keyFields(b)
	if len(fields) == 0 {
		return ""
	}
	if b.host == nil && len(fields) == 1 {
		return " AND " + s.hasKey(b.read)
	}
	first := fields[0]
	key := param{read: b.read, what: keyParam, field: first.field, kind: first.kind, many: true}
	if len(fields) == 1 {
		return " AND " + s.dialect.anyOf(first.own, s.one(key), first.field, first.kind)
	}
	text := ""
	if s.dialect.windowed.inline() { // combinations do not lead it to an index
		text = " AND " + s.dialect.anyOf(first.own, s.one(key), first.field, first.kind)
	}
	return text + " AND " + s.dialect.windowed.anyOfKeys(fields, s.one(param{read: b.read, what: keysParam, n: len(fields), fields: fields, many: true}))
}
