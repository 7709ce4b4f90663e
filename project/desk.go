package project

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"

	"osprey/core/binding"
	"osprey/core/editing"
	"osprey/core/language"
	"osprey/core/mend"
	"osprey/core/schema"
)

// A Desk is a project while its files are written: its stores tell what they hold, and its
// texts, as they are in an editor, are checked again and again. It is not safe for concurrent
// use.
type Desk struct {
	Dir string

	project *Project
	config  Findings // what is wrong with osprey.yaml
	types   Findings // and with the types that it has described
	site    *editing.Site
	last    *Revision // the last that was sound; nil if none was
}

// OpenDesk opens a project to be written. Whatever is wrong with it is told by Look.
func OpenDesk(ctx context.Context, dir string, log *slog.Logger) (*Desk, error) {
	d := &Desk{Dir: dir}
	p, problems, err := read(ctx, dir, log, &Additions{Bare: true})
	var findings Findings
	switch {
	case p != nil:
		d.project, d.config = p, placed(problems, inOne(p.config))
	case errors.As(err, &findings):
		d.config = findings
		d.project = &Project{Dir: dir, content: &content{Config: &Config{}, Sources: map[string]*Source{}}, log: log, failed: newFailureLog(log), changed: make(chan string, 1)}
		d.project.hub = newHub(d.project)
	default:
		return nil, err
	}
	return d, nil
}

// Written is what is known of a project's texts at one time.
type Written struct {
	// Findings are all that is wrong, of all files.
	Findings Findings
	Site     *editing.Site
	// Last is the last revision that was sound; nil if none was.
	Last *Revision
}

// Look checks the project's files; open has those that are written in an editor now, by their
// paths, which stand for what is on the disk.
func (d *Desk) Look(open map[string]string) *Written {
	p := d.project
	d.readTexts(open)
	w := &Written{Findings: append(slices.Clone(d.config), d.types...)}
	s, bound, findings := p.build()
	if bound != nil && !findings.Failed() {
		saved, _ := savedByName(p.Operations)
		p.serve(newRevision(p, s, bound, saved))
		d.last = p.Revision()
	}
	if len(p.texts) > 0 { // an empty project lacks everything, and needs not be told
		for i := range findings {
			if findings[i].At.Line == 0 && findings[i].At.Name == "" {
				findings[i].At = language.Position{Name: p.texts[0].Name, Line: 1, Column: 1}
			}
		}
		w.Findings = append(w.Findings, findings...)
	}
	var last *schema.Schema
	var lastBound *binding.Bound
	if d.last != nil {
		last, lastBound = d.last.Schema, d.last.Bound
		_, more := p.checkSaved(last)
		w.Findings = append(w.Findings, more...)
	} else {
		for _, op := range p.Operations { // as far as it can be read
			src := language.NewSource(op.File, op.Text)
			_, problems := language.Parse(src)
			w.Findings = append(w.Findings, placed(problems, inOne(src))...)
		}
	}
	sources := map[string]*binding.Source{}
	for name, source := range p.Sources {
		sources[name] = source.bind()
	}
	var operations []schema.Text
	for _, op := range p.Operations {
		operations = append(operations, schema.Text{Name: op.File, Body: op.Text})
	}
	d.site = editing.NewSite(d.site, p.texts, operations, last, lastBound, sources)
	w.Site, w.Last = d.site, d.last
	return w
}

// readTexts reads the files of the project.
func (d *Desk) readTexts(open map[string]string) {
	p := d.project
	files, _ := ReadFiles(d.Dir)
	for path, text := range open {
		if within, err := filepath.Rel(d.Dir, path); err == nil && d.Holds(path) {
			files[filepath.ToSlash(within)] = text
		}
	}
	p.texts, _ = files.types(d.Dir)
	var problems language.Problems
	p.described, problems = files.describe(p.Config, p.config, d.Dir)
	d.types = placed(problems, inOne(p.config))
	p.Operations = files.operations(d.Dir)
}

// Holds reports whether a file is one of the project's texts.
func (d *Desk) Holds(path string) bool {
	within, err := filepath.Rel(d.Dir, path)
	return err == nil && within != ConfigFile && IsText(filepath.ToSlash(within))
}

// Refresh asks all stores again what they hold.
func (d *Desk) Refresh(ctx context.Context) { d.project.refresh(ctx) }

// Close closes the sources.
func (d *Desk) Close() { d.project.Close() }

// HomeOf returns the folder of the project that a file belongs to: the nearest above it that
// has an osprey.yaml; "" if there is none.
func HomeOf(path string) string {
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if info, err := os.Stat(filepath.Join(dir, ConfigFile)); err == nil && !info.IsDir() {
			return dir
		}
		if dir == filepath.Dir(dir) {
			return ""
		}
	}
}

// CheckText tells what is wrong with a text that belongs to no project: its syntax.
func CheckText(file, text string) Findings {
	src := language.NewSource(file, text)
	_, problems := language.Parse(src)
	return placed(problems, inOne(src))
}

// Mends returns the changes of a text that do what a finding at a byte of it says to do.
func (f Finding) Mends(text string, at int) []mend.Change {
	return slices.DeleteFunc(mend.Of(text, at, f.Problem), func(c mend.Change) bool { return c.Example })
}
