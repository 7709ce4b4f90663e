package validate

import (
	"os"
	"strings"
	"testing"

	"osprey/core/language"
)

// FuzzDocument validates anything that parses: it ends, it does not panic, and
// each fault has a place in the text.
func FuzzDocument(f *testing.F) {
	for _, file := range []string{"testdata/sound.graphql", "testdata/faults.graphql"} {
		text, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		for _, doc := range strings.Split(string(text), "\n---\n") {
			f.Add(doc)
		}
	}
	s := testSchema(f)
	f.Fuzz(func(t *testing.T, text string) {
		src := language.NewSource("", text)
		doc, problems := language.Parse(src)
		if len(problems) > 0 {
			return
		}
		for _, p := range Document(s, doc) {
			if src.Position(p.Pos).Line == 0 {
				t.Errorf("%q reports %q without a place", text, p.Msg)
			}
		}
	})
}
