package service

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"osprey/core/store"
	"osprey/project"
)

// This file shows those who run the service what its sources hold.

// sources tells what each source holds, and how it is asked. No store is asked.
func (s *Service) sources(w http.ResponseWriter, r *http.Request) {
	revision, release := s.Project.Hold()
	defer release()
	answer(w, map[string]any{"sources": revision.SourceViews()})
}

// found tells what "osprey check" tells of the project, with what no catalogue does: each store is asked.
func (s *Service) found(w http.ResponseWriter, r *http.Request) {
	revision, release := s.Project.Hold()
	defer release()
	more, _ := s.Project.Probe(r.Context())
	findings := append(slices.Clone(revision.Warnings), more...)
	answer(w, map[string]any{"findings": findings.JSON(s.Project.Dir), "told": append([]string{}, revision.Told()...)})
}

// rows shows records of a source as they are in its store.
func (s *Service) rows(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	b := &project.Browse{Set: q.Get("set"), Limit: 50}
	b.Sort, b.Desc = strings.CutPrefix(q.Get("sort"), "-")
	for name, into := range map[string]*int{"limit": &b.Limit, "offset": &b.Offset} {
		if text := q.Get(name); text != "" {
			n, err := strconv.Atoi(text)
			if least := map[string]int{"limit": 1}[name]; err != nil || n < least || name == "limit" && n > project.MostBrowsed {
				problem(w, http.StatusBadRequest, "the parameter "+name+" is "+clipped(text), "give a number, of limit at most "+strconv.Itoa(project.MostBrowsed))
				return
			}
			*into = n
		}
	}
	for _, text := range q["where"] { // field is value
		parts := strings.SplitN(text, " ", 3)
		if len(parts) < 2 || len(parts) < 3 && parts[1] != "missing" {
			problem(w, http.StatusBadRequest, "the parameter where is "+clipped(text), `write "field is value", or contains, above, below, …`)
			return
		}
		b.Where = append(b.Where, project.Condition{Field: parts[0], Is: parts[1], Value: strings.Join(parts[2:], " ")})
	}
	source := inPath(r, "source")
	revision, release := s.Project.Hold()
	defer release()
	ctx, cancel := context.WithTimeout(r.Context(), time.Duration(revision.Config.Limits.Timeout))
	defer cancel()
	rows, err := revision.Browse(ctx, source, b)
	var asked *project.ErrBrowse
	var known *store.Error
	switch {
	case err == nil:
		answer(w, rows)
	case errors.As(err, &asked):
		problem(w, http.StatusBadRequest, asked.Msg, asked.Fix)
	case errors.As(err, &known):
		s.Log.WarnContext(r.Context(), "records cannot be shown", "source", source, "set", b.Set, "error", err)
		problem(w, http.StatusBadGateway, "the source "+source+" "+known.Msg, "the service's log has the details")
	default:
		s.Log.WarnContext(r.Context(), "records cannot be shown", "source", source, "set", b.Set, "error", err)
		problem(w, http.StatusBadGateway, "the source did not answer", "the service's log has the details")
	}
}
