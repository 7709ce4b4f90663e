package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"osprey/core/store"
)

// live answers as long as the process does.
func (s *Service) live(w http.ResponseWriter, r *http.Request) {
	write(w, http.StatusOK, "application/json; charset=utf-8", []byte(`{"live":true}`))
}

// A filesState tells that the project's files were changed, and are not served, since something is
// wrong with them.
type filesState struct {
	Problem string `json:"problem"`
	Fix     string `json:"fix,omitempty"`
	Place   string `json:"place,omitempty"` // file:line:column
	More    int    `json:"more,omitempty"`  // how many further errors there are
}

// files tells what is wrong with the files as they were read last: to callers who may see
// statements, what it is; to others, that it is so.
func (s *Service) files(r *http.Request) *filesState {
	trouble := s.Project.Trouble().Errors()
	if len(trouble) == 0 {
		return nil
	}
	if !s.tellsStatements(r) {
		return &filesState{Problem: "the project's files have errors, and what was served before is served still"}
	}
	first := trouble[0]
	state := &filesState{Problem: first.Msg, Fix: first.Fix, More: len(trouble) - 1}
	if at := first.At; at.Name != "" {
		if within, err := filepath.Rel(s.Project.Dir, at.Name); err == nil {
			at.Name = filepath.ToSlash(within)
		}
		state.Place = at.String()
	}
	return state
}

// unready is when it was written last into the log that a source is not ready: a service is asked for that every
// few seconds, by anybody.
type unready struct {
	mu   sync.Mutex
	told map[string]time.Time
}

// tellsAgain is how often it is written into the log that a source is not ready.
const tellsAgain = time.Minute

// tell notes whether a source is ready, and returns whether to write into the log that it is not.
func (u *unready) tell(source string, ready bool) bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	if ready {
		delete(u.told, source)
		return false
	}
	if time.Since(u.told[source]) < tellsAgain {
		return false
	}
	if u.told == nil {
		u.told = map[string]time.Time{}
	}
	u.told[source] = time.Now()
	return true
}

// ready tells whether every source's store answers: 200 if so, otherwise 503
// with the sources that do not. Addresses stay in the log.
func (s *Service) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 3*time.Second)
	defer cancel()
	type state struct {
		Ready   bool   `json:"ready"`
		Problem string `json:"problem,omitempty"`
	}
	answer := struct {
		Ready   bool             `json:"ready"`
		Sources map[string]state `json:"sources"`
		Files   *filesState      `json:"files,omitempty"` // what is wrong with them
	}{true, map[string]state{}, s.files(r)}
	if s.stopping.Load() {
		write(w, http.StatusServiceUnavailable, "application/json; charset=utf-8", []byte(`{"ready":false,"stopping":true}`))
		return
	}
	for name, err := range s.Project.Health(ctx) {
		tell := s.unready.tell(name, err == nil)
		if err == nil {
			answer.Sources[name] = state{Ready: true}
			continue
		}
		answer.Ready = false
		msg := "does not answer"
		var known *store.Error
		if errors.As(err, &known) {
			msg = known.Msg
		}
		answer.Sources[name] = state{Problem: msg}
		if tell {
			s.Log.WarnContext(r.Context(), "a store is not ready", "source", name, "error", err)
		}
	}
	status := http.StatusOK
	if !answer.Ready {
		status = http.StatusServiceUnavailable
	}
	text, _ := json.Marshal(answer)
	write(w, status, "application/json; charset=utf-8", text)
}
