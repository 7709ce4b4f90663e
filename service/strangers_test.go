package service_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

// serveAt serves a project over files on loopback as "osprey start" does, and
// returns its address and what stops it.
func serveAt(t *testing.T, files map[string]string, c service.Config, how service.Stop) (base string, stop func() error) {
	t.Helper()
	p, findings, err := project.Open(context.Background(), demotest.Folder(t, files), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c.Project, c.Listen = p, "port.example:80"
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	s := service.New(c)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l, how) }()
	stopped := false
	stop = func() error {
		if stopped {
			return nil
		}
		stopped = true
		cancel()
		err := <-ended
		p.Close()
		return err
	}
	t.Cleanup(func() { stop() })
	return "http://" + l.Addr().String(), stop
}

// berths is a project over a file with so many berths.
func berths(n int, yaml string) map[string]string {
	var list []string
	for i := range n {
		list = append(list, fmt.Sprintf(`{"id": %d, "name": "Berth %d", "next": %d}`, i, i, (i+1)%n))
	}
	return map[string]string{
		"osprey.yaml":      "sources:\n  s: { kind: files, folder: data }\n" + yaml,
		"data/berths.json": "[" + strings.Join(list, ",") + "]",
		"schema/a.graphql": "type Query { berths(limit: Int = 10): [Berth!] @read }\ntype Berth @stored(in: \"s\", as: \"berths\", key: \"id\") { id: ID! name: String next: Berth @related(here: \"next\", there: \"id\") }",
	}
}

// send sends a request and returns the status and the body.
func send(t *testing.T, method, url, body string, header map[string]string) (int, string, http.Header) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for name, v := range header {
		if name == "Host" {
			req.Host = v
		} else {
			req.Header.Set(name, v)
		}
	}
	res, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		t.Fatalf("%s %s: %v", method, url, err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatalf("%s %s: %v", method, url, err)
	}
	return res.StatusCode, string(text), res.Header
}

// TestWebPages holds what a web page of another site cannot do: send help and plan
// calls as text, or lead a browser here under a name of its own.
func TestWebPages(t *testing.T) {
	base, _ := serveAt(t, berths(3, "hosts: [quay.example]\n"), service.Config{}, service.Stop{})
	for _, path := range []string{"/graphql", "/api/v1/plans", "/api/v1/problems", "/api/v1/tidy", "/api/v1/completions", "/api/v1/meaning", "/api/v1/variables/problems", "/api/v1/variables/completions"} {
		body := `{"query": "{ berths { id } }", "at": 3}`
		for contentType, want := range map[string]int{"application/json": 200, "application/json; charset=utf-8": 200, "text/plain": 415, "": 415, "application/x-www-form-urlencoded": 415, "application/json; charset=latin1": 415} {
			header := map[string]string{}
			if contentType != "" {
				header["Content-Type"] = contentType
			}
			if status, text, _ := send(t, "POST", base+path, body, header); status != want {
				t.Errorf("%s as %q answers %d %s", path, contentType, status, text)
			}
		}
	}
	for host, want := range map[string]int{"": 200, "localhost": 200, "LOCALHOST:7420": 200, "127.0.0.1:1": 200, "[::1]:80": 200, "port.example": 200, "quay.example:8080": 200,
		"localhost.": 200, "quay.example.:8080": 200, ".": 421, "evil.example": 421, "quay.example.evil.example": 421, "localhost.evil.example:80": 421, "192.168.0.9": 200} {
		for _, path := range []string{"/graphql?query={berths{id}}", "/schema.graphql", "/live", "/api/v1/status"} {
			if status, text, _ := send(t, "GET", base+path, "", map[string]string{"Host": host}); status != want {
				t.Errorf("%s for the host %q answers %d %s", path, host, status, text)
			}
		}
	}
	conn, err := net.Dial("tcp", strings.TrimPrefix(base, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprint(conn, "GET /live HTTP/1.0\r\n\r\n") // as a balancer's probe that names no host
	if line, err := bufio.NewReader(conn).ReadString('\n'); err != nil || !strings.Contains(line, " 200 ") {
		t.Errorf("without a host it answers %q, %v", line, err)
	}
	for _, path := range []string{"/graphql?query={berths{id}}", "/graphql?query={x}", "/nothing", "/live", "/schema.graphql", "/api/v1/status"} {
		_, _, h := send(t, "GET", base+path, "", nil)
		if h.Get("X-Content-Type-Options") != "nosniff" || !strings.Contains(h.Get("Content-Security-Policy"), "default-src 'none'") || h.Get("Cross-Origin-Resource-Policy") != "same-origin" {
			t.Errorf("%s has the headers %v", path, h)
		}
	}
}

// TestPlacesBeyondTheText asks for help at places that no text has.
func TestPlacesBeyondTheText(t *testing.T) {
	base, _ := serveAt(t, berths(3, ""), service.Config{}, service.Stop{})
	start := time.Now()
	for _, path := range []string{"completions", "meaning", "problems"} {
		for _, at := range []string{"9223372036854775807", "-9223372036854775808", "1000000", "0"} {
			if status, text, _ := send(t, "POST", base+"/api/v1/"+path, `{"query": "{ berths { id } }", "at": `+at+`}`, map[string]string{"Content-Type": "application/json"}); status != 200 {
				t.Errorf("%s at %s answers %d %s", path, at, status, text)
			}
		}
	}
	if took := time.Since(start); took > 5*time.Second {
		t.Errorf("it took %s", took)
	}
}

// TestLargeBody holds that a body that is too large is answered, also where its
// sender sends all of it before reading.
func TestLargeBody(t *testing.T) {
	base, _ := serveAt(t, berths(3, ""), service.Config{MaxBody: 1000}, service.Stop{})
	for _, size := range []int{1001, 100_000, 10 << 20} {
		for range 5 {
			conn, err := net.Dial("tcp", strings.TrimPrefix(base, "http://"))
			if err != nil {
				t.Fatal(err)
			}
			conn.SetDeadline(time.Now().Add(20 * time.Second))
			demotest.Post(conn, size, nil)
			if _, err := conn.Write(bytes.Repeat([]byte(" "), size)); err != nil {
				t.Errorf("a body of %d bytes cannot be sent: %v", size, err)
			}
			text, err := io.ReadAll(conn)
			if err != nil || !strings.HasPrefix(string(text), "HTTP/1.1 413 ") || !strings.Contains(string(text), "the body is larger than 1000B, which is the limit") {
				t.Errorf("a body of %d bytes is answered with %.200s, %v", size, text, err)
			}
			conn.Close()
		}
	}
}

// TestStatementsAreForThisMachine holds to whom a plan tells what stores are sent.
func TestStatementsAreForThisMachine(t *testing.T) {
	for _, test := range []struct {
		yaml   string
		header map[string]string
		told   bool
	}{
		{"", nil, true},
		{"", map[string]string{"X-Forwarded-For": "10.0.0.9"}, false},
		{"", map[string]string{"Forwarded": "for=10.0.0.9"}, false},
		{"statements: everyone\n", map[string]string{"X-Forwarded-For": "10.0.0.9"}, true},
		{"statements: nobody\n", nil, false},
	} {
		base, stop := serveAt(t, berths(3, test.yaml), service.Config{}, service.Stop{})
		header := map[string]string{"Content-Type": "application/json"}
		for name, v := range test.header {
			header[name] = v
		}
		_, text, _ := send(t, "POST", base+"/api/v1/plans", `{"query": "{ berths { id } }"}`, header)
		if told := strings.Contains(text, `"statement":`); told != test.told || strings.Contains(text, `"statementsHidden":true`) == test.told {
			t.Errorf("with %q and %v: %s", test.yaml, test.header, text)
		}
		stop()
	}
}

// TestStatus reads how the service is.
func TestStatus(t *testing.T) {
	base, _ := serveAt(t, berths(3, "limits: { plans: 2MB }\n"), service.Config{}, service.Stop{})
	send(t, "POST", base+"/graphql", `{"query": "{ berths { id } }"}`, map[string]string{"Content-Type": "application/json"})
	_, text, _ := send(t, "GET", base+"/api/v1/status", "", nil)
	var status struct {
		Stopping bool
		Requests int
		Plans    project.PlansState
		Sources  map[string]struct {
			Kind  string
			Known bool
		}
	}
	if err := json.Unmarshal([]byte(text), &status); err != nil || status.Stopping || status.Requests != 1 || status.Plans.Texts != 1 || status.Plans.Most != 2<<20 || status.Plans.Bytes < 1000 || !status.Sources["s"].Known || status.Sources["s"].Kind != "files" {
		t.Errorf("the status is %s", text)
	}
}

// TestReaderWhoStops holds that a caller who stops reading gives up what the
// answer holds, and that one who reads slowly gets all of it.
func TestReaderWhoStops(t *testing.T) {
	names := ""
	for i := range 60 {
		names += fmt.Sprintf(" n%d: name", i)
	}
	query := `{"query": "{ berths(limit: 5000) { id` + names + ` next { id` + names + ` next { id` + names + ` } } } }"}` // some 20 MB, more than any buffer between holds
	base, _ := serveAt(t, berths(10_000, ""), service.Config{Patience: 300 * time.Millisecond}, service.Stop{})
	begin := func() net.Conn {
		conn, err := net.Dial("tcp", strings.TrimPrefix(base, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		conn.SetDeadline(time.Now().Add(30 * time.Second))
		demotest.Post(conn, len(query), []byte(query))
		return conn
	}
	underWay := func() string {
		_, text, _ := send(t, "GET", base+"/api/v1/status", "", nil)
		_, after, _ := strings.Cut(text, `"requests":`)
		n, _, _ := strings.Cut(after, ",")
		return n
	}
	for range 5 {
		defer begin().Close()
	}
	deadline := time.Now().Add(20 * time.Second)
	for underWay() != "1" {
		if time.Now().After(deadline) {
			t.Fatalf("%s requests are under way long after their readers stopped", underWay())
		}
		time.Sleep(50 * time.Millisecond)
	}
	slow := begin()
	defer slow.Close()
	var all bytes.Buffer
	for {
		n, err := io.CopyN(&all, slow, 1_000_000)
		if err == io.EOF || n == 0 {
			break
		}
		if err != nil {
			t.Fatalf("a slow reader gets %d bytes, and then %v", all.Len(), err)
		}
		time.Sleep(20 * time.Millisecond)
	}
	if !strings.HasSuffix(strings.TrimRight(all.String(), "\r\n0"), "}}") || all.Len() < 10<<20 {
		t.Errorf("a slow reader gets %d bytes that end in %q", all.Len(), all.String()[max(0, all.Len()-40):])
	}
}

// TestStopInOrder stops a service behind a balancer: it says so first, answers
// what still comes, closes each connection behind its answer, and ends.
func TestStopInOrder(t *testing.T) {
	base, stop := serveAt(t, berths(10, ""), service.Config{}, service.Stop{Drain: time.Second})
	client := &http.Client{Transport: &http.Transport{}}
	ask := func() (int, bool, error) {
		res, err := client.Post(base+"/graphql", "application/json", strings.NewReader(`{"query": "{ berths { id } }"}`))
		if err != nil {
			return 0, false, err
		}
		defer res.Body.Close()
		io.Copy(io.Discard, res.Body)
		return res.StatusCode, res.Close, nil
	}
	if status, closes, err := ask(); status != 200 || closes || err != nil {
		t.Fatalf("before: %d, closes %t, %v", status, closes, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- stop() }()
	for {
		if status, text, _ := send(t, "GET", base+"/ready", "", nil); status == 503 {
			if text != `{"ready":false,"stopping":true}` {
				t.Errorf("/ready says %s", text)
			}
			break
		}
	}
	answered := 0
	for range 20 {
		status, closes, err := ask()
		if err != nil || status != 200 || !closes {
			t.Errorf("while it stops: %d, closes %t, %v", status, closes, err)
		}
		answered++
		time.Sleep(10 * time.Millisecond)
	}
	if err := <-ended; err != nil {
		t.Errorf("it ended with %v", err)
	}
	if _, _, err := ask(); err == nil {
		t.Errorf("it answers after it has ended; before, it answered %d", answered)
	}
}

// TestStopCutsOff stops a service while a request takes longer than it may: the
// stop says so, and the caller sees that the answer breaks off.
func TestStopCutsOff(t *testing.T) {
	asked, release := make(chan bool, 1), make(chan bool)
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked <- true
		<-release
	}))
	defer slow.Close()
	defer close(release)
	files := berths(3, "  away: { kind: rest, url: \""+slow.URL+"\", retries: 0, timeout: 20s, sets: { things: { key: id, fields: { id: text }, reads: [{ get: /things }] } } }\n")
	files["schema/a.graphql"] += "\nextend type Query { things: [Thing] @read }\ntype Thing @stored(in: \"away\", as: \"things\", key: \"id\") { id: ID! }"
	base, stop := serveAt(t, files, service.Config{}, service.Stop{Within: 300 * time.Millisecond})
	got := make(chan error, 1)
	go func() {
		_, err := http.Post(base+"/graphql", "application/json", strings.NewReader(`{"query": "{ things { id } }"}`))
		got <- err
	}()
	<-asked
	if err := stop(); err == nil || err.Error() != "the service stopped before everything had ended: 1 of the requests under way took longer than 300ms and were cut off" {
		t.Errorf("the stop says %v", err)
	}
	if err := <-got; err == nil {
		t.Error("the caller got an answer")
	}
}

// A syncBuffer takes a log.
type syncBuffer struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (b *syncBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.Write(p)
}

func (b *syncBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}

// TestLogHasTheRequest holds that what fails at a store is logged with the id that
// the caller was given, and at most so many lines at once.
func TestLogHasTheRequest(t *testing.T) {
	var log syncBuffer
	dir := berths(3, "  away: { kind: rest, url: \"http://127.0.0.1:1\", retries: 0, sets: { things: { key: id, fields: { id: text }, reads: [{ get: /things }] } } }\n")
	dir["schema/a.graphql"] += "\nextend type Query { things: [Thing] @read }\ntype Thing @stored(in: \"away\", as: \"things\", key: \"id\") { id: ID! }"
	p, _, err := project.Open(context.Background(), demotest.Folder(t, dir), slog.New(slog.NewTextHandler(&log, nil)))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	s := service.New(service.Config{Project: p, Log: slog.New(slog.DiscardHandler)})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: s}
	go server.Serve(l)
	defer server.Close()
	for i := range 200 {
		send(t, "POST", "http://"+l.Addr().String()+"/graphql", `{"query": "{ things { id } }"}`, map[string]string{"Content-Type": "application/json", "X-Request-Id": fmt.Sprintf("call-%d", i)})
	}
	lines := strings.Count(log.String(), "a store request failed")
	if !strings.Contains(log.String(), "request=call-0 ") || lines < 20 || lines > 40 {
		t.Errorf("%d lines: %.600s", lines, log.String())
	}
}
