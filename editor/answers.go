package editor

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/sourcegraph/jsonrpc2"

	"osprey/core/editing"
	"osprey/core/language"
	"osprey/project"
)

// hover tells of the word at a place ("Hover Request"): of an operation, what it would ask.
func (s *Server) hover(p *placeParams) (any, error) {
	f, w, offset := s.fileAt(p)
	if f == nil {
		return nil, nil
	}
	if name, from, to, ok := operationAt(f, offset); ok {
		return &hover{Contents: markup{"markdown", s.plan(w, f, name)}, Range: s.encoding.span(f.Text, from, to)}, nil
	}
	m := w.Site.Hover(f, offset)
	if m == nil {
		return nil, nil
	}
	text := "```graphql\n" + m.Title + "\n```"
	if m.Text != "" {
		text += "\n\n" + m.Text
	}
	if len(m.Lines) > 0 {
		text += "\n\n" + strings.Join(m.Lines, "  \n")
	}
	return &hover{Contents: markup{"markdown", text}, Range: s.encoding.span(f.Text, m.From, m.To)}, nil
}

// operationAt returns the operation whose keyword or name is at a place.
func operationAt(f *editing.File, offset int) (name string, from, to int, ok bool) {
	if f.Schema {
		return "", 0, 0, false
	}
	src := language.NewSource(f.Name, f.Text)
	doc, problems := language.Parse(src)
	if problems.Failed() {
		return "", 0, 0, false
	}
	for _, d := range doc.Definitions {
		op, isOperation := d.(*language.Operation)
		if !isOperation || op.Shorthand {
			continue
		}
		from := src.Offset(op.Pos)
		if op.Description != nil {
			from += strings.Index(f.Text[from:], string(op.Kind))
		}
		to := from + len(op.Kind)
		if op.Name.Text != "" {
			to = src.Offset(op.Name.Pos) + len(op.Name.Text)
		}
		if from <= offset && offset <= to {
			return op.Name.Text, from, to, true
		}
	}
	return "", 0, 0, false
}

// plan tells what an operation would ask the stores.
func (s *Server) plan(w *project.Written, f *editing.File, name string) string {
	if w.Last == nil {
		return "The schema has errors, so that nothing can be planned."
	}
	e, faults := w.Last.Explain(&project.Request{Query: f.Text, OperationName: name})
	if len(faults) > 0 {
		text := "It cannot be planned as it stands: " + faults[0].Message
		return text
	}
	return "```text\n" + strings.TrimRight(e.Text(false), "\n") + "\n```"
}

// completion offers what can be written at a place ("Completion Request").
func (s *Server) completion(p *placeParams) (any, error) {
	items := []completionItem{}
	f, w, offset := s.fileAt(p)
	if f == nil {
		return map[string]any{"isIncomplete": false, "items": items}, nil
	}
	list, from := w.Site.Complete(f, offset)
	at := s.encoding.span(f.Text, from, offset)
	for i, c := range list {
		item := completionItem{Label: c.Label, Kind: completionKinds[c.Kind], Detail: c.Detail, SortText: fmt.Sprintf("%05d", i)}
		if c.Text != "" {
			item.Documentation = &markup{"markdown", c.Text}
		}
		insert := c.Label
		if c.Insert != "" {
			insert = c.Insert
			item.FilterText = c.Label
			if strings.HasPrefix(insert, `"`) {
				item.FilterText = insert
			}
		}
		if strings.Contains(insert, "$0") {
			if s.snippets {
				item.InsertTextFormat = 2
			} else {
				insert = strings.ReplaceAll(insert, "$0", "")
			}
		}
		item.TextEdit = &textEdit{at, insert}
		items = append(items, item)
	}
	return map[string]any{"isIncomplete": false, "items": items}, nil
}

// locations returns places as the protocol has them.
func (s *Server) locations(list []editing.Found) []location {
	out := []location{}
	for _, found := range list {
		out = append(out, location{uriOf(found.File.Name), s.encoding.span(found.File.Text, found.From, found.To)})
	}
	return out
}

// definition returns where a name is defined ("Goto Definition Request").
func (s *Server) definition(p *placeParams) (any, error) {
	f, w, offset := s.fileAt(p)
	if f == nil {
		return nil, nil
	}
	return s.locations(w.Site.Definitions(f, offset)), nil
}

// references returns where a name is used, in all files ("Find References Request").
func (s *Server) references(p *placeParams) (any, error) {
	f, w, offset := s.fileAt(p)
	if f == nil {
		return nil, nil
	}
	return s.locations(w.Site.References(f, offset, p.Context.IncludeDeclaration)), nil
}

// highlights returns where else in the file a name is ("Document Highlights Request").
func (s *Server) highlights(p *placeParams) (any, error) {
	f, w, offset := s.fileAt(p)
	if f == nil {
		return nil, nil
	}
	list := []map[string]any{}
	for _, found := range w.Site.References(f, offset, true) {
		if found.File == f {
			list = append(list, map[string]any{"range": s.encoding.span(f.Text, found.From, found.To)})
		}
	}
	return list, nil
}

// prepareRename says whether a word can be called otherwise ("Prepare Rename Request").
func (s *Server) prepareRename(p *placeParams) (any, error) {
	f, w, offset := s.fileAt(p)
	if f == nil {
		return nil, nil
	}
	m, word, err := w.Site.Renamable(f, offset)
	if err != nil {
		return nil, err
	}
	return map[string]any{"range": s.encoding.span(f.Text, m.From, m.To), "placeholder": word}, nil
}

// rename calls a word otherwise in all files ("Rename Request"). What would make an error of a
// project that has none is refused.
func (s *Server) rename(p *placeParams) (any, error) {
	f, w, offset := s.fileAt(p)
	if f == nil {
		return nil, nil
	}
	edits, err := w.Site.Rename(f, offset, p.NewName)
	if err != nil {
		return nil, err
	}
	if err := s.try(s.homeOf(f.Name), w, edits, p.NewName); err != nil {
		return nil, err
	}
	return s.edits(edits), nil
}

// try looks whether edits bring errors that there were none of.
func (s *Server) try(h *home, before *project.Written, edits []editing.Edit, name string) error {
	open := map[string]string{}
	for path, d := range s.open {
		open[path] = d.text
	}
	for _, e := range slices.Backward(edits) { // from the end, so that places stay
		text, ok := open[e.File.Name]
		if !ok {
			text = e.File.Text
		}
		open[e.File.Name] = text[:e.From] + e.With + text[e.To:]
	}
	after := h.desk.Look(open)
	h.stale = true // the texts are not changed yet
	known := map[string]bool{}
	for _, f := range before.Findings {
		known[f.Rule+f.Coordinate] = true
	}
	errors := func(list project.Findings) (n int) {
		for _, f := range list {
			if f.Severity == language.Error {
				n++
			}
		}
		return n
	}
	if errors(after.Findings) <= errors(before.Findings) {
		return nil
	}
	for _, f := range after.Findings {
		if f.Severity == language.Error && !known[f.Rule+f.Coordinate] {
			return fmt.Errorf("it cannot be called %s: then %s (%s line %d)", name, f.Msg, filepath.Base(f.At.Name), f.At.Line)
		}
	}
	return nil
}

// edits returns edits as the protocol has them.
func (s *Server) edits(edits []editing.Edit) *workspaceEdit {
	w := &workspaceEdit{Changes: map[string][]textEdit{}}
	for _, e := range edits {
		uri := uriOf(e.File.Name)
		w.Changes[uri] = append(w.Changes[uri], textEdit{s.encoding.span(e.File.Text, e.From, e.To), e.With})
	}
	return w
}

// codeActions offers to do what findings say to do about them ("Code Action Request").
func (s *Server) codeActions(p *placeParams) (any, error) {
	actions := []codeAction{}
	f, w, _ := s.fileAt(p)
	if f == nil {
		return actions, nil
	}
	from, to := s.encoding.offset(f.Text, p.Range.Start), s.encoding.offset(f.Text, p.Range.End)
	src := language.NewSource("", f.Text)
	for _, finding := range w.Findings {
		if finding.At.Name != f.Name || len(actions) == mostShown {
			continue
		}
		at := placeOf(src, finding)
		if at > to || at+wordLength(f.Text[at:]) < from {
			continue
		}
		d := s.diagnostic(src, finding)
		for i, c := range finding.Mends(f.Text, at) {
			title := title(f.Text, c.From, c.To, c.With)
			actions = append(actions, codeAction{Title: title, Kind: "quickfix", Diagnostics: []diagnostic{d}, IsPreferred: i == 0,
				Edit: &workspaceEdit{Changes: map[string][]textEdit{uriOf(f.Name): {{s.encoding.span(f.Text, c.From, c.To), c.With}}}}})
		}
	}
	return actions, nil
}

// title says what a change does, in words that it is chosen by.
func title(text string, from, to int, with string) string {
	for from > 0 && isPart(text[from-1]) && (from < len(text) && isPart(text[from]) || with != "" && isPart(with[0])) {
		from--
		with = text[from:from+1] + with
	}
	for to < len(text) && isPart(text[to]) && (to > 0 && isPart(text[to-1]) || with != "" && isPart(with[len(with)-1])) {
		with += text[to : to+1]
		to++
	}
	before, after := oneLine(text[from:to]), oneLine(with)
	switch {
	case before == "":
		return "write " + after
	case after == "":
		return "leave out " + before
	}
	return "write " + after + " for " + before
}

func isPart(c byte) bool {
	return c == '_' || c == '!' || c == '[' || c == ']' || c == '"' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// oneLine writes a text on a line of a length that can be read.
func oneLine(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if r := []rune(text); len(r) > 60 {
		text = string(r[:59]) + "…"
	}
	return text
}

// formatting returns the file as tidy writes it ("Document Formatting Request"). A file with
// faults of syntax is left alone.
func (s *Server) formatting(p *placeParams) (any, error) {
	path := pathOf(p.TextDocument.URI)
	if path == "" || !strings.HasSuffix(path, ".graphql") {
		return nil, nil
	}
	text := s.textOf(path)
	tidy, _ := project.Tidy(path, text)
	if tidy == text {
		return []textEdit{}, nil
	}
	return []textEdit{{s.encoding.span(text, 0, len(text)), tidy}}, nil
}

// symbols returns the outline of a file ("Document Symbols Request").
func (s *Server) symbols(p *placeParams) (any, error) {
	f, _, _ := s.fileAt(p)
	if f == nil {
		return nil, nil
	}
	kinds := map[editing.Kind]int{editing.Type: 5, editing.Field: 8, editing.Value: 22, editing.Directive: 12, editing.Operation: 12, editing.Fragment: 3}
	var list func(entries []editing.Entry) []documentSymbol
	list = func(entries []editing.Entry) []documentSymbol {
		out := []documentSymbol{}
		for _, e := range entries {
			out = append(out, documentSymbol{Name: e.Name, Detail: e.Detail, Kind: kinds[e.Kind], Range: s.encoding.span(f.Text, e.From, e.End),
				SelectionRange: s.encoding.span(f.Text, e.From, e.To), Children: list(e.Inner)})
		}
		return out
	}
	return list(editing.Outline(f)), nil
}

// commandRefresh asks all stores again what they hold.
const commandRefresh = "osprey.refresh"

// execute runs a command ("Execute a command").
func (s *Server) execute(raw json.RawMessage) (any, error) {
	var p commandParams
	if err := json.Unmarshal(raw, &p); err != nil || p.Command != commandRefresh {
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: "the command is " + commandRefresh}
	}
	for _, h := range s.homes {
		s.refresh(h)
	}
	return nil, nil
}
