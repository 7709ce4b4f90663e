package rest_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/stores/rest"
)

// things is a resource of numbered records.
func things(reads ...rest.ReadForm) rest.Set {
	return rest.Set{Name: "things", Key: []string{"id"}, Fields: []rest.Field{{Name: "id", Kind: store.Int}, {Name: "at", Kind: store.Date}}, Reads: reads}
}

var ids = []store.Wanted{{Path: "id", Kind: store.Int}}

// idsOf returns the ids that a read brings.
func idsOf(s *rest.Source, r *store.Read, in store.Input) (string, int, error) {
	a, err := run(s, r, in)
	if err != nil {
		return "", 0, err
	}
	return fmt.Sprint(a.Tables[0].Columns[0].Ints), a.Requests, nil
}

// TestPages follows every way in which an answer leads to the next page.
func TestPages(t *testing.T) {
	list := func(w http.ResponseWriter, more string, ids ...int) {
		var items []string
		for _, id := range ids {
			items = append(items, fmt.Sprintf(`{"id": %d}`, id))
		}
		fmt.Fprintf(w, `{"items": [%s], "next": %s, "pages": 3}`, strings.Join(items, ","), more)
	}
	for name, test := range map[string]struct {
		read   rest.ReadForm
		answer func(w http.ResponseWriter, r *http.Request)
		want   string
		asked  string
	}{
		"the header Link": {rest.ReadForm{Get: "/things", Pages: &rest.Pages{Link: true}}, func(w http.ResponseWriter, r *http.Request) {
			if r.URL.RawQuery == "" {
				w.Header().Set("Link", `</first>; rel="first", <?from=2>; title="a, b"; rel="next"`)
				list(w, "null", 1)
				return
			}
			list(w, "null", 2)
		}, "[1 2]", "/things /things?from=2"},
		"an address in the body": {rest.ReadForm{Get: "/things", Pages: &rest.Pages{Next: "$.next"}}, func(w http.ResponseWriter, r *http.Request) {
			if r.URL.RawQuery == "" {
				list(w, `"/things?from=2"`, 1)
				return
			}
			list(w, "null", 2)
		}, "[1 2]", "/things /things?from=2"},
		"a cursor": {rest.ReadForm{Get: "/things{?after}", Pages: &rest.Pages{Cursor: "after", Next: "$.next"}}, func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Query().Get("after") == "" {
				list(w, `"x y"`, 1)
				return
			}
			list(w, `""`, 2)
		}, "[1 2]", "/things /things?after=x%20y"},
		"numbers, until a page is empty": {rest.ReadForm{Get: "/things{?page}", Pages: &rest.Pages{Number: "page", First: 0}}, func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Query().Get("page") == "3" {
				list(w, "null")
				return
			}
			list(w, "null", 7)
		}, "[7 7]", "/things?page=1 /things?page=2 /things?page=3"},
		"numbers, with their count": {rest.ReadForm{Get: "/things{?page}", Pages: &rest.Pages{Number: "page", First: 5, Count: "$.pages"}}, func(w http.ResponseWriter, r *http.Request) {
			list(w, "null", 7)
		}, "[7 7 7]", "/things?page=5 /things?page=6 /things?page=7"},
	} {
		t.Run(name, func(t *testing.T) {
			s := serve(t, test.answer)
			test.read.Pick = "$.items[*]"
			got, requests, err := idsOf(open(t, s.URL, things(test.read)), &store.Read{Set: "things", Columns: ids}, store.Input{})
			if got != test.want || err != nil || strings.Join(s.asked, " ") != test.asked || requests != len(s.asked) {
				t.Errorf("gives %s, %v, %d requests, asked %q", got, err, requests, s.asked)
			}
		})
	}
	for next, want := range map[string]string{"/things": "has more than 4 pages", "http://elsewhere.example/things": "names a next page that is elsewhere"} {
		s := serve(t, func(w http.ResponseWriter, r *http.Request) { list(w, fmt.Sprintf("%q", next), 1) })
		_, _, err := idsOf(open(t, s.URL, things(rest.ReadForm{Get: "/things", Pick: "$.items[*]", Pages: &rest.Pages{Next: "$.next", Most: 4}})), &store.Read{Set: "things", Columns: ids}, store.Input{})
		var own *store.Error
		if !errors.As(err, &own) || !strings.Contains(own.Msg, want) || own.Code != store.BadAnswer || len(s.asked) > 4 {
			t.Errorf("next is %s: %v after %d requests, want %q", next, err, len(s.asked), want)
		}
	}
}

// TestManyKeysAreSplit checks that an address holds a bounded number of keys.
func TestManyKeysAreSplit(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "[]") })
	source := open(t, s.URL, things(rest.ReadForm{Get: "/things{?id}", Many: "id", MaxKeys: 40}))
	column := store.Column{Kind: store.Int}
	for id := range 100 {
		column.AppendInt(int64(id))
	}
	read := &store.Read{Set: "things", Columns: ids, Keys: []int{0}}
	if _, requests, err := idsOf(source, read, store.Input{Keys: []store.Column{column}}); requests != 3 || len(s.asked) != 3 || err != nil {
		t.Errorf("100 keys are %d requests, %d arrive, %v; want 3", requests, len(s.asked), err)
	}
	request, _ := source.Prepare(nil, []*store.Read{read})
	if d := request.Describe(); d.Asks != "GET /things{?id}" || d.MaxKeys != 40 || d.Pages != 0 || d.EachKey {
		t.Errorf("it is described as %+v", d)
	}
}

// TestRetries checks that what may pass by itself is asked again, and nothing
// else, and that a service that keeps failing is left alone for a while.
func TestRetries(t *testing.T) {
	fails := 2
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if fails--; fails >= 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		fmt.Fprint(w, `[{"id": 1}]`)
	})
	source := open(t, s.URL, things(rest.ReadForm{Get: "/things"}))
	read := &store.Read{Set: "things", Columns: ids}
	if got, requests, err := idsOf(source, read, store.Input{}); got != "[1]" || requests != 3 || err != nil {
		t.Errorf("after two failures: %s in %d requests, %v", got, requests, err)
	}
	refused := serve(t, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusForbidden) })
	if _, _, err := idsOf(open(t, refused.URL, things(rest.ReadForm{Get: "/things"})), read, store.Input{}); err == nil || len(refused.asked) != 1 {
		t.Errorf("a refusal is asked %d times, %v", len(refused.asked), err)
	}
	fails = 1 << 30
	once, err := rest.Open(rest.Config{URL: s.URL, Retries: -1, Sets: []rest.Set{things(rest.ReadForm{Get: "/things"})}})
	if err != nil {
		t.Fatal(err)
	}
	before := len(s.asked)
	if _, _, err := idsOf(once, read, store.Input{}); err == nil || len(s.asked) != before+1 {
		t.Errorf("without retries: %v, %d requests", err, len(s.asked)-before)
	}
}

// TestRetryAfter heeds what a service says of when to come again, if there is time,
// and else tells it at once as what it is.
func TestRetryAfter(t *testing.T) {
	read := &store.Read{Set: "things", Columns: ids}
	for wait, test := range map[string]struct {
		want     string
		requests int
		most     time.Duration
	}{
		"0":                             {"[1]", 2, 500 * time.Millisecond},
		"1":                             {"[1]", 2, 1900 * time.Millisecond},
		"30":                            {"asks to be asked less (status 429), and again after 30 s", 1, 500 * time.Millisecond},
		"Wed, 21 Oct 2099 07:28:00 GMT": {"asks to be asked less (status 429), and again after Wed, 21 Oct 2099 07:28:00 GMT", 1, 500 * time.Millisecond},
	} {
		first := true
		s := serve(t, func(w http.ResponseWriter, r *http.Request) {
			if first {
				first = false
				w.Header().Set("Retry-After", wait)
				w.WriteHeader(http.StatusTooManyRequests)
				return
			}
			fmt.Fprint(w, `[{"id": 1}]`)
		})
		source, err := rest.Open(rest.Config{URL: s.URL, Timeout: 2 * time.Second, Sets: []rest.Set{things(rest.ReadForm{Get: "/things"})}})
		if err != nil {
			t.Fatal(err)
		}
		start := time.Now()
		got, _, err := idsOf(source, read, store.Input{})
		var own *store.Error
		if err != nil {
			if got = err.Error(); !errors.As(err, &own) || own.Code != store.Busy {
				t.Errorf("Retry-After: %s: the error is %v", wait, err)
			}
		}
		if took := time.Since(start); !strings.HasPrefix(got, test.want) || len(s.asked) != test.requests || took > test.most {
			t.Errorf("Retry-After: %s: %s after %d requests and %s, want %s after %d", wait, got, len(s.asked), took, test.want, test.requests)
		}
		source.Close()
	}
}

// TestCache checks that an answer is used again as long as it says, is asked
// for again by its tag, and that what a caller may see is kept for nobody.
func TestCache(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/fresh":
			w.Header().Set("Cache-Control", "max-age=60")
		case r.Header.Get("If-None-Match") == `"v1"`:
			w.WriteHeader(http.StatusNotModified)
			return
		default:
			w.Header().Set("ETag", `"v1"`)
			w.Header().Set("Cache-Control", "no-cache")
		}
		fmt.Fprint(w, `[{"id": 1}]`)
	})
	source, err := rest.Open(rest.Config{URL: s.URL, Timeout: time.Second, Forward: []string{"X-Request-Id", "Authorization"},
		Sets: []rest.Set{things(rest.ReadForm{Get: "/fresh"}), {Name: "tagged", Fields: things().Fields, Reads: []rest.ReadForm{{Get: "/tagged"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	ask := func(set string, headers http.Header) (requests int) {
		t.Helper()
		request, err := source.Prepare(nil, []*store.Read{{Set: set, Columns: ids, Parent: -1}})
		if err != nil {
			t.Fatal(err)
		}
		a, err := request.Run(context.Background(), &store.Caller{Headers: headers}, []store.Input{{}})
		if err != nil || a.Tables[0].Len != 1 {
			t.Fatalf("%v rows, %v", a, err)
		}
		return a.Requests
	}
	traced := http.Header{"X-Request-Id": {"r1"}}
	if n := ask("things", traced) + ask("things", traced); n != 1 || len(s.asked) != 1 {
		t.Errorf("a fresh answer is asked for %d times, %d arrive", n, len(s.asked))
	}
	if n := ask("tagged", nil) + ask("tagged", nil); n != 2 || len(s.asked) != 3 {
		t.Errorf("a tagged answer is asked for %d times", n)
	}
	somebody := http.Header{"Authorization": {"Bearer one"}}
	if n := ask("things", somebody) + ask("things", somebody); n != 2 {
		t.Errorf("an answer for a caller is asked for %d times, want each time", n)
	}
}

// TestPassedOn checks what is left to a service that can filter, sort and cut.
func TestPassedOn(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `[{"id": 3, "at": "2026-03-03"}, {"id": 2, "at": "2026-03-02"}]`)
	})
	source := open(t, s.URL, things(rest.ReadForm{Get: "/things{?since,order,count,skip}", Takes: map[string]string{"since": "at atLeast"},
		Sort: "order", SortKeys: map[string]string{"at desc": "-at", "id": "id"}, Limit: "count", Offset: "skip"}))
	since := store.Column{Kind: store.Date}
	since.AppendInt(20500)
	where := []store.Predicate{{Op: store.AtLeast, Path: "at", Kind: store.Date}}
	read := &store.Read{Set: "things", Columns: ids, Where: where, Values: 1, Sort: []store.Order{{Path: "at", Desc: true}, {Path: "id"}}, Limit: true, Offset: true}
	if !source.Capabilities().CanPage(read) {
		t.Error("it says that it cannot page")
	}
	if got, _, err := idsOf(source, read, store.Input{Where: []store.Column{since}, Limit: 2, Offset: 1}); got != "[3 2]" || err != nil || s.asked[0] != "/things?since=2026-02-16&order=-at%2Cid&count=2&skip=1" {
		t.Errorf("gives %s, %v, asked %q", got, err, s.asked)
	}
	for name, change := range map[string]func(r *store.Read){
		"another order":     func(r *store.Read) { r.Sort = []store.Order{{Path: "id", Desc: true}} },
		"missing elsewhere": func(r *store.Read) { r.Sort = []store.Order{{Path: "id", Nulls: store.NullsGreatest}} },
		"another predicate": func(r *store.Read) { r.Where = []store.Predicate{{Op: store.Above, Path: "at", Kind: store.Date}} },
		"keys":              func(r *store.Read) { r.Keys = []int{0} },
	} {
		other := *read
		change(&other)
		if source.Capabilities().CanPage(&other) {
			t.Errorf("%s: it says that it can page", name)
		}
	}
	for _, wrong := range []rest.ReadForm{{Get: "/x", Takes: map[string]string{"since": "at atLeast"}}, {Get: "/x{?a}", Takes: map[string]string{"a": "at near"}}, {Get: "/x", Limit: "n"},
		{Get: "/x", Pages: &rest.Pages{}}, {Get: "/x", Pages: &rest.Pages{Number: "page"}}, {Get: "/x", Pages: &rest.Pages{Next: "$["}}} {
		if _, err := rest.Open(rest.Config{URL: s.URL, Sets: []rest.Set{things(wrong)}}); err == nil {
			t.Errorf("%+v is opened", wrong)
		}
	}
}

// TestJSONAPI reads resources with those that they are related to, in one
// request for the wanted fields.
func TestJSONAPI(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/vnd.api+json")
		switch {
		case r.Header.Get("Accept") != "application/vnd.api+json":
			w.WriteHeader(http.StatusNotAcceptable)
		case r.URL.Query().Get("page") == "2":
			fmt.Fprint(w, `{"data": [{"type": "notices", "id": "3", "attributes": {"title": "c"}, "relationships": {"author": {"data": null}, "replaces": {"data": []}}}]}`)
		case r.URL.Query().Get("filter[id]") == "404":
			w.WriteHeader(http.StatusNotFound)
		case r.URL.Query().Get("filter[id]") == "lost":
			fmt.Fprint(w, `{"data": [{"type": "notices", "id": "1", "relationships": {"author": {"data": {"type": "people", "id": "9"}}}}]}`)
		case r.URL.Query().Get("filter[id]") == "bad":
			w.WriteHeader(http.StatusBadRequest)
			fmt.Fprint(w, `{"errors": [{"status": "400", "title": "geheim-1234 is no filter"}]}`)
		default:
			fmt.Fprint(w, `{"links": {"next": "/notices?page=2"}, "data": [
			 {"type": "notices", "id": "1", "attributes": {"title": "a"}, "relationships": {"author": {"data": {"type": "people", "id": "9"}}, "replaces": {"data": [{"type": "notices", "id": "2"}, {"type": "notices", "id": "7"}]}}},
			 {"type": "notices", "id": "2", "attributes": {"title": "b"}, "relationships": {"author": {"data": {"type": "people", "id": "9"}}, "replaces": {"data": [{"type": "notices", "id": "7"}]}}}],
			"included": [{"type": "people", "id": "9", "attributes": {"name": "Oda"}}, {"type": "notices", "id": "7", "attributes": {"title": "old"}}]}`)
		}
	})
	text := func(paths ...string) (list []store.Wanted) {
		for _, p := range paths {
			list = append(list, store.Wanted{Path: p, Kind: store.Text})
		}
		return list
	}
	source, err := rest.Open(rest.Config{URL: s.URL, JSONAPI: true, Retries: -1, Headers: map[string]string{"X-Token": "geheim-1234"}, Sets: []rest.Set{
		{Name: "notices", Fields: []rest.Field{{Name: "title", Kind: store.Text}}, Related: map[string]string{"author": "people", "replaces": "notices"},
			Reads: []rest.ReadForm{{Get: "/notices"}, {Get: "/notices?filter[id]={id}", Many: "id"}}},
		{Name: "people", Fields: []rest.Field{{Name: "name", Kind: store.Text}}}}})
	if err != nil {
		t.Fatal(err)
	}
	if !source.Capabilities().CanFold("notices", []string{"author"}, "people", []string{"id"}) || source.Capabilities().CanFold("notices", []string{"author"}, "notices", []string{"id"}) || source.Capabilities().CanFold("notices", []string{"title"}, "people", []string{"id"}) {
		t.Error("it does not say which relationships it sends along")
	}
	reads := []*store.Read{{Set: "notices", Columns: text("id", "title"), Parent: -1},
		{Set: "people", Columns: text("name"), Parent: 0, Here: []string{"author"}, There: []string{"id"}, Single: true},
		{Set: "notices", Columns: text("title"), Parent: 0, Here: []string{"replaces"}, There: []string{"id"}}}
	request, err := source.Prepare(nil, reads)
	if err != nil {
		t.Fatal(err)
	}
	a, err := request.Run(context.Background(), nil, make([]store.Input, 3))
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(a.Tables[1].Child, string(a.Tables[1].Columns[0].Bytes), a.Tables[2].Order, a.Tables[2].Parent, string(a.Tables[2].Columns[0].Bytes), string(a.Tables[0].Columns[1].Bytes)); got != "[0 0 -1]Oda[0 1 1] [0 0 1]boldabc" {
		t.Errorf("the tables are %s", got)
	}
	if s.asked[0] != "/notices?include=author%2Creplaces&fields%5Bnotices%5D=author%2Creplaces%2Ctitle&fields%5Bpeople%5D=name" || len(s.asked) != 2 || a.Requests != 2 {
		t.Errorf("asked %q", s.asked)
	}
	for id, want := range map[string]string{"bad": "answered with the status 400", "lost": "did not send along the related author"} {
		keyed := []*store.Read{{Set: "notices", Columns: text("id"), Keys: []int{0}, Parent: -1}, reads[1]}
		request, err := source.Prepare(nil, keyed)
		if err != nil {
			t.Fatal(err)
		}
		_, err = request.Run(context.Background(), nil, []store.Input{{Keys: keys(id)}, {}})
		var own *store.Error
		if !errors.As(err, &own) || !strings.Contains(own.Msg, want) || strings.Contains(own.Error(), "geheim") {
			t.Errorf("%s: %v, want %q", id, err, want)
		}
	}
	request, _ = source.Prepare(nil, []*store.Read{{Set: "notices", Columns: text("id"), Keys: []int{0}, Parent: -1}})
	if a, err := request.Run(context.Background(), nil, []store.Input{{Keys: keys("404")}}); err != nil || a.Tables[0].Len != 0 {
		t.Errorf("nothing there: %v, %v", a, err)
	}
}
