package relational

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"osprey/core/store"
	"osprey/demo/demotest"
)

func wanted(kinds string) []store.Wanted {
	var list []store.Wanted
	words := strings.Fields(kinds)
	for i := 0; i < len(words); i += 2 {
		kind, _ := store.KindNamed(words[i+1])
		list = append(list, store.Wanted{Path: words[i], Kind: kind})
	}
	return list
}

// TestForms asks for the same reads in every form that a request has, and
// compares what belongs to what. The forms differ in what is joined, what is
// sent once, and what is put in order here.
func TestForms(t *testing.T) {
	s, err := Open(Config{URL: demotest.Harbour().RegistryURL, Pool: 2})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx := context.Background()
	catalogue, err := s.Catalogue(ctx)
	if err != nil {
		t.Fatal(err)
	}
	pilotage := &store.JoinTable{Set: "pilotage", Here: []string{"call_id"}, There: []string{"pilot_id"}}
	calls := &store.Read{Set: "port_calls", Parent: -1, Limit: true, Columns: wanted("id int arrived_at time purpose text cargo_t decimal"), Sort: []store.Order{{Path: "departed_at", Desc: true}}}
	craft := &store.Read{Set: "craft", Parent: 0, Single: true, Here: []string{"craft_imo"}, There: []string{"imo"}, Columns: wanted("name text craft_type text")}
	operator := &store.Read{Set: "operators", Parent: 1, Single: true, Here: []string{"operator_id"}, There: []string{"id"}, Columns: wanted("name text")}
	for _, test := range []struct {
		name  string
		forms int
		reads []*store.Read
	}{
		{"one table", 1, []*store.Read{calls}},
		{"joined", 3, []*store.Read{calls, craft, operator,
			{Set: "operators", Parent: 2, Single: true, Here: []string{"parent_id"}, There: []string{"id"}, Columns: wanted("id int name text")},
			{Set: "berths", Parent: 0, Single: true, Here: []string{"quay_code", "berth_number"}, There: []string{"quay_code", "number"}, Columns: wanted("name text")}}},
		{"pairs", 2, []*store.Read{calls,
			{Set: "pilots", Parent: 0, JoinTable: pilotage, Here: []string{"id"}, There: []string{"id"}, Sort: []store.Order{{Path: "name", Desc: true}}, Columns: wanted("name text")},
			{Set: "pilotage", Parent: 0, Here: []string{"id"}, There: []string{"call_id"}, Sort: []store.Order{{Path: "boarded_at"}}, Columns: wanted("role text")}}},
		{"pairs with a predicate", 3, []*store.Read{calls, craft,
			{Set: "pilots", Parent: 0, JoinTable: pilotage, Here: []string{"id"}, There: []string{"id"}, Where: []store.Predicate{{Path: "licence", Kind: store.Text, Many: true}}, Columns: wanted("licence text")}}},
		{"below a joined row", 2, []*store.Read{calls, craft, operator,
			{Set: "port_calls", Parent: 1, Limit: true, Here: []string{"imo"}, There: []string{"craft_imo"}, Sort: []store.Order{{Path: "arrived_at", Desc: true}}, Columns: wanted("id int")},
			{Set: "pilots", Parent: 3, JoinTable: pilotage, Here: []string{"id"}, There: []string{"id"}, Sort: []store.Order{{Path: "name"}}, Columns: wanted("name text")}}},
		{"in the order of a text", 2, []*store.Read{{Set: "craft", Parent: -1, Limit: true, Sort: []store.Order{{Path: "name"}}, Columns: wanted("name text")},
			{Set: "operators", Parent: 0, Single: true, Here: []string{"operator_id"}, There: []string{"id"}, Columns: wanted("name text")},
			{Set: "port_calls", Parent: 0, Limit: true, Here: []string{"imo"}, There: []string{"craft_imo"}, Columns: wanted("id int")}}},
	} {
		prepared, err := s.Prepare(catalogue, test.reads)
		if err != nil {
			t.Fatal(err)
		}
		r := prepared.(*request)
		all := *r.forms.Load()
		if len(all) != test.forms {
			t.Errorf("%s has %d forms, want %d", test.name, len(all), test.forms)
		}
		for _, limit := range []int64{0, 1, 7, 300, 3000} {
			in := make([]store.Input, len(test.reads))
			for i, read := range test.reads {
				in[i].Limit = 3
				if i == 0 {
					in[i].Limit = limit
				}
				for _, c := range read.Where {
					values := store.Column{Kind: c.Kind}
					for n := range 20 {
						values.AppendText(fmt.Sprintf("SK-%03d", 100+14*n))
					}
					in[i].Where = append(in[i].Where, values)
				}
			}
			want := ""
			for i := range all {
				kept := all[i : i+1]
				r.forms.Store(&kept)
				a, err := r.Run(ctx, nil, in)
				if err != nil {
					t.Fatalf("%s: %v\n%s", test.name, err, all[i].text(make([]int64, len(in))))
				}
				var b strings.Builder
				for place := range places(a.Tables[0]) {
					writeRow(&b, test.reads, a.Tables, 0, a.Tables[0].At(place))
				}
				a.Release()
				if got := b.String(); want == "" {
					want = got
				} else if got != want {
					at := 0
					for at < min(len(got), len(want)) && got[at] == want[at] {
						at++
					}
					t.Errorf("%s, limit %d: form %d differs from the first at %d: %.200s\nwant %.200s", test.name, limit, i, at, got[max(at-100, 0):], want[max(at-100, 0):])
				}
			}
			r.forms.Store(&all)
		}
	}
}

// TestGrown asks for records of a table that was small when the catalogue was
// read, and is no more.
func TestGrown(t *testing.T) {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	exec := func(text string) {
		t.Helper()
		if _, err := conn.Exec(ctx, text); err != nil {
			t.Fatal(err)
		}
	}
	exec(`DROP SCHEMA IF EXISTS grown CASCADE; CREATE SCHEMA grown; SET search_path = grown;
		CREATE TABLE flags (id integer PRIMARY KEY, name text NOT NULL);
		CREATE TABLE buoys (id integer PRIMARY KEY, flag integer NOT NULL);
		INSERT INTO flags SELECT n, 'flag ' || n FROM generate_series(1, 5) n;
		INSERT INTO buoys SELECT n, n % 7 FROM generate_series(1, 2000) n; ANALYZE flags; ANALYZE buoys`)
	s, err := Open(Config{URL: demotest.Harbour().RegistryURL + "?search_path=grown", Pool: 2})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	catalogue, err := s.Catalogue(ctx)
	if err != nil {
		t.Fatal(err)
	}
	prepared, err := s.Prepare(catalogue, []*store.Read{
		{Set: "buoys", Parent: -1, Columns: wanted("id int")},
		{Set: "flags", Parent: 0, Single: true, Here: []string{"flag"}, There: []string{"id"}, Columns: wanted("name text")},
	})
	if err != nil {
		t.Fatal(err)
	}
	r := prepared.(*request)
	count := func(forms, statements, rows, found int) {
		t.Helper()
		counted := demotest.Statements(t)
		a, err := r.Run(ctx, nil, make([]store.Input, 2))
		if err != nil {
			t.Fatal(err)
		}
		if got := counted(); got != statements || a.Requests != statements {
			t.Errorf("PostgreSQL ran %d statements, told %d, want %d", got, a.Requests, statements)
		}
		n := 0
		for _, row := range a.Tables[1].Child {
			if row >= 0 {
				n++
			}
		}
		if len(*r.forms.Load()) != forms || a.Tables[1].Len != rows || n != found {
			t.Errorf("%d forms, %d flags, of %d buoys; want %d, %d, %d", len(*r.forms.Load()), a.Tables[1].Len, n, forms, rows, found)
		}
		a.Release()
	}
	count(2, 1, 5, 1430)
	exec(`INSERT INTO grown.flags SELECT n, 'flag ' || n FROM generate_series(6, 1000) n`)
	count(1, 2, 1715, 1715) // once to see it, and once more
	count(1, 1, 1715, 1715)
}

func places(t *store.Table) int {
	if len(t.Order) > 0 {
		return len(t.Order)
	}
	return t.Len
}

// writeRow writes a row with everything below it.
func writeRow(b *strings.Builder, reads []*store.Read, tables []*store.Table, read, row int) {
	t := tables[read]
	for i := range t.Columns {
		key, _ := store.AppendKey(nil, &t.Columns[i], row)
		fmt.Fprintf(b, "%s ", strings.TrimSuffix(string(key), "\x00"))
	}
	for i, r := range reads {
		if r.Parent != read {
			continue
		}
		b.WriteString("(")
		if c := tables[i].Child; c != nil {
			if c[row] >= 0 {
				writeRow(b, reads, tables, i, int(c[row]))
			}
		} else {
			for place, above := range tables[i].Parent {
				if int(above) == row {
					writeRow(b, reads, tables, i, tables[i].At(place))
				}
			}
		}
		b.WriteString(") ")
	}
	if read == 0 {
		b.WriteString("\n")
	}
}
