package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"osprey/core/store"
)

// live answers as long as the process does.
func (s *Service) live(w http.ResponseWriter, r *http.Request) {
	write(w, http.StatusOK, "application/json; charset=utf-8", []byte(`{"live":true}`))
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
	}{true, map[string]state{}}
	if s.stopping.Load() {
		write(w, http.StatusServiceUnavailable, "application/json; charset=utf-8", []byte(`{"ready":false,"stopping":true}`))
		return
	}
	for name, err := range s.Project.Health(ctx) {
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
		s.Log.WarnContext(r.Context(), "a store is not ready", "source", name, "error", err)
	}
	status := http.StatusOK
	if !answer.Ready {
		status = http.StatusServiceUnavailable
	}
	text, _ := json.Marshal(answer)
	write(w, status, "application/json; charset=utf-8", text)
}
