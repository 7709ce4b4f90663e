package validate

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"osprey/core/language"
	"osprey/core/language/languagetest"
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

// TestDocuments checks the annotated documents of testdata.
func TestDocuments(t *testing.T) {
	s := testSchema(t)
	find := func(text string) (language.Problems, *language.Source) {
		src := language.NewSource("", text)
		doc, problems := language.Parse(src)
		if len(problems) == 0 {
			problems = Document(s, doc)
		}
		return problems, src
	}
	var remedies languagetest.Remedies
	for _, file := range []string{"testdata/sound.graphql", "testdata/faults.graphql"} {
		languagetest.Check(t, file, func(text string) (language.Problems, func(language.Pos) language.Position) {
			problems, src := find(text)
			remedies.Try(t, text, problems, src.Offset, func(text string) language.Problems {
				problems, _ := find(text)
				return problems
			})
			return problems, src.Position
		})
	}
	remedies.Applied(t, "name it", "write it without quotes", "write it like", "leave out the braces", "write a selection", "write a fragment", "give an alias", "remove the fragment", "leave the variable out", "declare the variable as")
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

// doubling makes a document in which the combinations of fragments that meet
// under one name double with every level.
func doubling(levels, n int) string {
	var b strings.Builder
	b.WriteString("{ ")
	for i := range n {
		fmt.Fprintf(&b, "x%d: fleet { ...F0x%d } ", i, i)
	}
	b.WriteString("}\n")
	for l := range levels {
		for i := range n {
			fmt.Fprintf(&b, "fragment F%dx%d on Craft { name ", l, i)
			for j := range n {
				if l+1 < levels {
					fmt.Fprintf(&b, "r%d: operator { fleet { ...F%dx%d ...F%dx%d } } ", j, l+1, i, l+1, j)
				}
			}
			b.WriteString("}\n")
		}
	}
	return b.String()
}

// TestMergingGivesUp checks that such a document gets an answer.
func TestMergingGivesUp(t *testing.T) {
	doc, problems := language.Parse(language.NewSource("", doubling(10, 17)))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	got := Document(testSchema(t), doc)
	if len(got) != 1 || !strings.Contains(got.Error(), "takes more work to check") {
		t.Errorf("reports %.300q", got)
	}
	small, _ := language.Parse(language.NewSource("", doubling(5, 4)))
	if got := Document(testSchema(t), small); strings.Contains(got.Error(), "more work") {
		t.Errorf("a small one reports %.300q", got)
	}
}

// TestFaultsAreBounded holds that a document is told of a hundred faults and of
// more, in messages that can be read, and checked within its steps.
func TestFaultsAreBounded(t *testing.T) {
	long := strings.Repeat("x", 50_000)
	var variables, circle strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&variables, "$v%d: Int ", i)
		fmt.Fprintf(&circle, "fragment F%d on Query { ...F%d }\n", i, (i+1)%10_000)
	}
	for name, test := range map[string]struct {
		text string
		want int
	}{
		"unknown fields":    {"{ " + strings.Repeat("a ", 40_000) + "}", language.MaxProblems + 1},
		"known fields":      {"{ " + strings.Repeat("__typename ", 300_000) + "}", 1},
		"unknown arguments": {"{ __typename(" + strings.Repeat("a:1 ", 40_000) + ") }", language.MaxProblems + 1},
		"unused variables":  {"query (" + variables.String() + ") { __typename }", language.MaxProblems + 1},
		"long names":        {"query " + long + " { ..." + long + "a ..." + long + "b } fragment " + long + "c on Query { __typename }", 3},
		"a circle":          {"{ ...F0 }\n" + circle.String(), 1},
		"syntax":            {strings.Repeat("{ ] }\n", 40_000), language.MaxProblems + 1},
	} {
		doc, problems := language.Parse(language.NewSource("", test.text))
		if len(problems) == 0 {
			problems = Document(testSchema(t), doc)
		}
		if len(problems) != test.want || len(problems.Error()) > 150*language.MaxProblems+5000 {
			t.Errorf("%s: %d problems in %d bytes, want %d: %.300q", name, len(problems), len(problems.Error()), test.want, problems.Error())
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	doc, _ := language.Parse(language.NewSource("", "{ "+strings.Repeat("__typename ", 30_000)+"}"))
	if _, err := DocumentContext(ctx, testSchema(t), doc); err == nil {
		t.Error("a document for which nobody waits is checked to its end")
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
