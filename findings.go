package osprey

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"osprey/project"
)

// A Finding is one thing that is wrong with a project, or doubtful.
type Finding struct {
	Severity   string // "error", which refuses the project, or "warning"
	Message    string
	Rule       string // what it offends; programs may rely on it
	Fix        string // what to do about it, or ""
	Coordinate string // the element of the schema, such as Berth.name; or ""
	File       string // "" if it has no place
	Place
}

// String returns the place, the severity, the message and the fix on one line.
func (f Finding) String() string {
	var b strings.Builder
	if f.File != "" {
		b.WriteString(f.File)
		if f.Line > 0 {
			fmt.Fprintf(&b, ":%d:%d", f.Line, f.Column)
		}
		b.WriteString(": ")
	}
	fmt.Fprintf(&b, "%s: %s", f.Severity, f.Message)
	if f.Fix != "" {
		b.WriteString(" → " + f.Fix)
	}
	return b.String()
}

// Findings are all that is wrong with a project, in the order of its files.
type Findings []Finding

// Error returns a line for each.
func (f Findings) Error() string {
	lines := make([]string, len(f))
	for i := range f {
		lines[i] = f[i].String()
	}
	return strings.Join(lines, "\n")
}

// Failed reports whether one of the findings is an error.
func (f Findings) Failed() bool {
	return slices.ContainsFunc(f, func(x Finding) bool { return x.Severity == "error" })
}

func findingsOf(list project.Findings) Findings {
	var f Findings
	for _, x := range list {
		f = append(f, Finding{x.Severity.String(), x.Msg, x.Rule, x.Fix, x.Coordinate, x.At.Name, Place{x.At.Line, x.At.Column}})
	}
	return f
}

// Check holds the project in the folder dir against its stores, as the command
// "osprey check" does, with what the options bring: sources and functions of the
// program, too. The error is of a folder that cannot be read.
//
//	func TestProject(t *testing.T) {
//		findings, err := osprey.Check(t.Context(), "harbour", osprey.WithSource("tower", tower, "exact"))
//		if err != nil || findings.Failed() {
//			t.Fatal(err, findings)
//		}
//	}
func Check(ctx context.Context, dir string, options ...Option) (Findings, error) {
	s, err := with(options)
	if err != nil {
		return nil, err
	}
	p, found, err := project.OpenWith(ctx, dir, s.log, &s.add)
	if p == nil {
		var wrong project.Findings
		if errors.As(err, &wrong) {
			return findingsOf(found), nil
		}
		return nil, err
	}
	defer p.Close()
	more, _ := p.Probe(ctx)
	return findingsOf(append(found, more...)), nil
}
