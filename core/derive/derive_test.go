package derive_test

import (
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/derive"
	"osprey/core/language"
	"osprey/core/store"
	"osprey/core/store/storetest"
)

// TestTypes derives types of a catalogue that no store has told: a pair of foreign keys into one
// table, one into its own table, a join table, an enum, and what looks secret.
func TestTypes(t *testing.T) {
	c := storetest.Catalogue(`ships: imo int! name text kind text=tug|tanker tow_imo int? owner_id int+ user_id int+ api_token text
operators: id int! name text?
flags: code text!
ship_flags: ship_imo int flag_code text+ (ship_imo,flag_code)!
odd names: id int! Größe text`)
	lead := func(set, column, to, there string) {
		c.Sets[set].Constraints = append(c.Sets[set].Constraints, store.Constraint{Fields: []string{column}, Set: to, There: []string{there}})
	}
	lead("ships", "tow_imo", "ships", "imo")
	lead("ships", "owner_id", "operators", "id")
	lead("ships", "user_id", "operators", "id")
	lead("ship_flags", "ship_imo", "ships", "imo")
	lead("ship_flags", "flag_code", "flags", "code")
	made := derive.Types(c, derive.Options{Source: "db", Naming: binding.Snake})
	text := made.Text("db")
	if _, err := language.Parse(language.NewSource("made", text)); err != nil {
		t.Fatalf("what is made cannot be read: %v\n%s", err, text)
	}
	flat := strings.Join(strings.Fields(text), " ")
	for _, want := range []string{
		`type Ship @stored(in: "db", as: "ships", key: "imo") {`,
		`tow: Ship @related(here: "tow_imo")`,
		`owner: Operator! @related(here: "owner_id")`,
		`user: Operator! @related(here: "user_id")`,
		`flags: [Flag!]! @related(through:`,
		`ships: [Ship!]! @related(through:`,
		`type Operator @stored(in: "db", as: "operators", key: "id") { id: ID! name: String `,
		`TANKER`,
	} {
		if !strings.Contains(flat, want) {
			t.Errorf("%s is not made in:\n%s", want, text)
		}
	}
	if strings.Contains(text, "Token") || !strings.Contains(strings.Join(made.Left, "\n"), "api_token") {
		t.Errorf("what looks secret is made, or not told: %v", made.Left)
	}
	if strings.Contains(text, "type ShipFlag ") {
		t.Errorf("a join table has a type:\n%s", text)
	}
	// The names are kept, though a foreign key comes before those that were there.
	before, _ := language.Parse(language.NewSource("made", text))
	c.Sets["ships"].Constraints = c.Sets["ships"].Constraints[:0]
	c.Sets["ships"].Fields = append([]store.Field{{Name: "builder_id", Kind: store.Int}}, c.Sets["ships"].Fields...)
	lead("ships", "builder_id", "operators", "id")
	lead("ships", "tow_imo", "ships", "imo")
	lead("ships", "owner_id", "operators", "id")
	lead("ships", "user_id", "operators", "id")
	again := derive.Types(c, derive.Options{Source: "db", Naming: binding.Snake, Before: derive.Read(before, binding.Snake, nil)}).Text("db")
	kept := map[string]bool{}
	for _, line := range strings.Split(again, "\n") {
		kept[line] = true
	}
	for _, line := range strings.Split(text, "\n") {
		if !kept[line] {
			t.Errorf("%q is made no more:\n%s", line, again)
		}
	}
}
