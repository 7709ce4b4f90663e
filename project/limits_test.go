package project

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"testing"
)

// TestPlansAreBounded holds that what is kept of operations stays within its
// bound, as estimated and on the heap, and that refused texts are not kept.
func TestPlansAreBounded(t *testing.T) {
	p, findings, err := open(t, things+" extend type Thing { next: Thing @related(here: \"id\") }", map[string]string{})
	if err != nil {
		t.Fatal(err, findings)
	}
	r := p.Revision()
	r.known = newKept(16 << 20)
	heap := func() int64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before := heap()
	most := int64(0)
	for i := range 400 {
		var text strings.Builder
		switch i % 3 {
		case 0: // dense: many fields without space
			text.WriteString("{thing(id:1){")
			for n := range 1500 {
				fmt.Fprintf(&text, "a%dx%d:id ", i, n)
			}
			text.WriteString("}}")
		case 1: // many reads
			fmt.Fprintf(&text, "query Q%d{", i)
			for n := range 150 {
				fmt.Fprintf(&text, "a%d:thing(id:%d){id name}", n, n)
			}
			text.WriteString("}")
		default: // much of the schema
			fmt.Fprintf(&text, "query Q%d{__schema{types{name description fields{name description type{name fields{name type{name}}}}}}}", i)
		}
		if _, _, faults := r.Plan(&Request{Query: text.String()}); faults != nil {
			t.Fatalf("%.100s: %v", text.String(), faults)
		}
		most = max(most, r.Plans().Bytes)
	}
	state := r.Plans()
	if most > state.Most || state.Texts < 3 {
		t.Errorf("%d bytes were kept at most, and %+v", most, state)
	}
	if grown := heap() - before; grown > 2*state.Most || grown < state.Bytes/4 {
		t.Errorf("the heap has grown by %d bytes, and %d are told", grown, state.Bytes)
	}
	texts := state.Texts
	for i := range 100 {
		r.Plan(&Request{Query: fmt.Sprintf("{ unknown%d }", i)})
		r.Plan(&Request{Query: fmt.Sprintf("{ thing(id: %d ", i)})
	}
	if now := r.Plans(); now.Texts != texts {
		t.Errorf("%d texts are kept, and %d before others were refused", now.Texts, texts)
	}
	runtime.KeepAlive(r)
}

// TestIntrospectionIsBounded holds that the schema can be told once, with all
// that clients ask, and not again and again inside itself.
func TestIntrospectionIsBounded(t *testing.T) {
	p, findings, err := open(t, things+" extend type Thing { a: Thing @related(here: \"id\") b: Thing @related(here: \"id\") c: Thing @related(here: \"id\") }", nil)
	if err != nil {
		t.Fatal(err, findings)
	}
	nested := "{ __schema { types { fields { type { " + strings.Repeat("fields { type { ", 12) + "name" + strings.Repeat(" } }", 12) + " } } } } }"
	wide := "{ " + strings.Repeat("a%: __schema { types { name description fields { name description args { name } type { name } } } } ", 1500) + "}"
	for i := range 1500 {
		wide = strings.Replace(wide, "%", fmt.Sprint(i), 1)
	}
	for name, text := range map[string]string{"nested": nested, "wide": wide} {
		a := p.Revision().Ask(context.Background(), &Request{Query: text})
		if !a.Refused || a.Faults[0].Code != CodeLimit || !strings.Contains(a.Faults[0].Message, "asks for more of the schema than") || len(a.Faults[0].Locations) != 1 {
			t.Errorf("%s: answers %.300s", name, a.AppendJSON(nil, false))
		}
	}
	a := p.Revision().Ask(context.Background(), &Request{Query: `{ __schema { description directives { name description locations args { name description type { ...T } defaultValue } }
		types { kind name description fields(includeDeprecated: true) { name description args { name type { ...T } defaultValue } type { ...T } } inputFields { name type { ...T } } enumValues { name } possibleTypes { ...T } } } }
		fragment T on __Type { kind name ofType { kind name ofType { kind name ofType { kind name ofType { kind name } } } } }`})
	if a.Refused || len(a.Faults) > 0 {
		t.Errorf("what clients ask is refused: %+v", a.Faults)
	}
}

// TestRecordsAreBoundedBefore holds that limits inside limits are multiplied
// before anything is asked, and that a limit of null is the largest.
func TestRecordsAreBoundedBefore(t *testing.T) {
	p, findings, err := open(t, `
		type Query { things(limit: Int = 5): [Thing] @read  pages(first: Int, last: Int): ThingConnection @read }
		type Thing @stored(in: "away", as: "things", key: "id") { id: ID! name: String  same(limit: Int = 5): [Thing] @related(here: "name", there: "id") }`,
		map[string]string{"osprey.yaml": "sources:\n  away:\n    kind: rest\n    url: http://127.0.0.1:1\n    timeout: 200ms\n    sets:\n      things: { key: id, fields: { id: text, name: text }, reads: [{ get: \"/things{?limit}\", limit: limit }, { get: \"/things{?id*}\", many: id }] }\nlimits: { records: 6000, page: 5000 }\n"})
	if err != nil {
		t.Fatal(err, findings)
	}
	for text, refused := range map[string]bool{
		`{ a: things(limit: 3000) { id } b: things(limit: 3000) { id } }`:                  false,
		`{ a: things(limit: 3000) { id } b: things(limit: 3001) { id } }`:                  true,
		`{ a: things(limit: null) { id } b: things(limit: 1001) { id } }`:                  true,
		`{ a: things(limit: null) { id } b: things { id } }`:                               false,
		`query ($n: Int) { a: things(limit: $n) { id } b: things(limit: 1001) { id } }`:    true,
		`query ($m: Int = 2) { a: things(limit: $m) { id } b: things(limit: $m) { id } }`:  false,
		`query ($l: Int = 99) { a: things(limit: $l) { id } b: things(limit: $l) { id } }`: false,
	} {
		q := &Request{Query: text, Variables: map[string]any{"n": nil}}
		a := p.Revision().Ask(context.Background(), q)
		if a.Refused != refused || refused && (a.Faults[0].Code != CodeLimit || !strings.Contains(a.Faults[0].Message, "asks for up to 6001 records by its limits, and 6000 is how many it may take")) {
			t.Errorf("%s\nanswers %s", text, a.AppendJSON(nil, false))
		}
	}
}
