package osprey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey"
)

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
		`{ one(mark: "C") { name } }`:       "\nINVALID 1:13: the argument \"mark\" of Query.one does not fit: expected a mark such as \"#A\", found C",
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
