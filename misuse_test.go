package osprey_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"strings"
	"testing"
	"time"

	"osprey"
	"osprey/core/store"
)

// A tower is a source of lights whose methods a test replaces by wrong ones.
type tower struct {
	records   []any
	catalogue func() (*store.Catalogue, error)
	can       func() store.Capabilities
	prepare   func(reads []*store.Read) (store.Request, error)
	describe  func() store.Description
	run       func(read *store.Read, in *store.Input) (*store.Answer, error)
	ping      func() error
}

func lightsCatalogue() (*store.Catalogue, error) {
	return &store.Catalogue{Sets: map[string]*store.Set{"lights": {Name: "lights", Keys: [][]string{{"name"}}, Fields: []store.Field{
		{Name: "name", Kind: store.Text}, {Name: "range", Kind: store.Int, Nullable: true}, {Name: "height", Kind: store.Float, Nullable: true},
		{Name: "lit", Kind: store.Time, Nullable: true}, {Name: "sectors", Kind: store.List, Elem: store.Int, Nullable: true}, {Name: "lamp.watts", Kind: store.Int, Nullable: true},
	}}}}, nil
}

func (t *tower) Catalogue(context.Context) (*store.Catalogue, error) {
	if t.catalogue != nil {
		return t.catalogue()
	}
	return lightsCatalogue()
}

func (t *tower) Capabilities() store.Capabilities {
	if t.can != nil {
		return t.can()
	}
	return store.Capabilities{}
}

func (t *tower) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	if t.prepare != nil {
		return t.prepare(reads)
	}
	return towerRequest{t, reads[0]}, nil
}

func (t *tower) Ping(context.Context) error {
	if t.ping != nil {
		return t.ping()
	}
	return nil
}

func (t *tower) Close() error { panic("close") }

type towerRequest struct {
	*tower
	read *store.Read
}

func (r towerRequest) Describe() store.Description {
	if r.describe != nil {
		return r.describe()
	}
	return store.Description{Asks: "lights"}
}

func (r towerRequest) Run(_ context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	if r.run != nil {
		return r.run(r.read, &in[0])
	}
	return store.Select(r.read, &in[0], each(r.records))
}

func each(records []any) iter.Seq2[any, error] {
	return func(yield func(any, error) bool) {
		for _, r := range records {
			if err, failed := r.(error); !yield(r, err) || failed {
				return
			}
		}
	}
}

// light is a record as a Go program has it.
type light struct {
	Name    string         `json:"name"`
	Range   int            `json:"range"`
	Height  *float32       `json:"height"`
	Lit     time.Time      `json:"lit"`
	Sectors []uint16       `json:"sectors"`
	Lamp    map[string]int `json:"lamp"`
}

const lightTypes = `type Light @stored(in: "tower", as: "lights") { name: ID! range: Int height: Float lit: DateTime sectors: [Int!] lamp: Lamp }
	type Lamp { watts: Int } extend type Berth { light: Light @related(here: "name", there: "name") }`

func openTower(t *testing.T, source store.Source) (*osprey.Service, error) {
	dir := berths(t, "", "", "lights(filter: LightFilter, sort: [LightSort!]): [Light!] @read", lightTypes)
	return osprey.Open(t.Context(), dir, osprey.WithSource("tower", source, "exact"), osprey.WithLog(slog.New(slog.NewTextHandler(io.Discard, nil))))
}

// TestGoValues has records of Go's own types: structs and maps, with int, float32,
// uint16, time.Time, pointers; they are shown, filtered and matched by key.
func TestGoValues(t *testing.T) {
	height := float32(21.5)
	lit := time.Date(2026, 3, 14, 5, 0, 0, 0, time.FixedZone("", 3600))
	for name, records := range map[string][]any{
		"structs": {light{"A", 12, &height, lit, []uint16{90, 270}, map[string]int{"watts": 400}}, &light{Name: "C", Range: 7, Lit: lit}},
		"maps": {map[string]any{"name": "A", "range": 12, "height": height, "lit": lit, "sectors": []int8{90 - 0, 127}[:1], "lamp": map[string]uint{"watts": 400}},
			map[string]any{"name": "C", "range": int16(7), "lit": &lit}},
	} {
		t.Run(name, func(t *testing.T) {
			service, err := openTower(t, &tower{records: records})
			if err != nil {
				t.Fatal(err)
			}
			defer service.Close()
			a, err := service.Ask(t.Context(), osprey.Operation{Text: `{ lights(filter: {range: {above: 10}, lamp: {watts: {is: 400}}, lit: {is: "2026-03-14T04:00:00Z"}}) { name range height lit lamp { watts } }
				all: lights(sort: [{range: ASC}]) { name range } berths { name light { range } } }`})
			want := `{"lights":[{"name":"A","range":12,"height":21.5,"lit":"2026-03-14T04:00:00Z","lamp":{"watts":400}}],` +
				`"all":[{"name":"C","range":7},{"name":"A","range":12}],` +
				`"berths":[{"name":"A","light":{"range":12}},{"name":"B","light":null},{"name":"C","light":{"range":7}}]}`
			if err != nil || string(a.Data) != want {
				t.Errorf("answers %s %v %v\nwant    %s", a.Data, a.Errors, err, want)
			}
		})
	}
}

// TestMisuse has a source do everything wrong that can be done wrong: each is an
// error that names the source and says what is wrong, and the process goes on.
func TestMisuse(t *testing.T) {
	set := func(change func(s *store.Set)) func() (*store.Catalogue, error) {
		return func() (*store.Catalogue, error) {
			c, _ := lightsCatalogue()
			change(c.Sets["lights"])
			return c, nil
		}
	}
	field := func(f store.Field) func() (*store.Catalogue, error) {
		return set(func(s *store.Set) { s.Fields = append(s.Fields, f) })
	}
	for name, test := range map[string]struct {
		source store.Source
		want   string
	}{
		"no source":       {nil, "WithSource was given no source"},
		"a nil of a type": {(*tower)(nil), "Capabilities panicked"},
		"no catalogue":    {&tower{catalogue: func() (*store.Catalogue, error) { return nil, nil }}, "Catalogue returned what is none: it is nil"},
		"a panic":         {&tower{catalogue: func() (*store.Catalogue, error) { panic("secret") }}, "Catalogue panicked; the service's log has the details"},
		"no set": {&tower{catalogue: func() (*store.Catalogue, error) {
			return &store.Catalogue{Sets: map[string]*store.Set{"lights": nil}}, nil
		}}, `the set "lights" is nil`},
		"a set of another name":  {&tower{catalogue: set(func(s *store.Set) { s.Name = "lamps" })}, `the set "lights" calls itself "lamps"`},
		"a field without a kind": {&tower{catalogue: field(store.Field{Name: "x"})}, "the set lights: the field x has no kind"},
		"an unknown kind":        {&tower{catalogue: field(store.Field{Name: "x", Kind: 200})}, "the set lights: the field x has no kind"},
		"a list of nothing":      {&tower{catalogue: field(store.Field{Name: "x", Kind: store.List})}, "the field x is a list, and says of no kind of items"},
		"a field twice":          {&tower{catalogue: field(store.Field{Name: "name", Kind: store.Text})}, "there are two fields called name"},
		"a field without a name": {&tower{catalogue: field(store.Field{Kind: store.Text})}, "field 6 has no name"},
		"a key of no field":      {&tower{catalogue: set(func(s *store.Set) { s.Keys = append(s.Keys, []string{"id"}) })}, "a key or an index is of a field id, which it has not"},
		"capabilities":           {&tower{can: func() store.Capabilities { panic("secret") }}, "Capabilities panicked"},
		"a grouping":             {&tower{can: func() store.Capabilities { return store.Capabilities{Group: 9} }}, "Capabilities has a Group or Page that there is not"},
	} {
		t.Run(name, func(t *testing.T) {
			service, err := openTower(t, test.source)
			if err == nil {
				service.Close()
			}
			var findings osprey.Findings
			if !errors.As(err, &findings) || !strings.Contains(err.Error(), "the source tower is a source of the program and at fault: ") || !strings.Contains(err.Error(), test.want) ||
				strings.Contains(err.Error(), "secret") {
				t.Errorf("opening gives %v, want %q", err, test.want)
			}
		})
	}
	a := []any{map[string]any{"name": "A", "range": 12}}
	answer := func(change func(a *store.Answer)) func(*store.Read, *store.Input) (*store.Answer, error) {
		return func(read *store.Read, in *store.Input) (*store.Answer, error) {
			got, err := store.Select(read, in, each(a))
			change(got)
			return got, err
		}
	}
	for name, test := range map[string]struct {
		source *tower
		want   string // the error of lights; "" if there is none
	}{
		"well":             {&tower{}, ""},
		"no request":       {&tower{prepare: func([]*store.Read) (store.Request, error) { return nil, nil }}, "Prepare returned no request, and no error"},
		"preparing panics": {&tower{prepare: func([]*store.Read) (store.Request, error) { panic("secret") }}, "Prepare panicked"},
		"preparing fails":  {&tower{prepare: func([]*store.Read) (store.Request, error) { return nil, errors.New("secret") }}, "the source tower failed; the service's log has the details STORE_ANSWER"},
		"describing":       {&tower{describe: func() store.Description { panic("secret") }}, ""},
		"a description":    {&tower{describe: func() store.Description { return store.Description{MaxKeys: -1, Pages: -7, Statements: -1} }}, ""},
		"running panics":   {&tower{run: func(*store.Read, *store.Input) (*store.Answer, error) { panic("secret") }}, "Run panicked"},
		"running fails":    {&tower{run: func(*store.Read, *store.Input) (*store.Answer, error) { return nil, errors.New("secret") }}, "the source tower failed; the service's log has the details STORE_ANSWER"},
		"a record fails":   {&tower{records: []any{a[0], &store.Error{Code: store.Busy, Msg: "has fog"}}}, "the source tower has fog"},
		"no object":        {&tower{records: []any{7}}, "answered in another shape"},
		"no answer":        {&tower{run: func(*store.Read, *store.Input) (*store.Answer, error) { return nil, nil }}, "answered in another shape"},
		"no tables":        {&tower{run: func(*store.Read, *store.Input) (*store.Answer, error) { return &store.Answer{}, nil }}, "answered in another shape"},
		"a nil table":      {&tower{run: answer(func(a *store.Answer) { a.Tables[0] = nil })}, "answered in another shape"},
		"too long":         {&tower{run: answer(func(a *store.Answer) { a.Tables[0].Len = 1000 })}, "answered in another shape"},
		"below zero":       {&tower{run: answer(func(a *store.Answer) { a.Tables[0].Len = -1 })}, "answered in another shape"},
		"no columns":       {&tower{run: answer(func(a *store.Answer) { a.Tables[0].Columns = nil })}, "answered in another shape"},
		"another kind":     {&tower{run: answer(func(a *store.Answer) { a.Tables[0].Columns[0].Kind = store.Float })}, "answered in another shape"},
		"an order":         {&tower{run: answer(func(a *store.Answer) { a.Tables[0].Order = []int32{5} })}, "answered in another shape"},
		"releasing panics": {&tower{run: answer(func(a *store.Answer) { a.Release = func() { panic("secret") } })}, ""},
		"no requests":      {&tower{run: answer(func(a *store.Answer) { a.Requests = -3 })}, ""},
		"values": {&tower{records: []any{map[string]any{"name": "A", "range": make(chan int)}}},
			"expected a whole number, found a value that cannot be written as JSON"},
		"a struct for a number": {&tower{records: []any{map[string]any{"name": "A", "range": light{}}}}, "expected a whole number, found an object"},
		"too large":             {&tower{records: []any{map[string]any{"name": "A", "range": uint64(1 << 63)}}}, "expected a whole number, found 9223372036854775808"},
		"functions panic": {&tower{can: func() store.Capabilities {
			return store.Capabilities{Fold: true, Group: store.BySource,
				CanFold: func(string, []string, string, []string) bool { panic("secret") },
				CanPage: func(*store.Read) bool { panic("secret") },
				Takes:   func(string, []string, []store.Predicate) func(*store.Predicate) bool { panic("secret") }}
		}}, ""},
		"pinging panics": {&tower{ping: func() error { panic("secret") }}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			if test.source.records == nil {
				test.source.records = a
			}
			service, err := openTower(t, test.source)
			if err != nil {
				t.Fatal(err)
			}
			defer service.Close()
			got, err := service.Ask(t.Context(), osprey.Operation{Text: `{ lights { name range } berths { name light { name } } }`})
			if err != nil {
				t.Fatal(err)
			}
			text := fmt.Sprint(string(got.Data), got.Errors)
			if test.want == "" {
				if want := `{"lights":[{"name":"A","range":12}],"berths":[{"name":"A","light":{"name":"A"}},{"name":"B","light":null},{"name":"C","light":null}]}[]`; text != want {
					t.Errorf("answers %s", text)
				}
				return
			}
			if len(got.Errors) == 0 || !strings.Contains(text, test.want) || !strings.Contains(text, `{"name":"B"`) || strings.Contains(text, "secret") {
				t.Errorf("answers %s\nwant an error with %q, and the berths", text, test.want)
			}
		})
	}
}

// TestHang has a source not return from its methods: what it was to bring is an error
// when its time is over, and what others bring is there.
func TestHang(t *testing.T) {
	forever := func() { select {} }
	dir := berths(t, "  tower: { kind: program, timeout: 100ms }\n", "", "lights: [Light!] @read", lightTypes)
	for name, source := range map[string]*tower{
		"Run":       {run: func(*store.Read, *store.Input) (*store.Answer, error) { forever(); return nil, nil }},
		"Catalogue": {catalogue: func() (*store.Catalogue, error) { forever(); return nil, nil }},
		"Ping":      {ping: func() error { forever(); return nil }},
	} {
		service, err := osprey.Open(t.Context(), dir, osprey.WithSource("tower", source, "exact"), osprey.WithLog(slog.New(slog.DiscardHandler)))
		if err != nil {
			t.Fatal(err)
		}
		a, err := service.Ask(t.Context(), osprey.Operation{Text: `{ lights { name } berths { name } }`})
		if err != nil || !strings.Contains(string(a.Data), `"berths":[{"name":"A"}`) {
			t.Errorf("%s: %s %v", name, a.Data, err)
		}
		switch {
		case name == "Ping" && len(a.Errors) > 0, name != "Ping" && len(a.Errors) != 1:
			t.Errorf("%s: %v", name, a.Errors)
		case name == "Run" && a.Errors[0].Code != "STORE_TIMEOUT", name == "Catalogue" && a.Errors[0].Code != "STORE_DOWN":
			t.Errorf("%s: %+v", name, a.Errors)
		}
		service.Close()
	}
	findings, err := osprey.Check(t.Context(), dir, osprey.WithSource("tower", &tower{catalogue: func() (*store.Catalogue, error) { forever(); return nil, nil }}, "exact"),
		osprey.WithLog(slog.New(slog.DiscardHandler)))
	if err != nil || !strings.Contains(findings.Error(), "the source tower did not tell what it holds, so nothing that is bound to it is checked: it did not answer within its time limit") {
		t.Errorf("checking gives %v %v", findings, err)
	}
}

// TestCheckOfProgram checks a project whose types are stored in a source that a
// program alone brings, in that program and without it.
func TestCheckOfProgram(t *testing.T) {
	dir := berths(t, "", "", "lights: [Light!] @read", lightTypes)
	quiet := osprey.WithLog(slog.New(slog.DiscardHandler))
	findings, err := osprey.Check(t.Context(), dir)
	if err != nil || !findings.Failed() || !strings.Contains(findings.Error(), `Light is stored in "tower", which is no source`) ||
		!strings.Contains(findings.Error(), "{ kind: program }") {
		t.Errorf("without the source: %v %v", findings, err)
	}
	if findings, err = osprey.Check(t.Context(), dir, quiet, osprey.WithSource("tower", &tower{}, "exact")); err != nil || len(findings) != 1 || findings[0].Rule != "crossing" {
		t.Errorf("with the source: %v %v", findings, err)
	}
	down := &tower{ping: func() error { return &store.Error{Code: store.Down, Msg: "cannot be reached"} }}
	if findings, err = osprey.Check(t.Context(), dir, quiet, osprey.WithSource("tower", down, "exact")); err != nil || findings.Failed() || len(findings) != 2 ||
		!strings.Contains(findings[1].String(), "the source tower does not answer: it cannot be reached") {
		t.Errorf("with the source down: %v %v", findings, err)
	}
	if _, err := osprey.Check(t.Context(), t.TempDir()); err == nil {
		t.Error("an empty folder is checked")
	}
}
