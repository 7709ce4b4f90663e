package document

import (
	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// This file tells the documents of several reads of one find apart.

// members is what a read was asked with, by value.
type members struct {
	keys store.Index // combinations of keys
	in   *store.Input
}

func newMembers(in *store.Input) *members {
	m := &members{in: in}
	if len(in.Keys) > 0 {
		addKeys(&m.keys, in.Keys)
	}
	return m
}

func addKeys(x *store.Index, columns []store.Column) {
	t := store.Table{Columns: columns}
	all := make([]int, len(columns))
	for i := range all {
		all[i] = i
	}
	for row := range columns[0].Len() {
		if key, ok := t.AppendKey(nil, all, row); ok {
			x.Add(key)
		}
	}
}

// has reports whether a document is one of those that the read asked for.
func (m *members) has(read *store.Read, doc bson.Raw) bool {
	var key []byte
	for _, k := range read.Keys {
		one := store.Column{Kind: read.Columns[k].Kind}
		appendValue(&one, &read.Columns[k], at(doc, read.Columns[k].Path))
		var ok bool
		if key, ok = store.AppendKey(key, &one, 0); !ok {
			return false
		}
	}
	if len(read.Keys) > 0 && m.keys.Find(key) < 0 {
		return false
	}
	return read.FitsAll(m.in, subject(doc))
}

// A subject is a document to which predicates can be put.
type subject bson.Raw

// Append adds the value at a path.
func (s subject) Append(c *store.Column, path string) {
	appendValue(c, &store.Wanted{Kind: c.Kind}, at(bson.Raw(s), path))
}

// Nested returns the documents of an array at a path.
func (s subject) Nested(path string) []store.Subject {
	v := at(bson.Raw(s), path)
	if v.Type != bson.TypeArray {
		return nil
	}
	items, _ := v.Array().Values()
	var list []store.Subject
	for _, item := range items {
		if item.Type == bson.TypeEmbeddedDocument {
			list = append(list, subject(item.Document()))
		}
	}
	return list
}
