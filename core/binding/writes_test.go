package binding_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/language/languagetest"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
)

// quayside is a source with what can go wrong in writing: columns that the database fills
// and computes, a view, a table without a key, and records of two types in one.
func quayside() map[string]*binding.Source {
	catalogue := storetest.Catalogue(`
calls: id int!~ craft int+ berth int? plain text noted time~ twice int?^ papers json? tags [text]? kind text?=in|out code text? label text?
craft: imo int! name text
craft_now: imo int! name text
notes: text text?
moves: id int!~ kind text=in|out at time
towage: craft int! call int! role text? at time
shifts: id int!~ craft int call int`)
	catalogue.Sets["craft"].Index = append(catalogue.Sets["craft"].Index, []string{"name"})
	catalogue.Sets["shifts"].Index = [][]string{{"craft"}}
	catalogue.Sets["towage"].Keys = [][]string{{"craft", "call"}}
	calls := catalogue.Sets["calls"]
	calls.Keys = append(calls.Keys, []string{"code"}, []string{"label"})
	catalogue.Sets["craft_now"].ReadOnly = "it is a view"
	all := sources()
	all["db"] = &binding.Source{Name: "db", Kind: "postgres", Naming: binding.Exact, Catalogue: catalogue,
		Capabilities: store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey, Write: storetest.Writable()}}
	return all
}

const quaysideTypes = ` type Query { calls: [Call!] @read }
type Call @stored(in: "db", as: "calls", key: "id") { id: ID! craft: Craft! @related(here: "craft", there: "imo") berth: Int plain: String! noted: DateTime! twice: Int flag: String @at(path: "papers.flag") tags: [String!] kind: Kind code: String label: String }
type Craft @stored(in: "db", as: "craft", key: "imo") { imo: ID! name: String! }
enum Kind { IN @at(path: "in") OUT @at(path: "out") }`

// TestWriteFindings holds what check tells of fields that write.
func TestWriteFindings(t *testing.T) {
	const tugs = ` type Tug @stored(in: "db", as: "craft", key: "imo") { imo: ID! calls: [Call!]! @related(through: {set: "towage", here: "craft", there: "call"}) shifts: [Call!]! @related(through: {set: "shifts", here: "craft", there: "call"}) } type Never { x: Int`
	const boats = ` } type Boat @stored(in: "db", as: "craft", key: "imo") { imo: ID! name: String! calls: [Call!]! @related(here: "imo", there: "craft") tugs: [Boat!]! @related(here: "imo", there: "name") } type Never { x: Int`
	const moves = ` interface Move @stored(in: "db", as: "moves", key: "id") @kind(by: "kind") { id: ID! at: DateTime! } type In implements Move @kind(is: "in") { id: ID! at: DateTime! } type Out implements Move @kind(is: "out") { id: ID! at: DateTime! }`
	const papers = ` } type Paper @stored(in: "inspections", as: "inspections", key: "_id") { id: ID! @at(path: "_id") outcome: String findings: [Finding!] } type Finding { code: String! text: String } type Never { x: Int`
	var remedies languagetest.Remedies
	for _, test := range []struct{ mutation, want string }{
		{`a(call: CallAdd!): Call @add`, ``},
		{`a(craft: ID!, plain: String!): Call @add`, ``},
		{`a(calls: [CallAdd!]!): [Call!]! @add`, ``},
		{`a(id: ID!, change: CallChange!): Call @change`, ``},
		{`a(id: ID!, plain: String): Call @change`, ``},
		{`a(id: ID!): Call @remove`, ``},
		{`a(at: DateTime!): In @add } ` + moves + ` type Never { x: Int`, ``},
		{`a(id: ID!): Call`, `error unbound Mutation.a: nothing says where Mutation.a comes from → write @add, @change, @remove, @pair or @unpair behind it, or @computed(by: …) with a function that makes the change`},
		{`a(craft: ID!): Call @add`, `error write Mutation.a: Mutation.a adds to calls, and nothing fills plain, which it must have → give it in an argument, or let the store fill it`},
		{`a(craft: ID!, plain: String!, twice: Int): Call @add`, `error write Mutation.a(twice:): Mutation.a(twice:) gives calls.twice, which the store computes → leave it out`},
		{`a(craft: ID!, plain: String!, flag: String): Call @add`, `error not-supported Mutation.a(flag:): Mutation.a(flag:) gives calls.papers.flag, which is inside a column of JSON → give the column as a whole`},
		{`a(craft: ID!, plain: String!, name: String): Call @add`, `error argument Mutation.a(name:): Mutation.a(name:) is no field of Call → leave it out, or say with @at(path: "…") which stored field it is`},
		{`a(craft: ID!, plain: String!, berth: Boolean): Call @add`, `error type-fits Mutation.a(berth:)`},
		{`a(craft: ID!, plain: String!, berth: String): Call @add`, ``}, // a text that is no number is told when it comes
		{`a(craft: ID!, plain: String!, tags: String): Call @add`, `error type-fits Mutation.a(tags:)`},
		{`a(craft: ID!, plain: String!, x: String @at(path: "plain")): Call @add`, `error write Mutation.a(x:): Mutation.a gives calls.plain twice: as Call.plain and as Mutation.a(x:) → leave one of them out`},
		{`a(craft: ID!, plain: String!, kind: Odd): Call @add } enum Odd { UP`, `error column Odd.UP: the value Odd.UP is stored as "UP", which calls.kind in db never is`},
		{`a(calls: [CallAdd!]!): Call @add`, `error write Mutation.a: Mutation.a is one record, and what it is given is a list, or the other way round → make it [Call!]!`},
		{`a(call: CallAdd!): [Call!] @add`, `error write Mutation.a: Mutation.a is one record, and what it is given is a list, or the other way round → make it Call`},
		{`a(plain: String): Call @change`, `error write Mutation.a: Mutation.a does not say which Call is meant: nothing gives id → give it a required argument for each field of the key, or of another unique key, or an argument filter: CallFilter!`},
		{`a(id: ID, plain: String): Call @change`, `error write Mutation.a: Mutation.a does not say which Call is meant`},
		{`a(id: ID!): Call @change`, `error write Mutation.a: Mutation.a changes nothing → add an argument such as change: CallChange!, which Osprey supplies`},
		{`a(id: ID!, plain: String): Call! @change`, `warning nullable Mutation.a: Mutation.a is required`},
		{`a(id: ID!, change: C!): Call @change } input C { id: ID plain: String`, `error write C.id: C.id is a part of the key of Call, which does not change → leave it out`},
		{`a(id: ID!, plain: String): Call @remove`, `error argument Mutation.a(plain:): nothing uses the argument "plain" of Mutation.a → leave it out`},
		{`a(id: ID!, change: CallChange): Call @remove`, `error argument Mutation.a(change:)`},
		{`a(id: ID!, was: String @at(path: "plain"), plain: String): Call @change(expect: "was")`, ``},
		{`a(id: ID!, berth: Int!): Call @change(adjust: ["berth"])`, ``},
		{`a(id: ID!, kind: Kind): Call @remove(expect: "kind")`, ``},
		{`a(id: ID!, plain: String): Call @change(expect: "pain")`, `error write Mutation.a: Mutation.a has no argument "pain", which its directive names; did you mean "plain"?`},
		{`a(id: ID!, plain: String): Call @change(adjust: "plain")`, `error write Mutation.a(plain:): Mutation.a(plain:) is added to what is stored, and is no number → leave it out of adjust`},
		{`a(id: ID!, tags: [String!], berth: Int): Call @change(expect: "tags")`, `error write Mutation.a(tags:): Mutation.a(tags:) is compared with what is stored, and is no single value → leave it out of expect`},
		{`a(id: ID!, change: CallChange!): Call @change(expect: "change")`, `error write Mutation.a(change:)`},
		{`a(id: ID!, plain: String): Call @change(expect: "plain")`, `error write Mutation.a: Mutation.a changes nothing`},
		{`a(text: String): Note @add } type Note @stored(in: "db", as: "notes") { text: String`, `error write Mutation.a: Mutation.a writes to notes, and nothing tells its records apart → say with @stored(key: …) what does`},
		{`a(imo: ID!, name: String!): Now @add } type Now @stored(in: "db", as: "craft_now", key: "imo") { imo: ID! name: String!`, `error write Mutation.a: Mutation.a writes to craft_now, which cannot be written to: it is a view → write to a table, or let a function make the change`},
		{`a(name: String): Officer @add } type Officer @stored(in: "notices", as: "officers", key: "id") { name: String`, `error not-supported Mutation.a: Mutation.a writes to notices, and this version of Osprey does not write to sources of the kind rest yet`},
		{`a(at: DateTime!): Move @add }` + moves + ` type Never { x: Int`, `error write Mutation.a: Mutation.a adds a Move, and nothing says of which type → give the field the type of what it adds, such as In`},
		// Found by another unique key, or by a filter.
		{`a(code: String!, berth: Int): Call @change`, ``},
		{`a(code: String, berth: Int): Call @change`, `error write Mutation.a: Mutation.a does not say which Call is meant: nothing gives id`},
		{`a(code: String!, id: ID!): Call @change`, ``},
		{`a(code: String!, label: String!): Call @change`, `error write Mutation.a: Mutation.a could find its record by code, and by label → put what changes into an argument such as change: CallChange!`},
		{`a(code: String!, id: ID): Call @change`, `error write Mutation.a(id:): Mutation.a(id:) is a part of the key of Call, which does not change → leave it out`},
		{`a(code: String!, label: String!): Call @remove`, ``},
		{`a(filter: CallFilter!, change: CallChange!): [Call!]! @change`, ``},
		{`a(filter: CallFilter!, change: CallChange!): Call @change`, `error write Mutation.a: Mutation.a is one record, and what it is given is a list, or the other way round → make it [Call!]!`},
		{`a(filter: CallFilter, change: CallChange!): [Call!]! @change`, `error write Mutation.a(filter:): Mutation.a(filter:) may be left out, and then all records are meant → make it CallFilter!`},
		{`a(filter: CallFilter!, was: Int @at(path: "berth"), plain: String): [Call!]! @change(expect: "was")`, `error write Mutation.a: Mutation.a writes all that its filter finds, and cannot expect something of each → leave expect out, and put it into the filter`},
		{`a(filter: CallFilter!, plain: String): [Call!]! @remove`, `error argument Mutation.a(plain:): nothing uses the argument "plain" of Mutation.a → leave it out`},
		// What answers something else.
		{`a(filter: CallFilter!): Int! @remove(of: "Call")`, ``},
		{`a(filter: CallFilter!): Int! @remove`, `error write Mutation.a: Mutation.a does not say of which type the records are that it writes → write @remove(of: "…") with the type of the records`},
		{`a(filter: CallFilter!): Int! @remove(of: "Cal")`, `error write Mutation.a: Mutation.a writes records of the type "Cal", which is none of the schema's; did you mean "Call"?`},
		{`a(id: ID!): String @remove(of: "Call")`, `error write Mutation.a: Mutation.a is of the type String, which says nothing of what was written → make it Int!, which is how many there are, or give it the type of the records`},
		{`a(id: ID!): Call @remove(of: "Craft")`, `error write Mutation.a: Mutation.a writes records of the type Craft, and answers a Call → leave it out`},
		{`a(id: ID!): Gone @remove } type Gone { call: Call id: ID number: Int! @at(path: "id") count: Int!`, ``},
		{`a(id: ID!): Gone @remove(of: "Call") } type Gone { id: ID`, ``},
		{`a(id: ID!): Gone @remove } type Gone { id: ID`, `error write Mutation.a: Mutation.a does not say of which type`},
		{`a(id: ID!): [Gone!] @remove } type Gone { call: Call`, `error write Mutation.a: Mutation.a is a list of Gone, which is what is answered of all that is written together → make it Gone`},
		{`a(id: ID!): Gone @remove } type Gone { call: Call craft: Craft`, `error write Gone.craft: Gone.craft is a second field of records beside call, and what is written is of one type → leave one of them out`},
		{`a(id: ID!): Gone @remove } type Gone { call: Call plain: String`, `error write Gone.plain: Gone.plain is neither the records that were written, nor how many, nor a field of the key of Call → make it Int!, which is how many there are, or give it the name of a field of the key`},
		{`a(id: ID!): Gone @remove } type Gone { call: Call id: [ID!]`, `error write Gone.id: Gone.id is one record, and what it is given is a list, or the other way round → make it ID`},
		{`a(filter: CallFilter!): Gone @remove } type Gone { call: Call`, `error write Gone.call: Gone.call is one record, and what it is given is a list, or the other way round → make it [Call!]!`},
		// What nobody gives.
		{`a(craft: ID!): Call @add(set: "plain: 'x' + args.craft")`, ``},
		{`a(call: CallAdd!): Call @add(set: ["noted: now", "plain: uuid()"])`, ``},
		{`a(id: ID!, note: String!): Call @change(set: "plain: 'x' + args.note")`, ``}, // which no field has
		{`a(id: ID!, note: String!, other: String): Call @change(set: "plain: 'x' + args.note")`, `error argument Mutation.a(other:): Mutation.a(other:) is no field of Call`},
		{`a(id: ID!): Call @change(set: ["noted: now"], adjust: "berth: 1")`, ``},
		{`a(id: ID!): Call @change(set: "noted")`, `error write Mutation.a: Mutation.a sets "noted", which is not a field and what it gets → write "field: expression", such as "arrivedAt: now"`},
		{`a(id: ID!): Call @change(set: "note: now")`, `error write Mutation.a: Mutation.a names "note", which is no field of Call`},
		{`a(id: ID!): Call @change(set: "noted: 1")`, `error write Mutation.a: what noted is set to in Mutation.a cannot be used: `},
		{`a(id: ID!): Call @change(set: "noted: nw")`, `error write Mutation.a: what noted is set to in Mutation.a cannot be used: `},
		{`a(id: ID!): Call @change(set: "noted: args.x")`, `error write Mutation.a: what noted is set to in Mutation.a cannot be used: `},
		{`a(id: ID!, noted: DateTime): Call @change(set: "noted: now")`, `error write Mutation.a: Mutation.a gives calls.noted twice: as Call.noted and as an expression → leave one of them out`},
		{`a(id: ID!): Call @change(set: "id: 7")`, `error write Mutation.a: Mutation.a sets Call.id, which is a part of the key of Call and does not change → leave it out`},
		{`a(id: ID!): Call @change(set: "twice: 7")`, `error write Mutation.a: Mutation.a gives calls.twice, which the store computes → leave it out`},
		{`a(id: ID!): Call @change(set: "flag: 'x'")`, `error not-supported Mutation.a: Mutation.a gives calls.papers.flag, which is inside a column of JSON → give the column as a whole`},
		{`a(id: ID!): Call @change(adjust: "plain: 'x'")`, `error write Mutation.a: Mutation.a adds to Call.plain, which is no number → leave it out of adjust`},
		{`a(id: ID!): Call @change(set: ["plain: record.plain + '!'", "berth: record.berth == null ? 1 : record.berth"])`, ``},
		{`a(filter: CallFilter!): Int @change(of: "Call", set: "plain: record.plain + '!'")`, ``},
		{`a(id: ID!): Call @change(set: "plain: record.craft.name")`, `error write Mutation.a: what plain is set to in Mutation.a looks at record.craft, which is not stored in the record itself → leave it out, or let a function in the transaction do it`},
		{`a(craft: ID!): Call @add(set: "plain: record.plain")`, `error write Mutation.a: what plain is set to in Mutation.a cannot be used: `},
		{`a(id: ID!): Paper @change(set: "outcome: record.outcome + '!'")` + papers, `error write Mutation.a: what outcome is set to in Mutation.a looks at the record as it was, and in inspections, which has no transactions, another change could come between → leave it out, or count by adjust`},
		// What is changed if it is there.
		{`a(craft: ID!, plain: String!, code: String!): Call @add(replaces: "code")`, ``},
		{`a(craft: ID!, plain: String!, code: String!): Call @add(replaces: "cod")`, `error write Mutation.a: Mutation.a names "cod", which is no field of Call; did you mean "code"?`},
		{`a(craft: ID!, plain: String!): Call @add(replaces: "code")`, `error write Mutation.a: Mutation.a changes the record that has the same code, which nothing gives → give it in an argument`},
		{`a(craft: ID!, plain: String!): Call @add(replaces: "plain")`, `error write Mutation.a: Mutation.a changes the record that has the same plain, and nothing tells that only one has: there is no such unique key → name the fields of the primary key, or of another unique key`},
		// Records with others that refer to them.
		{`a(craft: CraftNew!): Boat @add } input CraftNew { imo: ID! name: String! calls: [CallNew!] } input CallNew { plain: String!` + boats, ``},
		{`a(craft: CraftNew!): Boat @add } input CraftNew { imo: ID! name: String! calls: CallNew } input CallNew { plain: String!` + boats, `error write CraftNew.calls: CraftNew.calls is one record, and what it is given is a list, or the other way round → make it [CallNew!]`},
		{`a(craft: CraftNew!): Boat @add } input CraftNew { imo: ID! name: String! calls: [CallNew!] } input CallNew { berth: Int` + boats, `error write Mutation.a: Mutation.a adds to calls, and nothing fills plain, which it must have`},
		{`a(craft: CraftNew!): Boat @add } input CraftNew { imo: ID! name: String! calls: [CallNew!] } input CallNew { plain: String! craft: ID!` + boats, `error write CallNew.craft: Mutation.a gives calls.craft twice`},
		{`a(craft: CraftNew!): Boat @add } input CraftNew { imo: ID! name: String! tugs: [CraftNew!]` + boats, `error write CraftNew.tugs: CraftNew.tugs has records of the type CraftNew within others of it → leave it out`},
		{`a(imo: ID!, craft: CraftNew!): Boat @change } input CraftNew { calls: [CallNew!] } input CallNew { plain: String!` + boats, `error argument CraftNew.calls: nothing of Mutation.a uses CraftNew.calls → leave it out`},
		// Lists of nested records.
		{`a(id: ID!, finding: FindingAdd!): Paper @add(into: "findings")` + papers, ``},
		{`a(id: ID!, finding: FindingAdd!): Paper @add(into: "finding")` + papers, `error write Mutation.a: Mutation.a writes to the list "finding", and Paper has no list of nested records of that name in a store that takes them one by one → name a list of records that are nested in documents`},
		{`a(id: ID!): Paper @add(into: "findings")` + papers, `error write Mutation.a: Mutation.a changes nothing → add an argument of an input type, such as FindingAdd!`},
		{`a(id: ID!, code: String!): Paper @remove(from: "findings")` + papers, ``},
		{`a(id: ID!, code: String): Paper @remove(from: "findings")` + papers, `error write Mutation.a(code:): Mutation.a(code:) may be left out, and then all of findings are meant → make it String!`},
		{`a(id: ID!): Paper @remove(from: "findings")` + papers, `error write Mutation.a: Mutation.a changes nothing → add an argument that is a field of Finding`},
		{`a(id: ID!, code: String!, change: FindingChange!, outcome: String): Paper @change(in: "findings")` + papers, ``},
		{`a(id: ID!, code: String!): Paper @change(in: "findings")` + papers, `error write Mutation.a: Mutation.a changes nothing → add an argument of an input type, such as FindingChange!`},
		{`a(id: ID!, change: FindingChange!): Paper @change(in: "findings")` + papers, `error write Mutation.a: Mutation.a changes nothing → add an argument that is a field of Finding`},
		{`a(id: ID!, code: String!, changes: [FindingChange!]!): Paper @change(in: "findings")` + papers, `error argument Mutation.a(changes:): nothing uses the argument "changes" of Mutation.a → leave it out`},
		{`a(id: ID!, code: String!, change: C!): Paper @change(in: "findings") } input C { cod: String` + papers, `error argument C.cod: C.cod is no field of Finding; did you mean "code"?`},
		{`a(id: ID!, code: String!, change: CallChange!): Call @change(in: "tags")`, `error write Mutation.a: Mutation.a writes to the list "tags", and Call has no list of nested records of that name`},
		// Functions in the transaction.
		{`a(craft: ID!, plain: String!, why: String): Call @add @within(by: "fees.admit", needs: "id craft { name }")`, ``},
		{`a(id: ID!): Call @remove @within(by: "fees.admit")`, ``},
		{`a(craft: ID!, call: ID!): Tug @pair(field: "calls", set: "at: now") @within(by: "fees.admit", needs: "imo") }` + tugs, ``},
		{`a(id: ID!): Call @remove @within(by: "fee.admit")`, `error computed Mutation.a: the transaction of Mutation.a has "fee.admit" in it, which is no function of a source; did you mean "fees"?`},
		{`a(id: ID!): Call @remove @within(by: "fees.admit", needs: "i")`, `error write Mutation.a: what Mutation.a needs is no selection of its type: Call has no field "i"`},
		{`a(id: ID!): Paper @remove @within(by: "fees.admit")` + papers, `error write Mutation.a: Mutation.a has a function in its transaction, and the source inspections has none that a function could take part in`},
		{`a(id: ID!): Call @computed(by: "fees.admit") @within(by: "fees.admit")`, `error write Mutation.a: Mutation.a has @within, and writes nothing`},
		{`a(imo: ID!): Buoy @remove @within(by: "fees.admit", needs: "imo near { name }") } type Buoy @stored(in: "db", as: "craft", key: "imo") { imo: ID! near: Near @related(here: "name") } type Near @stored(in: "tides", as: "stations", key: "code") { code: ID! name: String!`, `error write Mutation.a: what the function in the transaction of Mutation.a needs is in tides, too, which is not in the transaction`},
		// Pairs.
		{`a(craft: ID!, call: ID!, role: String): Tug @pair(field: "calls", set: "at: now") }` + tugs, ``},
		{`a(craft: ID!, call: ID!): Tug @unpair(field: "calls") }` + tugs, ``},
		{`a(craft: ID!, call: ID!): Tug @pair(field: "calls") }` + tugs, `error write Mutation.a: Mutation.a adds to towage, and nothing fills at, which it must have`},
		{`a(craft: ID!, call: ID!): [Tug!] @pair(field: "calls", set: "at: now") }` + tugs, `error write Mutation.a: Mutation.a pairs records, and answers something else than the record that has the field → give it the type of the records that have the field`},
		{`a(craft: ID!, call: ID!): Tug @pair(field: "call", set: "at: now") }` + tugs, `error write Mutation.a: Mutation.a pairs by "call", which is no relationship of Tug over a join table; did you mean "calls"?`},
		{`a(craft: ID!, call: ID): Tug @unpair(field: "calls") }` + tugs, `error write Mutation.a: Mutation.a does not say which records are meant: nothing gives call → give it a required argument for each of them`},
		{`a(craft: ID!, call: ID!): Tug @pair(field: "shifts") }` + tugs, `error write Mutation.a: Mutation.a would write a pair twice when it is asked for twice: nothing in shifts tells pairs apart → CREATE UNIQUE INDEX ON shifts (craft, call)`},
		{`a(craft: ID!, call: ID!, role: String): Tug @unpair(field: "calls") }` + tugs, `error argument Mutation.a(role:): nothing uses the argument "role" of Mutation.a → leave it out`},
		{`a(craft: ID!, call: ID!, rule: String): Tug @pair(field: "calls", set: "at: now") }` + tugs, `error argument Mutation.a(rule:): Mutation.a(rule:) is no field of towage; did you mean "role"?`},
		{`a(id: ID!): C @remove } type C @stored(in: "db", as: "calls", key: "id") { id: ID! plain: String! @change`, `error write C.plain: C.plain has @change, which is for fields of the mutation type → move it there`},
	} {
		text := "type Mutation { " + test.mutation + " }" + quaysideTypes
		problemsOf := func(text string) language.Problems {
			_, _, problems := binding.Resolve([]schema.Text{{Body: text}}, quayside())
			return problems
		}
		s, _, problems := binding.Resolve([]schema.Text{{Body: text}}, quayside())
		got := describe(s, problems)
		named(t, problems)
		if !strings.Contains(got, test.want) || test.want == "" && got != "" {
			t.Errorf("%s\nreports\n%swant\n%s", test.mutation, got, test.want)
		}
		remedies.Try(t, text, problems, offsetIn(s, text), problemsOf)
	}
}

// TestSuppliedWrites holds what is supplied for what a record is given: no computed
// column, no key in a change, and nothing twice; what the store fills is not required.
func TestSuppliedWrites(t *testing.T) {
	s, _, problems := binding.Resolve([]schema.Text{{Body: `type Mutation { a(call: CallAdd!): Call @add c(id: ID!, change: CallChange!): Call @change }` + quaysideTypes}}, quayside())
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	for name, want := range map[string]string{
		"CallAdd":    "id: ID craft: ID! berth: Int plain: String! noted: DateTime tags: [String!] kind: Kind code: String label: String",
		"CallChange": "craft: ID berth: Int plain: String noted: DateTime tags: [String!] kind: Kind code: String label: String",
	} {
		var fields []string
		if input, ok := s.Type(name).(*schema.InputObject); ok {
			for _, f := range input.Fields {
				fields = append(fields, f.Name+": "+f.Type.String())
			}
		}
		if got := strings.Join(fields, " "); got != want {
			t.Errorf("%s has %s\nwant %s", name, got, want)
		}
	}
}
