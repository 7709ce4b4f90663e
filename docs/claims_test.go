package docs_test

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"osprey"
	"osprey/demo/demotest"
)

// claim holds that the README says a sentence, which the test of its name then tries.
func claim(t *testing.T, sentence string) {
	t.Helper()
	text, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(strings.Join(strings.Fields(string(text)), " "), sentence) {
		t.Errorf("the README does not say %q any more", sentence)
	}
}

// stores counts what reaches the harbour's stores, at the stores.
type stores struct {
	wire *demotest.Wire
}

// watched opens the harbour so that what reaches its stores is counted.
func watched(t *testing.T) (*osprey.Service, *stores) {
	t.Helper()
	demotest.Setenv(t)
	s := &stores{wire: demotest.NewWire(t)}
	t.Setenv("INSPECTIONS_URL", s.wire.URL)
	service, err := osprey.Open(t.Context(), "../demo/harbour", osprey.WithLog(slog.New(slog.DiscardHandler)))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(service.Close)
	return service, s
}

// during returns how many requests each store gets while something is done.
func (s *stores) during(t *testing.T, do func()) map[string]int {
	t.Helper()
	h := demotest.Harbour()
	s.wire.Reads()
	h.Tides.Requests()
	h.Notices.Requests()
	h.Fees.Requests()
	statements := demotest.Statements(t)
	do()
	got := map[string]int{"registry": statements(), "inspections": len(s.wire.Reads()), "tides": len(h.Tides.Requests()), "notices": len(h.Notices.Requests()), "fees": len(h.Fees.Requests())}
	for name, n := range got {
		if n == 0 {
			delete(got, name)
		}
	}
	return got
}

// saved returns the operations that the harbour keeps.
func saved(t *testing.T) map[string]string {
	t.Helper()
	files, err := filepath.Glob("../demo/harbour/operations/*.graphql")
	if err != nil || len(files) < 5 {
		t.Fatal("the harbour keeps no operations", err)
	}
	texts := map[string]string{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		texts[strings.TrimSuffix(filepath.Base(file), ".graphql")] = string(text)
	}
	return texts
}

func answered(t *testing.T, service *osprey.Service, op osprey.Operation) *osprey.Answer {
	t.Helper()
	a, err := service.Ask(t.Context(), op)
	if err != nil || len(a.Errors) > 0 {
		t.Fatalf("%.200s\n%v %v", op.Text, err, a.Errors)
	}
	return a
}

// TestAsksEachStoreOnceForEachStepOfTheWay follows a chain that stays in a store, one
// that leaves it, and one that comes back.
func TestAsksEachStoreOnceForEachStepOfTheWay(t *testing.T) {
	claim(t, "**asks each store once for each step of the way**, however long the lists are")
	claim(t, "A store is asked again only when the chain has left it and come back, or where its interface takes one set, one key or one page at a time.")
	service, stores := watched(t)
	for text, want := range map[string]string{
		`{ portCalls(limit: 200) { craft { name operator { name parent { name } } } berth { quay { name } } pilots { name calls(limit: 3) { purpose } } } }`: "map[registry:1]",
		`{ portCalls(limit: 200) { craft { inspections(limit: 3) { outcome } } } }`:                                                                          "map[inspections:1 registry:1]",
		`{ portCalls(limit: 200) { incidents { subject { ... on Named { name } } } } }`:                                                                      "map[inspections:1 registry:2]",
		`{ portCalls(limit: 200) { fee { amount } } }`:                                                                                                       "map[fees:1 registry:1]",
		`{ portCalls(limit: 200) { berth { quay { station { name } } } } }`:                                                                                  "map[registry:1 tides:1]",
		`{ quays { station { contact { officer } } } }`:                                                                                                      "map[registry:1 tides:7]", // one key at a time
	} {
		if got := fmt.Sprint(stores.during(t, func() { answered(t, service, osprey.Operation{Text: text}) })); got != want {
			t.Errorf("%s\nasks %s, want %s", text, got, want)
		}
	}
}

// TestYouWriteNoCodeThatFetches looks what the harbour is made of: types, configuration
// and operations.
func TestYouWriteNoCodeThatFetches(t *testing.T) {
	claim(t, "**You write no code that fetches.**")
	err := filepath.WalkDir("../demo/harbour", func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !slices.Contains([]string{".graphql", ".yaml"}, filepath.Ext(path)) {
			t.Errorf("the harbour needs %s", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestExplainShowsEveryStoreRequestBeforeAnythingRuns explains the operations that the
// harbour keeps, at which no store is asked, and then runs them.
func TestExplainShowsEveryStoreRequestBeforeAnythingRuns(t *testing.T) {
	claim(t, "**`osprey explain` shows every store request before anything runs**")
	demotest.KeepRegistry(t)
	service, stores := watched(t)
	request := regexp.MustCompile(`(?m)^  (\w+) \(\w+\)  (.*?)(?:  \(.*\))?$`)
	for name, text := range saved(t) {
		if name == "Arrivals" {
			continue // which goes on
		}
		op := osprey.Operation{Text: text, Variables: variablesOf(name)}
		var plan string
		if asked := stores.during(t, func() {
			var err error
			if plan, err = service.Explain(op); err != nil {
				t.Fatal(name, err)
			}
		}); len(asked) > 0 {
			t.Errorf("explaining %s asks %v", name, asked)
		}
		shown := map[string]bool{}
		for _, m := range request.FindAllStringSubmatch(plan, -1) {
			shown[m[1]+" "+m[2]] = true
		}
		var a *osprey.Answer
		counted := stores.during(t, func() { a = answered(t, service, op) })
		total, made := 0, 0
		for _, n := range counted {
			total += n
		}
		for _, r := range a.Requests {
			made += r.RoundTrips
			if !shown[r.Source+" "+r.Asks] {
				t.Errorf("%s makes the request %s %s, which is not shown in\n%s", name, r.Source, r.Asks, plan)
			}
		}
		for range strings.Count(plan, "in the transaction of") / 2 { // of the write, and of the reading behind it
			total -= 2 // its begin and its end
		}
		if total != made {
			t.Errorf("%s: the stores were asked %v, and %d requests are told", name, counted, made)
		}
	}
}

func variablesOf(name string) map[string]any {
	switch name {
	case "Log":
		return map[string]any{"calls": []string{"3494", "2722"}}
	case "Craft":
		return map[string]any{"imo": "9100112"}
	case "Arrive":
		return map[string]any{"craft": "9100112", "at": "1990-03-01T08:30:00Z", "quay": "Q1", "berth": 2}
	}
	return nil
}

// TestTheNumberOfStoreRequestsDoesNotDependOnTheNumberOfRecords asks for one record
// and for a thousand.
func TestTheNumberOfStoreRequestsDoesNotDependOnTheNumberOfRecords(t *testing.T) {
	claim(t, "**The number of store requests does not depend on the number of records**")
	service, stores := watched(t)
	text := saved(t)["Board"]
	var counts []string
	for _, limit := range []int{10, 100, 1000} {
		counts = append(counts, fmt.Sprint(stores.during(t, func() {
			a := answered(t, service, osprey.Operation{Text: text, Variables: map[string]any{"limit": limit}})
			if n := strings.Count(string(a.Data), `"arrivedAt"`); n != limit {
				t.Errorf("%d port calls of %d", n, limit)
			}
		})))
	}
	if want := "map[inspections:1 registry:1 tides:2]"; !slices.Equal(counts, []string{want, want, want}) {
		t.Errorf("10, 100 and 1000 port calls ask %q", counts)
	}
}

// TestAStoreThatFailsCostsOnlyTheFieldsThatComeFromIt asks the board while one store
// after the other hangs up in the middle of its answers.
func TestAStoreThatFailsCostsOnlyTheFieldsThatComeFromIt(t *testing.T) {
	claim(t, "**A store that fails costs only the fields that come from it.** Everything else is answered, and each such field has an error with a code, a path and no secret.")
	demotest.Setenv(t)
	text := `{ portCalls(limit: 3) { id fee { amount } incidents { kind } berth { quay { notices(limit: 1) { title } station { name } } } } }`
	for source, variable := range map[string]string{"inspections": "INSPECTIONS_URL", "tides": "TIDES_URL", "notices": "NOTICES_URL", "fees": "FEES_URL"} {
		t.Run(source, func(t *testing.T) {
			address := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(demotest.Harbour().Environ()[variable])
			proxy := demotest.NewProxy(t, address)
			t.Setenv(variable, strings.Replace(demotest.Harbour().Environ()[variable], address, proxy.Address, 1))
			service, err := osprey.Open(t.Context(), "../demo/harbour", osprey.WithLog(slog.New(slog.DiscardHandler)))
			if err != nil {
				t.Fatal(err)
			}
			defer service.Close()
			answered(t, service, osprey.Operation{Text: text})
			proxy.Be(demotest.Reset)
			a, err := service.Ask(t.Context(), osprey.Operation{Text: text})
			if err != nil || len(a.Errors) == 0 || strings.Count(string(a.Data), `"id":`) != 3 {
				t.Fatalf("%s %v %v", a.Data, a.Errors, err)
			}
			for _, e := range a.Errors {
				if e.Source != source || !strings.HasPrefix(e.Code, "STORE_") || len(e.Path) == 0 || strings.Contains(e.Message, "127.0.0.1") {
					t.Errorf("an error is %+v", e)
				}
			}
		})
	}
}

// TestWhatIsWrongWithAProjectIsFoundBeforeItIsServed has one mistake of each kind, in
// types, bindings, expressions and configuration.
func TestWhatIsWrongWithAProjectIsFoundBeforeItIsServed(t *testing.T) {
	claim(t, "**What is wrong with a project is found before it is served**: types, bindings, expressions and configuration are held against the stores' own catalogues, and every finding has its place, its reason and a remedy.")
	demotest.Setenv(t)
	const yaml = "sources:\n  registry: { kind: postgres, url: \"${REGISTRY_URL}\", naming: snake }\n"
	const types = "type Query { craft: [Craft!] @read }\ntype Craft @stored(in: \"registry\", as: \"craft\", key: \"imo\") {\n  imo: ID!\n  %s\n}\n"
	for mistake, files := range map[string]map[string]string{
		"configuration": {"osprey.yaml": yaml + "limit: { page: 5 }\n", "schema/a.graphql": fmt.Sprintf(types, "name: String!")},
		"types":         {"osprey.yaml": yaml, "schema/a.graphql": fmt.Sprintf(types, "name: Strng!")},
		"bindings":      {"osprey.yaml": yaml, "schema/a.graphql": fmt.Sprintf(types, "nam: String!")},
		"expressions":   {"osprey.yaml": yaml, "schema/a.graphql": fmt.Sprintf(types, "name: String! label: Int @computed(expr: \"record.name\")")},
	} {
		dir := demotest.Folder(t, files)
		_, err := osprey.Open(t.Context(), dir, osprey.WithLog(slog.New(slog.DiscardHandler)))
		findings, ok := err.(osprey.Findings)
		if !ok || len(findings) != 1 {
			t.Errorf("%s: %v", mistake, err)
			continue
		}
		if f := findings[0]; f.Severity != "error" || f.Line == 0 || f.Column == 0 || f.Message == "" || f.Fix == "" && !strings.Contains(f.Message, "did you mean") {
			t.Errorf("%s: %+v", mistake, f)
		}
	}
}
