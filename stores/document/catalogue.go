package document

import (
	"context"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"osprey/core/store"
)

// Catalogue lists the collections, their indexes, and the fields of a sample of
// each.
func (s *Source) Catalogue(ctx context.Context) (*store.Catalogue, error) {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	if err := s.learn(ctx); err != nil {
		return nil, fail(ctx, err)
	}
	names, err := s.db.ListCollectionNames(ctx, bson.D{})
	if err != nil {
		return nil, fail(ctx, err)
	}
	c := &store.Catalogue{Sets: map[string]*store.Set{}}
	for _, name := range names {
		set := &store.Set{Name: name, What: "collection", Sampled: true, Keys: [][]string{{"_id"}}, Index: [][]string{{"_id"}}}
		if err := s.readIndexes(ctx, set); err != nil {
			return nil, fail(ctx, err)
		}
		if err := s.readSample(ctx, set); err != nil {
			return nil, fail(ctx, err)
		}
		if len(set.Fields) == 0 { // no document tells what its id is
			set.Fields = []store.Field{{Name: "_id", Kind: store.Text, Type: bson.TypeObjectID.String()}}
		}
		if id := set.Field("_id"); id != nil && (id.Type == uuidType || strings.Contains(id.Type, bson.TypeObjectID.String())) {
			id.Filled = true
		}
		c.Sets[name] = set
	}
	return c, nil
}

func (s *Source) readIndexes(ctx context.Context, set *store.Set) error {
	list, err := s.db.Collection(set.Name).Indexes().ListSpecifications(ctx)
	if err != nil {
		return err
	}
	for _, spec := range list {
		elements, err := spec.KeysDocument.Elements()
		if err != nil {
			return err
		}
		var fields []string
		for _, e := range elements {
			fields = append(fields, e.Key())
		}
		set.Index = append(set.Index, fields)
		if spec.Unique != nil && *spec.Unique {
			set.Keys = append(set.Keys, fields)
		}
	}
	return nil
}

// readSample gathers the paths of some documents with their kinds. A path that
// has several kinds has none; one that is missing somewhere may be missing.
func (s *Source) readSample(ctx context.Context, set *store.Set) error {
	cursor, err := s.begin(ctx, bson.D{{Key: "find", Value: set.Name}, {Key: "limit", Value: int64(s.sample)}, {Key: "batchSize", Value: int32(s.sample)}})
	if err != nil {
		return err
	}
	defer cursor.Close(ctx)
	g := gatherer{uuids: s.uuids, fields: map[string]*store.Field{}, seen: map[string]int{}, documents: map[string]int{}}
	for cursor.Next(ctx) {
		g.document(cursor.Current, "")
	}
	for _, name := range g.order {
		f := g.fields[name]
		f.Nullable = f.Nullable || g.seen[name] < g.documents[name[:strings.LastIndex(name, ".")+1]]
		if all := g.documents[name[:strings.LastIndex(name, ".")+1]]; all > 0 {
			f.Share = max(1, g.seen[name]*100/all)
		}
		set.Fields = append(set.Fields, *f)
	}
	set.Looked, set.Lists = g.documents[""], g.lists
	return cursor.Err()
}

type gatherer struct {
	uuids
	fields map[string]*store.Field
	seen   map[string]int // how many documents have a field, by its path
	order  []string
	// documents is how many there are in which a field could be, by the prefix of its
	// path: it is missing where its own document is and it is not.
	documents map[string]int
	lists     []string // paths of arrays
}

// document notes the elements of a document.
func (g *gatherer) document(raw bson.Raw, prefix string) {
	g.documents[prefix]++
	elements, _ := raw.Elements()
	for _, e := range elements {
		name := prefix + e.Key()
		switch v := e.Value(); v.Type {
		case bson.TypeEmbeddedDocument:
			g.document(v.Document(), name+".")
		case bson.TypeArray:
			g.array(v, name)
			g.seen[name]++
		default:
			g.leaf(name, g.kindOf(v), g.typeName(v))
			g.seen[name]++
		}
	}
}

// array notes an array: of documents by their fields, of other values as a list.
func (g *gatherer) array(v bson.RawValue, name string) {
	if !slices.Contains(g.lists, name) {
		g.lists = append(g.lists, name)
	}
	items, _ := v.Array().Values()
	told := false // of an array of nothing but null, it may be a list of anything
	for _, item := range items {
		switch item.Type {
		case bson.TypeNull:
		case bson.TypeEmbeddedDocument:
			g.document(item.Document(), name+".")
			told = true
		case bson.TypeArray: // a list of lists is told as what is in them, if that is documents
			g.array(item, name)
			told = true
		}
	}
	for _, item := range items {
		if told || item.Type == bson.TypeNull {
			continue
		}
		if f := g.fields[name]; f != nil && f.Kind == store.List {
			g.item(f, item)
			continue
		}
		g.leaf(name, store.List, "array of "+g.typeName(item))
		if f := g.fields[name]; f.Kind == store.List {
			f.Elem = g.kindOf(item)
		}
	}
}

// item notes one more item of lists.
func (g *gatherer) item(f *store.Field, v bson.RawValue) {
	if f.Elem != g.kindOf(v) {
		f.Elem = store.Unknown
	}
	if typ := g.typeName(v); !strings.Contains(f.Type, typ) {
		f.Type += " or " + typ
	}
}

func (g *gatherer) leaf(name string, kind store.Kind, typ string) {
	f := g.fields[name]
	if f == nil {
		f = &store.Field{Name: name, Kind: kind, Type: typ}
		g.fields[name] = f
		g.order = append(g.order, name)
	}
	switch {
	case typ == "null":
		f.Nullable = true
	case f.Type == "null":
		f.Kind, f.Type = kind, typ
	case !strings.Contains(f.Type, typ):
		f.Type += " or " + typ
		if f.Kind != kind {
			f.Kind = store.Unknown
		}
	}
}

func (u uuids) kindOf(v bson.RawValue) store.Kind {
	switch v.Type {
	case bson.TypeString, bson.TypeObjectID, bson.TypeSymbol:
		return store.Text
	case bson.TypeInt32, bson.TypeInt64:
		return store.Int
	case bson.TypeDouble:
		return store.Float
	case bson.TypeDecimal128:
		return store.Decimal
	case bson.TypeBoolean:
		return store.Bool
	case bson.TypeDateTime, bson.TypeTimestamp:
		return store.Time
	case bson.TypeBinary:
		if u.typeName(v) == uuidType {
			return store.UUID
		}
		return store.Binary
	}
	return store.Unknown
}

// uuidType is what a binary value that is a UUID is called.
const uuidType = "uuid"

func (u uuids) typeName(v bson.RawValue) string {
	switch v.Type {
	case bson.TypeNull:
		return "null"
	case bson.TypeBinary:
		if u.of(v.Binary()) != nil {
			return uuidType
		}
	}
	return v.Type.String()
}
