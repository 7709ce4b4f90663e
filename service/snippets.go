package service

import (
	"net/http"

	"osprey/core/snippet"
)

// snippets writes an operation as a call in the language that the parameter in names.
func (s *Service) snippets(w http.ResponseWriter, r *http.Request) {
	q, bad := s.decodeBody(r)
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return
	}
	scheme := "http://"
	if r.TLS != nil {
		scheme = "https://"
	}
	text, err := snippet.Write(r.URL.Query().Get("in"), snippet.Call{URL: scheme + r.Host + "/graphql", Query: q.Query, Name: q.OperationName, Variables: q.Variables})
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error(), "send ?in=curl")
		return
	}
	answer(w, map[string]any{"text": text})
}
