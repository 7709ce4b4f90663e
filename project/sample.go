package project

import (
	"bytes"
	"context"
	"encoding/json"

	"osprey/core/store"
)

// This file looks at some values of columns of JSON, so that types can be made of them.

// sampled is how many values are looked at.
const sampled = 200

// samples returns some values of each column of JSON of tables, by table.column. What cannot be
// read is not there: its column is JSON, whatever it holds.
func (s *Source) samples(ctx context.Context, c *store.Catalogue) map[string][]any {
	found := map[string][]any{}
	if s.Store.Capabilities().Page < store.PageWhole {
		return found // it would give all of them
	}
	for _, name := range c.Names() {
		set := c.Sets[name]
		for i := range set.Fields {
			if f := &set.Fields[i]; f.Kind == store.JSON && !set.Part {
				found[name+"."+f.Name] = s.sample(ctx, c, name, f.Name)
			}
		}
	}
	return found
}

func (s *Source) sample(ctx context.Context, c *store.Catalogue, set, field string) []any {
	read := &store.Read{Set: set, Columns: []store.Wanted{{Path: field, Kind: store.JSON}}, Parent: -1, Limit: true}
	request, err := s.Store.Prepare(c, []*store.Read{read})
	if err != nil {
		return nil
	}
	a, err := request.Run(ctx, nil, []store.Input{{Limit: sampled}})
	if err != nil || len(a.Tables) != 1 || a.Tables[0] == nil {
		return nil
	}
	t := a.Tables[0]
	var list []any
	for row := range t.Len {
		if t.Columns[0].Null[row] {
			continue
		}
		decoder := json.NewDecoder(bytes.NewReader(t.Columns[0].At(row)))
		decoder.UseNumber()
		var v any
		if decoder.Decode(&v) == nil {
			list = append(list, v)
		}
	}
	if a.Release != nil {
		a.Release()
	}
	return list
}
