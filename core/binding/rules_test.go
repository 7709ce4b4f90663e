package binding_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
)

// ruledSources are a database with tables, and documents.
func ruledSources() map[string]*binding.Source {
	return map[string]*binding.Source{
		"db":   {Name: "db", Kind: "test", Naming: binding.Snake, Capabilities: store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey, Aggregate: true, Write: &store.Writing{}}, Catalogue: storetest.Catalogue("boats: id int! name text owner text? firm_id int?+ kind text\nfirms: id int! name text country text? tax text?\n")},
		"docs": {Name: "docs", Kind: "test", Naming: binding.Exact, Capabilities: store.Capabilities{Write: &store.Writing{Apart: true}}, Catalogue: storetest.Catalogue("notes: id int! text text by text? boat int?\n")},
	}
}

// TestRuleFindings has rules that cannot be, or do not do what they seem to, be told at their place.
func TestRuleFindings(t *testing.T) {
	for _, test := range []struct{ schema, want string }{
		{`type Boat @for { id: ID! }`, "the rule of Boat says nothing of whom it is for"},
		{`type Boat @for(when: "record.owner = caller.id") { id: ID! owner: String }`, "the condition of the rule of Boat is none"},
		{`type Boat @for(when: "record.ownr == caller.id") { id: ID! owner: String }`, `did you mean "owner"`},
		{`type Boat @for(when: "record.owner") { id: ID! owner: String }`, "the condition of the rule of Boat is none"},
		{`type Boat @for(when: "caller.role == 'x'") { id: ID! }`, "the condition of the rule of Boat is none"},
		{`type Boat @for(roles: []) { id: ID! }`, "warning nobody fits the rule of Boat"},
		{`type Boat @for(when: "1 > 2") { id: ID! }`, "warning nobody fits the rule of Boat"},
		{`type Boat { id: ID! name: String @for(roles: ["clrk"]) }`, `warning the rule of Boat.name names the role "clrk", which no key in osprey.yaml has; did you mean "clerk"?`},
		{`type Boat @for(when: "record.name.size() > 3") { id: ID! name: String }`, "warning the rule of Boat is decided on the records, since no store is asked record.name.size() > 3"},
		{`type Boat @for(when: "record.name.size() > 3 || record.notes.size() > 0") { id: ID! name: String notes: [Note!] @related(here: "id", there: "boat") }`, "the condition of Boat can neither be asked of db nor be told from its records alone"},
		{`type Boat @for(when: "record.name.size() > 3") @for(when: "record.firm.name == caller.name") { id: ID! name: String firm: Firm @related }`, "one is told from its records alone, and so all must be"},
		{`type Boat { id: ID! a: Size } type Size @for(when: "record.x == 1") { x: Int @at(path: "id") }`, "the rule of Size has a condition, and its records are in no record set of their own"},
		{`type Boat { id: ID! } extend type Query { one(id: ID! @for(when: "record.id == '1'")): Boat @read }`, "the condition of the rule of Query.one(id:) is none"},
		{`type Boat { id: ID! kind: Kind } enum Kind { A @for(when: "true") }`, "the rule of Kind.A has a condition, and there is no record"},
		{`interface Named { name: String } type Boat implements Named { id: ID! name: String @for(roles: ["clerk"]) }`, "Boat.name has a rule, and Named.name has none"},
		{`type Boat { id: ID! owner: String @for(roles: ["clerk"]) who: String @at(path: "owner") }`, "warning Boat.who has no rule, and shows what Boat.owner does: both are boats.owner"},
		{`type Boat { id: ID! owner: String @for(roles: ["clerk"]) mine: Boolean @computed(expr: "record.owner == caller.id") }`, "warning Boat.mine has no rule, and is computed of Boat.owner, which has one"},
		{`type Boat { id: ID! } extend type Mutation { note(text: String!): Note @add } extend type Note @for(when: "record.by == caller.id") { by: String }`, "the rule of Note cannot be held to what Mutation.note writes: docs has no transactions"},
		{`type Boat @for(when: "record.name.size() > 3") { id: ID! name: String } extend type Mutation { scrap(filter: BoatFilter!): [Boat!]! @remove }`, "the rule of Boat cannot be held to what Mutation.scrap finds"},
		{`type Boat @for(when: "record.owner == caller.id") { id: ID! name: String owner: String } extend type Mutation { put(id: ID!, name: String!): Boat @add(replaces: "id", set: "owner: caller.id") }`, "the rule of Boat cannot be held to what Mutation.put replaces"},
		{`type Boat { id: ID! } extend type Query { mine: Boat @read(where: "owner caller.id") }`, "Query.mine"},
		{`type Boat { id: ID! } extend type Query { mine: [Boat!] @read(where: "owner: caller.id") }`, "Query.mine"},
		{`type Boat { id: ID! owner: String } extend type Query { mine: [Boat!] @read(where: "owner: caller.idd") }`, `did you mean "id"`},
	} {
		text := "type Query { boats: [Boat!] @read notes: [Note!] @read } type Mutation { b(id: ID!): Int @remove(of: \"Boat\") }\n" + strings.Replace(test.schema, "type Boat", `type Boat @stored(in: "db", as: "boats")`, 1)
		text = strings.Replace(text, "type Boat @stored(in: \"db\", as: \"boats\") implements Named", "type Boat implements Named @stored(in: \"db\", as: \"boats\")", 1)
		text += "\ntype Note @stored(in: \"docs\", as: \"notes\", key: \"id\") { id: ID! text: String }\n"
		if strings.Contains(text, "Firm") {
			text += `type Firm @stored(in: "db", as: "firms") { id: ID! name: String }`
		}
		_, _, problems := binding.ResolveFor(binding.Unruled{Known: []string{"clerk", "pilot"}}, []schema.Text{{Name: "a.graphql", Body: text}}, ruledSources())
		var all []string
		for _, p := range problems {
			all = append(all, p.Severity.String()+" "+p.Msg+" → "+p.Fix)
		}
		if !strings.Contains(strings.Join(all, "\n"), test.want) {
			t.Errorf("%s\nis told\n%s\nand not %s", test.schema, strings.Join(all, "\n"), test.want)
		}
	}
}

// TestUnruled has types without a rule be for some, or be an error.
func TestUnruled(t *testing.T) {
	texts := []schema.Text{{Name: "a.graphql", Body: `type Query { boats: [Boat!] @read firms: [Firm!] @read }
type Boat @stored(in: "db", as: "boats") @for(when: "true") { id: ID! }
type Firm @stored(in: "db", as: "firms") { id: ID! }`}}
	_, bound, problems := binding.ResolveFor(binding.Unruled{Roles: []string{"clerk"}}, texts, ruledSources())
	if len(problems) > 0 {
		t.Fatal(problems[0].Msg)
	}
	if view := bound.View(nil); view.Type("Firm") != nil || view.Type("Boat") == nil || view.Query.Field("firms") != nil {
		t.Error("who is no clerk sees firms, or no boats")
	}
	if view := bound.View([]string{"clerk"}); view.Type("Firm") == nil {
		t.Error("a clerk sees no firms")
	}
	_, _, problems = binding.ResolveFor(binding.Unruled{Required: true}, texts, ruledSources())
	if len(problems) != 1 || problems[0].Msg != "Firm has no rule, and access.rules in osprey.yaml says that all types have one" {
		t.Errorf("what has no rule is told as %v", problems)
	}
}
