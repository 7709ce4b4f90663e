package rest

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file reads JSON:API 1.1. A resource becomes a record of its id, its
// attributes and, for each relationship, the id or ids that it leads to.
// Related resources come in the same request (include), and only the wanted
// fields do (sparse fieldsets).

const jsonAPIType = "application/vnd.api+json"

// A ref is a resource identifier: section "Resource Identifier Objects".
type ref struct{ typ, id string }

// links is the key under which a record keeps what its relationships lead to.
const links = "\x00links"

// resourceFields returns a set with the fields that JSON:API gives every one.
func resourceFields(c Set) Set {
	has := func(name string) bool {
		return slices.ContainsFunc(c.Fields, func(f Field) bool { return f.Name == name })
	}
	fields := slices.Clone(c.Fields)
	if !has("id") {
		fields = slices.Insert(fields, 0, Field{Name: "id", Kind: store.Text})
	}
	for _, name := range slices.Sorted(maps.Keys(c.Related)) {
		if !has(name) {
			fields = append(fields, Field{Name: name, Kind: store.Text, Nullable: true})
		}
	}
	c.Fields = fields
	if len(c.Key) == 0 {
		c.Key = []string{"id"}
	}
	return c
}

// canFold reports whether here is a relationship to the resource, which the
// service can send along.
func (s *Source) canFold(set string, here []string, related string, there []string) bool {
	own := s.sets[set]
	return s.jsonAPI && own != nil && len(here) == 1 && len(there) == 1 && there[0] == "id" && own.Related[here[0]] == related
}

// included returns the paths of relationships that are wanted along.
func (r *request) included() []string {
	paths := make([]string, len(r.reads))
	var list []string
	for i, read := range r.reads {
		if i == 0 {
			continue
		}
		paths[i] = strings.TrimPrefix(paths[read.Parent]+"."+read.Here[0], ".")
		if !slices.Contains(list, paths[i]) {
			list = append(list, paths[i])
		}
	}
	return list
}

// sparse returns the parameters include and fields for what is wanted.
func (r *request) sparse() string {
	fields := map[string][]string{}
	want := func(set, path string) {
		name, _, _ := strings.Cut(path, ".")
		if name != "id" && !slices.Contains(fields[set], name) {
			fields[set] = append(fields[set], name)
		}
	}
	for i, read := range r.reads {
		fields[read.Set] = append(fields[read.Set], []string{}...)
		for _, w := range read.Columns {
			want(read.Set, w.Path)
		}
		for n := range read.Where {
			for _, path := range read.Where[n].Paths(nil) {
				want(read.Set, path)
			}
		}
		if i > 0 {
			want(r.reads[read.Parent].Set, read.Here[0])
		}
	}
	var parts []string
	if include := r.included(); len(include) > 0 {
		parts = append(parts, "include="+url.QueryEscape(strings.Join(include, ",")))
	}
	var sets []string
	for set := range fields {
		sets = append(sets, set)
	}
	slices.Sort(sets)
	for _, set := range sets {
		slices.Sort(fields[set])
		parts = append(parts, "fields%5B"+url.QueryEscape(set)+"%5D="+url.QueryEscape(strings.Join(fields[set], ",")))
	}
	return strings.Join(parts, "&")
}

// resources returns the primary data of a document as records, and keeps all its
// resources.
func (r *run) resources(body any) ([]any, error) {
	top, ok := body.(map[string]any)
	if !ok {
		return nil, errors.New("answered something that is not a document of JSON:API")
	}
	data, ok := top["data"]
	if !ok {
		return nil, errors.New("answered a document of JSON:API without data")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	included, _ := top["included"].([]any)
	for _, item := range included {
		if _, err := r.resource(item); err != nil {
			return nil, err
		}
	}
	var list []any
	items, isList := data.([]any)
	if !isList && data != nil {
		items = []any{data}
	}
	for _, item := range items {
		record, err := r.resource(item)
		if err != nil {
			return nil, err
		}
		list = append(list, record)
	}
	return list, nil
}

// resource returns a resource object as a record.
func (r *run) resource(v any) (map[string]any, error) {
	object, _ := v.(map[string]any)
	own, ok := refOf(object)
	if !ok {
		return nil, errors.New("answered a resource without a type and an id")
	}
	record := map[string]any{}
	attributes, _ := object["attributes"].(map[string]any)
	for name, value := range attributes {
		record[name] = value
	}
	to := map[string][]ref{}
	relationships, _ := object["relationships"].(map[string]any)
	for name, value := range relationships {
		relationship, _ := value.(map[string]any)
		switch data := relationship["data"].(type) {
		case map[string]any:
			if r, ok := refOf(data); ok {
				to[name], record[name] = []ref{r}, r.id
			}
		case []any:
			ids := []any{}
			for _, item := range data {
				identifier, _ := item.(map[string]any)
				if r, ok := refOf(identifier); ok {
					to[name], ids = append(to[name], r), append(ids, r.id)
				}
			}
			record[name] = ids
		}
	}
	record["id"], record[links] = own.id, to
	r.known[own] = record
	return record, nil
}

func refOf(object map[string]any) (ref, bool) {
	typ, ok := object["type"].(string)
	id, ok2 := object["id"].(string)
	return ref{typ, id}, ok && ok2
}

// relate makes the tables of related resources, from the records of the table
// that each hangs from.
func (r *run) relate(answer *store.Answer, first []any, in []store.Input) error {
	rows := [][]any{first} // the record of each row
	for n, read := range r.reads[1:] {
		t := store.NewTable(read.Columns)
		seen := map[ref]int32{}
		var records []any
		add := func(to ref) (int32, bool, error) {
			if row, ok := seen[to]; ok {
				return row, row >= 0, nil
			}
			record := r.known[to]
			if record == nil {
				return 0, false, &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("did not send along the related %s that was asked for", read.Here[0]), Err: fmt.Errorf("%s %s is not included", to.typ, to.id)}
			}
			if !read.FitsAll(&in[n+1], store.JSONSubject{Value: record}) {
				seen[to] = -1
				return -1, false, nil
			}
			seen[to] = int32(t.Len)
			records = append(records, record)
			t.Len++
			for i := range read.Columns {
				t.Columns[i].AppendJSON(&read.Columns[i], store.JSONPath(record, read.Columns[i].Path))
			}
			return seen[to], true, nil
		}
		for parent, record := range rows[read.Parent] {
			to := record.(map[string]any)[links].(map[string][]ref)[read.Here[0]]
			if read.Single {
				child := int32(-1)
				if len(to) > 0 {
					row, fits, err := add(to[0])
					if err != nil {
						return err
					}
					if fits {
						child = row
					}
				}
				t.Child = append(t.Child, child)
				continue
			}
			for _, to := range to {
				row, fits, err := add(to)
				if err != nil {
					return err
				}
				if fits {
					t.Order, t.Parent = append(t.Order, row), append(t.Parent, int32(parent))
				}
			}
		}
		if !read.Single && t.Parent == nil {
			t.Parent = []int32{}
		}
		answer.Tables = append(answer.Tables, t)
		rows = append(rows, records)
	}
	return nil
}
