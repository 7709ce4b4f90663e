package relational_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/stores/relational"
)

// writable opens the constrained tables of a database, to be written to.
func writable(t *testing.T, kind string) (*relational.Source, *store.Catalogue, *sql.DB) {
	t.Helper()
	db, url := emptyDatabase(t, kind)
	for _, statement := range constrained[kind] {
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(statement, err)
		}
	}
	s := openAt(t, kind, url)
	c, err := s.Catalogue(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return s, c, db
}

// rows makes rows of texts: "-" is NULL, and "" says nothing of the field.
func rowsOf(kinds []store.Kind, list ...[]string) *store.Rows {
	rows := &store.Rows{Len: len(list), Columns: make([]store.Column, len(kinds)), Absent: make([][]bool, len(kinds))}
	for c, kind := range kinds {
		rows.Columns[c].Kind = kind
		for _, values := range list {
			rows.Absent[c] = append(rows.Absent[c], values[c] == "")
			if values[c] == "-" || values[c] == "" {
				rows.Columns[c].AppendNull()
				continue
			}
			rows.Columns[c].AppendJSON(&store.Wanted{Kind: kind}, values[c])
		}
	}
	return rows
}

// apply runs a write in a session.
func apply(t *testing.T, s *relational.Source, c *store.Catalogue, x store.Session, w *store.Write, rows *store.Rows) ([]string, error) {
	t.Helper()
	r, err := s.Capabilities().Write.Prepare(c, w)
	if err != nil {
		t.Fatal(err)
	}
	a, err := x.Run(context.Background(), r, nil, []store.Input{{Rows: rows}})
	if err != nil {
		return nil, err
	}
	var list []string
	for row := range a.Tables[0].Len {
		var values []string
		for i := range a.Tables[0].Columns {
			values = append(values, cell(&a.Tables[0].Columns[i], row))
		}
		list = append(list, strings.Join(values, " "))
	}
	return list, nil
}

func session(t *testing.T, s *relational.Source) store.Session {
	t.Helper()
	x, err := s.Capabilities().Write.Begin(context.Background(), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(x.Rollback)
	return x
}

var (
	addQuay  = &store.Write{Action: store.Add, Set: "quays", Columns: []store.Given{{Field: "code", Kind: store.Text}, {Field: "name", Kind: store.Text}}, Returning: []store.Wanted{{Path: "code", Kind: store.Text}}}
	addBerth = &store.Write{Action: store.Add, Set: "berths", Columns: []store.Given{{Field: "quay", Kind: store.Text}, {Field: "number", Kind: store.Int}}, Returning: []store.Wanted{{Path: "quay", Kind: store.Text}, {Path: "number", Kind: store.Int}}}
	addCall  = &store.Write{Action: store.Add, Set: "calls", Columns: []store.Given{{Field: "quay", Kind: store.Text}, {Field: "berth", Kind: store.Int}, {Field: "noted", Kind: store.Time}, {Field: "plain", Kind: store.Text}}, Returning: []store.Wanted{{Path: "id", Kind: store.Int}}}
	change   = &store.Write{Action: store.Change, Set: "calls", Columns: addCall.Columns, Keys: []store.Given{{Field: "id", Kind: store.Int}}, Returning: addCall.Returning}
	remove   = &store.Write{Action: store.Remove, Set: "calls", Keys: change.Keys, Returning: addCall.Returning}
	texts2   = []store.Kind{store.Text, store.Text}
	ofBerth  = []store.Kind{store.Text, store.Int}
	ofCall   = []store.Kind{store.Text, store.Int, store.Time, store.Text}
	ofChange = append(append([]store.Kind{}, ofCall...), store.Int)
)

// TestWrites adds, changes and removes records in every database, alone and as lists,
// with what the database fills and without, and looks at the tables by the driver.
func TestWrites(t *testing.T) {
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			s, c, db := writable(t, kind)
			x := session(t, s)
			got := func(list []string, err error) string {
				if err != nil {
					t.Fatal(err)
				}
				return strings.Join(list, ", ")
			}
			if list := got(apply(t, s, c, x, addQuay, rowsOf(texts2, []string{"N", "Nord 'ö' \"q\" \\ ⚓"}, []string{"S", "Süd"}))); list != `"N", "S"` {
				t.Errorf("two quays come back as %s", list)
			}
			if list := got(apply(t, s, c, x, addBerth, rowsOf(ofBerth, []string{"N", "1"}, []string{"N", "2"}, []string{"S", "1"}))); list != `"N" 1, "N" 2, "S" 1` {
				t.Errorf("three berths come back as %s", list)
			}
			// What is not given, the database fills: also where other rows give it.
			if list := got(apply(t, s, c, x, addCall, rowsOf(ofCall, []string{"N", "2", "2026-03-01T08:30:00Z", "a"}, []string{"", "", "", "b"}, []string{"S", "1", "2026-03-02T00:00:00Z", "-"}))); list != "1, 2, 3" {
				t.Errorf("three calls come back as %s", list)
			}
			// What is read in the session sees it, and others do not.
			read := &store.Read{Set: "calls", Columns: []store.Wanted{{Path: "id", Kind: store.Int}}, Parent: -1}
			r, err := s.Prepare(c, []*store.Read{read})
			if err != nil {
				t.Fatal(err)
			}
			if a, err := x.Run(context.Background(), r, nil, []store.Input{{}}); err != nil || a.Tables[0].Len != 3 {
				t.Errorf("the session reads %v %v", a, err)
			}
			if kind != relational.SQLite { // where others wait for the end
				if a, err := r.Run(context.Background(), nil, []store.Input{{}}); err != nil || a.Tables[0].Len != 0 {
					t.Errorf("others read %v %v", a, err)
				}
			}
			// Absent leaves alone and null clears; who is not there is not found.
			if list := got(apply(t, s, c, x, change, rowsOf(ofChange, []string{"", "", "", "c", "1"}, []string{"", "-", "", "", "3"}, []string{"", "", "", "", "2"}, []string{"", "", "", "x", "99"}))); list != "1, 3, 2" {
				t.Errorf("three changes come back as %s", list)
			}
			if list := got(apply(t, s, c, x, remove, rowsOf([]store.Kind{store.Int}, []string{"2"}, []string{"98"}))); list != "2" {
				t.Errorf("a removal comes back as %s", list)
			}
			if err := x.Commit(context.Background()); err != nil {
				t.Fatal(err)
			}
			x.Rollback()
			for query, want := range map[string]string{
				"SELECT name FROM quays WHERE code = 'N'":                                    "Nord 'ö' \"q\" \\ ⚓",
				"SELECT count(*) FROM berths":                                                "3",
				"SELECT plain FROM calls WHERE id = 1 AND quay = 'N' AND berth = 2":          "c",
				"SELECT quay FROM calls WHERE id = 3 AND berth IS NULL AND twice IS NULL":    "S",
				"SELECT count(*) FROM calls WHERE noted IS NOT NULL":                         "2",
				"SELECT count(*) FROM calls WHERE id = 1 AND noted = '2026-03-01T08:30:00Z'": "1",
			} {
				if kind == relational.MySQL {
					query = strings.Replace(query, "08:30:00Z", "08:30:00", 1)
				}
				var is string
				if err := db.QueryRow(query).Scan(&is); err != nil || is != want {
					t.Errorf("%s is %q %v, want %q", query, is, err, want)
				}
			}
		})
	}
}

// TestBrokenRules breaks each rule of each database: the error says which, of which set
// and fields, nothing of the session is done, and the next session works.
func TestBrokenRules(t *testing.T) {
	long := strings.Repeat("x", 100)
	for name, kind := range servers() {
		t.Run(name, func(t *testing.T) {
			s, c, db := writable(t, kind)
			x := session(t, s)
			for _, w := range []struct {
				w    *store.Write
				rows *store.Rows
			}{{addQuay, rowsOf(texts2, []string{"N", "Nord"})}, {addBerth, rowsOf(ofBerth, []string{"N", "1"})}, {addCall, rowsOf(ofCall, []string{"N", "1", "2026-03-01T08:30:00Z", "a"})}} {
				if _, err := apply(t, s, c, x, w.w, w.rows); err != nil {
					t.Fatal(err)
				}
			}
			if err := x.Commit(context.Background()); err != nil {
				t.Fatal(err)
			}
			removeQuay := &store.Write{Action: store.Remove, Set: "quays", Keys: []store.Given{{Field: "code", Kind: store.Text}}}
			for name, test := range map[string]struct {
				w    *store.Write
				rows *store.Rows
				want string
				only string // the databases that look at it
			}{
				"a primary key":      {addQuay, rowsOf(texts2, []string{"N", "Neu"}), "taken quays [code]", ""},
				"a unique key":       {addQuay, rowsOf(texts2, []string{"M", "Nord"}), "taken quays [name]", ""},
				"a unique index":     {addCall, rowsOf(ofCall, []string{"", "", "", "a"}), "taken calls [plain]", ""},
				"two unique fields":  {addCall, rowsOf(ofCall, []string{"N", "", "2026-03-01T08:30:00Z", ""}), "taken calls [quay noted]", ""},
				"twice in one list":  {addQuay, rowsOf(texts2, []string{"A", "Alt"}, []string{"A", "Anders"}), "taken quays [code]", ""},
				"no other record":    {addBerth, rowsOf(ofBerth, []string{"Z", "1"}), "lost berths [quay]", "postgres mysql"},
				"nor of two fields":  {addCall, rowsOf(ofCall, []string{"N", "9", "", ""}), "lost calls [quay berth]", "postgres mysql"},
				"no other, unnamed":  {addBerth, rowsOf(ofBerth, []string{"Z", "1"}), "lost berths []", "sqlite"},
				"one that is used":   {removeQuay, rowsOf([]store.Kind{store.Text}, []string{"N"}), "used berths [quay]", "postgres mysql"},
				"used, unnamed":      {removeQuay, rowsOf([]store.Kind{store.Text}, []string{"N"}), "used quays []", "sqlite"},
				"null":               {addQuay, rowsOf(texts2, []string{"Q", "-"}), "required quays [name]", ""},
				"nothing":            {addQuay, rowsOf(texts2, []string{"Q", ""}), "required quays [name]", ""},
				"a long text":        {addQuay, rowsOf(texts2, []string{long, "Lang"}), "too long quays [code] 4", "postgres mysql"},
				"a large number":     {addBerth, rowsOf(ofBerth, []string{"N", "3000000000"}), "out of range berths [number]", "postgres mysql"},
				"changed to another": {change, rowsOf(ofChange, []string{"Z", "1", "", "", "1"}), "lost calls [quay berth]", "postgres mysql"},
			} {
				if test.only != "" && !strings.Contains(test.only, kind) {
					continue
				}
				x := session(t, s)
				if _, err := apply(t, s, c, x, addQuay, rowsOf(texts2, []string{"U", "undone"})); err != nil {
					t.Fatal(name, err)
				}
				_, err := apply(t, s, c, x, test.w, test.rows)
				var own *store.Error
				if !errors.As(err, &own) || own.Code != store.BadWrite || own.Broken == nil || describe(own.Broken) != test.want || strings.Contains(own.Msg, "INSERT") {
					t.Errorf("%s gives %v %+v, want %s", name, err, own, test.want)
				}
				if err := x.Commit(context.Background()); err == nil {
					t.Errorf("%s is committed", name)
				}
				if _, err := x.Run(context.Background(), nil, nil, nil); err == nil {
					t.Errorf("%s: a session that is over runs", name)
				}
			}
			var n int
			if err := db.QueryRow("SELECT (SELECT count(*) FROM quays) + (SELECT count(*) FROM berths) + (SELECT count(*) FROM calls)").Scan(&n); err != nil || n != 3 {
				t.Errorf("there are %d records, %v", n, err)
			}
		})
	}
}

func describe(b *store.Broken) string {
	rule := map[store.Rule]string{store.Taken: "taken", store.Lost: "lost", store.Used: "used", store.Required: "required", store.TooLong: "too long", store.OutOfRange: "out of range"}[b.Rule]
	text := fmt.Sprint(rule, " ", b.Set, " ", b.Fields)
	if b.Most > 0 {
		text += fmt.Sprint(" ", b.Most)
	}
	return text
}
