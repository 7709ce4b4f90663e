package service

import "net/http"

// secured gives every answer the headers that keep browsers from taking it for
// something else; pages of the console have a policy of their own.
func secured(next http.Handler) http.Handler {
	// The values are shared by all answers, which set others and change none.
	values := map[string][]string{
		"X-Content-Type-Options":       {"nosniff"},
		"Content-Security-Policy":      {"default-src 'none'; frame-ancestors 'none'"},
		"Cross-Origin-Resource-Policy": {"same-origin"},
		"Referrer-Policy":              {"no-referrer"},
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		for name, value := range values {
			h[name] = value
		}
		next.ServeHTTP(w, r)
	})
}
