package project_test

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "modernc.org/sqlite"

	"osprey/demo/demotest"
	"osprey/project"
)

// fleet makes a database of which every record says which one it is.
func fleet(t *testing.T, dir, mark string) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, mark+".db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	statements := "CREATE TABLE boats (id INTEGER PRIMARY KEY, mark TEXT NOT NULL, pier_id INTEGER NOT NULL); CREATE TABLE piers (id INTEGER PRIMARY KEY, mark TEXT NOT NULL);"
	for i := range 40 {
		statements += fmt.Sprintf("INSERT INTO boats VALUES (%d, '%s', %d); ", i, mark, i%5)
	}
	for i := range 5 {
		statements += fmt.Sprintf("INSERT INTO piers VALUES (%d, '%s'); ", i, mark)
	}
	if _, err := db.Exec(statements); err != nil {
		t.Fatal(err)
	}
}

// fleets opens a project with two such databases, on the first.
func fleets(t *testing.T) (dir string, p *project.Project) {
	t.Helper()
	dir = demotest.Folder(t, map[string]string{"osprey.yaml": entry("a"), "schema/a.graphql": revisionOf(0)})
	fleet(t, dir, "a")
	fleet(t, dir, "b")
	p, _, err := project.Open(t.Context(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	return dir, p
}

// entry is osprey.yaml with one of the databases.
func entry(mark string) string {
	return "sources:\n  db: { kind: sqlite, url: \"sqlite:" + mark + ".db\", naming: snake }\n"
}

// revisionOf is a schema of which every record says which one it is.
func revisionOf(n int) string {
	return fmt.Sprintf(`type Query { boats: [Boat!]! @read }
type Boat @stored(in: "db", as: "boats", key: "id") {
  mark: String!
  pier: Pier! @related(here: "pier_id")
  version: Int! @computed(expr: "%d")
}
type Pier @stored(in: "db", as: "piers", key: "id") {
  mark: String!
  version: Int! @computed(expr: "%[1]d")
}
`, n)
}

// TestReloadUnderLoad swaps a hundred revisions, of types and of sources, and broken ones in between,
// while clients ask: no answer fails, none is of two revisions, and in the end no more is open than
// at first.
func TestReloadUnderLoad(t *testing.T) {
	dir, p := fleets(t)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	go p.Follow(ctx)
	var asked atomic.Int64
	seen := sync.Map{} // what was answered: mark and version
	ask := func() {
		r, release := p.Hold()
		defer release()
		a := r.Ask(ctx, &project.Request{Query: "{ boats { mark version pier { mark version } } }"})
		defer a.Free()
		if len(a.Faults) > 0 {
			t.Errorf("an answer fails: %s", a.Faults[0].Message)
			return
		}
		rest := string(a.Data)
		first := rest[strings.Index(rest, `"mark":`):strings.Index(rest, `,"pier"`)]
		if strings.Count(rest, first) != 80 {
			t.Errorf("an answer is of two revisions: %.300s", rest)
		}
		seen.Store(first, true)
		asked.Add(1)
	}
	ask()
	runtime.GC()
	files, routines := open(t, dir), runtime.NumGoroutine()
	var wait sync.WaitGroup
	end := make(chan struct{})
	for range 6 {
		wait.Go(func() {
			for {
				select {
				case <-end:
					return
				default:
					ask()
				}
			}
		})
	}
	random := rand.New(rand.NewPCG(18, 1))
	marks := []string{"a", "b"}
	var slowest time.Duration
	for n := 1; n <= 120; n++ {
		files := map[string]string{"schema/a.graphql": revisionOf(n)}
		broken := n%4 == 3
		if broken {
			files["schema/a.graphql"] = []string{"type Query {", strings.Replace(revisionOf(n), "as: \"piers\"", "as: \"peers\"", 1), strings.Replace(revisionOf(n), "String!", "Strin!", 1)}[random.IntN(3)]
		}
		if n%2 == 0 {
			files["osprey.yaml"] = entry(marks[random.IntN(2)])
		}
		if n%16 == 7 {
			files["osprey.yaml"], broken = "sources: {", true
		}
		demotest.Write(t, dir, files)
		began := time.Now()
		if _, err := p.Reload(ctx); (err != nil) != broken {
			t.Fatalf("swap %d: %v", n, err)
		}
		slowest = max(slowest, time.Since(began))
		if trouble := p.Trouble(); (len(trouble) > 0) != broken {
			t.Errorf("swap %d: the trouble is %v", n, trouble)
		}
		if n%16 == 7 {
			demotest.Write(t, dir, map[string]string{"osprey.yaml": entry("a")})
		}
		time.Sleep(2 * time.Millisecond)
	}
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": revisionOf(0), "osprey.yaml": entry("a")})
	if _, err := p.Reload(ctx); err != nil {
		t.Fatal(err)
	}
	close(end)
	wait.Wait()
	different := 0
	seen.Range(func(any, any) bool { different++; return true })
	if asked.Load() < 300 || different < 20 {
		t.Errorf("%d answers are of %d revisions, too few to say anything", asked.Load(), different)
	}
	t.Logf("%d answers of %d revisions; the slowest swap took %s", asked.Load(), different, slowest)
	ask()
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		runtime.GC()
		nowFiles, nowRoutines := open(t, dir), runtime.NumGoroutine()
		if nowFiles["b.db"] == 0 && nowFiles["a.db"] <= max(files["a.db"], 7) && nowRoutines <= routines+10 {
			break
		}
		if time.Now().After(end) {
			t.Errorf("in the end are open %v with %d goroutines, and at first %v with %d", nowFiles, nowRoutines, files, routines)
			break
		}
	}
	p.Close()
	for end := time.Now().Add(10 * time.Second); len(open(t, dir)) > 0; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("after the project is closed, are open %v", open(t, dir))
		}
	}
}

// open counts the files of a folder that this process has open, by their names.
func open(t *testing.T, dir string) map[string]int {
	t.Helper()
	count := map[string]int{}
	list, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Skip("nothing tells which files are open")
	}
	for _, fd := range list {
		if path, err := os.Readlink("/proc/self/fd/" + fd.Name()); err == nil && strings.HasPrefix(path, dir) {
			count[filepath.Base(path)]++
		}
	}
	return count
}

// TestHeldRevision closes a source that a new revision has no more when the last request on the old
// one has ended, and not before.
func TestHeldRevision(t *testing.T) {
	dir, p := fleets(t)
	mark := func(r *project.Revision) string {
		a := r.Ask(t.Context(), &project.Request{Query: "{ boats { mark version } }"})
		defer a.Free()
		if len(a.Faults) > 0 {
			return a.Faults[0].Message
		}
		return string(a.Data[:45])
	}
	old, release := p.Hold()
	before := mark(old)
	demotest.Write(t, dir, map[string]string{"osprey.yaml": entry("b"), "schema/a.graphql": revisionOf(2)})
	if _, err := p.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	if now := mark(p.Revision()); now == before || !strings.Contains(now, `"b"`) {
		t.Errorf("the new revision answers %s", now)
	}
	if again := mark(old); again != before {
		t.Errorf("the old one, which is held, answers %s, and before %s", again, before)
	}
	if open(t, dir)["a.db"] == 0 {
		t.Error("the source of the old revision is closed, which is held")
	}
	release()
	if n := open(t, dir)["a.db"]; n > 0 {
		t.Errorf("nobody holds the old revision, and its source has %d files open", n)
	}
	if now := mark(p.Revision()); !strings.Contains(now, `"b"`) {
		t.Errorf("after that, the new one answers %s", now)
	}
}
