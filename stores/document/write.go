package document

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/google/uuid"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/core/store"
)

// This file writes documents. Each is written as a whole or not at all; several are, where the
// server has transactions. Of
//
//	correct(id: …, change: {outcome: PASSED, inspector: null})      with expect: "was"
//
// the command is
//
//	update inspections  q {_id: …, outcome: "deficient"}
//	                    u {$set: {outcome: "passed"}, $unset: {inspector: ""}}

// A write is a prepared write.
type write struct {
	*request // of no reads: how values are asked for
	*store.Write
	projection bson.D
}

func (s *Source) prepareWrite(catalogue *store.Catalogue, w *store.Write) (store.Request, error) {
	set := catalogue.Sets[w.Set]
	if set == nil { // it is made with the first document
		set = &store.Set{Name: w.Set, Sampled: true}
	}
	r := &write{request: &request{source: s, set: set}, Write: w}
	r.projection = projection([]*store.Read{{Columns: w.Returning}})
	return r, nil
}

// Describe tells what is written.
func (r *write) Describe() store.Description {
	command := map[store.Action]string{store.Add: "insert", store.Change: "update", store.Remove: "delete"}[r.Action]
	if len(r.Replaces) > 0 {
		command = "update"
	}
	return store.Description{Asks: r.Action.String() + " " + r.Set, Statement: command + " " + r.Set + ": " + r.Write.String()}
}

// Run writes the rows.
func (r *write) Run(ctx context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, r.source.timeout)
	defer cancel()
	rows := in[0].Rows
	a := &store.Answer{Tables: []*store.Table{store.NewTable(r.Returning)}}
	switch {
	case r.Action == store.Add && len(r.Replaces) == 0:
		return a, r.insert(ctx, rows, a)
	case r.Alike:
		return a, r.alike(ctx, rows, a)
	}
	for row := range rows.Len {
		if err := r.one(ctx, rows, row, a); err != nil {
			return nil, r.behind(ctx, err, row)
		}
	}
	return a, nil
}

// insert adds documents with one command.
func (r *write) insert(ctx context.Context, rows *store.Rows, a *store.Answer) error {
	var docs []any
	for row := range rows.Len {
		doc, err := r.document(rows, row)
		if err != nil {
			return err
		}
		docs = append(docs, doc)
	}
	a.Requests++
	if _, err := r.collection().InsertMany(ctx, docs); err != nil {
		done := 0
		var several mongo.BulkWriteException
		if errors.As(err, &several) && len(several.WriteErrors) > 0 {
			done = several.WriteErrors[0].Index
		}
		return r.behind(ctx, r.failed(ctx, err), done)
	}
	for _, doc := range docs {
		raw, err := bson.Marshal(doc)
		if err != nil {
			return err
		}
		r.source.appendDocument(a.Tables[0], r.Returning, raw)
	}
	return nil
}

func (r *write) collection() *mongo.Collection { return r.source.db.Collection(r.Set) }

// document returns the document of a row. One without an id gets one of the type that the
// collection's have.
func (r *write) document(rows *store.Rows, row int) (bson.D, error) {
	var doc bson.D
	for c := range r.Columns {
		if rows.IsAbsent(c, row) || rows.Columns[c].Null[row] {
			continue
		}
		v, err := r.value(r.Columns[c].Field, &rows.Columns[c], row)
		if err != nil {
			return nil, err
		}
		doc = putAt(doc, r.Columns[c].Field, v)
	}
	if slices.ContainsFunc(doc, func(e bson.E) bool { return e.Key == "_id" }) {
		return doc, nil
	}
	id, err := r.newID()
	return append(bson.D{{Key: "_id", Value: id}}, doc...), err
}

// newID makes an id.
func (r *write) newID() (any, error) {
	switch typ := r.typeOf("_id"); {
	case typ == "" || strings.Contains(typ, bson.TypeObjectID.String()):
		return bson.NewObjectID(), nil
	case typ == uuidType:
		id, err := uuid.NewV7()
		kinds := r.source.asked(id[:])
		return kinds[len(kinds)-1], err
	}
	return nil, r.breaks(&store.Broken{Rule: store.Required, Set: r.Set, Fields: []string{"_id"}}, nil)
}

// one writes one document.
func (r *write) one(ctx context.Context, rows *store.Rows, row int, a *store.Answer) error {
	query, err := r.query(rows, row, true)
	if err != nil {
		return err
	}
	update, err := r.update(rows, row)
	if err != nil {
		return err
	}
	for attempt := 0; ; attempt++ {
		found, id, err := r.modify(ctx, query, update, rows, row, a)
		switch {
		case r.Action == store.Add && mongo.IsDuplicateKeyError(err) && inTransaction(ctx): // another one added it between
			return store.IsConflict(err)
		case r.Action == store.Add && mongo.IsDuplicateKeyError(err) && attempt < maxAttempts:
			continue
		case err != nil:
			return r.failed(ctx, err)
		case r.Action == store.Add:
			return r.replaced(ctx, query, id, a)
		case found == 0:
			return r.outdated(ctx, rows, row, a)
		}
		r.tellKeys(rows, row, a.Tables[0])
		return nil
	}
}

// maxAttempts is how often it is tried to change a document that another one adds.
const maxAttempts = 4

// modify changes or removes a document, and returns how many it found, and the id of one that
// was added.
func (r *write) modify(ctx context.Context, query, update bson.D, rows *store.Rows, row int, a *store.Answer) (found int64, id any, err error) {
	if r.inList() >= 0 {
		found, err := r.inPlace(ctx, query, update, rows, row, a)
		return found, nil, err
	}
	a.Requests++
	switch {
	case r.Action == store.Remove:
		done, err := r.collection().DeleteOne(ctx, query)
		if err != nil {
			return 0, nil, err
		}
		return done.DeletedCount, nil, nil
	case len(update) == 0: // nothing changes of the one that is there
		found, err := r.collection().CountDocuments(ctx, query)
		return found, nil, err
	}
	done, err := r.collection().UpdateOne(ctx, query, update, options.UpdateOne().SetUpsert(r.Action == store.Add))
	if err != nil {
		return 0, nil, err
	}
	return done.MatchedCount, done.UpsertedID, nil
}

// replaced answers with the document that was added, or that had the same.
func (r *write) replaced(ctx context.Context, query bson.D, id any, a *store.Answer) error {
	doc := bson.D{{Key: "_id", Value: id}}
	if id == nil {
		doc = query
	}
	raw, err := bson.Marshal(doc)
	if id == nil && len(r.Returning) > 0 && !slices.Contains(r.Replaces, r.Returning[0].Path) {
		a.Requests++
		raw, err = r.collection().FindOne(ctx, query, options.FindOne().SetProjection(r.projection)).Raw()
	}
	if err != nil {
		return fail(ctx, err)
	}
	r.source.appendDocument(a.Tables[0], r.Returning, raw)
	return nil
}

// tellKeys answers with the keys by which a document was found.
func (r *write) tellKeys(rows *store.Rows, row int, t *store.Table) {
	t.Len++
	for i := range r.Returning {
		c := &t.Columns[i]
		for k, g := range r.Keys {
			if g.Field == r.Returning[i].Path && c.Len() < t.Len {
				c.AppendAs(&rows.Columns[len(r.Columns)+k], row)
			}
		}
		if c.Len() < t.Len {
			c.AppendNull()
		}
	}
}

// outdated looks why no document was found: because there is none, or because it has no
// longer what is expected, which is an error.
func (r *write) outdated(ctx context.Context, rows *store.Rows, row int, a *store.Answer) error {
	if len(r.Expect) == 0 {
		return nil
	}
	query, err := r.query(rows, row, false)
	if err != nil {
		return err
	}
	a.Requests++
	n, err := r.collection().CountDocuments(ctx, query)
	if err != nil || n == 0 {
		return fail(ctx, err)
	}
	broken := &store.Broken{Rule: store.Outdated, Set: r.Set}
	for i, g := range r.Expect {
		if !rows.IsAbsent(len(r.Columns)+len(r.Keys)+i, row) {
			broken.Fields = append(broken.Fields, g.Field)
		}
	}
	return &store.Error{Code: store.Conflict, Msg: "no longer has the document as it is expected", Broken: broken}
}

// alike writes documents that differ in nothing but their keys with one command.
func (r *write) alike(ctx context.Context, rows *store.Rows, a *store.Answer) error {
	var keys bson.D
	for i, g := range r.Keys {
		c := &rows.Columns[len(r.Columns)+i]
		keys = append(keys, bson.E{Key: g.Field, Value: bson.D{{Key: "$in", Value: r.values(g.Field, c)}}})
	}
	update, err := r.update(rows, 0)
	if err != nil || r.Action == store.Change && len(update) == 0 {
		return err
	}
	a.Requests++
	if r.Action == store.Remove {
		_, err = r.collection().DeleteMany(ctx, keys)
	} else {
		_, err = r.collection().UpdateMany(ctx, keys, update)
	}
	if err != nil {
		return r.failed(ctx, err)
	}
	return nil
}

// query returns the filter that finds the document of a row: by its keys, or by those by which
// one is replaced, and by what is expected of it.
func (r *write) query(rows *store.Rows, row int, expected bool) (bson.D, error) {
	var query bson.D
	add := func(column int, field string) {
		one := store.Column{Kind: rows.Columns[column].Kind}
		one.AppendFrom(&rows.Columns[column], row)
		if one.Null[0] {
			query = append(query, bson.E{Key: field, Value: nil})
			return
		}
		values := r.values(field, &one)
		if len(values) == 0 { // which no document has
			query = append(query, bson.E{Key: field, Value: bson.D{{Key: "$in", Value: bson.A{}}}})
			return
		}
		query = append(query, bson.E{Key: field, Value: oneOf(values)})
	}
	for i, g := range r.Keys {
		add(len(r.Columns)+i, g.Field)
	}
	for c, g := range r.Columns {
		if !slices.Contains(r.Replaces, g.Field) {
			continue
		}
		v, err := r.value(g.Field, &rows.Columns[c], row)
		if err != nil {
			return nil, err
		}
		query = append(query, bson.E{Key: g.Field, Value: v})
	}
	for i, g := range r.Expect {
		if column := len(r.Columns) + len(r.Keys) + i; expected && !rows.IsAbsent(column, row) {
			add(column, g.Field)
		}
	}
	return query, nil
}

// update returns what changes of the document of a row.
func (r *write) update(rows *store.Rows, row int) (bson.D, error) {
	if r.Action == store.Remove {
		return nil, nil
	}
	parts := map[string]bson.D{}
	for c, g := range r.Columns {
		column := &rows.Columns[c]
		at := r.inside(g.Field)
		switch {
		case rows.IsAbsent(c, row) || slices.Contains(r.Replaces, g.Field) || g.How == store.Sought:
			continue
		case column.Null[row] && (g.How == store.Replaced || g.How == store.Inside):
			parts["$unset"] = append(parts["$unset"], bson.E{Key: at, Value: ""})
			continue
		case column.Null[row]:
			continue
		}
		var v any
		var err error
		if g.How == store.Dropped {
			v, err = r.parts(g.Field, column, row)
		} else {
			v, err = r.value(g.Field, column, row)
		}
		if err != nil {
			return nil, err
		}
		if slices.Contains(r.Kept, g.Field) && r.Action == store.Add {
			parts["$setOnInsert"] = append(parts["$setOnInsert"], bson.E{Key: g.Field, Value: v})
			continue
		}
		operator := map[store.How]string{store.Replaced: "$set", store.Inside: "$set", store.Adjusted: "$inc", store.Appended: "$push", store.Dropped: "$pull"}[g.How]
		if g.How == store.Appended {
			v = bson.D{{Key: "$each", Value: v}}
		}
		parts[operator] = append(parts[operator], bson.E{Key: at, Value: v})
	}
	if r.Action == store.Add && !slices.ContainsFunc(r.Columns, func(g store.Given) bool { return g.Field == "_id" }) {
		id, err := r.newID()
		if err != nil {
			return nil, err
		}
		parts["$setOnInsert"] = append(parts["$setOnInsert"], bson.E{Key: "_id", Value: id})
	}
	var update bson.D
	for _, operator := range []string{"$set", "$unset", "$inc", "$push", "$pull", "$setOnInsert"} {
		if len(parts[operator]) > 0 {
			update = append(update, bson.E{Key: operator, Value: parts[operator]})
		}
	}
	return update, nil
}

var (
	duplicateKey  = regexp.MustCompile(`dup key: \{ *(.*?) *\}`)
	duplicateName = regexp.MustCompile(`([A-Za-z0-9_.]+):`)
)

// failed turns an error of the driver into one of the port.
func (r *write) failed(ctx context.Context, err error) error {
	var written mongo.WriteException
	var several mongo.BulkWriteException
	var command mongo.CommandError
	code, message := 0, err.Error()
	switch {
	case errors.As(err, &several) && len(several.WriteErrors) > 0:
		code = several.WriteErrors[0].Code
	case errors.As(err, &written) && len(written.WriteErrors) > 0:
		code = written.WriteErrors[0].Code
	case errors.As(err, &command):
		code = int(command.Code)
	}
	broken := &store.Broken{Set: r.Set}
	if isConflict(err) {
		return store.IsConflict(err)
	}
	switch code {
	case 11000: // DuplicateKey
		broken.Rule = store.Taken
		if m := duplicateKey.FindStringSubmatch(message); m != nil {
			for _, name := range duplicateName.FindAllStringSubmatch(m[1], -1) {
				broken.Fields = append(broken.Fields, name[1])
			}
		}
	case 121: // DocumentValidationFailure
		broken.Rule = store.OtherRule
	case 2, 14: // BadValue, TypeMismatch: what is stored cannot be counted, or is no list
		broken.Rule = store.OutOfRange
		for _, g := range r.Columns {
			if g.How != store.Replaced {
				broken.Fields = append(broken.Fields, g.Field)
			}
		}
	default:
		return fail(ctx, err)
	}
	return r.breaks(broken, err)
}

func (r *write) breaks(broken *store.Broken, err error) error {
	return &store.Error{Code: store.BadWrite, Msg: fmt.Sprintf("refuses to %s a document", r.Action), Err: err, Broken: broken}
}
