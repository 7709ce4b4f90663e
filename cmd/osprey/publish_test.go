package main_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	_ "modernc.org/sqlite"

	"osprey/demo/demotest"
)

// boats is a project whose every record says by which schema, and of which database, it is.
func boats(records, database string, version int) map[string]string {
	return map[string]string{
		"osprey.yaml": fmt.Sprintf("watch: true\nrecords: { url: %q, protects: 1h }\nsources:\n  db: { kind: sqlite, url: \"sqlite:%s.db\", naming: snake }\n", records, database),
		"schema/boats.graphql": fmt.Sprintf(`type Query { boats: [Boat!]! @read  extra%d: Int @computed(expr: "1") }
type Boat @stored(in: "db", as: "boats", key: "id") {
  mark: String!
  version: Int! @computed(expr: "%[1]d")
}
`, version),
	}
}

// boatsFolder makes a folder with two databases and the project on the first.
func boatsFolder(t *testing.T, records string) string {
	t.Helper()
	dir := demotest.Folder(t, boats(records, "a", 0))
	for _, mark := range []string{"a", "b"} {
		db, err := sql.Open("sqlite", filepath.Join(dir, mark+".db"))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec("CREATE TABLE boats (id INTEGER PRIMARY KEY, mark TEXT NOT NULL); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30) INSERT INTO boats SELECT i, '" + mark + "' FROM n"); err != nil {
			t.Fatal(err)
		}
		db.Close()
	}
	return dir
}

// boatOf finds what a record of an answer says.
var boatOf = regexp.MustCompile(`\{"mark":"(\w)","version":(\d+)\}`)

// servesAt returns what the records of an answer say, which must all say the same.
func servesAt(address string) (mark, version string, err error) {
	res, err := http.Post("http://"+address+"/graphql", "application/json", strings.NewReader(`{"query":"query Boats { boats { mark version } }"}`))
	if err != nil {
		return "", "", err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		return "", "", err
	}
	all := boatOf.FindAllSubmatch(text, -1)
	if len(all) != 30 || bytes.Contains(text, []byte(`"errors"`)) {
		return "", "", fmt.Errorf("the answer is %.300s", text)
	}
	for _, m := range all {
		if !bytes.Equal(m[0], all[0][0]) {
			return "", "", fmt.Errorf("an answer is of two revisions: %s and %s", m[0], all[0][0])
		}
	}
	return string(all[0][1]), string(all[0][2]), nil
}

// becomes waits until a service serves a version of a database.
func becomes(t *testing.T, address, mark string, version int) {
	t.Helper()
	waitUntil(t, fmt.Sprintf("%s serves %s %d", address, mark, version), func() bool {
		m, v, err := servesAt(address)
		if err != nil {
			t.Fatal(err)
		}
		return m == mark && v == fmt.Sprint(version)
	})
}

// other writes a version of the project beside it, to be published.
func other(t *testing.T, records, database string, version int) string {
	t.Helper()
	return demotest.Folder(t, boats(records, database, version))
}

// TestPublishUnderLoad does, under load, what people do to running services: it saves a broken file,
// mends it, changes a source's address, publishes with two services running, and restores. Every
// request is answered, and each by one revision.
func TestPublishUnderLoad(t *testing.T) {
	records := demotest.Database(t)
	dir := boatsFolder(t, records)
	one, _, _ := served(t, dir)
	two, _, saidTwo := served(t, dir)
	var asked atomic.Int64
	end := make(chan struct{})
	var wait sync.WaitGroup
	for i := range 6 {
		address := []string{one, two}[i%2]
		wait.Go(func() {
			for {
				select {
				case <-end:
					return
				default:
				}
				if _, _, err := servesAt(address); err != nil {
					t.Errorf("after %d answers: %v", asked.Load(), err)
					return
				}
				asked.Add(1)
			}
		})
	}
	defer wait.Wait()
	stopLoad := sync.OnceFunc(func() { close(end) })
	defer stopLoad()
	becomes(t, one, "a", 0)
	// A broken file, and a mended one.
	demotest.Write(t, dir, map[string]string{"schema/boats.graphql": "type Query { boats: [Bot!]! }"})
	waitUntil(t, "the broken file is told", func() bool {
		_, text := readyAt(t, one)
		return strings.Contains(text, "schema/boats.graphql:1:22")
	})
	becomes(t, one, "a", 0)
	demotest.Write(t, dir, boats(records, "a", 1))
	becomes(t, one, "a", 1)
	becomes(t, two, "a", 1) // it watches the same folder
	// The address of a source.
	demotest.Write(t, dir, boats(records, "b", 1))
	becomes(t, one, "b", 1)
	// A revision from a second terminal, sent to one of the two.
	out, errs, code := osprey(t, "publish", other(t, records, "a", 2), "--to", "http://"+two, "--note", "boats of a", "--by", "ann")
	if code != 0 || !strings.Contains(out, "is served by 2 services") || !strings.Contains(out, "Query.extra2 is new") {
		t.Errorf("publish exits with %d:\n%s\n%s\n%s", code, out, errs, saidTwo)
	}
	becomes(t, one, "a", 2)
	becomes(t, two, "a", 2)
	var list struct{ Revisions []struct{ Number int } }
	out, _, _ = osprey(t, "revisions", "--url", "http://"+one, "--format", "json")
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list.Revisions) < 3 {
		t.Fatalf("%v: %s", err, out)
	}
	out, errs, code = osprey(t, "publish", other(t, records, "b", 3), "--to", "http://"+one)
	if code != 0 {
		t.Errorf("publish exits with %d:\n%s\n%s", code, out, errs)
	}
	becomes(t, two, "b", 3)
	// Back.
	out, errs, code = osprey(t, "restore", fmt.Sprint(list.Revisions[0].Number), "--to", "http://"+one, "--note", "back", "--by", "bea")
	if code != 0 || !strings.Contains(out, "is served by 2 services") {
		t.Errorf("restore exits with %d:\n%s\n%s", code, out, errs)
	}
	becomes(t, one, "a", 2)
	becomes(t, two, "a", 2)
	stopLoad()
	wait.Wait()
	out, errs, code = osprey(t, "revisions", "--url", "http://"+two)
	if code != 0 {
		t.Errorf("revisions exits with %d: %s", code, errs)
	}
	for _, want := range []string{"boats of a", "ann", "bea", "published", "from files", fmt.Sprintf("restores %d", list.Revisions[0].Number), "http://" + one + " serves revision"} {
		if !strings.Contains(out, want) {
			t.Errorf("revisions does not tell %q:\n%s", want, out)
		}
	}
	// Everything that was asked was counted, at the database, however many swaps there were.
	total := asked.Load()
	conn, err := pgx.Connect(t.Context(), records)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	waitUntil(t, "all that was asked is written", func() bool {
		var n, failed int64
		if err := conn.QueryRow(t.Context(), "SELECT coalesce(sum(asked), 0)::bigint, coalesce(sum(failed), 0)::bigint FROM osprey.traffic JOIN osprey.operations o ON o.id = operation WHERE o.name = 'Boats'").Scan(&n, &failed); err != nil {
			t.Fatal(err)
		}
		if failed > 0 {
			t.Fatalf("%d failed", failed)
		}
		return n >= total
	})
	t.Logf("%d requests were answered", total)
	// A service that starts takes the last that was published, whatever its files say, unless it is
	// told to serve those.
	three, _, said := served(t, dir)
	becomes(t, three, "a", 2)
	said.waitFor(t, "serving revision")
	four, _, _ := served(t, dir, "--files")
	becomes(t, four, "b", 1)
	if out, errs, code := osprey(t, "publish", other(t, records, "b", 4), "--to", "http://"+three, "--anyway"); code != 0 {
		t.Errorf("publish exits with %d:\n%s\n%s", code, out, errs)
	}
	becomes(t, four, "b", 4)
}

// TestPublishRefused holds what is told of what is not published.
func TestPublishRefused(t *testing.T) {
	records := demotest.Database(t)
	dir := boatsFolder(t, records)
	at, _, _ := served(t, dir)
	url := "http://" + at
	if _, _, err := servesAt(at); err != nil {
		t.Fatal(err)
	}
	change := func(from, to string) string {
		files := boats(records, "a", 0)
		files["schema/boats.graphql"] = strings.Replace(files["schema/boats.graphql"], from, to, 1)
		return demotest.Folder(t, files)
	}
	// What is asked, and by whom.
	out, errs, code := osprey(t, "publish", change("  mark: String!\n", ""), "--to", url)
	if code != 1 || out != "" || !strings.Contains(errs, "Boats, asked 1 time") || !strings.Contains(errs, "by Go-http-client") || !strings.Contains(errs, "Boat.mark is gone") || !strings.Contains(errs, "insist with --anyway") {
		t.Errorf("what breaks an operation exits with %d:\n%s\n%s", code, out, errs)
	}
	// What nobody asks may go.
	out, errs, code = osprey(t, "publish", change(`  extra0: Int @computed(expr: "1")`, ""), "--to", url, "--try")
	if code != 0 || !strings.Contains(out, "breaking  Query.extra0 is gone") || !strings.Contains(out, "only tried") {
		t.Errorf("a try exits with %d:\n%s\n%s", code, out, errs)
	}
	// A fault, at its place in the folder of who publishes.
	wrong := change("mark: String!", "mark: Strng!")
	out, errs, code = osprey(t, "publish", wrong, "--to", url)
	if code != 1 || !strings.Contains(errs, filepath.Join(wrong, "schema/boats.graphql")+":3:9: error: the type Strng is not defined") || !strings.Contains(errs, "    mark: Strng!\n          ^") {
		t.Errorf("a fault exits with %d:\n%s\n%s", code, out, errs)
	}
	// What the service's store does not have.
	out, errs, code = osprey(t, "publish", change("mark: String!", "mark: String! name: String"), "--to", url, "--format", "json")
	var refused struct {
		Refused  string
		Findings []struct{ File, Message string }
	}
	if err := json.Unmarshal([]byte(out), &refused); err != nil || code != 1 || len(refused.Findings) == 0 || refused.Findings[0].File != "schema/boats.graphql" || !strings.Contains(refused.Findings[0].Message, "name") {
		t.Errorf("a column that is not there exits with %d:\n%s\n%s", code, out, errs)
	}
	// Another was faster.
	if out, errs, code := osprey(t, "publish", change("extra0", "extra1"), "--to", url, "--by", "ann"); code != 0 {
		t.Errorf("publish exits with %d:\n%s\n%s", code, out, errs)
	}
	out, errs, code = osprey(t, "publish", change("extra0", "extra2"), "--to", url, "--onto", "0")
	if code != 1 || !strings.Contains(errs, "ann has published revision") {
		t.Errorf("one that was overtaken exits with %d:\n%s\n%s", code, out, errs)
	}
	// Two at the very same moment.
	var codes [2]int
	var wait sync.WaitGroup
	var revisions struct{ Published int }
	out, _, _ = osprey(t, "revisions", "--url", url)
	fmt.Sscanf(regexp.MustCompile(`(?m)^(\d+) \*`).FindString(out), "%d", &revisions.Published)
	for i := range codes {
		folder := change("extra0", fmt.Sprintf("both%d", i))
		wait.Go(func() {
			_, _, codes[i] = osprey(t, "publish", folder, "--to", url, "--onto", fmt.Sprint(revisions.Published))
		})
	}
	wait.Wait()
	if codes[0]+codes[1] != 1 {
		t.Errorf("two at once exit with %v", codes)
	}
	if m, v, err := servesAt(at); m != "a" || v != "0" || err != nil {
		t.Errorf("it serves %s %s: %v", m, v, err)
	}
	for _, test := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"restore", "999"}, 1, "there is no such revision"},
		{[]string{"restore", "x"}, 2, "say the number of a revision"},
		{[]string{"restore"}, 2, "say the number of a revision"},
		{[]string{"publish", t.TempDir()}, 2, "is no project"},
		{[]string{"publish", dir, "--format", "xml"}, 2, "it is text or json"},
	} {
		_, errs, code := osprey(t, append(test.args, "--to", url)...)
		if code != test.code || !strings.Contains(errs, test.want) {
			t.Errorf("%v exits with %d: %s", test.args, code, errs)
		}
	}
	if _, errs, code := osprey(t, "publish", dir, "--to", "http://127.0.0.1:1"); code != 3 || !strings.Contains(errs, "no service answers") {
		t.Errorf("nobody there: %d, %s", code, errs)
	}
	// A revision's files, as they were.
	to := filepath.Join(t.TempDir(), "old")
	if out, errs, code := osprey(t, "revisions", "1", "--url", url, "--write", to); code != 0 {
		t.Errorf("it exits with %d:\n%s\n%s", code, out, errs)
	}
	for path, text := range boats(records, "a", 0) {
		if got, err := os.ReadFile(filepath.Join(to, path)); string(got) != text {
			t.Errorf("%s is %s: %v", path, got, err)
		}
	}
	if _, errs, code := osprey(t, "revisions", "1", "--url", url, "--write", to); code != 2 || !strings.Contains(errs, "a new folder is needed") {
		t.Errorf("over a folder: %d, %s", code, errs)
	}
}

// TestNoRecords holds what a service without records says of what needs them.
func TestNoRecords(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "", "schema/a.graphql": watched})
	at, _, _ := served(t, dir)
	for _, args := range [][]string{{"publish", dir, "--to"}, {"restore", "1", "--to"}, {"revisions", "--url"}, {"traffic", "--url"}, {"traffic", "--unused", "--url"}, {"diff", dir, dir, "--traffic"}} {
		_, errs, code := osprey(t, append(args, "http://"+at)...)
		if code != 1 || !strings.Contains(errs, "this service keeps no records") || !strings.Contains(errs, "records in osprey.yaml") {
			t.Errorf("%v exits with %d: %s", args, code, errs)
		}
	}
	if got := answerAt(t, at, "{ answer }"); got != `{"data":{"answer":1}}` {
		t.Errorf("it answers %s", got)
	}
}

// TestTrafficCommand holds what is told of what is asked.
func TestTrafficCommand(t *testing.T) {
	records := demotest.Database(t)
	dir := boatsFolder(t, records)
	at, _, _ := served(t, dir)
	url := "http://" + at
	ask := func(client, operation string) {
		req, err := http.NewRequest(http.MethodPost, url+"/graphql", strings.NewReader(operation))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Osprey-Client", client)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
	}
	for range 3 {
		ask("board/1", `{"query":"query Marks { boats { mark } }"}`)
	}
	ask("quay", `{"query":"query Versions { b: boats { version } }"}`)
	ask("quay", `{"query":"query Wrong { boats { name } }"}`)
	ask("quay", `{"query":"query Vars($a: Boolean!) { boats { mark @include(if: $a) } }","variables":{"a":"secret-value"}}`)
	ask(strings.Repeat("x", 500), `{"query":"{ boats { version } }"}`)
	out := ""
	waitUntil(t, "it is counted", func() bool {
		var code int
		out, _, code = osprey(t, "traffic", "--url", url)
		return code == 0 && strings.Contains(out, "asked 7 times, 2 of them failed")
	})
	for _, want := range []string{"Marks", "board/1 3", "Versions", "1 VARIABLES 1", "1 INVALID 1", "(not told apart)", strings.Repeat("x", 60) + " 1"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not told:\n%s", want, out)
		}
	}
	if strings.Contains(out, "secret") || strings.Contains(out, strings.Repeat("x", 61)) {
		t.Errorf("it tells too much:\n%s", out)
	}
	if out, _, _ := osprey(t, "traffic", "--url", url, "--order", "failed"); !strings.Contains(out, "Vars") || strings.Contains(out, "Marks") {
		t.Errorf("what failed is:\n%s", out)
	}
	if out, _, _ := osprey(t, "traffic", "--url", url, "--client", "quay"); strings.Contains(out, "Marks") || !strings.Contains(out, "Versions") {
		t.Errorf("what quay asked is:\n%s", out)
	}
	for _, order := range []string{"slow", "requests"} {
		if out, errs, code := osprey(t, "traffic", "--url", url, "--order", order); code != 0 || !strings.Contains(out, "Marks") {
			t.Errorf("%s: %s %s", order, out, errs)
		}
	}
	var told struct {
		Operations []struct {
			Name          string
			Asked         int
			P50, P95, P99 float64
			Requests      int
			Records       int
			Text          string
		}
	}
	out, _, _ = osprey(t, "traffic", "--url", url, "--format", "json")
	if err := json.Unmarshal([]byte(out), &told); err != nil || told.Operations[0].Name != "Marks" || told.Operations[0].Asked != 3 || told.Operations[0].Requests != 3 || told.Operations[0].Records != 90 ||
		told.Operations[0].P50 <= 0 || told.Operations[0].P99 < told.Operations[0].P50 || told.Operations[0].Text != "query Marks { boats { mark } }\n" {
		t.Errorf("as JSON it is %s: %v", out, err)
	}
	out, errs, code := osprey(t, "traffic", "--url", url, "--of", "Marks")
	if code != 0 || !strings.Contains(out, "Marks: asked 3 times") || !strings.Contains(out, "100%") || !strings.Contains(out, "boats") || strings.Contains(out, "failed") {
		t.Errorf("of Marks it is told, with %d: %s%s", code, out, errs)
	}
	out, errs, code = osprey(t, "traffic", "--url", url, "--of", "Vars")
	if code != 0 || !strings.Contains(out, "VARIABLES  the variable $a of the type Boolean! does not fit: expected true or false, found …\n    by quay, request ") || strings.Contains(out, "secret") {
		t.Errorf("of Vars it is told, with %d: %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "traffic", "--url", url, "--of", "-"); code != 0 || !strings.Contains(out, `Boat has no field "name"`) {
		t.Errorf("of those that are not told apart it is told, with %d: %s%s", code, out, errs)
	}
	if _, errs, code := osprey(t, "traffic", "--url", url, "--of", "Nothing"); code != 1 || !strings.Contains(errs, "no operation Nothing was asked within 24h") {
		t.Errorf("of nothing it is told, with %d: %s", code, errs)
	}
	out, _, code = osprey(t, "traffic", "--url", url, "--unused")
	if code != 0 || !strings.Contains(out, "Query.extra0\n") || strings.Contains(out, "Boat.mark") || !strings.Contains(out, "1 coordinate is asked by nobody") {
		t.Errorf("unused is:\n%s", out)
	}
	// Which differences touch anybody.
	files := boats(records, "a", 7)
	files["schema/boats.graphql"] = strings.Replace(files["schema/boats.graphql"], "  mark: String!\n", "", 1)
	next := demotest.Folder(t, files)
	out, errs, code = osprey(t, "diff", "--types-only", dir, next, "--traffic", url)
	if code != 1 || !strings.Contains(out, "breaking  Boat.mark is gone\n            Marks, asked 3 times by board/1 3") || strings.Contains(out, "extra") {
		t.Errorf("diff exits with %d:\n%s\n%s", code, out, errs)
	}
	out, _, code = osprey(t, "diff", "--types-only", dir, other(t, records, "a", 9), "--traffic", url)
	if code != 0 || !strings.Contains(out, "no difference") {
		t.Errorf("what touches nobody exits with %d:\n%s", code, out)
	}
	for _, args := range [][]string{{"--order", "x"}, {"--within", "-1h"}, {"--limit", "0"}, {"--format", "x"}, {"more"}} {
		if _, errs, code := osprey(t, append([]string{"traffic", "--url", url}, args...)...); code != 2 || errs == "" {
			t.Errorf("%v exits with %d: %s", args, code, errs)
		}
	}
}

// statusOf returns what /api/v1/status says of the records.
func statusOf(t *testing.T, address string) (records struct {
	Problem, Revision         string
	Written, Waiting, Dropped int
}) {
	t.Helper()
	res, err := http.Get("http://" + address + "/api/v1/status")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	status := struct{ Records any }{&records}
	if err := json.NewDecoder(res.Body).Decode(&status); err != nil {
		t.Fatal(err)
	}
	return records
}

// TestRecordsInTrouble has the records' database be away at the start, come, go, be silent, and come
// back: answers go on, and nothing that was asked is lost.
func TestRecordsInTrouble(t *testing.T) {
	direct := demotest.Database(t)
	u, err := url.Parse(direct)
	if err != nil {
		t.Fatal(err)
	}
	proxy := demotest.NewProxy(t, u.Host)
	u.Host = proxy.Address
	records := u.String()
	dir := boatsFolder(t, records)
	proxy.Be(demotest.Dead)
	at, _, said := served(t, dir)
	asked := 0
	ask := func() {
		t.Helper()
		for range 20 {
			if _, _, err := servesAt(at); err != nil {
				t.Fatal(err)
			}
			asked++
		}
	}
	ask()
	if s := statusOf(t, at); !strings.Contains(s.Problem, "does not answer") || strings.Contains(s.Problem, "127.0.0.1") {
		t.Errorf("the status tells %q", s.Problem)
	}
	if _, errs, code := osprey(t, "publish", other(t, records, "a", 1), "--to", "http://"+at); code != 3 || !strings.Contains(errs, "the records' database does not answer") {
		t.Errorf("publish exits with %d: %s", code, errs)
	}
	conn, err := pgx.Connect(t.Context(), direct)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	written := func() (n int) {
		conn.QueryRow(t.Context(), "SELECT coalesce(sum(asked), 0)::int FROM osprey.traffic").Scan(&n)
		return n
	}
	for _, fault := range []demotest.Fault{demotest.NoFault, demotest.Hanging, demotest.NoFault, demotest.Cut, demotest.Slow, demotest.NoFault, demotest.Dead, demotest.NoFault} {
		proxy.Be(fault)
		ask()
		if fault == demotest.NoFault {
			waitUntil(t, fmt.Sprintf("all %d requests are written", asked), func() bool { return written() == asked })
		}
	}
	if s := statusOf(t, at); s.Dropped != 0 {
		t.Errorf("%d were dropped", s.Dropped)
	}
	waitUntil(t, "it says that all is well", func() bool { return statusOf(t, at).Problem == "" })
	if out, errs, code := osprey(t, "publish", other(t, records, "b", 1), "--to", "http://"+at); code != 0 {
		t.Errorf("publish exits with %d: %s %s\n%s", code, out, errs, said)
	}
	becomes(t, at, "b", 1)
	// An older state of the database: what is served stays, and it is told, until something is
	// published again.
	if _, err := conn.Exec(t.Context(), "DELETE FROM osprey.revisions WHERE origin <> 'files'; UPDATE osprey.revisions SET origin = 'published'"); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "it tells of the older state", func() bool { return strings.Contains(statusOf(t, at).Revision, "an older state of them was put back") })
	becomes(t, at, "b", 1)
	if out, errs, code := osprey(t, "publish", other(t, records, "a", 5), "--to", "http://"+at, "--anyway"); code != 0 {
		t.Errorf("publish exits with %d: %s %s", code, out, errs)
	}
	becomes(t, at, "a", 5)
	if s := statusOf(t, at); s.Revision != "" {
		t.Errorf("it still tells %q", s.Revision)
	}
	// A revision that cannot be read, as by a newer Osprey: what is served stays; and a service that
	// starts serves its files, and says why.
	if _, err := conn.Exec(t.Context(), `INSERT INTO osprey.texts VALUES ('\x00', '{"osprey.yaml":"","schema/a.graphql":"type Query { a: Int @gone }"}');
		INSERT INTO osprey.revisions (number, by, origin, sum, schema, differences) VALUES (1000, 'zoe', 'published', '\x00', '', '[]'); NOTIFY osprey`); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "it tells of the revision", func() bool {
		s := statusOf(t, at).Revision
		return strings.Contains(s, "revision 1000, which zoe has published, cannot be served here") && strings.Contains(s, "served still: schema/a.graphql:1:21: ")
	})
	becomes(t, at, "a", 5)
	second, _, _ := served(t, dir)
	becomes(t, second, "a", 0)
	if s := statusOf(t, second).Revision; !strings.Contains(s, "revision 1000") {
		t.Errorf("it tells %q", s)
	}
}

// TestKilledInPublish kills a service while something is published: in the end it is the old
// revision or the new one, whole, and the same for all who start.
func TestKilledInPublish(t *testing.T) {
	records := demotest.Database(t)
	dir := boatsFolder(t, records)
	address := freeAddress(t)
	begin := func() *exec.Cmd {
		cmd := exec.Command(program, "start", dir, "--listen", address)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		waitReady(t, address)
		return cmd
	}
	was, became := 0, 0
	current := "0"
	for version := 1; version <= 12; version++ {
		cmd := begin()
		_, before, err := servesAt(address)
		if err != nil || before != current {
			t.Fatalf("it serves %s and not %s: %v", before, current, err)
		}
		body, _ := json.Marshal(map[string]any{"files": boats(records, "a", version), "by": "ann", "anyway": true})
		go func() {
			res, err := http.Post("http://"+address+"/api/v1/revisions", "application/json", bytes.NewReader(body))
			if err == nil {
				res.Body.Close()
			}
		}()
		time.Sleep(time.Duration(rand.IntN(25)) * time.Millisecond)
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
		cmd = begin()
		_, after, err := servesAt(address)
		switch {
		case err != nil:
			t.Fatal(err)
		case after == before:
			was++
		case after == fmt.Sprint(version):
			became++
		default:
			t.Fatalf("it serves %s, after %s and while %d was published", after, before, version)
		}
		current = after
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
	}
	t.Logf("%d times the old one, %d times the new one", was, became)
}

// TestFollowRevisions tells of new revisions and of trouble while it happens.
func TestFollowRevisions(t *testing.T) {
	records := demotest.Database(t)
	dir := boatsFolder(t, records)
	at, _, _ := served(t, dir)
	said := &saidText{}
	cmd := exec.Command(program, "revisions", "--follow", "--url", "http://"+at)
	cmd.Stdout = said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	said.waitFor(t, "serves revision 1")
	demotest.Write(t, dir, map[string]string{"schema/boats.graphql": "type Query { boats: [Bot!]! }"})
	said.waitFor(t, "the files are not served: schema/boats.graphql:1:22: the type Bot is not defined")
	demotest.Write(t, dir, boats(records, "a", 1))
	said.waitFor(t, "serves revision 2")
	if _, errs, code := osprey(t, "publish", other(t, records, "a", 2), "--to", "http://"+at, "--note", "for the board"); code != 0 {
		t.Error(errs)
	}
	said.waitFor(t, "serves revision 3")
	said.waitFor(t, "for the board")
	cmd.Process.Signal(syscall.SIGINT)
	if err := cmd.Wait(); cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("it ends with %v", err)
	}
	if lines := strings.Split(strings.TrimSpace(said.String()), "\n"); slices.Contains(lines, "") {
		t.Errorf("it says %q", lines)
	}
}

// TestStartPublished starts a service whose files do not fit the stores any more, and what was
// published does: it is served.
func TestStartPublished(t *testing.T) {
	records := demotest.Database(t)
	dir := boatsFolder(t, records)
	at, _, _ := served(t, dir)
	if out, errs, code := osprey(t, "publish", other(t, records, "b", 1), "--to", "http://"+at); code != 0 {
		t.Fatalf("publish exits with %d: %s %s", code, out, errs)
	}
	demotest.Write(t, dir, map[string]string{"schema/boats.graphql": "type Query { boats: [Bot!]! }", "osprey.yaml": strings.Replace(boats(records, "a", 1)["osprey.yaml"], "watch: true", "watch: false", 1)})
	second, _, said := served(t, dir)
	becomes(t, second, "b", 1)
	said.waitFor(t, "serving revision 2, published by")
	if text := said.String(); strings.Contains(text, "Bot") {
		t.Errorf("it says %s", text)
	}
	_, errs, code := osprey(t, "start", dir, "--files", "--listen", freeAddress(t))
	if code != 1 || !strings.Contains(errs, "the type Bot is not defined") {
		t.Errorf("its files exit with %d: %s", code, errs)
	}
}

// TestPublishOperations has a team's operations taken in beside what is served: from files, and from what was
// published; those of the same files are replaced, and what the schema does not have is refused.
func TestPublishOperations(t *testing.T) {
	dir := boatsFolder(t, demotest.Database(t))
	at, _, _ := served(t, dir)
	url := "http://" + at
	saved := func(name string) string {
		res, err := http.Get(url + "/graphql?operationName=" + name)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, _ := io.ReadAll(res.Body)
		return string(text)
	}
	before, _, _ := osprey(t, "ask", "--url", url, "--as", "json", "{ __schema { types { name } } }")
	own := demotest.Folder(t, map[string]string{"Marks.graphql": "query Marks { boats { mark } }", "team/More.graphql": "query More { __typename }", "notes.txt": "no operation"})
	if out, errs, code := osprey(t, "publish", own, "--operations", "--to", url); code != 0 || !strings.Contains(out, "revision 2 is served") {
		t.Fatalf("the operations: %d %s%s", code, out, errs)
	}
	if got := saved("Marks"); !strings.HasPrefix(got, `{"data":{"boats":[`) {
		t.Errorf("Marks is answered %s", got)
	}
	if got := saved("More"); got != `{"data":{"__typename":"Query"}}` {
		t.Errorf("More is answered %s", got)
	}
	demotest.Write(t, own, map[string]string{"Marks.graphql": "query Marks { again: __typename }"})
	if out, errs, code := osprey(t, "publish", own, "--operations", "--to", url, "--anyway"); code != 0 {
		t.Fatalf("the operations again: %d %s%s", code, out, errs)
	}
	if got := saved("Marks"); got != `{"data":{"again":"Query"}}` {
		t.Errorf("Marks is answered %s", got)
	}
	if after, _, _ := osprey(t, "ask", "--url", url, "--as", "json", "{ __schema { types { name } } }"); after != before {
		t.Errorf("the schema is another: %s", after)
	}
	demotest.Write(t, own, map[string]string{"Marks.graphql": "query Marks { nothing }"})
	if out, errs, code := osprey(t, "publish", own, "--operations", "--to", url); code != 1 || !strings.Contains(errs, "nothing") {
		t.Errorf("what the schema does not have: %d %s%s", code, out, errs)
	}
	if _, errs, code := osprey(t, "publish", t.TempDir(), "--operations", "--to", url); code != 2 || !strings.Contains(errs, "has no operations") {
		t.Errorf("no operations: %d %s", code, errs)
	}
}
