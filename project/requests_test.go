package project

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"osprey/demo/demotest"
)

// TestSplitRequestsCount bounds the store requests of an operation, and counts them at
// the service: those that keys are split into count, and what would be too many is not
// asked.
func TestSplitRequestsCount(t *testing.T) {
	var asked atomic.Int64
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		var records []string
		codes := r.URL.Query()["code"]
		if code, one := strings.CutPrefix(r.URL.Path, "/contacts/"); one {
			codes = []string{code}
		}
		for _, code := range codes {
			records = append(records, fmt.Sprintf(`{"code": %q, "name": "at %s"}`, code, code))
		}
		fmt.Fprintf(w, "[%s]", strings.Join(records, ", "))
	}))
	defer service.Close()
	var calls []string
	for i := range 7 {
		calls = append(calls, fmt.Sprintf(`{"id": %d, "quay": "Q%d"}`, i, i))
	}
	for _, test := range []struct {
		limit, calls int
		field        string
		requests     int // that the service is asked
		refused      bool
	}{
		{5, 7, "quay { name }", 4, false}, // by two keys at a time, behind one reading of the files
		{4, 7, "quay { name }", 0, true},
		{4, 6, "quay { name }", 3, false},
		{8, 7, "contact { name }", 7, false},
		{7, 7, "contact { name }", 0, true},
		{11, 7, "quay { name } contact { name }", 0, true},
		{12, 7, "quay { name } contact { name }", 11, false},
		{2, 7, "quay { name } contact { name }", 0, true}, // before it runs
		{0, 7, "quay { name } contact { name }", 11, false},
	} {
		dir := demotest.Folder(t, map[string]string{
			"osprey.yaml": fmt.Sprintf(`limits: { storeRequests: %d }
sources:
  port: { kind: files, folder: data }
  office:
    kind: rest
    url: %s
    sets:
      quays: { key: code, fields: { code: text, name: text }, reads: [{ get: "/quays{?code*}", many: code, maxKeys: 2 }] }
      contacts: { key: code, fields: { code: text, name: text }, reads: [{ get: "/contacts/{code}", pick: "$[*]" }] }
`, test.limit, service.URL),
			"data/calls.json": "[" + strings.Join(calls[:test.calls], ", ") + "]",
			"schema/a.graphql": `type Query { calls: [Call!]! @read }
type Call @stored(in: "port", as: "calls", key: "id") { id: Int! quay: Quay @related(here: "quay", there: "code") contact: Contact @related(here: "quay", there: "code") }
type Quay @stored(in: "office", as: "quays", key: "code") { code: ID! name: String }
type Contact @stored(in: "office", as: "contacts", key: "code") { code: ID! name: String }`,
		})
		p, findings, err := OpenWith(context.Background(), dir, slog.New(slog.DiscardHandler), &Additions{})
		if err != nil {
			t.Fatal(err, findings)
		}
		asked.Store(0)
		a := p.Revision().Ask(context.Background(), &Request{Query: "{ calls { id " + test.field + " } }"})
		told := 0
		for _, r := range a.Requests {
			told += r.RoundTrips
		}
		refused := len(a.Faults) == 1 && a.Faults[0].Code == CodeLimit && strings.Contains(a.Faults[0].Message+a.Faults[0].Fix, "limits.storeRequests in osprey.yaml")
		if got := int(asked.Load()); got != test.requests || refused != test.refused || !refused && (len(a.Faults) > 0 || strings.Count(string(a.Data), `"at Q`) < test.calls || told != got+1) {
			t.Errorf("%+v\nasks %d, tells %d: %s %v", test, got, told, a.Data, a.Faults)
		}
		p.Close()
	}
}
