package service

import (
	"errors"
	"net/http"

	"github.com/go-chi/chi/v5"

	"osprey/records"
)

// This file takes the calls of those who run the service: openapi.yaml describes them.

// administration adds the calls.
func (s *Service) administration(r chi.Router) {
	r.Get("/api/v1/openapi.json", s.description)
	r.Get("/api/v1/events", s.events)
	r.Group(func(r chi.Router) {
		r.Use(s.audited, s.administers)
		r.Post("/api/v1/refresh", s.refresh)
		r.Put("/api/v1/operations/{name}", s.saveInProject)
		r.Delete("/api/v1/operations/{name}", s.removeInProject)
		r.Get("/api/v1/sources", s.sources)
		r.Get("/api/v1/sources/{source}/rows", s.rows)
		r.Get("/api/v1/findings", s.found)
		r.Get("/api/v1/roles", s.roles)
		r.Group(func(r chi.Router) {
			r.Use(s.kept)
			r.Get("/api/v1/instances", s.instances)
			r.Get("/api/v1/revisions", s.revisions)
			r.Post("/api/v1/revisions", s.publish)
			r.Get("/api/v1/revisions/{number}", s.revision)
			r.Post("/api/v1/revisions/{number}/restore", s.restore)
			r.Get("/api/v1/traffic", s.traffic)
			r.Get("/api/v1/traffic/uses", s.uses)
			r.Get("/api/v1/traffic/{operation}", s.trafficOf)
			r.Get("/api/v1/keys", s.listKeys)
			r.Post("/api/v1/keys", s.addKey)
			r.Delete("/api/v1/keys/{id}", s.revokeKey)
			r.Get("/api/v1/saved", s.saved)
			r.Put("/api/v1/saved/{name}", s.save)
			r.Delete("/api/v1/saved/{name}", s.unsave)
		})
	})
}

// administers lets those through who may do what people do who run the service.
func (s *Service) administers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !s.administrates(r) {
			problem(w, http.StatusForbidden, "this is for those who run the service", "ask from the machine that it runs on, or set administration in osprey.yaml, or roles with access")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// kept answers for a service that keeps no records.
func (s *Service) kept(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Keeper == nil {
			problem(w, http.StatusNotFound, "this service keeps no records", "name a PostgreSQL database with records in osprey.yaml, and start it again")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// troubled answers with an error of the records.
func troubled(w http.ResponseWriter, err error) {
	switch {
	case errors.Is(err, records.ErrNone):
		problem(w, http.StatusNotFound, err.Error(), "osprey revisions lists them")
	case errors.Is(err, records.ErrAway):
		w.Header().Set("Retry-After", "5")
		problem(w, http.StatusServiceUnavailable, err.Error(), "look at the database that records names in osprey.yaml")
	default:
		problem(w, http.StatusInternalServerError, err.Error(), "look at the database that records names in osprey.yaml")
	}
}

// refresh has the stores asked what they hold, and the files read again.
func (s *Service) refresh(w http.ResponseWriter, r *http.Request) {
	findings, err := s.Project.Refresh(r.Context())
	if err != nil && findings == nil {
		findings = s.Project.Trouble()
	}
	if err != nil {
		problemWith(w, http.StatusUnprocessableEntity, details{Detail: "the project has errors, and what was served before is served still", Findings: findings.JSON(s.Project.Dir)})
		return
	}
	answer(w, map[string]any{"findings": findings.JSON(s.Project.Dir)})
}
