package document

import (
	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// This file tells the documents of several reads of one find apart.

// members is what a read was asked with, by value.
type members struct {
	keys  map[string]bool   // combinations of keys
	where []map[string]bool // values of each condition
}

func newMembers(read *store.Read, in *store.Input) members {
	m := members{keys: map[string]bool{}}
	if len(in.Keys) > 0 {
		columns := make([]*store.Column, len(in.Keys))
		for i := range in.Keys {
			columns[i] = &in.Keys[i]
		}
		for row := range in.Keys[0].Len() {
			if key, ok := store.RowKey(nil, columns, row); ok {
				m.keys[string(key)] = true
			}
		}
	}
	for n := range read.Where {
		values := map[string]bool{}
		for row := range in.Where[n].Len() {
			if key, ok := store.AppendKey(nil, &in.Where[n], row); ok {
				values[string(key)] = true
			}
		}
		m.where = append(m.where, values)
	}
	return m
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
	if len(read.Keys) > 0 && !m.keys[string(key)] {
		return false
	}
	for n, c := range read.Where {
		one := store.Column{Kind: c.Kind}
		appendValue(&one, &store.Wanted{Kind: c.Kind}, at(doc, c.Path))
		value, ok := store.AppendKey(nil, &one, 0)
		if !ok || !m.where[n][string(value)] {
			return false
		}
	}
	return true
}
