package execute_test

import (
	"strings"
	"testing"

	"osprey/core/store/storetest"
)

const given = `
type Query {
  quays: [Quay!]! @read
  stations: [Station!]! @read
  harbour: Harbour!
  survey: Survey! @computed(expr: "{'both': record.quays.filter(q, q.code in record.stations.map(s, s.code)), 'onlyQuays': record.quays.filter(q, !(q.code in record.stations.map(s, s.code))), 'onlyStations': record.stations.filter(s, !(s.code in record.quays.map(q, q.code))), 'count': record.quays.size()}")
  shouts: [String!]! @computed(expr: "record.quays.map(q, q.code + '!')")
}
"Groups what the harbour is."
type Harbour {
  quays: [Quay!]! @read
  busy: Boolean! @computed(expr: "record.quays.exists(q, q.calls.size() > 2)")
  office: Office
  again: Harbour
}
type Office { stations: [Station!]! @read double(n: Int!): Int @computed(expr: "args.n * 2") }
type Survey { both: [Quay!]! onlyQuays: [Quay!]! onlyStations: [Station!]! count: Int! note: String }
type Quay @stored(in: "a", as: "quays", key: "code") {
  code: ID!
  length: Float
  calls: [Call!]! @related(here: "code", there: "quay")
  long(above: Int = 3): [Call!]! @computed(expr: "record.calls.filter(c, c.n > args.above)")
  fleet: [Craft] @computed(expr: "record.calls.map(c, c.n > 2, c.craft)")
  first: Call @computed(expr: "record.calls.size() > 0 ? record.calls[0] : null")
  price: Money @computed(expr: "{'amount': record.length * 2.0, 'currency': 'NOK'}")
  prices: [Money!] @computed(expr: "record.calls.map(c, {'amount': double(c.n), 'currency': 'NOK'})")
  wrong: [Money!] @computed(expr: "record.calls.map(c, {'amount': 'x', 'currency': 'NOK'})")
}
type Money { amount: Float currency: String! }
type Call @stored(in: "a", as: "calls", key: "id") { id: ID! n: Int quay: Quay @related(here: "quay") craft: Craft @related(here: "craft") twice: Int @computed(expr: "record.n * 2") }
type Craft @stored(in: "b", as: "craft", key: "imo") { imo: ID! name: String }
type Station @stored(in: "b", as: "stations", key: "code") { code: ID! name: String }
`

func givenStores() map[string]*storetest.Memory {
	return map[string]*storetest.Memory{
		"a": storetest.NewMemory("quays: code text! length float?\ncalls: id int! n int? quay text craft int?", map[string]string{
			"quays": `[{"code": "A", "length": 10}, {"code": "B"}, {"code": "C", "length": 7}]`,
			"calls": `[{"id": 1, "n": 5, "quay": "A", "craft": 100}, {"id": 2, "n": 2, "quay": "A", "craft": 200}, {"id": 3, "n": 9, "quay": "A", "craft": 300}, {"id": 4, "n": 4, "quay": "C", "craft": 100}]`}),
		"b": storetest.NewMemory("craft: imo int! name text\nstations: code text! name text", map[string]string{
			"craft":    `[{"imo": 100, "name": "Amber"}, {"imo": 200, "name": "Bright"}, {"imo": 300, "name": "Cold"}]`,
			"stations": `[{"code": "B", "name": "Bar"}, {"code": "C", "name": "Cape"}, {"code": "D", "name": "Deep"}]`}),
	}
}

// TestGiven answers what expressions give beyond single values: records that were read,
// whose selection goes on from those only; objects made of values; and objects that
// group root fields, or the records of several reads.
func TestGiven(t *testing.T) {
	for _, test := range []struct{ text, want, errs, asked string }{
		{`{ quays { code long { id twice craft { name } } } }`,
			`{"quays":[{"code":"A","long":[{"id":"1","twice":10,"craft":{"name":"Amber"}},{"id":"3","twice":18,"craft":{"name":"Cold"}}]},{"code":"B","long":[]},{"code":"C","long":[{"id":"4","twice":8,"craft":{"name":"Amber"}}]}]}`, ``,
			"quays; calls A B C | craft 100 300"},
		{`{ quays { long(above: 8) { id } first { id quay { code } } } }`,
			`{"quays":[{"long":[{"id":"3"}],"first":{"id":"1","quay":{"code":"A"}}},{"long":[],"first":null},{"long":[],"first":{"id":"4","quay":{"code":"C"}}}]}`, ``, "quays; calls A B C; quays A C |"},
		{`{ quays { fleet { name } } }`, `{"quays":[{"fleet":[{"name":"Amber"},{"name":"Cold"}]},{"fleet":[]},{"fleet":[{"name":"Amber"}]}]}`, ``, "quays; calls A B C | craft 100 200 300"},
		{`{ quays { price { amount currency } prices { amount } } }`,
			`{"quays":[{"price":{"amount":20,"currency":"NOK"},"prices":[{"amount":5},{"amount":2},{"amount":9}]},{"price":{"amount":null,"currency":"NOK"},"prices":[]},{"price":{"amount":14,"currency":"NOK"},"prices":[{"amount":4}]}]}`, ``, "quays; calls A B C |"},
		{`{ quays { wrong { currency amount } } }`, `{"quays":[{"wrong":[{"currency":"NOK","amount":null},{"currency":"NOK","amount":null},{"currency":"NOK","amount":null}]},{"wrong":[]},{"wrong":[{"currency":"NOK","amount":null}]}]}`,
			"BAD_VALUE [quays 0 wrong 0 amount]: Money.amount: expected a number, found text\nBAD_VALUE [quays 0 wrong 1 amount]: Money.amount: expected a number, found text\nBAD_VALUE [quays 0 wrong 2 amount]: Money.amount: expected a number, found text\nBAD_VALUE [quays 2 wrong 0 amount]: Money.amount: expected a number, found text", "quays; calls A B C |"},
		{`{ survey { __typename both { code length } onlyQuays { code calls { id } } onlyStations { name } count note } }`,
			`{"survey":{"__typename":"Survey","both":[{"code":"B","length":null},{"code":"C","length":7}],"onlyQuays":[{"code":"A","calls":[{"id":"1"},{"id":"2"},{"id":"3"}]}],"onlyStations":[{"name":"Deep"}],"count":3,"note":null}}`, ``,
			"quays; calls A | stations"},
		{`{ shouts }`, `{"shouts":["A!","B!","C!"]}`, ``, "quays |"},
		{`{ harbour { __typename quays { code } busy office { stations { code } double(n: 4) } again { again { office { twice: double(n: 1) } } } } }`,
			`{"harbour":{"__typename":"Harbour","quays":[{"code":"A"},{"code":"B"},{"code":"C"}],"busy":true,"office":{"stations":[{"code":"B"},{"code":"C"},{"code":"D"}],"double":8},"again":{"again":{"office":{"twice":2}}}}}`, ``,
			"quays; calls A B C | stations"},
		{`{ a: harbour { quays { code } } b: harbour { quays { length } } }`, `{"a":{"quays":[{"code":"A"},{"code":"B"},{"code":"C"}]},"b":{"quays":[{"length":10},{"length":null},{"length":7}]}}`, ``, "quays |"},
	} {
		stores := givenStores()
		e := newEngineOf(t, given, stores)
		got, errs := e.ask(t, test.text)
		asked := strings.TrimSpace(strings.Join(stores["a"].Asked(), "; ") + " | " + strings.Join(stores["b"].Asked(), "; "))
		if got != test.want || errs != test.errs || asked != test.asked {
			t.Errorf("%s\nanswers %s\n%s\nand asks %s\nwant    %s\n%s\nand     %s", test.text, got, errs, asked, test.want, test.errs, test.asked)
		}
	}
}
