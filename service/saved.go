package service

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"osprey/records"
)

// This file keeps operations that people save in the console.

// saved lists the operations that people saved.
func (s *Service) saved(w http.ResponseWriter, r *http.Request) {
	list, err := s.Keeper.Records.Saved(r.Context())
	if err != nil {
		troubled(w, err)
		return
	}
	answer(w, map[string]any{"saved": list})
}

// inPath returns a part of the path, which may have any letters.
func inPath(r *http.Request, parameter string) string {
	name := chi.URLParam(r, parameter)
	if r.URL.RawPath != "" { // what the router has seen
		if plain, err := url.PathUnescape(name); err == nil {
			return plain
		}
	}
	return name
}

// save keeps an operation.
func (s *Service) save(w http.ResponseWriter, r *http.Request) {
	in := records.Saved{}
	bad := s.readJSON(r, func(body []byte) *refusal {
		if err := json.Unmarshal(body, &in); err != nil {
			return badRequest(`send {"text": "{ … }", "by": "…", "version": 0}`, "the body is not an operation in JSON")
		}
		return nil
	})
	in.Name, in.By = inPath(r, "name"), byOf(r, in.By)
	if bad == nil && (len(in.Name) > longestBy || len(in.By) > longestBy || strings.TrimSpace(in.Text) == "" || strings.ContainsRune(in.Name+in.By+in.Text, 0)) {
		bad = badRequest(`send {"text": "{ … }", "by": "…", "version": 0}`, "the operation has no text, or a name that is too long")
	}
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return
	}
	err := s.Keeper.Records.Save(r.Context(), &in)
	switch {
	case errors.Is(err, records.ErrChanged):
		problem(w, http.StatusConflict, "the operation "+clipped(in.Name)+" is there already, or somebody has changed it in the meantime", "read it again, and save it with its version")
	case errors.Is(err, records.ErrFull):
		problem(w, http.StatusConflict, err.Error(), "")
	case err != nil:
		troubled(w, err)
	default:
		answer(w, in)
	}
}

// unsave removes an operation.
func (s *Service) unsave(w http.ResponseWriter, r *http.Request) {
	was, err := s.Keeper.Records.Unsave(r.Context(), inPath(r, "name"))
	switch {
	case err != nil:
		troubled(w, err)
	case !was:
		problem(w, http.StatusNotFound, "no operation "+clipped(inPath(r, "name"))+" is saved", "ask for /api/v1/saved, which lists them")
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}
