package plan_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
	"osprey/core/validate"
)

var update = flag.Bool("update", false, "write the golden files of plans")

func harbour(t *testing.T) *binding.Bound {
	t.Helper()
	documents := storetest.Catalogue(storetest.InspectionsCatalogue)
	for _, set := range documents.Sets {
		set.Sampled = true
	}
	tides := storetest.Catalogue(storetest.TidesCatalogue)
	for _, set := range tides.Sets {
		set.What = "resource"
	}
	harbour, problems := binding.Build(storetest.HarbourTexts(t, "../.."), func(source string) bool { return source == "registry" })
	if problems.Failed() {
		t.Fatal(problems)
	}
	bound, problems := binding.Bind(harbour, map[string]*binding.Source{
		"registry": {Name: "registry", Naming: binding.Snake, Catalogue: storetest.Catalogue(storetest.RegistryCatalogue),
			Capabilities: store.Capabilities{Fold: true, Link: true, Group: store.BySource, Page: store.PagePerKey, Write: storetest.Writable(), Aggregate: true}},
		"inspections": {Name: "inspections", Naming: binding.Camel, Catalogue: documents, Capabilities: store.Capabilities{Group: store.BySet, Page: store.PageWhole, Write: storetest.Documents()}},
		"tides":       {Name: "tides", Naming: binding.Exact, Catalogue: tides, Capabilities: store.Capabilities{Write: storetest.Documents()}},
		"notices":     {Name: "notices", Naming: binding.Exact, Catalogue: storetest.Catalogue(storetest.NoticesCatalogue)},
		"fees":        {Name: "fees", Naming: binding.Exact, Capabilities: store.Capabilities{CanCall: storetest.AnyFunction}},
	})
	if problems.Failed() {
		t.Fatal(problems)
	}
	return bound
}

func build(t *testing.T, bound *binding.Bound, text string, vars map[string]schema.Value) *plan.Plan {
	t.Helper()
	doc, problems := language.Parse(language.NewSource("", text))
	if len(problems) == 0 {
		problems = validate.Document(bound.Schema, doc)
	}
	if len(problems) > 0 {
		t.Fatalf("%s\nreports %q", text, problems)
	}
	for _, d := range doc.Definitions {
		if op, ok := d.(*language.Operation); ok {
			return plan.Build(bound, doc, op, vars, nil)
		}
	}
	t.Fatal("no operation")
	return nil
}

// TestPlans compares the plans of the operations in testdata with their golden
// files. No store is asked: a plan is data.
func TestPlans(t *testing.T) {
	bound := harbour(t)
	files, _ := filepath.Glob("testdata/*.graphql")
	demo, _ := filepath.Glob("../../demo/harbour/operations/*.graphql")
	for _, file := range append(files, demo...) {
		name := strings.TrimSuffix(filepath.Base(file), ".graphql")
		t.Run(name, func(t *testing.T) {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			got := build(t, bound, string(text), map[string]schema.Value{"limit": int64(25), "imo": "9100007", "calls": []schema.Value{"3494"}, "days": int64(2)}).String()
			golden := filepath.Join("testdata", name+".plan")
			if *update {
				if err := os.WriteFile(golden, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(golden)
			if err != nil {
				t.Fatal(err)
			}
			if got != string(want) {
				t.Errorf("the plan is\n%s\nwant\n%s", got, want)
			}
		})
	}
}

// TestWaves holds how many requests in how many waves operations need.
func TestWaves(t *testing.T) {
	bound := harbour(t)
	for _, test := range []struct {
		text            string
		requests, waves int
	}{
		{`{ __typename __schema { types { name } } }`, 0, 0},
		{`{ quays { name } fleet { name } operators { name } }`, 1, 1},
		{`{ craft(imo: 1) { operator { parent { subsidiaries { fleet { name } } } } } }`, 1, 1},
		{`{ craft(imo: 1) { name inspections { heldOn } } }`, 2, 2},
		// Two uses of one collection by the same key are one find.
		{`{ a: craft(imo: 1) { inspections { heldOn } } b: craft(imo: 2) { inspections(limit: 1) { outcome } } }`, 2, 2},
		// By other keys and conditions too.
		{`{ craft(imo: 1) { a: inspections(outcome: PASSED) { heldOn } b: inspections { heldOn } } }`, 2, 2},
		// Two collections are two finds.
		{`{ portCalls { craft { inspections { heldOn } } incidents { at } } }`, 3, 2},
		// The station's code is known from the quay, so nobody waits for the station.
		{`{ quays { station { name events { at } contact { officer } } } }`, 4, 2},
		{`{ station(code: "SKE") { name events { at } } }`, 2, 2},
		// Back to the craft by the number the inspections were found by: known ahead.
		{`{ craft(imo: 1) { inspections { craft { name operator { name } } } } }`, 3, 2},
		// Left the registry and come back by a key that only the document has: no plan has fewer.
		{`{ pilot(licence: "x") { calls { incidents { call { craft { name } } } } } }`, 3, 2},
		{`{ portCall(id: 1) { craft { inspections { craft { calls { manifest { lines { goods } } } } } } } }`, 4, 3},
		{`{ stations { quays { berths { number } } } }`, 2, 2},
		{`{ inspections { craft { inspections { heldOn } } } }`, 3, 2},
		// Fields left out cost nothing.
		{`{ craft(imo: 1) { name inspections @skip(if: true) { heldOn } } }`, 1, 1},
		{`{ craft(imo: 1) { name ... on Tug @include(if: false) { tow { inspections { heldOn } } } } }`, 1, 1},
	} {
		p := build(t, bound, test.text, nil)
		if len(p.Fetches) != test.requests || p.Waves != test.waves {
			t.Errorf("%s\nneeds %d requests in %d waves, want %d in %d:\n%s", test.text, len(p.Fetches), p.Waves, test.requests, test.waves, p)
		}
	}
}

// TestDependencies checks what a plan depends on: never the value of a limit or a key.
func TestDependencies(t *testing.T) {
	bound := harbour(t)
	const text = `query ($b: Boolean = true, $limit: Int, $sort: [PortCallSort!], $purpose: Purpose) {
		portCalls(limit: $limit, sort: $sort, purpose: $purpose) { id craft @include(if: $b) { name } } }`
	base := map[string]schema.Value{"b": true, "limit": int64(5)}
	p := build(t, bound, text, base)
	for _, test := range []struct {
		name string
		vars map[string]schema.Value
		same bool
	}{
		{"another limit", map[string]schema.Value{"b": true, "limit": int64(500)}, true},
		{"no limit", map[string]schema.Value{"b": true}, false},
		{"another condition", map[string]schema.Value{"b": false, "limit": int64(5)}, false},
		{"a sort key", map[string]schema.Value{"b": true, "limit": int64(5), "sort": []schema.Value{schema.InputFields{{Name: "id", Value: schema.Symbol("ASC")}}}}, false},
		{"a purpose", map[string]schema.Value{"b": true, "limit": int64(5), "purpose": schema.Symbol("LOADING")}, false},
		{"null, which is not the same as absent", map[string]schema.Value{"b": true, "limit": int64(5), "purpose": nil}, false},
	} {
		if same := p.Depends.Key(test.vars, nil) == p.Depends.Key(base, nil); same != test.same {
			t.Errorf("%s: the plan can be used again: %t, want %t", test.name, same, test.same)
		}
	}
}

// TestMost holds how many keys and records an operation can cost at most.
func TestMost(t *testing.T) {
	bound := harbour(t)
	for _, test := range []struct{ text, want string }{
		{`query ($limit: Int = 25) { portCalls(limit: $limit) { craft { operator { name } inspections(limit: 3) { outcome } } berth { quay { station { name contact { officer } } } } pilots { name } } }`,
			"port_calls 0 7, craft 0 7, operators 0 7, berths 0 7, quays 0 7, pilots 0 -1; inspections 7 -1; stations 7 7; contacts 7 7"},
		{`{ craft(imo: "1") { calls(limit: 4) { id manifest { lines { goods } } } callCount } quays { code } }`, "craft 0 1, port_calls 0 4, port_calls 0 1, quays 0 -1; manifests 4 4"},
		{`{ craft(imo: "1") { logbook(first: 4) { totalCount edges { node { incidents { kind } } } } } stations(limit: 2) { contact { phone } } }`,
			"craft 0 1, port_calls 0 5, port_calls 0 1; stations 0 -1; incidents 5 -1; contacts -1 -1"},
		{`{ craft(imo: "1") { inspections { craft { inspections { outcome } } } } }`, "craft 0 1; inspections 1 -1; craft 1 -1"},
	} {
		vars := map[string]schema.Value{"limit": int64(7)}
		p := build(t, bound, test.text, vars)
		var fetches []string
		for _, f := range p.Fetches {
			var reads []string
			for _, r := range f.Reads {
				keys, records := p.Most(r, vars)
				reads = append(reads, fmt.Sprint(r.Store.Set, " ", keys, " ", records))
			}
			fetches = append(fetches, strings.Join(reads, ", "))
		}
		if got := strings.Join(fetches, "; "); got != test.want {
			t.Errorf("%s\ncosts at most %s\nwant          %s", test.text, got, test.want)
		}
	}
}

// TestLimits holds what an operation would cost with other limits: each of the costs is that of the operation
// with this limit in its text.
func TestLimits(t *testing.T) {
	bound := harbour(t)
	text := `query ($n: Int = 5) { portCalls(limit: $n) { id craft { name } } craft(imo: "1") { calls(limit: 4) { id } logbook(first: 4) { edges { node { id } } } inspections(limit: 3) { outcome } } two: craft(imo: "2") { ...C } three: craft(imo: "3") { ...C } } fragment C on Craft { calls(limit: 20) { id } }`
	vars := map[string]schema.Value{"n": int64(5)}
	limits := build(t, bound, text, vars).Limits(vars, 200)
	var got []string
	for _, l := range limits {
		got = append(got, fmt.Sprint(l.Field, " ", l.Argument, " ", l.Variable, " ", l.Value))
		written := map[string]string{"portCalls": "Int = 5", "craft.calls": "limit: 4", "craft.logbook": "first: 4", "two.calls": "limit: 20"}[l.Field]
		for _, c := range l.Costs {
			is := strings.TrimRight(written, "0123456789") + fmt.Sprint(c.Value)
			own := map[string]schema.Value{"n": int64(5)}
			if l.Variable != "" {
				own["n"] = c.Value
			}
			if cost := build(t, bound, strings.Replace(text, written, is, 1), own).Cost(own, 200); cost != c.Cost {
				t.Errorf("with %s of %s: %d it is told to cost %d, and costs %d", l.Argument, l.Field, c.Value, c.Cost, cost)
			}
		}
		if n := len(l.Costs); n != 5 || l.Costs[n-1].Value != 100 {
			t.Errorf("%s is told with %v", l.Field, l.Costs)
		}
	}
	var many strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&many, " a%d: portCalls(limit: %d) { id }", i, i%90+1)
	}
	if n := len(build(t, bound, "{"+many.String()+" }", nil).Limits(nil, 200)); n != 20 {
		t.Errorf("%d limits are told", n)
	}
	if want := "portCalls limit n 5, craft.calls limit  4, craft.logbook first  4, two.calls limit  20"; strings.Join(got, ", ") != want {
		t.Errorf("the limits are %s, want %s", strings.Join(got, ", "), want)
	}
}
