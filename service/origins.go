package service

import (
	"net/http"

	"github.com/go-chi/cors"
)

// This file lets pages of other origins ask operations, if osprey.yaml names them (CORS, the Fetch standard, section
// 3.2): nothing else, and without what a browser knows of its user by itself.

// shared answers for other origins.
func (s *Service) shared(next http.Handler) http.Handler {
	origins := s.Project.Own.Origins
	if len(origins) == 0 {
		return next
	}
	open := cors.Handler(cors.Options{
		AllowedOrigins: origins,
		AllowedMethods: []string{http.MethodGet, http.MethodPost},
		AllowedHeaders: []string{"Authorization", "Content-Type", callsHeader, clientHeader, onceHeader, liveHeader, lastHeader, "X-Request-Id"},
		ExposedHeaders: []string{"Retry-After", "X-Request-Id"},
		MaxAge:         600,
	})(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/graphql" || r.URL.Path == "/schema.graphql" {
			open.ServeHTTP(w, r)
			return
		}
		next.ServeHTTP(w, r)
	})
}
