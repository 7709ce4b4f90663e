package docs_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"osprey"
	"osprey/core/language"
	"osprey/demo/demotest"
	"osprey/docs"
)

func TestMain(m *testing.M) { demotest.Main(m) }

// A block is a part of a page between lines of three backquotes.
type block struct {
	page, kind, text string
	line             int
	next             *block // the block right behind it, with nothing but empty lines between
}

func (b *block) place() string { return fmt.Sprintf("%s:%d", b.page, b.line) }

// blocks returns the blocks of all pages, and of the README.
func blocks(t *testing.T) []*block {
	t.Helper()
	readme, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	pages := append(docs.Pages(), docs.Page{Name: "../README", Text: string(readme)})
	var list []*block
	for _, p := range pages {
		var open, last *block
		for i, line := range strings.Split(p.Text, "\n") {
			fence, isFence := strings.CutPrefix(line, "```")
			switch {
			case open != nil && isFence:
				list = append(list, open)
				last, open = open, nil
			case open != nil:
				open.text += line + "\n"
			case isFence:
				open = &block{page: p.Name + ".md", kind: fence, line: i + 2}
				if last != nil {
					last.next = open
				}
			case strings.TrimSpace(line) != "":
				last = nil
			}
		}
	}
	return list
}

func open(t *testing.T) *osprey.Service {
	t.Helper()
	demotest.Setenv(t)
	service, err := osprey.Open(context.Background(), "../demo/harbour", osprey.WithLog(slog.New(slog.DiscardHandler)))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(service.Close)
	return service
}

// nothing matches an answer without a record.
var nothing = regexp.MustCompile(`^\{"\w+":(?:\[\]|\{"\w+":\[\]\})`)

// TestOperations runs every operation of the pages on the harbour: it costs what its
// first line says, is answered without an error, and with what stands below it.
func TestOperations(t *testing.T) {
	service, ran := open(t), 0
	demotest.KeepRegistry(t)
	for _, b := range blocks(t) {
		if b.kind != "graphql" || !strings.HasPrefix(b.text, "# ") {
			continue
		}
		ran++
		cost, _, _ := strings.Cut(strings.TrimPrefix(b.text, "# "), "\n")
		plan, err := service.Explain(osprey.Operation{Text: b.text})
		if err != nil {
			t.Errorf("%s: %v", b.place(), err)
			continue
		}
		if got, _, _ := strings.Cut(plan, "\n"); got != cost {
			t.Errorf("%s costs %s, and says %s", b.place(), got, cost)
		}
		a, err := service.Ask(context.Background(), osprey.Operation{Text: b.text})
		if err != nil {
			t.Fatal(err)
		}
		if faulty := b.page == "errors.md"; (len(a.Errors) > 0) != faulty {
			t.Errorf("%s is answered with %s %v", b.place(), a.Data, a.Errors)
		}
		if nothing.Match(a.Data) {
			t.Errorf("%s shows nothing: %s", b.place(), a.Data)
		}
		if b.next != nil && b.next.kind == "json" {
			var got, want any
			if err := json.Unmarshal([]byte(b.next.text), &want); err != nil {
				t.Errorf("%s: %v", b.next.place(), err)
			}
			if json.Unmarshal(a.Data, &got); !reflect.DeepEqual(got, want) {
				t.Errorf("%s: the answer is %s", b.next.place(), a.Data)
			}
		}
	}
	if ran < 30 {
		t.Errorf("the pages have %d operations", ran)
	}
}

// TestTypes holds every type of the pages to be a part of the harbour's schema: the
// same fields, with the same types, arguments and directives.
func TestTypes(t *testing.T) {
	harbour := map[string]string{}
	files, err := filepath.Glob("../demo/harbour/schema/*.graphql")
	if err != nil || len(files) == 0 {
		t.Fatal("the harbour has no schema", err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for key, element := range elements(t, file, string(text)) {
			harbour[key] = element
		}
	}
	example, err := os.ReadFile("examples/embed/main.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile("`(extend type[^`]*)`").FindAllStringSubmatch(string(example), -1) {
		for key, element := range elements(t, "examples/embed", m[1]) {
			harbour[key] = element
		}
	}
	compared := 0
	for _, b := range blocks(t) {
		if b.kind != "graphql" || strings.HasPrefix(b.text, "# ") || b.page == "directives.md" {
			continue
		}
		for key, element := range elements(t, b.place(), b.text) {
			compared++
			if known := harbour[key]; known != element && !strings.HasPrefix(known, element) {
				t.Errorf("%s: %s is\n%s\nand in the harbour\n%s", b.place(), key, element, known)
			}
		}
	}
	if compared < 60 {
		t.Errorf("the pages have %d elements of types", compared)
	}
}

// elements returns the types of a text without their fields, their fields, and values
// of enums, without descriptions.
func elements(t *testing.T, name, text string) map[string]string {
	t.Helper()
	doc, problems := language.Parse(language.NewSource(name, text))
	if problems.Failed() {
		t.Errorf("%s: %v", name, problems[0].Msg)
		return nil
	}
	list := map[string]string{}
	tidy := func(def language.TypeDefinition) string {
		return language.Tidy(&language.Document{Source: doc.Source, Definitions: []language.Definition{&def}})
	}
	for _, d := range doc.Definitions {
		def, ok := d.(*language.TypeDefinition)
		if !ok {
			continue
		}
		bare := *def
		bare.Description, bare.Fields, bare.Values, bare.Inputs = nil, nil, nil, nil
		if len(bare.Directives) > 0 || def.Kind == language.UnionKind {
			list[def.Name.Text] = strings.TrimSpace(tidy(bare))
		}
		none := language.TypeDefinition{Kind: def.Kind, Name: def.Name}
		for _, f := range def.Fields {
			one, alone := *f, none
			one.Description = nil
			alone.Fields = []*language.FieldDefinition{&one}
			list[def.Name.Text+"."+f.Name.Text] = tidy(alone)
		}
		for _, v := range def.Values {
			one, alone := *v, none
			one.Description = nil
			alone.Values = []*language.EnumValueDefinition{&one}
			list[def.Name.Text+"."+v.Name.Text] = tidy(alone)
		}
	}
	return list
}

// TestConfigurations checks every piece of osprey.yaml in the pages.
func TestConfigurations(t *testing.T) {
	for _, name := range []string{"REGISTRY_URL", "PORT_URL"} {
		t.Setenv(name, "postgres://127.0.0.1:1/port")
	}
	t.Setenv("INSPECTIONS_URL", "mongodb://127.0.0.1:1/port")
	for _, name := range []string{"TIDES_URL", "NOTICES_URL", "FEES_URL"} {
		t.Setenv(name, "http://127.0.0.1:1")
	}
	t.Setenv("TIDES_TOKEN", "x")
	t.Setenv("FEES_TOKEN", "x")
	checked := 0
	for _, b := range blocks(t) {
		if b.kind != "yaml" {
			continue
		}
		texts := []string{b.text}
		if strings.HasPrefix(b.text, "pages:") { // each line a form of its own
			texts = nil
			for _, line := range strings.Split(strings.TrimSpace(b.text), "\n") {
				texts = append(texts, "sources:\n  s:\n    kind: rest\n    url: http://127.0.0.1:1\n    sets:\n      things:\n        fields: { id: text }\n        reads:\n          - get: /things{?after,page}\n            "+line+"\n")
			}
		}
		if strings.HasPrefix(b.text, "writes:") { // of a set
			set := "sources:\n  s:\n    kind: rest\n    url: http://127.0.0.1:1\n    sets:\n      things:\n        key: station\n        fields: { station: text, version: int }\n        "
			texts = []string{set + strings.ReplaceAll(b.text, "\n", "\n        ")}
		}
		for _, text := range texts {
			checked++
			dir := demotest.Folder(t, map[string]string{"osprey.yaml": text, "schema/a.graphql": `type Query { a: Int @computed(expr: "1") }`})
			if strings.HasPrefix(text, "types:") {
				demotest.Write(t, dir, map[string]string{"schemas/fitted.json": `{ "properties": { "cranes": { "type": "integer" } } }`,
					"schemas/log.json": `{ "$defs": { "entry": { "properties": { "text": { "type": "string" } } } } }`})
			}
			if strings.Contains(text, "folder: data") {
				os.Mkdir(filepath.Join(dir, "data"), 0o755)
			}
			findings, err := osprey.Check(t.Context(), dir, osprey.WithLog(slog.New(slog.DiscardHandler)))
			if err != nil || findings.Failed() {
				t.Errorf("%s: %v %v", b.place(), err, findings)
			}
		}
	}
	if checked < 14 {
		t.Errorf("the pages have %d pieces of osprey.yaml", checked)
	}
}

// notRun are commands that the pages show and that other tests run: they serve until
// they are stopped, or build.
var notRun = regexp.MustCompile(`^(make |osprey demo|osprey start demo)`)

// TestCommands runs every command of the pages, in the order of the page, against the
// harbour.
func TestCommands(t *testing.T) {
	bin := t.TempDir()
	if out, err := exec.Command("go", "build", "-o", filepath.Join(bin, "osprey"), "osprey/cmd/osprey").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	server := httptest.NewServer(open(t))
	defer server.Close()
	ran := 0
	dirs := map[string]*terminal{}
	for _, b := range blocks(t) {
		if b.kind != "sh" {
			continue
		}
		in := dirs[b.page]
		if in == nil {
			in = newTerminal(t, bin, server.URL)
			dirs[b.page] = in
		}
		said := ""
		for _, line := range commandsOf(b.text) {
			ran++
			said = in.run(t, b.place(), line)
		}
		if b.next != nil && b.next.kind == "json" { // what the last of them says
			var got, want any
			if err := errors.Join(json.Unmarshal([]byte(said), &got), json.Unmarshal([]byte(b.next.text), &want)); err != nil || !reflect.DeepEqual(got, want) {
				t.Errorf("%s: the last command says %s %v", b.next.place(), said, err)
			}
		}
	}
	if ran < 30 {
		t.Errorf("the pages have %d commands", ran)
	}
}

// A terminal is a folder in which commands are run, and the service that they reach.
type terminal struct{ dir, bin, url, listen string }

func newTerminal(t *testing.T, bin, url string) *terminal {
	dir := t.TempDir()
	for _, name := range []string{"demo", "docs"} {
		if err := os.Symlink(filepath.Join(demotest.Root(), name), filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, ".config/fish/completions"), 0o755); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return &terminal{dir, bin, url, l.Addr().String()}
}

// run runs a line as a person does. What is started serves until the test ends, and is
// what later lines reach.
func (x *terminal) run(t *testing.T, place, line string) (said string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	command := strings.ReplaceAll(line, "http://127.0.0.1:7420", x.url)
	if strings.HasPrefix(command, "curl ") {
		command = "curl -sS --fail-with-body --retry 20 --retry-connrefused --retry-delay 1 " + strings.TrimPrefix(command, "curl ")
	}
	serves := strings.HasPrefix(command, "osprey start")
	if serves {
		command = "exec " + command
	}
	cmd := exec.CommandContext(ctx, "bash", "-c", command)
	cmd.Dir = x.dir
	cmd.Env = append(os.Environ(), "PATH="+x.bin+":"+os.Getenv("PATH"), "OSPREY_URL="+x.url, "OSPREY_LISTEN="+x.listen, "HOME="+x.dir)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if serves {
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		x.url = "http://" + x.listen
		t.Cleanup(func() { cancel(); cmd.Wait() })
		return ""
	}
	defer cancel()
	if err := cmd.Run(); err != nil {
		t.Errorf("%s: %s\n%v\n%s%s", place, line, err, out.String(), errs.String())
	}
	return out.String()
}

// commandsOf returns the commands of a block: its lines, of which one goes on behind a backslash,
// and in what is written into a file, up to the line E.
func commandsOf(text string) []string {
	var list []string
	file := ""
	for _, line := range strings.Split(strings.ReplaceAll(text, "\\\n", " "), "\n") {
		if file != "" {
			if file += line + "\n"; line == "E" {
				list, file = append(list, file), ""
			}
			continue
		}
		line, _, _ = strings.Cut(line, "   #")
		line = strings.TrimPrefix(line, "bin/") // which is where the program is in a checkout
		switch line = strings.TrimSpace(line); {
		case line == "" || notRun.MatchString(line):
		case strings.HasSuffix(line, "<<'E'"):
			file = line + "\n"
		default:
			list = append(list, line)
		}
	}
	return list
}

var links = regexp.MustCompile(`\]\(([^)\s]+)\)`)

// TestLinks follows every link of the pages, the README and ARCHITECTURE.md to a file
// and, if it says so, to a heading there.
func TestLinks(t *testing.T) {
	headings := map[string][]string{}
	for _, p := range docs.Pages() {
		for _, s := range p.Sections() {
			headings[p.Name+".md"] = append(headings[p.Name+".md"], s.Anchor)
		}
	}
	files, err := filepath.Glob("*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range append(files, "../README.md", "../ARCHITECTURE.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range links.FindAllStringSubmatch(string(text), -1) {
			path, anchor, _ := strings.Cut(m[1], "#")
			if strings.Contains(path, "://") {
				continue
			}
			if path == "" {
				path = filepath.Base(file)
			}
			at := filepath.Join(filepath.Dir(file), path)
			if _, err := os.Stat(at); err != nil {
				t.Errorf("%s links to %s, which is not there", file, m[1])
			} else if anchor != "" && !slices.Contains(headings[filepath.Base(at)], anchor) {
				t.Errorf("%s links to %s, and that page has no such heading", file, m[1])
			}
		}
	}
	if len(files) != len(docs.Pages()) {
		t.Errorf("there are %d files, and %d pages are listed", len(files), len(docs.Pages()))
	}
}

// TestWords holds that people find the pages by the words of their field.
func TestWords(t *testing.T) {
	var all strings.Builder
	for _, p := range docs.Pages() {
		all.WriteString(strings.ToLower(p.Text))
	}
	for _, word := range []string{"predicate", "aggregate", "projection", "join table", "primary key", "foreign key", "discriminator", "nullable", "deduplicated", "pagination",
		"null ordering", "request error", "field error", "generated types", "many-to-many", "connection", "cursor", "collation", "catalogue", "capabilities", "batch"} {
		if !strings.Contains(all.String(), word) {
			t.Errorf("no page has the word %q", word)
		}
	}
}

// TestCodes holds docs/errors.md to have every code that there is, each once.
func TestCodes(t *testing.T) {
	codes := map[string]bool{"REQUEST": true}
	constant := regexp.MustCompile(`(?m)^\s*\w+(?:\s+Code)?\s*=\s*"([A-Z]+(?:_[A-Z]+)*)"`)
	function := regexp.MustCompile(`const Function Code = "(\w+)"`)
	for _, file := range []string{"../core/store/errors.go", "../core/store/function.go", "../core/execute/errors.go", "../project/ask.go"} {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range append(constant.FindAllStringSubmatch(string(text), -1), function.FindAllStringSubmatch(string(text), -1)...) {
			codes[m[1]] = true
		}
	}
	var page docs.Page
	for _, p := range docs.Pages() {
		if p.Name == "errors" {
			page = p
		}
	}
	explained := map[string]bool{}
	for _, s := range page.Sections() {
		if s.Title == strings.ToUpper(s.Title) {
			explained[s.Title] = true
		}
	}
	if !reflect.DeepEqual(codes, explained) {
		t.Errorf("the codes are %v, and errors.md explains %v", codes, explained)
	}
	if len(codes) < 16 {
		t.Errorf("there are %d codes", len(codes))
	}
}
