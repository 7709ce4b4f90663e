package publishing_test

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/demo/demotest"
	"osprey/project"
	"osprey/publishing"
	"osprey/records"
)

func TestMain(m *testing.M) { demotest.Main(m) }

// keeper opens a project with records, and keeps them.
func keeper(t *testing.T, at, schema string) (*project.Project, *publishing.Keeper) {
	t.Helper()
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": fmt.Sprintf("records: { url: %q }\n", at), "schema/a.graphql": schema})
	log := slog.New(slog.DiscardHandler)
	p, k, findings, err := publishing.Open(context.Background(), dir, false, log, &project.Additions{})
	if err != nil {
		t.Fatal(err, findings.JSON(dir))
	}
	t.Cleanup(p.Close)
	t.Cleanup(k.Start(context.Background(), "one", func() {}))
	return p, k
}

func until(t *testing.T, what string, done func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !done(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("waited a minute until %s", what)
		}
	}
}

const answers = `type Query { answer: Int @computed(expr: "1")  other: Int @computed(expr: "2") }`

func ask(p *project.Project, k *publishing.Keeper, client, query string) {
	r, release := p.Hold()
	defer release()
	a := r.Ask(context.Background(), &project.Request{Query: query})
	k.Count(a, client, "r1", time.Millisecond)
	a.Free()
}

// TestRefusedBatch has the database refuse what one client asked: it is given up after some tries, and
// counted as such; what others ask goes on being written.
func TestRefusedBatch(t *testing.T) {
	at := demotest.Database(t)
	p, k := keeper(t, at, answers)
	conn, err := pgx.Connect(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(t.Context(), `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.client = 'bad' THEN RAISE EXCEPTION 'no' USING ERRCODE = '22023'; END IF; RETURN NEW; END $$;
		CREATE TRIGGER refuse BEFORE INSERT ON osprey.traffic FOR EACH ROW EXECUTE FUNCTION refuse()`); err != nil {
		t.Fatal(err)
	}
	ask(p, k, "bad", "{ answer }")
	until(t, "it is given up", func() bool { return k.State().Dropped == 1 })
	ask(p, k, "good", "{ answer }")
	until(t, "what others ask is written", func() bool { return k.State().Written == 1 && k.State().Problem == "" })
}

// TestPublishedByNobody publishes from a caller who has hung up: it is done, and whole.
func TestPublishedByNobody(t *testing.T) {
	p, k := keeper(t, demotest.Database(t), answers)
	ctx, hangUp := context.WithCancel(t.Context())
	hangUp()
	out, err := k.Publish(ctx, &publishing.Publication{Files: project.Files{"osprey.yaml": "", "schema/a.graphql": `type Query { answer: Int @computed(expr: "2") }`}, By: "ann", Onto: 0})
	if err != nil || out.Revision.Number != 2 || p.Revision().Label().Number != 2 {
		t.Fatalf("%+v: %v", out, err)
	}
	if last, err := k.Records.Last(t.Context()); err != nil || last.Number != 2 {
		t.Errorf("kept is %+v: %v", last, err)
	}
}

// TestBreaks tells which operations a change breaks: those that use what is gone, also by what they do
// not name; and not those that were broken before, or that nobody asked for a long time.
func TestBreaks(t *testing.T) {
	at := demotest.Database(t)
	schema := `type Query { boat: Boat @computed(expr: "{'name': 'Ebb', 'kind': 'TUG'}")  named(kind: Kind = TUG, given: In): String @computed(expr: "args.kind == 'TUG' || args.given == null ? 'x' : 'y'") }
		type Boat { name: String!  kind: Kind }
		enum Kind { TUG FERRY }
		input In { a: Int  b: Kind }`
	p, k := keeper(t, at, schema)
	for client, query := range map[string]string{
		"kind":     "query Kind { boat { kind } }",
		"name":     "query Name { boat { name } }",
		"literal":  "query Literal { named(kind: FERRY) }",
		"variable": "query Variable($in: In) { named(given: $in) }",
		"wrong":    "query Wrong { boat { nothing } }",
		"old":      "query Old { named }",
	} {
		ask(p, k, client, query)
	}
	until(t, "it is written", func() bool { return k.State().Written == 6 })
	conn, err := pgx.Connect(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(t.Context(), "UPDATE osprey.traffic SET hour = hour - interval '8 days' WHERE client = 'old'"); err != nil {
		t.Fatal(err)
	}
	for change, want := range map[string]string{
		`type Query { boat: Boat @computed(expr: "{'name': 'Ebb', 'kind': 'TUG'}")  named(kind: Kind = TUG, given: In): String @computed(expr: "args.kind == 'TUG' || args.given == null ? 'x' : 'y'")  more: Int @computed(expr: "1") } type Boat { name: String!  kind: Kind } enum Kind { TUG FERRY } input In { a: Int  b: Kind }`: "",
		`type Query { boat: Boat @computed(expr: "{'name': 'Ebb'}")  named(kind: Kind = TUG, given: In): String @computed(expr: "args.kind == 'TUG' || args.given == null ? 'x' : 'y'") } type Boat { name: String! } enum Kind { TUG FERRY } input In { a: Int  b: Kind }`:                                                            "Kind",
		`type Query { boat: Boat @computed(expr: "{'name': 'Ebb', 'kind': 'TUG'}")  named(kind: Kind = TUG, given: In): String @computed(expr: "args.kind == 'TUG' || args.given == null ? 'x' : 'y'") } type Boat { name: String  kind: Kind } enum Kind { TUG FERRY } input In { a: Int  b: Kind }`:                                  "Name",
		`type Query { boat: Boat @computed(expr: "{'name': 'Ebb', 'kind': 'TUG'}")  named(kind: Kind = TUG, given: In): String @computed(expr: "args.kind == 'TUG' || args.given == null ? 'x' : 'y'") } type Boat { name: String!  kind: Kind } enum Kind { TUG } input In { a: Int  b: Kind }`:                                       "Literal Variable",
		`type Query { boat: Boat @computed(expr: "{'name': 'Ebb', 'kind': 'TUG'}")  named(kind: Kind = TUG, given: In): String @computed(expr: "args.kind == 'TUG' || args.given == null ? 'x' : 'y'") } type Boat { name: String!  kind: Kind } enum Kind { TUG FERRY } input In { a: Int  b: Kind  c: Int! }`:                        "Variable",
		`type Query { boat: Boat @computed(expr: "{'name': 'Ebb', 'kind': 'TUG'}") } type Boat { name: String!  kind: Kind } enum Kind { TUG FERRY }`:                                                                                                                                                                                  "Literal Variable",
	} {
		out, err := k.Publish(t.Context(), &publishing.Publication{Files: project.Files{"osprey.yaml": "", "schema/a.graphql": change}, By: "ann", Onto: records.Any, Try: true, Anyway: true})
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]bool{}
		for _, b := range out.Broken {
			got[b.Name] = true
			if len(b.Why) == 0 || len(b.Clients) != 1 || b.Asked != 1 {
				t.Errorf("it is told as %+v", b)
			}
		}
		wanted := map[string]bool{}
		for _, name := range strings.Fields(want) {
			wanted[name] = true
		}
		if fmt.Sprint(got) != fmt.Sprint(wanted) {
			t.Errorf("%s\nbreaks %v, and should break %v", change, got, wanted)
		}
	}
}
