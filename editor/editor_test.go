package editor_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/sourcegraph/jsonrpc2"
	_ "modernc.org/sqlite"

	"osprey/editor"
)

// A client speaks with a server as an editor does.
type client struct {
	t     *testing.T
	conn  *jsonrpc2.Conn
	ended chan error

	mu    sync.Mutex
	shown map[string][]string // what is wrong, by address: line, column and message
	times map[string]int      // how often that was told
}

func (c *client) Handle(_ context.Context, _ *jsonrpc2.Conn, req *jsonrpc2.Request) {
	if req.Method != "textDocument/publishDiagnostics" {
		return
	}
	var p struct {
		URI         string
		Diagnostics []struct {
			Range   struct{ Start struct{ Line, Character int } }
			Message string
		}
	}
	if err := json.Unmarshal(*req.Params, &p); err != nil {
		c.t.Error(err)
	}
	list := []string{}
	for _, d := range p.Diagnostics {
		list = append(list, fmt.Sprintf("%d:%d %s", d.Range.Start.Line, d.Range.Start.Character, d.Message))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.shown[p.URI] = list
	c.times[p.URI]++
}

func connect(t *testing.T) *client {
	t.Helper()
	here, there := net.Pipe()
	c := &client{t: t, ended: make(chan error, 1), shown: map[string][]string{}, times: map[string]int{}}
	go func() {
		s := &editor.Server{Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Version: "test"}
		c.ended <- s.Serve(context.Background(), there)
	}()
	c.conn = jsonrpc2.NewConn(context.Background(), jsonrpc2.NewBufferedStream(here, jsonrpc2.VSCodeObjectCodec{}), c)
	t.Cleanup(func() { c.conn.Close() })
	return c
}

// begin connects and agrees on an encoding.
func begin(t *testing.T, encoding string) *client {
	c := connect(t)
	result := c.call("initialize", map[string]any{"capabilities": map[string]any{"general": map[string]any{"positionEncodings": []string{encoding}}}})
	if !strings.Contains(result, `"positionEncoding":"`+encoding+`"`) {
		t.Fatalf("it agrees on %s", result)
	}
	c.tell("initialized", map[string]any{})
	return c
}

// call returns the answer to a request as JSON, or its error.
func (c *client) call(method string, params any) string {
	c.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	var result json.RawMessage
	if err := c.conn.Call(ctx, method, params, &result); err != nil {
		return err.Error()
	}
	return string(result)
}

func (c *client) tell(method string, params any) {
	c.t.Helper()
	if err := c.conn.Notify(context.Background(), method, params); err != nil {
		c.t.Error(err)
	}
}

func uri(path string) string { return "file://" + path }

func (c *client) open(path, text string) {
	c.tell("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": uri(path), "languageId": "graphql", "version": 1, "text": text}})
}

// write replaces the whole text of a file.
func (c *client) write(path, text string) {
	c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri(path), "version": 2}, "contentChanges": []any{map[string]any{"text": text}}})
}

// shows waits until what is wrong with a file is just what is wanted: parts of messages, in order.
func (c *client) shows(path string, want ...string) {
	c.t.Helper()
	var got []string
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		c.mu.Lock()
		got = slices.Clone(c.shown[uri(path)])
		told := c.times[uri(path)] > 0
		c.mu.Unlock()
		same := told && len(got) == len(want)
		for i := range want {
			same = same && strings.Contains(got[i], want[i])
		}
		if same {
			return
		}
	}
	c.t.Fatalf("of %s is shown %q, want %q", filepath.Base(path), got, want)
}

// port makes a project with a database of its own, and returns its folder.
func port(t *testing.T) (dir string, db *sql.DB) {
	t.Helper()
	dir = t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, "port.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	if _, err := db.Exec(`CREATE TABLE craft (imo INTEGER PRIMARY KEY, name TEXT NOT NULL)`); err != nil {
		t.Fatal(err)
	}
	put(t, dir, "osprey.yaml", "sources:\n  port: { kind: sqlite, url: \"sqlite:port.db\", naming: snake }\n")
	put(t, dir, "schema/port.graphql", portTypes)
	put(t, dir, "operations/Craft.graphql", "query Craft($imo: ID!) { craft(imo: $imo) { name } }\n")
	return dir, db
}

const portTypes = `type Craft @stored(in: "port", as: "craft", key: "imo") {
  imo: ID!
  name: String!
}

type Query {
  craft(imo: ID!): Craft @read
}
`

func put(t *testing.T, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// at names the place of a text in a file.
func at(path, text, word string) map[string]any {
	before := text[:strings.Index(text, word)]
	line := strings.Count(before, "\n")
	return map[string]any{"textDocument": map[string]any{"uri": uri(path)}, "position": map[string]any{"line": line, "character": len(before) - strings.LastIndexByte(before, '\n') - 1}}
}

// TestLiveCatalogue holds the types against the store as it is: a column that comes while one
// writes is there when the file is saved.
func TestLiveCatalogue(t *testing.T) {
	dir, db := port(t)
	path := filepath.Join(dir, "schema/port.graphql")
	c := begin(t, "utf-8")
	c.open(path, portTypes)
	c.shows(path)
	built := strings.Replace(portTypes, "  name: String!\n", "  name: String!\n  builtOn: Date\n", 1)
	c.write(path, built)
	c.shows(path, `3:2 the column of Craft.builtOn is "built_on", which the table craft in port does not have`)
	if _, err := db.Exec(`ALTER TABLE craft ADD COLUMN built_on DATE`); err != nil {
		t.Fatal(err)
	}
	c.tell("textDocument/didSave", map[string]any{"textDocument": map[string]any{"uri": uri(path)}})
	c.shows(path)
	if got := c.call("textDocument/hover", at(path, built, "builtOn")); !strings.Contains(got, "craft.built_on, date") {
		t.Errorf("the new column is %s", got)
	}
	// An operation that asks for what is gone is told in its own file, which is not open.
	c.write(path, strings.Replace(portTypes, "  name: String!\n", "", 1))
	c.shows(path)
	c.shows(filepath.Join(dir, "operations/Craft.graphql"), `Craft has no field "name"`)
	c.write(path, portTypes)
	c.shows(filepath.Join(dir, "operations/Craft.graphql"))
	// What is asked to be looked at again is.
	if _, err := db.Exec(`ALTER TABLE craft DROP COLUMN name`); err != nil {
		t.Fatal(err)
	}
	if got := c.call("workspace/executeCommand", map[string]any{"command": "osprey.refresh"}); got != "null" {
		t.Errorf("the command answers %s", got)
	}
	c.shows(path, `"name", which the table craft in port does not have`)
}

// TestConfiguration follows an osprey.yaml that is wrong for a while, and a file of no project.
func TestConfiguration(t *testing.T) {
	dir, _ := port(t)
	types, yaml := filepath.Join(dir, "schema/port.graphql"), filepath.Join(dir, "osprey.yaml")
	sound, _ := os.ReadFile(yaml)
	put(t, dir, "osprey.yaml", "sources:\n  port: { kind: sqlite, url: \"sqlite:port.db\", namin: snake }\n")
	c := begin(t, "utf-8")
	c.open(types, portTypes)
	c.shows(yaml, "1:")
	c.open(yaml, string(sound))
	put(t, dir, "osprey.yaml", string(sound))
	c.tell("textDocument/didSave", map[string]any{"textDocument": map[string]any{"uri": uri(yaml)}})
	c.shows(yaml)
	c.shows(types)
	put(t, dir, "osprey.yaml", "sources: [\n")
	c.tell("textDocument/didSave", map[string]any{"textDocument": map[string]any{"uri": uri(yaml)}})
	c.shows(yaml, "the bracket [ is not closed")
	// A store that is not there is told, and the types are checked as far as can be.
	put(t, dir, "osprey.yaml", "sources:\n  port: { kind: postgres, url: \"postgres://127.0.0.1:1/port\", naming: snake }\n")
	c.tell("textDocument/didSave", map[string]any{"textDocument": map[string]any{"uri": uri(yaml)}})
	c.shows(yaml, "the source port did not tell what it holds")
	c.write(types, strings.Replace(portTypes, "String!", "Strng!", 1))
	c.shows(types, "the type Strng is not defined")

	beside := put(t, dir, "notes/a.graphql", "")
	c.open(beside, "{ craft(")
	c.shows(beside, "found the end of the document")

	alone := put(t, t.TempDir(), "alone.graphql", "")
	c.open(alone, "type A {\n")
	c.shows(alone, "found the end of the document")
	c.write(alone, "type A { a: Int }")
	c.shows(alone)
	if got := c.call("textDocument/formatting", map[string]any{"textDocument": map[string]any{"uri": uri(alone)}}); !strings.Contains(got, `type A {\n  a: Int\n}`) {
		t.Errorf("it is formatted as %s", got)
	}
	if got := c.call("textDocument/hover", at(alone, "type A { a: Int }", "Int")); got != "null" {
		t.Errorf("in a file of no project Int means %s", got)
	}
}

// TestEncodings changes a text at random places, counted in each encoding, and holds the server's
// text to its own: what the server formats is what was written.
func TestEncodings(t *testing.T) {
	letters := []rune("a\nö\r😀{\t漢}\"\u2028x\r\n")
	for _, encoding := range []string{"utf-8", "utf-16", "utf-32"} {
		t.Run(encoding, func(t *testing.T) {
			seed := uint64(time.Now().UnixNano())
			random := rand.New(rand.NewPCG(seed, 0))
			dir, _ := port(t)
			path := filepath.Join(dir, "schema/extra.graphql")
			c := begin(t, encoding)
			text := []rune("# Häfen\ntype Pier { name: String }\n")
			c.open(path, string(text))
			for range 300 {
				from := random.IntN(len(text) + 1)
				to := min(len(text), from+random.IntN(4))
				for inside := func(i int) bool { return i > 0 && i < len(text) && text[i-1] == '\r' && text[i] == '\n' }; inside(from) || inside(to); {
					from, to = max(from-1, 0), min(to+1, len(text)) // between the two of a line end is no place
					if !inside(from) && !inside(to) {
						break
					}
				}
				var with []rune
				for range random.IntN(5) {
					with = append(with, letters[random.IntN(len(letters))])
				}
				c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri(path), "version": 3}, "contentChanges": []any{
					map[string]any{"range": map[string]any{"start": place(text, from, encoding), "end": place(text, to, encoding)}, "text": string(with)}}})
				text = slices.Concat(text[:from], with, text[to:])
			}
			// The text must end as it is known here: behind a comment, all of it is told by tidy.
			mark := []rune("\n}}}}\"\n# the end\ntype  Mark{a:Int}\n")
			c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri(path), "version": 4}, "contentChanges": []any{
				map[string]any{"range": map[string]any{"start": map[string]int{"line": 0, "character": 0}, "end": place(text, len(text), encoding)}, "text": string(mark[7:])}}})
			got := c.call("textDocument/formatting", map[string]any{"textDocument": map[string]any{"uri": uri(path)}})
			if !strings.Contains(got, `"newText":"# the end\ntype Mark {\n  a: Int\n}\n"`) {
				t.Errorf("seed %d: after all that, the text is %s", seed, got)
			}
		})
	}
}

// place is a place of a text as the protocol counts it: the end of a line is "\n", "\r\n" or "\r".
func place(text []rune, at int, encoding string) map[string]int {
	line, column := 0, 0
	for i := 0; i < at; i++ {
		switch {
		case text[i] == '\r' && i+1 < len(text) && text[i+1] == '\n':
		case text[i] == '\n' || text[i] == '\r':
			line, column = line+1, 0
		case encoding == "utf-8":
			column += len(string(text[i]))
		case encoding == "utf-16":
			column += utf16.RuneLen(text[i])
		default:
			column++
		}
	}
	return map[string]int{"line": line, "character": column}
}

// TestProtocol is asked out of turn, and for what there is not.
func TestProtocol(t *testing.T) {
	c := connect(t)
	if got := c.call("textDocument/hover", map[string]any{}); !strings.Contains(got, "-32002") {
		t.Errorf("before initialize it answers %s", got)
	}
	c.call("initialize", map[string]any{})
	for _, test := range []struct {
		method string
		params any
		want   string
	}{
		{"initialize", map[string]any{}, "-32600"},
		{"textDocument/unheardOf", map[string]any{}, "-32601"},
		{"textDocument/hover", []int{1}, "-32602"},
		{"textDocument/hover", map[string]any{"textDocument": map[string]any{"uri": "https://port.example/a"}}, "null"},
		{"textDocument/hover", map[string]any{"textDocument": map[string]any{"uri": "file:///nowhere/a.graphql"}, "position": map[string]any{"line": -3, "character": 1 << 40}}, "null"},
		{"textDocument/rename", map[string]any{"textDocument": map[string]any{"uri": "file:///nowhere/a.graphql"}}, "null"},
		{"textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": "file:///nowhere/a.graphql"}}, "[]"},
		{"textDocument/completion", map[string]any{"textDocument": map[string]any{"uri": "%zz"}}, `"items":[]`},
		{"textDocument/formatting", map[string]any{"textDocument": map[string]any{"uri": "untitled:1"}}, "null"},
		{"workspace/executeCommand", map[string]any{"command": "drop"}, "-32602"},
	} {
		if got := c.call(test.method, test.params); !strings.Contains(got, test.want) {
			t.Errorf("%s %v answers %s, want %s", test.method, test.params, got, test.want)
		}
	}
	// What is told and cannot be used is passed over.
	c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": "file:///nowhere/a.graphql"}})
	c.tell("textDocument/didOpen", 7)
	c.tell("$/setTrace", map[string]any{"value": "off"})
	if got := c.call("shutdown", nil); got != "null" {
		t.Errorf("shutdown answers %s", got)
	}
	if got := c.call("textDocument/hover", map[string]any{}); !strings.Contains(got, "-32600") {
		t.Errorf("after shutdown it answers %s", got)
	}
	c.tell("exit", nil)
	if err := <-c.ended; err != nil {
		t.Errorf("it ends with %v", err)
	}
	c = connect(t)
	c.call("initialize", map[string]any{})
	c.conn.Close()
	if err := <-c.ended; err == nil {
		t.Error("an editor that breaks off is not told of")
	}
}

// TestRefusedName refuses a name with which the project would have errors, and says which.
func TestRefusedName(t *testing.T) {
	dir, _ := port(t)
	path := filepath.Join(dir, "schema/port.graphql")
	// A selection that the file of another program makes is not seen, but a fragment is.
	c := begin(t, "utf-8")
	c.open(path, portTypes)
	c.shows(path)
	ask := func(word, to string) string {
		p := at(path, portTypes, word)
		p["newName"] = to
		return c.call("textDocument/rename", p)
	}
	if got := ask("Craft @stored", "String"); !strings.Contains(got, "String already") {
		t.Errorf("a type called String: %s", got)
	}
	if got := ask("name: String", "title"); !strings.Contains(got, `title`) || !strings.Contains(got, `@at(path: \"name\")`) || !strings.Contains(got, "Craft.graphql") {
		t.Errorf("a field called otherwise: %s", got)
	}
	c.shows(path) // nothing is changed before the editor does it
}
