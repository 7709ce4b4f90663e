package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"osprey/demo/demotest"
	"osprey/project"
)

// TestBrowse shows what the stores of the harbour hold, and records as they are there, of every kind of store; and says what cannot
// be shown.
func TestBrowse(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	get := func(path string, into any) (status int, text string) {
		t.Helper()
		res, err := http.Get(base + path)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		if into != nil {
			if err := json.Unmarshal(body, into); err != nil {
				t.Fatalf("%s answers %s", path, body)
			}
		}
		return res.StatusCode, string(body)
	}
	if a := ask(t, base, "{ quays { name } }", nil); len(a.Errors) > 0 {
		t.Fatal(a.Errors)
	}
	var all struct{ Sources []project.SourceView }
	get("/api/v1/sources", &all)
	sets := map[string]project.SetView{}
	for _, s := range all.Sources {
		for _, set := range s.Sets {
			sets[s.Name+"."+set.Name] = set
		}
		if s.Name == "registry" && (len(s.History) == 0 || s.History[0].Requests == 0 || s.Tells != "triggers" || s.State == nil) {
			t.Errorf("of the registry is told %+v", s.History)
		}
	}
	calls := sets["registry.port_calls"]
	if !slices.Equal(calls.Key, []string{"id"}) || !slices.Contains(calls.Types, "PortCall") || !calls.Told || !slices.ContainsFunc(calls.Fields, func(f project.FieldView) bool { return f.Name == "craft_imo" && f.Leads == "craft.imo" && f.Indexed }) {
		t.Errorf("of port calls is told %+v", calls)
	}
	if sets["inspections.inspections"].Name == "" || sets["tides.stations"].Name == "" {
		t.Error("not all sources tell what they hold")
	}
	rows := func(source string, query ...string) (out project.Browsed) {
		t.Helper()
		v := url.Values{}
		for i := 0; i < len(query); i += 2 {
			v.Add(query[i], query[i+1])
		}
		if status, text := get("/api/v1/sources/"+source+"/rows?"+v.Encode(), &out); status != http.StatusOK {
			t.Fatalf("%s %v answers %d %s", source, query, status, text)
		}
		return out
	}
	column := func(b project.Browsed, name string) (list []string) {
		at := slices.IndexFunc(b.Columns, func(c project.FieldView) bool { return c.Name == name })
		for _, row := range b.Rows {
			list = append(list, fmt.Sprint(row[at]))
		}
		return list
	}
	statements := demotest.Statements(t)
	from := statements()
	b := rows("registry", "set", "port_calls", "sort", "-id", "limit", "3", "offset", "2", "where", "id atMost 100", "where", "purpose is load")
	if n := statements() - from; n != 1 {
		t.Errorf("the database was asked %d statements", n)
	}
	ids := column(b, "id")
	if len(ids) != 3 || !b.More || b.Here || !slices.Contains(column(b, "purpose"), "load") || ids[0] <= ids[1] {
		t.Errorf("shown are %v, further ones %t", ids, b.More)
	}
	if b = rows("registry", "set", "craft", "where", "name contains er", "where", "imo above 9100000", "limit", "5"); len(b.Rows) != 5 || slices.ContainsFunc(column(b, "name"), func(n string) bool { return !strings.Contains(n, "er") }) {
		t.Errorf("shown are %v", column(b, "name"))
	}
	if b = rows("registry", "set", "port_calls", "where", "departed_at missing", "limit", "1"); len(b.Rows) != 1 || column(b, "departed_at")[0] != "<nil>" {
		t.Errorf("shown are %v", b.Rows)
	}
	if b = rows("inspections", "set", "inspections", "sort", "outcome", "limit", "2"); len(b.Rows) != 2 || !slices.Contains(column(b, "outcome"), "deficient") {
		t.Errorf("of inspections, %v are shown", column(b, "outcome"))
	}
	if b = rows("tides", "set", "stations", "sort", "-code", "limit", "3", "offset", "1"); !b.Here || !b.More || strings.Join(column(b, "code"), " ") != "TAR SKE NOR" {
		t.Errorf("of stations, %v are shown", column(b, "code"))
	}
	for query, want := range map[string]string{
		"registry/rows?set=nothing":                      "the source registry has no nothing",
		"nowhere/rows?set=craft":                         "there is no source nowhere",
		"registry/rows?set=craft&limit=0":                "the parameter limit is 0",
		"registry/rows?set=craft&limit=1000":             "the parameter limit is 1000",
		"registry/rows?set=craft&offset=-1":              "the parameter offset is -1",
		"registry/rows?set=craft&where=imo":              "the parameter where is imo",
		"registry/rows?set=craft&where=imo+is+x'--":      "imo is a int, which",
		"registry/rows?set=craft&where=nothing+is+1":     "craft has no field nothing",
		"registry/rows?set=craft&where=imo+like+1":       `"like\" is no comparison`,
		"registry/rows?set=craft&where=imo+contains+1":   "imo is no text",
		"registry/rows?set=craft&sort=nothing":           "cannot be sorted by nothing",
		"tides/rows?set=contacts":                        "contacts cannot be read as a whole",
		"registry/rows?set=pg_catalog.pg_authid":         "has no pg_catalog.pg_authid",
		"registry/rows?set=" + strings.Repeat("x", 3000): "the source registry has no xxx",
	} {
		if status, text := get("/api/v1/sources/"+query, nil); status != http.StatusBadRequest || !strings.Contains(text, want) {
			t.Errorf("%.80s answers %d %.300s", query, status, text)
		}
	}
	if _, text := get("/api/v1/findings", nil); !strings.Contains(text, "TideStation.contact is read from contacts") || !strings.Contains(text, "Subscription.arrivals is told") {
		t.Errorf("the findings are %.400s", text)
	}
}
