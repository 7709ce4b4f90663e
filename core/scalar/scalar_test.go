package scalar_test

import (
	"testing"
	"time"

	"osprey/core/expression"
	"osprey/core/scalar"
	"osprey/core/store"
)

// TestTable holds that each entry of the table says all that is asked of it, and
// that no two claim the same.
func TestTable(t *testing.T) {
	natural := map[store.Kind]string{}
	for _, name := range []string{"Int", "Float", "String", "Boolean", "ID", "DateTime", "Date", "Time", "Duration", "UUID", "URL", "JSON", "Decimal", "Int64"} {
		s := scalar.Named(name)
		if s == nil || s.Name != name || s.Description == "" || s.Parse == nil || len(s.Columns) == 0 {
			t.Fatalf("%s is %+v", name, s)
		}
		if s.Predeclared != (s.SpecifiedBy == "") {
			t.Errorf("%s is predeclared %t, and specified by %q", name, s.Predeclared, s.SpecifiedBy)
		}
		for _, kind := range s.Natural {
			if natural[kind] != "" || scalar.Natural(kind) != s {
				t.Errorf("%s and %s hold %s as it is", name, natural[kind], kind)
			}
			natural[kind] = name
			if _, ok := s.Column(kind); !ok {
				t.Errorf("%s holds %s as it is, and no column of that kind serves it", name, kind)
			}
		}
		if c, ok := s.Column(store.Unknown); !ok || c != s.Columns[0] {
			t.Errorf("where the store does not say, %s is asked for as %+v", name, c)
		}
		if scalar.IsFree(name) != (name == "JSON") {
			t.Errorf("%s is free: %t", name, scalar.IsFree(name))
		}
	}
	if len(scalar.Predeclared()) != 5 || scalar.Named("Weight") != nil || !scalar.IsFree("Weight") || scalar.Natural(store.List) != nil {
		t.Error("there are others than those of the table")
	}
}

// TestTyped holds what expressions have of values.
func TestTyped(t *testing.T) {
	day := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for _, test := range []struct {
		name  string
		json  any
		want  any
		holds expression.Kind
	}{
		{"Int", 7.0, int64(7), expression.Int}, {"Int64", "9007199254740993", int64(9007199254740993), expression.Int}, {"Int64", "x", "x", expression.Int},
		{"Decimal", "12.50", 12.5, expression.Float}, {"Date", "2026-03-01", day, expression.Moment}, {"DateTime", "2026-03-01T00:00:00Z", day, expression.Moment}, {"DateTime", nil, nil, expression.Moment},
	} {
		s := scalar.Named(test.name)
		if got := s.Typed(test.json); got != test.want || s.Holds != test.holds {
			t.Errorf("%v of %s is %v (%v), want %v (%v)", test.json, test.name, got, s.Holds, test.want, test.holds)
		}
	}
}
