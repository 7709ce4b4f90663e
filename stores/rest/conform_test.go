package rest_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/rest"
)

// suite serves the suite's data: whole, by keys, page by page.
func suite(t *testing.T) (*httptest.Server, []rest.Set) {
	t.Helper()
	data := conform.Data()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		set := strings.TrimPrefix(r.URL.Path, "/")
		q := r.URL.Query()
		list := []conform.Record{}
		for _, record := range data[set] {
			fits := true
			for _, key := range []string{"id", "owner_id", "parent_id"} {
				if values := q[key]; len(values) > 0 {
					have, ok := record[key]
					fits = fits && ok && slices.Contains(values, fmt.Sprint(have))
				}
			}
			if longer := q.Get("longer"); longer != "" {
				length, ok := record["length"].(float64)
				var bound float64
				fmt.Sscan(longer, &bound)
				fits = fits && ok && length > bound
			}
			if fits {
				list = append(list, record)
			}
		}
		const size = 25
		page := 0
		fmt.Sscan(q.Get("page"), &page)
		next := ""
		if (page+1)*size < len(list) {
			q.Set("page", fmt.Sprint(page+1))
			next = "?" + q.Encode()
		}
		json.NewEncoder(w).Encode(map[string]any{"items": list[min(page*size, len(list)):min((page+1)*size, len(list))], "next": next})
	}))
	t.Cleanup(server.Close)
	kinds := map[string]store.Kind{"int": store.Int, "text": store.Text, "float": store.Float, "date": store.Date, "time": store.Time, "bool": store.Bool, "decimal": store.Decimal}
	var sets []rest.Set
	for name, fields := range conform.Fields {
		set := rest.Set{Name: name, Key: []string{"id"}}
		for _, f := range fields {
			kind, nullable := strings.CutSuffix(f[1], "?")
			set.Fields = append(set.Fields, rest.Field{Name: f[0], Kind: kinds[kind], Nullable: nullable})
		}
		pages := &rest.Pages{Next: "$.next"}
		set.Reads = append(set.Reads, rest.ReadForm{Get: "/" + name + "{?longer}", Pick: "$.items[*]", Pages: pages, Takes: map[string]string{"longer": "length above"}})
		keys := []string{"id", "owner_id"}
		if name == "owners" {
			keys[1] = "parent_id"
		}
		for _, key := range keys {
			set.Reads = append(set.Reads, rest.ReadForm{Get: "/" + name + "{?" + key + "*}", Many: key, Pick: "$.items[*]", Pages: pages})
		}
		if name == "owners" {
			set.Reads[0].Takes = nil
			set.Reads[0].Get = "/owners"
		}
		sets = append(sets, set)
	}
	return server, sets
}

// TestConform puts a paged service to the suite.
func TestConform(t *testing.T) {
	server, sets := suite(t)
	s, err := rest.Open(rest.Config{URL: server.URL, Sets: sets})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	conform.Run(t, s, 200)
}
