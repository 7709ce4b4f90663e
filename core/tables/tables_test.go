package tables_test

import (
	"slices"
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
	"osprey/core/tables"
)

const types = `type Query { crafts: [Craft!] @read }
type Craft @stored(in: "db", as: "crafts", key: "imo") {
  imo: ID!
  name: String!
  operator: Operator @related(here: "operator_id")
  flags: [Flag!]! @related(through: {set: "craft_flags", here: ["craft_imo"], there: ["flag_id"]})
}
type Operator @stored(in: "db", as: "operators", key: "id") { id: ID! name: String }
type Flag @stored(in: "db", as: "flags", key: "id") { id: ID! }`

// held is those types as a database has them.
const held = `crafts: imo text! name text operator_id int+?
operators: id int! name text?
flags: id int!
craft_flags: craft_imo text flag_id int+ (craft_imo,flag_id)!`

func of(t *testing.T, text string) []*tables.Table {
	t.Helper()
	s, problems := binding.Build([]schema.Text{{Name: "s", Body: text}}, nil)
	if problems.Failed() {
		t.Fatal(problems)
	}
	list, faults := tables.Of(s, "db", binding.Exact)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return list
}

func foreign(c *store.Catalogue) *store.Catalogue {
	lead := func(set, column, to, there string) {
		c.Sets[set].Constraints = append(c.Sets[set].Constraints, store.Constraint{Fields: []string{column}, Set: to, There: []string{there}})
	}
	lead("crafts", "operator_id", "operators", "id")
	lead("craft_flags", "craft_imo", "crafts", "imo")
	lead("craft_flags", "flag_id", "flags", "id")
	return c
}

// TestCompare holds what is to be done of what a database has, and what is told and not done.
func TestCompare(t *testing.T) {
	for _, test := range []struct {
		name, types, held string // as old=new; held is what the database has
		chosen            tables.Choices
		want              string // the steps, and what is left
	}{
		{"nothing to do", "", "", tables.Choices{}, ""},
		{"a column more", "name: String!=name: String! built: Int!", "", tables.Choices{},
			"the column crafts.built; left: crafts.built may be NULL, since records are there already: fill it, and then plan with --require crafts.built"},
		{"a column less", " name: String }= }", "", tables.Choices{}, "left: the column operators.name is in the database, and no field is stored there"},
		{"a column that goes", " name: String }= }", "", tables.Choices{Drop: []string{"operators.name"}}, "that operators.name goes, with what is in it, which undoing does not bring back"},
		{"a column called otherwise", " name: String }= title: String }", "", tables.Choices{Rename: map[string]string{"operators.name": "title"}}, "that operators.name is called title"},
		{"a foreign key called otherwise", `here: "operator_id"=here: "owner_id"`, "", tables.Choices{Rename: map[string]string{"crafts.operator_id": "crafts.owner_id"}}, "that crafts.operator_id is called owner_id"},
		{"a key called otherwise", `{ id: ID! }={ id: ID! @at(path: "no") }`, "", tables.Choices{Rename: map[string]string{"flags.id": "no"}}, "that flags.id is called no"},
		{"a table called otherwise", `as: "operators"=as: "owners"`, "", tables.Choices{Rename: map[string]string{"operators": "owners"}}, "that operators is called owners"},
		{"an index that is not there", "", "flag_id int+=flag_id int", tables.Choices{}, "an index on craft_flags (flag_id)"},
		{"a column that is never NULL", "name: String }=name: String! }", "", tables.Choices{},
			"left: operators.name may be NULL, and the type says that it is not; plan with --require operators.name to forbid it"},
		{"a column that is chosen to be never NULL", "name: String }=name: String! }", "", tables.Choices{Require: []string{"operators.name"}}, "that operators.name is never NULL"},
		{"a column of another type", "name: String!=name: Int!", "", tables.Choices{},
			"left: crafts.name is text, and the type's field Int: it is left as it is; plan with --retype crafts.name to change it, with what is in it"},
		{"a column that is chosen to be of another type", "name: String!=name: Int!", "", tables.Choices{Retype: []string{"crafts.name"}}, "that crafts.name is Int, with what is in it, as far as that fits"},
		{"a unique key", "type Query {=type Query { craft(name: String!): Craft @read", "", tables.Choices{}, "a unique key of crafts (name)"},
		{"a field that finds by the key", "type Query {=type Query { craft(imo: ID!, name: String!): Craft @read", "", tables.Choices{}, ""},
		{"a field that narrows", "type Query {=type Query { craft(name: String): [Craft!] @read", "", tables.Choices{}, ""},
		{"one on the other side", "name: String }=name: String flagship: Craft @related(here: \"id\", there: \"operator_id\") }", "", tables.Choices{}, "a unique key of crafts (operator_id)"},
		{"a default", "type Query {=type Mutation { build(imo: ID!, name: String! = \"hull\"): Craft @add } type Query {", "", tables.Choices{}, "what crafts.name is by default"},
		{"a column that has a default", "name: String!=name: String! decks: Int!", "", tables.Choices{}, "the column crafts.decks; left: crafts.decks may be NULL, since records are there already: fill it, and then plan with --require crafts.decks"},
		{"defaults that do not agree", "type Query {=type Mutation { build(imo: ID!, name: String! = \"hull\"): Craft @add lay(imo: ID!, name: String! = \"keel\"): Craft @add } type Query {", "", tables.Choices{}, ""},
		{"a table of nobody", "", "flags: id int!=flags: id int!\nharbours: id int!", tables.Choices{}, "left: the table harbours is in the database, and no type is stored there"},
	} {
		t.Run(test.name, func(t *testing.T) {
			list := of(t, changed(test.types, types))
			catalogue := foreign(storetest.Catalogue(changed(test.held, held)))
			plan, err := tables.Compare(list, catalogue, tables.Dialects["postgres"], nil, test.chosen)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, s := range plan.Steps {
				got = append(got, s.What)
			}
			for _, left := range plan.Left {
				got = append(got, "left: "+left)
			}
			if strings.Join(got, "; ") != test.want {
				t.Errorf("to be done is\n%s\nwant\n%s", strings.Join(got, "; "), test.want)
			}
			if catalogue.Sets["crafts"].Field("operator_id") == nil || !slices.Equal(catalogue.Sets["crafts"].Constraints[0].Fields, []string{"operator_id"}) {
				t.Error("what the database has was changed by looking at it")
			}
		})
	}
}

// TestRequiredKeys holds that a foreign key is NOT NULL where its field is required, whichever side of
// the relationship is looked at first, and may be NULL where only one of several types has it.
func TestRequiredKeys(t *testing.T) {
	list := of(t, `type Query { a: [A!] @read }
type A @stored(in: "db", as: "as", key: "id") { id: ID! bs: [B!]! @related(there: "a_id") }
type B @stored(in: "db", as: "bs", key: "id") { id: ID! a: A! @related(here: "a_id") }
interface C @stored(in: "db", as: "cs", key: "id") @kind(by: "kind") { id: ID! a: A! @related(here: "a_id") }
type D implements C { id: ID! a: A! b: B! @related(here: "b_id") }
type E implements C { id: ID! a: A! }`)
	got := map[string]bool{}
	for _, table := range list {
		for _, c := range table.Columns {
			got[table.Name+"."+c.Name] = c.NotNull
		}
	}
	for column, want := range map[string]bool{"bs.a_id": true, "cs.a_id": true, "cs.b_id": false, "cs.kind": true} {
		if is, ok := got[column]; !ok || is != want {
			t.Errorf("%s is NOT NULL: %t, want %t", column, is, want)
		}
	}
}

// TestDefaultQuoted writes a default that is no number in quotes, also of a column of numbers: it stays
// one value, whatever is in it.
func TestDefaultQuoted(t *testing.T) {
	for given, want := range map[string]string{`-1.5`: `DEFAULT -1.5`, `0); DROP TABLE crafts; --`: `DEFAULT '0); DROP TABLE crafts; --'`, `it's`: `DEFAULT 'it''s'`} {
		list := of(t, `type Query { crafts: [Craft!] @read }
type Mutation { build(imo: ID!, load: String! = "`+given+`" @at(path: "load")): Craft @add }
type Craft @stored(in: "db", as: "crafts", key: "imo") { imo: ID! load: Decimal! }`)
		plan, err := tables.Compare(list, &store.Catalogue{Sets: map[string]*store.Set{}}, tables.Dialects["postgres"], nil, tables.Choices{})
		if err != nil || !strings.Contains(plan.File(), want) {
			t.Errorf("of %s, the plan is %s%v\nwant %s", given, plan.File(), err, want)
		}
	}
}

// TestChoices refuses what cannot be chosen.
func TestChoices(t *testing.T) {
	for _, test := range []struct {
		dialect, want string
		chosen        tables.Choices
	}{
		{"postgres", `there is no column "crafts.decks" in which a field is stored`, tables.Choices{Require: []string{"crafts.decks"}}},
		{"postgres", `there is no column "nobody" in which a field is stored`, tables.Choices{Retype: []string{"nobody"}}},
		{"postgres", `operators.name may be NULL by the types`, tables.Choices{Require: []string{"operators.name"}}},
		{"sqlite", `SQLite changes no column that is there`, tables.Choices{Require: []string{"crafts.name"}}},
	} {
		_, err := tables.Compare(of(t, types), foreign(storetest.Catalogue(held)), tables.Dialects[test.dialect], nil, test.chosen)
		if err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%+v: %v, want %s", test.chosen, err, test.want)
		}
	}
}

func changed(how, text string) string {
	old, now, _ := strings.Cut(how, "=")
	return strings.Replace(text, old, now, 1)
}
