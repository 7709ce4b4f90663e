package service

import (
	"encoding/hex"
	"net/http"
	"time"

	"osprey/core/traffic"
	"osprey/records"
)

// This file tells what is asked.

// withinOf reads the parameter within: how far back from now.
func withinOf(w http.ResponseWriter, r *http.Request) (time.Duration, bool) {
	text := r.URL.Query().Get("within")
	if text == "" {
		return 24 * time.Hour, true
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		problem(w, http.StatusBadRequest, "the parameter within is "+clipped(text), "give a length of time such as 24h")
		return 0, false
	}
	return d, true
}

// A tally is an operation as traffic tells it.
type tally struct {
	*records.Operation
	// How long answers took, in milliseconds: half of them less than p50, and so on.
	P50 float64 `json:"p50"`
	P95 float64 `json:"p95"`
	P99 float64 `json:"p99"`
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// traffic tells what is asked.
func (s *Service) traffic(w http.ResponseWriter, r *http.Request) {
	within, ok := withinOf(w, r)
	if !ok {
		return
	}
	list, err := s.Keeper.Records.Traffic(r.Context(), within, r.URL.Query().Get("client"))
	if err != nil {
		troubled(w, err)
		return
	}
	hours, err := s.Keeper.Records.Hours(r.Context(), within, r.URL.Query().Get("client"))
	if err != nil {
		troubled(w, err)
		return
	}
	operations := []tally{}
	for _, o := range list {
		if r.URL.Query().Get("uses") != "true" {
			o.Uses = nil
		}
		operations = append(operations, tally{o, millis(o.Times.Quantile(0.5)), millis(o.Times.Quantile(0.95)), millis(o.Times.Quantile(0.99))})
	}
	answer(w, map[string]any{"within": within.String(), "operations": operations, "hours": hours, "state": s.Keeper.State()})
}

// trafficOf tells what is known of one operation.
func (s *Service) trafficOf(w http.ResponseWriter, r *http.Request) {
	within, ok := withinOf(w, r)
	if !ok {
		return
	}
	var id traffic.ID
	if text := inPath(r, "operation"); text != "-" { // which stands for those that are not told apart
		sum, err := hex.DecodeString(text)
		if err != nil || len(sum) != len(id) {
			problem(w, http.StatusNotFound, "there is no operation "+clipped(text), "/api/v1/traffic lists those that were asked, by their ids")
			return
		}
		copy(id[:], sum)
	}
	one, err := s.Keeper.Records.One(r.Context(), within, id)
	if err != nil {
		troubled(w, err)
		return
	}
	answer(w, one)
}

// uses tells what of the schema is asked, and what is not.
func (s *Service) uses(w http.ResponseWriter, r *http.Request) {
	within, ok := withinOf(w, r)
	if !ok {
		return
	}
	used, err := s.Keeper.Records.Uses(r.Context(), within)
	if err != nil {
		troubled(w, err)
		return
	}
	since, err := s.Keeper.Records.Since(r.Context())
	if err != nil {
		troubled(w, err)
		return
	}
	coordinates := make([]string, len(used))
	for i, u := range used {
		coordinates[i] = u.Coordinate
	}
	out := map[string]any{"within": within.String(), "uses": used, "unused": s.Project.Revision().Unused(coordinates)}
	if !since.IsZero() {
		out["since"] = since
	}
	answer(w, out)
}
