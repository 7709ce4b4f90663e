package osprey_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey"
	"osprey/core/store"
)

// Lights is a source of one's own: the lights along the fairway, as a device in
// the harbour's tower tells them. It does nothing but find records by their
// keys; Osprey filters, sorts and cuts them.
type Lights struct {
	lit   map[string]string // colours by the names of lights
	asked []string
}

func (l *Lights) Catalogue(context.Context) (*store.Catalogue, error) {
	return &store.Catalogue{Sets: map[string]*store.Set{"lights": {
		Name: "lights", What: "list", Keys: [][]string{{"name"}},
		Fields: []store.Field{{Name: "name", Kind: store.Text, Type: "text"}, {Name: "colour", Kind: store.Text, Type: "text", Nullable: true}},
	}}}, nil
}

func (l *Lights) Abilities() store.Abilities { return store.Abilities{} }
func (l *Lights) Ping(context.Context) error { return nil }
func (l *Lights) Close() error               { return nil }

func (l *Lights) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	return lightsRequest{l, reads[0]}, nil // each read is a request, by the abilities
}

type lightsRequest struct {
	source *Lights
	read   *store.Read
}

func (r lightsRequest) Describe() store.Description { return store.Description{Asks: r.read.Set} }

// Run fills a table with the lights that have one of the keys, if there are any,
// and fit the conditions.
func (r lightsRequest) Run(_ context.Context, in []store.Input) (*store.Answer, error) {
	var keys store.Index
	if len(r.read.Keys) > 0 {
		for row := range in[0].Keys[0].Len() {
			key, _ := store.AppendKey(nil, &in[0].Keys[0], row)
			keys.Add(key)
		}
	}
	r.source.asked = append(r.source.asked, fmt.Sprintf("%s by %d keys", r.read.Set, keys.Len()))
	t := store.NewTable(r.read.Columns)
	for name, colour := range r.source.lit {
		record := map[string]any{"name": name, "colour": colour}
		if len(r.read.Keys) > 0 && keys.Find(append([]byte(name), 0)) < 0 || !r.read.FitsAll(&in[0], store.JSONSubject{Value: record}) {
			continue
		}
		t.Len++
		for i := range r.read.Columns {
			t.Columns[i].AppendJSON(&r.read.Columns[i], store.JSONPath(record, r.read.Columns[i].Path))
		}
	}
	return &store.Answer{Tables: []*store.Table{t}, Requests: 1}, nil
}

// TestOwnSource relates records of a source of one's own with those of files, in
// both directions, and asks it once for all of them.
func TestOwnSource(t *testing.T) {
	lights := &Lights{lit: map[string]string{"A": "red", "C": "green", "Z": "white"}}
	dir := berths(t, "", `light: Light @related(here: "name", there: "name")`,
		`lights(filter: LightFilter, sort: [LightSort!], limit: Int): [Light!]! @read`,
		`type Light @stored(in: "tower", as: "lights") { name: ID! colour: String berth: Berth @related(here: "name", there: "name") }`)
	const query = `{ berths { name light { colour } } lights(filter: {colour: {in: ["red", "white"]}}, sort: [{name: DESC}]) { name berth { lengthM } } }`
	const want = `{"berths":[{"name":"A","light":{"colour":"red"}},{"name":"B","light":null},{"name":"C","light":{"colour":"green"}}],` +
		`"lights":[{"name":"Z","berth":null},{"name":"A","berth":{"lengthM":140}}]}`
	if got := answer(t, dir, query, osprey.WithSource("tower", lights, "exact")); got != want {
		t.Errorf("answers\n%s\nwant\n%s", got, want)
	}
	if got := strings.Join(lights.asked, ", "); got != "lights by 0 keys, lights by 3 keys" {
		t.Errorf("the source was asked %q", got)
	}
}

// TestOwnScalar holds that a scalar of one's own is read and written by its code.
func TestOwnScalar(t *testing.T) {
	scalar := osprey.WithScalar(osprey.Scalar{
		Name: "Mark", SpecifiedBy: "https://example.org/marks", Description: "The name of a berth with a sign in front.",
		Parse: func(v any) (any, error) {
			if s, ok := v.(string); ok && strings.HasPrefix(s, "#") {
				return s[1:], nil
			}
			return nil, fmt.Errorf("expected a mark such as \"#A\", found %v", v)
		},
		Format: func(stored string) (string, error) {
			if stored == "B" {
				return "", fmt.Errorf("%s is no mark", stored)
			}
			return "#" + stored, nil
		},
	})
	dir := berths(t, "", `mark: Mark @at(path: "name")`, `one(mark: Mark! @at(path: "name")): Berth @read`, "")
	for query, want := range map[string]string{
		`{ berths { mark } }`:               `{"berths":[{"mark":"#A"},{"mark":null},{"mark":"#C"}]}` + "\nBAD_VALUE berths.1.mark: Berth.mark: B is no mark",
		`{ one(mark: "#C") { mark name } }`: `{"one":{"mark":"#C","name":"C"}}`,
		`{ one(mark: "C") { name } }`:       "\nINVALID the argument \"mark\" of Query.one does not fit: expected a mark such as \"#A\", found C",
	} {
		if got := answer(t, dir, query, scalar); got != want {
			t.Errorf("%s answers\n%s\nwant\n%s", query, got, want)
		}
	}
	service, err := osprey.Open(t.Context(), dir, scalar)
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	if s := service.Schema(); !strings.Contains(s, "scalar Mark @specifiedBy(url: \"https://example.org/marks\")") {
		t.Errorf("the schema is %s", s)
	}
}

type (
	Empty struct{ _ int }
	Odd   struct{ C chan int }
	Wrong struct {
		A int `type:"Int!!"`
	}
	Inner struct{ ID int }
	Every struct {
		Text    string
		On      bool
		Small   int
		Large   int64
		Share   float32
		At      time.Time
		List    []*Inner
		Maybe   *[]*string
		Any     any
		Bytes   []byte
		URLPath string
		Skipped string `json:"-"`
	}
)

// TestOwnTypes holds that types of Go structs and of files meet in one schema.
func TestOwnTypes(t *testing.T) {
	type Tug struct {
		_     struct{}  `about:"A boat that pulls." bind:"@stored(in: \"quayside\", as: \"tugs\", key: \"name\")"`
		Name  string    `json:"name" type:"ID!"`
		PullT *float64  `json:"pullT"`
		Berth *struct{} `json:"berth" type:"Berth" bind:"@related(here: \"berth\", there: \"name\")"`
	}
	dir := berths(t, "", "", "tugs: [Tug!]! @read", `extend type Tug { label: String! @computed(expr: "record.name + ' (' + string(record.pullT) + ' t)'") }`)
	if err := os.WriteFile(filepath.Join(dir, "data/tugs.json"), []byte(`[{"name": "Kelp", "pullT": 40.5, "berth": "C"}]`), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := answer(t, dir, `{ tugs { name label berth { lengthM } } }`, osprey.WithTypes(Tug{})); got != `{"tugs":[{"name":"Kelp","label":"Kelp (40.5 t)","berth":{"lengthM":0}}]}` {
		t.Errorf("answers %s", got)
	}
	for _, test := range []struct {
		value any
		want  string
	}{
		{5, "int is no struct"},
		{struct{ A int }{}, "has no name"},
		{struct{}{}, "has no name"},
		{Empty{}, "has no fields that can be seen"},
		{Odd{}, "values of chan int have no type in a schema"},
		{Wrong{}, "a tag cannot be read"},
	} {
		if _, err := osprey.Types(test.value); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%T: %v, want %q", test.value, err, test.want)
		}
	}
	text, err := osprey.Types(&Every{})
	if err != nil {
		t.Fatal(err)
	}
	const want = `type Every {
  text: String!
  on: Boolean!
  small: Int!
  large: Int64!
  share: Float!
  at: DateTime!
  list: [Inner]!
  maybe: [String]
  any: JSON
  bytes: String!
  urlPath: String!
}

type Inner {
  id: Int!
}
`
	if text != want {
		t.Errorf("gives\n%s\nwant\n%s", text, want)
	}
}
