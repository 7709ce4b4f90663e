package language

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

// shape writes a tree without places, so that two trees can be compared.
func shape(v reflect.Value) string {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return "-"
		}
		return shape(v.Elem())
	case reflect.Slice:
		var b strings.Builder
		for i := range v.Len() {
			b.WriteString(shape(v.Index(i)) + ",")
		}
		return "[" + b.String() + "]"
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[Source]() {
			return ""
		}
		var b strings.Builder
		for i := range v.NumField() {
			name := v.Type().Field(i).Name
			if v.Field(i).Type() != reflect.TypeFor[Pos]() && name != "Block" && name != "Comments" {
				b.WriteString(name + ":" + shape(v.Field(i)) + " ")
			}
		}
		return v.Type().Name() + "{" + b.String() + "}"
	}
	return fmt.Sprintf("%q", fmt.Sprint(v.Interface()))
}

// checkTidy checks the laws of printing: the same tree, every comment, and a
// second printing changes nothing.
func checkTidy(t *testing.T, text string) {
	t.Helper()
	doc, problems := Parse(NewSource("", text))
	if len(problems) > 0 {
		return
	}
	printed := Tidy(doc)
	again, problems := Parse(NewSource("", printed))
	if len(problems) > 0 {
		t.Fatalf("%q\nprints as\n%s\nwhich reports %q", text, printed, problems)
	}
	if a, b := shape(reflect.ValueOf(doc)), shape(reflect.ValueOf(again)); a != b {
		t.Errorf("%q\nprints as\n%s\nwith the tree\n%s\nwant\n%s", text, printed, b, a)
	}
	if len(doc.Comments) != len(again.Comments) {
		t.Errorf("%q\nhas %d comments, and printed %d:\n%s", text, len(doc.Comments), len(again.Comments), printed)
	}
	if twice := Tidy(again); twice != printed {
		t.Errorf("%q\nprints as\n%s\nand that as\n%s", text, printed, twice)
	}
}

func TestTidyKeepsTheTree(t *testing.T) {
	for _, text := range sound {
		checkTidy(t, text)
	}
	files, _ := filepath.Glob("../../demo/harbour/*/*.graphql")
	if len(files) < 5 {
		t.Fatal("the demo's files are not found")
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		checkTidy(t, string(text))
	}
}

// TestTidyLayout compares documents of testdata with their tidy form.
func TestTidyLayout(t *testing.T) {
	files, _ := filepath.Glob("testdata/*.in.graphql")
	if len(files) == 0 {
		t.Fatal("no documents")
	}
	for _, file := range files {
		in, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		want, err := os.ReadFile(strings.Replace(file, ".in.", ".tidy.", 1))
		if err != nil {
			t.Fatal(err)
		}
		doc, problems := Parse(NewSource(file, string(in)))
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		if got := Tidy(doc); got != string(want) {
			t.Errorf("%s prints as\n%s\nwant\n%s", file, got, want)
		}
		checkTidy(t, string(in))
	}
}

func FuzzTidy(f *testing.F) {
	for _, text := range sound {
		f.Add(text)
	}
	for _, text := range []string{"# a\n{ a # b\n # c\n b(x: 1 # d\n) # e\n} # f\n# g", "type A { # a\n\n\n a: Int # b\n # c\n}", "union U # a\n = A # b\n | B"} {
		f.Add(text)
	}
	f.Fuzz(checkTidy)
}

// TestTidyDeep prints long lines of what is nested deep, which no line can hold: were
// each level tried anew at every one above it, this would not end.
func TestTidyDeep(t *testing.T) {
	for name, text := range map[string]string{
		"selections": "{ " + strings.Repeat("field(first: 10, after: \"x\") { ", 150) + "id" + strings.Repeat(" }", 150) + " }\n",
		"values":     "{ a(x: " + strings.Repeat("[", 150) + "1" + strings.Repeat("]", 150) + ") { b } }\n",
		"objects":    "{ a(x: " + strings.Repeat("{y: ", 150) + "1" + strings.Repeat("}", 150) + ") @include(if: true) { b } }\n",
		"fragments":  "{ " + strings.Repeat("... on Craft @include(if: true) { ", 150) + "id" + strings.Repeat(" }", 150) + " }\n",
	} {
		doc, problems := Parse(NewSource("", text))
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		tidy := Tidy(doc)
		again, problems := Parse(NewSource("", tidy))
		if len(problems) > 0 || shape(reflect.ValueOf(doc.Definitions)) != shape(reflect.ValueOf(again.Definitions)) || Tidy(again) != tidy {
			t.Errorf("%s: %v\n%.2000s", name, problems, tidy)
		}
	}
}

// TestAt finds each place again by its line and column.
func TestAt(t *testing.T) {
	const text = "Häfen 😀\r\n\rx\n\n  y"
	src := NewSource("", text)
	for at := range text {
		if at > 0 && text[at-1] == '\r' && text[at] == '\n' || text[at] == '\r' || text[at] == '\n' {
			continue
		}
		p := src.Position(src.Pos(at))
		if got, ok := src.At(p.Line, p.Column); !ok || got != at {
			t.Errorf("byte %d is %s, which is byte %d", at, p, got)
		}
	}
	if at, ok := src.At(1, 99); !ok || at != len("Häfen 😀") {
		t.Errorf("behind the end of a line is byte %d", at)
	}
	for _, place := range [][2]int{{0, 1}, {9, 1}, {1, 0}} {
		if _, ok := src.At(place[0], place[1]); ok {
			t.Errorf("there is a place %v", place)
		}
	}
}
