package execute_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/store"
	"osprey/core/store/storetest"
)

// TestAllocations counts the allocations of a run whose store has its answer
// already: they belong to the run and not to the fields it writes.
func TestAllocations(t *testing.T) {
	for _, n := range []int{10, 3000} {
		var craft, owners []string
		for i := range n {
			craft = append(craft, fmt.Sprintf(`{"imo": %d, "name": "Amber %d", "length": %d.5, "flags": ["r", "b"], "owner_id": "%d"}`, i, i, i, i%50))
		}
		for i := range 50 {
			owners = append(owners, fmt.Sprintf(`{"id": %d, "name": "Lundby %d"}`, i, i))
		}
		all := stores()
		all["a"] = storetest.NewMemory("craft: imo int! name text? length float? flags [text] owner_id text? radio json?\nstrict: id int! must text? list [int] deep json\nthings: id int! kind text weight float? light text?",
			map[string]string{"craft": "[" + strings.Join(craft, ",") + "]"})
		all["b"] = storetest.NewMemory("owners: id int! name text?\nnotes: id int! craft text at int? kind text", map[string]string{"owners": "[" + strings.Join(owners, ",") + "]"})
		e := newEngine(t, all)
		doc, _ := language.Parse(language.NewSource("", `{ fleet { imo name length flags owner { id name } } }`))
		p := plan.Build(e.bound, doc, doc.Definitions[0].(*language.Operation), nil, func(source string, reads []*store.Read) (store.Request, error) {
			request, err := e.stores[source].Prepare(nil, reads)
			return &answered{Request: request}, err
		})
		run := func() {
			r := execute.Run(context.Background(), p, nil, execute.Options{})
			if len(r.Errors) > 0 || strings.Count(string(r.Data), `"owner":{`) != n {
				t.Fatalf("%.300s %v", r.Data, r.Errors)
			}
			r.Free()
		}
		run()
		// Garbage collections empty the pools now and then, so a few are allowed.
		if got := testing.AllocsPerRun(20, run); got > 60 {
			t.Errorf("%d craft of 6 fields make %.0f allocations, want at most 60", n, got)
		}
	}
}

// answered keeps the answer to its first run.
type answered struct {
	store.Request
	answer *store.Answer
}

func (a *answered) Run(ctx context.Context, from *store.Caller, in []store.Input) (_ *store.Answer, err error) {
	if a.answer == nil {
		a.answer, err = a.Request.Run(ctx, from, in)
	}
	return a.answer, err
}

// TestSendingParts holds that an answer sent in parts is the answer sent whole,
// and that one with null where none may stand is never sent in parts.
func TestSendingParts(t *testing.T) {
	var craft []string
	for i := range 4000 {
		craft = append(craft, fmt.Sprintf(`{"imo": %d, "name": "Amber %d", "length": %d.5, "flags": ["r", "b"], "owner_id": "%d", "radio": {"sign": "SK%d", "channels": [{"number": 12}]}}`, i, i, i, []int{7, 8, 9}[min(i%2+i/3999, 2)], i))
	}
	all := stores()
	all["a"] = storetest.NewMemory("craft: imo int! name text? length float? flags [text] owner_id text? radio json?\nstrict: id int! must text? list [int] deep json\nthings: id int! kind text weight float? light text?",
		map[string]string{"craft": "[" + strings.Join(craft, ",") + "]", "strict": `[{"id": 1, "must": null}]`})
	for _, test := range []struct {
		text  string
		parts bool
	}{
		{`{ fleet { imo name length flags radio { sign channels { number } } notes { id at } } }`, true},
		{`{ fleet { imo name flags owner { id } notes { id } again: name more: name length radio { sign } } }`, true},
		{`{ fleet { imo name length flags must { id } } }`, false}, // a later owner is missing in the store
		{`{ fleet { imo name length flags radio { sign channels { number } } owner { name } } }`, false},
		{`{ fleet { imo name length flags radio { sign channels { number } } } strict { must } }`, false},
	} {
		e := newEngine(t, all)
		want, errs := e.ask(t, test.text)
		doc, _ := language.Parse(language.NewSource("", test.text))
		p := plan.Build(e.bound, doc, doc.Definitions[0].(*language.Operation), nil, func(source string, reads []*store.Read) (store.Request, error) {
			return e.stores[source].Prepare(nil, reads)
		})
		var sent []byte
		parts := 0
		r := execute.Run(context.Background(), p, nil, execute.Options{Before: "before ", Send: func(part []byte) error {
			parts++
			sent = append(sent, part...)
			return nil
		}})
		sent = append(sent, r.Whole...)
		if string(sent) != "before "+want {
			t.Errorf("%s\nis sent as %.300s\nwant    %.300s", test.text, sent, want)
		}
		if (parts > 0) != test.parts || test.parts && errs != "" {
			t.Errorf("%s\nis sent in %d parts, with errors %.200s", test.text, parts, errs)
		}
		r.Free()
	}
}

// TestFreeTwice holds that a result that is freed twice is given back once: two
// runs that shared its memory would write into each other's answers.
func TestFreeTwice(t *testing.T) {
	e := newEngine(t, stores())
	doc, _ := language.Parse(language.NewSource("", `{ fleet { imo } }`))
	p := plan.Build(e.bound, doc, doc.Definitions[0].(*language.Operation), nil, func(source string, reads []*store.Read) (store.Request, error) {
		return e.stores[source].Prepare(nil, reads)
	})
	for range 20 {
		r := execute.Run(context.Background(), p, nil, execute.Options{})
		r.Free()
		r.Free()
		a := execute.Run(context.Background(), p, nil, execute.Options{})
		want := string(a.Data)
		b := execute.Run(context.Background(), p, nil, execute.Options{Before: "something else in front "})
		if string(a.Data) != want {
			t.Fatalf("a later run changed an answer to %s", a.Data)
		}
		a.Free()
		b.Free()
	}
}
