package execute_test

import (
	"slices"
	"testing"

	"osprey/core/store/storetest"
)

const papers = `
type Query { papers: [Paper!]! @read }
type Paper @stored(in: "documents", as: "papers", key: "id") {
  id: ID!
  operator: Operator @related(here: "operator", there: "id")
  craft(limit: Int): [Craft!] @related(here: "operator", there: "operator")
  tide: Tide @related(here: "at", there: "at")
}
type Operator @stored(in: "registry", as: "operators", key: "id") { name: String! }
type Craft @stored(in: "registry", as: "craft", key: "imo") { name: String! }
type Tide @stored(in: "registry", as: "tides", key: "at") { height: Int! }
`

// TestKeysOfOtherKinds holds that a key in another spelling finds what the store
// that has it takes for the same, and that this is asked for once.
func TestKeysOfOtherKinds(t *testing.T) {
	stores := map[string]*storetest.Memory{
		"documents": storetest.NewMemory(`papers: id int! operator text? at text?`, map[string]string{"papers": `[
			{"id": 1, "operator": "0196F2A1-7C3E-7B7E-9D0C-5A8B1C2D3E4F", "at": "2026-03-01T06:00:00Z"},
			{"id": 2, "operator": "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f", "at": "2026-03-01T08:00:00+02:00"},
			{"id": 3, "operator": "nobody", "at": "at noon"},
			{"id": 4, "operator": null, "at": null}]`}),
		"registry": storetest.NewMemory(`
			operators: id uuid! name text
			craft: imo int! operator uuid+ name text
			tides: at time! height int`, map[string]string{
			"operators": `[{"id": "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f", "name": "Lundby"}]`,
			"craft":     `[{"imo": 1, "operator": "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f", "name": "Amber"}, {"imo": 2, "operator": "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f", "name": "Bright"}]`,
			"tides":     `[{"at": "2026-03-01T06:00:00Z", "height": 12}]`,
		}),
	}
	e := newEngineOf(t, papers, stores)
	answer, errs := e.ask(t, `{ papers { operator { name } craft(limit: 5) { name } tide { height } } }`)
	want := `{"papers":[` +
		`{"operator":{"name":"Lundby"},"craft":[{"name":"Amber"},{"name":"Bright"}],"tide":{"height":12}},` +
		`{"operator":{"name":"Lundby"},"craft":[{"name":"Amber"},{"name":"Bright"}],"tide":{"height":12}},` +
		`{"operator":null,"craft":[],"tide":null},{"operator":null,"craft":[],"tide":null}]}`
	if answer != want || errs != "" {
		t.Errorf("it answers %s %s\nwant %s", answer, errs, want)
	}
	asked := stores["registry"].Asked()
	slices.Sort(asked)
	const id = "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"
	if want := []string{"craft " + id, "operators " + id, "tides 1772344800000000"}; !slices.Equal(asked, want) {
		t.Errorf("the registry was asked %q", asked)
	}
}
