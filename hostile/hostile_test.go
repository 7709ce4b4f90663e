// Package hostile has no code: its tests send a service what a stranger would
// send, and look at what that costs the process: processor time and memory. Bounds
// are wide enough for a slow machine; what they are there for is far beyond them.
package hostile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "osprey" // so that these tests run anew when the service has changed, which they build
	"osprey/demo/demotest"
)

func TestMain(m *testing.M) { demotest.Main(m) }

// A process is a service over the harbour, as "osprey start" runs it.
type process struct {
	t    *testing.T
	pid  int
	base string
}

func start(t *testing.T) *process {
	t.Helper()
	program := filepath.Join(t.TempDir(), "osprey")
	build := exec.Command("go", "build", "-o", program, "./cmd/osprey")
	build.Dir = demotest.Root()
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	cmd := exec.Command(program, "start", "demo/harbour", "--listen", address)
	cmd.Dir = demotest.Root()
	cmd.Env = os.Environ()
	for name, value := range demotest.Harbour().Environ() {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	var log bytes.Buffer
	cmd.Stderr = &log
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		select {
		case err := <-ended:
			t.Errorf("the service ended by itself: %v\n%.3000s", err, log.String())
		default:
			cmd.Process.Kill()
			<-ended
		}
		if strings.Contains(log.String(), "panic") {
			t.Errorf("the log has a panic: %.3000s", log.String())
		}
	})
	p := &process{t, cmd.Process.Pid, "http://" + address}
	for range 200 {
		if res, err := http.Get(p.base + "/live"); err == nil {
			res.Body.Close()
			return p
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("the service does not start: %s", log.String())
	return nil
}

// processor returns the processor time that the process has used.
func (p *process) processor() time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.pid))
	if err != nil {
		p.t.Fatal(err)
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond // clock ticks, of which Linux has 100
}

// memory returns how many bytes of memory the process has now, or had at most.
func (p *process) memory(what string) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.pid))
	if err != nil {
		p.t.Fatal(err)
	}
	_, after, _ := strings.Cut(string(text), what+":")
	kilobytes, _ := strconv.ParseInt(strings.Fields(after)[0], 10, 64)
	return kilobytes << 10
}

// forget makes the memory at most what it is now.
func (p *process) forget() {
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", p.pid), []byte("5"), 0o200); err != nil {
		p.t.Fatal(err)
	}
}

// post sends a body; it returns the status and the answer, or as much of it as
// came.
func (p *process) post(path string, body []byte) (int, []byte) {
	p.t.Helper()
	client := &http.Client{Timeout: 2 * time.Minute}
	res, err := client.Post(p.base+path, "application/json", bytes.NewReader(body))
	if err != nil {
		p.t.Errorf("%s: %v", path, err)
		return 0, nil
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		p.t.Errorf("%s: the answer breaks off after %d bytes: %v", path, len(text), err)
	}
	return res.StatusCode, text
}

func (p *process) ask(query string, variables map[string]any) (int, []byte) {
	p.t.Helper()
	body, err := json.Marshal(map[string]any{"query": query, "variables": variables})
	if err != nil {
		p.t.Fatal(err)
	}
	return p.post("/graphql", body)
}

// repeat writes a text many times, with its number for each %d.
func repeat(n int, form string) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.ReplaceAll(form, "%d", strconv.Itoa(i)))
	}
	return b.String()
}

// below nests a selection.
func below(levels int, open, inside string) string {
	return strings.Repeat(open+" { ", levels) + inside + strings.Repeat(" }", levels)
}

// TestSmallRequests sends requests of some bytes, or at most a body's worth, that
// ask for much. Each is answered with a word, or with an answer within its limit.
func TestSmallRequests(t *testing.T) {
	p := start(t)
	p.ask("{ quays { name } }", nil)
	for _, test := range []struct {
		name      string
		query     string
		variables map[string]any
		want      string // in the answer
		processor time.Duration
		memory    int64 // MB more at most
	}{
		{"introspection inside itself", "{ __schema { types { " + below(12, "possibleTypes { interfaces", "name") + strings.Repeat(" }", 12) + " } } }", nil, "asks for more of the schema than", 3, 150},
		{"introspection again and again", "{ " + repeat(1500, "a%d: __schema { types { name fields { name } } } ") + "}", nil, "asks for more of the schema than", 3, 150},
		{"introspection of much that is left out", "{ __schema { types { " + below(3, "possibleTypes { interfaces", "fields { "+strings.Repeat("__typename @skip(if: true) ", 18_000)+"}") + strings.Repeat(" }", 3) + " } } }", nil, `{"data":`, 3, 150},
		{"introspection of one field again and again", "{ __schema { types { " + below(3, "possibleTypes { interfaces", "fields { "+strings.Repeat("name ", 18_000)+"}") + strings.Repeat(" }", 3) + " } } }", nil, `{"data":`, 3, 150},
		{"lists in lists", "{ portCalls(limit: 4000) { craft { calls(limit: 100) { craft { calls(limit: 100) { craft { name calls(limit: 100) { id } } } } } } } }", nil, "records", 20, 900},
		{"lists in lists without limits", "{ quays { " + below(12, "berths { quay", "name") + strings.Repeat(" }", 12) + " } }", nil, "answered more than 1000000 records, which is the limit", 20, 900},
		{"a large answer", "{ portCalls(limit: 4000) { craft { " + repeat(900, "a%d: name ") + "} } }", nil, "the answer would be larger than 64MB, which is the limit", 10, 500},
		{"one list many times", "{ " + repeat(3000, "f%d: fleet(limit: 10000) { imo } ") + "}", nil, "LIMIT", 5, 300},
		{"one list many times, without a limit", "{ " + repeat(400, "f%d: stations { "+strings.Repeat("quays { berths { quay { station { ", 2)+"name"+strings.Repeat(" } } } }", 2)+" } ") + "}", nil, "", 30, 900},
		{"unknown fields", "{ " + strings.Repeat("a ", 400_000) + "}", nil, "there may be more than these 100 problems", 5, 300},
		{"one known field", "{ " + strings.Repeat("port ", 190_000) + "}", nil, "takes more work to check", 5, 400},
		{"aliases", "{ " + repeat(60_000, "a%d: port ") + "}", nil, "asks for more than 20000 fields", 8, 500},
		{"types in types", "{ fleet(limit: 1) { " + strings.Repeat("calls(limit: 1) { craft { ", 12) + "name" + strings.Repeat(" } }", 12) + " } }", nil, "asks for more than 20000 fields", 3, 100},
		{"types in types, as deep as they may be", "{ fleet(limit: 1) { " + strings.Repeat("calls(limit: 1) { craft { ", 5) + "name" + strings.Repeat(" } }", 5) + " } }", nil, `{"data":{"fleet":[`, 3, 150},
		{"relations", "{ quays { " + repeat(9000, "a%d: berths { name } ") + "} }", nil, "", 20, 700},
		{"roots", "{ " + repeat(3500, "a%d: craft(imo: %d) { name } ") + "}", nil, "", 20, 900},
		{"fragments that explode", "{ ...F0 } " + repeat(60, "fragment F%d on Query { a%d: port ...G%d b%d: port ...G%d } fragment G%d on Query { c%d: port } "), nil, "", 3, 100},
		{"a circle of fragments", "{ ...F0 } " + repeat(9000, "fragment F%d on Query { port ...F%d } "), nil, "contains itself", 5, 300},
		{"nothing but braces", strings.Repeat("{", 900_000), nil, "SYNTAX", 3, 300},
		{"nothing but faults", strings.Repeat("{ ] } ", 150_000), nil, "there may be more than these 100 problems", 5, 300},
		{"a long string", `{ search(filter: {name: {is: "` + strings.Repeat("x", 900_000) + `"}}) { name } }`, nil, "", 5, 300},
		{"long names", "{ " + strings.Repeat("x", 400_000) + " " + strings.Repeat("y", 400_000) + " }", nil, "INVALID", 3, 200},
		{"variables", "query (" + repeat(20_000, "$v%d: Int ") + ") { port }", nil, "there may be more than these 100 problems", 5, 300},
		{"many keys", "query ($k: [ID!]) { portCalls(filter: {id: {in: $k}}) { id } }", map[string]any{"k": strings.Split(strings.TrimRight(repeat(90_000, "%d,"), ","), ",")}, `"portCalls"`, 10, 500},
		{"a wide filter", "{ fleet(filter: {any: [" + strings.Repeat("{name: {is: \"x\"}},", 40_000) + "]}) { name } }", nil, "", 10, 500},
		{"a deep filter", "{ fleet(filter: " + strings.Repeat("{not: ", 300) + "{name: {is: \"x\"}}" + strings.Repeat("}", 300) + ") { name } }", nil, "nested more than", 5, 200},
		{"a place of two thousand millions", "{ fleet(limit: 2000000000, offset: 2000000000) { name } }", nil, "must be at most 10000", 3, 100},
		{"null for a limit", "{ a: portCalls(limit: null) { " + "craft { name } } }", nil, `"a":[`, 10, 300},
		{"an offset beyond everything", "{ portCalls(offset: 2147483647) { id } }", nil, `{"data":{"portCalls":[]}}`, 3, 100},
	} {
		time.Sleep(20 * time.Millisecond)
		p.forget()
		memory, before := p.memory("VmRSS"), p.processor()
		began := time.Now()
		status, text := p.ask(test.query, test.variables)
		took, grown := p.processor()-before, (p.memory("VmHWM")-memory)>>20
		if status != 200 || !json.Valid(text) || !strings.Contains(string(text), test.want) {
			t.Errorf("%s: answers %d %.300s", test.name, status, text)
		}
		if len(text) > 65<<20 || status == 200 && strings.Contains(string(text), `"errors"`) && len(text) > 400_000 {
			t.Errorf("%s: the answer has %d bytes: %.300s", test.name, len(text), text)
		}
		if took > test.processor*time.Second || grown > test.memory {
			t.Errorf("%s (%d bytes): took %s of the processor and %d MB; allowed are %d s and %d MB: %.200s", test.name, len(test.query), took, grown, test.processor, test.memory, text)
		}
		t.Logf("%-36s %8d bytes → %9d, %6s of the processor, %6s, %4d MB", test.name, len(test.query), len(text), took, time.Since(began).Round(time.Millisecond), grown)
	}
}

// TestHelpCalls asks for help at places, and for texts, that nobody writes.
func TestHelpCalls(t *testing.T) {
	p := start(t)
	before := p.processor()
	for _, path := range []string{"completions", "meaning", "problems", "plans"} {
		for _, body := range []string{
			`{"query": "{ quays { name } }", "at": 9223372036854775807}`,
			`{"query": "{ quays { name } }", "at": -9223372036854775808}`,
			`{"query": "` + strings.Repeat("{ quays ", 20_000) + `", "at": 160000}`,
			`{"query": "{ ` + strings.Repeat("quays ", 100_000) + `}", "at": 600000}`,
			`{"query": "` + strings.Repeat("(", 500_000) + `", "at": 499999}`,
			`{"query": "` + strings.Repeat(`\"`, 300_000) + `", "at": 5}`,
			strings.Repeat("[", 900_000),
			`{"query": 5}`, `null`, ``,
		} {
			if status, text := p.post("/api/v1/"+path, []byte(body)); status >= 500 {
				t.Errorf("%s of %.60s answers %d %.200s", path, body, status, text)
			}
		}
	}
	if took := p.processor() - before; took > 20*time.Second {
		t.Errorf("it took %s of the processor", took)
	}
}

// TestManyTexts sends some hundred large texts, all different: what is kept of them
// is bounded.
func TestManyTexts(t *testing.T) {
	p := start(t)
	p.ask("{ quays { name } }", nil)
	memory := p.memory("VmRSS")
	for i := range 700 {
		var text string
		switch {
		case i < 100: // of some 200 kB
			text = fmt.Sprintf("query Q%d { quays { ", i) + repeat(6000, fmt.Sprintf("some_long_alias_of_a_field_%dx%%d: name ", i)) + "} }"
		case i%2 == 0:
			text = fmt.Sprintf("query Q%d { ", i) + repeat(700, fmt.Sprintf("a%dx%%d: port ", i)) + "}"
		default:
			text = fmt.Sprintf("query Q%d { quays { ", i) + repeat(400, fmt.Sprintf("a%dx%%d: berths { name } ", i)) + "} }"
		}
		if status, answer := p.ask(text, nil); status != 200 || !bytes.HasPrefix(answer, []byte(`{"data":{`)) {
			t.Fatalf("answers %d %.200s", status, answer)
		}
	}
	_, text := get(t, p.base+"/api/v1/status")
	if grown := (p.memory("VmRSS") - memory) >> 20; grown > 400 || !strings.Contains(text, `"most":67108864`) || strings.Contains(text, `"texts":1,`) {
		t.Errorf("the process has grown by %d MB: %s", grown, text)
	} else {
		t.Logf("grown by %d MB: %s", grown, text)
	}
}

func get(t *testing.T, url string) (int, string) {
	t.Helper()
	res, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(text)
}

// TestMemoryGoesBack has callers ask for the largest answers that they may get, all
// at once; afterwards the process is nearly what it was.
func TestMemoryGoesBack(t *testing.T) {
	p := start(t)
	p.ask("{ quays { name } }", nil)
	before := p.memory("VmRSS")
	names := repeat(70, " n%d: name")
	var wait sync.WaitGroup
	for range 6 {
		wait.Go(func() {
			p.ask("{ portCalls(limit: 4000) { craft {"+names+" operator {"+names+" } } pilots {"+names+" } } }", nil)
		})
	}
	wait.Wait()
	most := p.memory("VmHWM")
	for range 60 {
		if p.memory("VmRSS") < before+150<<20 {
			break
		}
		time.Sleep(time.Second)
		p.ask("{ quays { name } }", nil)
	}
	t.Logf("%d MB before, %d at most, %d afterwards", before>>20, most>>20, p.memory("VmRSS")>>20)
	if now := p.memory("VmRSS"); now > before+200<<20 {
		t.Errorf("the process had %d MB before, %d at most, and has %d", before>>20, most>>20, now>>20)
	}
}

// TestHangingUp has callers hang up in the middle of work that takes long: it ends
// soon.
func TestHangingUp(t *testing.T) {
	p := start(t)
	p.ask("{ quays { name } }", nil)
	body, err := json.Marshal(map[string]any{"query": "{ quays { berths { quay { berths { quay { berths { quay { berths { quay { berths { quay { berths { quay { berths { name } } } } } } } } } } } } } } }"})
	if err != nil {
		t.Fatal(err)
	}
	for range 20 {
		conn, err := net.Dial("tcp", strings.TrimPrefix(p.base, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		demotest.Post(conn, len(body), body)
		time.Sleep(20 * time.Millisecond)
		conn.Close()
	}
	deadline := time.Now().Add(20 * time.Second)
	for time.Now().Before(deadline) {
		before := p.processor()
		time.Sleep(500 * time.Millisecond)
		if p.processor()-before < 100*time.Millisecond {
			return
		}
	}
	t.Error("the process still works for callers who have hung up")
}
