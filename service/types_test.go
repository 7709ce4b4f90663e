package service_test

import (
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"osprey/core/reference"
	"osprey/demo/demotest"
)

// TestTypes reads what the schema has: every type and field, where each comes from, and who uses it.
func TestTypes(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	res, err := http.Get(base + "/api/v1/types")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	var got struct {
		Types []reference.Type
		Uses  map[string][]string
	}
	if err := json.Unmarshal(body, &got); err != nil {
		t.Fatal(err)
	}
	where := map[string]string{}
	kinds := map[string]*reference.Type{}
	unknown := []string{}
	for i := range got.Types {
		own := &got.Types[i]
		kinds[own.Name] = own
		for _, f := range own.Fields {
			if f.From != nil {
				where[own.Name+"."+f.Name] = strings.TrimPrefix(f.Source+" · "+f.Where, " · ")
			} else if own.Kind == "OBJECT" && own.Source != "" {
				unknown = append(unknown, own.Name+"."+f.Name)
			}
		}
	}
	for at, want := range map[string]string{
		"Craft.name": "", "Tanker.name": "registry · craft.name, text, indexed", "PortCall.id": "registry · port_calls.id, bigint, unique",
		"PortCall.craft": "registry · craft, imo = its craft_imo", "Tanker.inspections": "inspections · inspections, craft.imo = its imo",
		"Query.quays": "registry · quays", "Subscription.arrivals": "registry · changes of port_calls", "Mutation.arrive": "registry · adds to port_calls",
		"PortCall.fee": "fees · the function quote", "Tanker.callCount": "registry · a total of port_calls, craft_imo = its imo",
		"TideStation.events": "tides · events, station = its code",
	} {
		if where[at] != want {
			t.Errorf("%s comes from %q, and not from %q", at, where[at], want)
		}
	}
	if got.Types[0].Root != "query" || got.Types[0].Name != "Query" || kinds["Craft"].Kind != "INTERFACE" || kinds["Craft"].Source != "registry" || !slices.Contains(kinds["Craft"].Members, "Tanker") || !slices.Equal(kinds["Tanker"].Implements[:1], []string{"Craft"}) {
		t.Errorf("the kinds are told as %+v", kinds["Craft"])
	}
	if len(unknown) > 0 {
		t.Errorf("it is not told where %v come from", unknown)
	}
	if !slices.Contains(got.Uses["PortCall.arrivedAt"], "Board") || len(got.Uses["Mutation.arrive"]) != 1 {
		t.Errorf("it is used by %v", got.Uses["PortCall.arrivedAt"])
	}
}
