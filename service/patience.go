package service

import (
	"net/http"
	"time"
)

// patient gives each piece of an answer a time within which the reader must take
// it. A reader may be slow, and an answer long; but one who stops reading would
// keep the answer's run, and all that it holds, for ever.
func (s *Service) patient(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := &patientWriter{w, http.NewResponseController(w), s.Patience}
		defer p.wait() // for what is still to be sent when the handler returns
		next.ServeHTTP(p, r)
	})
}

// pieceSize is how much the reader must take within the time.
const pieceSize = 64 << 10

type patientWriter struct {
	http.ResponseWriter
	control  *http.ResponseController
	patience time.Duration
}

// wait moves the deadline on. Not every writer has one: those of tests do not.
func (w *patientWriter) wait() {
	_ = w.control.SetWriteDeadline(time.Now().Add(w.patience))
}

// Unwrap lets a controller find the writer below.
func (w *patientWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (w *patientWriter) WriteHeader(status int) {
	w.wait()
	w.ResponseWriter.WriteHeader(status)
}

// Write writes piece by piece.
func (w *patientWriter) Write(p []byte) (int, error) {
	written := 0
	for {
		w.wait()
		n, err := w.ResponseWriter.Write(p[:min(len(p), pieceSize)])
		written += n
		if p = p[n:]; err != nil || len(p) == 0 {
			return written, err
		}
	}
}
