package service_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/go-chi/chi/v5"

	"osprey/demo/demotest"
	"osprey/project"
	"osprey/publishing"
	"osprey/service"
)

// A keeping is a service with records, called through its description: every request and every
// answer must be as that says.
type keeping struct {
	t       *testing.T
	dir     string
	url     string
	service *service.Service
	router  routers.Router
	seen    map[string]bool // method, path and status
}

const kept = "type Query { answer: Int! @computed(expr: \"1\")  other: Int @computed(expr: \"2\") }\n"

func keep(t *testing.T, config string) *keeping {
	t.Helper()
	return keepIn(t, demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("records: { url: %q }\n%s", demotest.Database(t), config), "schema/a.graphql": kept, "operations/Answer.graphql": "query Answer { answer }"}))
}

// again serves the same folder by another service.
func (k *keeping) again() *keeping { return keepIn(k.t, k.dir) }

// openWith opens a project with a configuration, and returns what is wrong with it.
func openWith(t *testing.T, config string) (p *project.Project, findings string) {
	t.Helper()
	p, found, err := project.Open(t.Context(), demotest.Folder(t, map[string]string{"osprey.yaml": config, "schema/a.graphql": kept}), slog.New(slog.DiscardHandler))
	if err == nil {
		t.Cleanup(p.Close)
	}
	for _, f := range found {
		findings += f.Msg + "\n"
	}
	return p, findings
}

func keepIn(t *testing.T, dir string) *keeping {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	p, keeper, findings, err := publishing.Open(context.Background(), dir, false, log, &project.Additions{})
	if err != nil {
		t.Fatal(err, findings)
	}
	t.Cleanup(p.Close)
	t.Cleanup(keeper.Start(context.Background(), "one", func() {}))
	s := service.New(service.Config{Project: p, Log: log, Keeper: keeper, Follows: true})
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	t.Cleanup(s.End)
	k := &keeping{t: t, dir: dir, url: server.URL, service: s, seen: map[string]bool{}}
	k.router = k.describe()
	return k
}

// describe reads the description that the service serves.
func (k *keeping) describe() routers.Router {
	k.t.Helper()
	text, err := os.ReadFile("openapi.yaml") // as it is served; a service may not tell it to everybody
	if err != nil {
		k.t.Fatal(err)
	}
	doc, err := openapi3.NewLoader().LoadFromData(text)
	if err != nil {
		k.t.Fatal(err)
	}
	if err := doc.Validate(k.t.Context()); err != nil {
		k.t.Fatal(err)
	}
	router, err := legacy.NewRouter(doc)
	if err != nil {
		k.t.Fatal(err)
	}
	return router
}

// call makes a call, holds it against the description, and returns the status and the body. Requests
// that are wrong on purpose are not held against it, but their answers are.
func (k *keeping) call(method, path string, body any, wrong bool, header ...string) (int, string) {
	k.t.Helper()
	text, isText := body.(string)
	if !isText && body != nil {
		whole, err := json.Marshal(body)
		if err != nil {
			k.t.Fatal(err)
		}
		text = string(whole)
	}
	req, err := http.NewRequest(method, k.url+path, strings.NewReader(text))
	if err != nil {
		k.t.Fatal(err)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	described := req.Clone(k.t.Context())
	described.URL.Scheme, described.URL.Host, described.Host = "", "", ""
	described.Body = io.NopCloser(strings.NewReader(text))
	route, params, err := k.router.FindRoute(described)
	if err != nil {
		k.t.Fatalf("%s %s is not described: %v", method, path, err)
	}
	input := &openapi3filter.RequestValidationInput{Request: described, PathParams: params, Route: route}
	if err := openapi3filter.ValidateRequest(k.t.Context(), input); (err != nil) != wrong && !wrong {
		k.t.Errorf("%s %s: %v", method, path, err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		k.t.Fatal(err)
	}
	defer res.Body.Close()
	got, err := io.ReadAll(res.Body)
	if err != nil {
		k.t.Fatal(err)
	}
	k.seen[fmt.Sprintf("%s %s %d", method, route.Path, res.StatusCode)] = true
	err = openapi3filter.ValidateResponse(k.t.Context(), &openapi3filter.ResponseValidationInput{RequestValidationInput: input, Status: res.StatusCode, Header: res.Header, Body: io.NopCloser(bytes.NewReader(got)), Options: &openapi3filter.Options{IncludeResponseStatus: true}})
	if media := res.Header.Get("Content-Type"); err != nil && !strings.HasPrefix(media, "image/") && !strings.HasPrefix(media, "text/html") { // which the library does not read
		k.t.Errorf("%s %s answers %d: %v\n%.600s", method, path, res.StatusCode, err, got)
	}
	return res.StatusCode, string(got)
}

func (k *keeping) wants(status int, text, method, path string, body any, wrong bool, header ...string) string {
	k.t.Helper()
	got, answer := k.call(method, path, body, wrong, header...)
	if got != status || !strings.Contains(answer, text) {
		k.t.Errorf("%s %s answers %d and not %d:\n%.800s", method, path, got, status, answer)
	}
	return answer
}

type object = map[string]any

// TestAdministration makes every call, holds requests and answers against the description that the
// service serves, and the description against the handlers.
func TestAdministration(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("records: { url: %q }\nsources: { port: { kind: files, folder: data } }\n", demotest.Database(t)), "schema/a.graphql": kept,
		"operations/Answer.graphql": "query Answer { answer }", "data/buoys.csv": "id,name\n1,Auk\n2,Bittern\n"})
	k := keepIn(t, dir)
	files := func(schema string) object {
		return object{"osprey.yaml": "", "schema/a.graphql": schema}
	}
	get, post, put, del := http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete
	k.wants(200, `"origin":"files"`, get, "/api/v1/status", nil, false)
	k.wants(200, `"openapi": "3.0.3"`, get, "/api/v1/openapi.json", nil, false)
	k.wants(200, `"name":"Answer"`, get, "/api/v1/operations", nil, false)
	k.wants(200, `"requests":0`, post, "/api/v1/plans", object{"query": "{ answer }"}, false)
	k.wants(422, "INVALID", post, "/api/v1/plans", object{"query": "{ nothing }"}, false)
	k.wants(400, "", post, "/api/v1/plans", "[]", true)
	k.wants(200, "OSPREY_KEY", post, "/api/v1/snippets?in=curl", object{"query": "{ answer }"}, false)
	k.wants(400, "", post, "/api/v1/snippets?in=go", "[]", true)
	k.wants(200, `"name":"Query"`, get, "/api/v1/types", nil, false)
	k.wants(200, `"text":"{ answer }`, post, "/api/v1/tidy", object{"query": "{answer}"}, false)
	k.wants(422, `line 1, column`, post, "/api/v1/tidy", object{"query": "{"}, false)
	k.wants(200, `no field`, post, "/api/v1/problems", object{"query": "{ nothing }"}, false)
	k.wants(200, `"label":"answer"`, post, "/api/v1/completions", object{"query": "{ ", "at": 2}, false)
	k.wants(200, `Query.answer`, post, "/api/v1/meaning", object{"query": "{ answer }", "at": 4}, false)
	k.wants(200, `null`, post, "/api/v1/meaning", object{"query": "{ answer }", "at": 0}, false)
	drafted := "query ($n: Int!) { answer @include(if: true) }"
	k.wants(200, `"variable":"n","message":"expected a whole number, found true"`, post, "/api/v1/variables/problems", object{"query": drafted, "variables": `{"n": true}`}, false)
	k.wants(200, `"column":17`, post, "/api/v1/variables/problems", object{"query": drafted, "variables": `{"é": 1,"n": nul`}, false)
	k.wants(200, `"problems":[]`, post, "/api/v1/variables/problems", object{"query": "{", "variables": `{"n": true}`}, false)
	k.wants(200, `"completions":[{"label":"\"n\": ","kind":"variable","detail":"Int!"}],"from":1`, post, "/api/v1/variables/completions", object{"query": drafted, "variables": `{`, "at": 1}, false)
	k.wants(200, `"completions":[]`, post, "/api/v1/variables/completions", object{"query": "{", "variables": `{`, "at": 1}, false)
	k.wants(400, "not a draft", post, "/api/v1/variables/completions", "[]", true)
	k.wants(200, `"pages"`, get, "/api/v1/pages", nil, false)
	k.wants(200, `<h`, get, "/api/v1/pages/security", nil, false)
	k.wants(404, `no page`, get, "/api/v1/pages/nothing", nil, false)
	k.wants(200, "PNG", get, "/api/v1/pages/screenshots/ask.png", nil, false)
	k.wants(404, "no picture", get, "/api/v1/pages/screenshots/nothing.png", nil, false)

	k.wants(200, `"findings":[]`, post, "/api/v1/refresh", nil, false)
	k.wants(200, `"name":"buoys"`, get, "/api/v1/sources", nil, false)
	k.wants(400, `no source x`, get, "/api/v1/sources/x/rows?set=y", nil, false)
	k.wants(200, `"rows":[[2,"Bittern"]]`, get, "/api/v1/sources/port/rows?set=buoys&where=id%20above%201&sort=-name", nil, false)
	if err := os.Remove(filepath.Join(dir, "data/buoys.csv")); err != nil {
		t.Fatal(err)
	}
	k.wants(502, `the source port`, get, "/api/v1/sources/port/rows?set=buoys", nil, false)
	demotest.Write(t, dir, map[string]string{"data/buoys.csv": "id,name\n1,Auk\n"})
	k.wants(200, `"findings":[]`, get, "/api/v1/findings", nil, false)
	k.wants(200, `"roles":[{"name":"","hides":[]}]`, get, "/api/v1/roles", nil, false)
	k.wants(200, `"serves":1`, get, "/api/v1/instances", nil, false)
	k.wants(200, `"published":0`, get, "/api/v1/revisions?limit=5", nil, false)
	k.wants(400, "the parameter limit", get, "/api/v1/revisions?limit=0", nil, true)
	k.wants(400, "the parameter before", get, "/api/v1/revisions?before=x", nil, true)
	k.wants(200, `"schema/a.graphql":`, get, "/api/v1/revisions/1", nil, false)
	k.wants(404, "no such revision", get, "/api/v1/revisions/77", nil, false)
	k.wants(404, "no number", get, "/api/v1/revisions/x", nil, true)
	// What is published.
	next := strings.Replace(kept, "other", "another", 1)
	k.wants(200, `"revision":null`, post, "/api/v1/revisions", object{"files": files(next), "by": "ann", "try": true}, false)
	k.wants(200, `"number":2`, post, "/api/v1/revisions", object{"files": files(next), "by": "ann", "note": "why", "onto": 0}, false)
	k.wants(409, `ann has published revision 2`, post, "/api/v1/revisions", object{"files": files(kept), "by": "bea", "onto": 0}, false)
	k.wants(422, `"line":1,"column":29`, post, "/api/v1/revisions", object{"files": files("type Query {answer: Int!  x:Strng}"), "by": "bea"}, false)
	k.wants(400, "has no files", post, "/api/v1/revisions", object{"files": object{}, "by": "bea"}, true)
	k.wants(400, "no name", post, "/api/v1/revisions", object{"files": files(kept), "by": " "}, true)
	for _, path := range []string{"../etc/passwd", "schema/../../x.graphql", "/schema/a.graphql", "schema/a.txt", "operations/.graphql/../../a.graphql", "schema/a\x00.graphql", "tables/a.sql", ""} {
		k.wants(400, "is no file of a project", post, "/api/v1/revisions", object{"files": object{"osprey.yaml": "", path: "x"}, "by": "bea"}, true)
	}
	k.wants(400, "not a publication", post, "/api/v1/revisions", object{"files": files(kept), "by": "bea", "Onto": "x"}, true)
	k.wants(415, "Content-Type", post, "/api/v1/revisions", object{"files": files(kept), "by": "bea"}, true, "Content-Type", "text/plain")
	k.wants(413, "larger than", post, "/api/v1/revisions", object{"files": object{"osprey.yaml": strings.Repeat("#", 33<<20)}, "by": "bea"}, true)
	if res, err := http.Post(k.url+"/graphql", "application/json", strings.NewReader(`{"query":"{ answer }"}`)); err != nil {
		t.Fatal(err)
	} else {
		res.Body.Close()
	}
	until(t, func() bool {
		_, text := k.call(get, "/api/v1/traffic", nil, false)
		return strings.Contains(text, `"asked":1`)
	})
	k.wants(409, `"why":["Query.answer is gone"]`, post, "/api/v1/revisions", object{"files": files("type Query { other: Int @computed(expr: \"2\") }"), "by": "bea"}, false)
	k.wants(200, `"origin":"restored"`, post, "/api/v1/revisions/1/restore", object{"by": "bea"}, false)
	k.wants(400, "no files of its own", post, "/api/v1/revisions/1/restore", object{"by": "bea", "files": files(kept)}, true)
	k.wants(404, "no such revision", post, "/api/v1/revisions/99/restore", object{"by": "bea"}, false)
	k.wants(404, "does not follow its files", put, "/api/v1/operations/Third", object{"text": "{ answer }"}, false) // what is published is served
	// What is asked.
	k.wants(200, `"p50":`, get, "/api/v1/traffic?within=1h&uses=true", nil, false)
	var counted struct{ Operations []struct{ ID string } }
	if err := json.Unmarshal([]byte(k.wants(200, "", get, "/api/v1/traffic", nil, false)), &counted); err != nil || len(counted.Operations) == 0 {
		t.Fatalf("what is asked is %+v: %v", counted, err)
	}
	k.wants(200, `"made":[],"samples":[],"hours":[{`, get, "/api/v1/traffic/"+counted.Operations[0].ID, nil, false)
	k.wants(200, `"hours":[]`, get, "/api/v1/traffic/-", nil, false)
	k.wants(404, `no operation x`, get, "/api/v1/traffic/x", nil, false)
	k.wants(400, "the parameter within", get, "/api/v1/traffic/-?within=x", nil, false)
	k.wants(200, `"operations":[]`, get, "/api/v1/traffic?client=nobody", nil, false)
	k.wants(400, "the parameter within", get, "/api/v1/traffic?within=yesterday", nil, false)
	k.wants(400, "the parameter within", get, "/api/v1/traffic/uses?within=-1h", nil, false)
	k.wants(200, `"unused":["Query.other"]`, get, "/api/v1/traffic/uses?within=24h", nil, false)
	// Keys.
	k.wants(200, `"keys":[]`, get, "/api/v1/keys", nil, false)
	k.wants(400, "has no name", post, "/api/v1/keys", object{"name": " "}, false)
	k.wants(400, "has ended before", post, "/api/v1/keys", object{"name": "board", "until": "2020-01-01T00:00:00Z"}, false)
	k.wants(400, "a role has no name", post, "/api/v1/keys", object{"name": "board", "roles": []string{""}}, false)
	var made struct{ ID, Key string }
	if err := json.Unmarshal([]byte(k.wants(200, `"name":"board"`, post, "/api/v1/keys", object{"name": "board", "roles": []string{"screen"}, "by": "ann", "until": "2090-01-01T00:00:00Z"}, false)), &made); err != nil || !strings.HasPrefix(made.Key, "osprey_"+made.ID+"_") {
		t.Errorf("the key is %+v: %v", made, err)
	}
	if text := k.wants(200, `"by":"ann"`, get, "/api/v1/keys", nil, false); strings.Contains(text, made.Key) || strings.Contains(text, "argon2id") {
		t.Errorf("the list tells secrets: %s", text)
	}
	k.wants(204, "", del, "/api/v1/keys/"+made.ID+"?by=bea", nil, false)
	k.wants(404, "there is no key", del, "/api/v1/keys/"+made.ID, nil, false)
	k.wants(200, `"revokedBy":"bea"`, get, "/api/v1/keys", nil, false)
	own := keep(t, "")
	own.seen = k.seen
	// Saved in the project: served at once, and not over another's.
	own.wants(200, `"name":"Other","sha256":"`, put, "/api/v1/operations/Other", object{"text": "query Other { other }\n"}, false)
	if text, err := os.ReadFile(filepath.Join(own.dir, "operations/Other.graphql")); err != nil || string(text) != "query Other { other }\n" {
		t.Errorf("the file has %q: %v", text, err)
	}
	own.wants(200, `"text":"query Other`, get, "/api/v1/operations", nil, false)
	own.wants(409, "is there already, or was changed", put, "/api/v1/operations/Other", object{"text": "query Other { answer }"}, false)
	own.wants(200, `"text":"query Other { answer }"`, put, "/api/v1/operations/Other", object{"text": "query Other { answer }", "sha256": project.HashOf("query Other { other }\n")}, false)
	own.wants(409, "was changed", http.MethodDelete, "/api/v1/operations/Other?sha256="+project.HashOf("query Other { other }\n"), nil, false)
	own.wants(404, "none of the project", http.MethodDelete, "/api/v1/operations/None?sha256=0", nil, false)
	own.wants(422, "is saved in", put, "/api/v1/operations/Third", object{"text": "query Other { answer }"}, false)
	own.wants(422, `no field \"nothing\"`, put, "/api/v1/operations/Third", object{"text": "{ nothing }"}, false)
	for _, name := range []string{"..%2Fosprey", "a.b", "%00", "Ann's"} {
		own.wants(400, "is no name", put, "/api/v1/operations/"+name, object{"text": "{ answer }"}, false)
	}
	own.wants(400, "not an operation", put, "/api/v1/operations/Third", object{"text": " "}, false)
	own.wants(204, "", http.MethodDelete, "/api/v1/operations/Other?sha256="+project.HashOf("query Other { answer }"), nil, false)
	if text := own.wants(200, "", get, "/api/v1/operations", nil, false); strings.Contains(text, "Other") {
		t.Errorf("there are still %s", text)
	}
	// What is saved.
	k.wants(200, `"saved":[]`, get, "/api/v1/saved", nil, false)
	k.wants(200, `"name":"Ann's board/2"`, put, "/api/v1/saved/Ann's%20board%2F2", object{"text": "{ answer }", "by": "ann"}, false)
	k.wants(409, "is there already", put, "/api/v1/saved/Ann's%20board%2F2", object{"text": "{ answer }"}, false)
	k.wants(400, "has no text", put, "/api/v1/saved/x", object{"text": ""}, false)
	k.wants(400, "not an operation", put, "/api/v1/saved/x", "7", true)
	k.wants(200, `"by":"ann"`, get, "/api/v1/saved", nil, false)
	k.wants(200, `"name":"50% off"`, put, "/api/v1/saved/50%25%20off", object{"text": "{ answer }"}, false)
	k.wants(204, "", del, "/api/v1/saved/Ann's%20board%2F2", nil, false)
	k.wants(404, "no operation", del, "/api/v1/saved/Ann's%20board%2F2", nil, false)
	k.routes()
	// Who does not run the service is told nothing, wherever the request seems to come from.
	for _, path := range []string{"/api/v1/revisions", "/api/v1/revisions/1", "/api/v1/traffic", "/api/v1/traffic/uses", "/api/v1/saved", "/api/v1/instances", "/api/v1/keys", "/api/v1/sources", "/api/v1/sources/x/rows?set=y", "/api/v1/findings", "/api/v1/roles"} {
		k.wants(403, "those who run the service", get, path, nil, false, "X-Forwarded-For", "192.0.2.1")
	}
	for _, path := range []string{"/api/v1/revisions", "/api/v1/revisions/1/restore", "/api/v1/refresh", "/api/v1/keys"} {
		k.wants(403, "those who run the service", post, path, object{"by": "eve", "files": files(kept)}, true, "X-Forwarded-For", "192.0.2.1")
	}
	k.wants(403, "those who run the service", put, "/api/v1/operations/Third", object{"text": "{ answer }"}, false, "X-Forwarded-For", "192.0.2.1")
	if text := k.wants(200, "", get, "/api/v1/status", nil, false, "Via", "1.1 proxy"); strings.Contains(text, "revision") || strings.Contains(text, "written") {
		t.Errorf("others are told %s", text)
	}
}

// routes holds the description against the handlers, in both directions.
func (k *keeping) routes() {
	k.t.Helper()
	var served, described []string
	chi.Walk(k.service.Routes(), func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if strings.HasPrefix(route, "/api/") {
			served = append(served, method+" "+route)
		}
		return nil
	})
	res, err := http.Get(k.url + "/api/v1/openapi.json")
	if err != nil {
		k.t.Fatal(err)
	}
	defer res.Body.Close()
	var doc struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.NewDecoder(res.Body).Decode(&doc); err != nil {
		k.t.Fatal(err)
	}
	for path, methods := range doc.Paths {
		for method, raw := range methods {
			if method == "parameters" {
				continue
			}
			described = append(described, strings.ToUpper(method)+" "+path)
			var operation struct{ Responses map[string]any }
			if err := json.Unmarshal(raw, &operation); err != nil {
				k.t.Fatal(err)
			}
			for status := range operation.Responses {
				// What is not tried here: trouble of the database, which has a test of its own; who may
				// not; services without records; and bodies that others refuse in the same way.
				if slices.Contains([]string{"403", "404", "413", "415", "503"}, status) || path == "/api/v1/events" || path == "/api/v1/refresh" && status == "422" {
					continue
				}
				if k.seen[strings.ToUpper(method)+" "+path+" "+status] || method == "post" && (status == "400" || status == "409" || status == "422") {
					continue
				}
				k.t.Errorf("nothing tries that %s %s answers %s", method, path, status)
			}
		}
	}
	slices.Sort(served)
	slices.Sort(described)
	if !slices.Equal(served, described) {
		k.t.Errorf("served and described are not the same:\n%s\n\n%s", strings.Join(served, "\n"), strings.Join(described, "\n"))
	}
}

// until waits until something is so.
func until(t *testing.T, done func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !done(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("it took longer than a minute")
		}
	}
}

// TestAdministrationByNobody holds who may, where the configuration says so.
func TestAdministrationByNobody(t *testing.T) {
	k := keep(t, "administration: nobody\n")
	k.wants(403, "those who run the service", http.MethodGet, "/api/v1/revisions", nil, false)
	k = keep(t, "administration: everyone\n")
	k.wants(200, "revisions", http.MethodGet, "/api/v1/revisions", nil, false, "X-Forwarded-For", "192.0.2.1")
}

// TestEvents tells of what is served, at once and when it changes, and ends with the service.
func TestEvents(t *testing.T) {
	k := keep(t, "")
	res, err := http.Get(k.url + "/api/v1/events")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if media := res.Header.Get("Content-Type"); media != "text/event-stream" {
		t.Errorf("it is %s", media)
	}
	events := make(chan string, 100)
	go func() {
		defer close(events)
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				events <- data
			}
		}
	}()
	hears := func(want string) {
		t.Helper()
		for {
			select {
			case e, open := <-events:
				if strings.Contains(e, want) {
					return
				}
				if !open {
					t.Fatalf("it ended without %s", want)
				}
			case <-time.After(time.Minute):
				t.Fatalf("nothing says %s", want)
			}
		}
	}
	hears(`"number":1`)
	k.wants(200, `"number":2`, http.MethodPost, "/api/v1/revisions", object{"files": object{"osprey.yaml": "", "schema/a.graphql": kept}, "by": "ann"}, false)
	hears(`"number":2`)
	// Others hear that something is new, and not by whom.
	req, _ := http.NewRequest(http.MethodGet, k.url+"/api/v1/events", nil)
	req.Header.Set("X-Forwarded-For", "192.0.2.1")
	other, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Body.Close()
	piece := make([]byte, 1000)
	n, _ := other.Body.Read(piece)
	if text := string(piece[:n]); !strings.Contains(text, `"serial":`) || strings.Contains(text, "ann") {
		t.Errorf("others hear %s", text)
	}
	k.service.End()
	for range events { // until it has ended
	}
}
