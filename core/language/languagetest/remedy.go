package languagetest

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"osprey/core/language"
)

// Remedies does what problems say to do about them, literally, where that is a change of
// the text: afterwards the problem must be gone.
type Remedies struct{ applied map[string]int }

// A remedy is a form of what a problem says to do.
type remedy struct {
	name string
	form *regexp.Regexp // of the fix; or of the message, if it has none of these
	// do changes the text at the place of the problem; false if it is not for it.
	do func(text string, at int, m []string, msg string) (string, bool)
}

var remedies = []remedy{
	{"name it", regexp.MustCompile(`did you mean "([^"]+)"\?$`), func(text string, at int, m []string, msg string) (string, bool) {
		wrong := nearest(text[at:], m[1], msg)
		i := strings.Index(text[at:], wrong)
		return splice(text, at+i, at+i+len(wrong), m[1]), wrong != "" && i >= 0
	}},
	{"write it without quotes", regexp.MustCompile(`^write it without quotes$`), func(text string, at int, _ []string, _ string) (string, bool) {
		quoted := literal.FindString(text[at:])
		return splice(text, at, at+len(quoted), strings.Trim(quoted, `"`)), strings.HasPrefix(quoted, `"`)
	}},
	{"write it like", regexp.MustCompile(`^write it like (.*)$`), func(text string, at int, m []string, _ string) (string, bool) {
		found := literal.FindString(text[at:])
		return splice(text, at, at+len(found), m[1]), found != ""
	}},
	{"make it T", regexp.MustCompile(`^make it (\[?[\w\[\]!]+)$`), func(text string, at int, m []string, _ string) (string, bool) { return retype(text, at, m[1]) }},
	{"make it a list", regexp.MustCompile(`^make it a list\b`), func(text string, at int, _ []string, _ string) (string, bool) {
		from, to, ok := typeAt(text, fieldOf(text, at))
		return splice(text, from, to, "["+text[from:to]+"]"), ok
	}},
	{"make it optional", regexp.MustCompile(`^make it optional`), func(text string, at int, _ []string, _ string) (string, bool) {
		from, to, ok := typeAt(text, at)
		return splice(text, from, to, strings.TrimSuffix(text[from:to], "!")), ok
	}},
	{"declare the variable as", regexp.MustCompile(`^declare it as (\$\w+): (\S+)$`), func(text string, at int, m []string, _ string) (string, bool) {
		declared := regexp.MustCompile(regexp.QuoteMeta(m[1]) + `:\s*[\w\[\]!]+`)
		if !declared.MatchString(text) {
			return text, false
		}
		return declared.ReplaceAllLiteralString(text, m[1]+": "+m[2]), true
	}},
	{"declare the argument as", regexp.MustCompile(`^declare it as (\w+): ([\w\[\]!]+)`), func(text string, at int, m []string, _ string) (string, bool) {
		i := strings.Index(text[at:], m[1])
		if i < 0 {
			return text, false
		}
		return retype(text, at+i, m[2])
	}},
	{"leave out the braces", regexp.MustCompile(`^leave out the braces after (\w+)$`), func(text string, at int, _ []string, _ string) (string, bool) {
		open := strings.IndexByte(text[at:], '{')
		if open < 0 {
			return text, false
		}
		return splice(text, at+open, closing(text, at+open)+1, ""), true
	}},
	{"write a selection", regexp.MustCompile(`^write (\w+ \{ \w+ \})$`), func(text string, at int, m []string, _ string) (string, bool) {
		word := wordAt(text, at)
		end := at + len(word)
		if strings.HasPrefix(text[end:], "(") {
			end = closing(text, end) + 1
		}
		return splice(text, end, end, " "+strings.TrimPrefix(m[1], word+" ")), word != ""
	}},
	{"write a fragment", regexp.MustCompile(`has it: write (\.\.\. on \w+ \{ (\w+) \})`), func(text string, at int, m []string, _ string) (string, bool) {
		return splice(text, at, at+len(m[2]), m[1]), strings.HasPrefix(text[at:], m[2])
	}},
	{"give an alias", regexp.MustCompile(`^give one of them an alias, such as other: (\w+)$`), func(text string, at int, m []string, _ string) (string, bool) {
		return splice(text, at, at, "other: "), true
	}},
	{"remove the fragment", regexp.MustCompile(`^remove it, or spread it`), func(text string, at int, _ []string, _ string) (string, bool) {
		begin := strings.LastIndex(text[:at+1], "fragment")
		open := strings.IndexByte(text[at:], '{')
		return splice(text, begin, closing(text, at+open)+1, ""), begin >= 0 && open >= 0
	}},
	{"leave the variable out", regexp.MustCompile(`^use it, or leave it out$`), func(text string, at int, _ []string, _ string) (string, bool) {
		found := regexp.MustCompile(`^\$?\w+:\s*[\w\[\]!]+(\s*=\s*\S+?)?(,\s*|\s+|\b)`).FindString(text[at:])
		return strings.ReplaceAll(splice(text, at, at+len(found), ""), "()", ""), found != ""
	}},
	{"leave the argument out", regexp.MustCompile(`^leave it out\b`), func(text string, at int, _ []string, msg string) (string, bool) {
		if !strings.Contains(msg, "the argument") {
			return text, false
		}
		found := regexp.MustCompile(`^\w+:\s*[\w\[\]!]+(\s*=\s*[^\s,)]+)?(\s*@\w+\([^)]*\))*,?\s*`).FindString(text[at:])
		return strings.ReplaceAll(splice(text, at, at+len(found), ""), "()", ""), found != ""
	}},
	{"extend", regexp.MustCompile(`or write "(extend (\w+) \w+)" to add to it$`), func(text string, at int, m []string, _ string) (string, bool) {
		begin := strings.LastIndex(text[:at], m[2])
		return splice(text, begin, begin, "extend "), begin >= 0
	}},
	{"extend the schema", regexp.MustCompile(`^write "extend schema"`), func(text string, at int, _ []string, _ string) (string, bool) {
		return splice(text, at, at, "extend "), true
	}},
	{"add an interface", regexp.MustCompile(`^add "(& \w+)"$`), func(text string, at int, m []string, _ string) (string, bool) {
		i := strings.Index(text[at:], "implements ")
		return splice(text, at+i+len("implements "), at+i+len("implements "), strings.TrimPrefix(m[1], "& ")+" & "), i >= 0
	}},
	{"add a field", regexp.MustCompile(`^add "(.*)" to (\w+)$`), func(text string, at int, m []string, _ string) (string, bool) {
		i := strings.Index(text[at:], "{")
		return splice(text, at+i+1, at+i+1, " "+m[1]+" "), i >= 0
	}},
	{"add a root type", regexp.MustCompile(`^add one, such as: (type Query .*)$`), func(text string, at int, m []string, _ string) (string, bool) {
		return text + "\n" + m[1] + "\ntype Craft { imo: ID }", true
	}},
	{"add braces", regexp.MustCompile(`^give it at least one field in braces$`), func(text string, at int, _ []string, _ string) (string, bool) {
		word := wordAt(text, at)
		return splice(text, at+len(word), at+len(word), " { x: Int }"), word != ""
	}},
}

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
		for _, way := range remedies {
			about := p.Fix
			if way.name == "name it" {
				about = p.Msg
			}
			m := way.form.FindStringSubmatch(about)
			if m == nil {
				continue
			}
			mended, ok := way.do(text, min(at, len(text)), m, p.Msg)
			if !ok {
				continue
			}
			if r.applied == nil {
				r.applied = map[string]int{}
			}
			r.applied[way.name]++
			for _, left := range again(mended) {
				if left.Msg == p.Msg {
					t.Errorf("%s\n%s\nsays to do: %s\nand after that, in\n%s\nit is still there", text, p.Msg, p.Fix, mended)
				}
			}
			break
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
