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
		p := &patientWriter{ResponseWriter: w, patience: s.Patience}
		next.ServeHTTP(p, r)
		p.wait() // for what is still to be sent
	})
}

// pieceSize is how much the reader must take within the time.
const pieceSize = 64 << 10

// A patientWriter moves the deadline of its connection on, and knows whether an
// answer has begun.
type patientWriter struct {
	http.ResponseWriter
	patience time.Duration
	moved    time.Time // when the deadline was moved on; zero if it was not yet
	began    bool
}

// wait moves the deadline on; moving it costs as much as a small write, so what was
// done within the last part of the time will do.
func (w *patientWriter) wait() {
	now := time.Now()
	if now.Sub(w.moved) < w.patience/16 {
		return
	}
	w.moved = now
	// Not every writer has a deadline: those of tests do not.
	_ = http.NewResponseController(w.ResponseWriter).SetWriteDeadline(now.Add(w.patience))
}

// Unwrap lets a controller find the writer below.
func (w *patientWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (w *patientWriter) WriteHeader(status int) {
	w.wait()
	w.began = true
	w.ResponseWriter.WriteHeader(status)
}

// Write writes piece by piece.
func (w *patientWriter) Write(p []byte) (int, error) {
	w.began = true
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
