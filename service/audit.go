package service

import (
	"net/http"

	"github.com/go-chi/chi/v5/middleware"
)

// This file writes down who did, or tried to do, what people do who run the service: a line of the log for each
// call that changes something, and for each that was refused.

// audited writes a line into the log for a call of those who run the service.
func (s *Service) audited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(seen, r)
		status := seen.Status()
		if r.Method == http.MethodGet && (status < http.StatusBadRequest || r.Context().Err() != nil) {
			return // nothing is changed, or nobody waits for it any more
		}
		who, name := "", ""
		if w := whoOf(r); w != nil {
			who, name = w.ID, w.Name
		}
		s.Log.InfoContext(r.Context(), "administration", "method", r.Method, "path", clipped(r.URL.Path), "status", status, "caller", clipped(who), "name", clipped(name), "from", r.RemoteAddr, "request", r.Header.Get("X-Request-Id"))
	})
}
