package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"osprey/project"
	"osprey/publishing"
)

// This file tells of new revisions and of trouble while it happens: server-sent events (the HTML
// standard, section 9.2).

const (
	mostStreams = 500
	heartbeat   = 15 * time.Second
)

// A now is what is served, and what is wrong.
type now struct {
	// Serial is one more with each revision that is served here.
	Serial   int64             `json:"serial"`
	Revision *project.Label    `json:"revision"` // null if it is none that is kept, or is not told to this caller
	Files    *filesState       `json:"files,omitempty"`
	Records  *publishing.State `json:"records,omitempty"` // only where something is wrong with them
}

// now tells a caller what is served, and what is wrong.
func (s *Service) now(r *http.Request) *now {
	revision := s.Project.Revision()
	n := &now{Serial: revision.Serial(), Files: s.files(r)}
	if !s.administrates(r) {
		return n
	}
	n.Revision = revision.Label()
	if s.Keeper != nil {
		if state := s.Keeper.State(); state.Problem != "" || state.Revision != "" {
			state.Written, state.Waiting = 0, 0 // they change all the time
			n.Records = &state
		}
	}
	return n
}

// stillKnown is how often it is looked whether the caller of a stream is still known: a key may be revoked.
const stillKnown = time.Second

// unknownNow says why the caller of a stream is not known any more; "" if it is, or if it cannot be found out now.
func (s *Service) unknownNow(r *http.Request) string {
	if s.access == nil {
		return ""
	}
	_, no := s.access.Identify(r.Context(), r)
	if no == nil || no.Status != http.StatusUnauthorized {
		return ""
	}
	return no.Msg
}

// events tells what is served, and what is wrong, at once and whenever that changes.
func (s *Service) events(w http.ResponseWriter, r *http.Request) {
	if s.streams.Add(1) > mostStreams {
		s.streams.Add(-1)
		w.Header().Set("Retry-After", "30")
		problem(w, http.StatusServiceUnavailable, "too many listen to events already", "")
		return
	}
	defer s.streams.Add(-1)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	timer := time.NewTicker(heartbeat)
	defer timer.Stop()
	again := time.NewTicker(stillKnown)
	defer again.Stop()
	last := ""
	for {
		news := s.Project.News()
		text, err := json.Marshal(s.now(r))
		if err != nil {
			panic(err) // it holds nothing that JSON cannot
		}
		if string(text) != last {
			last = string(text)
			_, err = fmt.Fprintf(w, "event: now\ndata: %s\n\n", text)
		}
		if err == nil {
			err = out.Flush()
		}
		if err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-s.ends:
			return
		case <-news:
		case <-again.C:
			if why := s.unknownNow(r); why != "" {
				text, _ := json.Marshal(map[string]string{"detail": why})
				fmt.Fprintf(w, "event: end\ndata: %s\n\n", text)
				out.Flush()
				return
			}
		case <-timer.C:
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil {
				return
			}
		}
	}
}
