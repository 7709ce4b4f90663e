package main_test

import (
	"context"
	"log/slog"
	"strings"
	"testing"

	"osprey/core/store"
	"osprey/demo/demotest"
	"osprey/project"
)

// A ruled is a project whose schema has rules, over a database of its own.
type ruled struct {
	*project.Project
	t *testing.T
}

const ruledTables = `CREATE TABLE firms (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, tax VARCHAR(40), country VARCHAR(40))
CREATE TABLE boats (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, owner VARCHAR(40), firm_id INTEGER, length DOUBLE PRECISION, kind VARCHAR(40) NOT NULL)
CREATE TABLE crews (boat_id INTEGER NOT NULL, hand_id INTEGER NOT NULL, secret INTEGER NOT NULL, PRIMARY KEY (boat_id, hand_id))
CREATE TABLE hands (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, email VARCHAR(40))
CREATE TABLE watches (boat_id INTEGER NOT NULL, hand_id INTEGER NOT NULL, PRIMARY KEY (boat_id, hand_id))
CREATE TABLE visits (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL)
INSERT INTO firms VALUES (1, 'Ebb', 'T1', 'NO'), (2, 'Flow', 'T2', 'SE'), (3, 'Spring', NULL, 'NO')
INSERT INTO boats VALUES (1, 'Auk', 'ada', 1, 10, 'tug'), (2, 'Bittern', 'bea', 1, 20, 'ferry'), (3, 'Coot', NULL, 2, 30, 'tug'), (4, 'Dove', 'ada', 2, 40, 'ferry'), (5, 'Eider', 'cid', NULL, 50, 'tug'), (6, 'Fulmar', 'ADA', NULL, 60, 'tug')
INSERT INTO hands VALUES (1, 'Una', 'una@x'), (2, 'Vic', 'vic@x'), (3, 'Wyn', NULL)
INSERT INTO crews VALUES (1, 1, 0), (1, 2, 1), (2, 2, 0), (3, 3, 1), (4, 1, 0)
INSERT INTO visits VALUES (1, 5), (2, 4), (3, 1), (4, 3)`

const ruledSchema = `type Query {
  firms(filter: FirmFilter, sort: [FirmSort!], limit: Int, offset: Int): [Firm!] @read
  firm(id: ID!): Firm @read
  boats(filter: BoatFilter, sort: [BoatSort!], limit: Int): [Boat!] @read
  owned(owner: String @for(when: "caller.id != null")): [Tug!] @read
  named(id: ID, owner: String @for(when: "args.id != null && 10 / int(args.id) > 2"), name: String = "Auk" @for(when: "args.name == 'Auk'")): [Tug!] @read
  page(first: Int, after: String, sort: [BoatSort!]): BoatConnection! @read
  count: Int @total(of: "boats")
  longest: Float @total(of: "boats", max: "length")
  hands: [Hand!] @read
  handPage(first: Int): HandConnection @read
  visits(sort: [VisitSort!], filter: VisitFilter): [Visit!] @read
  audit: [Crew!] @read @for(roles: ["clerk"])
  mine(owner: String!): Int @total(of: "boats") @for(when: "args.owner == caller.id")
}
type Mutation {
  rename(id: ID!, name: String!): Boat @change
  give(id: ID!, owner: String): Boat @change
  alter(id: ID!, to: Alter!): Boat @change
  grow(id: ID!): Boat @change(set: "length: record.length + 1.0")
  claim(id: ID!, owner: String!): Boat @change @for(when: "args.owner == caller.id")
  both(id: ID!, owner: String!): Boat! @change @for(when: "args.owner == caller.id")
  scrap(id: ID!): Boat @remove
  launch(boat: TugAdd!): Tug! @add
  scrapAll(filter: BoatFilter!): [Boat!]! @remove
  sign(boat: ID! @at(path: "boat_id"), hand: ID! @at(path: "hand_id")): Boat @pair(field: "watch")
  free(boat: ID! @at(path: "boat_id"), hand: ID! @at(path: "hand_id")): Boat @unpair(field: "watch")
  dismiss(filter: HandFilter!): Dismissed @remove(of: "Hand")
  close(id: ID!): Firm @remove @for(roles: ["clerk"])
}
enum Country { NO SE @for(roles: ["clerk"]) }
type HandConnection { edges: [HandEdge!] pageInfo: PageInfo! totalCount: Int @for(when: "caller.id == 'cleo'") }
type Dismissed { count: Int @for(when: "caller.id == 'cleo'") hands: [Hand!] }
input Alter { name: String @for(when: "args.owner == null || args.name.size() < 5") owner: String @for(roles: ["clerk"]) @for(when: "caller.claims.country == 'SE'") }
type Firm @stored(in: "db", as: "firms", key: "id") {
  id: ID!
  name: String!
  tax: String @for(roles: ["clerk"])
  country: Country
  boats(filter: BoatFilter): [Boat!] @related
  fleet: Int! @total(of: "boats")
}
interface Boat @stored(in: "db", as: "boats", key: "id") @kind(by: "kind")
  @for(roles: ["clerk"]) @for(when: "record.owner == caller.id || record.firm.country == caller.claims.country") {
  id: ID!
  name: String!
  owner: String
  length: Float @for(roles: ["clerk"]) @for(when: "record.owner == caller.id")
  firm: Firm @related
  watch: [Hand!] @related(through: { set: "watches", here: ["boat_id"], there: ["hand_id"] })
  crewSize: Int! @total(of: "crew")
  crew(filter: HandFilter, limit: Int): [Hand!] @related(through: { set: "crews", here: ["boat_id"], there: ["hand_id"] })
}
type Tug implements Boat { id: ID! name: String! owner: String length: Float firm: Firm watch: [Hand!] crewSize: Int! crew(filter: HandFilter, limit: Int): [Hand!] }
type Ferry implements Boat @for(roles: ["clerk", "ferryman"]) { id: ID! name: String! owner: String length: Float firm: Firm watch: [Hand!] crewSize: Int! crew(filter: HandFilter, limit: Int): [Hand!] }
type Hand @stored(in: "db", as: "hands", key: "id") {
  id: ID!
  name: String!
  email: String @for(when: "record.name == caller.name")
  boats: [Boat!] @related(through: { set: "crews", here: ["hand_id"], there: ["boat_id"] })
}
type Visit @stored(in: "db", as: "visits", key: "id") { id: ID! boat: Boat @related }
type Crew @stored(in: "db", as: "crews") @for(roles: ["clerk"]) @for(when: "record.secret == 0") { secret: Int! boat: Boat @related hand: Hand @related }
`

func openRuled(t *testing.T, db *empty, tables, schema string) *ruled {
	t.Helper()
	db.run(tables)
	dir := db.project("snake", "")
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": schema})
	p, findings, err := project.Open(t.Context(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err, findings.JSON(dir))
	}
	t.Cleanup(p.Close)
	return &ruled{p, t}
}

func (p *ruled) answer(who *store.Identity, query string) string {
	r, release := p.Hold()
	defer release()
	a := r.Ask(context.Background(), &project.Request{Query: query, Caller: &store.Caller{Who: who}})
	defer a.Free()
	return string(a.AppendJSON(nil, false))
}

func (p *ruled) ask(who *store.Identity, query, want string) {
	p.t.Helper()
	if got := p.answer(who, query); got != want {
		p.t.Errorf("%s is answered with\n%s, and not\n%s", query, got, want)
	}
}

// TestRules has callers see what the rules say, whatever way they take.
func TestRules(t *testing.T) {
	eachDatabase(t, func(t *testing.T, db *empty) { testRules(t, openRuled(t, db, ruledTables, ruledSchema)) })
}

func testRules(t *testing.T, p *ruled) {
	clerk := &store.Identity{ID: "cleo", Name: "Cleo", Roles: []string{"clerk"}}
	ada := &store.Identity{ID: "ada", Name: "Una", Roles: []string{"ferryman"}}
	bea := &store.Identity{ID: "bea", Name: "Bea"}
	swede := &store.Identity{ID: "sven", Roles: []string{"ferryman", "other"}, Claims: map[string]any{"country": "SE"}}

	p.ask(clerk, "{ boats { name } count longest }", `{"data":{"boats":[{"name":"Auk"},{"name":"Bittern"},{"name":"Coot"},{"name":"Dove"},{"name":"Eider"},{"name":"Fulmar"}],"count":6,"longest":60}}`)
	p.ask(ada, "{ boats { __typename name length } count }", `{"data":{"boats":[{"__typename":"Tug","name":"Auk","length":10},{"__typename":"Ferry","name":"Dove","length":40}],"count":2}}`)
	p.ask(bea, "{ boats { name } count }", `{"data":{"boats":[],"count":0}}`) // her ferry is for ferrymen
	p.ask(nil, "{ boats { name } count }", `{"data":{"boats":[],"count":0}}`) // and what nobody owns is nobody's
	p.ask(swede, "{ boats { name length } }", `{"errors":[{"message":"Tug.length is not for this caller","locations":[{"line":1,"column":16}],"path":["boats",0,"length"],"extensions":{"code":"DENIED"}},{"message":"Ferry.length is not for this caller","locations":[{"line":1,"column":16}],"path":["boats",1,"length"],"extensions":{"code":"DENIED"}}],"data":{"boats":[{"name":"Coot","length":null},{"name":"Dove","length":null}]}}`)
	// Over relationships, totals, join tables and pages.
	p.ask(ada, "{ firms { name boats { name } fleet } }", `{"data":{"firms":[{"name":"Ebb","boats":[{"name":"Auk"}],"fleet":1},{"name":"Flow","boats":[{"name":"Dove"}],"fleet":1},{"name":"Spring","boats":[],"fleet":0}]}}`)
	p.ask(ada, "{ hands { name boats { name } } }", `{"data":{"hands":[{"name":"Una","boats":[{"name":"Auk"},{"name":"Dove"}]},{"name":"Vic","boats":[]},{"name":"Wyn","boats":[]}]}}`)
	p.ask(clerk, "{ hands { name boats { name } } }", `{"data":{"hands":[{"name":"Una","boats":[{"name":"Auk"},{"name":"Dove"}]},{"name":"Vic","boats":[{"name":"Auk"},{"name":"Bittern"}]},{"name":"Wyn","boats":[{"name":"Coot"}]}]}}`)
	p.ask(ada, "{ boats { crew { name } } }", `{"data":{"boats":[{"crew":[{"name":"Una"}]},{"crew":[{"name":"Una"}]}]}}`)
	p.ask(ada, "{ page(first: 1) { totalCount edges { node { name } } pageInfo { hasNextPage } } }", `{"data":{"page":{"totalCount":2,"edges":[{"node":{"name":"Auk"}}],"pageInfo":{"hasNextPage":true}}}}`)
	p.ask(ada, "{ boats { crewSize crew(limit: 5) { name } } }", `{"data":{"boats":[{"crewSize":1,"crew":[{"name":"Una"}]},{"crewSize":1,"crew":[{"name":"Una"}]}]}}`)
	p.ask(clerk, "{ boats { crewSize } }", `{"data":{"boats":[{"crewSize":2},{"crewSize":1},{"crewSize":1},{"crewSize":1},{"crewSize":0},{"crewSize":0}]}}`)
	p.ask(ada, `{ boats(filter: {crew: {with: {name: {is: "Vic"}}}}) { name } }`, `{"data":{"boats":[]}}`)
	p.ask(clerk, `{ boats(filter: {crew: {with: {name: {is: "Vic"}}}}) { name } }`, `{"data":{"boats":[{"name":"Auk"},{"name":"Bittern"}]}}`)
	// Filters and sort keys.
	p.ask(ada, "{ visits(sort: [{boat: {name: DESC}}, {id: ASC}]) { id boat { name } } }", `{"data":{"visits":[{"id":"2","boat":{"name":"Dove"}},{"id":"3","boat":{"name":"Auk"}},{"id":"1","boat":null},{"id":"4","boat":null}]}}`)
	p.ask(clerk, "{ visits(sort: [{boat: {name: DESC}}, {id: ASC}]) { id } }", `{"data":{"visits":[{"id":"1"},{"id":"2"},{"id":"4"},{"id":"3"}]}}`)
	p.ask(ada, `{ visits(filter: {boat: {without: {}}}) { id } }`, `{"data":{"visits":[{"id":"1"},{"id":"4"}]}}`)
	p.ask(ada, `{ firms(filter: {boats: {with: {name: {is: "Bittern"}}}}) { name } }`, `{"data":{"firms":[]}}`)
	p.ask(clerk, `{ firms(filter: {boats: {with: {name: {is: "Bittern"}}}}) { name } }`, `{"data":{"firms":[{"name":"Ebb"}]}}`)
	p.ask(ada, `{ firms(filter: {boats: {without: {}}}) { name } }`, `{"data":{"firms":[{"name":"Spring"}]}}`)
	p.ask(bea, `{ firms(filter: {boats: {without: {}}}) { name } }`, `{"data":{"firms":[{"name":"Ebb"},{"name":"Flow"},{"name":"Spring"}]}}`)
	// What a caller may not see does not exist.
	refused := func(who *store.Identity, query, part string) {
		t.Helper()
		if got := p.answer(who, query); !strings.Contains(got, part) || strings.Contains(got, `"data"`) || strings.Contains(got, `did you mean \"Ferry`) {
			t.Errorf("%s is answered with %s", query, got)
		}
	}
	refused(ada, "{ firms { tax } }", `Firm has no field \"tax\"`)
	refused(ada, "{ firms { taxx } }", `Firm has no field \"taxx\"`)
	refused(ada, "{ audit { secret } }", `has no field \"audit\"`)
	refused(ada, `{ firms(filter: {tax: {is: "T1"}}) { name } }`, `tax`)
	refused(ada, `{ firms(sort: [{tax: ASC}]) { name } }`, `tax`)
	refused(ada, `{ boats(sort: [{length: ASC}]) { name } }`, `length`)
	refused(ada, `{ boats(filter: {length: {above: 1}}) { name } }`, `length`)
	refused(ada, `{ longest }`, `has no field \"longest\"`)
	refused(bea, `{ boats { ... on Ferry { name } } }`, `Ferry`)
	refused(ada, `mutation { close(id: 1) { name } }`, `close`)
	p.ask(clerk, `{ firms(filter: {tax: {is: "T1"}}, sort: [{tax: DESC}]) { tax } }`, `{"data":{"firms":[{"tax":"T1"}]}}`)
	p.ask(bea, `{ __type(name: "Firm") { fields { name } } ferry: __type(name: "Ferry") { name } boat: __type(name: "Boat") { possibleTypes { name } } }`, `{"data":{"__type":{"fields":[{"name":"id"},{"name":"name"},{"name":"country"},{"name":"boats"},{"name":"fleet"}]},"ferry":null,"boat":{"possibleTypes":[{"name":"Tug"}]}}}`)
	for _, word := range []string{"tax", "Ferry", "audit", "close", "longest"} {
		if text := p.Revision().SchemaFor(bea).Print(); strings.Contains(text, word) {
			t.Errorf("%s is in the schema of one who may not see it", word)
		}
	}
	// A field by its record, and by its arguments.
	p.ask(ada, "{ hands { email } }", `{"errors":[{"message":"Hand.email is not for this caller","locations":[{"line":1,"column":11}],"path":["hands",1,"email"],"extensions":{"code":"DENIED"}},{"message":"Hand.email is not for this caller","locations":[{"line":1,"column":11}],"path":["hands",2,"email"],"extensions":{"code":"DENIED"}}],"data":{"hands":[{"email":"una@x"},{"email":null},{"email":null}]}}`)
	p.ask(ada, `{ mine(owner: "ada") }`, `{"data":{"mine":2}}`)
	p.ask(ada, `{ mine(owner: "bea") }`, `{"errors":[{"message":"Query.mine is not for this caller","locations":[{"line":1,"column":3}],"path":["mine"],"extensions":{"code":"DENIED"}}],"data":{"mine":null}}`)
	denied := func(who *store.Identity, query string) {
		t.Helper()
		if got := p.answer(who, query); !strings.Contains(got, `"code":"DENIED"`) {
			t.Errorf("%s is answered with %s", query, got)
		}
	}
	// What is given, by who gives it.
	p.ask(ada, `{ owned(owner: "ada") { name } }`, `{"data":{"owned":[{"name":"Auk"}]}}`)
	denied(nil, `{ owned(owner: "ada") { name } }`)
	p.ask(ada, `{ named(id: 1, owner: "ada") { name } }`, `{"data":{"named":[{"name":"Auk"}]}}`)
	p.ask(ada, `query ($i: ID = 1, $n: String) { named(id: $i, owner: "ada", name: $n) { name } }`, `{"data":{"named":[{"name":"Auk"}]}}`)
	denied(ada, `{ named(owner: "ada") { name } }`)
	denied(ada, `{ named(id: 5, owner: "ada") { name } }`)
	denied(ada, `{ named(id: 0, owner: "ada") { name } }`) // divides by zero
	denied(ada, `{ named(id: 1, name: "Emu") { name } }`)
	denied(swede, `mutation { alter(id: 3, to: {owner: "bea", name: "Razorbill"}) { owner } }`)
	p.ask(swede, `mutation ($n: String) { alter(id: 3, to: {owner: "bea", name: $n}) { owner } }`, `{"data":{"alter":{"owner":"bea"}}}`) // it is not given
	denied(swede, `mutation ($n: String = "Razorbill") { alter(id: 3, to: {owner: "bea", name: $n}) { owner } }`)
	denied(nil, `query ($o: String = "ada") { owned(owner: $o) { name } }`)
	denied(ada, `mutation ($to: Alter! = {owner: "ada"}) { alter(id: 1, to: $to) { name } }`)
	denied(ada, `mutation ($o: String = "ada") { alter(id: 1, to: {owner: $o}) { name } }`)
	p.ask(nil, `query ($o: String) { owned(owner: $o) { name } }`, `{"data":{"owned":[]}}`)
	p.ask(nil, `{ owned { name } }`, `{"data":{"owned":[]}}`)
	p.ask(ada, `mutation { alter(id: 1, to: {name: "Awk"}) { name } }`, `{"data":{"alter":{"name":"Awk"}}}`)
	p.ask(ada, `mutation { alter(id: 1, to: {name: "Auk"}) { name } }`, `{"data":{"alter":{"name":"Auk"}}}`)
	denied(ada, `mutation { alter(id: 1, to: {name: "Auk", owner: "ada"}) { name } }`)
	denied(ada, `mutation { ...F } fragment F on Mutation { alter(id: 1, to: {owner: null}) { name } }`)
	p.ask(clerk, `mutation { alter(id: 1, to: {owner: "ada"}) { owner } }`, `{"data":{"alter":{"owner":"ada"}}}`)
	p.ask(swede, `mutation { alter(id: 3, to: {owner: "bea"}) { owner } }`, `{"data":{"alter":{"owner":"bea"}}}`)
	p.ask(clerk, `mutation { alter(id: 3, to: {owner: null}) { owner } }`, `{"data":{"alter":{"owner":null}}}`)
	// What is set looks at what is stored, whatever the caller may read.
	p.ask(swede, `mutation { grow(id: 4) { name } }`, `{"data":{"grow":{"name":"Dove"}}}`)
	p.ask(clerk, `{ boats(filter: {name: {is: "Dove"}}) { length } }`, `{"data":{"boats":[{"length":41}]}}`)
	// Values of enums.
	p.ask(clerk, `{ firms(filter: {country: {is: SE}}) { country } }`, `{"data":{"firms":[{"country":"SE"}]}}`)
	p.ask(ada, `{ firms { country } }`, `{"errors":[{"message":"Firm.country: the value is not for this caller","locations":[{"line":1,"column":11}],"path":["firms",1,"country"],"extensions":{"code":"DENIED"}}],"data":{"firms":[{"country":"NO"},{"country":null},{"country":"NO"}]}}`)
	refused(ada, `{ firms(filter: {country: {is: SE}}) { name } }`, `SE`)
	// Fields of pages, and of what a write answers.
	p.ask(clerk, `{ handPage(first: 1) { totalCount edges { node { name } } } }`, `{"data":{"handPage":{"totalCount":3,"edges":[{"node":{"name":"Una"}}]}}}`)
	p.ask(ada, `{ handPage(first: 1) { totalCount edges { node { name } } } }`, `{"errors":[{"message":"HandConnection.totalCount is not for this caller","locations":[{"line":1,"column":24}],"path":["handPage","totalCount"],"extensions":{"code":"DENIED"}}],"data":{"handPage":{"totalCount":null,"edges":[{"node":{"name":"Una"}}]}}}`)
	p.ask(clerk, `mutation { dismiss(filter: {name: {is: "Xan"}}) { count hands { name } } }`, `{"data":{"dismiss":{"count":0,"hands":[]}}}`)
	denied(ada, `mutation { dismiss(filter: {name: {is: "Xan"}}) { count hands { name } } }`)
	// Writes find only what the caller sees, and leave only that.
	p.ask(ada, `mutation { rename(id: 3, name: "X") { name } }`, `{"data":{"rename":null}}`)
	p.ask(ada, `mutation { rename(id: 1, name: "Avocet") { name } }`, `{"data":{"rename":{"name":"Avocet"}}}`)
	denied(ada, `mutation { give(id: 1, owner: "bea") { name } }`)
	denied(clerk, `mutation { claim(id: 1, owner: "bea") { name } }`)
	denied(clerk, `mutation { both(id: 1, owner: "bea") { name } rename(id: 1, name: "Gone") { name } }`) // which is not done, either
	p.ask(clerk, `{ boats(limit: 1) { name owner } }`, `{"data":{"boats":[{"name":"Avocet","owner":"ada"}]}}`)
	p.ask(ada, `mutation { claim(id: 1, owner: "ada") { name } }`, `{"data":{"claim":{"name":"Avocet"}}}`)
	denied(ada, `mutation { launch(boat: {id: 9, name: "Ibis", owner: "bea"}) { name } }`)
	denied(bea, `mutation { sign(boat: 1, hand: 3) { name } }`)
	denied(bea, `mutation { free(boat: 1, hand: 3) { name } }`)
	p.ask(ada, `mutation { sign(boat: 1, hand: 3) { watch { name } } }`, `{"data":{"sign":{"watch":[{"name":"Wyn"}]}}}`)
	denied(bea, `mutation { free(boat: 1, hand: 3) { name } }`)
	p.ask(ada, "{ boats(limit: 1) { watch { name } } }", `{"data":{"boats":[{"watch":[{"name":"Wyn"}]}]}}`)
	p.ask(ada, `mutation { free(boat: 1, hand: 3) { watch { name } } }`, `{"data":{"free":{"watch":[]}}}`)
	p.ask(ada, `mutation { scrap(id: 3) { name } }`, `{"data":{"scrap":null}}`)
	p.ask(ada, `mutation { scrapAll(filter: {}) { name } }`, `{"data":{"scrapAll":[{"name":"Avocet"},{"name":"Dove"}]}}`)
	p.ask(clerk, "{ boats { id name owner } }", `{"data":{"boats":[{"id":"2","name":"Bittern","owner":"bea"},{"id":"3","name":"Coot","owner":null},{"id":"5","name":"Eider","owner":"cid"},{"id":"6","name":"Fulmar","owner":"ADA"}]}}`)
}
