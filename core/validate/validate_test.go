package validate

import (
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
	for _, file := range []string{"testdata/sound.graphql", "testdata/faults.graphql"} {
		languagetest.Check(t, file, func(text string) (language.Problems, func(language.Pos) language.Position) {
			src := language.NewSource("", text)
			doc, problems := language.Parse(src)
			if len(problems) == 0 {
				problems = Document(s, doc)
			}
			return problems, src.Position
		})
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
	merging := 0
	for _, p := range got {
		if p.Rule == ruleMerging {
			merging++
		}
	}
	if merging != 1 || !strings.Contains(got.Error(), "too many combinations") {
		t.Errorf("reports %.300q", got)
	}
	small, _ := language.Parse(language.NewSource("", doubling(5, 4)))
	if got := Document(testSchema(t), small); strings.Contains(got.Error(), "combinations") {
		t.Errorf("a small one reports %.300q", got)
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
