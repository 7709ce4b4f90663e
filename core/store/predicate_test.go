package store_test

import (
	"encoding/json"
	"strings"
	"testing"

	"osprey/core/store"
)

// record decodes a record of the tests.
func record(t *testing.T, text string) store.Subject {
	t.Helper()
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		t.Fatal(err)
	}
	return store.JSONSubject{Value: v}
}

// column returns a column of values as JSON.
func column(t *testing.T, kind store.Kind, values ...string) store.Column {
	t.Helper()
	c := store.Column{Kind: kind}
	for _, text := range values {
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		var v any
		if err := d.Decode(&v); err != nil {
			t.Fatal(err)
		}
		c.AppendJSON(&store.Wanted{Kind: kind}, v)
	}
	return c
}

// TestPredicates pins what each comparison means, to every kind, and that a
// missing value fits none and fits every negation.
func TestPredicates(t *testing.T) {
	const craft = `{"imo": 9100112, "name": "Young Skua", "lengthM": 120.5, "priceT": "12.50", "big": 9007199254740993, "builtOn": "2019-05-03", "seen": "2026-03-01T08:30:00Z", "active": false, "empty": "", "nothing": null,
		"inspector": {"name": "Oda"}, "findings": [{"code": "F01", "severity": "major"}, {"code": "F02"}]}`
	for _, test := range []struct {
		op    store.Op
		path  string
		kind  store.Kind
		value string
		want  bool
	}{
		{store.Is, "imo", store.Int, `9100112`, true}, {store.Is, "imo", store.Int, `9100113`, false},
		{store.Is, "name", store.Text, `"Young Skua"`, true}, {store.Is, "name", store.Text, `"young skua"`, false}, {store.Is, "empty", store.Text, `""`, true},
		{store.Is, "big", store.Int, `9007199254740992`, false}, {store.Above, "big", store.Int, `9007199254740992`, true},
		{store.Is, "priceT", store.Decimal, `"12.5"`, true}, {store.Above, "priceT", store.Decimal, `"9.75"`, true}, {store.Below, "priceT", store.Decimal, `"12.500000000000000000001"`, true},
		{store.AtLeast, "priceT", store.Decimal, `"1e1"`, true}, {store.Is, "priceT", store.Decimal, `"1.25e1"`, true},
		{store.AtMost, "lengthM", store.Float, `120.5`, true}, {store.Below, "lengthM", store.Float, `120.5`, false}, {store.AtLeast, "lengthM", store.Float, `120.5`, true}, {store.Above, "lengthM", store.Float, `120.5`, false},
		{store.Above, "builtOn", store.Date, `"2019-05-02"`, true}, {store.Is, "seen", store.Time, `"2026-03-01T09:30:00+01:00"`, true}, {store.Is, "active", store.Bool, `false`, true},
		{store.Contains, "name", store.Text, `"g S"`, true}, {store.Contains, "name", store.Text, `""`, true}, {store.Contains, "name", store.Text, `"%"`, false},
		{store.StartsWith, "name", store.Text, `"Young"`, true}, {store.StartsWith, "name", store.Text, `"oung"`, false}, {store.EndsWith, "name", store.Text, `"Skua"`, true}, {store.EndsWith, "name", store.Text, `"Skua "`, false},
		{store.Is, "inspector.name", store.Text, `"Oda"`, true},
	} {
		in := &store.Input{Where: []store.Column{column(t, test.kind, test.value)}}
		c := store.Predicate{Op: test.op, Path: test.path, Kind: test.kind}
		if got := c.Fits(in, record(t, craft)); got != test.want {
			t.Errorf("%s op %d %s is %t", test.path, test.op, test.value, got)
		}
		not := store.Predicate{Op: store.Not, Of: []store.Predicate{c}}
		if not.Fits(in, record(t, craft)) == test.want {
			t.Errorf("%s op %d %s fits and does not fit", test.path, test.op, test.value)
		}
		for _, missing := range []string{"nothing", "nowhere"} {
			c.Path = missing
			if c.Fits(in, record(t, craft)) || !not.Fits(in, record(t, `{}`)) {
				t.Errorf("%s op %d %s: a missing value fits", missing, test.op, test.value)
			}
		}
		if none := (store.Input{Where: []store.Column{{Kind: test.kind}}}); c.Fits(&none, record(t, craft)) {
			t.Errorf("op %d without a value fits", test.op)
		}
	}
	is := func(path, value string) store.Predicate {
		return store.Predicate{Path: path, Kind: store.Text, Value: map[string]int{"F01": 0, "F02": 1, "major": 2}[value]}
	}
	in := &store.Input{Where: []store.Column{column(t, store.Text, `"F01"`), column(t, store.Text, `"F02"`), column(t, store.Text, `"major"`), column(t, store.Text, `"x"`, `null`, `"F02"`)}}
	with := func(of ...store.Predicate) store.Predicate {
		return store.Predicate{Op: store.With, Path: "findings", Of: of}
	}
	for name, test := range map[string]struct {
		c    store.Predicate
		want bool
	}{
		"all of none":                  {store.Predicate{Op: store.All}, true},
		"one of none":                  {store.Predicate{Op: store.Any}, false},
		"all":                          {store.Predicate{Op: store.All, Of: []store.Predicate{with(is("code", "F01")), with(is("code", "F02"))}}, true},
		"several of the same record":   {with(is("code", "F01"), is("severity", "major")), true},
		"several of different records": {with(is("code", "F02"), is("severity", "major")), false},
		"some record":                  {with(), true},
		"every record":                 {store.Predicate{Op: store.Not, Of: []store.Predicate{with(store.Predicate{Op: store.Not, Of: []store.Predicate{is("severity", "major")}})}}, false},
		"one of many":                  {with(store.Predicate{Path: "code", Kind: store.Text, Many: true, Value: 3}), true},
		"missing":                      {store.Predicate{Op: store.Missing, Path: "nothing", Kind: store.Text}, true},
		"not missing":                  {store.Predicate{Op: store.Missing, Path: "name", Kind: store.Text}, false},
		"a list that is one record":    {store.Predicate{Op: store.With, Path: "inspector"}, false},
		"a list that is not there":     {store.Predicate{Op: store.With, Path: "nothing"}, false},
	} {
		if got := test.c.Fits(in, record(t, craft)); got != test.want {
			t.Errorf("%s is %t", name, got)
		}
	}
	c := with(is("code", "F01"), is("severity", "major"))
	if paths := strings.Join((&store.Predicate{Op: store.Any, Of: []store.Predicate{c, is("name", "F01")}}).Paths(nil), " "); paths != "findings name" {
		t.Errorf("it looks at %s", paths)
	}
}

// TestAfter puts every pair of records in order by cursors.
func TestAfter(t *testing.T) {
	records := []string{`{"id": 1}`, `{"id": 2, "n": 1}`, `{"id": 3, "n": 1}`, `{"id": 4, "n": 2}`, `{"id": 5}`}
	for _, test := range []struct {
		by   store.Order
		want string
	}{
		{store.Order{Path: "n", Kind: store.Int}, "1 5 2 3 4"},
		{store.Order{Path: "n", Kind: store.Int, Nulls: store.NullsGreatest}, "2 3 4 1 5"},
		{store.Order{Path: "n", Kind: store.Int, Desc: true}, "4 2 3 1 5"},
		{store.Order{Path: "n", Kind: store.Int, Desc: true, Nulls: store.NullsGreatest}, "1 5 4 2 3"},
	} {
		by := []store.Order{test.by, {Path: "id", Kind: store.Int}}
		c := store.Predicate{Op: store.After, By: by}
		order := strings.Fields(test.want)
		for i, a := range order {
			var cursor store.Input
			for _, o := range by {
				value := store.Column{Kind: o.Kind}
				record(t, records[a[0]-'1']).Append(&value, &store.Wanted{Path: o.Path, Kind: o.Kind})
				cursor.Where = append(cursor.Where, value)
			}
			for j, b := range order {
				if got := c.Fits(&cursor, record(t, records[b[0]-'1'])); got != (j > i) {
					t.Errorf("%+v: %s behind %s is %t", test.by, b, a, got)
				}
			}
		}
	}
}
