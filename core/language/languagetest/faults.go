// Package languagetest checks annotated documents: texts whose comments name
// the faults that must be found in them. Anyone can add one.
package languagetest

import (
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"osprey/core/language"
)

var faultMark = regexp.MustCompile(`# FAULT ("(?:[^"\\]|\\.)*")`)

// Check runs find on every document of a file, which are parted by lines of
// three dashes. The problems found must be those that comments of the form
//
//	# FAULT "part of the message"
//
// name, on the same line, and no others. A comment on a line of its own means
// the line above. find returns the problems and the source of their places.
func Check(t *testing.T, file string, find func(text string) (language.Problems, func(language.Pos) language.Position)) {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for i, doc := range strings.Split(string(text), "\n---\n") {
		t.Run(fmt.Sprintf("%s/%d", strings.TrimPrefix(file, "testdata/"), i+1), func(t *testing.T) {
			problems, place := find(doc)
			check(t, doc, problems, place)
		})
	}
}

// wanted returns the messages that a text's comments name, by line.
func wanted(t *testing.T, text string) map[int][]string {
	want := map[int][]string{}
	for n, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(strings.TrimSpace(line), "# FAULT") {
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
	return want
}

func check(t *testing.T, text string, problems language.Problems, place func(language.Pos) language.Position) {
	want := wanted(t, text)
	for _, p := range problems {
		at := place(p.Pos)
		found := false
		for i, msg := range want[at.Line] {
			if strings.Contains(p.Msg+" → "+p.Fix, msg) {
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
