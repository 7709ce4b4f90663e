package service

import (
	"encoding/json"
	"net/http"

	"osprey/project"
)

// status tells operators what the service holds and how its sources are: it asks
// no store.
func (s *Service) status(w http.ResponseWriter, r *http.Request) {
	text, err := json.Marshal(struct {
		Stopping bool                           `json:"stopping"`
		Requests int64                          `json:"requests"` // under way, this one too
		Plans    project.PlansState             `json:"plans"`
		Sources  map[string]project.SourceState `json:"sources"`
		Files    *filesState                    `json:"files,omitempty"`
	}{s.stopping.Load(), s.underWay.Load(), s.Project.Revision().Plans(), s.Project.States(), s.files(r)})
	if err != nil {
		panic(err) // the states hold nothing that JSON cannot
	}
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}
