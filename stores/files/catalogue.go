package files

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"

	"osprey/core/store"
)

// Catalogue reads all files and tells what their records have: every field, of
// the kind that all its values are of; unique are those that never repeat.
func (s *Source) Catalogue(context.Context) (*store.Catalogue, error) {
	sets, err := s.sets()
	if err != nil {
		return nil, err
	}
	c := &store.Catalogue{Sets: map[string]*store.Set{}}
	for name, path := range sets {
		records, err := s.records(path)
		if err != nil {
			return nil, err
		}
		c.Sets[name] = describe(name, records)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known = c
	return c, nil
}

func describe(name string, records []any) *store.Set {
	set := &store.Set{Name: name, What: "file", Rows: int64(len(records))}
	g := gatherer{fields: map[string]*gathered{}, objects: map[string]int{}, lists: map[string]int{}}
	for _, r := range records {
		g.object(r.(map[string]any), "", 1)
	}
	slices.Sort(g.order)
	for _, path := range g.order {
		f := g.fields[path]
		set.Fields = append(set.Fields, store.Field{Name: path, Kind: f.kind, Elem: f.elem, Type: f.word(), Nullable: f.seen+g.lists[path] < g.objects[path[:strings.LastIndex(path, ".")+1]]})
		if f.once && f.seen == len(records) && len(f.values) == f.seen && len(records) > 0 {
			set.Keys = append(set.Keys, []string{path})
		}
	}
	slices.SortStableFunc(set.Keys, func(a, b []string) int { return cmp.Compare(keyRank(a[0]), keyRank(b[0])) })
	set.Index = set.Keys
	if len(set.Keys) > 0 && set.Field(set.Keys[0][0]).Kind == store.Int { // a new record gets the next one
		set.Field(set.Keys[0][0]).Filled = true
	}
	return set
}

// keyRank puts what is called a key before what only never repeats.
func keyRank(name string) int {
	switch {
	case name == "id":
		return 0
	case strings.HasSuffix(name, "id"), strings.HasSuffix(name, "Id"), name == "code", name == "key":
		return 1
	}
	return 2
}

type gatherer struct {
	fields  map[string]*gathered
	order   []string
	objects map[string]int // how many there are, by the prefix of their fields' paths
	lists   map[string]int // how many there are, by their paths
}

// gathered is what was seen of a field.
type gathered struct {
	kind, elem store.Kind
	mixed      bool
	seen       int
	once       bool // it stands in no list
	values     map[string]bool
}

func (f *gathered) word() string {
	switch {
	case f.mixed && f.elem != store.Unknown:
		return "list or " + f.elem.String()
	case f.mixed:
		return "number or text"
	case f.kind == store.Unknown:
		return "number"
	}
	return f.kind.String()
}

// object notes the fields of an object; n is 0 inside a list.
func (g *gatherer) object(object map[string]any, prefix string, n int) {
	g.objects[prefix]++
	for name, v := range object {
		path := prefix + name
		switch v := v.(type) {
		case nil:
			g.note(path, n)
		case map[string]any:
			g.object(v, path+".", n)
		case []any:
			g.list(path, v, n)
			g.lists[path]++
		default:
			f := g.note(path, n)
			f.seen++
			f.see(kindOf(v))
			if text, err := json.Marshal(v); err == nil {
				f.values[string(text)] = true
			}
		}
	}
}

func (g *gatherer) list(path string, items []any, n int) {
	for _, item := range items {
		switch item := item.(type) {
		case nil:
		case map[string]any:
			g.object(item, path+".", 0)
		case []any: // a list of lists is told as what is in them, if that is objects
			g.list(path, item, n)
		default:
			f := g.note(path, 0)
			if kind := kindOf(item); f.seen > 0 || f.mixed {
				f.kind, f.mixed = store.Unknown, true
			} else if f.kind != store.List {
				f.elem, f.kind = kind, store.List
			} else if f.elem != kind {
				f.elem = store.Unknown
			}
		}
	}
}

func (g *gatherer) note(path string, n int) *gathered {
	f := g.fields[path]
	if f == nil {
		f = &gathered{once: true, values: map[string]bool{}}
		g.fields[path] = f
		g.order = append(g.order, path)
	}
	f.once = f.once && n > 0
	return f
}

// see notes the kind of one more value. Whole numbers and others together are
// numbers, whose kind the field's type chooses; days and moments with other
// texts are texts.
func (f *gathered) see(kind store.Kind) {
	switch {
	case f.kind == store.List:
		f.kind, f.mixed = store.Unknown, true
	case f.mixed:
	case f.seen == 1:
		f.kind = kind
	case f.kind == kind:
	case isText(f.kind) && isText(kind):
		f.kind = store.Text
	default:
		f.mixed = f.mixed || isText(f.kind) || isText(kind)
		f.kind = store.Unknown
	}
}

func isText(k store.Kind) bool { return k == store.Text || k == store.Date || k == store.Time }

// kindOf returns the kind of a value; Unknown for a number with a fraction,
// which can be read exactly or not.
func kindOf(v any) store.Kind {
	switch v := v.(type) {
	case bool:
		return store.Bool
	case json.Number:
		if _, err := v.Int64(); err == nil {
			return store.Int
		}
	case string:
		if _, ok := store.ParseMoment(store.Date, v); ok && len(v) == 10 {
			return store.Date
		}
		if _, ok := store.ParseMoment(store.Time, v); ok && strings.Contains(v, "T") {
			return store.Time
		}
		return store.Text
	}
	return store.Unknown
}
