package editor

import (
	"net/url"
	"path/filepath"
	"runtime"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// An encoding says in which units positions count ("PositionEncodingKind").
type encoding string

const (
	bytes  encoding = "utf-8"
	units  encoding = "utf-16" // what an editor means that says nothing
	points encoding = "utf-32"
)

// of returns how many units a character is.
func (e encoding) of(r rune, size int) int {
	switch e {
	case bytes:
		return size
	case points:
		return 1
	}
	return max(utf16.RuneLen(r), 1)
}

// lineEnd returns the length of the line end at a byte; 0 if there is none.
func lineEnd(text string, at int) int {
	switch {
	case strings.HasPrefix(text[at:], "\r\n"):
		return 2
	case at < len(text) && (text[at] == '\n' || text[at] == '\r'):
		return 1
	}
	return 0
}

// offset returns the byte of a position: the end of its line, or of the text, for one beyond.
func (e encoding) offset(text string, p position) int {
	at := 0
	for line := 0; line < p.Line; {
		if at == len(text) {
			return at
		}
		n := lineEnd(text, at)
		if n > 0 {
			line++
		}
		at += max(n, 1)
	}
	for n := 0; n < p.Character && at < len(text) && lineEnd(text, at) == 0; {
		r, size := utf8.DecodeRuneInString(text[at:])
		if n += e.of(r, size); n > p.Character && e != bytes {
			break // inside a character
		}
		at += size
	}
	return at
}

// position returns the position of a byte.
func (e encoding) position(text string, offset int) position {
	offset = min(max(offset, 0), len(text))
	var p position
	for at := 0; at < offset; {
		if n := lineEnd(text, at); n > 0 {
			if at += n; at > offset {
				break // between the two bytes of a line end
			}
			p.Line++
			p.Character = 0
			continue
		}
		r, size := utf8.DecodeRuneInString(text[at:])
		p.Character += e.of(r, size)
		at += size
	}
	return p
}

// span returns the span from a byte to another.
func (e encoding) span(text string, from, to int) span {
	return span{e.position(text, from), e.position(text, to)}
}

// pathOf returns the path that an address of a file names; "" if it names none.
func pathOf(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return ""
	}
	path := u.Path
	if runtime.GOOS == "windows" {
		path = strings.TrimPrefix(path, "/")
	}
	return filepath.Clean(filepath.FromSlash(path))
}

// uriOf returns the address of a file.
func uriOf(path string) string {
	slashed := filepath.ToSlash(path)
	if !strings.HasPrefix(slashed, "/") {
		slashed = "/" + slashed
	}
	return (&url.URL{Scheme: "file", Path: slashed}).String()
}
