package relational

import (
	"fmt"
	"strings"

	"osprey/core/store"
)

// This file writes by which keys rows are asked for.

// keyValue writes the values of one key as an array parameter.
func (s *statement) keyValue(read, k int) string {
	c := s.reads[read].Columns[s.reads[read].Keys[k]]
	return s.one(param{read: read, what: keyParam, n: k, field: s.keyField(read, k), kind: c.Kind, many: true})
}

// hasKey writes that a row has one of the keys of a read of one key, or a list that
// holds one.
func (s *statement) hasKey(read int) string {
	r := s.reads[read]
	c := &r.Columns[r.Keys[0]]
	f, alias := s.keyField(read, 0), fmt.Sprintf("t%d", read)
	own := s.own(alias, f)
	if c.Kind == store.List {
		return s.dialect.holds(own, f, param{read: read, what: keyParam, kind: c.Elem.Kind, many: true}, s.one)
	}
	values := s.keyValue(read, 0)
	return s.narrowed(s.dialect.anyOf(own, values, f, c.Kind), alias, f, func(form string) string {
		return s.dialect.equalForm(form, values, true)
	})
}

// keyField returns one of the fields of a read's keys as it is compared.
func (s *statement) keyField(read, k int) *store.Field {
	c := &s.reads[read].Columns[s.reads[read].Keys[k]]
	return s.as(s.set(read), c.Path, c.Kind)
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
	var terms []string
	for k := range s.reads[read].Keys {
		terms = append(terms, fmt.Sprintf("%s = k.k%d", s.own(fmt.Sprintf("t%d", read), s.keyField(read, k)), k))
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
		for k, c := range r.Keys {
			f := s.keyField(b.read, k)
			list = append(list, keyField{s.own(fmt.Sprintf("t%d", b.read), f), f, r.Columns[c].Kind})
		}
		return list
	}
	alias := s.linkAlias(b.read)
	_, fields := s.linked(b.read)
	for _, f := range fields {
		list = append(list, keyField{s.own(alias, f), f, linkKind(f)})
	}
	return list
}

// linkAlias names the rows by whose fields those of a read hang from rows above: its
// own, or its pairs.
func (s *statement) linkAlias(read int) string {
	if s.reads[read].JoinTable != nil {
		return fmt.Sprintf("m%d", read)
	}
	return fmt.Sprintf("t%d", read)
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
		values := s.one(key)
		return " AND " + s.narrowed(s.dialect.anyOf(first.own, values, first.field, first.kind), s.linkAlias(b.read), first.field, func(form string) string {
			return s.dialect.equalForm(form, values, true)
		})
	}
	text := ""
	if s.dialect.windowed.inline() { // combinations do not lead it to an index
		text = " AND " + s.dialect.anyOf(first.own, s.one(key), first.field, first.kind)
	}
	return text + " AND " + s.dialect.windowed.anyOfKeys(fields, s.one(param{read: b.read, what: keysParam, n: len(fields), fields: fields, many: true}))
}
