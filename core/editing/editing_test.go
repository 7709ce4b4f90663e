package editing_test

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"osprey/core/binding"
	"osprey/core/editing"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
	"osprey/core/validate"
)

func sources() map[string]*binding.Source {
	registry := storetest.Catalogue(storetest.RegistryCatalogue)
	registry.Sets["craft"].About = "Craft that have called."
	registry.Sets["port_calls"].Constraints = []store.Constraint{{Name: "of_craft", Fields: []string{"craft_imo"}, Set: "craft", There: []string{"imo"}}}
	notices := storetest.Catalogue(storetest.NoticesCatalogue)
	tides := storetest.Catalogue(storetest.TidesCatalogue)
	for _, c := range []*store.Catalogue{notices, tides} {
		for _, set := range c.Sets {
			set.What = "resource"
		}
	}
	sampled := storetest.Catalogue(storetest.InspectionsCatalogue)
	for _, set := range sampled.Sets {
		set.Sampled, set.What = true, "collection"
	}
	return map[string]*binding.Source{
		"fees":    {Name: "fees", Kind: "functions", Naming: binding.Exact, Capabilities: store.Capabilities{CanCall: storetest.AnyFunction}},
		"notices": {Name: "notices", Kind: "rest", Naming: binding.Exact, Catalogue: notices},
		"registry": {Name: "registry", Kind: "postgres", Naming: binding.Snake, Catalogue: registry,
			Capabilities: store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey, Write: storetest.Writable()}},
		"inspections": {Name: "inspections", Kind: "mongodb", Naming: binding.Camel, Catalogue: sampled, Capabilities: store.Capabilities{Write: storetest.Documents()}},
		"tides":       {Name: "tides", Kind: "rest", Naming: binding.Exact, Catalogue: tides, Capabilities: store.Capabilities{Write: storetest.Documents()}},
	}
}

// texts reads the files of a folder of the harbour.
func texts(t testing.TB, folder string) (list []schema.Text) {
	t.Helper()
	err := filepath.WalkDir(filepath.Join("../../demo/harbour", folder), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		body, err := os.ReadFile(path)
		list = append(list, schema.Text{Name: path, Body: string(body)})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// site is the harbour, with a text of one's own behind it.
func site(t testing.TB, own string) (*editing.Site, *editing.File) {
	t.Helper()
	types, asked := texts(t, "schema"), texts(t, "operations")
	s, bound, problems := binding.Resolve(types, sources())
	if problems.Failed() {
		t.Fatal(problems)
	}
	all := append(slices.Clone(types), schema.Text{Name: "own", Body: own})
	made := editing.NewSite(nil, all, asked, s, bound, sources())
	return made, made.File("own")
}

// TestComplete completes at the place of "|" in a file of its own of the harbour.
func TestComplete(t *testing.T) {
	const call = `type Stay @stored(in: "registry", as: "port_calls", key: "id") { `
	for _, test := range []struct{ text, want string }{
		{`|`, "type interface union enum input scalar directive extend schema"},
		{`ty|`, "type interface union enum input scalar directive extend schema"},
		{`extend |`, "type interface union enum input scalar schema"},
		{`extend interface |`, "Craft Logged Named"},
		{`type |`, ""},
		{`type Stay implements Named & |`, "Craft Logged"},
		{`type Stay @|`, "for kind stored"},
		{`type Stay @stored(|`, "in as key"},
		{`type Stay @stored(in: "registry", |)`, "as key"},
		{`type Stay @stored(in: |)`, `"fees" "inspections" "notices" "registry" "tides"`},
		{`type Stay @stored(in: "|`, "fees inspections notices registry tides"},
		{`type Stay @stored(in: "tides", as: "|")`, "contacts events stations"},
		{`type Stay @stored(in: "nowhere", as: "|")`, ""},
		{`type Stay @stored(in: "registry", as: "pilots", key: ["|`, "id name licence"},
		{call + `id: ID! | }`, "arrivedAt: DateTime! berthNumber: Int cargoT: Decimal craft: Craft! @related(here: \"craft_imo\") craftImo: Int! departedAt: DateTime purpose: Purpose! quayCode: String"},
		{call + `id: | }`, ">Berth CargoShip PortCall Purpose Int DateTime JSON CraftConnection"},
		{call + `id(at: |): Int }`, ">Purpose CraftFilter CraftSort CraftAdd Int Named-"},
		{call + `id: ID! @| }`, ">at related computed total stored-"},
		{call + `here: ID! @at(path: "|") }`, ">craft_imo berth_number"},
		{call + `craft: Craft @related(here: "|") }`, ">craft_imo"},
		{call + `craft: Craft @related(there: ["|"]) }`, ">imo operator_id craft_imo-"},
		{call + `pilots: [Pilot] @related(through: {|}) }`, "set here there"},
		{call + `pilots: [Pilot] @related(through: {set: "|"}) }`, ">pilotage port_calls"},
		{call + `pilots: [Pilot] @related(through: {set: "pilotage", here: "|"}) }`, ">call_id pilot_id"},
		{call + `pilots: [Pilot] @related(sort: "|") }`, "id name licence"},
		{call + `pilots: [Pilot] @related(sort: ["name |"]) }`, "asc desc"},
		{call + `pilots: PilotConnection @related(sort: "|") }`, "id name licence"},
		{call + `n: Int @total(of: "|") pilots: [Pilot] @related(here: "id") }`, "pilots"},
		{call + `n: Int @total(of: "pilots", max: "|") pilots: [Pilot] @related(here: "id") }`, "id name licence"},
		{call + `x: Int @computed(expr: "|") }`, "record args caller"},
		{call + `craft: Craft x: Int @computed(expr: "record.craft.na|") }`, ">name lengthM imo"},
		{call + `x(days: Int): Int @computed(expr: "args.|") }`, "days"},
		{call + `x(quay: ID, all: Boolean @for(when: "args.|")): Int }`, "quay all"},
		{call + `x(all: Boolean @for(when: "|")): Int }`, "args caller"},
		{`extend type Subscription { x: PortCall @watch(on: "|") }`, "ADDED CHANGED REMOVED"},
		{`extend type Subscription { x: Move @watch(type: "|") } type Move { id: ID! }`, ">PortCall Due"},
		{`input Ask { quay: ID all: Boolean @for(when: "args.|") }`, "quay all"},
		{call + `craft: Craft x: Int @computed(needs: "craft { operator { |") }`, ">name country"},
		{call + `x: Int @computed(by: "|") }`, "fees."},
		{`extend type Tanker { | }`, ">bollardPullT: Decimal imo-"},
		{`type Lugger implements Craft { imo: ID! | }`, ">name: String! calls(limit: Int = 10, offset: Int): [PortCall!]! imo-"},
		{`union Thing = Berth | |`, ">Pilot Quay Berth- Craft-"},
		{`extend type Query { x: [Pilot] @read(sort: "|") }`, "id name licence"},
		{`extend type Mutation { x(imo: ID!, lengthM: Float): Craft @change(expect: "|") }`, "imo lengthM"},
		{`extend type Mutation { x(imo: ID!): Pilot @add(set: "|") }`, "id:  name:  licence: "},
		{`extend type Mutation { x(id: ID!, pilot: ID!): PortCall @pair(field: "|") }`, "pilots"},
		{`extend enum Purpose { LAYUP @at(path: "|") }`, "bunker load passengers repair unload"},
		{`type Stay @stored(in: "registry", as: "port_calls", key: "id") @for(when: "record.|") { id: ID! }`, "id"},
		{`extend enum Purpose { | }`, ""},
		{`directive @mine on |`, ">OBJECT FIELD_DEFINITION"},
		{"type Stay {\n  name: String\n\ntype Other @|", "for kind stored"},
		{"\"\"\"\nWhat it | is\n\"\"\"", ""},
		{"# what |", ""},
		{`type Stay @kind(is: "|`, ""},
	} {
		at := strings.LastIndex(test.text, "|")
		s, f := site(t, test.text[:at]+test.text[at+1:])
		list, from := s.Complete(f, at)
		if from > at || strings.ContainsAny(f.Text[from:at], " \"{") && !strings.Contains(test.text, "needs") {
			t.Errorf("%s: the word begins at %q", test.text, f.Text[from:at])
		}
		var got []string
		for _, c := range list {
			label := c.Label
			if c.Insert != "" && !strings.Contains(c.Insert, "$0") {
				label = c.Insert
			}
			got = append(got, label)
		}
		want, some := strings.CutPrefix(test.want, ">")
		if !some {
			if joined := strings.Join(got, " "); joined != want && joined != sorted(want) && sorted(joined) != sorted(want) {
				t.Errorf("%s\ncompletes %s\nwant      %s", test.text, joined, want)
			}
			continue
		}
		for _, w := range strings.Fields(want) {
			absent := strings.HasSuffix(w, "-")
			if strings.Contains(" "+strings.Join(got, " ")+" ", " "+strings.TrimSuffix(w, "-")+" ") == absent {
				t.Errorf("%s\ncompletes %s\nwhich has %s: %t", test.text, strings.Join(got, " "), w, absent)
			}
		}
	}
}

func sorted(text string) string {
	list := strings.Fields(text)
	slices.Sort(list)
	return strings.Join(list, " ")
}

// TestHover says what the word behind "|" means.
func TestHover(t *testing.T) {
	for _, test := range []struct{ text, want string }{
		{`type Stay @stored(in: "|registry", as: "craft") { id: ID! }`, "source registry, postgres"},
		{`type Stay @stored(in: "registry", as: "|craft") { id: ID! }`, "table craft / Craft that have called."},
		{`type |Stay @stored(in: "registry", as: "craft") { id: ID! }`, "type Stay / registry · craft"},
		{`type Stay @|stored(in: "registry", as: "craft") { id: ID! }`, "@stored / Records of this type"},
		{`type Stay @stored(|in: "registry", as: "craft") { id: ID! }`, "@stored(in: String!)"},
		{`type Stay @stored(in: "registry", as: "craft") { |lengthM: Float }`, "Stay.lengthM: Float / registry · craft.length_m, float, not null"},
		{`type Stay @stored(in: "registry", as: "port_calls") { x: Craft @related(here: "|craft_imo") }`, "port_calls.craft_imo / foreign key to craft.imo"},
		{`extend type PortCall { x: Int @computed(expr: "record.craft.|lengthM > 1.0 ? 1 : 0") }`, "Craft.lengthM: Float!"},
		{`extend type PortCall { x: Int @computed(expr: "record.incidents.exists(i, i.|kind == 'record.id')") }`, "Incident.kind"},
		{`extend type PortCall { x: Int @computed(expr: "'record.|craft'") }`, ""},
		{`extend type Query { x: |PortCallConnection @read }`, "type PortCall"},
		{`extend type Query { x: [|Nothing] }`, ""},
		{`extend enum Purpose { LAYUP @at(path: "|load") }`, ""},
	} {
		at := strings.Index(test.text, "|")
		s, f := site(t, test.text[:at]+test.text[at+1:])
		m := s.Hover(f, at)
		if m == nil {
			if test.want != "" {
				t.Errorf("%s means nothing", test.text)
			}
			continue
		}
		got := strings.Join(append([]string{m.Title, m.Text}, m.Lines...), "\n")
		for _, part := range strings.Split(test.want, " / ") {
			if !strings.Contains(got, part) || test.want == "" {
				t.Errorf("%s means\n%s\nwant %s", test.text, got, test.want)
			}
		}
	}
	s, _ := site(t, "")
	for _, test := range []struct{ file, word, want string }{
		{"schema/craft.graphql", "calls(limit", "registry · port_calls, whose craft_imo = imo of this record"},
		{"schema/craft.graphql", "callCount", "an aggregate: how many calls there are"},
		{"schema/craft.graphql", "lastArrival", "an aggregate: the greatest arrivedAt of calls"},
		{"schema/craft.graphql", "callSign", "deprecated it is in fittings"},
		{"schema/calls.graphql", "fee(days", "computed by the function fees.quote"},
		{"schema/calls.graphql", "hours:", "computed: double("},
		{"schema/calls.graphql", "pilots:", "over the join table pilotage"},
		{"schema/calls.graphql", "LOADING", "stored as load"},
		{"schema/query.graphql", "craft(imo", "reads registry · craft"},
		{"schema/query.graphql", "imo: ID", "narrows by registry · craft.imo"},
		{"operations/Board.graphql", "arrivedAt: DESC", "PortCall.arrivedAt: DateTime!"},
		{"operations/Board.graphql", "doubleHull", "Tanker.doubleHull"},
	} {
		f := s.File(filepath.Join("../../demo/harbour", test.file))
		m := s.Hover(f, strings.Index(f.Text, test.word)+1)
		if m == nil || !strings.Contains(m.Title+"\n"+strings.Join(m.Lines, "\n"), test.want) {
			t.Errorf("%s in %s means %+v, want %s", test.word, test.file, m, test.want)
		}
	}
}

// TestReferences finds where a name is used, in texts of every kind.
func TestReferences(t *testing.T) {
	s, _ := site(t, "")
	f := s.File("../../demo/harbour/schema/craft.graphql")
	var places []string
	for _, found := range s.References(f, strings.Index(f.Text, "lengthM: Float!")+1, true) {
		src := language.NewSource("", found.File.Text)
		places = append(places, fmt.Sprintf("%s %s", filepath.Base(found.File.Name), strings.TrimSpace(src.Line(src.Position(src.Pos(found.From)).Line))))
		if word := found.File.Text[found.From:found.To]; word != "lengthM" {
			t.Errorf("a reference to lengthM is %q", word)
		}
	}
	all := strings.Join(places, "\n")
	for _, want := range []string{"craft.graphql lengthM: Float!", "record.lengthM * 32.8084", "craft { lengthM } berth", "Craft.graphql"} {
		if !strings.Contains(all, want) {
			t.Errorf("no reference is in %q:\n%s", want, all)
		}
	}
	if strings.Contains(all, "Berth") {
		t.Errorf("the length of a berth is another one:\n%s", all)
	}
	defined := s.Definitions(s.File("../../demo/harbour/operations/Board.graphql"), strings.Index(s.File("../../demo/harbour/operations/Board.graphql").Text, "doubleHull"))
	if len(defined) != 1 || filepath.Base(defined[0].File.Name) != "craft.graphql" {
		t.Errorf("doubleHull is defined in %+v", defined)
	}
}

// TestRenameKeeps calls everything that the harbour defines otherwise, one name at a time: what
// was sound must be sound, and each field must be bound to what it was.
func TestRenameKeeps(t *testing.T) {
	types, asked := texts(t, "schema"), texts(t, "operations")
	before, bound, problems := binding.Resolve(types, sources())
	if problems.Failed() {
		t.Fatal(problems)
	}
	want := where(before, bound)
	s := editing.NewSite(nil, types, asked, before, bound, sources())
	renamed := 0
	var wait errgroup.Group
	wait.SetLimit(runtime.GOMAXPROCS(0))
	for _, text := range slices.Concat(types, asked) {
		f := s.File(text.Name)
		for _, e := range editing.Outline(f) {
			entries := append([]editing.Entry{e}, e.Inner...)
			if s.File(text.Name).Schema && strings.HasPrefix(e.Detail, "extend") {
				entries = e.Inner
			}
			for _, entry := range entries {
				m, word, err := s.Renamable(f, entry.From)
				if err != nil {
					continue // a root type
				}
				if m.From != entry.From || word != entry.Name {
					t.Fatalf("%s: at %s stands %s", f.Name, entry.Name, word)
				}
				edits, err := s.Rename(f, entry.From, entry.Name+"Anew")
				if err != nil {
					t.Errorf("%s cannot be renamed: %v", entry.Name, err)
					continue
				}
				renamed++
				changed := func(list []schema.Text) (out []schema.Text) {
					for _, text := range list {
						for _, edit := range slices.Backward(edits) {
							if edit.File.Name == text.Name {
								text.Body = text.Body[:edit.From] + edit.With + text.Body[edit.To:]
							}
						}
						out = append(out, text)
					}
					return out
				}
				wait.Go(func() error {
					after, bound, problems := binding.Resolve(changed(types), sources())
					if problems.Failed() {
						t.Errorf("%s.%s: %v", e.Name, entry.Name, problems[0].Msg)
						return nil
					}
					if got := where(after, bound); got != want {
						t.Errorf("after %s.%s is renamed, other things are asked for:\n%s", e.Name, entry.Name, difference(want, got))
					}
					for _, text := range changed(asked) {
						doc, problems := language.Parse(language.NewSource(text.Name, text.Body))
						if problems = append(problems, validate.Document(after, doc)...); problems.Failed() {
							t.Errorf("after %s.%s is renamed, %s: %s", e.Name, entry.Name, text.Name, problems[0].Msg)
						}
					}
					return nil
				})
			}
		}
	}
	wait.Wait()
	if renamed < 250 {
		t.Errorf("only %d names were changed", renamed)
	}
}

// where tells, of every field, what it is bound to, without how it is called.
func where(s *schema.Schema, b *binding.Bound) string {
	var lines []string
	add := func(f *binding.Field) {
		for _, part := range f.Each() {
			line := fmt.Sprintf("%d %s", part.How, part.Wanted.Path)
			if part.Target != nil {
				line += fmt.Sprintf(" %s.%s %v=%v %+v", part.Target.Source.Name, part.Target.Set, part.There, part.Here, part.Sort)
			}
			if part.JoinTable != nil {
				line += fmt.Sprintf(" through %+v", *part.JoinTable)
			}
			if part.Enum != nil {
				var stored []string
				for _, v := range part.Enum.Stored {
					stored = append(stored, v)
				}
				slices.Sort(stored)
				line += fmt.Sprint(stored)
			}
			for _, a := range part.Args {
				line += fmt.Sprintf(" (%d %s)", a.Role, a.Path)
			}
			lines = append(lines, line)
		}
	}
	for _, root := range []*schema.Object{s.Query, s.Mutation} {
		for _, f := range root.Fields {
			if bound := b.Root(f); bound != nil {
				add(bound)
			}
		}
	}
	for _, t := range s.Types() {
		r := b.Records(t)
		if r == nil {
			continue
		}
		for _, o := range s.Possible(t) {
			if r.Object(o) == nil {
				continue
			}
			for _, f := range r.Object(o).Fields {
				add(f)
			}
			if r.Kind != nil {
				lines = append(lines, "kind "+r.Kind.Stored[o])
			}
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// difference returns the lines that only one of two texts has.
func difference(a, b string) string {
	var out []string
	as, bs := strings.Split(a, "\n"), strings.Split(b, "\n")
	for _, line := range as {
		if !slices.Contains(bs, line) {
			out = append(out, "- "+line)
		}
	}
	for _, line := range bs {
		if !slices.Contains(as, line) {
			out = append(out, "+ "+line)
		}
	}
	return strings.Join(out, "\n")
}

// TestRenameRefused says why something is not called otherwise.
func TestRenameRefused(t *testing.T) {
	for _, test := range []struct{ text, to, want string }{
		{`type |Stay { id: ID }`, "Craft", "there is the type Craft already"},
		{`type |Stay { id: ID }`, "4ever", "is no name"},
		{`type |Stay { id: ID }`, "__stay", "for introspection"},
		{`type Stay { |id: ID name: ID }`, "name", "there is Stay.name already"},
		{`type Stay @|stored(in: "registry") { id: ID }`, "kept", "belongs to the language"},
		{`type Stay @stored(in: "|registry") { id: ID }`, "book", "is what the store calls it"},
		{`type Stay { id: |ID }`, "Key", "is defined in none"},
		{`extend type |Query { id: ID }`, "Ask", "is what a root type is called"},
		{`type Stay { a(|b: Int c: Int): Int }`, "c", "there is Stay.a(c:) already"},
	} {
		at := strings.Index(test.text, "|")
		s, f := site(t, test.text[:at]+test.text[at+1:])
		if _, err := s.Rename(f, at, test.to); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s to %s: %v, want %s", test.text, test.to, err, test.want)
		}
	}
}

// FuzzAnywhere asks for all that there is at a place of a text that may be anything.
func FuzzAnywhere(f *testing.F) {
	f.Add(`type A @stored(in: "registry", as: "craft") { imo: ID! @at(path: "imo") } query { a }`, 20)
	f.Add(`extend type PortCall { x: Int @computed(expr: "record.craft.'") needs: {{{`, 50)
	made, _ := site(f, "")
	f.Fuzz(func(t *testing.T, text string, at int) {
		for _, isSchema := range []bool{true, false} {
			own, none := []schema.Text{{Name: "own", Body: text}}, []schema.Text(nil)
			if !isSchema {
				own, none = none, own
			}
			s := editing.NewSite(nil, append(texts(t, "schema")[:2], own...), none, made.Last, made.Bound, made.Sources)
			file := s.File("own")
			if at < 0 || at > len(text) {
				at = len(text)
			}
			if _, from := s.Complete(file, at); from > at {
				t.Errorf("the word begins at %d, behind %d", from, at)
			}
			s.Hover(file, at)
			s.Definitions(file, at)
			for _, found := range s.References(file, at, true) {
				_ = found.File.Text[found.From:found.To]
			}
			if edits, err := s.Rename(file, at, "other"); err == nil {
				for _, e := range edits {
					_ = e.File.Text[e.From:e.To]
				}
			}
			editing.Outline(file)
		}
	})
}

// TestEverywhere asks for all that there is at every place of the harbour's files, also with
// nothing behind it.
func TestEverywhere(t *testing.T) {
	types, asked := texts(t, "schema"), texts(t, "operations")
	whole, _ := site(t, "")
	step := 11 // all of them, in turn, are for FuzzAnywhere
	for i, text := range types {
		for at := 0; at <= len(text.Body); at += step {
			cut := slices.Clone(types)
			cut[i].Body = text.Body[:at]
			s := editing.NewSite(whole, cut, asked, whole.Last, whole.Bound, whole.Sources)
			f := s.File(text.Name)
			if _, from := s.Complete(f, at); from > at {
				t.Fatalf("%s:%d: the word begins behind the place", text.Name, at)
			}
			s.Hover(f, at)
			whole.Hover(whole.File(text.Name), at)
		}
	}
}
