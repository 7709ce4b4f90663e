package service

import (
	"encoding/json"
	"net/http"

	"osprey/project"
	"osprey/publishing"
)

// status tells operators what the service holds and how its sources are: it asks
// no store.
func (s *Service) status(w http.ResponseWriter, r *http.Request) {
	state := struct {
		Stopping bool                           `json:"stopping"`
		Requests int64                          `json:"requests"` // under way, this one too
		Plans    project.PlansState             `json:"plans"`
		Sources  map[string]project.SourceState `json:"sources"`
		Files    *filesState                    `json:"files,omitempty"`
		Records  *publishing.State              `json:"records,omitempty"`
		Revision *project.Label                 `json:"revision,omitempty"` // for those who run the service
	}{s.stopping.Load(), s.underWay.Load(), s.Project.Revision().Plans(), s.Project.States(), s.files(r), nil, nil}
	if s.administrates(r) {
		state.Revision = s.Project.Revision().Label()
		if s.Keeper != nil {
			records := s.Keeper.State()
			state.Records = &records
		}
	}
	text, err := json.Marshal(state)
	if err != nil {
		panic(err) // the states hold nothing that JSON cannot
	}
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}
