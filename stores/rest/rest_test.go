package rest_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/stores/rest"
)

// stations is a resource with several ways to read it.
var stations = rest.Set{
	Name: "stations", Key: []string{"code"},
	Fields: []rest.Field{{Name: "code", Kind: store.Text}, {Name: "name", Kind: store.Text}, {Name: "kind", Kind: store.Text}, {Name: "place.lat", Kind: store.Float}},
	Reads:  []rest.ReadForm{{Get: "/stations/{code}"}, {Get: "/stations{?code*,kind}", Many: "code", Pick: "$.results[*]"}},
}

// A server is a service that notes what it was asked.
type server struct {
	*httptest.Server
	mu      sync.Mutex
	asked   []string
	working int
	most    int // requests under way at once
}

func serve(t *testing.T, answer func(w http.ResponseWriter, r *http.Request)) *server {
	t.Helper()
	s := &server{}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		s.asked = append(s.asked, r.URL.RequestURI())
		s.working++
		s.most = max(s.most, s.working)
		s.mu.Unlock()
		answer(w, r)
		s.mu.Lock()
		s.working--
		s.mu.Unlock()
	}))
	t.Cleanup(s.Close)
	return s
}

func open(t *testing.T, url string, sets ...rest.Set) *rest.Source {
	t.Helper()
	s, err := rest.Open(rest.Config{URL: url, Sets: sets, Concurrency: 3, Timeout: time.Second, MaxBytes: 4096, Headers: map[string]string{"Authorization": "Bearer geheim-1234"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func keys(values ...string) []store.Column {
	c := store.Column{Kind: store.Text}
	for _, v := range values {
		c.AppendText(v)
	}
	return []store.Column{c}
}

func run(s *rest.Source, r *store.Read, in store.Input) (*store.Answer, error) {
	r.Parent = -1
	request, err := s.Prepare(nil, []*store.Read{r})
	if err != nil {
		return nil, err
	}
	return request.Run(context.Background(), nil, []store.Input{in})
}

var wanted = []store.Wanted{{Path: "code", Kind: store.Text}, {Path: "name", Kind: store.Text}, {Path: "place.lat", Kind: store.Float}}

func TestManyKeysAreOneRequest(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `{"results": [{"code": "B", "name": "b", "place": {"lat": 1.5}}, {"code": "A/1", "name": "a"}], "next": null}`)
	})
	a, err := run(open(t, s.URL+"/", stations), &store.Read{Set: "stations", Columns: wanted, Keys: []int{0}}, store.Input{Keys: keys("A/1", "B")})
	if err != nil {
		t.Fatal(err)
	}
	if len(s.asked) != 1 || s.asked[0] != "/stations?code=A%2F1&code=B" || a.Requests != 1 {
		t.Errorf("asked %q", s.asked)
	}
	table := a.Tables[0]
	if table.Len != 2 || string(table.Columns[1].At(1)) != "a" || table.Columns[2].Floats[0] != 1.5 || !table.Columns[2].Null[1] {
		t.Errorf("the rows are %+v", table)
	}
}

// TestOneKeyAtATime checks that requests are bounded in number, that the key is
// known where the answer does not repeat it, and that 404 is no record.
func TestOneKeyAtATime(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(20 * time.Millisecond)
		if strings.HasSuffix(r.URL.Path, "/K3") {
			http.NotFound(w, r)
			return
		}
		fmt.Fprintf(w, `{"name": %q}`, r.URL.Path)
	})
	one := stations
	one.Reads = stations.Reads[:1]
	var list []string
	for i := range 12 {
		list = append(list, fmt.Sprintf("K%d", i))
	}
	source := open(t, s.URL, one)
	a, err := run(source, &store.Read{Set: "stations", Columns: wanted[:2], Keys: []int{0}}, store.Input{Keys: keys(list...)})
	if err != nil {
		t.Fatal(err)
	}
	if len(s.asked) != 12 || a.Requests != 12 || s.most > 3 || s.most < 2 {
		t.Errorf("%d requests, %d at once, want 12 and at most 3", len(s.asked), s.most)
	}
	if a.Tables[0].Len != 11 || string(a.Tables[0].Columns[0].At(4)) != "K5" || string(a.Tables[0].Columns[1].At(4)) != "/stations/K5" {
		t.Errorf("the rows are %q", a.Tables[0].Columns[0].Bytes)
	}
	if many, err := source.Capabilities().CanRead("stations", []string{"code"}, nil); many || err != nil {
		t.Errorf("CanRead says %t, %v", many, err)
	}
	request, _ := source.Prepare(nil, []*store.Read{{Set: "stations", Columns: wanted, Keys: []int{0}}})
	if d := request.Describe(); !d.EachKey || d.Asks != "GET /stations/{code}" || strings.Contains(d.Asks, s.URL) {
		t.Errorf("it is described as %+v", d)
	}
}

// TestPredicates checks which are the service's and which the adapter's.
func TestPredicates(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `{"results": [{"code": "A", "name": "x"}, {"code": "B", "name": "y"}, {"code": "C"}]}`)
	})
	where := func(path, value string) *store.Answer {
		t.Helper()
		a, err := run(open(t, s.URL, stations), &store.Read{Set: "stations", Columns: wanted, Where: []store.Predicate{{Path: path, Kind: store.Text, Many: true}}},
			store.Input{Where: keys(value)})
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	if a := where("name", "y"); a.Tables[0].Len != 1 || s.asked[0] != "/stations" {
		t.Errorf("by name: %d rows of %q", a.Tables[0].Len, s.asked)
	}
	if a := where("kind", "bar"); a.Tables[0].Len != 3 || s.asked[1] != "/stations?kind=bar" {
		t.Errorf("by kind: %d rows of %q", a.Tables[0].Len, s.asked)
	}
	if _, err := run(open(t, s.URL, stations), &store.Read{Set: "stations", Columns: wanted, Where: []store.Predicate{{Path: "name", Kind: store.Text}}}, store.Input{Where: keys()}); err != nil || len(s.asked) != 2 {
		t.Errorf("nothing can fit, and it asked %q, %v", s.asked, err)
	}
}

// TestFailures holds what callers are told, and that logs hold no secret.
func TestFailures(t *testing.T) {
	for name, test := range map[string]struct {
		answer func(w http.ResponseWriter, r *http.Request)
		code   store.Code
		msg    string
	}{
		"status": {func(w http.ResponseWriter, r *http.Request) {
			http.Error(w, "token geheim-1234 expired", http.StatusServiceUnavailable)
		}, store.Down, "is not available (status 503)"},
		"a fault":   {func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusInternalServerError) }, store.BadAnswer, "answered with the status 500"},
		"not JSON":  {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "geheim-1234") }, store.BadAnswer, "answered something that is not JSON"},
		"too large": {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, strings.Repeat(" ", 5000)) }, store.BadAnswer, "answered more than 4KB, which is the limit; ask for less, or raise maxAnswer in osprey.yaml"},
		"slow":      {func(w http.ResponseWriter, r *http.Request) { time.Sleep(1200 * time.Millisecond) }, store.Timeout, "did not answer within its time limit"},
		"hangs up":  {func(w http.ResponseWriter, r *http.Request) { panic(http.ErrAbortHandler) }, store.BadAnswer, "broke off its answer"},
	} {
		t.Run(name, func(t *testing.T) {
			s := serve(t, test.answer)
			_, err := run(open(t, s.URL, stations), &store.Read{Set: "stations", Columns: wanted}, store.Input{})
			var own *store.Error
			if !errors.As(err, &own) || own.Code != test.code || own.Msg != test.msg {
				t.Fatalf("the error is %v, want %s %q", err, test.code, test.msg)
			}
			if strings.Contains(own.Error(), "geheim") {
				t.Errorf("the log tells a secret: %v", own)
			}
		})
	}
	_, err := run(open(t, "http://127.0.0.1:1", stations), &store.Read{Set: "stations", Columns: wanted}, store.Input{})
	var own *store.Error
	if !errors.As(err, &own) || own.Code != store.Down {
		t.Errorf("no service: %v", err)
	}
}

func TestConfiguration(t *testing.T) {
	for name, c := range map[string]rest.Config{
		"not of the form":     {URL: "harbour"},
		"not a URI template":  {URL: "http://x", Sets: []rest.Set{{Name: "a", Reads: []rest.ReadForm{{Get: "/{"}}}}},
		"not a JSONPath":      {URL: "http://x", Sets: []rest.Set{{Name: "a", Reads: []rest.ReadForm{{Get: "/", Pick: "$["}}}}},
		"has no variable \"b": {URL: "http://x", Sets: []rest.Set{{Name: "a", Reads: []rest.ReadForm{{Get: "/{a}", Many: "b"}}}}},
	} {
		if _, err := rest.Open(c); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("Open reports %v, want %q", err, name)
		}
	}
	s := open(t, "http://x", stations)
	if _, err := s.Capabilities().CanRead("stations", []string{"name"}, nil); err == nil || !strings.Contains(err.Error(), "no read of the set stations takes name") {
		t.Errorf("CanRead by name: %v", err)
	}
	if many, err := s.Capabilities().CanRead("stations", []string{"code"}, []string{"kind"}); !many || err != nil {
		t.Errorf("CanRead by code: %t, %v", many, err)
	}
}
