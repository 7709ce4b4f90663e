// Package mend does what a problem says to do about it, literally, where that is a change of
// the text.
package mend

import (
	"regexp"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/words"
)

// A Change puts With in place of the bytes From to To of a text.
type Change struct {
	From, To int
	With     string
	// Way names the form of the remedy, such as "make it T".
	Way string
	// Harmless says that it does not change what the text means to others, as what is merely
	// written out, or left out since nothing uses it.
	Harmless bool
	// Example says that a part of what is written is made up.
	Example bool
}

// Of returns what a problem says to do about the text in which it stands at the byte at: none
// where that is no change of the text, or left to whoever writes it, and several where it can
// be meant in several ways.
func Of(text string, at int, p *language.Problem) []Change {
	if at < 0 || at > len(text) {
		return nil
	}
	var list []Change
	for _, way := range ways {
		about := p.Fix
		if way.ofMessage {
			about = p.Msg
		}
		m := way.form.FindStringSubmatch(about)
		if m == nil {
			continue
		}
		if mended, ok := way.do(text, at, m, p.Msg); ok && mended != text {
			list = append(list, change(text, mended, way))
		}
	}
	return list
}

// change returns in what two texts differ, as one change.
func change(before, after string, w way) Change {
	from := 0
	for from < len(before) && from < len(after) && before[from] == after[from] {
		from++
	}
	same := 0
	for same < len(before)-from && same < len(after)-from && before[len(before)-1-same] == after[len(after)-1-same] {
		same++
	}
	return Change{From: from, To: len(before) - same, With: after[from : len(after)-same], Way: w.name, Harmless: w.how == harmless, Example: w.how == example}
}

// Apply makes a change.
func (c Change) Apply(text string) string { return splice(text, c.From, c.To, c.With) }

// A way is a form of what a problem says to do.
type way struct {
	name string
	form *regexp.Regexp // of the fix, or of the message
	// do changes the text at the place of the problem; false if it is not for it.
	do        func(text string, at int, m []string, msg string) (string, bool)
	how       how
	ofMessage bool
}

// how says how sure it is that a change is what was meant.
type how uint8

const (
	meant    how = iota
	harmless     // it changes no meaning
	example      // a part of it is made up
)

var ways = []way{
	{"name it", regexp.MustCompile(`did you mean "([^"]+)"\?$`), func(text string, at int, m []string, msg string) (string, bool) {
		near := text[at:min(len(text), at+span)]
		wrong := nearest(near, m[1], msg)
		if stored := elsewhere.FindStringSubmatch(msg); stored != nil && wrong != stored[1] {
			return text, false // the field has another name than what is stored
		}
		i := strings.Index(near, wrong)
		return splice(text, at+i, at+i+len(wrong), m[1]), wrong != "" && i >= 0
	}, meant, true},
	{"name the field", elsewhere, func(text string, at int, m []string, _ string) (string, bool) {
		name := word.FindString(text[at:])
		as := words.Camel(words.Of(m[2]))
		return splice(text, at, at+len(name), as), name != "" && as != "" && name != m[1] && typed(text, at) && distance(name, as) < 4
	}, meant, true},
	{"say where it is", elsewhere, func(text string, at int, m []string, _ string) (string, bool) {
		_, end, ok := typeAt(text, at)
		return splice(text, end, end, ` @at(path: "`+m[2]+`")`), ok && !strings.Contains(text[at:min(len(text), at+span)], m[1])
	}, meant, true},
	{"write it without quotes", regexp.MustCompile(`^write it without quotes$`), func(text string, at int, _ []string, _ string) (string, bool) {
		quoted := literal.FindString(text[at:])
		return splice(text, at, at+len(quoted), strings.Trim(quoted, `"`)), strings.HasPrefix(quoted, `"`)
	}, harmless, false},
	{"write it like", regexp.MustCompile(`^write it like (.*)$`), func(text string, at int, m []string, _ string) (string, bool) {
		found := literal.FindString(text[at:])
		return splice(text, at, at+len(found), m[1]), found != ""
	}, meant, false},
	{"make it T", regexp.MustCompile(`^(?:make it|write) (\[?[\w\[\]!]+)(?:,|$)`), func(text string, at int, m []string, _ string) (string, bool) { return retype(text, at, m[1]) }, meant, false},
	{"make it a list", regexp.MustCompile(`^make it a list\b`), func(text string, at int, _ []string, _ string) (string, bool) {
		from, to, ok := typeAt(text, fieldOf(text, at))
		return splice(text, from, to, "["+text[from:to]+"]"), ok
	}, meant, false},
	{"make it optional", regexp.MustCompile(`^make it optional`), func(text string, at int, _ []string, _ string) (string, bool) {
		from, to, ok := typeAt(text, at)
		return splice(text, from, to, strings.TrimSuffix(text[from:to], "!")), ok
	}, meant, false},
	{"declare the variable as", regexp.MustCompile(`^declare it as (\$\w+): (\S+)$`), func(text string, at int, m []string, _ string) (string, bool) {
		declared := regexp.MustCompile(regexp.QuoteMeta(m[1]) + `:\s*[\w\[\]!]+`)
		if !declared.MatchString(text) {
			return text, false
		}
		return declared.ReplaceAllLiteralString(text, m[1]+": "+m[2]), true
	}, meant, false},
	{"declare the argument as", regexp.MustCompile(`^declare it as (\w+): ([\w\[\]!]+)`), func(text string, at int, m []string, _ string) (string, bool) {
		i := strings.Index(text[at:], m[1])
		if i < 0 {
			return text, false
		}
		return retype(text, at+i, m[2])
	}, meant, false},
	{"leave out the braces", regexp.MustCompile(`^leave out the braces after (\w+)$`), func(text string, at int, _ []string, _ string) (string, bool) {
		open := strings.IndexByte(text[at:], '{')
		if open < 0 {
			return text, false
		}
		return splice(text, at+open, closing(text, at+open)+1, ""), true
	}, meant, false},
	{"write a selection", regexp.MustCompile(`^write (\w+ \{ \w+ \})$`), func(text string, at int, m []string, _ string) (string, bool) {
		word := wordAt(text, at)
		end := at + len(word)
		if strings.HasPrefix(text[end:], "(") {
			end = closing(text, end) + 1
		}
		return splice(text, end, end, " "+strings.TrimPrefix(m[1], word+" ")), word != ""
	}, meant, false},
	{"write a fragment", regexp.MustCompile(`has it: write (\.\.\. on \w+ \{ (\w+) \})`), func(text string, at int, m []string, _ string) (string, bool) {
		return splice(text, at, at+len(m[2]), m[1]), strings.HasPrefix(text[at:], m[2])
	}, meant, false},
	{"give an alias", regexp.MustCompile(`^give one of them an alias, such as other: (\w+)$`), func(text string, at int, m []string, _ string) (string, bool) {
		return splice(text, at, at, "other: "), true
	}, meant, false},
	{"remove the fragment", regexp.MustCompile(`^remove it, or spread it`), func(text string, at int, _ []string, _ string) (string, bool) {
		begin := strings.LastIndex(text[:at+1], "fragment")
		open := strings.IndexByte(text[at:], '{')
		return splice(text, begin, closing(text, at+open)+1, ""), begin >= 0 && open >= 0
	}, harmless, false},
	{"leave the variable out", regexp.MustCompile(`^use it, or leave it out$`), func(text string, at int, _ []string, _ string) (string, bool) {
		found := regexp.MustCompile(`^\$?\w+:\s*[\w\[\]!]+(\s*=\s*\S+?)?(,\s*|\s+|\b)`).FindString(text[at:])
		return strings.ReplaceAll(splice(text, at, at+len(found), ""), "()", ""), found != ""
	}, harmless, false},
	{"leave the argument out", regexp.MustCompile(`^leave it out\b`), func(text string, at int, _ []string, msg string) (string, bool) {
		if !strings.Contains(msg, "the argument") {
			return text, false
		}
		found := regexp.MustCompile(`^\w+:\s*[\w\[\]!]+(\s*=\s*[^\s,)]+)?(\s*@\w+\([^)]*\))*,?\s*`).FindString(text[at:])
		return strings.ReplaceAll(splice(text, at, at+len(found), ""), "()", ""), found != ""
	}, meant, false},
	{"extend", regexp.MustCompile(`or write "(extend (\w+) \w+)" to add to it$`), func(text string, at int, m []string, _ string) (string, bool) {
		begin := strings.LastIndex(text[:at], m[2])
		return splice(text, begin, begin, "extend "), begin >= 0
	}, meant, false},
	{"extend the schema", regexp.MustCompile(`^write "extend schema"`), func(text string, at int, _ []string, _ string) (string, bool) {
		return splice(text, at, at, "extend "), true
	}, meant, false},
	{"add an interface", regexp.MustCompile(`^add "(& \w+)"$`), func(text string, at int, m []string, _ string) (string, bool) {
		i := strings.Index(text[at:], "implements ")
		return splice(text, at+i+len("implements "), at+i+len("implements "), strings.TrimPrefix(m[1], "& ")+" & "), i >= 0
	}, harmless, false},
	{"add a field", regexp.MustCompile(`^add "(.*)" to (\w+)$`), func(text string, at int, m []string, _ string) (string, bool) {
		open := strings.IndexByte(text[at:], '{')
		if open < 0 {
			return text, false
		}
		end := closing(text, at+open)
		if line := strings.LastIndexByte(text[:end], '\n'); line > at+open && strings.TrimSpace(text[line:end]) == "" { // the brace has its own line
			return splice(text, line+1, line+1, "  "+m[1]+"\n"), true
		}
		return splice(text, end, end, " "+m[1]+" "), true
	}, harmless, false},
	{"add a root type", regexp.MustCompile(`^add one, such as: (type Query .*)$`), func(text string, at int, m []string, _ string) (string, bool) {
		return text + "\n" + m[1] + "\ntype Craft { imo: ID }", true
	}, example, false},
	{"add braces", regexp.MustCompile(`^give it at least one field in braces$`), func(text string, at int, _ []string, _ string) (string, bool) {
		word := wordAt(text, at)
		return splice(text, at+len(word), at+len(word), " { x: Int }"), word != ""
	}, example, false},
}

// span is how far behind the place of a problem the word may stand that is wrong.
const span = 400

// elsewhere is how it is told that a field is not where its name says.
var elsewhere = regexp.MustCompile(`is "([^"]+)", which .*; did you mean "([^"]+)"\?$`)

// typed reports whether a field or argument begins at a place, with its type.
func typed(text string, at int) bool {
	_, _, ok := typeAt(text, at)
	return ok && !strings.HasPrefix(text[at:], "@")
}

func splice(text string, from, to int, with string) string {
	if from < 0 || to < from || to > len(text) {
		return text
	}
	return text[:from] + with + text[to:]
}

// literal matches a value that is no list and no object.
var literal = regexp.MustCompile(`^("[^"]*"|[\w.+-]+)`)

var word = regexp.MustCompile(`^\$?\w+`)

func wordAt(text string, at int) string { return word.FindString(text[at:]) }

// closing returns the place of the bracket that closes the one at a place.
func closing(text string, open int) int {
	depth := 0
	for i := open; i < len(text); i++ {
		switch text[i] {
		case '{', '(', '[':
			depth++
		case '}', ')', ']':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(text) - 1
}

// fieldOf returns the place of the field whose directive stands at a place, or the place.
func fieldOf(text string, at int) int {
	if !strings.HasPrefix(text[at:], "@") {
		return at
	}
	fields := regexp.MustCompile(`\w+(\([^()]*\))?:\s*[\w\[\]!]+\s*(@\w+(\((?:[^()]|\([^()]*\))*\))?\s*)*$`)
	if loc := fields.FindStringIndex(text[:at]); loc != nil {
		return loc[0]
	}
	return at
}

// typeAt returns where the type of the field or argument at a place stands.
func typeAt(text string, at int) (from, to int, ok bool) {
	at = fieldOf(text, at)
	end := at + len(wordAt(text, at))
	if end < len(text) && text[end] == '(' {
		end = closing(text, end) + 1
	}
	loc := regexp.MustCompile(`^\s*:\s*([\w\[\]!]+)`).FindStringSubmatchIndex(text[end:])
	if loc == nil {
		return 0, 0, false
	}
	return end + loc[2], end + loc[3], true
}

func retype(text string, at int, as string) (string, bool) {
	from, to, ok := typeAt(text, at)
	return splice(text, from, to, as), ok
}

// nearest returns the word of a message that stands in the text and is most like what
// was meant.
func nearest(text, meant, msg string) string {
	msg, _, _ = strings.Cut(msg, "; did you mean")
	words := regexp.MustCompile(`[\w@.$-]+`).FindAllString(msg, -1)
	best, least := "", 4
	for _, w := range words {
		for _, w := range []string{w, strings.TrimLeft(w, "@"), w[strings.LastIndexByte(w, '.')+1:]} {
			if d := distance(w, strings.TrimLeft(meant, "@")); w != "" && w != meant && d < least && strings.Contains(text, w) {
				best, least = w, d
			}
		}
	}
	return best
}

// distance is how many letters two words differ in.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := before
			if a[i] != b[j] {
				cost++
			}
			before = row[j+1]
			row[j+1] = slices.Min([]int{cost, row[j] + 1, row[j+1] + 1})
		}
	}
	return row[len(b)]
}
