package osprey_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"log"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"

	"osprey"
	"osprey/core/store"
	"osprey/docs/examples/shelf"
)

// tugs are what the function port.tugs is given, and what it gives.
type tugsRecord struct {
	LengthM   float64 `json:"lengthM"`
	DraughtDm *int    `json:"draughtDm"`
}

func tugs(_ context.Context, calls []osprey.Call[tugsRecord, struct{ Wind int }]) ([]int, error) {
	results := make([]int, len(calls))
	failed := osprey.Errors{}
	for i, c := range calls {
		if c.Record.DraughtDm == nil {
			failed[i] = errors.New("nobody measured the berth")
			continue
		}
		results[i] = int(c.Record.LengthM)/100 + c.Args.Wind/5
	}
	return results, failed
}

type place struct {
	Name   string  `json:"name"`
	SpareM float64 `json:"spareM"`
}

// fitting is a function of a root field: it has no record.
func fitting(_ context.Context, calls []osprey.Call[osprey.None, struct {
	LengthM float64 `json:"lengthM"`
}]) ([][]place, error) {
	results := make([][]place, len(calls))
	for i, c := range calls {
		results[i] = []place{{"Oil Jetty A", 260 - c.Args.LengthM}}
	}
	return results, nil
}

func open() *osprey.Service {
	service, err := osprey.Open(context.Background(), "testdata/berths",
		osprey.WithFunctions(osprey.Func("port.tugs", tugs), osprey.Func("port.fitting", fitting)))
	if err != nil {
		log.Fatal(err)
	}
	return service
}

func ExampleOpen() {
	service := open()
	defer service.Close()
	a, err := service.Ask(context.Background(), osprey.Operation{Text: `{ berths { name class tugs(wind: 6) } }`})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(string(a.Data))
	for _, e := range a.Errors {
		fmt.Println(e.Code, e.Error())
	}
	for _, c := range a.Requests {
		fmt.Println(c.Wave, c.Source, c.Asks, c.Calls)
	}
	// Output:
	// {"berths":[{"name":"Oil Jetty A","class":"long","tugs":3},{"name":"Old Quay A","class":"short","tugs":2},{"name":"Old Quay B","class":"short","tugs":null}]}
	// FUNCTION berths.2.tugs: the source port failed in tugs: it says: nobody measured the berth
	// 1 quayside berths.json 0
	// 2 port tugs 3
}

// A service is an HTTP handler, and tells what it would ask without asking.
func ExampleService() {
	service := open()
	defer service.Close()
	server := httptest.NewServer(service)
	defer server.Close()
	res, err := http.Post(server.URL+"/graphql", "application/json", strings.NewReader(`{"query": "{ berths { class } }"}`))
	if err != nil {
		log.Fatal(err)
	}
	defer res.Body.Close()
	io.Copy(os.Stdout, res.Body)
	plan, _ := service.Explain(osprey.Operation{Text: `{ berths { name tugs } }`})
	fmt.Printf("\n%s", plan)
	// Output:
	// {"data":{"berths":[{"class":"long"},{"class":"short"},{"class":"short"}]}}
	// 2 store requests in 2 waves
	//
	// wave 1
	//   quayside (files)  berths.json
	//     • berths: name lengthM draughtDm
	//         for berths
	//         here: berths sorted by name
	//
	// wave 2
	//   port (program)  tugs
	//     • tugs(lengthM, draughtDm, wind: 3)
	//         for berths.tugs
	//
	// costs 21: 10 for each store request, and 1 for each 10 records that are expected
}

// A scalar of one's own is read from what callers give, and written as they see
// it.
func ExampleWithScalar() {
	feet := osprey.Scalar{
		Name: "Feet", Description: "A length in feet, such as 459 ft; it is stored in metres.",
		Format: func(stored string) (string, error) {
			metres, err := strconv.ParseFloat(stored, 64)
			return fmt.Sprintf("%.0f ft", metres*3.28084), err
		},
	}
	service, err := osprey.Open(context.Background(), "testdata/berths", osprey.WithScalar(feet),
		osprey.WithSchema("feet", `extend type Berth { length: Feet @at(path: "lengthM") }`),
		osprey.WithFunctions(osprey.Func("port.tugs", tugs), osprey.Func("port.fitting", fitting)))
	if err != nil {
		log.Fatal(err)
	}
	defer service.Close()
	a, _ := service.Ask(context.Background(), osprey.Operation{Text: `{ berths { length } }`})
	fmt.Println(string(a.Data))
	// Output:
	// {"berths":[{"length":"853 ft"},{"length":"459 ft"},{"length":"295 ft"}]}
}

// A source of one's own: records that a program has at hand, related with those of
// other stores. Package docs/examples/shelf is the whole of it.
func ExampleWithSource() {
	type light struct {
		Berth  string `json:"berth"`
		Colour string `json:"colour"`
		RangeM int    `json:"rangeM"`
	}
	lights := []light{{"Oil Jetty A", "red", 900}, {"Old Quay B", "green", 400}}
	tower := &shelf.Shelf{
		Sets: map[string]*store.Set{"lights": {Name: "lights", Keys: [][]string{{"berth"}}, Fields: []store.Field{
			{Name: "berth", Kind: store.Text}, {Name: "colour", Kind: store.Text}, {Name: "rangeM", Kind: store.Int}}}},
		Records: func(context.Context, string) iter.Seq2[any, error] { return shelf.Of(lights) },
	}
	service, err := osprey.Open(context.Background(), "testdata/berths", osprey.WithSource("tower", tower, "exact"),
		osprey.WithSchema("lights", `type Light @stored(in: "tower", as: "lights") { colour: String! rangeM: Int! }
			extend type Berth { light: Light @related(here: "name", there: "berth") }`),
		osprey.WithFunctions(osprey.Func("port.tugs", tugs), osprey.Func("port.fitting", fitting)))
	if err != nil {
		log.Fatal(err)
	}
	defer service.Close()
	a, _ := service.Ask(context.Background(), osprey.Operation{Text: `{ berths { name light { colour rangeM } } }`})
	fmt.Println(string(a.Data), a.Errors)
	// Output:
	// {"berths":[{"name":"Oil Jetty A","light":{"colour":"red","rangeM":900}},{"name":"Old Quay A","light":null},{"name":"Old Quay B","light":{"colour":"green","rangeM":400}}]} []
}

// A test of a program checks its project with the sources and functions that only it has.
func ExampleCheck() {
	findings, err := osprey.Check(context.Background(), "testdata/berths", osprey.WithLog(slog.New(slog.DiscardHandler)),
		osprey.WithFunctions(osprey.Func("port.tugs", tugs)))
	if err != nil {
		log.Fatal(err)
	}
	for _, f := range findings {
		if f.Severity == "error" {
			fmt.Println(f.Coordinate, f.Line, f.Message)
		}
	}
	// Output:
	// Query.fitting 4 Query.fitting is computed by port.fitting: the program has no function "fitting"
}

// What a function gives can lead to records.
func ExampleFunc() {
	service := open()
	defer service.Close()
	a, _ := service.Ask(context.Background(), osprey.Operation{
		Text:      `query Fit($m: Float!) { fitting(lengthM: $m) { spareM berth { name lengthM } } }`,
		Variables: map[string]any{"m": 200.5},
	})
	fmt.Println(string(a.Data), a.Errors)
	// Output:
	// {"fitting":[{"spareM":59.5,"berth":{"name":"Oil Jetty A","lengthM":260}}]} []
}

func ExampleTypes() {
	type Buoy struct {
		_     struct{} `about:"A mark in the fairway." bind:"@stored(in: \"quayside\", as: \"buoys\")"`
		ID    string   `json:"id" type:"ID!"`
		Light *string  `json:"light" about:"Empty if it is not lit."`
		Depth float64  `json:"depthM"`
	}
	text, err := osprey.Types(Buoy{})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print(text)
	// Output:
	// "A mark in the fairway."
	// type Buoy @stored(in: "quayside", as: "buoys") {
	//   id: ID!
	//   "Empty if it is not lit."
	//   light: String
	//   depthM: Float!
	// }
}
