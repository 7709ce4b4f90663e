package osprey_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// stages are the packages whose problems stand as constants in messages.go, in the
// order in which a text passes them.
var stages = []struct{ folder, title, about string }{
	{"core/language", "Reading a text", "Rule `syntax`, code `SYNTAX`. The text is not a document of the language; nothing else is looked at."},
	{"core/scalar", "Reading values", "Rule `Values of Correct Type` where a value stands in a text; of a variable, code `VARIABLES`."},
	{"core/schema", "Building the types", "What is wrong with a schema, and values that do not fit their types. The rules are titles of section 3 of the specification."},
	{"core/validate", "Validating an operation", "Code `INVALID`. The rules are titles of section 5 of the specification."},
	{"core/binding", "Binding to the stores", "What `osprey check` and the start of the service find when the schema is held against the stores' catalogues."},
	{"core/plan", "Planning an operation", "Code `BAD_VALUE`, behind the name of the argument. The fields that the argument narrows are errors; the rest is answered."},
	{"core/execute", "Writing the answer", "Errors of single fields, by code; the rest of the answer is not touched."},
}

// inline are the folders whose messages stand where they are told, with what makes
// them a message of the section: the name of a function, or the type of a literal.
var inline = []struct {
	title, about string
	folders      []string
	calls        map[string][2]int // by the function: which argument is the message, and which the fix; -1 for none
	literals     []string
}{
	{"osprey.yaml", "Rules `configuration`, `environment`, `source`, `program`, `saved` and `layout`: what `osprey check`, `osprey tidy` and the start of the service find outside of the types.",
		[]string{"project", "stores/rest", "stores/remote", "stores/relational", "stores/document", "stores/files", "stores/functions"},
		map[string][2]int{"problems.Add": {2, -1}, "c.fail": {2, 1}, "atNode": {2, 1}, "p.atSource": {3, 4}}, []string{"slip"}},
	{"Opening a source", "Behind \"the source … cannot be opened:\", rule `configuration`.",
		[]string{"project/config_read.go", "project/sources.go", "stores/rest/forms.go", "stores/rest/pages.go", "stores/rest/template.go", "stores/remote/remote.go", "stores/relational/relational.go",
			"stores/relational/mysql.go", "stores/relational/sqlite.go", "stores/files/files.go", "stores/document/document.go"},
		map[string][2]int{"fmt.Errorf": {0, -1}, "errors.New": {0, -1}}, nil},
	{"Refusing an operation", "Codes `INVALID`, `VARIABLES`, `LIMIT`, `DENIED`: the operation is not run.",
		[]string{"project"}, map[string][2]int{"fault": {1, -1}}, []string{"Fault"}},
	{"Asking a store", "Behind \"the source …\". Only the fields that come from it are errors.",
		[]string{"core/store", "stores/rest", "stores/remote", "stores/relational", "stores/document", "stores/files", "stores/functions", "stores/guard", "stores/contain", "project"},
		nil, []string{"store.Error", "Error"}},
	{"HTTP", "Code `REQUEST`, or problem details (RFC 9457) where no operation is answered.",
		[]string{"service"}, map[string][2]int{"badRequest": {1, 0}, "problem": {2, 3}}, []string{"refusal"}},
	{"The command line", "Exit code 2 if the command was used in a wrong way, 3 if something could not be reached.",
		[]string{"cmd/osprey"}, map[string][2]int{"wrongUse": {0, -1}, "unreachable": {0, -1}}, nil},
}

// TestReferenceOfMessages keeps docs/messages.md as the sources are.
func TestReferenceOfMessages(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Messages\n" + madeBy + "\nEverything Osprey may tell, by stage and rule, with what it says to do about it behind →.\n`…` stands for what is found in the text. Programs may rely on the rule and the code,\nnever on the wording; what each code means stands in [Errors](errors.md).\n")
	for _, stage := range stages {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", stage.title, stage.about)
		writeConstants(t, &b, stage.folder)
	}
	for _, section := range inline {
		messages := map[string]map[string]bool{}
		for _, folder := range section.folders {
			for _, file := range sources(t, folder) {
				collect(file, section.calls, section.literals, func(msg, fix string) { note(messages, msg, fix) })
			}
		}
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n", section.title, section.about)
		if len(messages) == 0 {
			t.Errorf("%s has no messages", section.title)
		}
		writeList(&b, slices.Sorted(maps.Keys(messages)), messages)
	}
	keep(t, "docs/messages.md", b.String())
}

// twoWords tells a message from what is only put around another one.
var twoWords = regexp.MustCompile(`\p{Ll}{2,}.*[ …].*\p{Ll}{2,}`)

func note(messages map[string]map[string]bool, msg, fix string) {
	if msg == "" || !strings.HasPrefix(msg, "msg") && !twoWords.MatchString(msg) {
		return
	}
	if messages[msg] == nil {
		messages[msg] = map[string]bool{}
	}
	if strings.Trim(fix, "…") != "" {
		messages[msg][fix] = true
	}
}

func writeList(b *strings.Builder, list []string, fixes map[string]map[string]bool) {
	for _, msg := range list {
		fmt.Fprintf(b, "- %s\n", msg)
		for _, fix := range slices.Sorted(maps.Keys(fixes[msg])) {
			fmt.Fprintf(b, "  - → %s\n", fix)
		}
	}
}

// sources parses the files of a folder that are no tests.
func sources(t *testing.T, folder string) []*ast.File {
	t.Helper()
	pattern := folder + "/*.go"
	if strings.HasSuffix(folder, ".go") {
		pattern = folder
	}
	names, err := filepath.Glob(pattern)
	if err != nil || len(names) == 0 {
		t.Fatalf("%s has no sources: %v", folder, err)
	}
	var files []*ast.File
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, text, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, file)
	}
	return files
}

// writeConstants writes the constants of messages.go by their groups, each with the
// fixes that stand beside its uses.
func writeConstants(t *testing.T, b *strings.Builder, folder string) {
	t.Helper()
	fixes := map[string]map[string]bool{}
	var messages *ast.File
	for _, file := range sources(t, folder) {
		if file.Scope.Lookup("msgNone") == nil && strings.HasPrefix(firstConst(file), "msg") {
			messages = file
			continue
		}
		collectFixes(file, fixes)
	}
	for _, d := range messages.Decls {
		group, ok := d.(*ast.GenDecl)
		if !ok || group.Tok != token.CONST {
			continue
		}
		fmt.Fprintf(b, "\n**%s**\n\n", strings.TrimSpace(group.Doc.Text()))
		for _, spec := range group.Specs {
			v := spec.(*ast.ValueSpec)
			msg, fix, _ := strings.Cut(textOf(v.Values[0]), "→ ")
			msg = strings.TrimSpace(msg)
			own := fixes[v.Names[0].Name]
			if fix != "" {
				note(fixes, v.Names[0].Name, fix)
				own = fixes[v.Names[0].Name]
			}
			writeList(b, []string{msg}, map[string]map[string]bool{msg: own})
		}
	}
}

func firstConst(file *ast.File) string {
	for _, d := range file.Decls {
		if group, ok := d.(*ast.GenDecl); ok && group.Tok == token.CONST {
			return group.Specs[0].(*ast.ValueSpec).Names[0].Name
		}
	}
	return ""
}

// collectFixes notes the fixes that are told with a message constant: as an argument in
// front of it, as .Fix of what the call returns, or of the variable that holds that.
func collectFixes(file *ast.File, fixes map[string]map[string]bool) {
	held := map[string]string{} // the message of the problem that a variable holds
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CallExpr:
			for i, a := range n.Args {
				if name := messageName(a); name != "" && i > 0 && strings.HasSuffix(calledName(n), ".fail") || name != "" && i > 0 && strings.HasSuffix(calledName(n), ".warn") {
					note(fixes, name, textOf(n.Args[i-1]))
				}
			}
		case *ast.AssignStmt:
			for i, left := range n.Lhs {
				if i >= len(n.Rhs) {
					break
				}
				if name, ok := left.(*ast.Ident); ok {
					if call, ok := n.Rhs[i].(*ast.CallExpr); ok {
						held[name.Name] = messageIn(call)
					}
				}
				fix, ok := left.(*ast.SelectorExpr)
				if !ok || fix.Sel.Name != "Fix" {
					continue
				}
				switch of := fix.X.(type) {
				case *ast.CallExpr:
					note(fixes, messageIn(of), textOf(n.Rhs[i]))
				case *ast.Ident:
					note(fixes, held[of.Name], textOf(n.Rhs[i]))
				}
			}
		}
		return true
	})
}

func messageIn(call *ast.CallExpr) string {
	for _, a := range call.Args {
		if name := messageName(a); name != "" {
			return name
		}
	}
	return ""
}

func messageName(e ast.Expr) string {
	if id, ok := e.(*ast.Ident); ok && strings.HasPrefix(id.Name, "msg") {
		return id.Name
	}
	return ""
}

// calledName returns what a call calls, such as problems.Add.
func calledName(call *ast.CallExpr) string {
	switch f := call.Fun.(type) {
	case *ast.Ident:
		return f.Name
	case *ast.SelectorExpr:
		if of, ok := f.X.(*ast.Ident); ok {
			return of.Name + "." + f.Sel.Name
		}
		if of, ok := f.X.(*ast.SelectorExpr); ok {
			return of.Sel.Name + "." + f.Sel.Name
		}
	}
	return ""
}

// collect finds messages that stand where they are told.
func collect(file *ast.File, calls map[string][2]int, literals []string, found func(msg, fix string)) {
	fixOf := map[*ast.CallExpr]string{}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.AssignStmt:
			for i, left := range n.Lhs {
				if to, ok := left.(*ast.SelectorExpr); ok && to.Sel.Name == "Msg" && i < len(n.Rhs) && slices.Contains(literals, "store.Error") {
					if msg := textOf(n.Rhs[i]); strings.Trim(msg, "… ") != "" {
						found(msg, "")
					}
				}
				if fix, ok := left.(*ast.SelectorExpr); ok && fix.Sel.Name == "Fix" && i < len(n.Rhs) {
					if call, ok := fix.X.(*ast.CallExpr); ok {
						fixOf[call] = textOf(n.Rhs[i])
					}
				}
			}
		case *ast.CallExpr:
			at, ok := calls[calledName(n)]
			if !ok || len(n.Args) <= max(at[0], at[1]) {
				return true
			}
			msg, fix := textOf(n.Args[at[0]]), fixOf[n]
			if at[1] >= 0 {
				fix = textOf(n.Args[at[1]])
			}
			if strings.Trim(msg, "… :") != "" {
				found(msg, fix)
			}
		case *ast.CompositeLit:
			msg, fix := literalOf(n, literals)
			if strings.Trim(msg, "… :") != "" {
				found(msg, fix)
			}
		case *ast.ValueSpec: // a list of literals whose type is left out
			for _, v := range n.Values {
				list, ok := v.(*ast.CompositeLit)
				if !ok {
					continue
				}
				array, ok := list.Type.(*ast.ArrayType)
				if !ok || !slices.Contains(literals, nameOf(array.Elt)) {
					continue
				}
				for _, e := range list.Elts {
					fields := e.(*ast.CompositeLit).Elts
					found(textOf(fields[len(fields)-2]), textOf(fields[len(fields)-1]))
				}
			}
		}
		return true
	})
}

func nameOf(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.Ident:
		return e.Name
	case *ast.SelectorExpr:
		return nameOf(e.X) + "." + e.Sel.Name
	}
	return ""
}

// literalOf returns the message and the fix of a literal of one of the types: by the
// names of its fields, or as the text behind its code or status.
func literalOf(n *ast.CompositeLit, types []string) (msg, fix string) {
	array, isList := n.Type.(*ast.ArrayType)
	if isList { // []Fault{{…}}
		for _, e := range n.Elts {
			if inner, ok := e.(*ast.CompositeLit); ok && inner.Type == nil && slices.Contains(types, nameOf(array.Elt)) {
				return messageAndFix(inner)
			}
		}
		return "", ""
	}
	if n.Type == nil || !slices.Contains(types, nameOf(n.Type)) {
		return "", ""
	}
	return messageAndFix(n)
}

func messageAndFix(n *ast.CompositeLit) (msg, fix string) {
	for i, e := range n.Elts {
		pair, ok := e.(*ast.KeyValueExpr)
		switch {
		case !ok && i == 1:
			msg = textOf(e)
		case !ok && i == 2 && len(n.Elts) == 3:
			fix = textOf(e)
		case !ok:
		case nameOf(pair.Key) == "Msg" || nameOf(pair.Key) == "Message":
			msg = textOf(pair.Value)
		case nameOf(pair.Key) == "Fix":
			fix = textOf(pair.Value)
		}
	}
	return msg, fix
}

var verb = regexp.MustCompile(`%[0-9+#]*[a-zA-Z]`)

// textOf returns a text as it is told, with … for what is not known here.
func textOf(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.BasicLit:
		if text, err := strconv.Unquote(e.Value); err == nil && e.Kind == token.STRING {
			text = verb.ReplaceAllStringFunc(text, func(v string) string {
				if strings.HasSuffix(v, "q") {
					return `"…"`
				}
				return "…"
			})
			return strings.TrimSpace(strings.ReplaceAll(strings.ReplaceAll(text, "%%", "%"), "\n", " "))
		}
	case *ast.BinaryExpr:
		x, y := textOf(e.X), textOf(e.Y)
		space := ""
		if lit, ok := e.X.(*ast.BasicLit); ok && strings.HasSuffix(strings.Trim(lit.Value, "\"`"), " ") {
			space = " "
		}
		if lit, ok := e.Y.(*ast.BasicLit); ok && strings.HasPrefix(strings.Trim(lit.Value, "\"`"), " ") {
			space = " "
		}
		if inner, ok := e.X.(*ast.BinaryExpr); ok {
			if lit, ok := inner.Y.(*ast.BasicLit); ok && strings.HasSuffix(strings.Trim(lit.Value, "\"`"), " ") {
				space = " "
			}
		}
		return x + space + y
	case *ast.CallExpr:
		if name := calledName(e); (name == "fmt.Sprintf" || name == "fmt.Errorf" || name == "errors.New") && len(e.Args) > 0 {
			return textOf(e.Args[0])
		}
	case *ast.Ident:
		if e.Name == "ConfigFile" {
			return "osprey.yaml"
		}
	}
	return "…"
}
