package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"osprey/access"
	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

// asks sends an operation with a credential, and returns the status and the answer.
func (k *keeping) asks(credential, query string) (int, string, http.Header) {
	k.t.Helper()
	body, _ := json.Marshal(object{"query": query})
	req, err := http.NewRequest(http.MethodPost, k.url+"/graphql", strings.NewReader(string(body)))
	if err != nil {
		k.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if credential != "" {
		req.Header.Set("Authorization", "Bearer "+credential)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		k.t.Fatal(err)
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(text), res.Header
}

// TestAccess has a service that knows its callers: by keys in the file, and by keys that are kept, which
// are made, used and revoked. Who runs it has a role, wherever it is.
func TestAccess(t *testing.T) {
	admin, screen := access.Make(), access.Make()
	k := keep(t, fmt.Sprintf(`access:
  admin: [admin]
  keys:
    %s: { name: office, hash: %q, roles: [admin] }
    %s: { name: board, hash: %q, roles: [screen], until: 2090-01-01 }
`, admin.ID, admin.Hash, screen.ID, screen.Hash))
	get, post, del := http.MethodGet, http.MethodPost, http.MethodDelete
	office, board := []string{"Authorization", "Bearer " + admin.String()}, []string{"Authorization", "Bearer " + screen.String()}
	// Nobody is told anything, in the form that the caller expects.
	status, text, header := k.asks("", "{ answer }")
	if status != 401 || !strings.Contains(text, `"errors":[{"message":"this service answers callers that it knows"`) || !strings.Contains(text, `"code":"UNKNOWN_CALLER"`) || header.Get("WWW-Authenticate") != `Bearer realm="osprey"` {
		t.Errorf("nobody is answered %d: %s", status, text)
	}
	for _, path := range []string{"/api/v1/status", "/api/v1/operations", "/api/v1/events", "/api/v1/revisions", "/api/v1/keys", "/api/v1/openapi.json"} {
		if res, err := http.Get(k.url + path); err != nil || res.StatusCode != 401 {
			t.Errorf("nobody is answered %s: %v, %v", path, res.Status, err)
		} else {
			res.Body.Close()
		}
	}
	for _, path := range []string{"/schema.graphql", "/live", "/ready"} {
		res, err := http.Get(k.url + path)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if want := map[bool]int{true: 401, false: 200}[path == "/schema.graphql"]; res.StatusCode != want {
			t.Errorf("nobody is answered %d at %s", res.StatusCode, path)
		}
	}
	if status, text, _ := k.asks(screen.String(), "{ answer }"); status != 200 || text != `{"data":{"answer":1}}` {
		t.Errorf("the board is answered %d: %s", status, text)
	}
	// Who runs the service has the role, and is so from elsewhere, too.
	k.wants(403, "those who run the service", get, "/api/v1/revisions", nil, false, board...)
	k.wants(200, "revisions", get, "/api/v1/revisions", nil, false, append(office, "X-Forwarded-For", "192.0.2.1")...)
	// What it says of itself is not what it is.
	k.wants(200, `"by":"office"`, post, "/api/v1/revisions", object{"files": object{"osprey.yaml": "", "schema/a.graphql": kept}, "by": "somebody else"}, false, office...)
	if status, _, _ := k.asks("", "{ answer }"); status != 401 { // whatever is published
		t.Errorf("a revision has changed who may ask: %d", status)
	}
	// A key that is made holds at once, and one that is revoked no more.
	var made struct{ ID, Key string }
	if err := json.Unmarshal([]byte(k.wants(200, `"by":"office"`, post, "/api/v1/keys", object{"name": "quay", "roles": []string{"screen"}}, false, office...)), &made); err != nil {
		t.Fatal(err)
	}
	if status, text, _ := k.asks(made.Key, "{ answer }"); status != 200 {
		t.Errorf("the new key is answered %d: %s", status, text)
	}
	if status, text, _ := k.asks(made.Key+"x", "{ answer }"); status != 401 || !strings.Contains(text, "the key is not known") || strings.Contains(text, made.Key) {
		t.Errorf("a wrong secret is answered %d: %s", status, text)
	}
	k.wants(403, "those who run the service", post, "/api/v1/keys", object{"name": "more"}, false, "Authorization", "Bearer "+made.Key)
	k.wants(204, "", del, "/api/v1/keys/"+made.ID, nil, false, office...)
	if status, text, _ := k.asks(made.Key, "{ answer }"); status != 401 {
		t.Errorf("a revoked key is answered %d: %s", status, text)
	}
	// What it asked is counted under the name of its key.
	until(t, func() bool {
		_, text := k.call(get, "/api/v1/traffic", nil, false, office...)
		return strings.Contains(text, `"clients":{"board":1,"quay":1}`)
	})
	// Statements are for who runs the service, too: by the role, not by the machine.
	if text := k.wants(200, "statementsHidden", post, "/api/v1/plans", object{"query": "{ answer }"}, false, board...); text == "" {
		t.Error("nothing is told")
	}
	k.wants(200, `"waves":`, post, "/api/v1/plans", object{"query": "{ answer }"}, false, office...)
}

// TestRevokedElsewhere revokes a key on one service; another that shares the records refuses it within
// a second.
func TestRevokedElsewhere(t *testing.T) {
	k := keep(t, "access: { nobody: allowed, nobodyRoles: [admin], admin: [admin] }\n")
	other := k.again()
	var made struct{ ID, Key string }
	if err := json.Unmarshal([]byte(k.wants(200, "osprey_", http.MethodPost, "/api/v1/keys", object{"name": "quay"}, false)), &made); err != nil {
		t.Fatal(err)
	}
	until(t, func() bool { status, _, _ := other.asks(made.Key, "{ answer }"); return status == 200 })
	req, _ := http.NewRequest(http.MethodGet, other.url+"/api/v1/events", nil)
	req.Header.Set("Authorization", "Bearer "+made.Key)
	stream, err := http.DefaultClient.Do(req)
	if err != nil || stream.StatusCode != 200 {
		t.Fatal(err, stream.Status)
	}
	defer stream.Body.Close()
	body := strings.NewReader(`{"query": "{ answer }"}`)
	asked, _ := http.NewRequest(http.MethodPost, other.url+"/graphql", body)
	for name, value := range map[string]string{"Authorization": "Bearer " + made.Key, "Accept": "text/event-stream", "Content-Type": "application/json", "Osprey-Live": "on"} {
		asked.Header.Set(name, value)
	}
	live, err := http.DefaultClient.Do(asked)
	if err != nil || live.StatusCode != 200 {
		t.Fatal(err, live.Status)
	}
	defer live.Body.Close()
	began := time.Now()
	k.wants(204, "", http.MethodDelete, "/api/v1/keys/"+made.ID, nil, false)
	until(t, func() bool { status, _, _ := other.asks(made.Key, "{ answer }"); return status == 401 })
	t.Logf("the other service has refused it after %v", time.Since(began))
	ended := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(stream.Body)
		ended <- string(text)
	}()
	told := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(live.Body)
		told <- string(text)
	}()
	select {
	case text := <-told:
		if !strings.Contains(text, "event: next\ndata: {\"data\":{\"answer\":") || !strings.Contains(text, "event: complete\ndata: {\"errors\":[{\"message\":\"the key is not known\",\"extensions\":{\"code\":\"UNKNOWN_CALLER\"") {
			t.Errorf("the live query ends with %q", text)
		}
	case <-time.After(10 * time.Second):
		t.Error("the live query goes on without the key")
	}
	select {
	case text := <-ended:
		if !strings.HasSuffix(text, "event: end\ndata: {\"detail\":\"the key is not known\"}\n\n") {
			t.Errorf("the stream of events ends with %q", text)
		}
	case <-time.After(10 * time.Second):
		t.Error("the stream of events goes on without the key")
	}
}

// TestAccessConfigured holds what is told of access that would let anybody in.
func TestAccessConfigured(t *testing.T) {
	for config, want := range map[string]string{
		"access: { nobody: maybe }":                                                    `nobody is "maybe"; there are refused, allowed`,
		"access: { keys: { a: { name: x, hash: secret } } }":                           "the hash of the key a is none of a key",
		"access: { keys: { a: {} } }":                                                  "the key a has no name",
		"access: { tokens: { keys: https://port.example/keys } }":                      "tokens has no issuer, so anybody's would be taken",
		"access: { tokens: { keys: k, issuer: i, audience: a, algorithms: [HS256] } }": `tokens takes the algorithm "HS256"`,
		"access: { tokens: { keys: k, issuer: i, audience: a, algorithms: [none] } }":  `tokens takes the algorithm "none"`,
		"access: { header: { name: X-User } }":                                         "header has no name, or no from, so anybody's word would be taken",
		"access: { header: { name: X-User, from: [everywhere] } }":                     `"everywhere" is no address`,
	} {
		_, findings := openWith(t, config)
		if !strings.Contains(findings, want) {
			t.Errorf("%s: it is told %q", config, findings)
		}
	}
}

// TestManyWrongKeys sends a thousand wrong keys: all are refused, who has a key is answered beside them,
// and the log has some lines of it.
func TestManyWrongKeys(t *testing.T) {
	key := access.Make()
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("access: { keys: { %s: { name: board, hash: %q } } }\n", key.ID, key.Hash), "schema/a.graphql": kept})
	var lines lineCounter
	log := slog.New(slog.NewTextHandler(&lines, nil))
	p, _, err := project.Open(context.Background(), dir, log)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	server := httptest.NewServer(service.New(service.Config{Project: p, Log: log}))
	t.Cleanup(server.Close)
	k := &keeping{t: t, url: server.URL}
	var wait sync.WaitGroup
	for worker := range 10 {
		wait.Go(func() {
			for i := range 100 {
				id := []string{key.ID, "nothing"}[i%2]
				if status, _, _ := k.asks(fmt.Sprintf("osprey_%s_%d-%d", id, worker, i), "{ answer }"); status != 401 && status != 429 {
					t.Errorf("a wrong key is answered %d", status)
				}
			}
		})
	}
	wait.Wait()
	time.Sleep(time.Second) // who was never here is let in when the guessing ends
	if status, text, _ := k.asks(key.String(), "{ answer }"); status != 200 {
		t.Errorf("who has the key is answered %d: %s", status, text)
	}
	if n := lines.n.Load(); n == 0 || n > 500 {
		t.Errorf("the log has %d lines", n)
	}
}

type lineCounter struct{ n atomic.Int64 }

func (l *lineCounter) Write(p []byte) (int, error) {
	l.n.Add(1)
	return len(p), nil
}
