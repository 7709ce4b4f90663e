package service

import (
	"encoding/json"
	"io"
	"net/http"
	"unicode/utf8"

	"osprey/core/assist"
	"osprey/core/language"
)

// A draft is an operation that is being written. Places are counted in Unicode
// code points.
type draft struct {
	Query string `json:"query"`
	At    int    `json:"at"` // the cursor, or the place pointed at
}

// readDraft reads a draft, or answers why it cannot.
func (s *server) readDraft(w http.ResponseWriter, r *http.Request) (d draft, offset int, ok bool) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, s.MaxBody))
	if err == nil {
		err = json.Unmarshal(body, &d)
	}
	if err != nil {
		problem(w, http.StatusBadRequest, "the body is not a draft in JSON, or too large", `send {"query": "…", "at": 0}`)
		return d, 0, false
	}
	for range d.At {
		_, size := utf8.DecodeRuneInString(d.Query[offset:])
		offset += size
	}
	return d, offset, true
}

func answer(w http.ResponseWriter, v any) {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // the answers hold nothing that JSON cannot
	}
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}

// problems tells what is wrong with a draft.
func (s *server) problems(w http.ResponseWriter, r *http.Request) {
	d, _, ok := s.readDraft(w, r)
	if !ok {
		return
	}
	type place struct {
		Message string `json:"message"`
		Fix     string `json:"fix,omitempty"`
		Line    int    `json:"line"`
		Column  int    `json:"column"`
	}
	src := language.NewSource("", d.Query)
	list := []place{}
	for _, p := range assist.Problems(s.Project.Revision().Schema, src) {
		at := src.Position(p.Pos)
		list = append(list, place{p.Msg, p.Fix, at.Line, at.Column})
	}
	answer(w, map[string]any{"problems": list})
}

// completions tells what can be written at a place of a draft.
func (s *server) completions(w http.ResponseWriter, r *http.Request) {
	d, offset, ok := s.readDraft(w, r)
	if !ok {
		return
	}
	list, from := assist.Complete(s.Project.Revision().Schema, d.Query, offset)
	if list == nil {
		list = []assist.Completion{}
	}
	answer(w, map[string]any{"from": utf8.RuneCountInString(d.Query[:from]), "completions": list})
}

// meaning tells what a word of a draft means; null if nothing is known of it.
func (s *server) meaning(w http.ResponseWriter, r *http.Request) {
	d, offset, ok := s.readDraft(w, r)
	if !ok {
		return
	}
	m := assist.Hover(s.Project.Revision().Schema, d.Query, offset)
	if m == nil {
		answer(w, nil)
		return
	}
	defined := -1
	if m.Defined >= 0 {
		defined = utf8.RuneCountInString(d.Query[:m.Defined])
	}
	answer(w, map[string]any{
		"from": utf8.RuneCountInString(d.Query[:m.From]), "to": utf8.RuneCountInString(d.Query[:m.To]),
		"title": m.Title, "text": m.Text, "coordinate": m.Coordinate, "defined": defined,
	})
}
