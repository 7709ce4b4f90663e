package service

import (
	"crypto/rand"
	"net/http"
	"regexp"
)

// soundID is what a request's id may look like to be taken over.
var soundID = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

// requestID gives every answer the id of its request: the caller's, or a new
// one. Stores that forward X-Request-Id get it too.
func (s *Service) requestID(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := r.Header.Get("X-Request-Id")
		if !soundID.MatchString(id) {
			id = rand.Text()
			r.Header.Set("X-Request-Id", id)
		}
		w.Header().Set("X-Request-Id", id)
		next.ServeHTTP(w, r)
	})
}
