package service_test

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib"

	"osprey/demo/demotest"
	"osprey/project"
)

// once sends a mutation with a key, and returns the status and the body.
func once(t *testing.T, base, key, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, base+"/graphql", strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, err.Error()
	}
	return res.StatusCode, string(text)
}

// TestOnce sends mutations with a key: each is done once, in one transaction, and answered
// twice the same, also when many send it at once, and when what other stores were asked has
// changed since.
func TestOnce(t *testing.T) {
	demotest.Setenv(t)
	demotest.KeepRegistry(t)
	base := serveHarbour(t)
	db, err := sql.Open("pgx", demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	defer db.Exec("DELETE FROM mutations_done")
	count := func(query string) (n int) {
		t.Helper()
		if err := db.QueryRow(query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	const arrive = `{"query": "mutation { arrive(call: {craft: 9100112, arrivedAt: \"1991-02-01T00:00:00Z\", purpose: REPAIR, quay: \"Q1\", berth: 1}) { id craft { name inspections { outcome } } berth { quay { notices(limit: 1) { title } } } fee(days: 2) { amount } } license(pilot: {name: \"Wren Halloway\", licence: \"SK-9%d\"}) { name } }"}`
	first, again := "", ""
	for _, body := range []*string{&first, &again} {
		status := 0
		if status, *body = once(t, base, `"8e03978e-40d5-43dd-bc93-6894a57f9324"`, fmt.Sprintf(arrive, 50)); status != http.StatusOK {
			t.Fatal(status, *body)
		}
	}
	if first != again || !strings.Contains(first, `"arrive":{"id":`) || !strings.Contains(first, `"amount":`) || strings.Contains(first, "errors") {
		t.Errorf("it is answered\n%s\nand again\n%s", first, again)
	}
	if n := count("SELECT count(*) FROM port_calls WHERE arrived_at = '1991-02-01Z'"); n != 1 {
		t.Errorf("it is done %d times", n)
	}
	// The same key for another mutation, and what is no key.
	for key, want := range map[string]int{"8e03978e-40d5-43dd-bc93-6894a57f9324": http.StatusUnprocessableEntity, `""`: http.StatusBadRequest, strings.Repeat("x", 256): http.StatusBadRequest, "ü": http.StatusBadRequest} {
		if status, body := once(t, base, key, fmt.Sprintf(arrive, 51)); status != want || !strings.Contains(body, "errors") {
			t.Errorf("the key %q gives %d %s", key, status, body)
		}
	}
	// What fails is undone as a whole, with its key, and can be sent again.
	if _, body := once(t, base, "k2", fmt.Sprintf(arrive, 50)); !strings.Contains(body, "CONSTRAINT") || !strings.Contains(body, "UNDONE") || count("SELECT count(*) FROM mutations_done WHERE id = 'k2'") != 0 {
		t.Errorf("a licence that is taken gives %s", body)
	}
	if _, body := once(t, base, "k2", fmt.Sprintf(arrive, 52)); strings.Contains(body, "errors") {
		t.Errorf("with another licence it gives %s", body)
	}
	// Many at once: it is done once, and all have the same answer.
	answers := make(chan string)
	for range 12 {
		go func() {
			_, body := once(t, base, "k3", fmt.Sprintf(arrive, 53))
			answers <- body
		}()
	}
	same := <-answers
	for range 11 {
		if body := <-answers; body != same || strings.Contains(body, "errors") {
			t.Errorf("of many, one has the answer %s\nand another %s", same, body)
		}
	}
	if n := count("SELECT count(*) FROM pilots WHERE licence = 'SK-953'"); n != 1 {
		t.Errorf("of many at once, %d are done", n)
	}
	// A query is answered as without a key, and a mutation of two sources cannot be one.
	if status, body := once(t, base, "k4", `{"query": "{ quays { code } }"}`); status != http.StatusOK || count("SELECT count(*) FROM mutations_done WHERE id = 'k4'") != 0 {
		t.Error(status, body)
	}
	if _, body := once(t, base, "k5", `{"query": "mutation { license(pilot: {name: \"W\", licence: \"SK-954\"}) { name } dismiss(id: \"0123456789abcdef01234567\") { outcome } }"}`); !strings.Contains(body, "dismiss writes to inspections, which has no transactions, so that the mutation cannot be one") || count("SELECT count(*) FROM pilots WHERE licence = 'SK-954'") != 0 {
		t.Errorf("of two sources: %s", body)
	}
	// A project without keys says so, and does nothing.
	p, _, err := project.Open(context.Background(), demotest.Folder(t, map[string]string{"osprey.yaml": "sources: { registry: { kind: postgres, url: \"" + demotest.Harbour().RegistryURL + "\", naming: snake } }",
		"schema/a.graphql": `type Query { pilots: [Pilot!] @read } type Mutation { license(pilot: PilotAdd!): Pilot @add } type Pilot @stored(in: "registry", as: "pilots", key: "id") { id: ID! name: String! licence: String! }`}), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if a := p.Revision().Ask(context.Background(), &project.Request{Once: "k", Query: `mutation { license(pilot: {name: "W", licence: "SK-955"}) { id } }`}); !a.Refused || a.Faults[0].Code != project.CodeDenied {
		t.Error(string(a.AppendJSON(nil, false)))
	}
}

// TestInputOfErrors holds that an error tells where what is wrong was given.
func TestInputOfErrors(t *testing.T) {
	demotest.Setenv(t)
	demotest.KeepRegistry(t)
	base := serveHarbour(t)
	const when = `arrivedAt: \"1991-03-01T00:00:00Z\", purpose: REPAIR`
	for op, want := range map[string]string{
		`arrive(call: {craft: 7, ` + when + `}) { id }`: `["call","craft"]`,
		`license(pilot: {name: \"W\", licence: \"SK-101\"}) { id } again: license(pilot: {name: \"W\", licence: \"SK-101\"}) { id }`: `["pilot","licence"]`,
		`load(id: 4000, tonnes: \"0.05\") { id }`:   `["tonnes"]`,
		`move(id: 4000, from: 99, berth: 1) { id }`: `["from"]`,
		`arriveAll(calls: [{craft: 9100112, ` + when + `}, {craft: 9100112, cargoT: \"0.01\", ` + when + `}]) { id }`:          `["calls",1,"cargoT"]`,
		`arrive(call: {craft: 9100112, ` + when + `, pilotage: [{pilot: 77777, boardedAt: \"1991-03-01T00:00:00Z\"}]}) { id }`: `["call","pilotage",0,"pilot"]`,
	} {
		_, body := once(t, base, "", `{"query": "mutation { `+op+` }"}`)
		if !strings.Contains(body, `"input":`+want) {
			t.Errorf("%s gives %s\nwant %s", op, body, want)
		}
	}
}
