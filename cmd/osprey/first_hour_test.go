package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestFirstHour goes the way of somebody who has a database of thirty tables, and Osprey for the
// first time: a nested answer, an extension that stays, and a table of a type.
func TestFirstHour(t *testing.T) {
	db := emptyDatabase(t, "postgres")
	tables := `CREATE TABLE piers (id int PRIMARY KEY, name text NOT NULL)
CREATE TABLE boats (id int PRIMARY KEY, name text NOT NULL, pier_id int NOT NULL REFERENCES piers (id))
CREATE TABLE trips (id int PRIMARY KEY, boat_id int NOT NULL REFERENCES boats (id), began timestamptz NOT NULL)
INSERT INTO piers VALUES (1, 'North')
INSERT INTO boats VALUES (1, 'Ebb', 1)
INSERT INTO trips VALUES (1, 1, '2026-03-01T08:00Z')`
	for i := range 27 {
		tables += fmt.Sprintf("\nCREATE TABLE store_%02d (id int PRIMARY KEY, pier_id int REFERENCES piers (id), label text)", i)
	}
	db.run(tables)
	dir := filepath.Join(t.TempDir(), "mine")
	out, errs, code := osprey(t, "new", "--from", db.url, dir)
	if code != 0 || !strings.Contains(out, "30 types") {
		t.Fatalf("new exits with %d: %s%s", code, out, errs)
	}
	if strings.Contains(db.url, "@") { // with a password, which is not written down
		source, _, _ := strings.Cut(strings.SplitN(readFile(t, filepath.Join(dir, "osprey.yaml")), "url: ${", 2)[1], "}")
		t.Setenv(source, db.url)
	}
	nested := `{ piers { name boats { name trips { began } } store05s { label } } }`
	want := `{"data":{"piers":[{"name":"North","boats":[{"name":"Ebb","trips":[{"began":"2026-03-01T08:00:00Z"}]}],"store05s":[]}]}}`
	if got := asked(t, dir, nested); got != want {
		t.Errorf("the first answer is\n%s\nwant\n%s", got, want)
	}
	name := strings.TrimSuffix(filepath.Base(glob(t, filepath.Join(dir, "schema/derived/*.graphql"))), ".graphql")
	own := filepath.Join(dir, "schema/own.graphql")
	text := fmt.Sprintf(`extend type Boat {
  title: String! @computed(expr: "record.name + ' at ' + record.pier.name")
  repairs: [Repair!]! @related(there: "boat_id")
}

"What was mended on a boat."
type Repair @stored(in: %q, as: "repairs", key: "id") {
  id: ID!
  what: String!
  boat: Boat! @related(here: "boat_id")
}

type Mutation {
  mend(repair: RepairAdd!): Repair @add
}
`, name)
	if err := os.WriteFile(own, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, errs, code := osprey(t, "tables", "plan", "--project", dir, name); code != 0 || !strings.Contains(out, "  the table repairs\n") || !strings.Contains(out, "  an index on boats (pier_id)\n") {
		t.Fatalf("plan exits with %d: %s%s", code, out, errs)
	}
	if out, errs, code := osprey(t, "tables", "apply", "--project", dir, name); code != 0 {
		t.Fatalf("apply exits with %d: %s%s", code, out, errs)
	}
	db.run("ALTER TABLE boats ADD COLUMN sail text") // meanwhile the database goes on
	if out, errs, code := osprey(t, "derive", "--project", dir, name); code != 0 || !strings.Contains(out, "added    Boat.sail") {
		t.Errorf("derived again, it says %d %s%s", code, out, errs)
	}
	if readFile(t, own) != text {
		t.Error("what is one's own was touched")
	}
	if out, errs, code := osprey(t, "check", dir); code != 0 {
		t.Errorf("check exits with %d: %s%s", code, out, errs)
	}
	got := asked(t, dir, `mutation { mend(repair: {what: "mast", boat: 1}) { what boat { title sail repairs { what } } } }`)
	if want := `{"data":{"mend":{"what":"mast","boat":{"title":"EbbatNorth","sail":null,"repairs":[{"what":"mast"}]}}}}`; got != want {
		t.Errorf("the answer is\n%s\nwant\n%s", got, want)
	}
}

func readFile(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// glob returns the one file of a pattern.
func glob(t *testing.T, pattern string) string {
	t.Helper()
	files, err := filepath.Glob(pattern)
	if err != nil || len(files) != 1 {
		t.Fatalf("of %s there are %v", pattern, files)
	}
	return files[0]
}
