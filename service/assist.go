package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"unicode/utf8"

	"osprey/core/assist"
	"osprey/core/language"
	"osprey/core/mend"
	"osprey/project"
)

// A draft is an operation that is being written. Places are counted in Unicode
// code points.
type draft struct {
	Query string `json:"query"`
	At    int    `json:"at"` // the cursor, or the place pointed at

	// Of variables, in whose text At is then.
	OperationName string `json:"operationName"`
	Variables     string `json:"variables"`
}

// readDraft reads a draft, or answers why it cannot.
func (s *Service) readDraft(w http.ResponseWriter, r *http.Request) (d draft, offset int, ok bool) {
	bad := s.readJSON(r, func(body []byte) *refusal {
		if err := json.Unmarshal(body, &d); err != nil {
			return badRequest(`send {"query": "…", "at": 0}`, "the body is not a draft in JSON")
		}
		return nil
	})
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return d, 0, false
	}
	return d, byteAt(d.Query, d.At), true
}

// byteAt returns where in a text the n-th code point begins: the beginning for one
// before it, and the end for one behind it.
func byteAt(text string, n int) int {
	for i := range text {
		if n <= 0 {
			return i
		}
		n--
	}
	return len(text)
}

func answer(w http.ResponseWriter, v any) {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // the answers hold nothing that JSON cannot
	}
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}

// problems tells what is wrong with a draft.
func (s *Service) problems(w http.ResponseWriter, r *http.Request) {
	d, _, ok := s.readDraft(w, r)
	if !ok {
		return
	}
	type edit struct {
		From int    `json:"from"`
		To   int    `json:"to"`
		With string `json:"with"`
	}
	type place struct {
		Message string `json:"message"`
		Fix     string `json:"fix,omitempty"`
		Line    int    `json:"line"`
		Column  int    `json:"column"`
		Mends   []edit `json:"mends,omitempty"` // what it says to do, each by itself
	}
	src := language.NewSource("", d.Query)
	list := []place{}
	problems, err := assist.Problems(r.Context(), s.Project.Revision().SchemaFor(viewerOf(r)), src)
	if err != nil {
		return // the caller has hung up
	}
	for _, p := range problems {
		at := src.Position(p.Pos)
		own := place{Message: p.Msg, Fix: p.Fix, Line: at.Line, Column: at.Column}
		for _, c := range mend.Of(d.Query, src.Offset(p.Pos), p) {
			own.Mends = append(own.Mends, edit{utf8.RuneCountInString(d.Query[:c.From]), utf8.RuneCountInString(d.Query[:c.To]), c.With})
		}
		list = append(list, own)
	}
	answer(w, map[string]any{"problems": list})
}

// completions tells what can be written at a place of a draft.
func (s *Service) completions(w http.ResponseWriter, r *http.Request) {
	d, offset, ok := s.readDraft(w, r)
	if !ok {
		return
	}
	list, from := assist.Complete(s.Project.Revision().SchemaFor(viewerOf(r)), d.Query, offset)
	if list == nil {
		list = []assist.Completion{}
	}
	answer(w, map[string]any{"from": utf8.RuneCountInString(d.Query[:from]), "completions": list})
}

// meaning tells what a word of a draft means; null if nothing is known of it.
func (s *Service) meaning(w http.ResponseWriter, r *http.Request) {
	d, offset, ok := s.readDraft(w, r)
	if !ok {
		return
	}
	m := assist.Hover(s.Project.Revision().SchemaFor(viewerOf(r)), d.Query, offset)
	if m == nil {
		answer(w, nil)
		return
	}
	defined := -1
	if m.Defined >= 0 {
		defined = utf8.RuneCountInString(d.Query[:m.Defined])
	}
	revision, release := s.Project.Hold()
	defer release()
	answer(w, map[string]any{
		"where": revision.Where(viewerOf(r), m.Coordinate, s.tellsStatements(r)),
		"from":  utf8.RuneCountInString(d.Query[:m.From]), "to": utf8.RuneCountInString(d.Query[:m.To]),
		"title": m.Title, "text": m.Text, "coordinate": m.Coordinate, "defined": defined,
	})
}

// tidy formats a draft.
func (s *Service) tidy(w http.ResponseWriter, r *http.Request) {
	d, _, ok := s.readDraft(w, r)
	if !ok {
		return
	}
	text, findings := project.Tidy("", d.Query)
	if findings.Failed() {
		at := findings[0].At
		problem(w, http.StatusUnprocessableEntity, fmt.Sprintf("line %d, column %d: %s", at.Line, at.Column, findings[0].Msg), "mend it first: "+findings[0].Fix)
		return
	}
	answer(w, map[string]any{"text": text})
}

// variablesOf reads a draft of variables, and returns those of its operation; nil where that cannot be read. ok is false
// where why has been answered.
func (s *Service) variablesOf(w http.ResponseWriter, r *http.Request) (d draft, own *assist.Variables, ok bool) {
	if d, _, ok = s.readDraft(w, r); ok {
		own = assist.VariablesOf(s.Project.Revision().SchemaFor(viewerOf(r)), d.Query, d.OperationName)
	}
	return d, own, ok
}

// variableProblems tells what is wrong with the variables of a draft.
func (s *Service) variableProblems(w http.ResponseWriter, r *http.Request) {
	d, own, ok := s.variablesOf(w, r)
	if !ok {
		return
	}
	type place struct {
		Variable string `json:"variable,omitempty"`
		Message  string `json:"message"`
		Fix      string `json:"fix,omitempty"`
		Line     int    `json:"line"`
		Column   int    `json:"column"`
	}
	list := []place{}
	if own != nil {
		src := language.NewSource("", d.Variables)
		for _, p := range own.Problems(d.Variables) {
			at := src.Position(src.Pos(p.At))
			list = append(list, place{p.Variable, p.Msg, p.Fix, at.Line, at.Column})
		}
	}
	answer(w, map[string]any{"problems": list})
}

// variableCompletions tells what can be written at a place of the variables of a draft.
func (s *Service) variableCompletions(w http.ResponseWriter, r *http.Request) {
	d, own, ok := s.variablesOf(w, r)
	if !ok {
		return
	}
	offset := byteAt(d.Variables, d.At)
	list, from := []assist.Completion(nil), offset
	if own != nil {
		list, from = own.Complete(d.Variables, offset)
	}
	if list == nil {
		list = []assist.Completion{}
	}
	answer(w, map[string]any{"from": utf8.RuneCountInString(d.Variables[:from]), "completions": list})
}
