package service_test

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestAssist asks for help while writing; places count characters.
func TestAssist(t *testing.T) {
	demotest.Setenv(t)
	base := serveHarbour(t)
	for _, test := range []struct {
		path, query string
		at, status  int
		want        string
	}{
		{"completions", `{ quays { na } }`, 12, 200, `{"label":"__typename","kind":"field","detail":"String!"}],"from":10}`},
		{"completions", `{ station(code: \"é🚢\") { na } }`, 25, 200, `"from":24}`},
		{"completions", `{ portCalls(purpose: `, 99, 200, `{"label":"LOADING","kind":"value","detail":"Purpose"}`},
		{"completions", `{ nothing { `, 12, 200, `"completions":[]`},
		{"problems", `{ quayz { name } }`, 0, 200, `{"problems":[{"message":"Query has no field \"quayz\"; did you mean \"quays\"?","line":1,"column":3,"mends":[{"from":6,"to":7,"with":"s"}]}]}`},
		{"problems", `{ quays { name } }`, 0, 200, `{"problems":[]}`},
		{"meaning", `{ quays { name } }`, 3, 200, `"from":2`},
		{"meaning", `{ quays { name } }`, 12, 200, `"where":"registry · quays.name, text"`},
		{"meaning", `{ portCalls { craft { name } } }`, 16, 200, `"where":"registry · craft, imo = its craft_imo"`},
		{"meaning", `{ stations { contact { officer } } }`, 27, 200, `"where":"tides · contacts.officer, text"`},
		{"tidy", `{quays{name,station{name}}}`, 0, 200, `{"text":"{ quays { name station { name } } }\n"}`},
		{"tidy", `{ quays { `, 0, 422, `line 1, column `},
		{"meaning", `{ ...A } fragment A on Query { quays { name } }`, 5, 200, `"defined":18`},
		{"meaning", `{ nothing }`, 3, 200, `null`},
	} {
		body := fmt.Sprintf(`{"query": "%s", "at": %d}`, test.query, test.at)
		res, err := http.Post(base+"/api/v1/"+test.path, "application/json", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		got, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != test.status || !strings.Contains(string(got), test.want) {
			t.Errorf("%s of %s at %d answers %d %s, want %s", test.path, test.query, test.at, res.StatusCode, got, test.want)
		}
	}
	res, err := http.Post(base+"/api/v1/completions", "application/json", strings.NewReader("{"))
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if res.StatusCode != http.StatusBadRequest {
		t.Errorf("a broken body answers %d", res.StatusCode)
	}
}
