package project

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"osprey/core/language"
)

// A Finding is a problem with its place in a file.
type Finding struct {
	*language.Problem
	At   language.Position // the zero Position if it has no place
	Line string            // the text of the line
}

// Findings is what loading a project found, in the order of the files.
type Findings []Finding

// Failed reports whether one of the findings is an error.
func (f Findings) Failed() bool {
	return slices.ContainsFunc(f, func(x Finding) bool { return x.Severity == language.Error })
}

// Errors returns the findings that are errors.
func (f Findings) Errors() Findings {
	return slices.DeleteFunc(slices.Clone(f), func(x Finding) bool { return x.Severity != language.Error })
}

// Restart returns the findings that tell what holds from the next start only.
func (f Findings) Restart() Findings {
	return slices.DeleteFunc(slices.Clone(f), func(x Finding) bool { return x.Rule != ruleRestart })
}

// Error returns the number of errors.
func (f Findings) Error() string {
	n := 0
	for _, x := range f {
		if x.Severity == language.Error {
			n++
		}
	}
	if n == 1 {
		return "the project has an error"
	}
	return fmt.Sprintf("the project has %d errors", n)
}

// placed adds the places of problems, whose texts find knows.
func placed(problems language.Problems, find func(language.Pos) *language.Source) Findings {
	var list Findings
	problems.Sort()
	for _, p := range problems {
		f := Finding{Problem: p}
		if src := find(p.Pos); src != nil {
			f.At = src.Position(p.Pos)
			f.Line = src.Line(f.At.Line)
		}
		list = append(list, f)
	}
	return list
}

// inOne finds every place in one source.
func inOne(src *language.Source) func(language.Pos) *language.Source {
	return func(language.Pos) *language.Source { return src }
}

// FindingJSON is a finding in the stable JSON form.
type FindingJSON struct {
	Severity   string `json:"severity"`
	Rule       string `json:"rule"`
	Message    string `json:"message"`
	File       string `json:"file"`
	Line       int    `json:"line"`
	Column     int    `json:"column"`
	Coordinate string `json:"coordinate"`
	Fix        string `json:"fix,omitempty"`
}

// JSON returns the findings in their JSON form. Files that are in the folder dir are named from there;
// "" leaves their names.
func (f Findings) JSON(dir string) []FindingJSON {
	list := []FindingJSON{}
	for _, p := range f {
		list = append(list, FindingJSON{p.Severity.String(), p.Rule, p.Msg, within(dir, p.At.Name), p.At.Line, p.At.Column, p.Coordinate, p.Fix})
	}
	return list
}

// Finding returns the finding that JSON told; its file is in the folder dir, and has a text of files.
func (f FindingJSON) Finding(dir string, files Files) Finding {
	p := &language.Problem{Severity: language.Error, Rule: f.Rule, Msg: f.Message, Fix: f.Fix, Coordinate: f.Coordinate}
	if f.Severity == language.Warning.String() {
		p.Severity = language.Warning
	}
	found := Finding{Problem: p, At: language.Position{Name: f.File, Line: f.Line, Column: f.Column}}
	if lines := strings.Split(files[f.File], "\n"); f.Line > 0 && f.Line <= len(lines) {
		found.Line = strings.TrimSuffix(lines[f.Line-1], "\r")
	}
	if f.File != "" {
		found.At.Name = filepath.Join(dir, f.File)
	}
	return found
}

// within names a file from a folder that it is in.
func within(dir, file string) string {
	if dir == "" || file == "" {
		return file
	}
	if from, err := filepath.Rel(dir, file); err == nil && filepath.IsLocal(from) {
		return filepath.ToSlash(from)
	}
	return file
}
