package service

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"osprey/project"
	"osprey/records"
)

// This file keeps operations that people save in the console: in the project where its files are followed, or in the records.

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

// writable reports whether a caller may save operations in the project: one who runs a service that follows its files.
func (s *Service) writable(r *http.Request) bool {
	l := s.Project.Revision().Label()
	return s.Follows && s.administrates(r) && (l == nil || l.Origin == project.FromFiles)
}

// saveInProject writes an operation into a file of the project.
func (s *Service) saveInProject(w http.ResponseWriter, r *http.Request) {
	in := struct{ Text, SHA256 string }{}
	bad := s.readJSON(r, func(body []byte) *refusal {
		if err := json.Unmarshal(body, &in); err != nil || strings.TrimSpace(in.Text) == "" {
			return badRequest(`send {"text": "{ … }", "sha256": "…"}`, "the body is not an operation in JSON")
		}
		return nil
	})
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return
	}
	name := inPath(r, "name")
	if s.inProject(w, r, name, func() error { return s.Project.SaveOperation(r.Context(), name, in.Text, in.SHA256) }) {
		answer(w, map[string]any{"name": name, "text": in.Text, "sha256": project.HashOf(in.Text)})
	}
}

// removeInProject removes the file of an operation of the project.
func (s *Service) removeInProject(w http.ResponseWriter, r *http.Request) {
	name := inPath(r, "name")
	if s.inProject(w, r, name, func() error {
		return s.Project.RemoveOperation(r.Context(), name, r.URL.Query().Get("sha256"))
	}) {
		w.WriteHeader(http.StatusNoContent)
	}
}

// inProject changes the operations of the project, where that may be; false after telling why not.
func (s *Service) inProject(w http.ResponseWriter, r *http.Request, name string, change func() error) bool {
	if !s.writable(r) {
		problem(w, http.StatusNotFound, "operations are not saved in this project, since the service does not follow its files", "start it with --watch, or save it in the records")
		return false
	}
	var findings project.Findings
	switch err := change(); {
	case errors.As(err, &findings):
		problemWith(w, http.StatusUnprocessableEntity, details{Detail: "the operation has errors, and is not saved", Findings: findings.JSON(s.Project.Dir)})
	case errors.Is(err, project.ErrOperationName):
		problem(w, http.StatusBadRequest, err.Error(), "")
	case errors.Is(err, project.ErrNoOperation):
		problem(w, http.StatusNotFound, err.Error(), "/api/v1/operations lists them")
	case errors.Is(err, project.ErrOperationChanged):
		problem(w, http.StatusConflict, err.Error(), "read it again, and send the SHA-256 of its text")
	case errors.Is(err, project.ErrNotWritable):
		s.Log.WarnContext(r.Context(), "the operations of the project cannot be changed", "name", name, "error", err)
		problem(w, http.StatusForbidden, "the folder of the project cannot be written", "save it in the records, or in the folder itself")
	case err != nil:
		problem(w, http.StatusServiceUnavailable, "the service ends", "")
	default:
		return true
	}
	return false
}
