package language

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Severity tells whether a problem stops the work.
type Severity uint8

const (
	Error   Severity = iota // what was asked cannot be done
	Warning                 // it can be done, but is seldom meant
)

// String returns "error" or "warning".
func (s Severity) String() string {
	if s == Warning {
		return "warning"
	}
	return "error"
}

// A Problem is one thing found wrong with a text, at any stage from its
// letters to what its fields are bound to. Programs may rely on Rule, never on
// Msg.
type Problem struct {
	Severity   Severity
	Rule       string // the rule's permanent name: "syntax", or a rule's title in the specification
	Pos        Pos    // where the fault is known to begin; NoPos if it has no place
	Others     []Pos  // further places that take part, such as the other of two fields
	Coordinate string // the schema coordinate concerned, such as "Craft.name"; may be empty
	Msg        string // no capital, no full stop
	Fix        string // what to do about it; may be empty
}

// Problems is a list of problems. It is an error if one of them is.
type Problems []*Problem

// MaxProblems is how many faults one document is told of: whoever wrote it mends
// these first, and a document with more is seldom one of this language at all.
const MaxProblems = 100

// More tells that there are, or may be, more problems than those of the list,
// which is in order and not empty.
func (l *Problems) More() {
	l.Add(ruleMore, (*l)[len(*l)-1].Pos, msgMore, len(*l))
}

// ruleMore is the rule of the problem that stands for those that are not told.
const ruleMore = "more"

// maxMessage is how long a message may be: texts that are quoted in it can be as
// long as the document.
const maxMessage = 1000

// Clip cuts a text for a message to a length that can be read.
func Clip(text string) string {
	if len(text) <= maxMessage {
		return text
	}
	end := maxMessage
	for end > 0 && !utf8.RuneStart(text[end]) {
		end--
	}
	return text[:end] + "…"
}

// Add appends an error with a formatted message and returns it for further detail.
func (l *Problems) Add(rule string, pos Pos, format string, args ...any) *Problem {
	msg, fix := Parted(fmt.Sprintf(format, args...))
	p := &Problem{Rule: rule, Pos: pos, Msg: Clip(msg), Fix: fix}
	*l = append(*l, p)
	return p
}

// remedySign stands in the wording of a problem before what to do about it, where that
// is always the same.
const remedySign = "\n→ "

// WithRemedy writes a message and what to do about it as the wording of a problem has
// them.
func WithRemedy(msg, fix string) string {
	if fix == "" {
		return msg
	}
	return msg + remedySign + fix
}

// Parted returns a message, and what stands behind the first remedy sign of its wording:
// what is wrong inside is told before what is around it. Where the message says what was
// meant, that is the remedy.
func Parted(text string) (msg, fix string) {
	msg, fix, _ = strings.Cut(text, remedySign)
	fix, _, _ = strings.Cut(fix, remedySign)
	if strings.Contains(msg, didYouMean) {
		fix = ""
	}
	return msg, fix
}

// Sort orders the list by place.
func (l Problems) Sort() {
	slices.SortStableFunc(l, func(a, b *Problem) int { return cmp.Compare(a.Pos, b.Pos) })
}

// Failed reports whether the list holds an error, and not only warnings.
func (l Problems) Failed() bool {
	return slices.ContainsFunc(l, func(p *Problem) bool { return p.Severity == Error })
}

// Err returns l as an error, or nil if it holds no error.
func (l Problems) Err() error {
	if !l.Failed() {
		return nil
	}
	return l
}

// Error returns the messages, a line each, without places.
func (l Problems) Error() string {
	lines := make([]string, len(l))
	for i, p := range l {
		lines[i] = p.Msg
	}
	return strings.Join(lines, "\n")
}
