// Package assist helps to write operations: what is wrong with a text, what can
// be written at a place, and what a word means.
//
// The text need not be sound: it is followed token by token (see [walk]), as far
// as the tokens make sense. Places are byte offsets.
package assist

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/validate"
)

// Problems returns what is wrong with a text of operations; the error is that of
// ctx.
func Problems(ctx context.Context, s *schema.Schema, src *language.Source) (language.Problems, error) {
	doc, problems := language.Parse(src)
	if problems.Failed() {
		return problems, nil
	}
	return validate.DocumentContext(ctx, s, doc)
}

// A Completion is a word that can be written at a place.
type Completion struct {
	Label  string `json:"label"`
	Kind   string `json:"kind"`             // "field", "argument", "type", "value", "variable", "fragment", "directive" or "keyword"
	Detail string `json:"detail,omitempty"` // its type
	Text   string `json:"text,omitempty"`   // its description
}

// Complete returns what can be written at offset, in a useful order, and the
// offset where the word begins that is being written there.
func Complete(s *schema.Schema, text string, offset int) (list []Completion, from int) {
	offset = min(max(offset, 0), len(text))
	from = offset
	for from > 0 && isWord(text[from-1]) {
		from--
	}
	w := newWalk(s, text)
	for _, t := range language.Tokens(text) {
		if t.Start >= from {
			break
		}
		if t.End > offset && (t.Kind == language.StringToken || t.Kind == language.BlockToken) {
			return nil, offset // inside a string anything can be written
		}
		w.token(t)
	}
	if inComment(text[:from]) {
		return nil, offset
	}
	list = w.completions()
	slices.SortStableFunc(list, func(a, b Completion) int { return cmp.Compare(rank(a), rank(b)) })
	return list, from
}

// rank puts introspection behind everything else.
func rank(c Completion) int {
	if strings.HasPrefix(c.Label, "__") {
		return 1
	}
	return 0
}

func isWord(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

func inComment(text string) bool {
	line := text[strings.LastIndexAny(text, "\r\n")+1:]
	i := strings.IndexByte(line, '#')
	return i >= 0 && strings.Count(line[:i], `"`)%2 == 0
}

// A Meaning is what a word in a text means.
type Meaning struct {
	From, To int    // the word
	Title    string // what it is, such as "Craft.name: String!"
	Text     string // its description; may be empty
	// Defined is where it is defined in the text itself, or -1; Coordinate is its
	// place in the schema otherwise.
	Defined    int
	Coordinate string
}

// Hover returns the meaning of the word at offset, or nil.
func Hover(s *schema.Schema, text string, offset int) *Meaning {
	w := newWalk(s, text)
	for _, t := range language.Tokens(text) {
		m := w.token(t)
		if t.Start <= offset && offset < t.End {
			if m != nil {
				m.From, m.To = t.Start, t.End
			}
			return m
		}
	}
	return nil
}
