package service

import (
	"bytes"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"sync"

	"osprey/core/store"
)

// bodies keeps the memory of request bodies for the next ones.
var bodies = sync.Pool{New: func() any { return new(bytes.Buffer) }}

const (
	// keptBody is the largest body whose memory is kept.
	keptBody = 64 << 10
	// readPast is how much of a body that is too large is read and thrown away, so
	// that its sender reads the answer and not a connection that was cut.
	readPast = 32 << 20
)

// readJSON reads a request's body, which must be declared as JSON: a web page of
// another site can send text, but JSON only if it is allowed to (CORS). use is
// lent the bytes.
func (s *Service) readJSON(r *http.Request, use func(body []byte) *refusal) *refusal {
	return readJSON(r, s.MaxBody, "raise limits.body in osprey.yaml, or send less", use)
}

// readJSON reads a body of at most so many bytes; less says what to do about a larger one.
func readJSON(r *http.Request, most int64, less string, use func(body []byte) *refusal) *refusal {
	if given := r.Header.Get("Content-Type"); given != mediaJSON { // most clients send just that
		media, params, err := mime.ParseMediaType(given)
		if err != nil || media != mediaJSON {
			return &refusal{http.StatusUnsupportedMediaType, fmt.Sprintf("the body's Content-Type is %q", clipped(given)), "send " + mediaJSON}
		}
		if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
			return &refusal{http.StatusUnsupportedMediaType, fmt.Sprintf("the body's charset is %q", clipped(charset)), "send UTF-8"}
		}
	}
	body := bodies.Get().(*bytes.Buffer)
	body.Reset()
	defer func() {
		if body.Cap() <= keptBody {
			bodies.Put(body)
		}
	}()
	_, err := body.ReadFrom(io.LimitReader(r.Body, most+1))
	switch {
	case err != nil:
		return badRequest("", "the body broke off")
	case int64(body.Len()) > most:
		io.CopyN(io.Discard, r.Body, readPast)
		return &refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %s, which is the limit", store.Bytes(most)), less}
	}
	return use(body.Bytes())
}
