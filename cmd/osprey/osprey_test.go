package main_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"osprey/demo/demotest"
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "osprey-cmd-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "osprey")
	if out, err := exec.Command("go", "build", "-o", program, ".").CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v\n%s", err, out))
	}
	demotest.Main(m) // exits; the system cleans its folder of temporary files
}

// osprey runs the program as a person does, from the folder of the sources.
func osprey(t *testing.T, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	return ospreyIn(t, demotest.Root(), args...)
}

// ospreyIn runs it in a folder.
func ospreyIn(t *testing.T, dir string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = dir
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// start runs "osprey start" over the harbour until the test ends.
func start(t *testing.T) string {
	t.Helper()
	address := freeAddress(t)
	cmd := exec.Command(program, "start", "demo/harbour", "--listen", address)
	cmd.Dir = demotest.Root()
	var errs bytes.Buffer
	cmd.Stderr = &errs
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			t.Errorf("the service did not stop well: %v\n%s", err, errs.String())
		}
	})
	// A store that is slow to tell its catalogue is tried again in two seconds.
	waitUntil(t, "the service and its stores are ready", func() bool {
		res, err := http.Get("http://" + address + "/ready")
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == http.StatusOK
	})
	return "http://" + address
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func waitUntil(t *testing.T, what string, done func() bool) {
	t.Helper()
	for deadline := time.Now().Add(60 * time.Second); !done(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("waited a minute until %s", what)
		}
	}
}

const boardFile = "demo/harbour/operations/Board.graphql"

// TestAskAndExplain runs the two on a service and on a project in the process.
func TestAskAndExplain(t *testing.T) {
	demotest.Setenv(t)
	url := start(t)
	for _, where := range [][]string{{"--url", url}, {"--project", "demo/harbour"}} {
		out, errs, code := osprey(t, append([]string{"ask", "-f", boardFile, "--var", "limit=3", "--calls", "--as", "tree"}, where...)...)
		if code != 0 || !strings.Contains(out, "4 store requests in 2 waves") || !strings.Contains(out, "portCalls\n  • id  4000\n") {
			t.Errorf("ask %v exits with %d:\n%s\n%s", where, code, out, errs)
		}
		out, errs, code = osprey(t, append([]string{"explain", "-f", boardFile}, where...)...)
		if code != 0 || !strings.HasPrefix(out, "4 store requests in 2 waves\n") || strings.Contains(out, "SELECT") {
			t.Errorf("explain %v exits with %d:\n%s\n%s", where, code, out, errs)
		}
		out, _, code = osprey(t, append([]string{"explain", "--statements", "{ quays { name } }"}, where...)...)
		if code != 0 || !strings.Contains(out, `FROM "quays"`) {
			t.Errorf("explain --statements %v exits with %d:\n%s", where, code, out)
		}
	}
	out, _, code := osprey(t, "ask", "{ quays { name code } }", "--as", "table", "--url", url)
	if code != 0 || !strings.Contains(out, "name           code\nOld Quay       Q1\n") {
		t.Errorf("a table is\n%s", out)
	}
	out, _, code = osprey(t, "ask", "query ($c: [ID!]) { stations(code: $c) { code } }", "--var", "c=SKE", "--url", url)
	if code != 0 || !strings.Contains(out, `"code": "SKE"`) {
		t.Errorf("the answer without a terminal is not JSON:\n%s", out)
	}
	out, _, code = osprey(t, "explain", "--format", "json", "{ quays { station { contact { officer } } } }", "--url", url)
	if code != 0 || !strings.Contains(out, `"eachKey": true`) {
		t.Errorf("explain --format json is\n%s", out)
	}
}

// TestWrongUse holds the codes and the words of what goes wrong.
func TestWrongUse(t *testing.T) {
	demotest.Setenv(t)
	url := start(t)
	nobody := "http://" + freeAddress(t)
	for _, test := range []struct {
		args []string
		code int
		errs string
	}{
		{[]string{"ask", "{ quayz { name } }", "--url", url}, 1, "operation:1:3: error: Query has no field \"quayz\"; did you mean \"quays\"? [INVALID]\n  { quayz { name } }\n    ^\n"},
		{[]string{"ask", "{ quays { name }", "--url", url}, 1, "operation:1:17: error: expected \"}\" after the selected fields, found the end of the document"},
		{[]string{"ask", "{ portCalls(limit: -1) { id } }", "--url", url}, 1, "  at portCalls\n"},
		{[]string{"explain", "{ quayz { name } }", "--url", url}, 1, "did you mean \"quays\"?"},
		{[]string{"ask", "{ a }", "--url", nobody}, 3, "no service answers at " + nobody},
		{[]string{"explain", "{ a }", "--url", nobody}, 3, "Start one with \"osprey demo\""},
		{[]string{"ask", "{ a }", "--url", "harbour"}, 2, "\"harbour\" is no address of a service, such as"},
		{[]string{"ask"}, 2, "give an operation"},
		{[]string{"ask", "-f", "nowhere.graphql"}, 2, "the operation cannot be read"},
		{[]string{"ask", "-f", boardFile, "{ a }"}, 2, "not both"},
		{[]string{"ask", "-f", boardFile, "--var", "limi=5"}, 2, "the operation declares no variable $limi; did you mean \"limit\"?"},
		{[]string{"ask", "-f", boardFile, "--var", "limit=five"}, 2, "the variable $limit of the type Int does not fit: \"five\" is not JSON"},
		{[]string{"ask", "-f", boardFile, "--var", "limit"}, 2, "--var is name=value"},
		{[]string{"ask", "{ a }", "--as", "pie"}, 2, "--as is tree, table or json"},
		{[]string{"ask", "--nope"}, 2, "there is no option --nope; osprey ask --help lists them"},
		{[]string{"ask", "--url"}, 2, "the option --url needs a value"},
		{[]string{"demo", "--port", "x"}, 2, "\"x\" is no value for the option --port"},
		{[]string{"demo", "x"}, 2, "the demo takes no arguments"},
		{[]string{"ask", "{", "a", "}"}, 2, "expected one operation, found 3 arguments; quote it"},
		{[]string{"ask", "{ a }", "--url", nobody}, 3, "connection refused\n"},
		{[]string{"check", "--types-only", "nowhere"}, 2, "nowhere: no such file or directory"},
		{[]string{"check", "demo/harbour", "--operations", "nowhere"}, 2, "nowhere: no such file or directory"},
		{[]string{"check", "README.md"}, 2, "README.md is no project"},
		{[]string{"tidy", "nowhere"}, 2, "nowhere cannot be read: no such file"},
		{[]string{"new"}, 2, "say which folder to make"},
		{[]string{"new", "demo"}, 2, "demo is not empty; nothing was written"},
		{[]string{"asc"}, 2, "there is no command \"asc\""},
		{[]string{"check", "nowhere"}, 2, "nowhere is no project: it has no osprey.yaml"},
		{[]string{"check", "a", "b"}, 2, "expected one folder"},
		{[]string{"start", "nowhere"}, 2, "nowhere is no project"},
		{[]string{"ask", "--project", "nowhere", "{ a }"}, 2, "nowhere is no project"},
		{[]string{"start", "demo/harbour", "--listen", "quay"}, 2, "it cannot listen on quay: an address is like 127.0.0.1:7420"},
		{[]string{"start", "demo/harbour", "--listen", "127.0.0.1:99999"}, 2, "an address is like"},
		{[]string{"completion", "tcsh"}, 2, "completion is for bash, zsh, fish and pwsh, found \"tcsh\""},
		{[]string{"start", "demo/harbour", "--listen", strings.TrimPrefix(url, "http://")}, 3, "is taken: stop what listens there"},
		{[]string{"demo", "--port", "80"}, 2, "--port is a number from 1024"},
		{[]string{"demo", "--project", "nowhere"}, 2, "nowhere is no project"},
	} {
		_, errs, code := osprey(t, test.args...)
		if code != test.code || !strings.Contains(errs, test.errs) {
			t.Errorf("osprey %q exits with %d:\n%s\nwant %d: %s", test.args, code, errs, test.code, test.errs)
		}
	}
}

// TestCheck checks sound and unsound projects.
func TestCheck(t *testing.T) {
	demotest.Setenv(t)
	out, errs, code := osprey(t, "check", "demo/harbour")
	if code != 0 || !strings.Contains(out, "0 errors, 2 warnings") {
		t.Errorf("check of the harbour exits with %d:\n%s%s", code, out, errs)
	}
	if out, _, code = osprey(t, "check", "--types-only", "demo/harbour"); code != 0 || !strings.Contains(out, "no problems found") {
		t.Errorf("check --types-only exits with %d:\n%s", code, out)
	}
	const yaml = "sources:\n  registry:\n    kind: postgres\n    url: ${REGISTRY_URL}\n    naming: snake\n"
	for _, test := range []struct {
		name  string
		files map[string]string
		code  int
		want  string
	}{
		{"a column that is not there", map[string]string{"osprey.yaml": yaml, "schema/a.graphql": "type Query { craft: [Craft!]! @read }\ntype Craft @stored(in: \"registry\", as: \"craft\") {\n  nam: String\n}\n"}, 1,
			"schema/a.graphql:3:3: error: the column of Craft.nam is \"nam\", which the table craft in registry does not have; did you mean \"name\"? [column]\n    nam: String\n    ^\n"},
		{"a wrong operation", map[string]string{"osprey.yaml": yaml, "schema/a.graphql": "type Query { craft: [Craft!]! @read }\ntype Craft @stored(in: \"registry\", as: \"craft\") { name: String! }", "operations/X.graphql": "{ craft { nam } }"}, 1,
			"operations/X.graphql:1:11: error: Craft has no field \"nam\""},
		{"several faults", map[string]string{"osprey.yaml": yaml, "schema/a.graphql": "type Query { a: Int, b: Strng }", "schema/b.graphql": "type A { x Int }"}, 1, "2 errors"},
		{"a wrong kind", map[string]string{"osprey.yaml": "sources:\n  a:\n    kind: postgress\n    url: x\n", "schema/a.graphql": "type Query { a: Int }"}, 1,
			"osprey.yaml:2:3: error: the source a is of the kind \"postgress\"; did you mean \"postgres\"?"},
		{"a wrong word", map[string]string{"osprey.yaml": "sources:\n  a:\n    kind: postgres\n    adress: x\n"}, 1, "osprey.yaml:4:5: error: the source a has no key \"adress\""},
		{"no YAML", map[string]string{"osprey.yaml": "sources: [\n"}, 1, "osprey.yaml:"},
		{"a variable that is not set", map[string]string{"osprey.yaml": "sources:\n  a:\n    kind: postgres\n    url: ${NOWHERE_URL}\n", "schema/a.graphql": "type Query { a: Int }"}, 1,
			"osprey.yaml:4:10: error: the environment variable NOWHERE_URL, which the source a needs, is not set"},
		{"a project of expressions alone", map[string]string{"osprey.yaml": "listen: 127.0.0.1:1\n", "schema/a.graphql": "type Query { tons(kg: Float!): Float @computed(expr: \"args.kg / 1000.0\") }"}, 0, "no problems found"},
		{"a store without sources", map[string]string{"osprey.yaml": "listen: 127.0.0.1:1\n", "schema/a.graphql": "type Query { a: [A!] @read } type A @stored(in: \"a\") { b: Int }"}, 1, "A is stored in \"a\", which is no source"},
		{"a wrong address", map[string]string{"osprey.yaml": "sources:\n  a:\n    kind: rest\n    url: harbour\n", "schema/a.graphql": "type Query { a: Int }"}, 1, "the address is not of the form http://host/path"},
		{"a wrong field", map[string]string{"osprey.yaml": "sources:\n  a:\n    kind: rest\n    url: http://x\n    sets:\n      s:\n        fields: { a: txt }\n", "schema/a.graphql": "type Query { a: Int }"}, 1, "the field a is of the kind \"txt\""},
		{"a store that is down", map[string]string{"osprey.yaml": "sources:\n  a:\n    kind: postgres\n    url: postgres://127.0.0.1:1/x\n", "schema/a.graphql": "type Query { a: [A!] @read }\ntype A @stored(in: \"a\") { b: Int }"}, 3, "0 errors, 1 warning; 1 source not checked"},
		{"a service that refuses the token", map[string]string{"osprey.yaml": "sources:\n  tides:\n    kind: rest\n    url: ${TIDES_URL}\n    headers: { Authorization: wrong }\n    sets:\n      stations: { key: code, fields: { code: text }, reads: [{ get: \"/stations{?code*}\", many: code, pick: \"$.results[*]\" }] }\n", "schema/a.graphql": "type Query { a: [A!] @read }\ntype A @stored(in: \"tides\", as: \"stations\") { code: String }"}, 1,
			"error: the records of A cannot be read from stations in tides: it refuses who asks (status 401)"},
		{"a pick that finds nothing", map[string]string{"osprey.yaml": "sources:\n  tides:\n    kind: rest\n    url: ${TIDES_URL}\n    headers: { Authorization: \"Bearer ${TIDES_TOKEN:-skerrow-tides}\" }\n    sets:\n      stations: { key: code, fields: { code: text }, reads: [{ get: \"/stations{?code*}\", many: code, pick: \"$.result[*]\" }] }\n", "schema/a.graphql": "type Query { a: [A!] @read }\ntype A @stored(in: \"tides\", as: \"stations\") { code: String }"}, 1,
			"error: the records of A cannot be read from stations in tides: it answered something without the records that were asked for"},
		{"a kind that no type claims", map[string]string{"osprey.yaml": yaml, "schema/a.graphql": "type Query { a: [I!] @read }\ninterface I @stored(in: \"registry\", as: \"pilots\") @kind(by: \"licence\") { name: String! }\ntype A implements I @kind(is: \"A\") { name: String! }"}, 0,
			"I has no type for the records of pilots whose licence is \"SK-100\"; they will be errors where they are read"},
	} {
		t.Run(test.name, func(t *testing.T) {
			out, errs, code := osprey(t, "check", demotest.Folder(t, test.files))
			if code != test.code || !strings.Contains(out+errs, test.want) {
				t.Errorf("check exits with %d:\n%s%s\nwant %d: %s", code, out, errs, test.code, test.want)
			}
		})
	}
	// Whatever ails a source when it is looked at is one finding, and nothing is derived
	// from what it would have told.
	registry := os.Getenv("REGISTRY_URL")
	for url, why := range map[string]string{
		regexp.MustCompile("//.*@").ReplaceAllString(registry, "//harbour:wrong@"): "it refuses the user or the password",
		registry + "x":                           "it has no database of this name",
		"postgres://harbour@127.0.0.1:1/harbour": "it cannot be reached (127.0.0.1:1: connection refused)",
	} {
		t.Setenv("REGISTRY_URL", url)
		out, errs, code = osprey(t, "check", "demo/harbour")
		if code != 3 || !strings.Contains(out, "0 errors, 2 warnings; 1 source not checked") || strings.Count(out, "the source registry") != 1 || !strings.Contains(out, why) {
			t.Errorf("check with the registry at %s exits with %d:\n%s%s", url, code, out, errs)
		}
	}
	t.Setenv("REGISTRY_URL", registry)
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": yaml, "schema/a.graphql": "type Query { a: Strng }"})
	out, _, code = osprey(t, "check", "--types-only", "--format", "json", dir)
	if code != 1 || !strings.Contains(out, `"severity": "error"`) || !strings.Contains(out, `"line": 1`) || !strings.Contains(out, `"column": 17`) {
		t.Errorf("check --format json exits with %d:\n%s", code, out)
	}
}

// TestCheckOperations checks a client team's operations against types alone.
func TestCheckOperations(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"port.graphql":  "type Query { craft(imo: ID!): Craft quays: [Quay!]! }\ntype Craft { name: String! }\ntype Quay { name: String! }\n",
		"ops/A.graphql": "query A { quays { name } }\n",
		"ops/B.graphql": "query A {\n  quayz { name }\n  craft { nam }\n}\n",
		"ops/C.graphql": "{ quays { name }\n",
		"bad.graphql":   "type Query { a: Strng }\n",
		"none.graphql":  "type Port { a: Int }\n",
	})
	types := filepath.Join(dir, "port.graphql")
	out, errs, code := osprey(t, "check", "--types-only", types, "--operations", filepath.Join(dir, "ops"))
	for _, want := range []string{
		"ops/B.graphql:2:3: error: Query has no field \"quayz\"; did you mean \"quays\"? [Field Selections]\n    quayz { name }\n    ^\n",
		"ops/B.graphql:3:3: error: Query.craft needs the argument \"imo\" of the type ID! [Required Arguments]",
		"ops/B.graphql:3:11: error: Craft has no field \"nam\"; did you mean \"name\"?",
		"ops/C.graphql:2:1: error: expected \"}\" after the selected fields, found the end of the document [syntax]",
		"4 errors, 0 warnings",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("check --operations exits with %d and lacks %q:\n%s%s", code, want, out, errs)
		}
	}
	if code != 1 {
		t.Errorf("check --operations exits with %d", code)
	}
	if out, _, code = osprey(t, "check", "--types-only", types, "--operations", filepath.Join(dir, "ops/A.graphql"), "--format", "json"); code != 0 || out != "{\n  \"findings\": []\n}\n" {
		t.Errorf("a sound operation exits with %d:\n%s", code, out)
	}
	if out, _, code = osprey(t, "check", "--types-only", filepath.Join(dir, "bad.graphql"), "--operations", filepath.Join(dir, "ops")); code != 1 || strings.Contains(out, "ops/") {
		t.Errorf("with unsound types the operations are looked at too, %d:\n%s", code, out)
	}
	if out, _, code = osprey(t, "check", "--types-only", filepath.Join(dir, "none.graphql"), "--format", "json"); code != 1 || !strings.Contains(out, "none.graphql\",\n      \"line\": 1") {
		t.Errorf("a schema without Query exits with %d:\n%s", code, out)
	}
	if out, _, code = osprey(t, "check", "--types-only", dir); code != 1 || !strings.Contains(out, "Query is defined already") {
		t.Errorf("a folder of all of them exits with %d:\n%s", code, out)
	}
	if _, errs, code = osprey(t, "check", "--types-only", types, "--operations", "nowhere"); code != 2 || !strings.Contains(errs, "nowhere: no such file") {
		t.Errorf("operations that are not there exit with %d: %s", code, errs)
	}
	demotest.Setenv(t)
	if out, errs, code = osprey(t, "check", "demo/harbour", "--operations", filepath.Join(dir, "ops")); code != 1 || !strings.Contains(out, "ops/B.graphql:2:3") {
		t.Errorf("check of a project with operations exits with %d:\n%s%s", code, out, errs)
	}
}

// TestTidy formats files, reports those that are not tidy, and filters.
func TestTidy(t *testing.T) {
	files := map[string]string{"a.graphql": "{a,b}", "sub/b.graphql": "type A { a:Int }\n", "bad.graphql": "{ a(", "good.graphql": "type A {\n  a: Int\n}\n"}
	dir := demotest.Folder(t, files)
	out, _, code := osprey(t, "tidy", "--check", "--format", "json", dir)
	if code != 1 || strings.Count(out, `"rule": "layout"`) != 2 || strings.Count(out, `"rule": "syntax"`) != 1 || strings.Contains(out, "good.graphql") {
		t.Errorf("tidy --check exits with %d:\n%s", code, out)
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "a.graphql")); string(text) != "{a,b}" {
		t.Errorf("tidy --check changed a file: %q", text)
	}
	out, errs, code := osprey(t, "tidy", dir)
	if code != 1 || strings.Count(out, "\n") != 2 || !strings.Contains(errs, "bad.graphql:1:5: error: expected an argument's name") {
		t.Errorf("tidy exits with %d:\n%s%s", code, out, errs)
	}
	for name, want := range map[string]string{"a.graphql": "{\n  a\n  b\n}\n", "sub/b.graphql": "type A {\n  a: Int\n}\n", "bad.graphql": "{ a("} {
		if text, _ := os.ReadFile(filepath.Join(dir, name)); string(text) != want {
			t.Errorf("%s is now %q, want %q", name, text, want)
		}
	}
	if out, _, code = osprey(t, "tidy", "--check", filepath.Join(dir, "a.graphql"), filepath.Join(dir, "sub")); code != 0 || out != "2 files tidy\n" {
		t.Errorf("tidy --check of tidy files exits with %d: %s", code, out)
	}
	cmd := exec.Command(program, "tidy", "-")
	cmd.Stdin = strings.NewReader("{a} # end")
	if got, err := cmd.Output(); err != nil || string(got) != "{ a } # end\n" && string(got) != "{\n  a\n} # end\n" {
		t.Errorf("as a filter it gives %q, %v", got, err)
	}
	if out, _, code = osprey(t, "tidy", "--check", "demo/harbour"); code != 0 {
		t.Errorf("the demo is not tidy:\n%s", out)
	}
	if _, _, code = osprey(t, "tidy", "nowhere"); code != 2 {
		t.Errorf("tidy of nothing exits with %d", code)
	}
}

func TestHelpShowsExamples(t *testing.T) {
	for _, command := range []string{"start", "check", "ask", "explain", "tidy", "demo"} {
		out, _, code := osprey(t, command, "--help")
		if code != 0 || !strings.Contains(out, "Example:\n") || !strings.Contains(out, "osprey "+command) {
			t.Errorf("osprey %s --help exits with %d:\n%s", command, code, out)
		}
	}
}

// TestTableOfAPage shows the records of a page as rows, and below them what the
// page says of itself.
func TestTableOfAPage(t *testing.T) {
	demotest.Setenv(t)
	url := start(t)
	out, errs, code := osprey(t, "ask", "--url", url, "-f", "demo/harbour/operations/Logbook.graphql", "--var", "first=2", "--as", "table")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	if code != 0 || len(lines) != 6 || !strings.HasPrefix(lines[0], "arrivedAt ") || !strings.Contains(lines[0], "craft.operator.fleetSize") ||
		!strings.HasPrefix(lines[3], "totalCount  ") || lines[4] != "hasNextPage  true" || !strings.HasPrefix(lines[5], "endCursor  ") {
		t.Fatalf("%d %s\n%s", code, errs, out)
	}
	cursor := strings.TrimPrefix(lines[5], "endCursor  ")
	next, errs, code := osprey(t, "ask", "--url", url, "-f", "demo/harbour/operations/Logbook.graphql", "--var", "first=2", "--var", "after="+cursor, "--as", "table")
	if code != 0 || strings.Contains(next, lines[1]) || strings.Contains(next, lines[2]) {
		t.Errorf("the next page: %d %s\n%s\nbehind\n%s", code, errs, next, out)
	}
	if _, errs, code := osprey(t, "ask", "--url", url, "-f", "demo/harbour/operations/Logbook.graphql", "--var", "after="+cursor[1:]); code != 1 || !strings.Contains(errs, `the argument "after" is no cursor of this list in this order`) {
		t.Errorf("a changed cursor: %d %s", code, errs)
	}
}
