package rest_test

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/stores/rest"
)

// TestNoRecords holds that an answer of 200 that has no records where they are
// due is an error, and that an empty list is not.
func TestNoRecords(t *testing.T) {
	picked := rest.ReadForm{Get: "/things", Pick: "$.results[*]"}
	one := rest.ReadForm{Get: "/things", Pick: "$.result"}
	plain := rest.ReadForm{Get: "/things"}
	for _, test := range []struct {
		form        rest.ReadForm
		answer, err string
		records     int
	}{
		{picked, `{"error": "no such tenant"}`, "answered something without the records that were asked for", 0},
		{picked, `null`, "answered something without the records", 0},
		{picked, `42`, "answered something without the records", 0},
		{picked, `{"results": null}`, "answered something without the records", 0},
		{picked, `{"results": "none"}`, "answered something without the records", 0},
		{picked, `[]`, "answered something without the records", 0},
		{picked, `{"results": [42]}`, "answered something that is not a list of records", 0},
		{picked, `{"results": []}`, "", 0},
		{picked, `{"results": [{"id": 1}, {}]}`, "", 2},
		{one, `{"error": 1}`, "answered something without the records", 0},
		{one, `{"result": {"id": 1}}`, "", 1},
		{plain, `{"error": "no such tenant"}`, "answered something that is not a list of records", 0},
		{plain, `null`, "answered something that is not a list of records", 0},
		{plain, `42`, "answered something that is not a list of records", 0},
		{plain, `"x"`, "answered something that is not a list of records", 0},
		{plain, `[null]`, "answered something that is not a list of records", 0},
		{plain, `[]`, "", 0},
		{plain, `{"id": 1, "more": true}`, "", 1},
	} {
		s := serve(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, test.answer) })
		a, err := run(open(t, s.URL, things(test.form)), &store.Read{Set: "things", Columns: ids}, store.Input{})
		var known *store.Error
		switch {
		case test.err == "" && (err != nil || a.Tables[0].Len != test.records):
			t.Errorf("%s with %q: %v, want %d records", test.answer, test.form.Pick, err, test.records)
		case test.err != "" && (!errors.As(err, &known) || known.Code != store.BadAnswer || !strings.Contains(known.Msg, test.err)):
			t.Errorf("%s with %q: %v, want %q", test.answer, test.form.Pick, err, test.err)
		}
	}
}

// TestNextAsLinkObject follows links to the next page in both forms of JSON:API
// 1.1, and tells what is neither.
func TestNextAsLinkObject(t *testing.T) {
	for next, want := range map[string]string{
		`"/things?from=2"`: "[1 2]",
		`{"href": "/things?from=2", "meta": {"count": 2}}`: "[1 2]",
		`null`:             "[1]",
		`{"meta": {}}`:     "names a next page by something that is no address",
		`7`:                "names a next page by something that is no address",
		`{"href": [1, 2]}`: "names a next page by something that is no address",
	} {
		s := serve(t, func(w http.ResponseWriter, r *http.Request) {
			id, links := 2, "null"
			if r.URL.Query().Get("from") == "" {
				id, links = 1, next
			}
			fmt.Fprintf(w, `{"data": [{"type": "things", "id": "%d"}], "links": {"next": %s}}`, id, links)
		})
		source, err := rest.Open(rest.Config{URL: s.URL, JSONAPI: true, Sets: []rest.Set{{Name: "things", Fields: []rest.Field{{Name: "id", Kind: store.Int}}, Reads: []rest.ReadForm{{Get: "/things"}}}}})
		if err != nil {
			t.Fatal(err)
		}
		got, _, err := idsOf(source, &store.Read{Set: "things", Columns: ids}, store.Input{})
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, want) {
			t.Errorf("with next %s: %s, want %s", next, got, want)
		}
		source.Close()
	}
}

// TestKeysOfAnyScript holds what arrives of keys beyond ASCII, in a path and in a
// query, and that keys that would lead elsewhere are not sent.
func TestKeysOfAnyScript(t *testing.T) {
	one, many := stations, stations
	one.Reads, many.Reads = stations.Reads[:1], stations.Reads[1:]
	list := []string{"Åby", "日本", "⸮⸮", "a/b", "..", ".", "", "50%", "🚢"}
	for name, set := range map[string]rest.Set{"path": one, "query": many} {
		var got atomic.Pointer[[]string]
		got.Store(&[]string{})
		s := serve(t, func(w http.ResponseWriter, r *http.Request) {
			for {
				have := got.Load()
				more := append(append([]string{}, *have...), r.URL.Query()["code"]...)
				if name == "path" {
					more = append(more, strings.TrimPrefix(r.URL.Path, "/stations/"))
				}
				if got.CompareAndSwap(have, &more) {
					break
				}
			}
			fmt.Fprint(w, map[string]string{"path": `{"name": "x"}`, "query": `{"results": []}`}[name])
		})
		a, err := run(open(t, s.URL, set), &store.Read{Set: "stations", Columns: wanted[:2], Keys: []int{0}}, store.Input{Keys: keys(list...)})
		if err != nil {
			t.Fatal(err)
		}
		for _, key := range list {
			arrived := false
			for _, have := range *got.Load() {
				arrived = arrived || have == key
			}
			if sent := name == "query" || strings.Trim(key, ".") != ""; arrived != sent {
				t.Errorf("%s: the key %q arrived: %t, want %t; there were %q", name, key, arrived, sent, *got.Load())
			}
		}
		if name == "path" && a.Tables[0].Len != 6 {
			t.Errorf("%d records for 6 keys that can be sent", a.Tables[0].Len)
		}
	}
}

// TestRedirects holds that a redirect is followed within its origin, and that to
// another nothing is sent: no secret, no header of the caller's.
func TestRedirects(t *testing.T) {
	var reached atomic.Int64
	other := serve(t, func(w http.ResponseWriter, r *http.Request) {
		reached.Add(1)
		fmt.Fprint(w, `[{"id": 9}]`)
	})
	for _, status := range []int{http.StatusMovedPermanently, http.StatusFound, http.StatusTemporaryRedirect, http.StatusPermanentRedirect} {
		s := serve(t, func(w http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case "/things":
				http.Redirect(w, r, "/moved", status)
			case "/moved":
				fmt.Fprint(w, `[{"id": 1}]`)
			default:
				http.Redirect(w, r, other.URL+"/secret-path?token=abc", status)
			}
		})
		got, _, err := idsOf(open(t, s.URL, things(rest.ReadForm{Get: "/things"})), &store.Read{Set: "things", Columns: ids}, store.Input{})
		if got != "[1]" || err != nil {
			t.Errorf("%d within the origin: %s %v", status, got, err)
		}
		_, _, err = idsOf(open(t, s.URL, things(rest.ReadForm{Get: "/away"})), &store.Read{Set: "things", Columns: ids}, store.Input{})
		var known *store.Error
		if !errors.As(err, &known) || known.Code != store.BadAnswer || !strings.Contains(known.Msg, "sends to another address, which is not followed") ||
			!strings.Contains(err.Error(), other.URL) || strings.Contains(err.Error(), "secret-path") || strings.Contains(known.Msg, "127.0.0.1") {
			t.Errorf("%d to another origin: %v", status, err)
		}
	}
	if n := reached.Load(); n > 0 {
		t.Errorf("%d requests followed to another origin", n)
	}
}

// TestShownAddresses holds what is told of an address, to callers and in the log:
// its host, and nothing of its own path or of the values in its template.
func TestShownAddresses(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) { http.Error(w, "no", http.StatusTeapot) })
	source, err := rest.Open(rest.Config{URL: strings.Replace(s.URL, "http://", "http://user:geheim-pass@", 1) + "/hooks/geheim-path", Timeout: time.Second, Sets: []rest.Set{things(rest.ReadForm{Get: "/things?key=geheim-query{&id}", Many: "id"})}})
	if err != nil {
		t.Fatal(err)
	}
	defer source.Close()
	read := &store.Read{Set: "things", Columns: ids, Keys: []int{0}, Parent: -1}
	request, err := source.Prepare(nil, []*store.Read{read})
	if err != nil {
		t.Fatal(err)
	}
	k := store.Column{Kind: store.Int}
	k.AppendInt(5)
	_, err = run(source, read, store.Input{Keys: []store.Column{k}})
	d := request.Describe()
	if told := fmt.Sprint(d.Asks, d.Statement, err); strings.Contains(told, "geheim") || !strings.Contains(err.Error(), "id=5") || !strings.Contains(d.Statement, strings.TrimPrefix(s.URL, "http://")) {
		t.Errorf("is told as %s\n%s\n%v", d.Asks, d.Statement, err)
	}
	if len(s.asked) == 0 || !strings.Contains(s.asked[0], "/hooks/geheim-path/things?key=geheim-query&id=5") {
		t.Errorf("asked %q", s.asked)
	}
	s.Close()
	if _, err = run(source, read, store.Input{Keys: []store.Column{k}}); err == nil || strings.Contains(err.Error(), "geheim") {
		t.Errorf("of a service that is down: %v", err)
	}
}
