package files_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/files"
)

// write writes the suite's data in a form.
func write(t *testing.T, dir, form string) {
	t.Helper()
	for set, records := range conform.Data() {
		var b bytes.Buffer
		switch form {
		case "json":
			b.WriteString(conform.JSON(records))
		case "jsonl":
			for _, r := range records {
				fmt.Fprintf(&b, "%s\n\n", strings.Trim(conform.JSON([]conform.Record{r}), "[]"))
			}
		}
		if err := os.WriteFile(filepath.Join(dir, set+"."+form), b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func open(t *testing.T, dir string) *files.Source {
	t.Helper()
	s, err := files.Open(files.Config{Folder: dir, MaxBytes: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestConform(t *testing.T) {
	for _, form := range []string{"json", "jsonl"} {
		t.Run(form, func(t *testing.T) {
			dir := t.TempDir()
			write(t, dir, form)
			conform.Run(t, open(t, dir), 300)
		})
	}
}

func TestCatalogue(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "things.json", `[{"n": 1, "id": "a", "at": {"day": "2026-03-01", "x": 1.5}, "tags": ["a"], "few": ["a"], "any": "b", "mix": 1, "lines": [{"k": 1}]},
		{"n": 2, "id": "b", "at": {"day": "2026-03-01", "x": 2}, "few": "b", "any": [1], "mix": "one", "seen": "2026-03-01T08:00:00Z", "lines": []}]`)
	put(t, dir, "berths.csv", "\xef\xbb\xbfcode,long,open,note\nA1,12.5,true,007\nA2,,false,\n")
	put(t, dir, "README.md", "not a record set")
	c, err := open(t, dir).Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, set := range c.Sets {
		for _, f := range set.Fields {
			got[set.Name+"."+f.Name] = fmt.Sprintf("%s %v", f.Type, f.Nullable)
		}
	}
	for field, want := range map[string]string{
		"things.id": "text false", "things.n": "int false", "things.at.day": "date false", "things.at.x": "number false", "things.tags": "list true",
		"things.mix": "number or text false", "things.few": "list or text false", "things.any": "number or text false", "things.seen": "time true", "things.lines.k": "int false",
		"berths.code": "text false", "berths.long": "number true", "berths.open": "bool false", "berths.note": "text true",
	} {
		if got[field] != want {
			t.Errorf("%s is %q, want %q", field, got[field], want)
		}
	}
	if len(c.Sets) != 2 || fmt.Sprint(c.Sets["things"].Keys) != "[[id] [at.x] [mix] [n]]" {
		t.Errorf("%d sets, keys %v", len(c.Sets), c.Sets["things"].Keys)
	}
}

func put(t *testing.T, dir, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// TestFailures holds what is told of files that are gone, too large or wrong,
// and that a changed file is read again.
func TestFailures(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "a.json", `[{"id": 1}]`)
	s := open(t, dir)
	c, err := s.Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	request, err := s.Prepare(c, []*store.Read{{Set: "a", Parent: -1, Columns: []store.Wanted{{Path: "id", Kind: store.Int}}}})
	if err != nil {
		t.Fatal(err)
	}
	rows := func() (int, error) {
		a, err := request.Run(context.Background(), nil, []store.Input{{}})
		if err != nil {
			return 0, err
		}
		return a.Tables[0].Len, nil
	}
	put(t, dir, "a.json", `[{"id": 1}, {"id": 2}]`)
	if n, err := rows(); n != 2 || err != nil {
		t.Errorf("a changed file gives %d rows, %v", n, err)
	}
	for text, want := range map[string]string{
		"[{\"id\": 1},\n {\"id\" 2}]": "a.json, line 2",
		`[1]`:                         "item 1 is no object",
		`{"id": 1}`:                   "not as its name says",
		strings.Repeat(" ", 2<<20):    "more than 1048576 bytes",
	} {
		put(t, dir, "a.json", text)
		os.Chtimes(filepath.Join(dir, "a.json"), time.Now(), time.Now().Add(time.Duration(len(text))*time.Second))
		var own *store.Error
		if _, err := rows(); !errors.As(err, &own) || own.Code != store.BadAnswer || !strings.Contains(own.Msg, want) || strings.Contains(own.Msg, dir) {
			t.Errorf("%.20s gives %v, want %q", text, err, want)
		}
	}
	os.Remove(filepath.Join(dir, "a.json"))
	var own *store.Error
	if _, err := rows(); !errors.As(err, &own) || own.Code != store.Down {
		t.Errorf("a file that is gone gives %v", err)
	}
	put(t, dir, "b.json", "[]")
	put(t, dir, "b.csv", "id\n")
	if err := s.Ping(context.Background()); err == nil || !strings.Contains(err.Error(), "two files of the name b") {
		t.Errorf("two files of a name: %v", err)
	}
	if _, err := files.Open(files.Config{}); err == nil {
		t.Errorf("a source without a folder is opened")
	}
	if text, err := json.Marshal(c.Names()); err != nil || string(text) != `["a"]` {
		t.Errorf("the sets are %s", text)
	}
}

// TestMissing counts a field as missing where its object is there and it is not; an
// empty list is there.
func TestMissing(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "things.json", `[{"id": 1, "at": {"day": "2026-03-01", "x": 1}, "tags": [], "lines": [{"k": 1, "n": 2}]}, {"id": 2, "tags": ["a"], "lines": []}, {"id": 3, "at": {"day": "2026-03-02"}, "tags": ["b", null], "lines": [{"k": 2}, {"k": 3, "n": null}]}]`)
	c, err := open(t, dir).Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]bool{"at.day": false, "at.x": true, "tags": false, "lines.k": false, "lines.n": true} {
		if f := c.Sets["things"].Field(path); f == nil || f.Nullable != want {
			t.Errorf("%s is %+v, want nullable %t", path, f, want)
		}
	}
}

// TestOneRequest asks for related records of several files, which is one request; but by
// keys that are lists, or not all of one kind, records are found in the next wave.
func TestOneRequest(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "craft.json", `[{"imo": 1, "name": "Tern", "operator": "a", "quay": "N", "berth": 1, "mix": 1, "pals": [2, 1]},
		{"imo": 2, "name": "Petrel", "operator": "a", "quay": "N", "berth": 2, "mix": "x", "pals": []}, {"imo": 3, "name": "Gannet", "operator": "z", "quay": null, "berth": 1, "mix": 2}]`)
	put(t, dir, "operators.csv", "id,name\na,Ansgar\nb,Berit\n")
	put(t, dir, "berths.jsonl", "{\"quay\": \"N\", \"number\": 1, \"depth\": 7}\n{\"quay\": \"N\", \"number\": 2, \"depth\": 9}\n{\"quay\": \"S\", \"number\": 1, \"depth\": 5}\n")
	const types = `type Query { craft(filter: CraftFilter, sort: [CraftSort!], limit: Int): [Craft!]! @read operators: [Operator!]! @read berths: [Berth!]! @read }
type Craft @stored(in: "port", as: "craft", key: "imo") { imo: Int! name: String! operator: Operator @related(here: "operator", there: "id") berth: Berth @related(here: ["quay", "berth"], there: ["quay", "number"])
  pals: [Craft!]! @related(here: "pals", there: "imo") mixed: [Craft!]! @related(here: "mix", there: "imo") }
type Operator @stored(in: "port", as: "operators", key: "id") { id: ID! name: String! fleet(filter: CraftFilter, sort: [CraftSort!], limit: Int): [Craft!]! @related(here: "id", there: "operator") count: Int! @total(of: "fleet") }
type Berth @stored(in: "port", as: "berths", key: ["quay", "number"]) { quay: String! number: Int! depth: Int craft: [Craft!]! @related(here: ["quay", "number"], there: ["quay", "berth"]) }`
	e := conform.NewEngine(t, types, map[string]store.Source{"port": open(t, dir)})
	for _, test := range []struct {
		op, data string
		requests int
	}{
		{`{ craft { name operator { name count } berth { depth craft { name } } } }`, `{"craft":[{"name":"Tern","operator":{"name":"Ansgar","count":2},"berth":{"depth":7,"craft":[{"name":"Tern"}]}},{"name":"Petrel","operator":{"name":"Ansgar","count":2},"berth":{"depth":9,"craft":[{"name":"Petrel"}]}},{"name":"Gannet","operator":null,"berth":null}]}`, 1},
		{`{ operators { name fleet(filter: {imo: {above: 1}}) { name berth { depth } } } berths { depth craft { name } } }`, `{"operators":[{"name":"Ansgar","fleet":[{"name":"Petrel","berth":{"depth":9}}]},{"name":"Berit","fleet":[]}],"berths":[{"depth":7,"craft":[{"name":"Tern"}]},{"depth":9,"craft":[{"name":"Petrel"}]},{"depth":5,"craft":[]}]}`, 1},
		{`{ operators { fleet(sort: [{name: ASC}], limit: 1) { name operator { fleet { name } } } } }`, `{"operators":[{"fleet":[{"name":"Petrel","operator":{"fleet":[{"name":"Tern"},{"name":"Petrel"}]}}]},{"fleet":[]}]}`, 1},
		{`{ craft(sort: [{name: ASC}], limit: 1) { name operator { fleet { name } } } }`, `{"craft":[{"name":"Gannet","operator":null}]}`, 1},
		{`{ craft(filter: {imo: {is: 1}}) { pals { name operator { name } } } }`, `{"craft":[{"pals":[{"name":"Petrel","operator":{"name":"Ansgar"}},{"name":"Tern","operator":{"name":"Ansgar"}}]}]}`, 2},
		{`{ craft { mixed { name } } }`, `{"craft":[{"mixed":[{"name":"Tern"}]},{"mixed":[]},{"mixed":[{"name":"Petrel"}]}]}`, 2},
	} {
		o := e.Ask(t, test.op, nil)
		requests := 0
		for _, r := range o.Requests {
			requests += r.RoundTrips
		}
		if o.Data != test.data || len(o.Errors) > 0 || requests != test.requests {
			t.Errorf("%s\ngives %s %v in %d requests\nwant  %s in %d\n%s", test.op, o.Data, o.Errors, requests, test.data, test.requests, o.Plan)
		}
	}
	few, err := files.Open(files.Config{Folder: dir, MaxRecords: 4})
	if err != nil {
		t.Fatal(err)
	}
	e = conform.NewEngine(t, types, map[string]store.Source{"port": few})
	if o := e.Ask(t, `{ craft { operator { name } } }`, nil); len(o.Errors) > 0 {
		t.Errorf("four records are refused: %v", o.Errors)
	}
	if o := e.Ask(t, `{ craft { operator { name } berth { depth } } }`, nil); len(o.Errors) != 1 || !strings.Contains(o.Errors[0], "more than 4 records") {
		t.Errorf("six records are %s %v", o.Data, o.Errors)
	}
}
