package document

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/core/store"
)

// This file changes records of a list in their places. Of
//
//	amend(id: …, code: "F-1", change: {severity: MAJOR})      with @change(in: "findings")
//
// the command is
//
//	update inspections  q {_id: …, findings: {$elemMatch: {code: "F-1"}}}
//	                    u {$set: {"findings.$[one].severity": "major"}}
//	                    arrayFilters [{"one.code": "F-1"}]
//
// Of servers that do not know array filters, the list is read, and what it becomes is written on
// the condition that it is still the same:
//
//	find inspections    {_id: …}
//	update inspections  q {_id: …, findings: [what was read]}  u {$set: {findings: [what it becomes]}}

// inList returns the column by which records of a list are sought; -1 if none are.
func (r *write) inList() int {
	return slices.IndexFunc(r.Columns, func(g store.Given) bool { return g.How == store.Sought })
}

// soughtName stands in an update for each record of a list that is sought.
const (
	soughtName = "one"
	soughtPath = "$[" + soughtName + "]."
)

// inside returns the path in an update of a field of the records that are sought.
func (r *write) inside(path string) string {
	for _, g := range r.Columns {
		if rest, ok := strings.CutPrefix(path, g.Field+"."); ok && g.How == store.Sought {
			return g.Field + "." + soughtPath + rest
		}
	}
	return path
}

// parts returns the values of a nested record, each by its path with dots: so they are compared
// one by one, and not as a whole.
func (r *write) parts(path string, c *store.Column, row int) (bson.D, error) {
	parts := bson.D{}
	for i, name := range c.Rows.Names {
		if c.Rows.Columns[i].Null[row] {
			continue
		}
		v, err := r.value(path+"."+name, &c.Rows.Columns[i], row)
		if err != nil {
			return nil, err
		}
		parts = append(parts, bson.E{Key: name, Value: v})
	}
	return parts, nil
}

// notImplemented reports whether a server does not know what it is asked.
func notImplemented(err error) bool {
	var command mongo.CommandError
	return errors.As(err, &command) && command.Code == 238
}

// inPlace changes the records of a list that are sought, and returns how many documents had such.
func (r *write) inPlace(ctx context.Context, query, update bson.D, rows *store.Rows, row int, a *store.Answer) (int64, error) {
	if r.source.noFilters.Load() || len(update) == 0 {
		return r.byComparing(ctx, query, update, rows, row, a)
	}
	list := r.Columns[r.inList()].Field
	values, err := r.parts(list, &rows.Columns[r.inList()], row)
	if err != nil {
		return 0, err
	}
	filter := bson.D{}
	for _, e := range values {
		filter = append(filter, bson.E{Key: soughtName + "." + e.Key, Value: e.Value})
	}
	has := bson.E{Key: list, Value: bson.D{{Key: "$elemMatch", Value: values}}}
	a.Requests++
	done, err := r.collection().UpdateOne(ctx, slices.Concat(query, bson.D{has}), update, options.UpdateOne().SetArrayFilters([]any{filter}))
	if notImplemented(err) {
		if r.source.noFilters.Store(true); inTransaction(ctx) { // which has ended with it
			return 0, store.IsConflict(err)
		}
		return r.byComparing(ctx, query, update, rows, row, a)
	}
	if err != nil {
		return 0, err
	}
	return done.MatchedCount, nil
}

// byComparing changes the records of a list that is read first. Where others write the list in
// between, it is read again.
func (r *write) byComparing(ctx context.Context, query, update bson.D, rows *store.Rows, row int, a *store.Answer) (found int64, err error) {
	sought := &rows.Columns[r.inList()]
	list := r.Columns[r.inList()].Field
	inside, rest := split(update, list+"."+soughtPath)
	for range maxAttempts {
		a.Requests++
		doc, err := r.collection().FindOne(ctx, query, options.FindOne().SetProjection(bson.D{{Key: list, Value: 1}})).Raw()
		if errors.Is(err, mongo.ErrNoDocuments) {
			return 0, nil
		}
		if err != nil {
			return 0, err
		}
		was := at(doc, list)
		var items []bson.RawValue
		if was.Type == bson.TypeArray {
			items, _ = was.Array().Values()
		}
		now := make(bson.A, len(items))
		for i, item := range items {
			if now[i] = item; item.Type == bson.TypeEmbeddedDocument && r.fits(item.Document(), sought, row) {
				now[i], found = changed(item.Document(), inside), 1
			}
		}
		if found == 0 || len(update) == 0 {
			return found, nil
		}
		a.Requests++
		done, err := r.collection().UpdateOne(ctx, slices.Concat(query, bson.D{{Key: list, Value: was}}), with(rest, bson.E{Key: list, Value: now}))
		if err != nil || done.MatchedCount > 0 {
			return found, err
		}
	}
	return 0, store.IsConflict(errors.New("others change the list"))
}

// split parts an update: what it does at paths with a prefix, without that, and all else.
func split(update bson.D, prefix string) (inside, rest bson.D) {
	for _, part := range update {
		var in, out bson.D
		for _, e := range part.Value.(bson.D) {
			if path, ok := strings.CutPrefix(e.Key, prefix); ok {
				in = append(in, bson.E{Key: path, Value: e.Value})
			} else {
				out = append(out, e)
			}
		}
		if len(in) > 0 {
			inside = append(inside, bson.E{Key: part.Key, Value: in})
		}
		if len(out) > 0 {
			rest = append(rest, bson.E{Key: part.Key, Value: out})
		}
	}
	return inside, rest
}

// with returns an update that sets a field, too.
func with(update bson.D, field bson.E) bson.D {
	sets := bson.D{field}
	rest := bson.D{}
	for _, part := range update {
		if part.Key == "$set" {
			sets = append(sets, part.Value.(bson.D)...)
		} else {
			rest = append(rest, part)
		}
	}
	return append(rest, bson.E{Key: "$set", Value: sets})
}

// fits reports whether a nested document has the values that are given of one.
func (r *write) fits(doc bson.Raw, given *store.Column, row int) bool {
	for i, path := range given.Rows.Names {
		want := &given.Rows.Columns[i]
		is := store.Column{Kind: want.Kind}
		r.source.appendValue(&is, &store.Wanted{Kind: want.Kind}, at(doc, path))
		if is.Null[0] != want.Null[row] {
			return false
		}
		if is.Null[0] {
			continue
		}
		one, _ := store.AppendKey(nil, &is, 0)
		other, _ := store.AppendKey(nil, want, row)
		if !bytes.Equal(one, other) {
			return false
		}
	}
	return true
}

// changed returns a nested document with what an update sets in it, and takes out of it.
func changed(doc bson.Raw, update bson.D) any {
	var fields bson.D
	if err := bson.Unmarshal(doc, &fields); err != nil {
		return doc
	}
	for _, part := range update {
		for _, e := range part.Value.(bson.D) {
			fields = without(fields, e.Key)
			if part.Key == "$set" {
				fields = putAt(fields, e.Key, e.Value)
			}
		}
	}
	return fields
}

// without returns a document without what is at a path.
func without(doc bson.D, path string) bson.D {
	name, rest, more := strings.Cut(path, ".")
	for i := range doc {
		if doc[i].Key != name {
			continue
		}
		if inner, ok := doc[i].Value.(bson.D); more && ok {
			doc[i].Value = without(inner, rest)
			return doc
		}
		return slices.Delete(doc, i, i+1)
	}
	return doc
}
