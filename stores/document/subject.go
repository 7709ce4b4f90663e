package document

import (
	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// A subject is a document to which predicates can be put.
type subject struct {
	uuids
	doc bson.Raw
}

// Append adds the value at the path of what is wanted.
func (s subject) Append(c *store.Column, w *store.Wanted) { s.appendValue(c, w, at(s.doc, w.Path)) }

// Nested returns the documents of an array at a path.
func (s subject) Nested(path string) []store.Subject {
	v := at(s.doc, path)
	if v.Type != bson.TypeArray {
		return nil
	}
	items, _ := v.Array().Values()
	var list []store.Subject
	for _, item := range items {
		if item.Type == bson.TypeEmbeddedDocument {
			list = append(list, subject{s.uuids, item.Document()})
		}
	}
	return list
}
