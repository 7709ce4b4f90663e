package editor

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"osprey/core/editing"
	"osprey/core/language"
	"osprey/project"
)

// A document is a file that is open in the editor.
type document struct {
	path    string
	text    string
	version int
}

// A home is a project that an open file belongs to.
type home struct {
	dir     string
	desk    *project.Desk    // nil until its stores have told what they hold
	written *project.Written // as last looked at; nil before
	stale   bool             // a text has changed since
	timer   *time.Timer
	shown   map[string]bool // the files of which something wrong is shown
}

// pause is how long nothing must have been written before what is wrong is looked for.
const pause = 150 * time.Millisecond

func (s *Server) didOpen(p *documentParams) error {
	path := pathOf(p.TextDocument.URI)
	if path == "" {
		return fmt.Errorf("%s is no address of a file", p.TextDocument.URI)
	}
	d := &document{path, p.TextDocument.Text, p.TextDocument.Version}
	s.open[path] = d
	s.changed(d)
	return nil
}

func (s *Server) didChange(p *documentParams) error {
	d := s.open[pathOf(p.TextDocument.URI)]
	if d == nil {
		return fmt.Errorf("%s is not open", p.TextDocument.URI)
	}
	for _, c := range p.ContentChanges {
		if c.Range == nil {
			d.text = c.Text
			continue
		}
		from, to := s.encoding.offset(d.text, c.Range.Start), s.encoding.offset(d.text, c.Range.End)
		if from > to {
			from, to = to, from
		}
		d.text = d.text[:from] + c.Text + d.text[to:]
	}
	d.version = p.TextDocument.Version
	s.changed(d)
	return nil
}

func (s *Server) didClose(p *documentParams) error {
	path := pathOf(p.TextDocument.URI)
	d := s.open[path]
	delete(s.open, path)
	if d == nil {
		return nil
	}
	if h := s.homeOf(path); h != nil {
		s.soon(h)
	} else {
		s.publish(path, "", nil)
	}
	return nil
}

// didSave has the stores asked again what they hold: a person who saves may have changed one.
// A saved osprey.yaml has them opened anew.
func (s *Server) didSave(p *documentParams) error {
	path := pathOf(p.TextDocument.URI)
	h := s.homeOf(path)
	switch {
	case h == nil:
	case filepath.Base(path) == project.ConfigFile:
		s.reopen(h)
	default:
		s.refresh(h)
	}
	return nil
}

// changedOutside looks again at all projects.
func (s *Server) changedOutside() {
	for _, h := range s.homes {
		s.soon(h)
	}
}

// homeOf returns the project of a file, which is opened when it is first asked for; nil if it has
// none.
func (s *Server) homeOf(path string) *home {
	dir := project.HomeOf(path)
	if dir == "" {
		return nil
	}
	h := s.homes[dir]
	if h == nil {
		h = &home{dir: dir, shown: map[string]bool{}}
		s.homes[dir] = h
		s.reopen(h)
	}
	return h
}

// reopen opens a project, aside.
func (s *Server) reopen(h *home) {
	go func() {
		desk, err := project.OpenDesk(s.ctx, h.dir, s.Log)
		s.mu.Lock()
		defer s.mu.Unlock()
		if err != nil {
			s.Log.Error("the project cannot be opened", "folder", h.dir, "error", err)
			return
		}
		if before := h.desk; before != nil {
			before.Close()
		}
		if s.ctx.Err() != nil {
			desk.Close()
			return
		}
		h.desk = desk
		s.check(h)
	}()
}

// refresh asks the stores of a project again, aside.
func (s *Server) refresh(h *home) {
	desk := h.desk
	if desk == nil {
		return
	}
	go func() {
		desk.Refresh(s.ctx)
		s.mu.Lock()
		defer s.mu.Unlock()
		if h.desk == desk {
			s.check(h)
		}
	}()
}

// changed has a file looked at that has another text.
func (s *Server) changed(d *document) {
	h := s.homeOf(d.path)
	if h == nil {
		s.publish(d.path, d.text, project.CheckText(d.path, d.text))
		return
	}
	s.soon(h)
}

// soon has a project looked at when nothing was written for a while.
func (s *Server) soon(h *home) {
	h.stale = true
	if h.timer == nil {
		h.timer = time.AfterFunc(pause, func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.check(h)
		})
		return
	}
	h.timer.Reset(pause)
}

// look returns what is known of a project's texts as they are now; nil if its stores have not
// told yet what they hold.
func (s *Server) look(h *home) *project.Written {
	if h.desk == nil {
		return nil
	}
	if h.written == nil || h.stale {
		open := map[string]string{}
		for path, d := range s.open {
			open[path] = d.text
		}
		h.written, h.stale = h.desk.Look(open), false
	}
	return h.written
}

// check looks for what is wrong with a project, and shows it.
func (s *Server) check(h *home) {
	if s.state != ready {
		return
	}
	h.stale = true
	err := s.safely(func() error { s.look(h); return nil })
	if err != nil || h.written == nil {
		return
	}
	byFile := map[string]project.Findings{}
	for _, f := range h.written.Findings {
		byFile[f.At.Name] = append(byFile[f.At.Name], f)
	}
	for path := range h.shown {
		if byFile[path] == nil {
			byFile[path] = nil
		}
	}
	for path, d := range s.open {
		if filepath.Ext(path) == ".graphql" && !h.desk.Holds(path) && project.HomeOf(path) == h.dir { // beside the project's texts
			s.publish(path, d.text, project.CheckText(path, d.text))
		}
	}
	for path := range s.open { // even what has nothing wrong is told to have been looked at
		if byFile[path] == nil && (h.desk.Holds(path) || path == filepath.Join(h.dir, project.ConfigFile)) {
			byFile[path] = nil
		}
	}
	for _, path := range slices.Sorted(maps.Keys(byFile)) {
		h.shown[path] = true
		if len(byFile[path]) == 0 {
			delete(h.shown, path)
		}
		s.publish(path, s.textOf(path), byFile[path])
	}
}

// textOf returns the text of a file as the editor has it, or the disk.
func (s *Server) textOf(path string) string {
	if d := s.open[path]; d != nil {
		return d.text
	}
	text, _ := os.ReadFile(path)
	return string(text)
}

// mostShown is how many problems of a file are shown: whoever wrote it mends these first.
const mostShown = 200

// publish shows what is wrong with a file.
func (s *Server) publish(path, text string, findings project.Findings) {
	if path == "" || !filepath.IsAbs(path) {
		return
	}
	p := published{URI: uriOf(path), Diagnostics: []diagnostic{}}
	if d := s.open[path]; d != nil {
		p.Version = &d.version
	}
	src := language.NewSource("", text)
	for _, f := range findings[:min(len(findings), mostShown)] {
		p.Diagnostics = append(p.Diagnostics, s.diagnostic(src, f))
	}
	if err := s.conn.Notify(context.WithoutCancel(s.ctx), "textDocument/publishDiagnostics", p); err != nil {
		s.Log.Debug("what is wrong did not reach the editor", "error", err)
	}
}

// diagnostic tells of a finding.
func (s *Server) diagnostic(src *language.Source, f project.Finding) diagnostic {
	d := diagnostic{Severity: 1, Code: f.Rule, Source: "osprey", Message: language.WithRemedy(f.Msg, f.Fix)}
	if f.Severity == language.Warning {
		d.Severity = 2
	}
	at := placeOf(src, f)
	d.Range = s.encoding.span(src.Text, at, at+wordLength(src.Text[at:]))
	return d
}

// placeOf returns the byte at which a finding stands in the text.
func placeOf(src *language.Source, f project.Finding) int {
	at, _ := src.At(f.At.Line, f.At.Column)
	return at
}

// wordLength returns how long the word or string is with which a text begins.
func wordLength(text string) int {
	sign := 0
	if len(text) > 0 && (text[0] == '@' || text[0] == '$') {
		sign = 1
	}
	tokens := language.Tokens(text[sign:min(len(text), 200)])
	if len(tokens) > 0 && tokens[0].Start == 0 {
		return sign + tokens[0].End
	}
	return min(1, len(text))
}

// fileAt returns the file and the byte that a request is about; its site is nil if nothing is
// known of it.
func (s *Server) fileAt(p *placeParams) (*editing.File, *project.Written, int) {
	path := pathOf(p.TextDocument.URI)
	if path == "" {
		return nil, nil, 0
	}
	h := s.homeOf(path)
	if h == nil {
		return nil, nil, 0
	}
	w := s.look(h)
	if w == nil {
		return nil, nil, 0
	}
	f := w.Site.File(path)
	if f == nil {
		return nil, nil, 0
	}
	return f, w, s.encoding.offset(f.Text, p.Position)
}
