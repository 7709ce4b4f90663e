package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"osprey/core/language"
	"osprey/project"
)

// colours has the escape sequences for a terminal, or nothing elsewhere.
type colours struct{ red, yellow, dim, bold, off string }

// coloursFor returns colours if w is a terminal and NO_COLOR is not set.
func coloursFor(w io.Writer) colours {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == "" {
		return colours{"\x1b[31m", "\x1b[33m", "\x1b[2m", "\x1b[1m", "\x1b[0m"}
	}
	return colours{}
}

// printFindings writes findings as people read them: the place, what is wrong,
// the line with a caret, and what to do.
func printFindings(w io.Writer, f project.Findings) {
	c := coloursFor(w)
	for i, p := range f {
		if i > 0 {
			fmt.Fprintln(w)
		}
		at := p.At
		colour := c.red
		if p.Severity == language.Warning {
			colour = c.yellow
		}
		if at.Line > 0 {
			fmt.Fprintf(w, "%s%s%s: ", c.bold, at, c.off)
		}
		fmt.Fprintf(w, "%s%s%s: %s %s[%s]%s\n", colour, p.Severity, c.off, p.Msg, c.dim, p.Rule, c.off)
		printCaret(w, p.Line, at)
		if p.Fix != "" {
			fmt.Fprintf(w, "  → %s\n", p.Fix)
		}
	}
}

// printCaret writes a line of a text with a mark below the column.
func printCaret(w io.Writer, line string, at language.Position) {
	if at.Line == 0 || line == "" {
		return
	}
	runes := []rune(strings.ReplaceAll(line, "\t", " "))
	start := 0
	if at.Column > 90 { // a long line is shown around the place
		start = at.Column - 60
	}
	end := min(len(runes), start+110)
	fmt.Fprintf(w, "  %s\n  %s^\n", string(runes[min(start, len(runes)):end]), strings.Repeat(" ", at.Column-1-start))
}

// printFindingsJSON writes {"findings": […]}.
func printFindingsJSON(w io.Writer, f project.Findings) error {
	return printJSON(w, map[string]any{"findings": f.JSON("")})
}

// printJSON writes a value as JSON that people can read, too.
func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
