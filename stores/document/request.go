package document

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/readpref"

	"osprey/core/store"
)

// Prepare makes one find of reads of one collection. The inspections of some craft,
// and those of some calls that found something, are
//
//	find inspections
//	filter {$or: [{"craft.imo": {$in: ["9100007", "9100014"]}},
//	              {$and: [{callId: {$in: [3494, 3871]}}, {outcome: "DEFICIENT"}]}]}
//
// A document that comes can be either read's, or both's: it is looked at again, by
// the keys and predicates of each (see [store.Members]).
func (s *Source) Prepare(catalogue *store.Catalogue, reads []*store.Read) (store.Request, error) {
	r := &request{source: s, reads: reads, set: catalogue.Sets[reads[0].Set]}
	if r.set == nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "does not have the collection " + reads[0].Set}
	}
	r.projection = projection(reads)
	for _, read := range reads {
		r.filtersHere = r.filtersHere || len(read.Keys) > 1 || slices.ContainsFunc(read.Where, func(c store.Predicate) bool { return r.inexact(&c) })
	}
	return r, nil
}

// A request is one find. Reads of the same collection are told apart again by
// their keys and predicates.
type request struct {
	source      *Source
	set         *store.Set
	reads       []*store.Read
	projection  bson.D
	filtersHere bool // the find lets through what does not fit
}

// projection lists the paths that any of the reads looks at. A path below
// another that is wanted whole is left out, since the server refuses both.
func projection(reads []*store.Read) bson.D {
	var paths []string
	var add func(prefix string, w []store.Wanted)
	add = func(prefix string, wanted []store.Wanted) {
		for _, w := range wanted {
			if len(w.Fields) > 0 { // of a list, the server would leave out the items that are null
				add(prefix+w.Path+".", w.Fields)
				continue
			}
			if w.Aggregate == store.NoAggregate {
				paths = append(paths, prefix+w.Path)
			}
		}
	}
	for _, r := range reads {
		add("", r.Columns)
		for i := range r.Where {
			paths = r.Where[i].Paths(paths)
		}
		for _, o := range r.Sort {
			paths = append(paths, o.Path)
		}
	}
	slices.Sort(paths)
	var list bson.D
	hasID, last := false, ""
	for _, p := range slices.Compact(paths) {
		if last != "" && strings.HasPrefix(p, last+".") {
			continue
		}
		hasID = hasID || p == "_id"
		list = append(list, bson.E{Key: p, Value: 1})
		last = p
	}
	if !hasID {
		list = append(list, bson.E{Key: "_id", Value: 0})
	}
	return list
}

// Describe says what the find looks for.
func (r *request) Describe() store.Description {
	var parts []string
	for _, read := range r.reads {
		var by []string
		for _, k := range read.Keys {
			by = append(by, read.Columns[k].Path)
		}
		for i := range read.Where {
			by = read.Where[i].Paths(by)
		}
		var once []string
		for _, path := range by {
			if !slices.Contains(once, path) {
				once = append(once, path)
			}
		}
		if len(once) > 0 {
			parts = append(parts, strings.Join(once, ", "))
		}
	}
	asks := r.set.Name
	if len(parts) > 0 {
		asks += " by " + strings.Join(slices.Compact(parts), "; ")
	}
	if r.filtersHere {
		asks += ", and filtered here"
	}
	filter, _ := bson.MarshalExtJSON(r.shape(), false, false)
	fields, _ := bson.MarshalExtJSON(r.projection, false, false)
	command := "find"
	if r.reads[0].Aggregates {
		asks, command = "count "+asks, "count"
	}
	statement := fmt.Sprintf("%s %s filter %s", command, r.set.Name, filter)
	if !r.reads[0].Aggregates {
		statement += fmt.Sprintf(" projection %s", fields)
	}
	if sort := r.sort(); len(sort) > 0 && !r.reads[0].Aggregates {
		text, _ := bson.MarshalExtJSON(sort, false, false)
		statement += " sort " + string(text)
	}
	d := store.Description{Asks: asks, Statement: statement}
	if len(r.reads[0].Keys) > 0 {
		d.MaxKeys = maxKeys
	}
	return d
}

// shape returns the filter as it is with one value of each kind, for operators.
func (r *request) shape() bson.D {
	var list bson.A
	for _, read := range r.reads {
		terms := bson.D{}
		for _, k := range read.Keys {
			terms = append(terms, bson.E{Key: read.Columns[k].Path, Value: bson.D{{Key: "$in", Value: bson.A{"…"}}}})
		}
		in := store.Input{Where: make([]store.Column, read.Values)}
		for i := range in.Where {
			in.Where[i].Kind = store.Text
			in.Where[i].AppendText("…")
		}
		list = append(list, append(terms, r.predicates(read.Where, &in)...))
	}
	return either(list)
}

// sort returns the order of a find: of a read that stands alone and has no keys, its
// own; where one of several has no keys, one that does not change.
func (r *request) sort() bson.D {
	var sort bson.D
	if !slices.ContainsFunc(r.reads, func(read *store.Read) bool { return len(read.Keys) == 0 }) || r.sortsHere() {
		return nil
	}
	if len(r.reads) > 1 {
		return bson.D{{Key: "_id", Value: 1}}
	}
	hasID := false
	for _, o := range r.reads[0].Sort {
		direction := 1
		if o.Desc {
			direction = -1
		}
		hasID = hasID || o.Path == "_id"
		sort = append(sort, bson.E{Key: o.Path, Value: direction})
	}
	if !hasID {
		sort = append(sort, bson.E{Key: "_id", Value: 1})
	}
	return sort
}

// Run makes the find; several, one behind the other, if there are more keys than
// a command of 16 MB may hold.
func (r *request) Run(ctx context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, r.source.timeout)
	defer cancel()
	answer := &store.Answer{}
	most := 0
	for i, read := range r.reads {
		answer.Tables = append(answer.Tables, store.NewTable(read.Columns))
		if len(in[i].Keys) > 0 {
			most = max(most, in[i].Keys[0].Len())
		}
	}
	if most <= maxKeys {
		return answer, r.find(ctx, in, answer)
	}
	for from := 0; from < most; from += maxKeys {
		if err := r.find(ctx, partOf(in, from), answer); err != nil {
			return nil, err
		}
	}
	return answer, nil
}

// maxKeys is how many keys go into one find.
const maxKeys = 50_000

// partOf returns the inputs with their keys from a position on, as many as go
// into one find.
func partOf(in []store.Input, from int) []store.Input {
	part := slices.Clone(in)
	for i := range part {
		part[i].Keys = make([]store.Column, len(in[i].Keys))
		for k := range in[i].Keys {
			keys := &in[i].Keys[k]
			part[i].Keys[k].Kind = keys.Kind
			for row := from; row < min(from+maxKeys, keys.Len()); row++ {
				part[i].Keys[k].AppendFrom(keys, row)
			}
		}
	}
	return part
}

// find makes one find and adds its documents to the answer.
func (r *request) find(ctx context.Context, in []store.Input, answer *store.Answer) error {
	var list bson.A
	for i, read := range r.reads {
		if f := r.filter(read, &in[i]); f != nil {
			list = append(list, f)
		}
	}
	if len(list) == 0 || r.reads[0].Limit && in[0].Limit == 0 {
		return nil
	}
	answer.Requests++
	if r.reads[0].Aggregates && !r.filtersHere {
		n, err := r.source.db.Collection(r.set.Name, options.Collection().SetReadPreference(r.source.asks(ctx))).CountDocuments(ctx, either(list))
		if err != nil {
			return fail(ctx, err)
		}
		answer.Tables[0].Len = 1
		answer.Tables[0].Columns[0].AppendInt(n)
		return nil
	}
	// One large batch, so that the answer is one round trip unless it is beyond
	// that, or beyond 16 MB.
	command := bson.D{{Key: "find", Value: r.set.Name}, {Key: "filter", Value: either(list)}, {Key: "projection", Value: r.projection}, {Key: "batchSize", Value: int32(batch)}}
	if sort := r.sort(); sort != nil {
		command = append(command, bson.E{Key: "sort", Value: sort})
	}
	if r.reads[0].Limit && !r.sortsHere() {
		command = append(command, bson.E{Key: "limit", Value: in[0].Limit})
	}
	if r.reads[0].Offset && !r.sortsHere() {
		command = append(command, bson.E{Key: "skip", Value: in[0].Offset})
	}
	cursor, err := r.source.begin(ctx, command)
	if err != nil {
		return fail(ctx, err)
	}
	defer cursor.Close(ctx)
	if err := r.collect(ctx, cursor, in, answer); err != nil {
		return err
	}
	if err := cursor.Err(); err != nil {
		return fail(ctx, err)
	}
	return nil
}

// begin runs a command that opens a cursor. The driver tells the server how long anybody
// waits. A connection that turns out to be dead is replaced: reading twice is safe.
func (s *Source) begin(ctx context.Context, command bson.D) (*mongo.Cursor, error) {
	opts := options.RunCmd().SetReadPreference(s.asks(ctx))
	cursor, err := s.db.RunCommandCursor(ctx, command, opts)
	if err != nil && !inTransaction(ctx) && mongo.IsNetworkError(err) && !mongo.IsTimeout(err) && ctx.Err() == nil {
		cursor, err = s.db.RunCommandCursor(ctx, command, opts)
	}
	return cursor, err
}

// asks returns which member of a replica set is asked: the primary in a transaction, and where an answer must know what
// was told to have changed, of which another member may not have heard.
func (s *Source) asks(ctx context.Context) *readpref.ReadPref {
	if inTransaction(ctx) || store.Fresh(ctx) {
		return readpref.Primary()
	}
	return s.prefers
}

// collect adds the documents of a cursor to the tables of the reads that asked
// for them.
func (r *request) collect(ctx context.Context, cursor *mongo.Cursor, in []store.Input, answer *store.Answer) error {
	var members []*store.Members
	for i := range r.reads {
		members = append(members, store.NewMembers(r.reads[i], &in[i]))
	}
	var local *localSort
	if r.sortsHere() {
		local = r.source.newLocalSort(r.reads[0], r.set)
	}
	found, fit, bytes := 0, 0, int64(0)
	for cursor.Next(ctx) {
		if found++; found > r.source.most {
			return store.TooMany(r.source.most)
		}
		if bytes += int64(len(cursor.Current)); bytes > r.source.bytes {
			return store.TooLarge(r.source.bytes)
		}
		for i, read := range r.reads {
			switch {
			case (len(r.reads) > 1 || r.filtersHere) && !members[i].Has(subject{r.source.uuids, cursor.Current}):
			case read.Aggregates:
				fit++
			case local != nil:
				local.add(cursor.Current)
			default:
				r.source.appendDocument(answer.Tables[i], read.Columns, cursor.Current)
			}
		}
	}
	if r.reads[0].Aggregates {
		answer.Tables[0].Len = 1
		answer.Tables[0].Columns[0].AppendInt(int64(fit))
	}
	if local != nil {
		local.finish(answer.Tables[0], r.reads[0], &in[0])
	}
	return nil
}

// batch is how many documents come in one round trip; a server may refuse, or
// prepare for, much larger ones.
const batch = 100_000

// filter returns the filter of one read, or nil if nothing can fit it. Combinations
// of keys are asked for by each field, which an index can serve, and looked at again
// here; as many alternatives, a server goes through for each document. Of 500 berths
// by quay and number:
//
//	{quay: {$in: [… 60 …]}, number: {$in: [… 12 …]}}
func (r *request) filter(read *store.Read, in *store.Input) bson.D {
	terms := r.predicates(read.Where, in)
	if len(read.Keys) == 0 {
		return terms
	}
	var keys bson.D
	for n, k := range read.Keys {
		path := read.Columns[k].Path
		values := r.values(path, distinct(&in.Keys[n]))
		if len(values) == 0 {
			return nil
		}
		keys = append(keys, bson.E{Key: path, Value: bson.D{{Key: "$in", Value: values}}})
	}
	if len(terms) == 0 {
		return keys
	}
	return bson.D{{Key: "$and", Value: bson.A{keys, terms}}}
}

// distinct returns a column's values, each once.
func distinct(c *store.Column) *store.Column {
	var seen store.Index
	list := &store.Column{Kind: c.Kind}
	var key []byte
	for row := range c.Len() {
		var ok bool
		if key, ok = store.AppendKey(key[:0], c, row); !ok {
			continue
		}
		if _, isNew := seen.Add(key); isNew {
			list.AppendFrom(c, row)
		}
	}
	return list
}

func oneOf(values bson.A) any {
	if len(values) == 1 {
		return values[0]
	}
	return bson.D{{Key: "$in", Value: values}}
}

// values returns key values in every type in which the collection may have
// them. A text of 24 hexadecimal digits may be an object id; where the sample
// does not tell whether numbers are stored as numbers or text, both are asked
// for.
func (r *request) values(path string, c *store.Column) bson.A {
	typ := ""
	if f := r.set.Field(path); f != nil {
		typ = strings.TrimPrefix(f.Type, "array of ")
	}
	var list bson.A
	for i := range c.Len() {
		if c.Null[i] {
			continue
		}
		switch c.Kind {
		case store.Int:
			list = append(list, c.Ints[i])
			if typ == "" || strings.Contains(typ, "string") {
				list = append(list, strconv.FormatInt(c.Ints[i], 10))
			}
		case store.Bool:
			list = append(list, c.Ints[i] != 0)
		case store.Time:
			list = append(list, bson.DateTime(c.Ints[i]/1000))
			if typ == "" || strings.Contains(typ, "string") {
				list = append(list, store.FormatTime(c.Ints[i]))
			}
		case store.Date:
			list = append(list, store.FormatDate(c.Ints[i]))
			if typ != "string" {
				list = append(list, bson.DateTime(c.Ints[i]*24*3600*1000))
			}
		case store.Clock:
			list = append(list, string(store.AppendClock(nil, c.Ints[i])))
		case store.Decimal:
			text := string(c.At(i))
			if d, err := bson.ParseDecimal128(text); err == nil { // which equals other numbers too
				list = append(list, d)
			}
			if typ == "" || strings.Contains(typ, "string") {
				list = append(list, text)
			}
		case store.Float:
			list = append(list, c.Floats[i])
		case store.Binary:
			list = append(list, bson.Binary{Data: bytes.Clone(c.At(i))})
			if len(c.At(i)) == 16 {
				list = append(list, r.source.asked(c.At(i))...)
			}
		default:
			text := string(c.At(i))
			id := store.Column{Kind: store.Binary}
			if given := (&store.Column{Kind: store.UUID}); typ != "string" && typ != "objectID" && given.AppendAs(c, i) && id.AppendAs(given, 0) {
				list = append(list, r.source.asked(id.At(0))...)
			}
			if typ != "objectID" && typ != uuidType {
				list = append(list, text)
			}
			if id, err := bson.ObjectIDFromHex(text); err == nil && (typ == "" || strings.Contains(typ, "objectID")) {
				list = append(list, id)
			}
			if n, err := strconv.ParseInt(text, 10, 64); err == nil && typ != "string" && typ != "objectID" {
				list = append(list, n)
			}
		}
	}
	return list
}
