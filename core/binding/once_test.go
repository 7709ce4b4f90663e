package binding_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
)

// resolve binds types to one relational source, and one of documents.
func resolve(t *testing.T, types string) (*schema.Schema, []string) {
	t.Helper()
	documents := storetest.Catalogue("boards: _id text! members [int]? legs.number int legs.stops.code text grid.n int")
	documents.Sets["boards"].Sampled = true
	s, _, problems := binding.Resolve([]schema.Text{{Name: "a.graphql", Body: types}}, map[string]*binding.Source{
		"r": {Name: "r", Naming: binding.Snake, Capabilities: store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey},
			Catalogue: storetest.Catalogue("people: id int! uid uuid+ name text? grade text details json? tags [text]? day date\nthings: (a,b)! a int b int label text\npairs: person int+ thing_a int thing_b int extra json?\nkinds: id int! kind text weight int? kg int day date")},
		"d":    {Name: "d", Naming: binding.Exact, Catalogue: documents},
		"away": {Name: "away", Naming: binding.Snake, Capabilities: store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey}},
	})
	named(t, problems)
	var list []string
	for _, p := range problems {
		if p.Rule != "crossing" && p.Rule != "index" {
			list = append(list, p.Severity.String()+" "+p.Rule+" "+p.Coordinate+": "+p.Msg)
		}
		if p.Severity == language.Error && s.Position(p.Pos).Name == binding.SuppliedName {
			t.Errorf("a finding is about a supplied text: %s", p.Msg)
		}
	}
	return s, list
}

// TestOnce holds that one mistake is one finding, at what was written, and that what
// cannot be is left out of supplied types without a word.
func TestOnce(t *testing.T) {
	const person = `type Person @stored(in: "r", as: "people", key: "id") { id: ID! name: String } `
	const board = `type Board @stored(in: "d", as: "boards", key: "_id") { id: ID! @at(path: "_id") `
	for name, test := range map[string]struct{ types, want string }{
		"a wrong column": {`type Query { people(nme: String, filter: PersonFilter, sort: [PersonSort!]): [Person!] @read(sort: "nme") } type Person @stored(in: "r", as: "people", key: "id") { id: ID! nme: String }`,
			`error column Person.nme: the column of Person.nme is "nme", which the table people in r does not have; did you mean "name"?`},
		"a wrong column of an interface": {`type Query { all(filter: ThingFilter, sort: [ThingSort!]): [Thing!] @read } interface Thing @stored(in: "r", as: "kinds", key: "id") @kind(by: "kind") { id: ID! nme: String @at(path: "nme") } type A implements Thing { id: ID! nme: String } type B implements Thing { id: ID! nme: String }`,
			`error column Thing.nme: the column of Thing.nme is "nme", which the table kinds in r does not have`},
		"nested in documents and in JSON": {`type Query { boards(filter: BoardFilter, sort: [BoardSort!]): [Board!] @read } ` + board + ` legs: [Leg!] } type Leg { number: Int stops: [Stop!] to: Stop grid(filter: StopFilter): [Stop!] } type Stop { code: String legs: [Leg!] }`, `warning column Leg.to: the column of Leg.to is "legs.to", which none of the sampled records of boards in d has; warning column Leg.grid: the column of Leg.grid is "legs.grid", which none of the sampled records of boards in d has; warning column Stop.legs: the column of Stop.legs is "legs.stops.legs", which none of the sampled records of boards in d has; did you mean "legs.stops.code"?`},
		"what is required of one kind": {`type Query { all: [Thing!] @read } interface Thing @stored(in: "r", as: "kinds", key: "id") @kind(by: "kind") { id: ID! } type A implements Thing { id: ID! weight: Int! } type B implements Thing { id: ID! kg: Int! }`,
			`warning nullable A.weight: A.weight is required, and kinds.weight in r may be NULL: that every A has it is taken on trust, and one without is an error where it is read`},
		"pairs with a composite key": {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! things: [Thing!]! @related(through: {set: "pairs", here: "person", there: ["thing_a", "thing_b"]}) } type Thing @stored(in: "r", as: "things", key: ["a", "b"]) { a: Int! b: Int! people: [Person!]! @related(through: {set: "pairs", here: ["thing_a", "thing_b"], there: "person"}) }`, ``},
		"keys that never meet": {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! boss: [Person!] @related(here: "id", there: "uid") }`,
			`error relationship Person.boss: Person.boss relates people.id, which is int, to people.uid, which is uuid: the one is never equal to the other`},
		"days and uuids":                          {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! same: [Person!] @related(here: "day", there: "uid") }`, `error relationship Person.same: Person.same relates people.day, which is date, to people.uid, which is uuid: the one is never equal to the other`},
		"a list of keys":                          {`type Query { boards: [Board!] @read } ` + board + ` members: [Person!]! @related(here: "members", there: "id") } ` + person, ``},
		"a list of keys to one":                   {`type Query { boards: [Board!] @read } ` + board + ` chair: Person @related(here: "members", there: "id") } ` + person, `error unique Board.chair: Board.chair promises one Person, and relates boards.members to people.id, one of which holds a list of keys`},
		"a column of JSON to one":                 {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! friend: Person @related(here: "details", there: "id") }`, `error relationship Person.friend: Person.friend relates people.details, which is json, to people.id, which is int: the one is never equal to the other`},
		"keys inside JSON of which nothing tells": {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! friends: [Person!]! @related(here: "details.friends", there: "id") }`, `warning relationship Person.friends: nothing says whether people.details.friends holds one key or a list of keys: Person.friends is read in a request of its own`},
		"keys inside JSON that a field tells":     {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! details: Details ids: [Int] @at(path: "details.friends") friends: [Person!]! @related(here: "details.friends", there: "id") led: [Person!]! @related(here: "id", there: "details.lead") } type Details { lead: Int }`, ``},
		"keys inside JSON of a pair":              {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! boss: Person @related(here: "details.boss", there: "id") team: [Person!]! @related(here: "id", there: "details.boss") }`, ``},
		"pairs told inside JSON":                  {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! others: [Person!]! @related(through: {set: "pairs", here: "person", there: "extra.other"}) }`, `error not-supported Person.others: the pairs of Person.others in pairs are told by extra.other, which is inside a column of JSON`},
		"subscriptions":                           {`type Query { people: [Person!] @read } type Subscription { moved: Person } ` + person, `error unbound Subscription.moved: nothing says where Subscription.moved comes from`},
		"a mutation":                              {`type Query { people: [Person!] @read } type Mutation { move(id: ID!): Person } ` + person, `error unbound Mutation.move: nothing says where Mutation.move comes from`},
		"a path that is no path":                  {`type Query { people: [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! note: String @at(path: "details..note") }`, `error column Person.note: the column of Person.note is "details..note", which the table people in r does not have`},
		"a column of JSON as a whole":             {`scalar Any type Query { people(filter: By): [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! details: Any } input By { details: AnyFilter }`, `error type-fits By.details: the argument By.details is of the type Any, and people.details is json; JSON is not compared as a whole`},
		"a list of keys among keys":               {`type Query { boards: [Board!] @read } ` + board + ` things: [Thing!]! @related(here: ["members", "_id"], there: ["a", "label"]) } type Thing @stored(in: "r", as: "things", key: ["a", "b"]) { a: Int! }`, `error not-supported Board.things: Board.things relates boards.members, boards._id to things.a, things.label, one of which holds a list of keys`},
		"a list of lists of records":              {`type Query { boards: [[Board!]] @read } ` + board + ` }`, `error relationship Query.boards: Query.boards is a list of lists, and what it reads is one list`},
		"a store that is not there":               {`type Query { people(filter: PersonFilter, sort: [PersonSort!]): [Person!] @read one(id: ID!): Person @read pages: PersonConnection @read } type Person @stored(in: "away", as: "people") { id: ID! name: String! boss: Person @related team: [Person!]! @related boards: [Board!]! @related(there: "_id") things: [Thing!] @related(through: {set: "pairs", here: "person", there: ["a", "b"]}) } type Thing @stored(in: "away") { a: Int! } ` + board + ` chair: Person @related people: [Person!]! @related }`, ``},
		"an object of no entries":                 {`type Query { a: Made @computed(expr: "{'x': 1, 'z': 2}") } type Made { x: Int! y: Int! }`, `error computed Query.a: the expression of Query.a has the entry "z", which is no field of Made; error computed Query.a: the expression of Query.a has no entry "y", which is required`},
		"an expression of records of others":      {`type Query { people: [Person!] @read a: [Person!] @computed(expr: "record.people + record.people") } ` + person, `error computed Query.a: the expression of Query.a cannot be used: the records that it gives must be some of one list of the record, or one of them`},
		"made of related fields":                  {`type Query { a: [Made!] @computed(expr: "[{'id': 1}]") } type Made { id: ID! person: Person @related(here: "id") } ` + person, `error computed Made.person: Made.person has arguments, or says where it comes from, and the expression of Query.a makes it of values`},
		"comparisons that a uuid has not":         {`type Query { people(filter: By): [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! uid: String } input By { uid: StringFilter }`, `error filter By.uid: the predicate By.uid has "above", and the values of people.uid have no order`},
		"comparisons that a day has not":          {`type Query { people(filter: By): [Person!] @read } type Person @stored(in: "r", as: "people", key: "id") { id: ID! day: String } input By { day: StringFilter }`, `error filter By.day: the predicate By.day has "contains", and people.day is date and not text`},
		"sort keys of several sets": {`type Query { all(sort: [By!]): [Named!] @read } interface Named { id: ID! boss: Person } input By @oneOf { boss: PersonSort } ` +
			`type Person implements Named @stored(in: "r", as: "people", key: "id") { id: ID! boss: Person @related(here: "id", there: "id") } type Day implements Named @stored(in: "r", as: "kinds", key: "id") { id: ID! boss: Person @related(here: "id", there: "id") }`,
			`error argument By.boss: the sort key By.boss leads to other records, and Query.all sorts the records of several sets as one list`},
		"sort keys without a common order": {`type Query { all(sort: [By!]): [Named!] @read } interface Named { id: ID! name: String } input By @oneOf { name: Direction } ` +
			`type Person implements Named @stored(in: "r", as: "people", key: "id") { id: ID! name: String } type Day implements Named @stored(in: "r", as: "kinds", key: "id") { id: ID! name: String @at(path: "day") }`,
			`error argument By.name: the sort key By.name puts people.name, which is text, and kinds.day, which is date, into one list, and they have no common order`},
		"a group with an argument": {`type Query { port(a: Int): Port } type Port { people: [Person!] @read } ` + person, `error argument Query.port(a:): nothing uses the argument "a" of Query.port`},
		"a group of nothing":       {`type Query { port: Port } type Port { name: String }`, `error unbound Query.port: nothing says where Query.port comes from`},
		"a field of a group":       {`type Query { port: Port } type Port { people: [Person!] @read name: String } ` + person, `error unbound Port.name: nothing says where Port.name comes from`},
	} {
		_, got := resolve(t, test.types)
		if joined := strings.Join(got, "; "); joined != test.want && (test.want == "" || !strings.HasPrefix(joined, test.want) || len(got) > 1) {
			t.Errorf("%s reports\n%s\nwant\n%s", name, strings.Join(got, "\n"), test.want)
		}
	}
	s, _ := resolve(t, `type Query { boards(filter: BoardFilter, sort: [BoardSort!]): [Board!] @read people(filter: PersonFilter): [Person!] @read }
		type Board @stored(in: "d", as: "boards", key: "_id") { id: ID! @at(path: "_id") legs: [Leg!] members: [Person!] @related(here: "members", there: "id") }
		type Leg { number: Int stops(filter: StopFilter): [Stop!] } type Stop { code: String }
		type Person @stored(in: "r", as: "people", key: "id") { id: ID! name: String uid: String day: String details: Details tags: [String!] friends: [Person!] @related(here: "details", there: "id") } type Details { note: String inner(filter: DetailsFilter): [Details!] }`)
	for name, want := range map[string]string{"BoardFilter": "all any not id legs", "LegFilter": "all any not number stops", "PersonFilter": "all any not id name uid day details", "StringFilter": "is isNot in notIn above atLeast below atMost contains startsWith endsWith missing",
		"StringEqualityFilter": "is isNot in notIn missing", "StringOrderFilter": "is isNot in notIn above atLeast below atMost missing", "DetailsFilter": "all any not note"} {
		if got := strings.Join(schema.InputNames(s.Type(name).(*schema.InputObject).Fields), " "); got != want {
			t.Errorf("%s has %q, want %q", name, got, want)
		}
	}
	tests := s.Type("PersonFilter").(*schema.InputObject)
	for field, want := range map[string]string{"name": "StringFilter", "uid": "StringEqualityFilter", "day": "StringOrderFilter", "id": "IDFilter"} {
		if got := tests.Field(field).Type.String(); got != want {
			t.Errorf("PersonFilter.%s is of the type %s, want %s", field, got, want)
		}
	}
	s, got := resolve(t, `type Query { all(sort: [NamedSort!], filter: NamedFilter): [Named!] @read } interface Named { id: ID! name: String note: String }
		type Person implements Named @stored(in: "r", as: "people", key: "id") { id: ID! name: String note: String @at(path: "name") }
		type Day implements Named @stored(in: "r", as: "kinds", key: "id") { id: ID! name: String @at(path: "day") note: String @at(path: "kind") }`)
	if len(got) > 0 {
		t.Errorf("records of two sets are reported: %s", got)
	}
	if got := strings.Join(schema.InputNames(s.Type("NamedSort").(*schema.InputObject).Fields), " "); got != "id note" {
		t.Errorf("what records of two sets are sorted by is %q, want what can be put in one order", got)
	}
	if got := s.Type("NamedFilter").(*schema.InputObject).Field("name").Type.String(); got != "StringOrderFilter" {
		t.Errorf("a name that is a day in one of two sets is compared by %s", got)
	}
}
