package execute_test

import (
	"testing"

	"osprey/core/store/storetest"
)

// TestNestedLists writes lists of nested records, and lists of such lists, with
// items that are null or do not fit: each item is completed by itself (section
// 6.4.3), and the path of an error ends with its place.
func TestNestedLists(t *testing.T) {
	const text = `
type Query { all: [Warehouse!]! @read }
type Warehouse @stored(in: "a", as: "houses", key: "id") {
  id: ID!
  shelves(filter: ShelfFilter, sort: [ShelfSort!], limit: Int, offset: Int): [Shelf]
  must: [Shelf!] @at(path: "shelves")
  grid: [[Cell]!]
  deep: [[[Cell!]]] @at(path: "deep")
  highest: Int @computed(expr: "record.shelves.filter(s, s != null && s.no != null).size()")
  cells: Int @computed(expr: "record.grid.map(row, row.filter(c, c != null).size()).size()")
}
type Shelf { no: Int rows: [Shelf] keeper: Keeper @related(here: "keeper") }
type Cell { mark: String! }
type Keeper @stored(in: "b", as: "keepers", key: "id") { id: ID! name: String }
`
	stores := func() map[string]*storetest.Memory {
		return map[string]*storetest.Memory{
			"a": storetest.NewMemory(`houses: id int! shelves json? grid json? deep json?`, map[string]string{"houses": `[
				{"id": 1, "shelves": [{"no": 3, "keeper": 7}, null, {"no": 1, "keeper": 8, "rows": [null, {"no": 5}]}], "grid": [[{"mark": "a"}, null], [], [{"mark": "b"}]], "deep": [null, [], [null, [{"mark": "c"}], []]]},
				{"id": 2, "shelves": [], "grid": [null], "deep": [[[null]]]},
				{"id": 3, "shelves": {"no": 9}, "grid": [{"mark": "x"}], "deep": [[[{"mark": null}]], [[{"mark": "d"}]]]},
				{"id": 4, "shelves": [4, {"no": 2}, [{"no": 6}]]}]`}),
			"b": storetest.NewMemory(`keepers: id int! name text`, map[string]string{"keepers": `[{"id": 7, "name": "Oda"}, {"id": 8, "name": "Per"}]`}),
		}
	}
	for _, test := range []struct{ text, want, errs string }{
		{`{ all { shelves { no keeper { name } rows { no } } } }`,
			`{"all":[{"shelves":[{"no":3,"keeper":{"name":"Oda"},"rows":null},null,{"no":1,"keeper":{"name":"Per"},"rows":[null,{"no":5}]}]},{"shelves":[]},{"shelves":null},{"shelves":[null,{"no":2,"keeper":null,"rows":null},null]}]}`,
			"BAD_VALUE [all 2 shelves]: Warehouse.shelves: expected a list, found an object\n" +
				"BAD_VALUE [all 3 shelves 0]: Warehouse.shelves: expected an object, found a number\n" +
				"BAD_VALUE [all 3 shelves 2]: Warehouse.shelves: expected an object, found a list"},
		{`{ all { must { no } } }`, `{"all":[{"must":null},{"must":[]},{"must":null},{"must":null}]}`,
			"NOT_FOUND [all 0 must 1]: Warehouse.must is required, and there is no value for it\n" +
				"BAD_VALUE [all 2 must]: Warehouse.must: expected a list, found an object\n" +
				"BAD_VALUE [all 3 must 0]: Warehouse.must: expected an object, found a number"},
		{`{ all { grid { mark } } }`, `{"all":[{"grid":[[{"mark":"a"},null],[],[{"mark":"b"}]]},{"grid":null},{"grid":null},{"grid":null}]}`,
			"NOT_FOUND [all 1 grid 0]: Warehouse.grid is required, and there is no value for it\n" +
				"BAD_VALUE [all 2 grid 0]: Warehouse.grid: expected a list, found an object"},
		{`{ all { deep { mark } } }`, `{"all":[{"deep":[null,[],[null,[{"mark":"c"}],[]]]},{"deep":[[null]]},{"deep":[[null],[[{"mark":"d"}]]]},{"deep":null}]}`,
			"NOT_FOUND [all 1 deep 0 0 0]: Warehouse.deep is required, and there is no value for it\n" +
				"NOT_FOUND [all 2 deep 0 0 0 mark]: Cell.mark is required, and there is no value for it"},
		// Where a list is narrowed, what is null fits nothing; where it is only sorted
		// or cut, it is a record without values.
		{`{ all { shelves(filter: {no: {missing: false}}) { no } } }`, `{"all":[{"shelves":[{"no":3},{"no":1}]},{"shelves":[]},{"shelves":null},{"shelves":[{"no":2}]}]}`,
			"BAD_VALUE [all 2 shelves]: Warehouse.shelves: expected a list, found an object"},
		{`{ all { shelves(sort: [{no: ASC}], limit: 2) { no keeper { name } } } }`,
			`{"all":[{"shelves":[null,{"no":1,"keeper":{"name":"Per"}}]},{"shelves":[]},{"shelves":null},{"shelves":[null,null]}]}`,
			"BAD_VALUE [all 2 shelves]: Warehouse.shelves: expected a list, found an object\n" +
				"BAD_VALUE [all 3 shelves 0]: Warehouse.shelves: expected an object, found a number\n" +
				"BAD_VALUE [all 3 shelves 1]: Warehouse.shelves: expected an object, found a list"},
		{`{ all { id highest cells } }`, `{"all":[{"id":"1","highest":2,"cells":3},{"id":"2","highest":0,"cells":null},{"id":"3","highest":null,"cells":null},{"id":"4","highest":null,"cells":null}]}`,
			"NOT_FOUND [all 1 cells]: Warehouse.grid is required, and there is no value for it\n" +
				"BAD_VALUE [all 2 highest]: Warehouse.shelves: expected a list, found an object\n" +
				"BAD_VALUE [all 2 cells]: Warehouse.grid: expected a list, found an object\n" +
				"BAD_VALUE [all 3 highest]: Warehouse.shelves: expected an object, found a number"},
	} {
		e := newEngineOf(t, text, stores())
		got, errs := e.ask(t, test.text)
		if got != test.want || errs != test.errs {
			t.Errorf("%s\nanswers %s\n%s\nwant    %s\n%s", test.text, got, errs, test.want, test.errs)
		}
	}
}
