package conform_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	_ "modernc.org/sqlite"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/files"
	"osprey/stores/relational"
	"osprey/stores/rest"
)

// TestKeysOfCutLists counts the keys that arrive at a service from records that are
// nested in others: a list is filtered, sorted and cut before keys are taken from it,
// whatever store it is from.
func TestKeysOfCutLists(t *testing.T) {
	var mu sync.Mutex
	var keys []string
	boards := []map[string]any{}
	for i := range 4 {
		rows := []any{nil}
		for j := range 60 {
			rows = append(rows, map[string]any{"n": j, "kind": []string{"a", "b"}[j%2], "thing": fmt.Sprint(100*i + j), "more": []any{map[string]any{"m": 1, "thing": fmt.Sprint(100*i + j)}, map[string]any{"m": 2, "thing": "none"}}})
		}
		boards = append(boards, map[string]any{"id": i, "rows": rows})
	}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/boards" {
			json.NewEncoder(w).Encode(boards)
			return
		}
		list := []map[string]any{}
		mu.Lock()
		defer mu.Unlock()
		for _, code := range r.URL.Query()["code"] {
			keys = append(keys, code)
			list = append(list, map[string]any{"code": code, "name": "T" + code})
		}
		json.NewEncoder(w).Encode(list)
	}))
	defer service.Close()
	things, err := rest.Open(rest.Config{URL: service.URL, Sets: []rest.Set{
		{Name: "boards", Key: []string{"id"}, Fields: []rest.Field{{Name: "id", Kind: store.Int}}, Reads: []rest.ReadForm{{Get: "/boards"}}},
		{Name: "things", Key: []string{"code"}, Fields: []rest.Field{{Name: "code", Kind: store.Text}, {Name: "name", Kind: store.Text}}, Reads: []rest.ReadForm{{Get: "/things{?code*}", Many: "code", MaxKeys: 1000}}}}})
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	text, _ := json.Marshal(boards)
	if err := os.WriteFile(filepath.Join(dir, "boards.json"), text, 0o644); err != nil {
		t.Fatal(err)
	}
	folder, err := files.Open(files.Config{Folder: dir})
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "boards.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE boards (id integer PRIMARY KEY, rows JSON)"); err != nil {
		t.Fatal(err)
	}
	for _, b := range boards {
		rows, _ := json.Marshal(b["rows"])
		if _, err := db.Exec("INSERT INTO boards VALUES (?, ?)", b["id"], string(rows)); err != nil {
			t.Fatal(err)
		}
	}
	table, err := relational.Open(relational.Config{Kind: relational.SQLite, URL: "sqlite:" + path})
	if err != nil {
		t.Fatal(err)
	}
	for name, source := range map[string]store.Source{"files": folder, "a column of JSON": table, "a service": things} {
		t.Run(name, func(t *testing.T) {
			e := conform.NewEngine(t, `type Query { boards(limit: Int): [Board!]! @read(sort: "id") }
type Board @stored(in: "b", as: "boards", key: "id") { id: Int! rows(limit: Int, offset: Int, filter: RowFilter, sort: [RowSort!]): [Row] }
type Row { n: Int kind: String thing: Thing @related(here: "thing", there: "code") more(limit: Int, filter: MoreFilter): [More!] twice: Int @computed(expr: "record.n * 2") }
type More { m: Int thing: Thing @related(here: "thing", there: "code") }
type Thing @stored(in: "t", as: "things", key: "code") { code: ID! name: String }`, map[string]store.Source{"b": source, "t": things})
			for _, test := range []struct{ op, keys, data string }{
				{`{ boards(limit: 2) { rows(limit: 3) { thing { name } } } }`, "0 1 100 101", `{"boards":[{"rows":[null,{"thing":{"name":"T0"}},{"thing":{"name":"T1"}}]},{"rows":[null,{"thing":{"name":"T100"}},{"thing":{"name":"T101"}}]}]}`},
				{`{ boards(limit: 1) { rows(filter: {kind: {is: "b"}}, sort: [{n: DESC}], limit: 2, offset: 1) { n twice thing { name } } } }`, "55 57", `{"boards":[{"rows":[{"n":57,"twice":114,"thing":{"name":"T57"}},{"n":55,"twice":110,"thing":{"name":"T55"}}]}]}`},
				{`{ boards(limit: 1) { a: rows(limit: 1, offset: 3) { thing { name } } b: rows(filter: {n: {in: [2, 7]}}) { thing { code } } } }`, "2 7", `{"boards":[{"a":[{"thing":{"name":"T2"}}],"b":[{"thing":{"code":"2"}},{"thing":{"code":"7"}}]}]}`},
				{`{ boards(limit: 1) { rows(filter: {n: {is: 9}}) { more(limit: 1) { thing { name } } } } }`, "9", `{"boards":[{"rows":[{"more":[{"thing":{"name":"T9"}}]}]}]}`},
				{`{ boards(limit: 1) { rows(filter: {n: {is: 9}}) { more { m thing { name } } } } }`, "9 none", `{"boards":[{"rows":[{"more":[{"m":1,"thing":{"name":"T9"}},{"m":2,"thing":{"name":"Tnone"}}]}]}]}`},
				{`{ boards(limit: 1) { rows(limit: 0) { thing { name } } } }`, "", `{"boards":[{"rows":[]}]}`},
			} {
				mu.Lock()
				keys = nil
				mu.Unlock()
				o := e.Ask(t, test.op, nil)
				mu.Lock()
				slices.Sort(keys)
				got := strings.Join(keys, " ")
				mu.Unlock()
				if o.Data != test.data || len(o.Errors) > 0 || got != test.keys {
					t.Errorf("%s\ngives %s %v with the keys %s\nwant  %s with %s", test.op, o.Data, o.Errors, got, test.data, test.keys)
				}
			}
		})
	}
}
