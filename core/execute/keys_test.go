package execute_test

import (
	"slices"
	"strings"
	"testing"

	"osprey/core/store"
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

// TestKeysThatDoNotFit tells of keys that are no key at all: nothing is found by them,
// and that is an error and not nothing.
func TestKeysThatDoNotFit(t *testing.T) {
	stores := map[string]*storetest.Memory{
		"documents": storetest.NewMemory(`boards: id int! chair int? members [int]?`, map[string]string{"boards": `[
			{"id": 1, "chair": 7, "members": [7, null, 12, 9, 7]}, {"id": 2, "chair": [7], "members": {"id": 9}}, {"id": 3, "chair": "none", "members": 9}, {"id": 4, "members": ["x", 9]}]`}),
		"registry": storetest.NewMemory(`people: id int! name text`, map[string]string{"people": `[{"id": 7, "name": "Oda"}, {"id": 9, "name": "Per"}]`}),
	}
	e := newEngineOf(t, `
type Query { boards: [Board!]! @read }
type Board @stored(in: "documents", as: "boards", key: "id") { id: ID! chair: Person @related(here: "chair", there: "id") members: [Person!] @related(here: "members", there: "id") }
type Person @stored(in: "registry", as: "people", key: "id") { name: String }
`, stores)
	answer, errs := e.ask(t, `{ boards { chair { name } members { name } } }`)
	const want = `{"boards":[{"chair":{"name":"Oda"},"members":[{"name":"Oda"},{"name":"Per"},{"name":"Oda"}]},{"chair":null,"members":[]},{"chair":null,"members":[{"name":"Per"}]},{"chair":null,"members":[{"name":"Per"}]}]}`
	const wrong = "BAD_VALUE [boards 1 chair]: Board.chair: the key is not what it is taken for: expected a whole number, found a list\n" +
		"BAD_VALUE [boards 2 chair]: Board.chair: the key is not what it is taken for: expected a whole number, found text"
	if answer != want || errs != wrong {
		t.Errorf("it answers %s\n%s\nwant %s\n%s", answer, errs, want, wrong)
	}
}

// TestListsWithoutKeys holds that where related records cannot be had, a list of keys
// that has none is an empty list and no error.
func TestListsWithoutKeys(t *testing.T) {
	const types = `
type Query { boards: [Board!]! @read(sort: "id") }
type Board @stored(in: "a", as: "boards", key: "id") { id: Int! tugs: [Tug!] @related(here: "members", there: "id") }
type Tug @stored(in: "b", as: "tugs", key: "id") { id: Int! code: Int }
`
	stores := map[string]*storetest.Memory{
		"a": storetest.NewMemory("boards: id int! members [int]?", map[string]string{
			"boards": `[{"id": 1, "members": [3]}, {"id": 2, "members": []}, {"id": 3, "members": [null, null]}, {"id": 4}, {"id": 5, "members": [null, 4]}]`}),
		"b": storetest.NewMemory("tugs: id int! code int", map[string]string{"tugs": `[{"id": 3, "code": 5}]`}),
	}
	e := newEngineOf(t, types, stores)
	const all = `{ boards { tugs { code } } }`
	if data, errs := e.ask(t, all); data != `{"boards":[{"tugs":[{"code":5}]},{"tugs":[]},{"tugs":[]},{"tugs":[]},{"tugs":[]}]}` || errs != "" {
		t.Fatalf("gives %s\n%s", data, errs)
	}
	stores["b"].Fail = func(string) error { return store.NotReady(nil) }
	data, errs := e.ask(t, all)
	if data != `{"boards":[{"tugs":null},{"tugs":[]},{"tugs":[]},{"tugs":[]},{"tugs":null}]}` || strings.Count(errs, "STORE_DOWN") != 2 {
		t.Errorf("without the store of the others it gives %s\n%s", data, errs)
	}
}
