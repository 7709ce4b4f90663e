package main_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/demo/demotest"
)

// A saidText gathers what a process writes.
type saidText struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (s *saidText) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.buf.Write(p)
}

func (s *saidText) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.buf.String()
}

// waitFor waits until the process has said it: what it writes comes by a pipe,
// and may come behind its answers by the network.
func (s *saidText) waitFor(t *testing.T, want string) {
	t.Helper()
	for deadline := time.Now().Add(60 * time.Second); !strings.Contains(s.String(), want); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("a minute later it does not say %q:\n%s", want, s)
		}
	}
}

const watched = `type Query {
  answer: Int! @computed(expr: "1")
}
`

// served starts a service over a folder until the test ends, and returns where it is and what it says.
func served(t *testing.T, dir string, args ...string) (address string, process *os.Process, said *saidText) {
	t.Helper()
	address, said = freeAddress(t), &saidText{}
	cmd := exec.Command(program, append([]string{"start", dir, "--listen", address}, args...)...)
	cmd.Stderr = said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			t.Errorf("the service did not stop well: %v\n%s", err, said)
		}
	})
	waitReady(t, address)
	return address, cmd.Process, said
}

// answerAt returns what the service answers to an operation.
func answerAt(t *testing.T, address, operation string) string {
	t.Helper()
	body, _ := json.Marshal(map[string]string{"query": operation})
	res, err := http.Post("http://"+address+"/graphql", "application/json", bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// readyAt returns what /ready says.
func readyAt(t *testing.T, address string) (status int, text string) {
	t.Helper()
	res, err := http.Get("http://" + address + "/ready")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(body)
}

// TestWatch saves files as editors do: in place, by renaming, several at once, in new folders; breaks
// and mends them; and moves the folder away and back.
func TestWatch(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "watch: true\n", "schema/a.graphql": watched})
	address, _, said := served(t, dir)
	becomes := func(want string) {
		t.Helper()
		waitUntil(t, want, func() bool { return strings.Contains(answerAt(t, address, "{ answer }"), want) })
	}
	version := func(n string) string { return strings.Replace(watched, `"1"`, `"`+n+`"`, 1) }
	becomes(`{"answer":1}`)
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": version("2")})
	becomes(`{"answer":2}`)
	// By renaming, with what editors leave beside it.
	demotest.Write(t, dir, map[string]string{"schema/a.graphql~": version("2"), "schema/.a.graphql.swp": "x", "schema/4913": "", "new": version("3")})
	if err := os.Rename(filepath.Join(dir, "new"), filepath.Join(dir, "schema/a.graphql")); err != nil {
		t.Fatal(err)
	}
	becomes(`{"answer":3}`)
	// An editor's lock, which leads nowhere, and a folder as who mounts configurations swaps it.
	if err := os.Symlink("nobody@nowhere.123", filepath.Join(dir, "schema/.#a.graphql")); err != nil {
		t.Fatal(err)
	}
	demotest.Write(t, dir, map[string]string{"mounted/..one/m.graphql": "type Mounted { n: Int! }", "mounted/..two/m.graphql": "type Mounted { n: Int! two: Int! }"})
	mount := func(which string) {
		t.Helper()
		next := filepath.Join(dir, "next")
		if err := os.Symlink(which, next); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(next, filepath.Join(dir, "mounted/..data")); err != nil {
			t.Fatal(err)
		}
	}
	mount("..one")
	if err := os.Symlink("..data/m.graphql", filepath.Join(dir, "mounted/m.graphql")); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(dir, "mounted"), filepath.Join(dir, "schema/mounted")); err != nil {
		t.Fatal(err)
	}
	demotest.Write(t, dir, map[string]string{"schema/use.graphql": "extend type Query { mounted: Mounted @computed(expr: \"{'n': 1, 'two': 2}\") }"})
	waitUntil(t, "that the expression has too much", func() bool {
		_, text := readyAt(t, address)
		return strings.Contains(text, `has the entry \"two\"`)
	})
	if err := os.Symlink("..two", filepath.Join(dir, "next")); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(dir, "next"), filepath.Join(dir, "schema/mounted/..data")); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "what is mounted now", func() bool {
		return answerAt(t, address, "{ mounted { two } }") == `{"data":{"mounted":{"two":2}}}`
	})
	// In a new folder, of several files of which each needs the other.
	demotest.Write(t, dir, map[string]string{"schema/more/deep/b.graphql": "extend type Query { other: Other @computed(expr: \"{'n': 4}\") }", "schema/more/c.graphql": "type Other { n: Int! }"})
	waitUntil(t, "a new folder", func() bool {
		return answerAt(t, address, "{ other { n } }") == `{"data":{"other":{"n":4}}}`
	})
	// Broken, the good one stays, and what is wrong is told; further mistakes are, too; mended, it is gone.
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": version("5") + "type Broken { x: Quayside }\n"})
	waitUntil(t, "what is wrong", func() bool {
		status, text := readyAt(t, address)
		return status == http.StatusOK && strings.Contains(text, `"files":{"problem":"the type Quayside is not defined","fix":"define it, or correct the name","place":"schema/a.graphql:4:18"}`)
	})
	becomes(`{"answer":3}`)
	demotest.Write(t, dir, map[string]string{"operations/Ask.graphql": "{ nothing }"})
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": version("5")})
	waitUntil(t, "the operation that is wrong", func() bool {
		_, text := readyAt(t, address)
		return strings.Contains(text, `Query has no field \"nothing\"`) && strings.Contains(text, "operations/Ask.graphql:1:3")
	})
	if err := os.Remove(filepath.Join(dir, "operations/Ask.graphql")); err != nil {
		t.Fatal(err)
	}
	becomes(`{"answer":5}`)
	if _, text := readyAt(t, address); strings.Contains(text, "files") {
		t.Errorf("mended, /ready says %s", text)
	}
	for _, want := range []string{"the type Quayside is not defined", "schema/a.graphql:4:18", "osprey: what was served before is served still, until this is mended", "osprey: serving the files as of "} {
		said.waitFor(t, want)
	}
	// The folder is moved away, and comes back with another text.
	if err := os.Rename(filepath.Join(dir, "schema"), filepath.Join(dir, "away")); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "that it is away", func() bool {
		_, text := readyAt(t, address)
		return strings.Contains(text, "has no folder schema/")
	})
	demotest.Write(t, dir, map[string]string{"away/a.graphql": version("6")})
	if err := os.Rename(filepath.Join(dir, "away"), filepath.Join(dir, "schema")); err != nil {
		t.Fatal(err)
	}
	becomes(`{"answer":6}`)
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": version("7")})
	becomes(`{"answer":7}`)
	// osprey.yaml, too, but for what a running service cannot change.
	demotest.Write(t, dir, map[string]string{"osprey.yaml": "watch: true\nlisten: 127.0.0.1:1\nlimits: { fields: 1 }\n"})
	waitUntil(t, "the limit", func() bool { return strings.Contains(answerAt(t, address, "{ a: answer b: answer }"), "LIMIT") })
	said.waitFor(t, "listen is changed, and a running service goes on as it was")
}

// TestNewColumn serves a field of a column that has come since the service started, when the file with it
// is saved, and on SIGHUP one that has become another.
func TestNewColumn(t *testing.T) {
	eachDatabase(t, func(t *testing.T, db *empty) {
		db.run("CREATE TABLE boats (id int PRIMARY KEY, name varchar(20) NOT NULL)\nINSERT INTO boats VALUES (1, 'Ebb')")
		dir := db.project("snake", "")
		types := "type Query {\n  boats: [Boat!] @read\n}\n\ntype Boat @stored(in: \"db\", as: \"boats\", key: \"id\") {\n  name: String!\n}\n"
		demotest.Write(t, dir, map[string]string{"schema/a.graphql": types})
		address, process, said := served(t, dir, "--watch")
		db.run("ALTER TABLE boats ADD COLUMN sail varchar(20)\nUPDATE boats SET sail = 'red'")
		demotest.Write(t, dir, map[string]string{"schema/a.graphql": strings.Replace(types, "  name: String!\n", "  name: String!\n  sail: String\n", 1)})
		waitUntil(t, "the new column", func() bool {
			return answerAt(t, address, "{ boats { name sail } }") == `{"data":{"boats":[{"name":"Ebb","sail":"red"}]}}`
		})
		if strings.Contains(said.String(), "error") {
			t.Errorf("it says %s", said)
		}
		db.run("ALTER TABLE boats DROP COLUMN sail")
		if err := process.Signal(syscall.SIGHUP); err != nil {
			t.Fatal(err)
		}
		waitUntil(t, "that the column is gone", func() bool {
			_, text := readyAt(t, address)
			return strings.Contains(text, `which the table boats in db does not have`)
		})
		if got := answerAt(t, address, "{ boats { name } }"); got != `{"data":{"boats":[{"name":"Ebb"}]}}` {
			t.Errorf("what is there answers %s", got)
		}
		db.run("ALTER TABLE boats ADD COLUMN sail varchar(20)")
		if err := process.Signal(syscall.SIGHUP); err != nil {
			t.Fatal(err)
		}
		waitUntil(t, "that it is back", func() bool {
			_, text := readyAt(t, address)
			return !strings.Contains(text, "files")
		})
	})
}

// TestHangup reads the files again once, where nobody watches them.
func TestHangup(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "sources: {}\n", "schema/a.graphql": watched})
	address, process, _ := served(t, dir)
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": strings.Replace(watched, `"1"`, `"2"`, 1)})
	time.Sleep(300 * time.Millisecond) // in which nothing must happen
	if got := answerAt(t, address, "{ answer }"); got != `{"data":{"answer":1}}` {
		t.Errorf("without being told, it answers %s", got)
	}
	if err := process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "the new answer", func() bool { return answerAt(t, address, "{ answer }") == `{"data":{"answer":2}}` })
}

// eventTrigger is the statements by which docs/deployment.md has PostgreSQL tell that its tables have
// changed.
func eventTrigger(t *testing.T) string {
	t.Helper()
	page, err := os.ReadFile(filepath.Join(demotest.Root(), "docs/deployment.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(page), "```sql\nCREATE FUNCTION osprey_catalogue()")
	text, _, ok := strings.Cut(rest, "```")
	if !ok {
		t.Fatal("the page does not have it")
	}
	return "CREATE FUNCTION osprey_catalogue()" + text
}

// TestSignal changes the tables of a database that tells so: the schema is held against them at once,
// though nobody asks and nothing is saved. One that does not tell gets no connection for it.
func TestSignal(t *testing.T) {
	ctx := t.Context()
	at := demotest.Database(t)
	conn, err := pgx.Connect(ctx, at)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	run := func(statements string) {
		t.Helper()
		if _, err := conn.Exec(ctx, statements); err != nil {
			t.Fatal(err)
		}
	}
	listening := func() (n int) {
		t.Helper()
		if err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'osprey, listening'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	run("CREATE TABLE boats (id int PRIMARY KEY, name text NOT NULL, sail text); INSERT INTO boats VALUES (1, 'Ebb', 'red')")
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      fmt.Sprintf("sources:\n  db: { kind: postgres, url: %q, naming: snake }\n", at),
		"schema/a.graphql": "type Query {\n  boats: [Boat!] @read\n}\n\ntype Boat @stored(in: \"db\", as: \"boats\", key: \"id\") {\n  name: String!\n  sail: String\n}\n",
	})
	address, process, said := served(t, dir)
	answers := func(want string) {
		t.Helper()
		waitUntil(t, want, func() bool { return strings.Contains(answerAt(t, address, "{ boats { name sail } }"), want) })
	}
	answers(`"sail":"red"`)
	if n := listening(); n != 0 {
		t.Errorf("%d connections listen to a database that tells nothing", n)
	}
	run(eventTrigger(t))
	if err := process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "it listens", func() bool { return listening() == 1 })
	troubled := func() bool {
		_, text := readyAt(t, address)
		return strings.Contains(text, "which the table boats in db does not have") && strings.Contains(text, "schema/a.graphql:7:3")
	}
	run("ALTER TABLE boats RENAME sail TO canvas")
	waitUntil(t, "it tells that the column is gone, though nobody asked", troubled)
	if got := answerAt(t, address, "{ boats { name } }"); got != `{"data":{"boats":[{"name":"Ebb"}]}}` {
		t.Errorf("what is there answers %s", got)
	}
	run("ALTER TABLE boats RENAME canvas TO sail")
	waitUntil(t, "it tells that it is back", func() bool { return !troubled() })
	answers(`"sail":"red"`)
	// A connection that breaks is made again, and what was told meanwhile is not missed.
	run("ALTER EVENT TRIGGER osprey_catalogue DISABLE; ALTER TABLE boats RENAME sail TO canvas; ALTER EVENT TRIGGER osprey_catalogue ENABLE")
	run("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'osprey, listening' AND datname = current_database()")
	waitUntil(t, "it looks again when it listens again", troubled)
	run("ALTER TABLE boats RENAME canvas TO sail")
	waitUntil(t, "all is well again", func() bool { return !troubled() })
	if strings.Contains(said.String(), "panic") {
		t.Errorf("it says %s", said)
	}
}

// TestBegins serves a project that is only begun, and follows it: a source comes, then types that are derived of what it
// holds, then an operation. Without --watch it is refused, as before.
func TestBegins(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "sources: {}\n"})
	if _, said, code := osprey(t, "start", dir, "--listen", freeAddress(t)); code == 0 || !strings.Contains(said, "has no folder schema/") {
		t.Errorf("it is served without types: %d, %s", code, said)
	}
	demotest.Write(t, dir, map[string]string{"osprey.yaml": "watch: true\nsources: {}\n"})
	for _, args := range [][]string{{"check", dir}, {"ask", "--project", dir, "{ nothing }"}, {"explain", "--project", dir, "{ nothing }"}} {
		if out, said, code := osprey(t, args...); code == 0 || !strings.Contains(out+said, "has no folder schema/") {
			t.Errorf("%s of it ends with %d: %s%s", args[0], code, out, said)
		}
	}
	address, _, said := served(t, dir)
	if got := answerAt(t, address, "{ nothing }"); got != `{"data":{"nothing":null}}` {
		t.Errorf("it answers %s", got)
	}
	said.waitFor(t, "has no types yet")
	demotest.Write(t, dir, map[string]string{"data/craft.csv": "imo,name,length_m\n9100012,Grey Lantern,188.5\n9100024,Jolly Islander,96\n", "osprey.yaml": "watch: true\nsources: { port: { kind: files, folder: data } }\n"})
	waitUntil(t, "the source", func() bool {
		_, text := readyAt(t, address)
		return strings.Contains(text, `"port":{"ready":true`)
	})
	if out, said, code := osprey(t, "derive", "--project", dir, "port"); code != 0 {
		t.Fatalf("derive ends with %d: %s%s", code, out, said)
	}
	waitUntil(t, "its types", func() bool {
		return answerAt(t, address, "{ crafts(limit: 1) { name lengthM } }") == `{"data":{"crafts":[{"name":"Grey Lantern","lengthM":188.5}]}}`
	})
	if got := answerAt(t, address, "{ nothing }"); !strings.Contains(got, "has no field") {
		t.Errorf("what stood in for types is there still: %s", got)
	}
	demotest.Write(t, dir, map[string]string{"osprey.yaml": "watch: true\nsources: { port: { kind: files, folder: data } }\nlimits: { fields: 100 }\n"})
	if err := os.RemoveAll(filepath.Join(dir, "schema")); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "that types that were there are missed", func() bool {
		_, text := readyAt(t, address)
		return strings.Contains(text, "has no folder schema/")
	})
}
