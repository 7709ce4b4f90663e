package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"osprey/core/language"
)

func TestReadConfig(t *testing.T) {
	env := map[string]string{"REGISTRY_URL": "postgres://x", "EMPTY": "", "RETRIES": "7"}
	getenv := func(name string) (string, bool) { v, ok := env[name]; return v, ok }
	const text = `
listen: ${LISTEN:-127.0.0.1:7420}
sources:
  registry:
    kind: postgres
    url: "${REGISTRY_URL}"
    naming: snake
    pool: ${POOL:-3}
    timeout: ${TIMEOUT:-1500ms}
  tides:
    kind: rest
    retries: ${RETRIES}
    url: http://${HOST:-localhost}/${EMPTY:-base}
    headers: { Authorization: "Bearer ${TOKEN:-none}" }
    sets:
      stations: { key: [a, b], fields: { a: text, b: int?, c: [float] }, reads: [{ get: "/x{?a*}", many: a }] }
limits:
  body: ${BODY:-2MB}
  timeout: 3s
introspection: ${INTROSPECTION:-false}
`
	c, problems := readConfig(language.NewSource("osprey.yaml", text), getenv)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if c.Listen != "127.0.0.1:7420" || c.Sources["registry"].URL != "postgres://x" || c.Sources["registry"].Timeout != Span(1500*time.Millisecond) || c.Sources["registry"].Pool != 3 || *c.Sources["tides"].Retries != 7 ||
		c.Sources["tides"].URL != "http://localhost/base" || c.Sources["tides"].Headers["Authorization"] != "Bearer none" || *c.Introspection {
		t.Errorf("the configuration is %+v %+v", c, c.Sources["tides"])
	}
	if l := c.Limits; l.Body != 2<<20 || l.Timeout != Span(3*time.Second) || l.Answer != 64<<20 || l.Records != 1_000_000 || l.Plans != 64<<20 {
		t.Errorf("the limits are %+v", l)
	}
	fields, err := restFields(c.Sources["tides"].Sets["stations"].Fields)
	if err != nil || len(fields) != 3 || !fields[1].nullable || !fields[2].list || fields[2].kind.String() != "float" {
		t.Errorf("the fields are %+v, %v", fields, err)
	}
}

// TestConfigProblems holds the place and the words of what is wrong.
func TestConfigProblems(t *testing.T) {
	applied := 0
	for _, test := range []struct{ text, want string }{
		{"sources: 5\n", "osprey.yaml:1:10: "},
		{"source: {}\n", `osprey.yaml:1:1: osprey.yaml has no key "source"; did you mean "sources"?`},
		{"sources:\n  a:\n", "osprey.yaml:2:3: the source a is empty"},
		{"sources:\n  a: { kind: rest, url: \"${A}${B:-x}\" }\n", "osprey.yaml:2:26: the environment variable A, which the source a needs, is not set"},
		{"sources:\n  a: { kind: rest, url: x, naming: kebab }\n", `osprey.yaml:2:3: the source a has the naming rule "kebab"; there are exact, camel, snake`},
		// Keys that are none, or stand elsewhere, and values of another form.
		{"sources:\n  a: { kind: postgres, adress: x }\n", `osprey.yaml:2:24: the source a has no key "adress" → its keys are kind, url,`},
		{"sources:\n  a: { kind: rest, url: x, ulr: y }\n", `osprey.yaml:2:28: the source a has no key "ulr"; did you mean "url"?`},
		{"sources:\n  a: { kind: rest, url: x }\npool: 4\n", `osprey.yaml:3:1: osprey.yaml has no key "pool"`},
		{"sources:\n  a:\n    kind: rest\n    url: x\n    sets:\n      s: { key: id, many: id }\n", `osprey.yaml:6:21: the set s has no key "many"`},
		{"sources:\n  - a\n", `osprey.yaml:2:3: sources must have keys with values, and is a list`},
		{"sources:\n  a: postgres\n", `osprey.yaml:2:6: the source a must have keys with values, and is a text`},
		{"introspection: maybe\n", `osprey.yaml:1:16: introspection must be true or false, and is a text`},
		{"hosts: port.example\n", `osprey.yaml:1:8: hosts must be a list, and is a text`},
		{"sources:\n  a: { kind: [rest] }\n", `osprey.yaml:2:14: the source a's kind must be a text, and is a list`},
		{"limits: { timeout: ${T:-5} }\n", `osprey.yaml:1:`},
		{"limits:\n  page: ${PAGE:-many}\n", `osprey.yaml:2:9: "many" is no number`},
		{"introspection: ${INTROSPECTION:-yes please}\n", `osprey.yaml:1:16: introspection must be true or false, and is a text`},
		{"limits:\n  timeout: ${TIMEOUT}\n", `osprey.yaml:2:12: the environment variable TIMEOUT, which limits.timeout needs, is not set`},
		{"sources:\n  a: { kind: files, folder: x, pool: 4 }\n", `osprey.yaml:2:32: the source a is of the kind files, which has no pool; it is a key of postgres, mysql, sqlite, mongodb, rest, functions → leave it out`},
		{"sources:\n  a: { kind: postgres, sets: {} }\n", `which has no sets; it is a key of rest → leave it out`},
		// Bounds that are none.
		{"limits: { body: abc }\n", `osprey.yaml:1:17: "abc" is no number of bytes → write it like 512KB, 16MB or 1GB`},
		{"limits:\n  answer: 99999999999GB\n", `osprey.yaml:2:11: "99999999999GB" is no number of bytes`},
		{"limits:\n  plans: -1\n", `osprey.yaml:2:10: "-1" is no number of bytes`},
		{"limits:\n  timeout: -5s\n", `osprey.yaml:2:12: "-5s" is no length of time → write it like 500ms, 3s or 2m`},
		{"limits:\n  timeout: 5\n", `osprey.yaml:2:12: "5" is no length of time → write 5s`},
		{"limits:\n  page: -1\n", `osprey.yaml:2:9: "-1" is no number from 0 to 2147483647`},
		{"limits:\n  page: [1]\n", `osprey.yaml:2:9: "[1]" is no number`},
		{"limits:\n  records: 1.5\n", `osprey.yaml:2:12: "1.5" is no number`},
		{"sources:\n  a: { kind: rest, url: x, retries: -2 }\n", `osprey.yaml:2:37: "-2" is no number`},
		{"sources:\n  a: { kind: rest, url: x, maxAnswer: 1TB }\n", `osprey.yaml:2:39: "1TB" is no number of bytes`},
		// What is no YAML.
		{"sources:\n  a: [1, 2\n", `osprey.yaml:2:6: the bracket [ is not closed → close it with ]`},
		{"sources:\n  a: {kind: rest\n", `osprey.yaml:2:6: the brace { is not closed → close it with }`},
		{"sources:\n  a: {kind: rest, , url: x}\n", `osprey.yaml:2:19: an entry in braces is empty → leave one of the commas out`},
		{"listen: 'x\n", `osprey.yaml:1:9: the quote is not closed → close it with the same quote`},
		{"limits:\n\tpage: 5\n", `osprey.yaml:2:1: a tab stands where YAML has spaces only → indent with spaces`},
		{"listen: 1\n  limits: 2\n", `osprey.yaml:1:9: a key with a value cannot stand here → give it a line of its own`},
		{"listen: a\nlisten: b\n", `osprey.yaml:2:1: the key listen stands here again; it is on line 1 → leave one of them out`},
		{"listen 1\nlimits: {}\n", `osprey.yaml:1:1: this is no key with a value → write key: value`},
		{"listen: @x\n", "osprey.yaml:1:9: a text cannot begin with @ → put it in quotes"},
		{"listen: \"\\q\"\n", "there is no such escape sequence"},
		{"hosts: - a\n", `osprey.yaml:1:8: a list cannot begin on the line of its key`},
		{"listen: *x\n", `the alias has no anchor → write &name before the value that it stands for`},
		{"hosts:\n  - b\n limits: {}\n", `osprey.yaml:3:2: this does not belong to what stands above it → indent it as its neighbours are`},
		{"listen: a\n---\nlisten: b\n", `osprey.yaml:2:1: a second document begins here`},
		// Several at once.
		{"limits: { page: x, answer: y, timeout: 5 }\nhosts: port\nsources:\n  a: { kind: rest, naming: kebab, ulr: x }\n", `osprey.yaml:1:17: "x" is no number from 0 to 2147483647 → write a whole number such as 100
osprey.yaml:1:28: "y" is no number of bytes → write it like 512KB, 16MB or 1GB
osprey.yaml:1:40: "5" is no length of time → write 5s
osprey.yaml:2:8: hosts must be a list, and is a text → write it in brackets: [port]
osprey.yaml:4:35: the source a has no key "ulr"; did you mean "url"? → its keys are kind,`},
	} {
		src := language.NewSource("osprey.yaml", test.text)
		_, problems := readConfig(src, func(string) (string, bool) { return "", false })
		got := ""
		for _, p := range problems {
			got += src.Position(p.Pos).String() + ": " + p.Msg
			if p.Fix != "" {
				got += " → " + p.Fix
			}
			got += "\n"
			if mended, ok := mendYAML(test.text, src.Offset(p.Pos), p); ok {
				applied++
				again := language.NewSource("osprey.yaml", mended)
				_, left := readConfig(again, func(string) (string, bool) { return "", false })
				if slices.ContainsFunc(left, func(q *language.Problem) bool { return q.Msg == p.Msg }) {
					t.Errorf("%q\nsays to do %q, and %q has it still", test.text, p.Fix, mended)
				}
			}
		}
		if !strings.Contains(got, test.want) {
			t.Errorf("%q reports %q, want %q", test.text, got, test.want)
		}
	}
	if applied < 8 {
		t.Errorf("%d remedies are changes of the text", applied)
	}
}

var (
	writeThis  = regexp.MustCompile(`^write (?:it in brackets: )?(\[.*\]|\d+s|true or false)$`)
	meantThis  = regexp.MustCompile(`did you mean "(\w+)"\?$`)
	yamlScalar = regexp.MustCompile(`^(?:\$\{[^}]*\}|[^,}\n]+)`)
	yamlEntry  = regexp.MustCompile(`^\w+: (?:\{[^}]*\}|[^,}\n]+)`)
)

// mendYAML does what a problem says to do about it, where that is a change of the text.
func mendYAML(text string, at int, p *language.Problem) (string, bool) {
	rest := text[at:]
	if m := writeThis.FindStringSubmatch(p.Fix); m != nil {
		return text[:at] + strings.TrimSuffix(m[1], " or false") + rest[len(strings.TrimRight(yamlScalar.FindString(rest), " ")):], true
	}
	if m := meantThis.FindStringSubmatch(p.Msg); m != nil && strings.Contains(p.Msg, "has no key") {
		return text[:at] + m[1] + rest[strings.IndexByte(rest, ':'):], true
	}
	switch {
	case p.Fix == "leave it out":
		return strings.TrimRight(text[:at], ", ") + rest[len(yamlEntry.FindString(rest)):], true
	case strings.HasPrefix(p.Fix, "close it with "):
		return strings.TrimRight(text, "\n") + p.Fix[len("close it with "):len("close it with ")+1] + "\n", !strings.HasSuffix(p.Fix, "quote")
	case p.Fix == "put it in quotes":
		return text[:at] + `"` + strings.TrimRight(rest, "\n") + "\"\n", true
	case p.Fix == "indent with spaces":
		return strings.ReplaceAll(text, "\t", "  "), true
	}
	return text, false
}

// TestEveryFinding has mistakes in each part of osprey.yaml, in the types and in an
// operation: all of them are told at once, each once, and a source that is wrong is
// no reason for further findings.
func TestEveryFinding(t *testing.T) {
	_, findings, err := open(t, `type Query { things: [Thing!] @read crates: [Crate!] @read x: Nothing }
type Thing @stored(in: "away", as: "things") { id: ID! gone: Int }
type Crate @stored(in: "lost", as: "crates") { id: ID! size: Int! @at(path: "a.b") }`, map[string]string{
		"osprey.yaml": `limits: { page: many, answer: 1TB }
sources:
  lost: { kind: postgres, url: "${OSPREY_TEST_NOWHERE}", naming: kebab }
  old: { kind: oracle }
  away:
    kind: rest
    url: http://127.0.0.1:1
    sets:
      things:
        key: id
        fields: { id: text, height: metres, width: metres }
        reads: [{ get: "/things/{id" }, { get: "/things{?id}", many: key, pick: "$.r[" }, { get: "/things{?id}", pick: "$.r[" }]
`})
	want := []string{
		`"many" is no number from 0 to 2147483647`, `"1TB" is no number of bytes`,
		`the source lost has the naming rule "kebab"`, `the environment variable OSPREY_TEST_NOWHERE, which the source lost needs`,
		`the source old is of the kind "oracle"`,
		`the field height is of the kind "metres"`, `the field width is of the kind "metres"`,
		`"/things/{id" is not a URI template (RFC 6570): a brace is not closed`, `"/things{?id}" has no variable "key"`, `"$.r[" is not a JSONPath (RFC 9535) such as $.results[*]`,
		`the type Nothing is not defined`,
	}
	if err == nil || len(findings) != len(want) {
		t.Errorf("%d findings, want %d", len(findings), len(want))
	}
	for _, w := range want {
		if n := len(slices.DeleteFunc(slices.Clone(findings), func(f Finding) bool { return !strings.Contains(f.Msg, w) })); n != 1 {
			t.Errorf("%q is told %d times", w, n)
		}
	}
}

func TestSizes(t *testing.T) {
	for text, want := range map[string]Size{"12": 12, "12B": 12, "3KB": 3 << 10, "1 MB": 1 << 20, `"2gb"`: 2 << 30, "1_000": 1000, "x": -1, "-1": -1, "0": -1, "1TB": -1} {
		got := struct{ N Size }{-1}
		err := yaml.Unmarshal([]byte("n: "+text), &got)
		if (err != nil) != (want == -1) || got.N != want {
			t.Errorf("%q is %d, %v; want %d", text, got.N, err, want)
		}
	}
}

// open opens a project that needs no store to answer.
func open(t *testing.T, schema string, more map[string]string) (*Project, Findings, error) {
	t.Helper()
	dir := t.TempDir()
	files := map[string]string{
		"osprey.yaml":      "sources:\n  away:\n    kind: rest\n    url: http://127.0.0.1:1\n    timeout: 200ms\n    sets:\n      things: { key: id, fields: { id: text, name: text }, reads: [{ get: \"/things{?id*}\", many: id }] }\nlimits: { plans: 1MB }\n",
		"schema/a.graphql": schema,
	}
	for name, text := range more {
		files[name] = text
	}
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	p, findings, err := Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if p != nil {
		t.Cleanup(p.Close)
	}
	return p, findings, err
}

const things = `type Query { thing(id: ID!): Thing @read things(id: [ID!], filter: ThingFilter): [Thing!]! @read }
type Thing @stored(in: "away", as: "things", key: "id") { id: ID! name: String! }`

func TestOpenReportsEveryFile(t *testing.T) {
	_, findings, err := open(t, things, map[string]string{"schema/deep/b.graphql": "type Other { a: Nothing }", "operations/X.graphql": "{ thing { name } }"})
	if err == nil || len(findings) != 1 || !strings.HasSuffix(findings[0].At.Name, "schema/deep/b.graphql") || findings[0].Line != "type Other { a: Nothing }" {
		t.Errorf("Open reports %v, %v", findings, err)
	}
	_, findings, err = open(t, things, map[string]string{"operations/X.graphql": "{ thing { name } }", "operations/sub/Y.graphql": "{ things { nam } }"})
	if err == nil || err.Error() != "the project has 2 errors" || len(findings) != 2 {
		t.Errorf("Open reports %v, %v", findings, err)
	}
	for name, want := range map[string]string{"osprey.yaml": "", "schema/a.graphql": ""} {
		dir := t.TempDir()
		if name == "schema/a.graphql" {
			if err := os.WriteFile(filepath.Join(dir, ConfigFile), []byte("sources:\n  a: { kind: rest, url: http://x }\n"), 0o644); err != nil {
				t.Fatal(err)
			}
			want = "has no folder schema/"
		} else {
			want = "has no osprey.yaml"
		}
		if _, _, err := Open(context.Background(), dir, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("a folder without %s: %v, want %q", name, err, want)
		}
	}
}

// TestPlansAreKept asks the same text again and again: one plan, however the
// values differ, and a bounded number of texts.
func TestPlansAreKept(t *testing.T) {
	p, findings, err := open(t, things, nil)
	if err != nil {
		t.Fatal(err, findings)
	}
	r := p.Revision()
	const text = `query ($id: ID!, $b: Boolean = true) { thing(id: $id) { id name @include(if: $b) } }`
	plan := func(vars map[string]any) any {
		t.Helper()
		got, _, faults := r.Plan(&Request{Query: text, Variables: vars})
		if faults != nil {
			t.Fatal(faults)
		}
		return got
	}
	first := plan(map[string]any{"id": "a"})
	if plan(map[string]any{"id": "b"}) != first || plan(map[string]any{"id": "a", "b": true}) != first {
		t.Errorf("another key makes another plan")
	}
	if other := plan(map[string]any{"id": "a", "b": false}); other == first || plan(map[string]any{"id": "c", "b": false}) != other {
		t.Errorf("a condition does not make a plan of its own, once")
	}
	// Of a filter, what is compared makes the plan, and the values do not.
	const filtered = `query ($f: ThingFilter) { things(filter: $f) { id } }`
	form := func(filter string) any {
		t.Helper()
		var f any
		if err := json.Unmarshal([]byte(filter), &f); err != nil {
			t.Fatal(err)
		}
		got, _, faults := r.Plan(&Request{Query: filtered, Variables: map[string]any{"f": f}})
		if faults != nil {
			t.Fatal(faults)
		}
		return got
	}
	one := form(`{"name": {"in": ["a"]}, "any": [{"id": {"is": "1"}}]}`)
	for filter, same := range map[string]bool{
		`{"name": {"in": ["b", "c", "d"]}, "any": [{"id": {"is": "2"}}]}`:            true,
		`{"name": {"in": []}, "any": [{"id": {"is": "2"}}]}`:                         true,
		`{"name": {"in": ["a"]}, "any": [{"id": {"isNot": "1"}}]}`:                   false,
		`{"name": {"in": ["a"]}, "any": [{"id": {"is": null}}]}`:                     false,
		`{"name": {"in": ["a"]}, "any": [{"id": {"is": "1"}}, {"id": {"is": "2"}}]}`: false,
		`{"name": {"in": ["a"], "missing": false}, "any": [{"id": {"is": "1"}}]}`:    false,
		`null`: false,
	} {
		if (form(filter) == one) != same {
			t.Errorf("the filter %s has the same plan: %t", filter, !same)
		}
	}
}

// TestAskWithoutStore asks a service that is not there, with a deadline and a
// caller who gave up.
func TestAskWithoutStore(t *testing.T) {
	p, findings, err := open(t, things, nil)
	if err != nil {
		t.Fatal(err, findings)
	}
	a := p.Revision().Ask(context.Background(), &Request{Query: `{ thing(id: 1) { name } t: __typename }`})
	if got := string(a.AppendJSON(nil, false)); !strings.Contains(got, `"data":{"thing":null,"t":"Query"}`) || !strings.Contains(got, `"code":"STORE_DOWN","source":"away"`) || strings.Contains(got, "127.0.0.1") {
		t.Errorf("answers %s", got)
	}
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	a = p.Revision().Ask(gone, &Request{Query: `{ thing(id: 1) { name } }`})
	if len(a.Faults) != 1 || a.Faults[0].Code != "CANCELLED" {
		t.Errorf("a cancelled request has %+v", a.Faults)
	}
	for query, code := range map[string]string{`{`: CodeSyntax, `{ a }`: CodeInvalid, `query ($i: ID!) { thing(id: $i) { id } }`: CodeVariables, `fragment F on Thing { id }`: CodeInvalid} {
		if a := p.Revision().Ask(context.Background(), &Request{Query: query}); !a.Refused || a.Faults[0].Code != code || strings.Contains(string(a.AppendJSON(nil, true)), "data") {
			t.Errorf("%s has %+v, want %s", query, a.Faults, code)
		}
	}
}

// TestFragmentsThatExplode asks for a number of fields that no memory holds.
func TestFragmentsThatExplode(t *testing.T) {
	p, findings, err := open(t, things+" extend type Thing { next: Thing @related(here: \"id\") }", nil)
	if err != nil {
		t.Fatal(err, findings)
	}
	var b strings.Builder
	b.WriteString("{ things { ...F0 } } ")
	for i := range 60 {
		fmt.Fprintf(&b, "fragment F%d on Thing { a: next { ...F%d } b: next { ...F%d } } ", i, i+1, i+1)
	}
	b.WriteString("fragment F60 on Thing { id }")
	a := p.Revision().Ask(context.Background(), &Request{Query: b.String()})
	if !a.Refused || a.Faults[0].Code != CodeLimit || !strings.Contains(a.Faults[0].Message, "asks for more than 20000 fields, which is the limit") {
		t.Errorf("answers %+v", a.Faults)
	}
}

// TestTooManyRequests refuses an operation before it runs, by the number of
// store requests that its plan has, and explains it all the same.
func TestTooManyRequests(t *testing.T) {
	p, findings, err := open(t, things+" extend type Thing { next: Thing @related(here: \"id\") }", nil)
	if err != nil {
		t.Fatal(err, findings)
	}
	p.Config.Limits.StoreRequests = 2
	for query, want := range map[string]string{
		`{ thing(id: 1) { name } other: thing(id: 2) { name } }`:                         "2 store requests in 1 wave",
		`{ a: thing(id: 1) { name } b: thing(id: 2) { name } c: thing(id: 3) { name } }`: "3 store requests in 1 wave, which is more than the limit of 2: it is refused",
	} {
		e, faults := p.Revision().Explain(&Request{Query: query})
		if faults != nil || !strings.HasSuffix(e.Summary(), want) {
			t.Errorf("%s\nis explained as %q %v, want %q", query, e.Summary(), faults, want)
		}
		a := p.Revision().Ask(context.Background(), &Request{Query: query})
		refused := a.Refused && a.Faults[0].Code == CodeLimit && strings.Contains(a.Faults[0].Message, "takes 3 store requests, and the limit is 2")
		if wanted := strings.Contains(want, "refused"); refused != wanted {
			t.Errorf("%s\nis answered with %+v; refused should be %t", query, a.Faults, wanted)
		}
	}
}

// TestStatements tells how many statements a request is, and counts them as requests.
func TestStatements(t *testing.T) {
	file := filepath.Join(t.TempDir(), "port.db")
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE quays (code TEXT PRIMARY KEY); CREATE TABLE berths (id INTEGER PRIMARY KEY, quay TEXT); INSERT INTO quays VALUES ('N'); INSERT INTO berths VALUES (1, 'N'), (2, 'N')"); err != nil {
		t.Fatal(err)
	}
	p, findings, err := open(t, `type Query { quays: [Quay!] @read one(code: ID!): Quay @read }
type Quay @stored(in: "port", as: "quays", key: "code") { code: ID! berths(limit: Int): [Berth!] @related(there: "quay") }
type Berth @stored(in: "port", as: "berths", key: "id") { id: ID! at: Quay @related(here: "quay", there: "code") }`,
		map[string]string{ConfigFile: "sources: { port: { kind: sqlite, url: \"sqlite:" + file + "\" } }\n"})
	if err != nil {
		t.Fatal(err, findings)
	}
	const query = `{ quays { berths(limit: 1) { id at { code berths { id } } } } }`
	e, faults := p.Revision().Explain(&Request{Query: query})
	if faults != nil || e.Summary() != "at least 3 store requests in 1 wave" || !strings.Contains(e.Text(false), "3 statements in one transaction: one for each list, by the keys that came with the rows above it") {
		t.Errorf("is explained as\n%s%v", e.Text(true), faults)
	}
	if a := p.Revision().Ask(context.Background(), &Request{Query: query}); string(a.Data) != `{"quays":[{"berths":[{"id":"1","at":{"code":"N","berths":[{"id":"1"},{"id":"2"}]}}]}]}` || a.Requests[0].RoundTrips != 3 {
		t.Errorf("answers %s %v", a.Data, a.Faults)
	}
	const bounded = `{ one(code: "N") { berths { id } } }` // whose keys go into one statement
	if e, faults := p.Revision().Explain(&Request{Query: bounded}); faults != nil || e.Summary() != "2 store requests in 1 wave" {
		t.Errorf("is explained as\n%s%v", e.Text(true), faults)
	}
	p.Config.Limits.StoreRequests = 2
	if a := p.Revision().Ask(context.Background(), &Request{Query: query}); !a.Refused || a.Faults[0].Code != CodeLimit {
		t.Errorf("three statements are within a limit of two: %s %v", a.Data, a.Faults)
	}
}

func TestHealth(t *testing.T) {
	p, findings, err := open(t, things, nil)
	if err != nil {
		t.Fatal(err, findings)
	}
	if health := p.Health(context.Background()); len(health) != 1 || health["away"] == nil {
		t.Errorf("the health is %v", health)
	}
}

func TestTidy(t *testing.T) {
	for _, test := range []struct{ in, out, rule string }{
		{"{ a }\n", "{ a }\n", ""}, {"{a}", "{ a }\n", ruleLayout}, {"{ a", "{ a", "syntax"}, {"type A{a:Int}", "type A {\n  a: Int\n}\n", ruleLayout},
	} {
		out, findings := Tidy("f", test.in)
		rule := ""
		if len(findings) > 0 {
			rule = findings[0].Rule
		}
		if out != test.out || rule != test.rule {
			t.Errorf("Tidy(%q) = %q with %q, want %q with %q", test.in, out, rule, test.out, test.rule)
		}
	}
}

// TestTimed holds which plans get a clock of their own: those whose requests
// could together take longer than a whole operation may.
func TestTimed(t *testing.T) {
	p, findings, err := open(t, things+" extend type Thing { next: Thing @related(here: \"id\") }", nil)
	if err != nil {
		t.Fatal(err, findings)
	}
	for _, test := range []struct {
		text          string
		whole, source time.Duration
		timed         bool
	}{
		{`{ thing(id: 1) { name } }`, 20 * time.Second, 0, false},
		{`{ thing(id: 1) { name } }`, time.Second, 0, true}, // a source waits five seconds unless it is told otherwise
		{`{ thing(id: 1) { name } }`, time.Second, 500 * time.Millisecond, false},
		{`{ thing(id: 1) { name } }`, 20 * time.Second, time.Minute, true},
		{`{ thing(id: 1) { name next { name } } }`, 20 * time.Second, 0, true},
	} {
		p.Config.Limits.Timeout = Span(test.whole)
		for _, s := range p.Config.Sources {
			s.Timeout = Span(test.source)
		}
		built, _, faults := p.Revision().Plan(&Request{Query: test.text})
		if faults != nil {
			t.Fatal(faults)
		}
		if got := p.Revision().timed(built); got != test.timed {
			t.Errorf("%s within %s, with a source that waits %s: timed is %t, want %t", test.text, test.whole, test.source, got, test.timed)
		}
	}
}
