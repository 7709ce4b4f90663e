package language

import (
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// This file implements what a string token means: section 2.9.4 of the
// specification, String Value.

// simpleEscapes has what stands for each escape of one letter.
var simpleEscapes = [128]byte{
	'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t',
}

// unescape reads the escape sequence at the front of s, which begins with a
// backslash. The size is 0 if it is none: unknown, cut off, or a surrogate
// that is not part of a pair.
func unescape(s string) (r rune, size int) {
	if len(s) < 2 || s[1] >= utf8.RuneSelf {
		return 0, 0
	}
	if s[1] != 'u' {
		if c := simpleEscapes[s[1]]; c != 0 {
			return rune(c), 2
		}
		return 0, 0
	}
	if strings.HasPrefix(s, `\u{`) {
		end := strings.IndexByte(s[:min(len(s), 64)], '}')
		if end < 0 {
			return 0, 0
		}
		r, ok := hex(s[3:end])
		if !ok || !utf8.ValidRune(r) {
			return 0, 0
		}
		return r, end + 1
	}
	r, ok := hexFour(s)
	if !ok {
		return 0, 0
	}
	if utf16.IsSurrogate(r) {
		low, ok := hexFour(s[6:])
		pair := utf16.DecodeRune(r, low)
		if !ok || pair == utf8.RuneError {
			return 0, 0
		}
		return pair, 12
	}
	return r, 6
}

// hexFour reads \uXXXX at the front of s.
func hexFour(s string) (rune, bool) {
	if len(s) < 6 || s[0] != '\\' || s[1] != 'u' {
		return 0, false
	}
	return hex(s[2:6])
}

func hex(s string) (rune, bool) {
	if s == "" || strings.ContainsAny(s, "+-_") {
		return 0, false
	}
	n, err := strconv.ParseUint(s, 16, 32)
	return rune(n), err == nil && n <= utf8.MaxRune
}

// stringValue returns the value of the text of a sound string token.
func stringValue(text string) string {
	text = text[1 : len(text)-1]
	if strings.IndexByte(text, '\\') < 0 {
		return text
	}
	var b strings.Builder
	for len(text) > 0 {
		i := strings.IndexByte(text, '\\')
		if i < 0 {
			break
		}
		b.WriteString(text[:i])
		r, size := unescape(text[i:])
		if size == 0 { // told by the lexer; the parser drops the value
			size = min(2, len(text)-i)
		} else {
			b.WriteRune(r)
		}
		text = text[i+size:]
	}
	b.WriteString(text)
	return b.String()
}

// blockValue returns the value of the text of a block string token: common
// indentation and blank first and last lines removed (BlockStringValue).
func blockValue(text string) string {
	raw := strings.ReplaceAll(text[3:len(text)-3], `\"""`, `"""`)
	raw = strings.ReplaceAll(raw, "\r\n", "\n")
	raw = strings.ReplaceAll(raw, "\r", "\n")
	lines := strings.Split(raw, "\n")
	common := -1
	for _, line := range lines[1:] {
		indent := len(line) - len(strings.TrimLeft(line, " \t"))
		if indent < len(line) && (common < 0 || indent < common) {
			common = indent
		}
	}
	for i := 1; i < len(lines) && common > 0; i++ {
		lines[i] = lines[i][min(common, len(lines[i])):]
	}
	for len(lines) > 0 && isBlank(lines[0]) {
		lines = lines[1:]
	}
	for len(lines) > 0 && isBlank(lines[len(lines)-1]) {
		lines = lines[:len(lines)-1]
	}
	return strings.Join(lines, "\n")
}

func isBlank(line string) bool { return strings.Trim(line, " \t") == "" }
