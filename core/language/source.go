package language

import (
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"
)

// A Pos is a place in one of a set of sources: the byte offset in its text,
// plus the base of the source, so that one small number tells both. The zero
// Pos means "no place".
type Pos int32

// NoPos is the place of what was not read from a text.
const NoPos Pos = 0

// A Position is a Pos made readable.
type Position struct {
	Name   string // the source's name, often a file
	Line   int    // from 1
	Column int    // from 1, in Unicode code points
}

// String returns "file:line:column", or the parts that are known.
func (p Position) String() string {
	if p.Line == 0 {
		return p.Name
	}
	place := strconv.Itoa(p.Line) + ":" + strconv.Itoa(p.Column)
	if p.Name == "" {
		return place
	}
	return p.Name + ":" + place
}

// A Source is one text with a name. It is safe for concurrent use.
type Source struct {
	Name string
	Text string

	base  Pos
	once  sync.Once
	lines []int   // byte offset of the first byte of each line
	marks []int32 // how many code points begin before each marked byte
}

// markEvery is how far apart the marked bytes of a text are: a column is counted
// from the mark before it, and not from the beginning of a line that may be the
// whole text.
const markEvery = 1 << 10

// NewSource returns a source that stands alone.
func NewSource(name, text string) *Source {
	return &Source{Name: name, Text: text, base: 1}
}

// Pos returns the place of the byte at offset.
func (s *Source) Pos(offset int) Pos { return s.base + Pos(offset) }

// Offset returns the byte offset of pos, which must lie in s.
func (s *Source) Offset(pos Pos) int { return int(pos - s.base) }

// contains reports whether pos lies in s, its end included.
func (s *Source) contains(pos Pos) bool {
	return pos >= s.base && int(pos-s.base) <= len(s.Text)
}

// Position returns the line and column of pos.
func (s *Source) Position(pos Pos) Position {
	if s == nil || !s.contains(pos) {
		return Position{}
	}
	s.once.Do(s.findLines)
	offset := s.Offset(pos)
	line := sort.Search(len(s.lines), func(i int) bool { return s.lines[i] > offset }) - 1
	return Position{s.Name, line + 1, s.pointsBefore(offset) - s.pointsBefore(s.lines[line]) + 1}
}

// pointsBefore returns how many code points begin before a byte.
func (s *Source) pointsBefore(offset int) int {
	mark := offset / markEvery
	return int(s.marks[mark]) + countPoints(s.Text[mark*markEvery:offset])
}

// countPoints counts the bytes that begin a code point.
func countPoints(text string) int {
	n := 0
	for i := range len(text) {
		if utf8.RuneStart(text[i]) {
			n++
		}
	}
	return n
}

// Line returns the text of a line, counted from 1, without its end.
func (s *Source) Line(line int) string {
	s.once.Do(s.findLines)
	if line < 1 || line > len(s.lines) {
		return ""
	}
	end := len(s.Text)
	if line < len(s.lines) {
		end = s.lines[line]
	}
	return strings.TrimRight(s.Text[s.lines[line-1]:end], "\r\n")
}

// At returns the byte offset of a place, counted as [Position] counts: the end of its line for a
// column behind it; false if there is no such line.
func (s *Source) At(line, column int) (int, bool) {
	s.once.Do(s.findLines)
	if line < 1 || line > len(s.lines) || column < 1 {
		return 0, false
	}
	text := s.Line(line)
	n := 1
	for i := range len(text) {
		if !utf8.RuneStart(text[i]) {
			continue
		}
		if n == column {
			return s.lines[line-1] + i, true
		}
		n++
	}
	return s.lines[line-1] + len(text), true
}

// findLines fills lines and marks. A line ends with "\n", "\r\n" or "\r" (section 2.1.2
// of the specification, Line Terminators).
func (s *Source) findLines() {
	points := int32(0)
	for at := 0; at <= len(s.Text); at += markEvery {
		s.marks = append(s.marks, points)
		points += int32(countPoints(s.Text[at:min(at+markEvery, len(s.Text))]))
	}
	s.lines = append(s.lines, 0)
	for i := 0; i < len(s.Text); i++ {
		switch s.Text[i] {
		case '\r':
			if i+1 < len(s.Text) && s.Text[i+1] == '\n' {
				i++
			}
			s.lines = append(s.lines, i+1)
		case '\n':
			s.lines = append(s.lines, i+1)
		}
	}
}

// Sources is a set of texts that share one range of places: the files of a
// schema. The zero Sources is empty and ready for use. Add must not be called
// while another goroutine uses the set.
type Sources struct {
	list []*Source
	next Pos
}

// Add puts a text into the set and returns its source.
func (s *Sources) Add(name, text string) *Source {
	if s.next == NoPos {
		s.next = 1
	}
	src := &Source{Name: name, Text: text, base: s.next}
	s.next += Pos(len(text)) + 1
	s.list = append(s.list, src)
	return src
}

// Clone returns a set of the same texts, to which others can be added.
func (s *Sources) Clone() *Sources { return &Sources{slices.Clone(s.list), s.next} }

// Find returns the source in which pos lies, or nil.
func (s *Sources) Find(pos Pos) *Source {
	if s == nil || pos == NoPos {
		return nil
	}
	i := sort.Search(len(s.list), func(i int) bool { return s.list[i].base > pos }) - 1
	if i < 0 || !s.list[i].contains(pos) {
		return nil
	}
	return s.list[i]
}

// Position returns the name, line and column of pos.
func (s *Sources) Position(pos Pos) Position { return s.Find(pos).Position(pos) }
