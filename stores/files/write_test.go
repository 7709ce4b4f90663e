package files_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/files"
)

const portTypes = `type Query { craft: [Craft!]! @read(sort: "imo") }
type Mutation {
  launch(craft: CraftAdd!): Craft @add
  launchAll(craft: [CraftAdd!]!): [Craft!] @add
  rename(imo: ID!, name: String, expected: String @at(path: "name")): Craft @change(expect: "expected")
  lengthen(imo: ID!, by: Float! @at(path: "length")): Craft @change(adjust: "by")
  scrap(imo: ID!): Craft @remove
  scrapAll(filter: CraftFilter!): Int @remove(of: "Craft")
  found(name: String!, town: String): Line @add(replaces: "name")
  fit(id: ID!, ship: ShipAdd!): Line @add(into: "ships")
  refit(id: ID!, name: String!, change: ShipChange!, town: String): Line @change(in: "ships")
  unfit(id: ID!, name: String!): Line @remove(from: "ships")
  arrive(call: CallNew!): Call @add(set: "at: now")
}
input CallNew { craft: ID! notes: [NoteNew!] }
input NoteNew { text: String! }
type Craft @stored(in: "port", as: "craft", key: "imo") { imo: ID! name: String! length: Float line: Line @related(here: "line") calls: [Call!]! @related(there: "craft") }
type Line @stored(in: "port", as: "lines", key: "id") { id: ID! name: String! town: String ships: [Ship!] craft: [Craft!]! @related(there: "line", sort: "imo") }
type Ship { name: String! built: Date crew: Int master: String @at(path: "who.name") }
type Call @stored(in: "port", as: "calls", key: "id") { id: ID! at: DateTime! craft: Craft @related(here: "craft") notes: [Note!]! @related(there: "call") }
type Note @stored(in: "port", as: "notes", key: "id") { id: ID! text: String! call: Call! @related(here: "call") }`

// TestWrites adds, changes and removes records of files, and reads the files: their form, and
// the order of what is in them, stays.
func TestWrites(t *testing.T) {
	dir := t.TempDir()
	texts := map[string]string{
		"craft.csv":   "imo,name,length,line\n9100012,Grey Lantern,188.5,1\n9100024,\"Jolly, Islander\",96,2\n",
		"lines.json":  `[{"name": "Ansgar", "id": 1, "ships": []}, {"name": "Corvik", "id": 2, "town": "Vik"}]`,
		"calls.jsonl": `{"id": 3, "craft": 9100012, "at": "2026-03-01T08:30:00Z"}` + "\n",
		"notes.jsonl": `{"id": 1, "call": 3, "text": "fog <1 nm"}` + "\n",
	}
	for name, text := range texts {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	s, err := files.Open(files.Config{Folder: dir})
	if err != nil {
		t.Fatal(err)
	}
	e := conform.NewEngine(t, portTypes, map[string]store.Source{"port": s})
	for _, test := range []struct{ op, data, errors string }{
		{`mutation { launch(craft: {imo: 9100036, name: "Ebb \"x\"", line: 1}) { imo name length line { name craft { name } } } }`, `{"launch":{"imo":"9100036","name":"Ebb \"x\"","length":null,"line":{"name":"Ansgar","craft":[{"name":"Grey Lantern"},{"name":"Ebb \"x\""}]}}}`, ``},
		{`mutation { launch(craft: {imo: 9100036, name: "Ebb"}) { imo } }`, `{"launch":null}`, `[launch] CONSTRAINT Craft.imo 9100036 is taken: another record has it`},
		{`mutation { launchAll(craft: [{imo: 1, name: "a"}, {imo: 9100012, name: "b"}]) { imo } }`, `{"launchAll":null}`, `[launchAll] CONSTRAINT Craft.imo is taken: another record has it`},
		{`mutation { launch(craft: {imo: 2, name: ""}) { imo } }`, `{"launch":null}`, `[launch] BAD_VALUE craft.csv: a table of this form cannot tell an empty text from none`},
		{`mutation { rename(imo: 9100036, name: "Flow", expected: "Eb") { imo } next: rename(imo: 9100036, name: "Flow") { name } none: rename(imo: 7, name: "x") { imo } }`, `{"rename":null,"next":{"name":"Flow"},"none":null}`, `[rename] CONFLICT Mutation.rename(expected:) "Eb" is not what is stored any more: another change came first, and nothing of this one is done`},
		{`mutation { lengthen(imo: 9100012, by: 0.1) { length } new: lengthen(imo: 9100036, by: 12) { length } }`, `{"lengthen":{"length":188.6},"new":{"length":12}}`, ``},
		{`mutation { found(name: "Dover", town: "Dov") { id } again: found(name: "Dover") { id town } other: found(name: "Ansgar", town: "Ans") { id town ships { name } } fit(id: 1, ship: {name: "Old <1>", built: "1990-01-02"}) { ships { name built } } }`, `{"found":{"id":"3"},"again":{"id":"3","town":"Dov"},"other":{"id":"1","town":"Ans","ships":[]},"fit":{"ships":[{"name":"Old <1>","built":"1990-01-02"}]}}`, ``},
		{`mutation {
			a: fit(id: 1, ship: {name: "New", built: "1990-01-02", crew: 4}) { id } b: fit(id: 1, ship: {name: "New", crew: 5}) { id }
			refit(id: 1, name: "New", change: {built: null, master: "Ada"}, town: "Sk") { town ships { name built crew master } }
			none: refit(id: 1, name: "Nil", change: {crew: 9}, town: "no") { id } same: refit(id: 1, name: "New", change: {}) { town }
			unfit(id: 1, name: "New") { town ships { name built } } again: unfit(id: 1, name: "New") { id } gone: unfit(id: 77, name: "New") { id } }`,
			`{"a":{"id":"1"},"b":{"id":"1"},"refit":{"town":"Sk","ships":[{"name":"Old <1>","built":"1990-01-02","crew":null,"master":null},{"name":"New","built":null,"crew":4,"master":"Ada"},{"name":"New","built":null,"crew":5,"master":"Ada"}]},"none":null,"same":{"town":"Sk"},"unfit":{"town":"Sk","ships":[{"name":"Old <1>","built":"1990-01-02"}]},"again":{"id":"1"},"gone":null}`, ``},
		{`mutation { arrive(call: {craft: 9100024, notes: [{text: "a"}, {text: "b"}]}) { id craft { name calls { id } } notes { id text call { id } } } }`, `{"arrive":{"id":"4","craft":{"name":"Jolly, Islander","calls":[{"id":"4"}]},"notes":[{"id":"2","text":"a","call":{"id":"4"}},{"id":"3","text":"b","call":{"id":"4"}}]}}`, ``},
		{`mutation { scrap(imo: 9100036) { name line { name } } again: scrap(imo: 9100036) { name } scrapAll(filter: {name: {is: "none"}}) }`, `{"scrap":{"name":"Flow","line":{"name":"Ansgar"}},"again":null,"scrapAll":0}`, ``},
		{`mutation @transaction { one: launch(craft: {imo: 5, name: "five"}) { imo } two: found(name: "Ee") { id } three: launch(craft: {imo: 5, name: "again"}) { imo } }`, `{"one":null,"two":null,"three":null}`, `[one] UNDONE one is undone: it is one transaction with three, which failed [two] UNDONE two is undone: it is one transaction with three, which failed [three] CONSTRAINT Craft.imo 5 is taken: another record has it`},
	} {
		o := e.Ask(t, test.op, nil)
		if errors := strings.Join(o.Errors, " "); o.Data != test.data || errors != test.errors {
			t.Errorf("%s\ngives %s %v\nwant  %s %s", test.op, o.Data, o.Errors, test.data, test.errors)
		}
	}
	for name, want := range map[string]string{
		"craft.csv":   "imo,name,length,line\n9100012,Grey Lantern,188.6,1\n9100024,\"Jolly, Islander\",96,2\n",
		"lines.json":  "[\n  {\"name\": \"Ansgar\", \"id\": 1, \"ships\": [{\"built\":\"1990-01-02\",\"name\":\"Old <1>\"}], \"town\": \"Sk\"},\n  {\"name\": \"Corvik\", \"id\": 2, \"town\": \"Vik\"},\n  {\"name\": \"Dover\", \"id\": 3, \"town\": \"Dov\"}\n]\n",
		"notes.jsonl": `{"id": 1, "call": 3, "text": "fog <1 nm"}` + "\n" + `{"id": 2, "call": 4, "text": "a"}` + "\n" + `{"id": 3, "call": 4, "text": "b"}` + "\n",
	} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		info, _ := os.Stat(filepath.Join(dir, name))
		if err != nil || string(text) != want || info.Mode().Perm() != 0o640 {
			t.Errorf("%s is\n%s%v\nwant\n%s", name, text, info.Mode(), want)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(dir, ".*")); len(left) > 0 {
		t.Errorf("left are %v", left)
	}
	// Many at once: each is written, and each has a key of its own.
	done := make(chan string)
	for w := range 8 {
		go func() {
			for n := range 10 {
				if o := e.Ask(t, fmt.Sprintf(`mutation { found(name: "L%d-%d") { id } lengthen(imo: 9100024, by: 1) { imo } }`, w, n), nil); len(o.Errors) > 0 {
					done <- strings.Join(o.Errors, " ")
					return
				}
			}
			done <- ""
		}()
	}
	for range 8 {
		if failed := <-done; failed != "" {
			t.Error(failed)
		}
	}
	o := e.Ask(t, `{ craft { length } }`, nil)
	text, _ := os.ReadFile(filepath.Join(dir, "lines.json"))
	if !strings.Contains(o.Data, `{"length":176}`) || strings.Count(string(text), `"id"`) != 83 || !strings.Contains(string(text), `"id": 83`) {
		t.Errorf("of 80 at once there is %s and %s", o.Data, text)
	}
	// Another program writes in between: nothing is lost.
	session, err := s.Capabilities().Write.Begin(context.Background(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer session.Rollback()
	c, err := s.Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	request, err := s.Capabilities().Write.Prepare(c, &store.Write{Action: store.Remove, Set: "calls", Keys: []store.Given{{Field: "id", Kind: store.Int}}})
	if err != nil {
		t.Fatal(err)
	}
	keys := store.Column{Kind: store.Int}
	keys.AppendInt(3)
	if _, err := session.Run(context.Background(), request, nil, []store.Input{{Rows: &store.Rows{Len: 1, Columns: []store.Column{keys}}}}); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "calls.jsonl"), []byte(`{"id": 3, "craft": 1, "at": "2026-03-01T08:30:00Z"}`+"\n"+`{"id": 9, "craft": 1, "at": "2026-03-01T08:30:00Z"}`+"\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := session.Commit(context.Background()); err == nil || !strings.Contains(err.Error(), "another program has changed") {
		t.Errorf("a file that was changed meanwhile gives %v", err)
	}
}

type thing struct {
	ID   int
	Code string
	Name *string
	N    *int
}

// TestRandomWrites holds random operations that write and read, alone and as one transaction, to
// a model, and reads the file after each.
func TestRandomWrites(t *testing.T) {
	for _, form := range []string{"things.json", "things.jsonl"} {
		t.Run(form, func(t *testing.T) {
			dir := t.TempDir()
			seed := `{"id": 0, "code": "-", "name": "-", "n": 0}`
			if form == "things.json" {
				seed = "[" + seed + "]"
			}
			for name, text := range map[string]string{form: seed, "parts.json": `[{"id": 0, "size": 0, "thing": -1}]`} {
				if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			s, err := files.Open(files.Config{Folder: dir})
			if err != nil {
				t.Fatal(err)
			}
			e := conform.NewEngine(t, conform.LooseTypes, map[string]store.Source{"db": s})
			if o := e.Ask(t, `mutation { remove(id: 0) { id } }`, nil); len(o.Errors) > 0 {
				t.Fatal(o.Errors)
			}
			conform.Written{Whole: true, Replaces: true, Loose: true, State: func() []string {
				text, err := os.ReadFile(filepath.Join(dir, form))
				if err != nil {
					t.Fatal(err)
				}
				var things []thing
				if form == "things.jsonl" {
					text = []byte("[" + strings.Join(strings.Split(strings.TrimSpace(string(text)), "\n"), ",") + "]")
				}
				if err := json.Unmarshal(text, &things); err != nil {
					t.Fatalf("%v in %s", err, text)
				}
				slices.SortFunc(things, func(a, b thing) int { return a.ID - b.ID })
				var list []string
				for _, x := range things {
					name, _ := json.Marshal(x.Name)
					n, _ := json.Marshal(x.N)
					list = append(list, fmt.Sprintf(`{"id":"%d","code":"%s","name":%s,"n":%s}`, x.ID, x.Code, name, n))
				}
				return list
			}}.Writes(t, e, 1, 150)
		})
	}
}
