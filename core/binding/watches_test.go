package binding_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
)

// TestWatchFindings holds what check tells of fields that watch.
func TestWatchFindings(t *testing.T) {
	const move = `type Move { what: ChangeKind! id: ID! changed: [String!] before: Before now: Call } type Before { plain: String berth: Int }`
	for _, test := range []struct{ types, want string }{
		{`type Subscription { a: Call! @watch b(berth: Int, filter: CallFilter): Call @watch(on: ["ADDED"]) c: Move! @watch } ` + move, ``},
		{`type Subscription { a: Move! @watch(type: "Call") } type Move { id: ID! }`, ``},
		{`type Subscription { a: Call }`, `error unbound Subscription.a: nothing says where Subscription.a comes from → write @watch behind it`},
		{`type Subscription { a: [Call!]! @watch }`, `error watch Subscription.a: Subscription.a is a list, and tells of one record at a time → make it Call`},
		{`type Subscription { a: Int @watch }`, `error watch Subscription.a: Subscription.a watches records of the type Int, and says so otherwise → give it the type of the records, or one with a field of that`},
		{`type Subscription { a: Call @watch(type: "Craft") }`, `error watch Subscription.a: Subscription.a watches records of the type Call, and says so otherwise → give it the type of the records, or one with a field of that`},
		{`type Subscription { a: Move @watch(type: "Cal") } type Move { id: ID! }`, `error watch Subscription.a: Subscription.a watches "Cal", which is no type with records; did you mean "Call"?`},
		{`type Subscription { a: Move @watch } type Move { id: ID! }`, `error watch Subscription.a: nothing says which records Subscription.a watches → write @watch(type: "…") with the type of the records`},
		{`type Subscription { a: Move @watch } type Move { a: Call b: Craft }`, `error watch Move.b: Move.b is a record, and another field is one of the type Call → leave one of them out`},
		{`type Subscription { a: Call @watch(on: ["GONE"]) }`, `error watch Subscription.a: Subscription.a watches for "GONE", which does not happen to records → there are ADDED, CHANGED, REMOVED`},
		{`type Subscription { a: Call @watch(on: ["REMOVED"]) }`, `error watch Subscription.a: Subscription.a answers the record, and watches for REMOVED, when there is none → answer a type of your own, with the record's key`},
		{`type Subscription { a(limit: Int): Call @watch }`, `error argument Subscription.a(limit:): the argument "limit" of Subscription.a is about a list, and Subscription.a tells of one record at a time → leave it out`},
		{`type Subscription { a(quay: Int): Call @watch }`, `error argument Subscription.a(quay:): nothing uses the argument "quay" of Subscription.a`},
		{`type Subscription { a: Note @watch } type Note @stored(in: "db", as: "notes") { text: String }`, `error watch Subscription.a: Subscription.a watches Note, whose records have no key by which they could be read`},
		{`type Subscription { a: Either @watch } union Either = Call | Craft`, `error watch Subscription.a: Subscription.a watches`},
		{`type Subscription { a: Move @watch } type Move { now: Call! }`, `error nullable Move.now: Move.now is required, and there is no record when it was removed → make it Call`},
		{`type Subscription { a: Move @watch(on: ["ADDED"]) } type Move { now: Call! }`, ``},
		{`type Subscription { a: Move @watch } type Move { now: Call before: Before! } type Before { plain: String }`, `error nullable Move.before: Move.before is required, and there is no record before one that was added → make it Before`},
		{`type Subscription { a: Move @watch } type Move { now: Call before: Before } type Before { craft: Craft }`, `error watch Before.craft: Before.craft is no stored field of calls, which is what is known of a record as it was → leave it out`},
		{`type Subscription { a: Move @watch } type Move { now: Call plain: String }`, `error watch Move.plain: Move.plain is nothing that is told of a change of Call → name a field of the key, make it ChangeKind, [String!] for what has changed, or Call`},
		{`type Subscription { a: Move @watch } type Move { now: Hid before: Before } type Before { plain: String } type Hid @stored(in: "db", as: "calls", key: "id") { id: ID! plain: String @for(roles: ["clerk"]) }`, `error for Before.plain: Before.plain shows what the rule of Hid.plain hides → give it the same roles, or leave it out`},
		{`type Subscription { a: Move @watch } type Move { now: Hid before: Before } type Before { plain: String @for(roles: ["clerk"]) } type Hid @stored(in: "db", as: "calls", key: "id") { id: ID! plain: String @for(roles: ["clerk"]) }`, ``},
		{`type Subscription { a: Call @watch(every: "10s") b: Call @watch(every: "1m", grows: "noted") }`, ``},
		{`type Subscription { a: Call @watch(every: "10") }`, `error watch Subscription.a: Subscription.a has every: "10", which is no time, or a shorter one than a second → write a time of 1s or more, such as 10s`},
		{`type Subscription { a: Call @watch(every: "10ms") }`, `error watch Subscription.a: Subscription.a has every: "10ms", which is no time, or a shorter one than a second`},
		{`type Subscription { a: Call @watch(grows: "noted") }`, `error watch Subscription.a: Subscription.a says what grows, and not how often it is looked at → write every: "10s", too`},
		{`type Subscription { a: Call @watch(every: "10s", grows: "note") }`, `error watch Subscription.a: Subscription.a has grows: "note", which is no field of calls with one value → name a time, or a number that counts on`},
		{`type Subscription { a: Call @watch(every: "10s", grows: "tags") }`, `error watch Subscription.a: Subscription.a has grows: "tags", which is no field of calls with one value`},
		{`type Subscription { a: Call @watch b: [Call!] @read }`, `error unbound Subscription.b: nothing says where Subscription.b comes from`},
	} {
		_, _, problems := binding.Resolve([]schema.Text{{Name: "a.graphql", Body: quaysideTypes + " " + test.types}}, quayside())
		var list []string
		for _, p := range problems {
			if p.Severity == language.Error {
				list = append(list, strings.TrimSuffix("error "+p.Rule+" "+p.Coordinate+": "+p.Msg+" → "+p.Fix, " → "))
			}
		}
		if got := strings.Join(list, "; "); got != test.want && (test.want == "" || !strings.HasPrefix(got, test.want)) {
			t.Errorf("%s reports\n%s\nwant\n%s", test.types, got, test.want)
		}
	}
}

// TestWatchRelies tells what is told, by what the store does.
func TestWatchRelies(t *testing.T) {
	for _, test := range []struct{ kind, watch, want string }{
		{"postgres", `@watch`, `warning watch Subscription.a: Subscription.a is told what this service writes; db does not tell what others change in calls → osprey tables watch db Call, and osprey tables apply db`},
		{"mysql", `@watch`, `warning watch Subscription.a: Subscription.a is told what this service writes; db does not tell what others change in calls → write every: "10s", so that they are looked at`},
		{"told", `@watch`, ``},
		{"told", `@watch(every: "10s")`, `warning watch Subscription.a: db tells the changes of calls by itself, and nothing is looked at → leave every out`},
		{"other", `@watch`, `error watch Subscription.a: db notes changes of calls by craft, and the key of Call is id → note them by this key: osprey tables undo, and osprey tables watch db Call`},
		{"mysql", `@watch(every: "10s")`, ``},
	} {
		sources := quayside()
		db := sources["db"]
		switch test.kind {
		case "told":
			db.Tells = map[string][]string{"calls": {"id"}}
		case "other":
			db.Tells = map[string][]string{"calls": {"craft"}}
		default:
			db.Kind = test.kind
		}
		_, _, problems := binding.Resolve([]schema.Text{{Name: "a.graphql", Body: quaysideTypes + ` type Subscription { a: Call ` + test.watch + ` }`}}, sources)
		var list []string
		for _, p := range problems {
			if p.Rule == "watch" {
				list = append(list, strings.TrimSuffix(p.Severity.String()+" "+p.Rule+" "+p.Coordinate+": "+p.Msg+" → "+p.Fix, " → "))
			}
		}
		if got := strings.Join(list, "; "); got != test.want {
			t.Errorf("%s %s reports\n%s\nwant\n%s", test.kind, test.watch, got, test.want)
		}
	}
}
