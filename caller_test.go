package osprey_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"osprey"
)

// TestCallerGoesOn has functions of the program see who asks, and services told in headers, whatever the
// caller's own request says there.
func TestCallerGoesOn(t *testing.T) {
	var mu sync.Mutex
	var headers []http.Header
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		headers = append(headers, r.Header)
		mu.Unlock()
		io.WriteString(w, `[{"jsonrpc": "2.0", "id": 1, "result": 7}]`)
	}))
	defer server.Close()
	own := osprey.WithFunctions(osprey.Func("own.who", func(ctx context.Context, calls []osprey.Call[osprey.None, osprey.None]) ([]string, error) {
		c := osprey.CallerOf(ctx)
		return []string{c.ID + "/" + c.Name + "/" + strings.Join(c.Roles, "+")}, nil
	}))
	dir := berths(t, "  fees: { kind: functions, url: \""+server.URL+"\", forward: [X-Port-User], caller: { id: X-Port-User, roles: X-Port-Roles } }\n", "",
		`seven: Int @computed(by: "fees.seven") who: String @computed(by: "own.who")`, "")
	service, err := osprey.Open(t.Context(), dir, own)
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	for _, test := range []struct {
		caller          *osprey.Caller
		who, user, role string
	}{
		{nil, "//", "", ""},
		{&osprey.Caller{ID: "ada", Name: "Ada", Roles: []string{"clerk", "night, watch"}}, "ada/Ada/clerk+night, watch", "ada", "clerk, night%2C%20watch"},
		{&osprey.Caller{ID: "Åse\r\nX-Port-Roles: admin"}, "Åse\r\nX-Port-Roles: admin//", "%C3%85se%0D%0AX-Port-Roles:%20admin", ""},
	} {
		a, err := service.Ask(t.Context(), osprey.Operation{Text: "{ seven who }", Caller: test.caller})
		if err != nil || len(a.Errors) > 0 {
			t.Fatal(err, a)
		}
		if got, want := string(a.Data), `{"seven":7,"who":"`+strings.NewReplacer("\r", `\r`, "\n", `\n`).Replace(test.who)+`"}`; got != want {
			t.Errorf("answers %s, and not %s", got, want)
		}
		mu.Lock()
		h := headers[len(headers)-1]
		mu.Unlock()
		if h.Get("X-Port-User") != test.user || h.Get("X-Port-Roles") != test.role || len(h.Values("X-Port-Roles")) > 1 {
			t.Errorf("the service is told %q and %q, and not %q and %q", h.Values("X-Port-User"), h.Values("X-Port-Roles"), test.user, test.role)
		}
	}
	// What a caller says in a header of that name is not passed on, even where forward names it.
	r := httptest.NewRequest(http.MethodPost, "/graphql", strings.NewReader(`{"query": "{ seven }"}`))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("X-Port-User", "mallory")
	service.ServeHTTP(httptest.NewRecorder(), r)
	if h := headers[len(headers)-1]; h.Get("X-Port-User") != "" {
		t.Errorf("the service is told that %q asks", h.Get("X-Port-User"))
	}
}
