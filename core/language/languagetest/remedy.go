package languagetest

import (
	"strings"
	"testing"

	"osprey/core/language"
	"osprey/core/mend"
)

// Remedies does what problems say to do about them, where that is a change of the text:
// afterwards the problem must be gone.
type Remedies struct{ applied map[string]int }

// Try applies the remedies of the problems of a text, each by itself. Place returns the
// offset of a problem in the text, or -1, and again checks a text.
func (r *Remedies) Try(t *testing.T, text string, problems language.Problems, place func(language.Pos) int, again func(text string) language.Problems) {
	t.Helper()
	for _, p := range problems {
		if p.Fix == "" && p.Rule != "syntax" && !strings.Contains(p.Msg, "did you mean") {
			t.Errorf("%s\n%s\nand nothing is said of what to do", text, p.Msg)
		}
		at := place(p.Pos)
		if at < 0 || at >= len(text) && p.Fix == "" {
			continue
		}
		for _, change := range mend.Of(text, min(at, len(text)), p) {
			if r.applied == nil {
				r.applied = map[string]int{}
			}
			r.applied[change.Way]++
			mended := change.Apply(text)
			for _, left := range again(mended) {
				if left.Msg == p.Msg {
					t.Errorf("%s\n%s\nsays to do: %s\nand after that, in\n%s\nit is still there", text, p.Msg, p.Fix, mended)
				}
			}
		}
	}
}

// Applied reports how often remedies of a form were applied, and fails where one of the
// forms never was.
func (r *Remedies) Applied(t *testing.T, forms ...string) {
	t.Helper()
	for _, name := range forms {
		if r.applied[name] == 0 {
			t.Errorf("no problem's remedy was to %s: %v", name, r.applied)
		}
	}
}
