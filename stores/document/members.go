package document

import (
	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// This file tells the documents of several reads of one find apart.

// members is what a read was asked with, by value.
type members struct {
	keys  store.Index   // combinations of keys
	where []store.Index // values of each condition
}

func newMembers(read *store.Read, in *store.Input) *members {
	m := &members{where: make([]store.Index, len(read.Where))}
	if len(in.Keys) > 0 {
		addKeys(&m.keys, in.Keys)
	}
	for n := range read.Where {
		addKeys(&m.where[n], in.Where[n:n+1])
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
	for n, c := range read.Where {
		one := store.Column{Kind: c.Kind}
		appendValue(&one, &store.Wanted{Kind: c.Kind}, at(doc, c.Path))
		value, ok := store.AppendKey(nil, &one, 0)
		if !ok || m.where[n].Find(value) < 0 {
			return false
		}
	}
	return true
}
