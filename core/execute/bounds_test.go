package execute_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/core/store/storetest"
)

// manyCraft is stores with so many craft of one owner, so that a few words ask
// for an answer of any size.
func manyCraft(n int) map[string]*storetest.Memory {
	var craft []string
	for i := range n {
		craft = append(craft, fmt.Sprintf(`{"imo": %d, "name": "Amber %d", "length": %d.5, "flags": ["r", "b"], "owner_id": "7"}`, i, i, i))
	}
	all := stores()
	all["a"] = storetest.NewMemory("craft: imo int! name text? length float? flags [text] owner_id text? radio json?\nstrict: id int! must text? list [int] deep json\nthings: id int! kind text weight float? light text?",
		map[string]string{"craft": "[" + strings.Join(craft, ",") + "]"})
	return all
}

func planOf(t *testing.T, e *engine, text string) *plan.Plan {
	t.Helper()
	doc, problems := language.Parse(language.NewSource("", text))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return plan.Build(e.bound, doc, doc.Definitions[0].(*language.Operation), nil, func(source string, reads []*store.Read) (store.Request, error) {
		return e.stores[source].Prepare(nil, reads)
	})
}

// TestAnswerIsBounded asks for far more than an answer may have: of lists in
// lists, of values again and again in one record, of nested and merged lists,
// sent in parts and not. The answer is one error; what was written stays near
// the limit, and nothing of it was sent.
func TestAnswerIsBounded(t *testing.T) {
	const limit = 1 << 20
	again := ""
	for i := range 3000 {
		again += fmt.Sprintf(" a%d: name", i)
	}
	for name, text := range map[string]string{
		"lists in lists":     `{ fleet { owner { craft { owner { craft { owner { craft { imo name flags } } } } } } } }`,
		"one list":           `{ fleet { imo` + again + ` } }`,
		"what may be null":   `{ fleet { must { craft { must { craft { name } } } } } }`,
		"records, not sound": `{ fleet { owner { craft { must { id craft { imo } } } } } }`,
	} {
		e := newEngine(t, manyCraft(700))
		p := planOf(t, e, text)
		for _, parts := range []bool{false, true} {
			sent := 0
			o := execute.Options{MaxAnswer: limit, Now: time.Now}
			if parts {
				o.Part = 1000
				o.Send = func(part []byte) error { sent += len(part); return nil }
			}
			start := time.Now()
			r := execute.Run(context.Background(), p, nil, o)
			if string(r.Data) != "null" || len(r.Errors) != 1 || r.Errors[0].Code != execute.Limit || !r.Stopped ||
				!strings.Contains(r.Errors[0].Msg, "the answer would be larger than 1MB, which is the limit") {
				t.Errorf("%s: answers %.100s (%d bytes) %v", name, r.Data, len(r.Data), r.Errors)
			}
			if sent > 0 || r.Broken || cap(r.Whole) > 4*limit {
				t.Errorf("%s, in parts %t: %d bytes were sent, %d written, broken %t", name, parts, sent, cap(r.Whole), r.Broken)
			}
			if took := time.Since(start); took > 5*time.Second {
				t.Errorf("%s took %s", name, took)
			}
			r.Free()
		}
	}
}

// TestSizeIsForetold holds what is foretold of an answer that is sent in parts
// against its bytes: one near below the limit is sent, one near above is not.
func TestSizeIsForetold(t *testing.T) {
	e := newEngine(t, manyCraft(150))
	for _, text := range []string{
		`{ fleet { imo name length flags owner { id name craft { imo name flags } } } }`,
		`{ fleet { name owner { craft { owner { name } } } } }`,
		`{ a: fleet { imo } b: fleet { name } __schema { types { name fields { name } } } }`,
	} {
		p := planOf(t, e, text)
		whole := execute.Run(context.Background(), p, nil, execute.Options{})
		size := int64(len(whole.Data))
		for _, test := range []struct {
			limit int64
			sent  bool
		}{{size + size/3, true}, {size - size/3, false}} {
			sent := 0
			r := execute.Run(context.Background(), p, nil, execute.Options{MaxAnswer: test.limit, Now: time.Now, Part: 500, Send: func(part []byte) error { sent += len(part); return nil }})
			if (sent > 0) != test.sent || r.Broken || r.Stopped == test.sent {
				t.Errorf("%s\nof %d bytes with a limit of %d: %d bytes are sent; stopped %t, broken %t", text, size, test.limit, sent, r.Stopped, r.Broken)
			}
		}
	}
}

// TestNobodyWaits holds that writing ends when the caller has gone, does not
// take what is sent, or the time is over.
func TestNobodyWaits(t *testing.T) {
	const text = `{ fleet { owner { craft { owner { craft { imo name flags } } } } } }`
	e := newEngine(t, manyCraft(400))
	p := planOf(t, e, text)
	ctx, cancel := context.WithCancel(context.Background())
	gone := 0
	for name, test := range map[string]struct {
		ctx  context.Context
		o    execute.Options
		code string
	}{
		"hung up": {ctx, execute.Options{Part: 1000, Send: func([]byte) error { cancel(); return nil }}, "CANCELLED"},
		"does not take it": {context.Background(), execute.Options{Part: 1000, Send: func([]byte) error {
			gone++
			return fmt.Errorf("broken pipe")
		}}, "CANCELLED"},
		"too late": {context.Background(), execute.Options{Now: time.Now, Until: time.Now()}, "LIMIT"},
	} {
		start := time.Now()
		r := execute.Run(test.ctx, p, nil, test.o)
		if len(r.Errors) != 1 || r.Errors[0].Code != test.code || !r.Stopped || test.o.Send != nil && !r.Broken {
			t.Errorf("%s: %d bytes, %v, stopped %t, broken %t", name, len(r.Data), r.Errors, r.Stopped, r.Broken)
		}
		if took := time.Since(start); took > 5*time.Second {
			t.Errorf("%s took %s", name, took)
		}
		r.Free()
	}
	if gone != 1 {
		t.Errorf("%d parts were sent to one who takes none", gone)
	}
}

// TestRecordsAreBounded ends an operation whose stores have sent too much, before
// the next wave.
func TestRecordsAreBounded(t *testing.T) {
	e := newEngine(t, manyCraft(300))
	p := planOf(t, e, `{ fleet { imo owner { name } } }`)
	for limit, stopped := range map[int64]bool{299: true, 300: true, 301: false, 0: false} {
		e.stores["a"].Asked()
		e.stores["b"].Asked()
		r := execute.Run(context.Background(), p, nil, execute.Options{MaxRecords: limit})
		if r.Stopped != stopped || stopped && (len(r.Errors) != 1 || r.Errors[0].Code != execute.Limit || string(r.Data) != "null") {
			t.Errorf("with a limit of %d: stopped %t %v", limit, r.Stopped, r.Errors)
		}
		if asked := len(e.stores["b"].Asked()); limit == 299 && asked > 0 {
			t.Errorf("the second wave was asked all the same")
		}
	}
}

// TestLimitOfNull holds that null for a limit is the largest limit, for lists and
// pages, written out and by a variable.
func TestLimitOfNull(t *testing.T) {
	e := newEngineOf(t, `
type Query { calls(limit: Int = 2): [Visit!]! @read  pages(first: Int = 2, last: Int, after: String): VisitConnection! @read }
type Visit @stored(in: "a", as: "visits", key: "id") { id: ID! call: Int  same(limit: Int = 1): [Visit!]! @related(here: "call", there: "call", sort: "id") }`,
		logStores())
	for _, test := range []struct{ text, want string }{
		{`{ calls { id } }`, `{"calls":[{"id":"1"},{"id":"2"}]}`},
		{`{ calls(limit: null) { id } }`, `{"calls":[{"id":"1"},{"id":"2"},{"id":"3"}]}`},
		{`query ($n: Int) { calls(limit: $n) { id } }`, `{"calls":[{"id":"1"},{"id":"2"},{"id":"3"}]}`},
		{`{ calls(limit: 1) { same(limit: null) { id } } }`, `{"calls":[{"same":[{"id":"1"},{"id":"2"}]}]}`},
		{`{ pages(first: null) { pageInfo { hasNextPage } edges { node { id } } } }`, `{"pages":{"pageInfo":{"hasNextPage":true},"edges":[{"node":{"id":"1"}},{"node":{"id":"2"}},{"node":{"id":"3"}}]}}`},
		{`{ pages(first: null, last: 1) { edges { node { id } } } }`, `{"pages":{"edges":[{"node":{"id":"4"}}]}}`},
		{`{ pages(first: null, last: null) { edges { node { id } } } }`, `{"pages":{"edges":[{"node":{"id":"1"}},{"node":{"id":"2"}},{"node":{"id":"3"}}]}}`},
		{`{ pages(first: 1, last: null) { edges { node { id } } } }`, `{"pages":{"edges":[{"node":{"id":"1"}}]}}`},
	} {
		doc, _ := language.Parse(language.NewSource("", test.text))
		vars := map[string]schema.Value{"n": nil}
		p := plan.Build(e.bound, doc, doc.Definitions[0].(*language.Operation), vars, func(source string, reads []*store.Read) (store.Request, error) {
			return e.stores[source].Prepare(nil, reads)
		})
		r := execute.Run(context.Background(), p, vars, execute.Options{MaxPage: 3})
		if string(r.Data) != test.want || len(r.Errors) > 0 {
			t.Errorf("%s\nanswers %s %v\nwant    %s", test.text, r.Data, r.Errors, test.want)
		}
		r.Free()
	}
}
