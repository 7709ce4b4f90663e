package main_test

import (
	"fmt"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestWatchedShapes tells of records of another shape: keys of several columns, names with capitals, columns of every kind,
// types that are told apart.
func TestWatchedShapes(t *testing.T) { eachWay(t, watchedShapesBy) }

func watchedShapesBy(t *testing.T, _, url string) {
	db := opened(t, url)
	exec := func(statement string) {
		t.Helper()
		if _, err := db.Exec(statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	exec(`CREATE TYPE state AS ENUM ('open', 'shut at night');
		CREATE TABLE "Gates" ("Code" text, "No" int, state state, opened timestamptz, weight numeric(12,3), big bigint, tags text[], doc jsonb, uid uuid, day date, data bytea, ratio double precision, yes boolean, PRIMARY KEY ("Code", "No"));
		CREATE TABLE vehicles (id uuid PRIMARY KEY, kind text NOT NULL, name text, axles int, wings int)`)
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("sources:\n  db: { kind: postgres, url: %q }\n", url), "schema/a.graphql": `
type Query { gates(filter: GateFilter): [Gate!] @read vehicles: [Vehicle!] @read }
type Subscription {
  gates(state: State, filter: GateFilter): GateMove! @watch
  vehicles(filter: VehicleFilter): Vehicle @watch
  trucks: TruckMove! @watch(type: "Truck")
}
type GateMove { what: ChangeKind! code: ID! @at(path: "Code") no: Int! @at(path: "No") changed: [String!] before: GateBefore now: Gate }
type GateBefore { state: State opened: DateTime weight: Decimal big: Int64 uid: UUID day: Date ratio: Float yes: Boolean }
type TruckMove { what: ChangeKind! id: ID! now: Truck }
enum State { OPEN @at(path: "open") SHUT @at(path: "shut at night") }
type Gate @stored(in: "db", as: "Gates", key: ["Code", "No"]) {
  code: ID! @at(path: "Code") no: Int! @at(path: "No") state: State opened: DateTime weight: Decimal big: Int64 tags: [String!] doc: Doc uid: UUID day: Date ratio: Float yes: Boolean
}
type Doc { a: Int }
interface Vehicle @stored(in: "db", as: "vehicles", key: "id") @kind(by: "kind") { id: ID! name: String }
type Truck implements Vehicle @kind(is: "truck") { id: ID! name: String axles: Int }
type Plane implements Vehicle @kind(is: "plane") { id: ID! name: String wings: Int }
`})
	for _, args := range [][]string{{"tables", "watch", "--project", dir, "db", "Gate", "Vehicle"}, {"tables", "apply", "--project", dir, "db"}, {"check", dir}} {
		if out, errs, code := osprey(t, args...); code != 0 {
			t.Fatalf("%v exits with %d: %s%s", args, code, out, errs)
		}
	}
	address, _, said := served(t, dir)
	defer func() {
		if t.Failed() {
			t.Log(said)
		}
	}()
	base := "http://" + address
	const all = "what code no changed before { state opened weight big uid day ratio yes } now { state weight tags doc { a } }"
	is := func(e *events, want string) {
		t.Helper()
		if got := e.next(); got != want {
			t.Errorf("told is\n%s, and not\n%s", got, want)
		}
	}
	every := subscribed(t, base, "subscription { gates { "+all+" } }")
	filtered := map[string]*events{}
	for filter, fits := range map[string]bool{ // the record as it is inserted
		`state: OPEN`: true, `state: SHUT`: false,
		`filter: {opened: {above: "2026-01-01T00:00:00Z"}}`: true, `filter: {opened: {above: "2026-01-01T10:00:00+02:00", below: "2026-03-01T00:00:00Z"}}`: true, `filter: {opened: {below: "2026-01-01T00:00:00Z"}}`: false,
		`filter: {weight: {is: "12.5"}}`: true, `filter: {weight: {above: "12.501"}}`: false,
		`filter: {big: {is: "9007199254740993"}}`: true, `filter: {big: {is: "9007199254740992"}}`: false,
		`filter: {uid: {is: "0196F2A1-0000-7000-8000-000000000001"}}`: true,
		`filter: {day: {is: "2026-02-01"}}`:                           true, `filter: {day: {above: "2026-02-01"}}`: false,
		`filter: {ratio: {atLeast: 0.5}}`: true, `filter: {yes: {is: true}}`: true, `filter: {yes: {is: false}}`: false,
		`filter: {not: {state: {is: SHUT}}}`: true, `filter: {any: [{state: {is: SHUT}}, {no: {is: 1}}]}`: true, `filter: {code: {is: "a"}}`: false,
	} {
		e := subscribed(t, base, "subscription { gates("+filter+") { what } }")
		filtered[fmt.Sprintf("%t %s", fits, filter)] = e
	}
	exec(`INSERT INTO "Gates" VALUES ('A', 1, 'open', '2026-02-01 10:00:00+01', 12.5, 9007199254740993, '{x,y}', '{"a": 7}', '0196f2a1-0000-7000-8000-000000000001', '2026-02-01', '\x00ff', 0.5, true)`)
	is(every, `{"data":{"gates":{"what":"ADDED","code":"A","no":1,"changed":[],"before":null,"now":{"state":"OPEN","weight":"12.500","tags":["x","y"],"doc":{"a":7}}}}}`)
	for name, e := range filtered {
		if strings.HasPrefix(name, "true") {
			if got := e.next(); got != `{"data":{"gates":{"what":"ADDED"}}}` {
				t.Errorf("%s: told is %s", name, got)
			}
		} else if len(e.lines) > 0 {
			t.Errorf("%s: told is %s", name, e.next())
		}
	}
	exec(`UPDATE "Gates" SET state = 'shut at night', opened = NULL, weight = NULL, big = NULL, uid = NULL, day = NULL, ratio = NULL, yes = NULL, doc = '{"a": 8}'`)
	is(every, `{"data":{"gates":{"what":"CHANGED","code":"A","no":1,"changed":["big","day","doc","opened","ratio","state","uid","weight","yes"],"before":{"state":"OPEN","opened":"2026-02-01T09:00:00Z","weight":"12.500","big":"9007199254740993","uid":"0196f2a1-0000-7000-8000-000000000001","day":"2026-02-01","ratio":0.5,"yes":true},"now":{"state":"SHUT","weight":null,"tags":["x","y"],"doc":{"a":8}}}}}`)
	for name, e := range filtered {
		want := map[bool]string{true: `{"data":{"gates":{"what":"REMOVED"}}}`}[strings.HasPrefix(name, "true")]
		switch {
		case strings.Contains(name, "any: ["):
			want = `{"data":{"gates":{"what":"CHANGED"}}}` // which fits still
		case strings.HasSuffix(name, "state: SHUT"):
			want = `{"data":{"gates":{"what":"ADDED"}}}`
		}
		if want == "" {
			continue
		}
		if got := e.next(); got != want {
			t.Errorf("%s: told is %s, and not %s", name, got, want)
		}
	}
	exec(`UPDATE "Gates" SET "No" = 2`)
	both := every.next() + every.next()
	if !strings.Contains(both, `"what":"REMOVED","code":"A","no":1`) || !strings.Contains(both, `"what":"ADDED","code":"A","no":2`) {
		t.Errorf("a key that is changed is told by %s", both)
	}
	vehicles := subscribed(t, base, "subscription { vehicles { __typename name ... on Truck { axles } ... on Plane { wings } } }")
	trucks := subscribed(t, base, "subscription { trucks { what id now { axles } } }")
	exec(`INSERT INTO vehicles VALUES ('0196f2a1-0000-7000-8000-00000000000a', 'truck', 'T', 3, NULL), ('0196f2a1-0000-7000-8000-00000000000b', 'plane', 'P', NULL, 2)`)
	two := vehicles.next() + vehicles.next()
	if !strings.Contains(two, `{"__typename":"Truck","name":"T","axles":3}`) || !strings.Contains(two, `{"__typename":"Plane","name":"P","wings":2}`) {
		t.Errorf("told is %s", two)
	}
	is(trucks, `{"data":{"trucks":{"what":"ADDED","id":"0196f2a1-0000-7000-8000-00000000000a","now":{"axles":3}}}}`)
	exec(`UPDATE vehicles SET kind = 'plane' WHERE name = 'T'`) // a truck no more
	is(trucks, `{"data":{"trucks":{"what":"REMOVED","id":"0196f2a1-0000-7000-8000-00000000000a","now":null}}}`)
	trucks.none()
}
