package service

import (
	"mime"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"osprey/project"
)

// The media types of answers (GraphQL over HTTP, Media Types).
const (
	mediaResponse = "application/graphql-response+json"
	mediaJSON     = "application/json"
)

// callsHeader asks for the store requests with "on".
const callsHeader = "Osprey-Calls"

// endpoint answers operations: GraphQL over HTTP, with both media types. A
// request that is not one of this protocol gets a 4xx. With the newer media
// type an operation that is refused gets 400; with application/json every
// well-formed request gets 200, which is what old clients expect.
func (s *Service) endpoint(w http.ResponseWriter, r *http.Request) {
	media, events := negotiate(r.Header.Values("Accept")), asksEvents(r.Header.Values("Accept"))
	if media == "" && events {
		media = mediaResponse // of what is refused
	}
	if media == "" {
		problem(w, http.StatusNotAcceptable, "no media type of the Accept header can be answered", "accept "+mediaResponse+" or "+mediaJSON)
		return
	}
	var q *project.Request
	var bad *refusal
	if r.Method == http.MethodGet {
		q, bad = decodeQuery(r)
	} else {
		q, bad = s.decodeBody(r)
	}
	if bad != nil {
		s.refuse(w, media, bad)
		return
	}
	revision, release := s.Project.Hold()
	release = sync.OnceFunc(release)
	defer release()
	q.Caller = callerOf(r)
	if bad = fill(r.Context(), q, revision); bad != nil {
		s.refuse(w, media, bad)
		return
	}
	if r.Method == http.MethodGet && revision.Changes(r.Context(), q) {
		w.Header().Set("Allow", "POST")
		s.refuse(w, media, &refusal{http.StatusMethodNotAllowed, "a mutation cannot be sent with GET", "send it with POST"})
		return
	}
	if looksAs(r) && revision.Changes(r.Context(), q) {
		s.refuse(w, media, &refusal{http.StatusForbidden, "who looks as others do changes nothing", "leave the header " + asHeader + " out"})
		return
	}
	if q.Once, bad = onceOf(r.Header.Values(onceHeader)); bad != nil {
		s.refuse(w, media, bad)
		return
	}
	if live := isLive(r); events && (live || revision.Streams(r.Context(), q)) {
		s.stream(w, r, q, revision, release, live)
		return
	}
	s.answer(w, r, media, revision, q)
}

// isLive reports whether a query is to be answered again.
func isLive(r *http.Request) bool {
	is := r.Header.Get(liveHeader)
	return strings.EqualFold(is, "on") || strings.EqualFold(is, "patch")
}

// onceHeader has the key under which a mutation is done once: the IETF's draft "The
// Idempotency-Key HTTP Header Field".
const onceHeader = "Idempotency-Key"

// onceOf reads the key: a string of RFC 8941, section 3.3.3, or the same without its quotes.
func onceOf(values []string) (string, *refusal) {
	if len(values) == 0 {
		return "", nil
	}
	key := strings.TrimSpace(values[0])
	if inner, ok := strings.CutPrefix(key, `"`); ok {
		key = strings.TrimSuffix(inner, `"`)
	}
	printable := func(c rune) bool { return c >= ' ' && c <= '~' && c != '"' && c != '\\' }
	if len(values) > 1 || key == "" || len(key) > 255 || strings.IndexFunc(key, func(c rune) bool { return !printable(c) }) >= 0 {
		return "", badRequest("send one key of up to 255 printable characters, such as a UUID", "the header "+onceHeader+" is no key")
	}
	return key, nil
}

// answer runs a request and writes the response. A long one is sent in parts,
// with its errors at the end; any other as a whole, with them in front.
func (s *Service) answer(w http.ResponseWriter, r *http.Request, media string, revision *project.Revision, q *project.Request) {
	header := w.Header()
	header.Add("Vary", "Accept")
	header.Set("Content-Type", media+"; charset=utf-8")
	began := time.Now()
	after := 0
	q.Admit = s.admission.of(r.Context(), q.Caller.ID, &after)
	answer := revision.AskInParts(r.Context(), q, func(part []byte) error {
		_, err := w.Write(part)
		return err
	})
	defer answer.Free()
	if s.Keeper != nil {
		defer func() { s.Keeper.Count(answer, clientOf(r), q.RequestID(), time.Since(began)) }()
	}
	if answer.Broken {
		panic(http.ErrAbortHandler)
	}
	body := answer.Rest(strings.EqualFold(r.Header.Get(callsHeader), "on"))
	if !answer.Sent {
		header.Set("Content-Length", strconv.Itoa(len(body)))
		switch {
		case answer.Refused && len(answer.Faults) > 0 && answer.Faults[0].Code == project.CodeReused: // section 2.7 of the draft
			w.WriteHeader(http.StatusUnprocessableEntity)
		case statusOf(answer) != 0:
			header.Set("Retry-After", strconv.Itoa(after))
			w.WriteHeader(statusOf(answer))
		case answer.Refused && media == mediaResponse:
			w.WriteHeader(http.StatusBadRequest)
		}
	}
	w.Write(body)
}

// clientHeader names the program that asks.
const clientHeader = "Osprey-Client"

// longestClient is how much of a client's name is kept.
const longestClient = 60

// clientOf returns the name of the program that asks: that of its key, what it calls itself, or else the first product
// of its User-Agent (RFC 9110, section 10.1.5); "" if it has none.
func clientOf(r *http.Request) string {
	if who := whoOf(r); who != nil && strings.HasPrefix(who.ID, "key:") {
		return who.Name
	}
	name := r.Header.Get(clientHeader)
	if name == "" {
		name, _, _ = strings.Cut(r.Header.Get("User-Agent"), " ")
	}
	if len(name) > longestClient {
		name = name[:longestClient]
	}
	for i := range len(name) {
		if c := name[i]; c < ' ' || c > '~' {
			return "(unreadable)"
		}
	}
	return name
}

// refuse answers in the form of a response with a request error.
func (s *Service) refuse(w http.ResponseWriter, media string, bad *refusal) {
	a := project.Answer{Refused: true, Faults: []project.Fault{{Message: bad.msg, Fix: bad.fix, Code: "REQUEST"}}}
	write(w, bad.status, media+"; charset=utf-8", a.AppendJSON(nil, false))
}

// negotiate chooses the media type of the answer, or "" if none will do. No
// Accept header means an old client. Each type is as good as the most specific range
// that it fits says (RFC 9110, section 12.5.1); of equals, that which is named first.
func negotiate(accept []string) string {
	if len(accept) == 0 {
		return mediaJSON
	}
	if len(accept) == 1 && (accept[0] == mediaJSON || accept[0] == mediaResponse) {
		return accept[0]
	}
	ranges := rangesOf(accept)
	best, bestQ, bestAt := "", 0.0, 0
	for _, media := range []string{mediaJSON, mediaResponse} {
		fit := mediaRange{}
		for _, r := range ranges {
			if (r.media == media || r.media == "application/*" || r.media == "*/*") && r.specific() > fit.specific() {
				fit = r
			}
		}
		if fit.q > bestQ || fit.q == bestQ && fit.q > 0 && fit.at < bestAt {
			best, bestQ, bestAt = media, fit.q, fit.at
		}
	}
	return best
}

// A mediaRange is one of those that an Accept header names.
type mediaRange struct {
	media string
	q     float64
	at    int // its place in the header
}

// specific returns how specific a range is: 0 of none.
func (r mediaRange) specific() int {
	switch {
	case r.media == "":
		return 0
	case r.media == "*/*":
		return 1
	case strings.HasSuffix(r.media, "/*"):
		return 2
	}
	return 3
}

// rangesOf reads Accept headers. What cannot be read, or wants another character set
// than UTF-8, is left out.
func rangesOf(accept []string) []mediaRange {
	var list []mediaRange
	for at, part := range strings.Split(strings.Join(accept, ","), ",") {
		media, params, err := mime.ParseMediaType(strings.TrimSpace(part))
		if err != nil {
			continue
		}
		q := 1.0
		if text, ok := params["q"]; ok {
			if q, err = strconv.ParseFloat(text, 64); err != nil || !(q >= 0 && q <= 1) {
				continue
			}
		}
		if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
			continue
		}
		list = append(list, mediaRange{media, q, at})
	}
	return list
}
