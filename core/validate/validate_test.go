package validate

import (
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"osprey/core/language"
	"osprey/core/schema"
)

func testSchema(t testing.TB) *schema.Schema {
	t.Helper()
	text, err := os.ReadFile("testdata/schema.graphql")
	if err != nil {
		t.Fatal(err)
	}
	s, problems := schema.Build(schema.Text{Name: "schema.graphql", Body: string(text)})
	if problems.Failed() {
		t.Fatal(problems)
	}
	return s
}

var faultMark = regexp.MustCompile(`# FAULT ("(?:[^"\\]|\\.)*")`)

// TestDocuments checks the documents of testdata: the faults of each are those
// that its comments name, on the same line, and no others. A comment on a line
// of its own means the line above.
func TestDocuments(t *testing.T) {
	s := testSchema(t)
	for _, file := range []string{"testdata/sound.graphql", "testdata/faults.graphql"} {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for i, doc := range strings.Split(string(text), "\n---\n") {
			t.Run(fmt.Sprintf("%s/%d", strings.TrimPrefix(file, "testdata/"), i+1), func(t *testing.T) { checkDocument(t, s, doc) })
		}
	}
}

func checkDocument(t *testing.T, s *schema.Schema, text string) {
	want := map[int][]string{}
	for n, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "# FAULT") {
			n--
		}
		for _, m := range faultMark.FindAllStringSubmatch(line, -1) {
			msg, err := strconv.Unquote(m[1])
			if err != nil {
				t.Fatal(err)
			}
			want[n+1] = append(want[n+1], msg)
		}
	}
	src := language.NewSource("", text)
	doc, problems := language.Parse(src)
	if len(problems) > 0 {
		t.Fatalf("%s\ndoes not parse: %q", text, problems)
	}
	for _, p := range Document(s, doc) {
		at := src.Position(p.Pos)
		found := false
		for i, msg := range want[at.Line] {
			if strings.Contains(p.Msg, msg) {
				want[at.Line] = append(want[at.Line][:i], want[at.Line][i+1:]...)
				found = true
				break
			}
		}
		if !found {
			t.Errorf("%s\nreports at %s: %s [%s], which no comment expects", text, at, p.Msg, p.Rule)
		}
	}
	for line, list := range want {
		for _, msg := range list {
			t.Errorf("%s\ndoes not report on line %d: %s", text, line, msg)
		}
	}
}

// adversarial makes a document of many fragments that spread one another and
// repeat the same response names.
func adversarial(fragments, fields int) string {
	var b strings.Builder
	b.WriteString("{ fleet { ...F0 } }\n")
	for i := range fragments {
		fmt.Fprintf(&b, "fragment F%d on Craft { ", i)
		for j := range fields / fragments {
			fmt.Fprintf(&b, "name n%d: name operator { fleet { imo ", j)
			if i+1 < fragments {
				fmt.Fprintf(&b, "...F%d ", i+1)
			}
			b.WriteString("} } ")
		}
		b.WriteString("}\n")
	}
	return b.String()
}

// TestMergingIsBounded checks that a document made to hurt is answered at all:
// comparing every two fields would take hours.
func TestMergingIsBounded(t *testing.T) {
	doc, problems := language.Parse(language.NewSource("", adversarial(900, 3600)))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	done := make(chan language.Problems)
	go func() { done <- Document(testSchema(t), doc) }()
	select {
	case problems := <-done:
		if problems.Failed() {
			t.Errorf("reports %.300q", problems)
		}
	case <-time.After(time.Minute):
		t.Fatal("not validated within a minute")
	}
}

func BenchmarkMerging(b *testing.B) {
	s := testSchema(b)
	for _, n := range []int{100, 300, 900} {
		doc, _ := language.Parse(language.NewSource("", adversarial(n, n*4)))
		b.Run(fmt.Sprintf("fragments=%d", n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				Document(s, doc)
			}
		})
	}
}
