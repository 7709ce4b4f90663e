package language

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// A lexer cuts a text into tokens, one for each call of next. Faults inside a
// token are told to fail once; the lexer goes on behind them.
type lexer struct {
	text string
	pos  int
	fail func(offset int, format string, args ...any)
}

// class has what a byte may be part of.
var class = func() (t [256]uint8) {
	for c := 'a'; c <= 'z'; c++ {
		t[c], t[c-'a'+'A'] = nameStart|nameRest, nameStart|nameRest
	}
	t['_'] = nameStart | nameRest
	for c := '0'; c <= '9'; c++ {
		t[c] = digit | nameRest
	}
	return t
}()

const (
	nameStart uint8 = 1 << iota
	nameRest
	digit
)

// punctuators has the kind of each punctuator of one byte.
var punctuators = [128]Kind{
	'!': Bang, '$': Dollar, '&': Amp, '(': ParenL, ')': ParenR, ':': Colon, '=': Equals,
	'@': At, '[': BracketL, ']': BracketR, '{': BraceL, '|': Pipe, '}': BraceR,
}

// next returns the next token, which may be a comment.
func (l *lexer) next() token {
	l.skipIgnored()
	start := l.pos
	if start >= len(l.text) {
		return token{EOF, int32(len(l.text)), int32(len(l.text))}
	}
	c := l.text[start]
	kind := Invalid
	switch {
	case class[c]&nameStart != 0:
		kind = NameToken
		for l.pos++; l.pos < len(l.text) && class[l.text[l.pos]]&nameRest != 0; l.pos++ {
		}
	case c < 128 && punctuators[c] != EOF:
		kind = punctuators[c]
		l.pos++
	case c == '.':
		kind = l.dots()
	case c == '-' || class[c]&digit != 0:
		kind = l.number()
	case c == '"':
		if strings.HasPrefix(l.text[start:], `"""`) {
			kind = l.block()
		} else {
			kind = l.str()
		}
	case c == '#':
		kind = CommentToken
		l.comment()
	default:
		l.stray()
	}
	return token{kind, int32(start), int32(l.pos)}
}

// comment passes a comment up to the end of its line.
func (l *lexer) comment() {
	for l.pos < len(l.text) && l.text[l.pos] != '\n' && l.text[l.pos] != '\r' {
		if l.text[l.pos] < utf8.RuneSelf {
			l.pos++
		} else {
			l.rune()
		}
	}
}

// skipIgnored passes white space, line ends, commas and byte order marks:
// section 2.1.7, Ignored Tokens.
func (l *lexer) skipIgnored() {
	for l.pos < len(l.text) {
		switch l.text[l.pos] {
		case ' ', '\t', '\n', '\r', ',':
			l.pos++
		case 0xEF:
			if !strings.HasPrefix(l.text[l.pos:], "\uFEFF") {
				return
			}
			l.pos += 3
		default:
			return
		}
	}
}

// stray passes a run of bytes that begin no token and tells of it once.
func (l *lexer) stray() {
	start := l.pos
	r, size := utf8.DecodeRuneInString(l.text[l.pos:])
	for l.pos += size; l.pos < len(l.text); l.pos++ {
		if c := l.text[l.pos]; c < utf8.RuneSelf {
			break
		}
	}
	if r == utf8.RuneError && size == 1 {
		l.fail(start, msgTextNotValidUtf, l.text[start])
		return
	}
	hint := ""
	switch r {
	case '\'', '“', '”', '‘', '’', '`':
		hint = `; strings are written in double quotes ("...")`
	case ';':
		hint = "; nothing is needed between fields, or a comma"
	}
	l.fail(start, msgCharacterHasNoMeaning, showRune(r), hint)
}

// showRune returns a character as messages show it.
func showRune(r rune) string {
	if r < ' ' || r == 0x7F || r == '\u2028' || r == '\u2029' {
		return fmt.Sprintf("U+%04X", r)
	}
	return fmt.Sprintf("%q (U+%04X)", string(r), r)
}

func (l *lexer) dots() Kind {
	if strings.HasPrefix(l.text[l.pos:], "...") {
		l.pos += 3
		return Spread
	}
	start := l.pos
	for l.pos < len(l.text) && l.text[l.pos] == '.' {
		l.pos++
	}
	if l.pos < len(l.text) && class[l.text[l.pos]]&digit != 0 {
		l.fail(start, msgNumberNeedsDigitBefore)
	} else {
		l.fail(start, msgExpectedFragmentFound, l.text[start:l.pos])
	}
	return Invalid
}

// number reads an IntValue or FloatValue: sections 2.9.1 and 2.9.2.
func (l *lexer) number() Kind {
	start, kind := l.pos, IntToken
	if l.peek(0) == '-' {
		l.pos++
	}
	whole := l.pos
	digits := l.digits()
	switch {
	case digits == 0:
		for l.peek(0) == '-' {
			l.pos++ // a line of dashes is one fault
		}
		l.fail(start, msgExpectedDigitAfter)
		return Invalid
	case digits > 1 && l.text[whole] == '0':
		l.fail(start, msgNumberCannotBeginUnneeded)
		kind = Invalid
	}
	if l.peek(0) == '.' {
		l.pos++
		if l.digits() == 0 {
			l.fail(l.pos, msgExpectedDigitAfterDecimal)
			return Invalid
		}
		if kind == IntToken {
			kind = FloatToken
		}
	}
	if c := l.peek(0); c == 'e' || c == 'E' {
		l.pos++
		if c := l.peek(0); c == '+' || c == '-' {
			l.pos++
		}
		if l.digits() == 0 {
			l.fail(l.pos, msgExpectedDigitExponent)
			return Invalid
		}
		if kind == IntToken {
			kind = FloatToken
		}
	}
	// A number is followed by no letter, digit or point, so that 0xF and 1.2.3
	// are told as faults and not read as two tokens.
	if c := l.peek(0); class[c]&nameRest != 0 || c == '.' {
		l.fail(l.pos, msgNumberCannotFollowed, string(c))
		for class[l.peek(0)]&nameRest != 0 || l.peek(0) == '.' {
			l.pos++
		}
		return Invalid
	}
	return kind
}

// peek returns the byte n places ahead, or 0 at the end.
func (l *lexer) peek(n int) byte {
	if l.pos+n < len(l.text) {
		return l.text[l.pos+n]
	}
	return 0
}

func (l *lexer) digits() int {
	start := l.pos
	for class[l.peek(0)]&digit != 0 {
		l.pos++
	}
	return l.pos - start
}

// str passes a string in quotes and checks its escapes: section 2.9.4.
func (l *lexer) str() Kind {
	start, kind := l.pos, StringToken
	for l.pos++; ; {
		switch c := l.peek(0); {
		case l.pos >= len(l.text) || c == '\n' || c == '\r':
			l.fail(start, msgStringNotClosedLine)
			return Invalid
		case c == '"':
			l.pos++
			return kind
		case c == '\\':
			if _, size := unescape(l.text[l.pos:]); size > 0 {
				l.pos += size
			} else {
				l.fail(l.pos, msgNotEscapeSequenceThose, firstOf(l.text[l.pos:], 10))
				l.pos += min(2, len(l.text)-l.pos)
				kind = Invalid
			}
		case c < utf8.RuneSelf:
			l.pos++
		default:
			if !l.rune() {
				kind = Invalid
			}
		}
	}
}

// rune passes one character beyond ASCII and reports whether it is valid.
func (l *lexer) rune() bool {
	r, size := utf8.DecodeRuneInString(l.text[l.pos:])
	if r == utf8.RuneError && size == 1 {
		l.fail(l.pos, msgTextNotValidUtf, l.text[l.pos])
	}
	l.pos += size
	return r != utf8.RuneError || size > 1
}

// firstOf returns at most n bytes of s up to a quote or line end, in quotes.
func firstOf(s string, n int) string {
	s = s[:min(n, len(s))]
	if i := strings.IndexAny(s, "\"\r\n "); i > 0 {
		s = s[:i]
	}
	return "\"" + strings.ToValidUTF8(s, "?") + "\""
}

func (l *lexer) block() Kind {
	start, kind := l.pos, BlockToken
	for l.pos += 3; ; {
		switch c := l.peek(0); {
		case l.pos >= len(l.text):
			l.fail(start, msgBlockStringNotClosed)
			return Invalid
		case c == '"' && strings.HasPrefix(l.text[l.pos:], `"""`):
			l.pos += 3
			return kind
		case c == '\\' && strings.HasPrefix(l.text[l.pos:], `\"""`):
			l.pos += 4
		case c < utf8.RuneSelf:
			l.pos++
		default:
			if !l.rune() {
				kind = Invalid
			}
		}
	}
}

// A Token is a token for those who look at a text that need not be sound, such
// as one that is being written.
type Token struct {
	Kind       Kind
	Start, End int // bytes of the text
}

// Tokens cuts a text into tokens without its comments. Whatever is no token is
// left out.
func Tokens(text string) []Token {
	l := &lexer{text: text, fail: func(int, string, ...any) {}}
	var list []Token
	for {
		t := l.next()
		switch t.kind {
		case EOF:
			return list
		case CommentToken, Invalid:
			continue
		}
		list = append(list, Token{t.kind, int(t.start), int(t.end)})
	}
}
