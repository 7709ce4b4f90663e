package osprey_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// mayImport is the table of ARCHITECTURE.md: which packages of ours a package
// may import. A folder speaks for those below it, unless they are named.
var mayImport = map[string][]string{
	"core/language":             {},
	"core/scalar":               {"core/expression", "core/store"},
	"core/schema":               {"core/language", "core/scalar"},
	"core/validate":             {"core/language", "core/schema"},
	"core/assist":               {"core/language", "core/schema", "core/validate"},
	"core/words":                {},
	"core/snippet":              {},
	"core/mend":                 {"core/language", "core/words"},
	"core/compare":              {"core/language", "core/schema"},
	"core/traffic":              {"core/language", "core/schema", "core/compare"},
	"core/tables":               {"core/language", "core/scalar", "core/schema", "core/binding", "core/store"},
	"core/derive":               {"core/language", "core/scalar", "core/binding", "core/store", "core/words"},
	"core/editing":              {"core/language", "core/scalar", "core/schema", "core/assist", "core/binding", "core/store", "core/words"},
	"core/scaffold":             {"core/schema", "core/binding", "core/words"},
	"core/store":                {},
	"core/expression":           {"core/language"},
	"core/cursor":               {"core/store"},
	"core/binding":              {"core/language", "core/scalar", "core/schema", "core/validate", "core/store", "core/expression"},
	"core/reference":            {"core/language", "core/schema", "core/binding", "core/store"},
	"core/plan":                 {"core/language", "core/cursor", "core/scalar", "core/schema", "core/store", "core/expression", "core/binding"},
	"core/execute":              {"core/language", "core/cursor", "core/scalar", "core/schema", "core/store", "core/expression", "core/binding", "core/plan"},
	"stores":                    {"core/store"},
	"stores/guard":              {"core/store", "stores/guard/turns"},
	"stores/guard/turns":        {"core/store"},
	"stores/signal":             {},
	"stores/relational":         {"core/store", "stores/signal", "stores/relational/logical"},
	"stores/relational/logical": {"core/store"},
	"stores/contain":            {"core/store"},
	"stores/rest":               {"core/store", "stores/remote"},
	"stores/rest/openapi":       {"core/store", "stores/rest"},
	"stores/rest/answers":       {"core/store", "stores/rest"},
	"stores/functions":          {"core/language", "core/store", "stores/remote"},
	"stores/conform":            {"core"},
	"project":                   {"access", "core", "stores"},
	"records":                   {"core/traffic", "stores/signal"},
	"access":                    {"core/store"},
	"publishing":                {"access", "core", "project", "records"},
	"service":                   {"access", "core", "project", "records", "publishing", "docs", "stores/guard/turns"},
	"editor":                    {"core", "project"},
	"docs":                      {},
	"console":                   {},
	"demo":                      {"core/tables"},
	"relay":                     {"core/store", "project"},
	"demo/demotest":             {"demo"},
	"docs/examples":             {"core/store"},
	"demo/shots":                {},
	"cmd/osprey":                {"access", "core", "project", "records", "publishing", "relay", "service", "editor", "console", "demo", "docs", "stores/rest/answers", "stores/rest/openapi"},
	"bench":                     {"core", "project", "service", "demo", "bench/peers"},
	"bench/peers":               {},
	// What tests of the core share.
	"core/language/languagetest": {"core/language", "core/mend"},
	"core/store/storetest":       {"core/schema", "core/store"},
	"core/execute/executetest":   {"core/language", "core/schema"},
}

// coreMustNot is what the core does without: network, databases, terminal.
var coreMustNot = []string{"net/http", "net", "database/sql", "os", "os/exec"}

// TestImports keeps the table true.
func TestImports(t *testing.T) {
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name := d.Name(); name == "node_modules" || name == "testdata" || path == "demo/documents" || strings.HasPrefix(name, ".") && path != "." {
				return fs.SkipDir
			}
			return nil
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || filepath.Dir(path) == "." {
			return nil
		}
		checkFile(t, path)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func checkFile(t *testing.T, path string) {
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
	if err != nil {
		t.Error(err)
		return
	}
	folder := filepath.ToSlash(filepath.Dir(path))
	rule := folder
	for rule != "." && mayImport[rule] == nil {
		rule = filepath.ToSlash(filepath.Dir(rule))
	}
	if rule == "." {
		t.Errorf("%s: the folder %s is not in the table of imports", path, folder)
		return
	}
	for _, spec := range file.Imports {
		name, _ := strconv.Unquote(spec.Path.Value)
		if own, ok := strings.CutPrefix(name, "osprey/"); ok && !allowed(own, mayImport[rule]) {
			t.Errorf("%s imports %s, which %s may not", path, own, rule)
		}
		if strings.HasPrefix(folder, "core/") && !strings.HasSuffix(folder, "test") {
			for _, banned := range coreMustNot {
				// The port classifies errors of the network by their interface.
				if name == banned && !(name == "net" && folder == "core/store") {
					t.Errorf("%s imports %s, which the core does without", path, name)
				}
			}
		}
	}
}

func allowed(name string, list []string) bool {
	for _, a := range list {
		if name == a || strings.HasPrefix(name, a+"/") {
			return true
		}
	}
	return false
}
