package service_test

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestProtocol holds GraphQL over HTTP: status codes, media types and messages.
func TestProtocol(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	const modern, old = "application/graphql-response+json", "application/json"
	encode := url.QueryEscape
	for _, test := range []struct {
		name, method, path, body, contentType, accept string
		status                                        int
		media, want                                   string
	}{
		{"a POST", "POST", "/graphql", `{"query": "{ __typename }"}`, old, modern, 200, modern, `{"data":{"__typename":"Query"}}`},
		{"an old client", "POST", "/graphql", `{"query": "{ __typename }"}`, old, old, 200, old, `{"data"`},
		{"no Accept", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "", 200, old, `{"data"`},
		{"any media type", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "*/*", 200, old, `{"data"`},
		{"preference", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "application/json;q=0.5, application/graphql-response+json;q=0.9", 200, modern, `{"data"`},
		{"charset", "POST", "/graphql", `{"query": "{ __typename }"}`, "application/json; charset=UTF-8", modern, 200, modern, `{"data"`},
		{"all but the old media type", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "*/*, application/json;q=0", 200, modern, `{"data"`},
		{"the most specific range", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "application/*;q=0.1, */*, application/json;q=0.5", 200, old, `{"data"`},
		{"no media type at all", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "*/*;q=0", 406, "application/problem+json", `no media type of the Accept header`},
		{"a weight that is none", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "application/json;q=NaN, application/json;q=7", 406, "application/problem+json", `no media type of the Accept header`},
		{"no fitting media type", "POST", "/graphql", `{"query": "{ __typename }"}`, old, "text/html", 406, "application/problem+json", `no media type of the Accept header`},
		{"a form", "POST", "/graphql", `query=x`, "application/x-www-form-urlencoded", modern, 415, modern, `the body's Content-Type is`},
		{"no Content-Type", "POST", "/graphql", `{}`, "", modern, 415, modern, `send application/json`},
		{"another charset", "POST", "/graphql", `{}`, "application/json; charset=latin-1", modern, 415, modern, `send UTF-8`},
		{"an empty body", "POST", "/graphql", ``, old, modern, 400, modern, `the body is empty`},
		{"not JSON", "POST", "/graphql", `{"query": }`, old, modern, 400, modern, `at 1:11`},
		{"a list", "POST", "/graphql", `[]`, old, modern, 400, modern, `it is an array, and not an object`},
		{"no query", "POST", "/graphql", `{"variables": {}}`, old, modern, 400, modern, `the body has no \"query\"`},
		{"wrong variables", "POST", "/graphql", `{"query": "{ __typename }", "variables": [1]}`, old, modern, 400, modern, `\"variables\" is not an object`},
		{"a key twice", "POST", "/graphql", `{"query": "{ __typename }", "variables": {"a": [{"b": 1, "c": {"b": 2}, "b": 3}]}}`, old, modern, 400, modern, `the key \"b\" twice`},
		{"keys once", "POST", "/graphql", `{"query": "{ __typename }", "variables": {"query": ["b", "b"], "b": {"b": "b"}}}`, old, modern, 200, modern, `{"data"`},
		{"a number out of range", "POST", "/graphql", `{"query": "query ($n: Int) { quays { name @include(if: true) } portCalls(limit: $n) { id } }", "variables": {"n": 1e400}}`, old, modern, 400, modern, `found 1e400, and Int holds`},
		{"a million braces", "POST", "/graphql", `{"query": "` + strings.Repeat("{", 1<<19) + `"}`, old, modern, 400, modern, `expected a field or a fragment, found`},
		{"deep JSON", "POST", "/graphql", `{"query": "{ a }", "variables": ` + strings.Repeat("[", 1<<18) + `}`, old, modern, 400, modern, `the body is not a request in JSON`},
		{"a NUL", "POST", "/graphql", `{"query": "{ craft(imo: \"1\\u0000\") { name } station(code: \"a\\u0000b\") { name } }"}`, old, modern, 200, modern, `{"data":{"craft":null`},
		{"extensions", "POST", "/graphql", `{"query": "{ __typename }", "extensions": {"a": 1}}`, old, modern, 200, modern, `{"data"`},
		{"not UTF-8", "POST", "/graphql", "{\"query\": \"{ \xff }\"}", old, modern, 400, modern, `invalid UTF-8`},
		{"a large body", "POST", "/graphql", `{"query": "` + strings.Repeat(" ", 1<<20) + `"}`, old, modern, 413, modern, `larger than 1MB`},
		{"a syntax error", "POST", "/graphql", `{"query": "{"}`, old, modern, 400, modern, `"code":"SYNTAX"`},
		{"a syntax error, old client", "POST", "/graphql", `{"query": "{"}`, old, old, 200, old, `"code":"SYNTAX"`},
		{"an unknown field", "POST", "/graphql", `{"query": "{ quayz { name } }"}`, old, modern, 400, modern, `did you mean \"quays\"?`},
		{"a wrong variable", "POST", "/graphql", `{"query": "query ($i: ID!) { craft(imo: $i) { name } }", "variables": {"i": true}}`, old, modern, 400, modern, `the variable $i of the type ID! does not fit: expected an ID`},
		{"a missing variable", "POST", "/graphql", `{"query": "query ($i: ID!) { craft(imo: $i) { name } }"}`, old, modern, 400, modern, `is required and was not given`},
		{"two operations", "POST", "/graphql", `{"query": "query A { __typename } query B { b: __typename }"}`, old, modern, 400, modern, `say with operationName which one to run: A or B`},
		{"the second of them", "POST", "/graphql", `{"query": "query A { __typename } query B { b: __typename }", "operationName": "B"}`, old, modern, 200, modern, `{"data":{"b":"Query"}}`},
		{"one that is not there", "POST", "/graphql", `{"query": "query Arrivals { __typename }", "operationName": "Arrival"}`, old, modern, 400, modern, `did you mean \"Arrivals\"?`},
		{"a GET", "GET", "/graphql?query=" + encode("query ($c: ID!) { station(code: $c) { code } }") + "&variables=" + encode(`{"c": "SKE"}`), "", "", modern, 200, modern, `{"data":{"station":{"code":"SKE"}}}`},
		{"a saved operation", "POST", "/graphql", `{"operationName": "Board", "variables": {"limit": 1}}`, old, modern, 200, modern, `{"data":{"portCalls":[{"id":`},
		{"a saved operation with GET", "GET", "/graphql?operationName=Board&variables=" + encode(`{"limit": 1}`), "", "", modern, 200, modern, `{"data":{"portCalls":[{"id":`},
		{"one that is not saved", "POST", "/graphql", `{"operationName": "Boord"}`, old, modern, 400, modern, `no operation \"Boord\" is saved in this project; did you mean \"Board\"?`},
		{"explain a saved operation", "POST", "/api/v1/plans", `{"operationName": "Board"}`, old, "", 200, old, `"waves"`},
		{"a GET without query", "GET", "/graphql", "", "", modern, 400, modern, `the parameter \"query\" is missing`},
		{"a GET with wrong extensions", "GET", "/graphql?query={a}&extensions=[1]", "", "", modern, 400, modern, `the parameter \"extensions\" is not a JSON object`},
		{"a GET with extensions", "GET", "/graphql?query={__typename}&extensions=" + encode(`{"a": 1}`), "", "", modern, 200, modern, `{"data"`},
		{"a GET with wrong variables", "GET", "/graphql?query={a}&variables=x", "", "", modern, 400, modern, `not a JSON object`},
		{"PUT", "PUT", "/graphql", "", "", modern, 405, "application/problem+json", `use GET, POST`},
		{"an unknown path", "GET", "/graph", "", "", modern, 404, "application/problem+json", `operations go to /graphql`},
		{"explain a wrong operation", "POST", "/api/v1/plans", `{"query": "{ quayz }"}`, old, "", 422, old, `did you mean \"quays\"?`},
		{"explain with GET", "GET", "/api/v1/plans", "", "", "", 405, "application/problem+json", `use POST`},
		{"live", "GET", "/live", "", "", "", 200, old, `{"live":true}`},
		{"saved operations", "GET", "/api/v1/operations", "", "", "", 200, old, `"name":"Board"`},
	} {
		t.Run(test.name, func(t *testing.T) {
			req, err := http.NewRequest(test.method, base+test.path, strings.NewReader(test.body))
			if err != nil {
				t.Fatal(err)
			}
			if test.contentType != "" {
				req.Header.Set("Content-Type", test.contentType)
			}
			if test.accept != "" {
				req.Header.Set("Accept", test.accept)
			}
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			defer res.Body.Close()
			body, _ := io.ReadAll(res.Body)
			media, _, _ := strings.Cut(res.Header.Get("Content-Type"), ";")
			if res.StatusCode != test.status || media != test.media || !strings.Contains(string(body), test.want) {
				t.Errorf("answers %d %s %.400s\nwant %d %s %s", res.StatusCode, media, body, test.status, test.media, test.want)
			}
			if !json.Valid(body) {
				t.Errorf("the body is not JSON: %.300s", body)
			}
			if res.Header.Get("X-Request-Id") == "" {
				t.Errorf("the answer has no X-Request-Id")
			}
		})
	}
}

// TestCompression asks for compressed answers: a short one is not worth it, and
// a long one can be read whether it is sent at once or in parts.
func TestCompression(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	for _, test := range []struct {
		limit    int
		encoding string
	}{{2, ""}, {100, "gzip"}, {3000, "gzip"}} {
		text := fmt.Sprintf("{ portCalls(limit: %d) { id arrivedAt craft { name operator { name } } } }", test.limit)
		req, err := http.NewRequest(http.MethodGet, base+"/graphql?query="+url.QueryEscape(text), nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Accept-Encoding", "gzip")
		res, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		if got := res.Header.Get("Content-Encoding"); got != test.encoding {
			t.Fatalf("the encoding of %d calls is %q, want %q", test.limit, got, test.encoding)
		}
		r := io.Reader(res.Body)
		if test.encoding == "gzip" {
			if r, err = gzip.NewReader(r); err != nil {
				t.Fatal(err)
			}
		}
		body, err := io.ReadAll(r)
		var a struct{ Data struct{ PortCalls []any } }
		if err != nil || json.Unmarshal(body, &a) != nil || len(a.Data.PortCalls) != test.limit {
			t.Errorf("%d calls: the body has %d, %v: %.200s", test.limit, len(a.Data.PortCalls), err, body)
		}
		if !strings.Contains(strings.Join(res.Header.Values("Vary"), ","), "Accept-Encoding") {
			t.Errorf("%d calls: Vary is %q", test.limit, res.Header.Values("Vary"))
		}
	}
}

// TestLongAnswer asks for answers that are sent in parts, which nobody sees
// but in the order of errors and data, and in what is known of the length.
func TestLongAnswer(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	for _, test := range []struct {
		text  string
		parts bool
		calls int
	}{
		{`{ portCalls(limit: 20) { id } }`, false, 20},
		{`{ portCalls(limit: 4000) { id arrivedAt purpose craft { name operator { name } } pilots { name } } }`, true, 4000},
		// Null where it must not stand could cut back what would have been sent.
		{`{ portCalls(limit: 4000) { id arrivedAt purpose craft { name operator { name } } } craft(imo: 9100350) { calls(limit: -1) { id } } }`, false, 4000},
		{`{ portCalls(limit: 4000) { id arrivedAt purpose craft { name operator { name } calls(limit: -1) { id } } } }`, false, 0},
	} {
		req, err := http.NewRequest(http.MethodPost, base+"/graphql", strings.NewReader(`{"query": `+strconv.Quote(test.text)+`}`))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Accept-Encoding", "identity") // the client would hide the length otherwise
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(res.Body)
		res.Body.Close()
		var a struct {
			Data   struct{ PortCalls []any }
			Errors []any
		}
		if err != nil || json.Unmarshal(body, &a) != nil {
			t.Errorf("%s\nanswers %v %.200s", test.text, err, body)
		}
		if parts := res.ContentLength < 0; parts != test.parts || len(a.Data.PortCalls) != test.calls {
			t.Errorf("%s\nis sent in parts: %t, want %t; has %d calls, want %d: %.300s", test.text, parts, test.parts, len(a.Data.PortCalls), test.calls, body)
		}
	}
}

// TestIntrospection asks the questions by which clients build their own view
// of a schema.
func TestIntrospection(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	a := ask(t, base, `query Whole {
		__schema { queryType { name } mutationType { name } subscriptionType { name } directives { name locations isRepeatable args { ...Input } }
			types { kind name description specifiedByURL isOneOf interfaces { ...Ref } possibleTypes { ...Ref }
				fields(includeDeprecated: true) { name args(includeDeprecated: true) { ...Input } type { ...Ref } isDeprecated deprecationReason }
				inputFields(includeDeprecated: true) { ...Input } enumValues(includeDeprecated: true) { name isDeprecated } } } }
		fragment Input on __InputValue { name type { ...Ref } defaultValue }
		fragment Ref on __Type { kind name ofType { kind name ofType { kind name ofType { kind name } } } }`, nil)
	if len(a.Errors) > 0 {
		t.Fatal(a.Errors)
	}
	s := a.Data["__schema"].(map[string]any)
	types := map[string]map[string]any{}
	for _, x := range s["types"].([]any) {
		types[x.(map[string]any)["name"].(string)] = x.(map[string]any)
	}
	if len(types["Craft"]["possibleTypes"].([]any)) != 4 || types["PortCallSort"]["isOneOf"] != true || types["DateTime"]["specifiedByURL"] == nil {
		t.Errorf("Craft, PortCallSort or DateTime are not as they should be: %v", types["Craft"])
	}
	for _, d := range s["directives"].([]any) {
		if name := d.(map[string]any)["name"]; name == "stored" || name == "related" {
			t.Errorf("clients see @%s", name)
		}
	}
}
