package service

import (
	"context"
	"net/http"
	"strings"

	"osprey/core/store"
)

// This file has those who run the service look at it as others would: by the header Osprey-As, with roles.

// asHeader names roles, with commas between them, as whose holder a request is to be answered.
const asHeader = "Osprey-As"

type asKey struct{}

// assuming takes the roles of a request that is to be answered as others would see it. What the caller may do with the service
// itself stays theirs.
func (s *Service) assuming(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text := r.Header.Get(asHeader)
		if text == "" {
			next.ServeHTTP(w, r)
			return
		}
		if r.Header.Get("Upgrade") != "" {
			problem(w, http.StatusForbidden, "a WebSocket answers who asks", "ask over HTTP, or leave the header "+asHeader+" out")
			return
		}
		if !s.administrates(r) {
			problem(w, http.StatusForbidden, "to look as others do is for those who run the service", "leave the header "+asHeader+" out")
			return
		}
		as := store.Identity{Roles: []string{}}
		if who := whoOf(r); who != nil {
			as.ID, as.Name, as.Claims = who.ID, who.Name, who.Claims
		}
		for _, role := range strings.Split(text, ",") {
			if role = strings.TrimSpace(role); role != "" && role != "-" { // - is somebody without a role
				as.Roles = append(as.Roles, role)
			}
		}
		if r.URL.Path == "/graphql" {
			s.Log.InfoContext(r.Context(), "an operation is asked as others would", "roles", clipped(text), "caller", clipped(as.ID), "from", r.RemoteAddr, "request", r.Header.Get("X-Request-Id"))
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), asKey{}, &as)))
	})
}

// looksAs reports whether a request is answered as others would see it.
func looksAs(r *http.Request) bool { return r.Context().Value(asKey{}) != nil }

// viewerOf returns as whom a request is answered: who asks, or whom it stands for.
func viewerOf(r *http.Request) *store.Identity {
	if as, ok := r.Context().Value(asKey{}).(*store.Identity); ok {
		return as
	}
	return whoOf(r)
}

// roles tells which roles there are, and what of the schema each does not see.
func (s *Service) roles(w http.ResponseWriter, r *http.Request) {
	revision, release := s.Project.Hold()
	defer release()
	answer(w, map[string]any{"roles": revision.RoleViews()})
}
