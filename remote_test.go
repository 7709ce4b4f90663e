package osprey_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey"
)

type rpcCall struct {
	Version string         `json:"jsonrpc"`
	ID      int            `json:"id"`
	Method  string         `json:"method"`
	Params  map[string]any `json:"params"`
}

// batch is a server of JSON-RPC 2.0 whose answer is made of the calls.
func batch(t *testing.T, reply func(calls []rpcCall) any) string {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		var calls []rpcCall
		if err := json.Unmarshal(body, &calls); err != nil {
			t.Errorf("%s is no batch: %v", body, err)
		}
		v := reply(calls)
		if status, ok := v.(int); ok {
			http.Error(w, "secret at 10.0.0.1", status)
			return
		}
		text, ok := v.(string)
		if !ok {
			made, _ := json.Marshal(v)
			text = string(made)
		}
		io.WriteString(w, text)
	}))
	t.Cleanup(server.Close)
	return server.URL
}

// TestRemoteFunctions holds what is told of each way in which a remote function
// can fail, and that the other calls keep their answers.
func TestRemoteFunctions(t *testing.T) {
	const field = `fee(days: Int! = 1): Money @computed(by: "fees.quote", needs: "name lengthM")`
	const money = `type Money { amount: Decimal! currency: String }`
	const query = `{ berths { fee(days: 2) { amount } } }`
	all := func(calls []rpcCall) []any {
		var list []any
		for _, c := range calls {
			list = append(list, result(c.ID, object{"amount": c.Params["record"].(object)["lengthM"].(float64) * c.Params["args"].(object)["days"].(float64)}))
		}
		return list
	}
	for _, test := range []struct {
		name  string
		reply func(calls []rpcCall) any
		want  string
	}{
		{"all is well", func(calls []rpcCall) any {
			if len(calls) != 3 || calls[0].Method != "quote" || calls[0].Version != "2.0" {
				t.Errorf("the batch is %v", calls)
			}
			return all(calls)
		}, `{"berths":[{"fee":{"amount":"280"}},{"fee":{"amount":"180"}},{"fee":{"amount":"0"}}]}`},
		{"in another order", func(calls []rpcCall) any { l := all(calls); return []any{l[2], l[0], l[1]} },
			`{"berths":[{"fee":{"amount":"280"}},{"fee":{"amount":"180"}},{"fee":{"amount":"0"}}]}`},
		{"an error for one", func(calls []rpcCall) any {
			return append(all(calls)[:2], object{"jsonrpc": "2.0", "id": 3, "error": object{"code": 7, "message": "no craft of 0 m", "data": "at line 12"}})
		}, `{"berths":[{"fee":{"amount":"280"}},{"fee":{"amount":"180"}},{"fee":null}]}
FUNCTION berths.2.fee: the source fees failed in quote: it says: no craft of 0 m`},
		{"one missing", func(calls []rpcCall) any { return all(calls)[1:] }, `{"berths":[{"fee":null},{"fee":{"amount":"180"}},{"fee":{"amount":"0"}}]}
FUNCTION berths.0.fee: the source fees failed in quote: it did not answer this call; there were 2 answers to 3 calls`},
		{"one twice", func(calls []rpcCall) any { l := all(calls); return append(l, l[1]) }, `{"berths":[{"fee":{"amount":"280"}},{"fee":null},{"fee":{"amount":"0"}}]}
FUNCTION berths.1.fee: the source fees failed in quote: it answered this call 2 times`},
		{"an id of nobody's", func(calls []rpcCall) any { return append(all(calls), result(99, nil)) }, `{"berths":[{"fee":{"amount":"280"}},{"fee":{"amount":"180"}},{"fee":{"amount":"0"}}]}`},
		{"null", func(calls []rpcCall) any { return append(all(calls)[:2], result(3, nil)) }, `{"berths":[{"fee":{"amount":"280"}},{"fee":{"amount":"180"}},{"fee":null}]}`},
		{"the wrong type", func(calls []rpcCall) any {
			return []any{result(1, "12.50"), result(2, object{"amount": []int{1}}), result(3, object{})}
		}, `{"berths":[{"fee":null},{"fee":null},{"fee":null}]}
BAD_VALUE berths.0.fee: Berth.fee: expected an object, found text
BAD_VALUE berths.1.fee.amount: Money.amount: expected a number, found a list
NOT_FOUND berths.2.fee.amount: Money.amount is required, and there is no value for it`},
		{"no such function", func(calls []rpcCall) any {
			return append(all(calls)[:2], object{"id": 3, "error": object{"code": -32601, "message": "Method not found"}})
		}, `{"berths":[{"fee":{"amount":"280"}},{"fee":{"amount":"180"}},{"fee":null}]}
FUNCTION berths.2.fee: the source fees has no function quote`},
		{"neither", func(calls []rpcCall) any { return append(all(calls)[:2], object{"id": 3}) }, `{"berths":[{"fee":{"amount":"280"}},{"fee":{"amount":"180"}},{"fee":null}]}
FUNCTION berths.2.fee: the source fees failed in quote: it gave neither a result nor an error for this call`},
		{"an error for all", func(calls []rpcCall) any {
			return object{"id": nil, "error": object{"code": -32700, "message": "Parse error"}}
		}, `{"berths":[{"fee":null},{"fee":null},{"fee":null}]}
FUNCTION berths.0.fee: the source fees failed in quote: it says: Parse error
FUNCTION berths.1.fee: the source fees failed in quote: it says: Parse error
FUNCTION berths.2.fee: the source fees failed in quote: it says: Parse error`},
		{"no JSON", func(calls []rpcCall) any { return "<html>" }, `{"berths":[{"fee":null},{"fee":null},{"fee":null}]}
STORE_ANSWER berths.0.fee: the source fees answered something that is no batch of JSON-RPC 2.0
STORE_ANSWER berths.1.fee: the source fees answered something that is no batch of JSON-RPC 2.0
STORE_ANSWER berths.2.fee: the source fees answered something that is no batch of JSON-RPC 2.0`},
		{"a status", func(calls []rpcCall) any { return 503 }, `{"berths":[{"fee":null},{"fee":null},{"fee":null}]}
STORE_DOWN berths.0.fee: the source fees is not available (status 503)
STORE_DOWN berths.1.fee: the source fees is not available (status 503)
STORE_DOWN berths.2.fee: the source fees is not available (status 503)`},
		{"a hang", func(calls []rpcCall) any { time.Sleep(400 * time.Millisecond); return all(calls) }, `{"berths":[{"fee":null},{"fee":null},{"fee":null}]}
STORE_TIMEOUT berths.0.fee: the source fees did not answer within its time limit
STORE_TIMEOUT berths.1.fee: the source fees did not answer within its time limit
STORE_TIMEOUT berths.2.fee: the source fees did not answer within its time limit`},
	} {
		t.Run(test.name, func(t *testing.T) {
			dir := berths(t, "  fees: { kind: functions, url: \""+batch(t, test.reply)+"\", timeout: 200ms }\n", field, "", money)
			if got := answer(t, dir, query); got != test.want {
				t.Errorf("answers\n%s\nwant\n%s", got, test.want)
			}
		})
	}
}

// TestSameCallsAreOne holds that a function is called once for each different
// input, in one request for all fields of a wave, and only for what is shown.
func TestSameCallsAreOne(t *testing.T) {
	var asked [][]rpcCall
	url := batch(t, func(calls []rpcCall) any {
		asked = append(asked, calls)
		var list []any
		for _, c := range calls {
			list = append(list, result(c.ID, fmt.Sprint(c.Params["record"])))
		}
		return list
	})
	dir := berths(t, "  fees: { kind: functions, url: \""+url+"\" }\n",
		`about: String @computed(by: "fees.about", needs: "quay")  quay: String`,
		`some(limit: Int, sort: [BerthSort!]): [Berth!]! @read pages(first: Int): BerthConnection! @read`, ``)
	const want = `{"berths":[{"about":"map[quay:Q1]","b":"map[quay:Q1]"},{"about":"map[quay:Q2]","b":"map[quay:Q2]"},{"about":"map[quay:Q1]","b":"map[quay:Q1]"}]}`
	if got := answer(t, dir, `{ berths { about b: about } }`); got != want {
		t.Errorf("answers %s", got)
	}
	if len(asked) != 1 || len(asked[0]) != 2 { // of three records and two fields
		t.Errorf("asked %v", asked)
	}
	asked = nil
	if got := answer(t, dir, `{ some(limit: 1, sort: [{name: DESC}]) { about } pages(first: 1) { edges { node { about } } } }`); strings.Contains(got, "null") {
		t.Errorf("answers %s", got)
	}
	if len(asked) != 1 || len(asked[0]) != 1 { // both show a berth of Q1
		t.Errorf("what is not shown was asked for: %v", asked)
	}
}

// TestForwarded holds that headers of the caller and of osprey.yaml reach a
// service of functions, and that ten failures behind each other give it a rest.
func TestForwarded(t *testing.T) {
	var headers []http.Header
	fail := false
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		headers = append(headers, r.Header)
		if fail {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		io.WriteString(w, `[{"jsonrpc": "2.0", "id": 1, "result": 7}]`)
	}))
	defer server.Close()
	dir := berths(t, "  fees: { kind: functions, url: \""+server.URL+"/rpc\", headers: {Authorization: \"Bearer secret-word\"}, forward: [X-Caller] }\n", "", `seven: Int @computed(by: "fees.seven")`, "")
	service, err := osprey.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	ask := func() string {
		r := httptest.NewRequest(http.MethodPost, "/graphql", strings.NewReader(`{"query": "{ seven }"}`))
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("X-Caller", "Aila")
		r.Header.Set("X-Other", "no")
		w := httptest.NewRecorder()
		service.ServeHTTP(w, r)
		return w.Body.String()
	}
	if got := ask(); got != `{"data":{"seven":7}}` {
		t.Errorf("answers %s", got)
	}
	if h := headers[0]; h.Get("Authorization") != "Bearer secret-word" || h.Get("X-Caller") != "Aila" || h.Get("X-Other") != "" || h.Get("Content-Type") != "application/json" {
		t.Errorf("the service got %v", h)
	}
	fail = true
	for range 12 {
		if got := ask(); strings.Contains(got, "secret-word") || strings.Contains(got, server.URL) || !strings.Contains(got, `"seven":null`) {
			t.Fatalf("answers %s", got)
		}
	}
	// Nothing is called again, and what answers so to a ping, too, is left alone: the
	// first call, three more and a ping.
	if got := ask(); len(headers) < 5 || len(headers) > 6 || !strings.Contains(got, "the source fees does not answer and is left alone; it is tried again every second") {
		t.Errorf("the service got %d requests; answers %s", len(headers), got)
	}
}

// TestNestedCalls calls functions for nested records, for the records of a page
// within a list, and for what another function gave.
func TestNestedCalls(t *testing.T) {
	asked := 0
	url := batch(t, func(calls []rpcCall) any {
		asked += len(calls)
		var list []any
		for _, c := range calls {
			r := c.Params["record"].(object)
			if c.Method == "price" {
				list = append(list, result(c.ID, object{"amount": r["watt"], "currency": "SKD"}))
			} else {
				list = append(list, result(c.ID, fmt.Sprint(r)))
			}
		}
		return list
	})
	const money = `type Money { amount: Decimal! currency: String! text: String @computed(by: "fees.text", needs: "amount currency") short: String @computed(expr: "string(record.amount) + ' ' + record.currency") }
		type Lamp { watt: Int! price: Money @computed(by: "fees.price", needs: "watt") about: String @computed(expr: "record.price.text") }`
	dir := berths(t, "  fees: { kind: functions, url: \""+url+"\" }\n", "lamps(filter: LampFilter, limit: Int): [Lamp!]", "", money)
	data := `[{"name": "A", "lengthM": 1, "draughtDm": 7, "lamps": [{"watt": 5}, {"watt": 60}]}, {"name": "B", "lengthM": 2, "lamps": [{"watt": 60}]}, {"name": "C", "lengthM": 3, "lamps": null}]`
	if err := os.WriteFile(filepath.Join(dir, "data/berths.json"), []byte(data), 0o644); err != nil {
		t.Fatal(err)
	}
	const want = `{"berths":[{"lamps":[{"price":{"text":"map[amount:60 currency:SKD]","short":"60 SKD"},"about":"map[amount:60 currency:SKD]"}]},` +
		`{"lamps":[{"price":{"text":"map[amount:60 currency:SKD]","short":"60 SKD"},"about":"map[amount:60 currency:SKD]"}]},{"lamps":null}]}`
	if got := answer(t, dir, `{ berths { lamps(filter: {watt: {above: 50}}) { price { text short } about } } }`); got != want {
		t.Errorf("answers\n%s\nwant\n%s", got, want)
	}
}

func result(id int, v any) object { return object{"jsonrpc": "2.0", "id": id, "result": v} }
