package traffic_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/traffic"
	"osprey/core/validate"
)

const types = `
type Query {
  search(text: String!, first: Int = 5, kinds: [Kind!], near: Place, any: [Place!], either: Either, raw: Anything, flag: Boolean, ids: [ID!]): [Craft!]!
  port: Port
}
scalar Anything
enum Kind { TUG FERRY }
input Place { name: String, at: [Float!], inner: Place }
input Either @oneOf { name: String, number: Int }
interface Craft { name: String! }
type Tug implements Craft { name: String!, power(unit: String): Float }
type Ferry implements Craft { name: String!, lanes(least: Int!): Int, kind: Kind }
type Port { name: String! }
`

func sound(t *testing.T, text string) (*schema.Schema, *language.Document) {
	t.Helper()
	s, problems := schema.Build(schema.Text{Name: "types", Body: types})
	if problems.Failed() {
		t.Fatal(problems[0].Msg)
	}
	doc, problems := language.Parse(language.NewSource("", text))
	if !problems.Failed() {
		problems = validate.Document(s, doc)
	}
	if problems.Failed() {
		t.Fatalf("%s\n%s", problems[0].Msg, text)
	}
	return s, doc
}

func operation(t *testing.T, text string) *traffic.Operation {
	t.Helper()
	s, doc := sound(t, text)
	for _, d := range doc.Definitions {
		if op, ok := d.(*language.Operation); ok {
			return traffic.NewOperation(s, doc, op)
		}
	}
	t.Fatal("no operation")
	return nil
}

// TestNormal holds normal forms: they are sound, have no values in them, and are their own.
func TestNormal(t *testing.T) {
	for text, want := range map[string]string{
		`{ port { name } }`: `query { port { name } }`,
		`# whose
		query   Find { search( text : "Ann's tug", first: 9) { name } }`: `query Find($given1: String!, $given2: Int) { search(text: $given1, first: $given2) { name } }`,
		`query ($given1: Int, $n: Int = 3) { search(text: "a", first: $given1) { name } b: search(text: "b", first: $n) { name } }`:                                `query($given1: Int, $n: Int!, $given1_: String!, $given2: String!) { search(text: $given1_, first: $given1) { name } b: search(text: $given2, first: $n) { name } }`,
		`query Q($t: String = "Ann", $k: [Kind!] = [TUG], $p: Place = {name: "quay"}, $n: Int! = 7) { search(text: $t, kinds: $k, near: $p, first: $n) { name } }`: `query Q($t: String!, $k: [Kind!] = [TUG], $p: Place!, $n: Int!) { search(text: $t, kinds: $k, near: $p, first: $n) { name } }`,
		`{ search(text: "a", kinds: [TUG, FERRY], flag: true, ids: [1, "2"]) { ...F ... on Tug @include(if: true) { power(unit: "kW") } __typename } }
		fragment F on Ferry { lanes(least: 2) kind }`: "",
		`{ search(text: "a", near: {name: "quay", at: [1, 2.5], inner: {name: null}}) { name } }`:    `query($given1: String!, $given2: String, $given3: [Float!]) { search(text: $given1, near: {name: $given2, at: $given3, inner: {name: null}}) { name } }`,
		`{ search(text: "a", any: [{name: "x"}, {name: "y"}, {at: 3}]) { name } }`:                   `query($given1: String!, $given2: String, $given3: [Float!]) { search(text: $given1, any: [{name: $given2}, {at: $given3}]) { name } }`,
		`{ search(text: "a", any: {name: "x"}) { name } }`:                                           `query($given1: String!, $given2: String) { search(text: $given1, any: {name: $given2}) { name } }`,
		`{ search(text: "a", either: {name: "x"}) { name } }`:                                        `query($given1: String!, $given2: String!) { search(text: $given1, either: {name: $given2}) { name } }`,
		`query ($k: Anything) { search(text: "a", raw: {secret: "s", list: [1, $k, {}]}) { name } }`: `query($k: Anything, $given1: String!) { search(text: $given1, raw: {secret: "", list: [0, $k, {}]}) { name } }`,
		`{ __type(name: "Port") { fields(includeDeprecated: true) { name } } }`:                      `query($given1: String!) { __type(name: $given1) { fields(includeDeprecated: true) { name } } }`,
		`{ search(text: """block "Ann" """, kinds: [], any: []) { name } }`:                          `query($given1: String!) { search(text: $given1, kinds: [], any: []) { name } }`,
	} {
		o := operation(t, text)
		if want != "" && o.Text != want+"\n" {
			t.Errorf("%s\n  is    %s  wanted %s", text, o.Text, want)
		}
		again := operation(t, o.Text)
		if again.Text != o.Text || again.ID != o.ID {
			t.Errorf("the normal form of\n%sis\n%s", o.Text, again.Text)
		}
		for _, value := range []string{"Ann", "quay", "secret:\"s", "kW", "2.5", "#"} {
			if strings.Contains(o.Text, value) {
				t.Errorf("%s has %q in it", o.Text, value)
			}
		}
	}
}

// TestSame holds what is one operation, and what is two.
func TestSame(t *testing.T) {
	one := operation(t, `query A { search(text: "x") { name ...F ...G } } fragment F on Tug { power } fragment G on Ferry { kind }`)
	for text, same := range map[string]bool{
		"fragment G on Ferry { kind }\nfragment F on Tug { power }\nquery A { search(text: \"other\") {\n name ...F ...G } }":   true,
		`query B { search(text: "x") { name ...F ...G } } fragment F on Tug { power } fragment G on Ferry { kind }`:             false,
		`query A { search(text: "x") { name ...G ...F } } fragment F on Tug { power } fragment G on Ferry { kind }`:             false,
		`query A { search(text: "x", flag: null) { name ...F ...G } } fragment F on Tug { power } fragment G on Ferry { kind }`: false,
	} {
		if o := operation(t, text); (o.ID == one.ID) != same {
			t.Errorf("%s is %s", text, o.Text)
		}
	}
	uses := strings.Join(one.Uses, " ")
	for _, c := range []string{"Query.search", "Query.search(text:)", "Tug.power", "Ferry.kind", "Kind"} {
		if !strings.Contains(" "+uses+" ", " "+c+" ") {
			t.Errorf("%s is not among %s", c, uses)
		}
	}
	if strings.Contains(uses, "Port") {
		t.Errorf("Port is among %s", uses)
	}
}

// TestLong keeps no text of an operation that is very long, and takes no time by the square of it.
func TestLong(t *testing.T) {
	long := operation(t, "{ "+strings.Repeat(`search(text: "a", any: [{name: "x"}, {name: "y"}]) { name } `, 4000)+"}")
	if long.Text != "" || len(long.Uses) == 0 || long.ID == (traffic.ID{}) {
		t.Errorf("%d bytes are kept", len(long.Text))
	}
	items := operation(t, `{ search(text: "a", any: [`+strings.Repeat(`{name: "x"}, `, 60_000)+`]) { name } }`)
	if len(items.Text) > 200 {
		t.Errorf("items that are the same are written again and again: %d bytes", len(items.Text))
	}
}

// TestTimes holds quantiles against the durations themselves.
func TestTimes(t *testing.T) {
	var times traffic.Times
	if times.Quantile(0.5) != 0 {
		t.Error("the quantile of none is not 0")
	}
	for i := 1; i <= 10_000; i++ {
		times.Add(time.Duration(i) * 50 * time.Microsecond)
	}
	for _, q := range []float64{0.01, 0.5, 0.95, 0.99, 1} {
		want := time.Duration(q * 10_000 * float64(50*time.Microsecond))
		if got := times.Quantile(q); float64(got) < float64(want)/1.19 || float64(got) > float64(want)*1.19 {
			t.Errorf("the quantile %v is %v, and should be about %v", q, got, want)
		}
	}
	for _, d := range []time.Duration{-time.Second, 0, time.Nanosecond, 100 * time.Microsecond, time.Hour, 1 << 62} {
		times.Add(d) // a clock may be set
	}
	if times.Count() != 10_006 {
		t.Errorf("%d were counted", times.Count())
	}
}

// TestTally holds what is counted, and that it does not grow by what strangers send.
func TestTally(t *testing.T) {
	tally := traffic.NewTally()
	o := operation(t, `{ port { name } }`)
	tally.Add(1, &traffic.Asked{Operation: o, Client: "board", Took: time.Millisecond, Requests: 2, Records: 5})
	tally.Add(1, &traffic.Asked{Operation: o, Client: "board", Took: time.Millisecond, Requests: 1, Records: 1, Codes: []string{"DOWN", "TIMEOUT"}})
	tally.Add(2, &traffic.Asked{Operation: o, Client: "board"})
	tally.Add(2, &traffic.Asked{Client: "board", Codes: []string{"SYNTAX"}})
	b := tally.Take()
	e := b.Entries[traffic.Key{Operation: o.ID, Client: "board", Slot: 1}]
	if e == nil || e.Asked != 2 || e.Failed != 1 || e.Codes["DOWN"] != 1 || e.Codes["TIMEOUT"] != 1 || e.Requests != 3 || e.Records != 6 || e.Times.Count() != 2 {
		t.Errorf("the entry is %+v", e)
	}
	if len(b.Entries) != 3 || len(b.Operations) != 1 || len(tally.Take().Entries) != 0 {
		t.Errorf("there are %d entries of %d operations", len(b.Entries), len(b.Operations))
	}
	asked := int64(0)
	for i := range 50_000 { // names that somebody makes up
		asked++
		tally.Add(int64(3+i/20_000), &traffic.Asked{Operation: o, Client: fmt.Sprint("client ", i), Codes: []string{fmt.Sprint("CODE", i)}})
	}
	b = tally.Take()
	codes := map[string]bool{}
	counted := int64(0)
	for _, e := range b.Entries {
		counted += e.Asked
		for code := range e.Codes {
			codes[code] = true
		}
	}
	if len(b.Entries) > 3*(traffic.MostPairs+1) || len(codes) > traffic.MostCodes+1 || counted+tally.Dropped() != asked {
		t.Errorf("there are %d entries and %d codes; %d were counted, and %d not, of %d", len(b.Entries), len(codes), counted, tally.Dropped(), asked)
	}
	for i := range 10 { // nobody takes them
		for j := range traffic.MostPairs {
			tally.Add(int64(100+i), &traffic.Asked{Client: fmt.Sprint(j)})
		}
	}
	if tally.Waiting() > traffic.MostEntries || tally.Dropped() == 0 {
		t.Errorf("%d wait, and %d were dropped", tally.Waiting(), tally.Dropped())
	}
}

// TestMade holds what stores were asked for an operation, and its last errors, within bounds.
func TestMade(t *testing.T) {
	tally := traffic.NewTally()
	o := operation(t, `{ port { name } }`)
	made := func(id int, source string, keys int64, took time.Duration) traffic.AskedOf {
		return traffic.AskedOf{Request: traffic.Request{ID: id, Wave: id + 1, Source: source, Asks: "quays"}, Made: traffic.Made{Asked: 1, Requests: 1, Keys: keys, Records: 2 * keys, Took: took, Most: took}}
	}
	for i := range 10 {
		tally.Add(1, &traffic.Asked{Operation: o, Client: "board", Codes: []string{"DOWN", "LIMIT"}, Made: []traffic.AskedOf{made(0, "port", 3, time.Second), made(1, "notices", 5, time.Duration(i)*time.Second)},
			Samples: []traffic.Sample{{Code: "DOWN", Message: fmt.Sprint("try ", i)}, {Code: "LIMIT", Message: fmt.Sprint("limit ", i)}}})
	}
	e := tally.Take().Entries[traffic.Key{Operation: o.ID, Client: "board", Slot: 1}]
	if m := e.Made[traffic.Request{ID: 1, Wave: 2, Source: "notices", Asks: "quays"}]; len(e.Made) != 2 || m == nil || m.Asked != 10 || m.Keys != 50 || m.Records != 100 || m.Took != 45*time.Second || m.Most != 9*time.Second {
		t.Errorf("of the requests it is known that %+v", e.Made)
	}
	var last []string
	for _, s := range e.Samples {
		last = append(last, s.Message)
	}
	if got := strings.Join(last, ", "); got != "try 5, limit 5, try 6, limit 6, try 7, limit 7, try 8, limit 8, try 9, limit 9" {
		t.Errorf("the samples are %s", got)
	}
	// What strangers send does not grow it: requests of any number, texts of any length.
	for i := range 100_000 {
		tally.Add(2, &traffic.Asked{Operation: o, Client: fmt.Sprint(i % 9000), Codes: []string{"X"}, Made: []traffic.AskedOf{made(i, "port", 1, 1)},
			Samples: []traffic.Sample{{Code: fmt.Sprint(i % 7), Message: strings.Repeat("é", 300), Path: strings.Repeat("x", 3000)}}})
	}
	bytes := 0
	for _, e := range tally.Take().Entries {
		bytes += 200 * len(e.Made)
		for _, s := range e.Samples {
			bytes += len(s.Message) + len(s.Path)
		}
	}
	if bytes > traffic.MostBytes+traffic.MostBytes/2 {
		t.Errorf("%d bytes wait", bytes)
	}
}

// TestWithoutValues holds that nothing of a caller's data stays in a message that is kept.
func TestWithoutValues(t *testing.T) {
	for message, want := range map[string]string{
		`expected Date!, found "1991-13-01"`:                         `expected Date!, found …`,
		`expected an Int, found 5000 → write a number`:               `expected an Int, found … → write a number`,
		`Query has no field "crafts"`:                                `Query has no field "crafts"`,
		`there is no tariff for "Auk of the north" and 9074729`:      `there is no tariff for “…” and …`,
		`no tariff for "Auk" or 'Bittern'`:                           `no tariff for “…” or “…”`,
		`the operation costs 1010, and the limit is 100`:             `the operation costs 1010, and the limit is 100`,
		`the source port does not answer and is left alone`:          `the source port does not answer and is left alone`,
		`the enum CraftType has no value FERY; did you mean "FERRY"`: `the enum CraftType has no value …; did you mean “…”`,
	} {
		if got := traffic.WithoutValues(message); got != want {
			t.Errorf("%s is kept as %s, want %s", message, got, want)
		}
	}
}

func BenchmarkTally(b *testing.B) {
	tally := traffic.NewTally()
	o := &traffic.Operation{ID: traffic.ID{1}}
	asked := traffic.Asked{Operation: o, Client: "board", Took: time.Millisecond, Requests: 2, Records: 5,
		Made: []traffic.AskedOf{{Request: traffic.Request{ID: 0, Wave: 1, Source: "port", Asks: "quays"}}, {Request: traffic.Request{ID: 1, Wave: 2, Source: "notices", Asks: "notices"}}}}
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			tally.Add(1, &asked)
		}
	})
}

// TestUnused holds what nobody asks.
func TestUnused(t *testing.T) {
	s, _ := sound(t, "{ port { name } }")
	uses := operation(t, `{ search(text: "a", kinds: [TUG]) { name ... on Ferry { lanes(least: 1) } } port { name } }`).Uses
	got := strings.Join(traffic.Unused(s, uses, func(n schema.Named) bool { return n.String() != "Either" && !strings.HasPrefix(n.String(), "__") }), " ")
	want := "Query.search(first:) Query.search(near:) Query.search(any:) Query.search(either:) Query.search(raw:) Query.search(flag:) Query.search(ids:) Kind.FERRY Tug.power Ferry.kind"
	for _, c := range strings.Fields(want) {
		if !strings.Contains(" "+got+" ", " "+c+" ") {
			t.Errorf("%s is not among %s", c, got)
		}
	}
	if len(strings.Fields(got)) != len(strings.Fields(want)) {
		t.Errorf("unused is %s", got)
	}
}
