package words_test

import (
	"strings"
	"testing"

	"osprey/core/words"
)

// TestOf holds how names are split into words.
func TestOf(t *testing.T) {
	for name, want := range map[string]string{
		"PortCalls": "port calls", "port_calls": "port calls", "Port Calls": "port calls", "HTTPServer2": "http server2", "Größe": "groesse",
		"CUSTOMERS": "customers", "naïve café": "naive cafe", "a--b": "a b", "дом": "", "": "", "x": "x", "Łódź": "lodz", "orderID": "order id", "ID": "id", "2024 sales": "2024 sales",
	} {
		if got := strings.Join(words.Of(name), " "); got != want {
			t.Errorf("%q has the words %q, want %q", name, got, want)
		}
	}
}

// TestSingular holds singulars and plurals against each other.
func TestSingular(t *testing.T) {
	for many, one := range map[string]string{
		"pilots": "pilot", "companies": "company", "boxes": "box", "branches": "branch", "dishes": "dish", "addresses": "address", "houses": "house", "cases": "case",
		"people": "person", "children": "child", "indexes": "index", "keys": "key", "classes": "class", "sizes": "size", "buses": "bus",
	} {
		if got := words.Singular(many); got != one {
			t.Errorf("one of %s is %s, want %s", many, got, one)
		}
		if got := words.Plural(one); got != many {
			t.Errorf("several %s are %s, want %s", one, got, many)
		}
	}
	for _, word := range []string{"status", "series", "craft", "data", "gas", "address", "analysis", "pilot"} {
		if got := words.Singular(word); got != word && word != "data" {
			t.Errorf("%s is taken for the plural of %s", word, got)
		}
	}
	for name, want := range map[string]string{"PortCall": "PortCalls", "salesPerson": "salesPeople", "Person": "People", "DayOfWeek": "DayOfWeeks", "CrewChild": "CrewChildren"} {
		if got := words.Plural(name); got != want {
			t.Errorf("several %s are %s, want %s", name, got, want)
		}
	}
}
