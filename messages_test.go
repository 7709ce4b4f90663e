package osprey_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// stages are the packages that tell problems, in the order in which a text
// passes them.
var stages = []struct{ folder, title, about string }{
	{"core/language", "Reading a text", "Rule `syntax`, code `SYNTAX`. The text is not a document of the language; nothing else is looked at."},
	{"core/scalar", "Reading values", "Rule `Values of Correct Type` where a value stands in a text; of a variable, code `VARIABLES`."},
	{"core/schema", "Building the types", "What is wrong with a schema, and values that do not fit their types. The rules are titles of section 3 of the specification."},
	{"core/validate", "Checking an operation", "Code `INVALID`. The rules are titles of section 5 of the specification."},
	{"core/binding", "Binding to the stores", "What `osprey check` and the start of the service find when the schema is held against the stores' catalogues."},
	{"core/plan", "Planning an operation", "Code `BAD_VALUE`, behind the name of the argument. The fields that the argument narrows are errors; the rest is answered."},
	{"core/execute", "Writing the answer", "Errors of single fields, by code; the rest of the answer is not touched."},
}

// TestMessages keeps docs/messages.md as the packages' messages are.
func TestMessages(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Messages\n\nEverything Osprey may tell about a text, by stage and rule. `…` stands for what is found in the text.\n" +
		"Programs may rely on the rule and the code of a problem, never on its wording.\n\nMade from the sources by `go test . -run Messages -update`.\n")
	for _, stage := range stages {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", stage.title, stage.about)
		writeMessages(t, &b, stage.folder+"/messages.go")
	}
	const file = "docs/messages.md"
	if *update {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if string(have) != b.String() {
		t.Errorf("%s is not what the sources say; make it again with: go test . -run Messages -update", file)
	}
}

var verb = regexp.MustCompile(`%[0-9+#]*[a-zA-Z]`)

func writeMessages(t *testing.T, b *strings.Builder, path string) {
	t.Helper()
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range file.Decls {
		group, ok := d.(*ast.GenDecl)
		if !ok || group.Tok != token.CONST {
			continue
		}
		fmt.Fprintf(b, "\n**%s**\n\n", strings.TrimSpace(group.Doc.Text()))
		for _, spec := range group.Specs {
			text, err := strconv.Unquote(spec.(*ast.ValueSpec).Values[0].(*ast.BasicLit).Value)
			if err != nil {
				t.Fatal(err)
			}
			text = verb.ReplaceAllStringFunc(text, func(v string) string {
				if strings.HasSuffix(v, "q") {
					return `"…"`
				}
				return "…"
			})
			fmt.Fprintf(b, "- %s\n", strings.ReplaceAll(strings.TrimSpace(text), "%%", "%"))
		}
	}
}
