package osprey_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey"
	"osprey/demo/demotest"
)

const berthsData = `[{"name": "A", "lengthM": 140, "draughtDm": 90, "quay": "Q1"}, {"name": "B", "lengthM": 90, "quay": "Q2"}, {"name": "C", "lengthM": 0, "draughtDm": 5, "quay": "Q1"}]`

// berths makes a project whose type Berth has more fields.
func berths(t *testing.T, yaml, fields, roots, types string) string {
	return demotest.Folder(t, map[string]string{
		"osprey.yaml":      "sources:\n  quayside: { kind: files, folder: data }\n" + yaml,
		"data/berths.json": berthsData,
		"schema/a.graphql": "type Query { berths: [Berth!]! @read(sort: \"name\") " + roots + " }\n" +
			"type Berth @stored(in: \"quayside\", as: \"berths\", key: \"name\") { name: ID! lengthM: Float! draughtDm: Int " + fields + " }\n" + types,
	})
}

// answer asks a project and writes data and errors as lines.
func answer(t *testing.T, dir, query string, options ...osprey.Option) string {
	t.Helper()
	service, err := osprey.Open(context.Background(), dir, options...)
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	a, err := service.Ask(context.Background(), osprey.Operation{Text: query})
	if err != nil {
		t.Fatal(err)
	}
	lines := []string{string(a.Data)}
	for _, e := range a.Errors {
		line := e.Code + " " + e.Error()
		if e.More > 0 {
			line += fmt.Sprintf(" (+%d)", e.More)
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

type object = map[string]any

// TestResults holds that what a function gives is like any record: nested lists
// are filtered and sorted, its types told, other records related to it, and its
// values computed with.
func TestResults(t *testing.T) {
	functions := osprey.WithFunctions(
		osprey.Func("own.bill", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([]any, error) {
			return []any{object{"no": 7, "kind": "big", "lines": []object{{"what": "tug", "cents": 5}, {"what": "berth", "cents": 9}, {"what": "A", "cents": 1}}}}, nil
		}),
		osprey.Func("own.bills", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([][]object, error) {
			return [][]object{{{"no": 1, "lines": []object{}}, {"no": "2", "lines": []object{{"what": "C", "cents": 1}}}}}, nil
		}))
	dir := berths(t, "", "", `bill: Bill @computed(by: "own.bill") bills: [Bill!] @computed(by: "own.bills") pay: Pay @computed(by: "own.bill")`, `
		type Bill { no: ID! lines(filter: LineFilter, sort: [LineSort!], limit: Int): [Line!]! lineCount: Int @computed(expr: "record.lines.size()") first: String @computed(expr: "record.lines[0].what") }
		type Line { what: String! cents: Int! berth: Berth @related(here: "what", there: "name") double: Int! @computed(expr: "record.cents * 2") }
		union Pay @kind(by: "kind") = Big | Small type Big @kind(is: "big") { no: Int! } type Small @kind(is: "small") { no: Int! }`)
	for _, test := range []struct{ query, want string }{
		{`{ bill { no lines(filter: {cents: {above: 4}}, sort: [{cents: DESC}], limit: 1) { what double } all: lines { what berth { lengthM } } lineCount first } }`,
			`{"bill":{"no":"7","lines":[{"what":"berth","double":18}],"all":[{"what":"tug","berth":null},{"what":"berth","berth":null},{"what":"A","berth":{"lengthM":140}}],"lineCount":3,"first":"tug"}}`},
		{`{ bills { no first lines { berth { lengthM } } } pay { __typename ... on Big { no } } }`,
			`{"bills":[{"no":"1","first":null,"lines":[]},{"no":"2","first":"C","lines":[{"berth":{"lengthM":0}}]}],"pay":{"__typename":"Big","no":7}}` +
				"\nBAD_VALUE bills.0.first: the expression of Bill.first cannot be evaluated: the index 0 is beyond its list"},
	} {
		if got := answer(t, dir, test.query, functions); got != test.want {
			t.Errorf("%s answers\n%s\nwant\n%s", test.query, got, test.want)
		}
	}
}

// TestOwnFunctions holds what is told of a program's functions that fail.
func TestOwnFunctions(t *testing.T) {
	type record struct{ Name string }
	calledWith := func(f func(ctx context.Context, calls []osprey.Call[record, osprey.None]) ([]string, error)) osprey.Option {
		return osprey.WithFunctions(osprey.Func("own.label", f))
	}
	const field = `label: String @computed(by: "own.label", needs: "name")`
	for _, test := range []struct {
		name string
		f    func(ctx context.Context, calls []osprey.Call[record, osprey.None]) ([]string, error)
		want string
	}{
		{"well", func(_ context.Context, calls []osprey.Call[record, osprey.None]) ([]string, error) {
			var list []string
			for _, c := range calls {
				list = append(list, "berth "+c.Record.Name)
			}
			return list, nil
		}, `{"berths":[{"label":"berth A"},{"label":"berth B"},{"label":"berth C"}]}`},
		{"panics", func(context.Context, []osprey.Call[record, osprey.None]) ([]string, error) { panic("secret") },
			"the source own failed in label: it ended in a fault; the service's log has the details"},
		{"hangs", func(context.Context, []osprey.Call[record, osprey.None]) ([]string, error) { select {} },
			"STORE_TIMEOUT berths.0.label: the source own did not answer within its time limit"},
		{"too few", func(context.Context, []osprey.Call[record, osprey.None]) ([]string, error) {
			return []string{"x"}, nil
		}, "the source own failed in label: it gave 1 results for 3 calls"},
		{"an error", func(context.Context, []osprey.Call[record, osprey.None]) ([]string, error) {
			return nil, errors.New("no labels today")
		}, "FUNCTION berths.0.label: the source own failed in label: it says: no labels today"},
		{"one error", func(context.Context, []osprey.Call[record, osprey.None]) ([]string, error) {
			return []string{"x", "y", "z"}, osprey.Errors{1: errors.New("no label")}
		}, `{"berths":[{"label":"x"},{"label":null},{"label":"z"}]}` + "\nFUNCTION berths.1.label: the source own failed in label: it says: no label"},
	} {
		t.Run(test.name, func(t *testing.T) {
			dir := berths(t, "  own: { kind: program, timeout: 200ms }\n", field, "", "")
			if got := answer(t, dir, `{ berths { label } }`, calledWith(test.f)); !strings.Contains(got, test.want) {
				t.Errorf("answers\n%s\nwant\n%s", got, test.want)
			}
		})
	}
	t.Run("another program's", func(t *testing.T) {
		dir := berths(t, "  own: { kind: program }\n", field, "", "")
		if got := answer(t, dir, `{ berths { name label } }`); !strings.Contains(got, `"name":"A","label":null`) || !strings.Contains(got, "is brought by a Go program, and this is another") {
			t.Errorf("answers\n%s", got)
		}
	})
}

// TestRootFunctions holds that functions of root fields are called at once in a
// query, one after the other in a mutation, and no longer than the operation may
// take.
func TestRootFunctions(t *testing.T) {
	var order []string
	function := func(name string, wait time.Duration) osprey.Function {
		return osprey.Func("own."+name, func(ctx context.Context, calls []osprey.Call[osprey.None, struct{ N int }]) ([]int, error) {
			time.Sleep(wait)
			order = append(order, name)
			return []int{calls[0].Args.N}, nil
		})
	}
	slow := osprey.Func("own.slow", func(ctx context.Context, calls []osprey.Call[osprey.None, osprey.None]) ([]int, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	dir := berths(t, "limits: { timeout: 500ms }\n", "", `slow: Int @computed(by: "own.slow")`, `type Mutation {
		first(n: Int! = 1): Int @computed(by: "own.first")
		second(n: Int! = 2): Int @computed(by: "own.second")
	}`)
	options := osprey.WithFunctions(function("first", 50*time.Millisecond), function("second", 0), slow)
	if got := answer(t, dir, `mutation { a: first second(n: 7) b: first(n: 3) }`, options); got != `{"a":1,"second":7,"b":3}` || strings.Join(order, " ") != "first second first" {
		t.Errorf("answers %s in the order %v", got, order)
	}
	if got := answer(t, dir, `{ slow }`, options); got != `{"slow":null}`+"\nSTORE_TIMEOUT slow: the source own did not answer within its time limit" {
		t.Errorf("answers %s", got)
	}
}

// TestWritesAndFunctions holds that functions of a mutation are called between its writes, in
// their order: each sees what was written before it, and what comes after it is not yet there.
func TestWritesAndFunctions(t *testing.T) {
	dir := berths(t, "", "", "", `type Mutation {
		build(name: ID!, lengthM: Float!): Berth @add
		raze(name: ID!): Berth @remove
		count: Int @computed(by: "own.count")
		refuse: Int! @computed(by: "own.refuse")
	}`)
	count := osprey.Func("own.count", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([]int, error) {
		text, err := os.ReadFile(filepath.Join(dir, "data", "berths.json"))
		return []int{strings.Count(string(text), `"name"`)}, err
	})
	refuse := osprey.Func("own.refuse", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([]int, error) {
		return nil, errors.New("not today")
	})
	before := strings.Count(berthsData, `"name"`)
	want := fmt.Sprintf(`{"a":%d,"one":{"name":"W"},"b":%d,"two":{"name":"X"},"c":%d,"raze":{"lengthM":7},"d":%d}`, before, before+1, before+2, before+1)
	if got := answer(t, dir, `mutation { a: count one: build(name: "W", lengthM: 7) { name } b: count two: build(name: "X", lengthM: 8) { name } c: count raze(name: "W") { lengthM } d: count }`, osprey.WithFunctions(count, refuse)); got != want {
		t.Errorf("answers %s, want %s", got, want)
	}
	// One that fails where null may not stand ends the mutation; what came before stays.
	if got := answer(t, dir, `mutation { one: build(name: "Y", lengthM: 7) { name } refuse two: build(name: "Z", lengthM: 8) { name } }`, osprey.WithFunctions(count, refuse)); !strings.HasPrefix(got, "null\nFUNCTION refuse: ") {
		t.Errorf("answers %s", got)
	}
	text, err := os.ReadFile(filepath.Join(dir, "data", "berths.json"))
	if err != nil || strings.Contains(string(text), `"Z"`) || !strings.Contains(string(text), `"Y"`) {
		t.Errorf("there is %s %v", text, err)
	}
}

// TestExplain holds that a saved operation and variables are explained as they
// are asked.
func TestExplain(t *testing.T) {
	dir := berths(t, "", `twice: Float @computed(expr: "record.lengthM * 2.0") exact: Decimal @computed(expr: "record.lengthM / 0.0")`, `some(limit: Int): [Berth!]! @read`, "")
	service, err := osprey.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	const query = `query Some($with: Boolean!, $n: Int) { some(limit: $n) { name } berths @include(if: $with) { twice } }`
	plan, err := service.Explain(osprey.Operation{Text: query, Variables: map[string]any{"with": false, "n": 2}})
	if err != nil || strings.Contains(plan, "for berths") || !strings.Contains(plan, "for some") {
		t.Errorf("explained as %s %v", plan, err)
	}
	for _, q := range []osprey.Operation{{Text: query}, {Name: "Nothing"}, {Text: "{"}, {Text: query, Variables: map[string]any{"with": func() {}}}} {
		if plan, err := service.Explain(q); err == nil {
			t.Errorf("%+v is explained as %s", q, plan)
		}
	}
	if got := answer(t, dir, `{ berths { exact } }`); !strings.Contains(got, "BAD_VALUE berths.0.exact: Berth.exact: expected a number, found +Inf") {
		t.Errorf("answers %s", got)
	}
}

// TestSignatures holds that a function whose types do not fit is told when the
// project opens.
func TestSignatures(t *testing.T) {
	type args struct{ Days int }
	open := func(field string, f osprey.Function) error {
		dir := berths(t, "", field, "", "type Money { amount: Decimal! currency: String }")
		service, err := osprey.Open(context.Background(), dir, osprey.WithFunctions(f))
		if err == nil {
			service.Close()
		}
		return err
	}
	for _, test := range []struct {
		field string
		f     osprey.Function
		want  string
	}{
		{`x(days: Int!): Int @computed(by: "own.x", needs: "lengthM draughtDm")`, osprey.Func("own.x", func(context.Context, []osprey.Call[struct {
			LengthM   float64
			DraughtDm *int
		}, args]) ([]int, error) {
			return nil, nil
		}), ""},
		{`x: Int @computed(by: "own.y")`, osprey.Func("own.x", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([]int, error) { return nil, nil }),
			`Berth.x is computed by own.y: the program has no function "y"`},
		{`x: Int @computed(by: "own.x", needs: "lengthM")`, osprey.Func("own.x", func(context.Context, []osprey.Call[struct{ Length float64 }, osprey.None]) ([]int, error) {
			return nil, nil
		}),
			`its record has no length, which struct { Length float64 }.Length is read from; there are lengthM`},
		{`x: Int @computed(by: "own.x", needs: "draughtDm")`, osprey.Func("own.x", func(context.Context, []osprey.Call[struct{ DraughtDm int }, osprey.None]) ([]int, error) {
			return nil, nil
		}),
			`draughtDm of its record may be null, and is int; make it *int`},
		{`x: Int @computed(by: "own.x", needs: "name")`, osprey.Func("own.x", func(context.Context, []osprey.Call[struct{ Name int }, osprey.None]) ([]int, error) {
			return nil, nil
		}),
			`name of its record is of the type ID, and cannot be read into int`},
		{`x(days: Int!): Int @computed(by: "own.x")`, osprey.Func("own.x", func(context.Context, []osprey.Call[osprey.None, struct{ Days int8 }]) ([]int, error) { return nil, nil }),
			`days of its arguments is of the type Int, not all values of which int8 can hold; make it int32`},
		{`x: Int @computed(by: "own.x", needs: "lengthM")`, osprey.Func("own.x", func(context.Context, []osprey.Call[struct{ LengthM float32 }, osprey.None]) ([]int8, error) {
			return nil, nil
		}),
			`lengthM of its record is of the type Float, not all values of which float32 can hold; make it float64`},
		{`x: Int @computed(by: "own.x", needs: "lengthM name")`, osprey.Func("own.x", func(context.Context, []osprey.Call[map[string]float64, osprey.None]) ([]int8, error) {
			return nil, nil
		}),
			`name of its record is of the type ID, and cannot be read into float64`},
		{`x: Int @computed(by: "own.x", needs: "lengthM")`, osprey.Func("own.x", func(context.Context, []osprey.Call[map[string]float64, osprey.None]) ([]int8, error) {
			return nil, nil
		}), ""},
		{`x(days: Int!): Int @computed(by: "own.x")`, osprey.Func("own.x", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([]int, error) { return nil, nil }),
			`it does not take the argument days`},
		{`x: Int @computed(by: "own.x")`, osprey.Func("own.x", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([]string, error) { return nil, nil }),
			`its result must be of the type Int, and is string`},
		{`x: [Money!] @computed(by: "own.x")`, osprey.Func("own.x", func(context.Context, []osprey.Call[osprey.None, osprey.None]) ([][]struct{ Currency string }, error) {
			return nil, nil
		}), `an item of its result has no amount, which is required`},
	} {
		err := open(test.field, test.f)
		if test.want == "" && err != nil || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%s: %v, want %q", test.field, err, test.want)
		}
	}
}
